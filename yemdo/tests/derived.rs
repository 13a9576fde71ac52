//! Derived quantities: what they are over any frames at any times, and what is wrong with those that cannot be.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

#[path = "common/shown.rs"]
mod shown;

use proptest::prelude::*;
use shown::shown;
use yemdo::{Columns, Decoder, FrameValues, Part, Status};

/// A level that may be saturated (0xFF) or not ready (0), and all that can be derived from it: a sum by the trapezoidal rule, a rate, a wrapping
/// counter, a mean that follows, and a quantity of these.
const WELL: &str = r##"
part = "well-3"
frame.LEVEL = { read = 2, code = { depth = "b1", count = "b0" }, status = [
  { when = "depth == 0xFF", is = "saturated" }, { when = "depth == 0", is = "not ready" } ] }
reading.level = { unit = "m", formula = "depth * 0.25" }
reading.pulses = { unit = "1", formula = "count" }
parameter.area = { default = 2.5 }
table.SHAPE = { points = [[0, 0], [100, 50]], outside = "extend" }
[derived.volume]
unit    = "m3"
formula = "SHAPE(level) * area"
[derived.sum]
unit    = "m·s"
formula = "before.sum + (level + before.level) / 2 * elapsed"
start   = 0
gap     = "60 s"
[derived.rate]
unit    = "m/s"
formula = "(level - before.level) / elapsed"
gap     = "60 s"
[derived.total]
unit    = "1"
formula = "before.total + ((pulses - before.pulses) & 0xFF)"
start   = 1000
gap     = "60 s"
[derived.mean]
unit    = "m"
formula = "before.mean + (level - before.mean) * 0.5"
start   = "level"
gap     = "60 s"
[derived.swing]
unit    = "m/s"
formula = "fmax(fabs(rate), 0.5 * before.swing)"
start   = 0.125
gap     = "60 s"
"##;

/// The same, worked out by hand: the names in the order of the sheet.
#[derive(Default)]
struct Plain {
    last: Option<(f64, f64, u8)>,
    sum: f64,
    total: f64,
    mean: Option<f64>,
    /// The frame that the swing goes on from, and the swing.
    swing: Option<(f64, f64)>,
}

type Row = [Option<f64>; 6];

impl Plain {
    fn step(&mut self, time: f64, count: u8, depth: u8) -> (Row, Status) {
        let level = f64::from(depth) * 0.25;
        match depth {
            0 => return ([None; 6], Status::NotReady),
            255 => {
                let begun = self.mean.is_some();
                let kept = |value: f64| begun.then_some(value);
                let swing = self.swing.map(|(_, swing)| swing);
                return (
                    [Some(level / 2.0 * 2.5), kept(self.sum), None, kept(self.total), self.mean, swing.filter(|_| false)],
                    Status::Saturated,
                );
            }
            _ => {}
        }
        let near = self.last.filter(|(before, ..)| time > *before && time - *before <= 60.0);
        let rate = near.map(|(before, was, _)| (level - was) / (time - before));
        if let Some((before, was, pulses)) = near {
            self.sum += (level + was) / 2.0 * (time - before);
            self.total += f64::from(count.wrapping_sub(pulses));
        }
        self.total = if self.last.is_none() { 1000.0 } else { self.total };
        let mean = match (near, self.mean) {
            (Some(_), Some(mean)) => mean + (level - mean) * 0.5,
            (None, Some(mean)) => mean,
            (_, None) => level,
        };
        self.mean = Some(mean);
        let swing = rate.map(|rate| {
            let swing = match self.swing {
                Some((before, swing)) if time > before && time - before <= 60.0 => rate.abs().max(0.5 * swing),
                Some((_, swing)) => swing,
                None => 0.125,
            };
            self.swing = Some((time, swing));
            swing
        });
        self.last = Some((time, level, count));
        ([Some(level / 2.0 * 2.5), Some(self.sum), rate, Some(self.total), self.mean, swing], Status::Ok)
    }
}

fn close(one: Option<f64>, other: Option<f64>) -> bool {
    match (one, other) {
        (Some(one), Some(other)) => (one - other).abs() <= 1e-9 * one.abs().max(1.0),
        (one, other) => one.is_none() && other.is_none(),
    }
}

proptest! {
    /// Any frames at any times, clocks that go back and gaps among them; the three ways to decode give the same, and that is what is worked out
    /// by hand.
    #[test]
    fn any_frames_at_any_times(
        frames in prop::collection::vec((prop_oneof![4 => 1i32..20, 1 => 50i32..70, 1 => -100i32..0], any::<u8>(),
            prop_oneof![5 => 1u8..=254, 1 => Just(0u8), 1 => Just(255u8)]), 1..40),
    ) {
        let part = Part::parse("well.toml", WELL).unwrap();
        let id = part.frame("LEVEL").unwrap();
        let mut time = 1000.0;
        let times: Vec<f64> = frames.iter().map(|(step, ..)| { time += f64::from(*step); time }).collect();
        let bytes: Vec<u8> = frames.iter().flat_map(|(_, count, depth)| [*count, *depth]).collect();
        let (mut columns, mut many) = (Columns::new(), Decoder::new(&part));
        many.measured_at(&times);
        many.decode_many(id, &bytes, &mut columns).unwrap();
        let (mut one, mut quick, mut values, mut plain) = (Decoder::new(&part), Decoder::new(&part), FrameValues::new(), Plain::default());
        for (at, (frame, time)) in bytes.chunks_exact(2).zip(&times).enumerate() {
            one.measured_at(&[*time]);
            quick.measured_at(&[*time]);
            let decoded = one.decode(id, frame).unwrap();
            quick.decode_into(id, frame, &mut values).unwrap();
            let (wanted, worst) = plain.step(*time, frame[0], frame[1]);
            for (place, reading) in decoded.readings.iter().enumerate() {
                prop_assert_eq!(reading.value.map(f64::to_bits), values.value(place).map(f64::to_bits));
                prop_assert_eq!(reading.value.map(f64::to_bits), Some(columns.values(place)[at]).filter(|value| !value.is_nan()).map(f64::to_bits));
                prop_assert_eq!(reading.status, values.status(place));
                prop_assert_eq!(reading.status, columns.status(place, at));
                if let Some(wanted) = place.checked_sub(2).and_then(|place| wanted.get(place)) {
                    prop_assert!(close(reading.value, *wanted), "{} at {}: {:?}, not {:?}", &reading.name, time, reading.value, wanted);
                    prop_assert!(reading.value.is_none() || reading.status == worst, "{:?}", reading);
                    prop_assert_eq!(reading.means.as_deref(), columns.reason(place, at));
                    prop_assert!(reading.status == Status::Ok || reading.means.is_some(), "{:?}", reading);
                }
            }
        }
    }
}

#[test]
fn frames_of_one_instant_count_once_and_those_without_times_say_so() {
    let part = Part::parse("well.toml", WELL).unwrap();
    let id = part.frame("LEVEL").unwrap();
    let mut decoder = Decoder::new(&part);
    let decoded = decoder.decode(id, &[1, 4]).unwrap();
    assert_eq!(decoded.reading("sum").unwrap().to_string(), "no value: waiting: the frames have no times");
    assert_eq!(decoded.reading("volume").unwrap().to_string(), "1.25000 m3");
    let mut at = |seconds: f64, depth: u8| {
        decoder.measured_at(&[seconds]);
        decoder.decode(id, &[1, depth]).unwrap()
    };
    at(0.0, 4);
    // Two frames of a measurement: what the first said at that moment is replaced.
    at(10.0, 200);
    let twice = at(10.0, 12);
    assert_eq!(twice.reading("sum").unwrap().to_string(), "20.0000 m·s");
    assert_eq!(twice.reading("rate").unwrap().to_string(), "0.200000 m/s");
    // Another decoder of the part goes on from there; one that forgets begins anew.
    let mut next = Decoder::new(&part);
    decoder.measured_at(&[20.0]);
    next.measured_at(&[20.0]);
    next.go_on_from(&decoder);
    assert_eq!(next.decode(id, &[1, 12]).unwrap().reading("sum").unwrap().to_string(), "50.0000 m·s");
    next.clear_frames();
    assert_eq!(next.decode(id, &[1, 12]).unwrap().reading("sum").unwrap().value, Some(0.0));
    // A fault has its line; the parts for firmware have nothing derived.
    let text = WELL.replace("\"SHAPE(level) * area\"", "\"1 / (int)(level - 1.0)\"");
    let faulty = Part::parse("well.toml", &text).unwrap();
    let decoded = Decoder::new(&faulty).decode(id, &[1, 4]).unwrap();
    assert_eq!(decoded.reading("volume").unwrap().to_string(), "no value: formula fault: division by zero in line 11 of the sheet");
    assert!(part.in_single_precision().frames().iter().all(|frame| frame.derived().is_empty()));
}

/// A quantity of two frames comes once both have come.
#[test]
fn readings_of_several_frames() {
    let part = Part::parse(
        "air.toml",
        r##"
part = "air-2"
frame.T = { read = 1, code = { t = "b0" } }
frame.H = { read = 1, code = { h = "b0" } }
reading.warmth = { unit = "°C", formula = "t" }
reading.wetness = { unit = "%", formula = "h" }
derived.product = { unit = "1", formula = "warmth * wetness" }
derived.half = { unit = "1", formula = "product / 2.0" }
"##,
    )
    .unwrap();
    let (t, h) = (part.frame("T").unwrap(), part.frame("H").unwrap());
    let mut decoder = Decoder::new(&part);
    let first = decoder.decode(t, &[3]).unwrap();
    assert_eq!(first.reading("half").unwrap().to_string(), "no value: waiting: product is waiting");
    assert_eq!(first.reading("product").unwrap().to_string(), "no value: waiting: needs wetness first");
    assert_eq!(decoder.decode(h, &[5]).unwrap().reading("half").unwrap().value, Some(7.5));
    assert_eq!(decoder.decode(t, &[4]).unwrap().reading("product").unwrap().value, Some(20.0));
    let steps = decoder.derived_steps(t);
    assert_eq!((steps[0].lines[0].numbers.as_str(), steps[1].lines[0].numbers.as_str()), ("4 * 5", "20.0 / 2.0"));
}

#[test]
fn what_cannot_be_derived() {
    for (derived, complaint, at, help) in [
        (r#"x = { unit = "m", formula = "depth * 2" }"#, "it is a code: derived quantities use readings", "depth", ""),
        (r#"x = { unit = "m", formula = "levle * 2" }"#, "`levle` is not known here", "levle", "did you mean `level`?"),
        (r#"x = { unit = "m", formula = "area * 2" }"#, "this formula takes no reading", "area * 2", "level"),
        (r#"x = { unit = "m", formula = "level - before.level" }"#, "missing `gap`", "level - before.level", "gap = "),
        (r#"x = { unit = "m", gap = "9 s", formula = "before.x + level" }"#, "missing `start`", "before.x + level", "start = 0"),
        (r#"x = { unit = "m", gap = "9 s", start = 1, formula = "level * elapsed" }"#, "`start` needs `before`", "1", ""),
        (r#"x = { unit = "m", gap = "9 s", formula = "level" }"#, "`gap` is for what takes", "9 s", ""),
        (r#"x = { unit = "m", gap = "9 parsecs", formula = "level * elapsed" }"#, "`9 parsecs` is not a valid time", "9 parsecs", ""),
        (r#"x = { unit = "m", gap = "9 s", start = nan, formula = "before.x + level" }"#, "this is no finite number", "nan", ""),
        (r#"x = { unit = "m", formula = "x + level" }"#, "its own value at the frame before is before.x", "x", ""),
        (r#"x = { unit = "m", formula = "y + level" }, y = { unit = "m", formula = "level" }"#, "it comes further below", "y", ""),
        (r#"x = { unit = "m", gap = "9 s", formula = "level + before.depht" }"#, "there is no reading `depht`", "before.depht", ""),
        (r#"x = { unit = "m", gap = "9 s", formula = "level + before" }"#, "write before.NAME", "before", ""),
        (r#"x = { unit = "m", gap = "9 s", start = "elapsed", formula = "before.x + level" }"#, "no frame before", "elapsed", ""),
        (r#"level = { unit = "m", formula = "pulses" }"#, "`level` is the name of a reading too", "level", ""),
        (r#"reading.slope = { unit = "m", formula = "depth - before.depth" }"#, "it is for formulas of `derived`", "before.depth", ""),
        (r#"reading.slope = { unit = "m", formula = "depth / elapsed" }"#, "it is for formulas of `derived`", "elapsed", ""),
        (r#"elapsed = { unit = "m", formula = "level" }"#, "a meaning of its own", "elapsed", ""),
    ] {
        let head = WELL.split("[derived").next().unwrap();
        let told = shown(&format!(
            "{head}{}\n",
            derived.strip_prefix("reading").map_or(format!("derived = {{ {derived} }}"), |rest| format!("reading{rest}"))
        ));
        assert!(told.contains(complaint) && told.contains(help), "{derived}\n{told}");
        let (above, under) = told.lines().zip(told.lines().skip(1)).find(|(_, under)| under.contains('^')).unwrap();
        let (from, to) = (under.find('^').unwrap(), under.rfind('^').unwrap() + 1);
        assert_eq!(above[from..to].trim_matches('"'), at, "{told}");
    }
}
