//! Finder of mistakes: every kind of mistake in a small sheet, invalid input, and properties of the findings.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::mend::{CheckFinding, Expectation, Findings, Mistake, Observation, Suspect, find_checks, from_bytes, mend, mended};
use yemdo::part::Id;
use yemdo::units::Unit;
use yemdo::{Decoder, FrameId, Part};

/// A sheet with everything right; each mistake replaces a piece of it.
const RIGHT: &str = r#"
part = "scupper-9"
i2c.address = 0x33

[register.MODE]
at    = 4
reset = 0x10
field = { REACH = { bits = "[5:4]", values = [
  { code = 0, name = "near", mm = 0.125 },
  { code = 1, name = "mid", mm = 0.75 },
  { code = 2, name = "far", mm = 3.5 },
] } }

[frame.TRIM]
read = 2
keep = true
code = { zero = "signed b0 b1" }

[frame.WELL]
read = 16

[frame.WELL.code]
level  = "b0 b1"
warmth = "signed b2 b3"
tilt   = "b4 b5[7:4]"
flags  = "b5[3:0]"
flow   = "b6 b7"
day    = "bcd b8"
gap    = "b9 b10"
drift  = "float b12..b15"

[reading.level]
unit    = "m"
formula = "level * 0.002"

[reading.warmth]
unit    = "°C"
range   = [-40, 90]
formula = "warmth * 0.02 + 7"

[reading.tilt]
unit    = "°"
formula = "(tilt - zero) * 0.05"

[reading.flow]
unit    = "l/min"
formula = "flow / 64.0"

[reading.day]
unit    = "1"
formula = "day"

[reading.gap]
unit    = "mm"
formula = "gap * REACH.mm"

[reading.drift]
unit    = "mm"
formula = "drift"
"#;

/// Registers, fixed point, and tables of numbers.
const TABLES: &str = r#"
part = "scupper-10"
i2c.address = 0x33

[register.REACH]
at = 4
reset = 1
field.REACH = { bits = "[1:0]", values = [{ code = 0, mm = 0.125 }, { code = 1, mm = 0.74 }] }

[register.STRAIN]
at     = 0x20  # two bytes
width  = 16
order  = "low first"
access = "read-only"
field  = { LOAD = { bits = "[15:4]" }, SPARE = { bits = "[3:0]" } }

[register]
BEND = { at = 0x22, width = 16, access = "read-only", field.BENT = { bits = "signed [15:0]" } }

[frame.HULL]
registers = "STRAIN BEND"
code = { sag = "signed BEND" }

[frame.KEEL]
command = [0x51]
read    = 4
code    = { heel = "q7.8 b0 b1", wear = "b2 b3" }

[table]
WEAR = { outside = "hold", points = [[0, 0.5], [900, 4.8], [2500, 23.9], [9000, 61.7]] }

[reading]
strain = { unit = "mm", formula = "LOAD * REACH.mm" }
bend   = { unit = "mm", formula = "BENT * 0.25" }
heel   = { unit = "°", formula = "heel" }
wear   = { unit = "%", formula = "WEAR(wear)" }
sag    = { unit = "mm", formula = "sag * 0.5" }
"#;

/// Frames of [`TABLES`].
const HULL: [[u8; 4]; 3] = [[0x81, 0x04, 0x02, 0x9C], [0x13, 0x25, 0xF4, 0x31], [0x4F, 0x12, 0x0B, 0x77]];
const KEEL: [[u8; 4]; 3] = [[0x14, 0x81, 0x04, 0x4C], [0xF1, 0x30, 0x12, 0x10], [0x07, 0xC2, 0x02, 0xF3]];

/// Calibration frame and three frames of readings.
const TRIM: [u8; 2] = [0xFF, 0x38];
const WELL: [[u8; 16]; 3] = [
    [0x04, 0x81, 0xFF, 0x9C, 0x2B, 0xC3, 0x01, 0x3F, 0x24, 0x00, 0x9C, 0x00, 0x41, 0xC8, 0x00, 0x00],
    [0x05, 0x10, 0x03, 0xE8, 0x57, 0xB1, 0x02, 0x60, 0x17, 0x01, 0x40, 0x00, 0xC1, 0x20, 0x00, 0x00],
    [0x03, 0x02, 0x07, 0xD0, 0x10, 0x18, 0x00, 0x90, 0x09, 0x00, 0x61, 0x00, 0x43, 0x2A, 0x00, 0x00],
];

fn frames(part: &Part) -> Vec<(FrameId, Vec<u8>)> {
    let all = |name: &str, bytes: &[&[u8]]| {
        let frame = part.frame(name).into_iter();
        frame.flat_map(|frame| bytes.iter().map(move |bytes| (frame, bytes.to_vec()))).collect::<Vec<_>>()
    };
    let each = |frames: &'static [[u8; 4]]| frames.iter().map(<[u8; 4]>::as_slice).collect::<Vec<_>>();
    let well: Vec<&[u8]> = WELL.iter().map(<[u8; 16]>::as_slice).collect();
    [all("TRIM", &[&TRIM]), all("WELL", &well), all("HULL", &each(&HULL)), all("KEEL", &each(&KEEL))].concat()
}

/// Values of a reading, with active settings.
fn values(part: &Part, reading: &str, settings: &[&str]) -> Vec<f64> {
    let mut decoder = Decoder::new(part);
    let state = yemdo::configure::assume(part, decoder.state(), settings).unwrap();
    decoder.adopt(&state);
    let decoded = frames(part).into_iter().map(|(frame, bytes)| decoder.decode(frame, &bytes).unwrap()).collect::<Vec<_>>();
    decoded.iter().filter_map(|decoded| decoded.reading(reading).ok()?.value).collect()
}

fn found(right: &str, wrong: &str, reading: &str, settings: &[&str]) -> (Part, Findings) {
    found_in(RIGHT, right, wrong, reading, settings)
}

/// Findings for a sheet with one wrong piece; expected values are ± 10 %.
fn found_in(sheet: &str, right: &str, wrong: &str, reading: &str, settings: &[&str]) -> (Part, Findings) {
    assert_eq!(sheet.matches(right).count(), 1, "{right}");
    let part = Part::parse("wrong.toml", &sheet.replace(right, wrong)).unwrap_or_else(|error| panic!("{error}"));
    let right = Part::parse("right.toml", sheet).unwrap();
    let known = values(&right, reading, settings);
    let unit = right.readings()[right.reading(reading).unwrap()].unit();
    let known: Vec<String> = known.iter().map(|value| format!("{:.4} ± {:.4} {unit}", value * 1.03, value.abs() * 0.1)).collect();
    let expectations =
        vec![Expectation::parse(&part, &format!("{reading}={}", known.join("; "))).unwrap_or_else(|error| panic!("{error}"))];
    let findings = mend(&part, &Observation { frames: frames(&part), expectations, settings: Vec::new() });
    (part, findings)
}

#[test]
fn every_kind_of_mistake_is_found_and_its_line_is_right_again() {
    for (mistake, right, wrong, reading) in [
        (Mistake::ByteOrder, "\"b0 b1\"\nwarmth", "\"b1 b0\"\nwarmth", "level"),
        (Mistake::WordOrder, "float b12..b15", "float b14 b15 b12 b13", "drift"),
        (Mistake::Sign, "warmth = \"signed b2 b3\"", "warmth = \"b2 b3\"", "warmth"),
        (Mistake::Sign, "warmth = \"signed b2 b3\"", "warmth = \"sign-magnitude b2 b3\"", "warmth"),
        (Mistake::Bcd, "\"bcd b8\"", "\"b8\"", "day"),
        (Mistake::Width, "b4 b5[7:4]", "b4 b5", "tilt"),
        (Mistake::Justified, "b4 b5[7:4]", "b4[3:0] b5", "tilt"),
        (Mistake::Neighbour, "\"b9 b10\"", "\"b10 b11\"", "gap"),
        (
            Mistake::Exchanged,
            "\"b6 b7\"\nday    = \"bcd b8\"\ngap    = \"b9 b10\"",
            "\"b9 b10\"\nday    = \"bcd b8\"\ngap    = \"b6 b7\"",
            "flow",
        ),
        (Mistake::IntegerDivision, "flow / 64.0", "flow / 64", "flow"),
        (Mistake::Unit, "unit    = \"°C\"", "unit    = \"K\"", "warmth"),
        (Mistake::ConstantSign, "0.02 + 7", "0.02 - 7", "warmth"),
        (Mistake::PowerOfTen, "level * 0.002", "level * 0.2", "level"),
        (Mistake::PowerOfTwo, "flow / 64.0", "flow / 256.0", "flow"),
        (Mistake::OtherConstant, "(tilt - zero) * 0.05", "(tilt - zero) * 0.002", "tilt"),
        (Mistake::Digits, "flow / 64.0", "flow / 46.0", "flow"),
        (Mistake::Operator, "flow / 64.0", "flow * 64.0", "flow"),
    ] {
        let (part, findings) = found(right, wrong, reading, &[]);
        let expected = values(&Part::parse("right.toml", RIGHT).unwrap(), reading, &[]);
        let names: Vec<&str> = findings.list.iter().map(|finding| finding.what.as_str()).collect();
        let good = findings.list.iter().take(3).any(|finding| {
            let again = Part::parse("mended.toml", &mended(&part, finding)).unwrap();
            let same = values(&again, reading, &[]).iter().zip(&expected).all(|(one, other)| (one - other).abs() <= 1e-9 * other.abs());
            // A power of ten may be that of another unit just as well.
            finding.agree == findings.points && (finding.mistake == mistake && same || !finding.same.is_empty())
        });
        assert!(good, "{mistake:?}: {names:?}");
    }
}

#[test]
fn registers_fixed_points_and_tables_are_searched_too() {
    for (right, wrong, reading, place, after) in [
        ("order  = \"low first\"\n", "", "strain", 1, "order = \"low first\"\nat     = 0x20  # two bytes"),
        ("\"low first\"", "\"high first\"", "strain", 1, "order  = \"low first\""),
        (
            "{ at = 0x22, width",
            "{ at = 0x22, order = \"low first\", width",
            "bend",
            1,
            "BEND = { at = 0x22, order = \"high first\", width = 16, access = \"read-only\", field.BENT = { bits = \"signed [15:0]\" } }",
        ),
        (
            "{ at = 0x22, width",
            "{ at = 0x22, order = \"low first\", width",
            "sag",
            1,
            "BEND = { at = 0x22, order = \"high first\", width = 16, access = \"read-only\", field.BENT = { bits = \"signed [15:0]\" } }",
        ),
        ("signed BEND", "BEND", "sag", 1, "code = { sag = \"signed BEND\" }"),
        ("q7.8", "signed", "heel", 3, "code    = { heel = \"q7.8 b0 b1\", wear = \"b2 b3\" }"),
        ("q7.8", "q11.4", "heel", 3, "code    = { heel = \"q7.8 b0 b1\", wear = \"b2 b3\" }"),
        ("q7.8", "uq8.8", "heel", 1, "code    = { heel = \"q7.8 b0 b1\", wear = \"b2 b3\" }"),
        (
            "mm = 0.74",
            "mm = 0.47",
            "strain",
            1,
            "field.REACH = { bits = \"[1:0]\", values = [{ code = 0, mm = 0.125 }, { code = 1, mm = 0.74 }] }",
        ),
        ("23.9", "32.9", "wear", 3, "WEAR = { outside = \"hold\", points = [[0, 0.5], [900, 4.8], [2500, 23.9], [9000, 61.7]] }"),
        ("[2500, ", "[5200, ", "wear", 3, "WEAR = { outside = \"hold\", points = [[0, 0.5], [900, 4.8], [2500, 23.9], [9000, 61.7]] }"),
    ] {
        let (_, findings) = found_in(TABLES, right, wrong, reading, &[]);
        let lines: Vec<&str> = findings.list.iter().filter_map(|finding| Some(finding.lines.first()?.after.as_str())).collect();
        assert!(lines.iter().take(place).any(|line| *line == after), "{wrong}: {lines:#?}");
    }
    // Numbers of tables are solved for: a curve keeps its other points.
    let (part, findings) = found_in(TABLES, "mm = 0.74", "mm = 2.6", "strain", &[]);
    let solved = findings.list.iter().find(|finding| finding.mistake == Mistake::Constant && finding.what.starts_with("REACH.mm"));
    let (low, high) = solved.unwrap().fits.unwrap();
    assert!(low < 0.74 && 0.74 < high, "{low} to {high}");
    assert!(Part::parse("mended.toml", &mended(&part, solved.unwrap())).is_ok());
}

#[test]
fn what_was_in_force_and_what_calibration_words_are() {
    let (_, findings) = found("level * 0.002", "level * 0.002", "gap", &["REACH=far"]);
    let first = &findings.list[0];
    assert_eq!((first.mistake, first.settings.as_slice(), first.edits.len()), (Mistake::Setting, &["REACH=far".to_owned()][..], 0));
    let (part, findings) = found("zero = \"signed b0 b1\"", "zero = \"b0 b1\"", "tilt", &[]);
    let line = &findings.list[0].lines[0];
    assert_eq!(line.after, "code = { zero = \"signed b0 b1\" }");
    assert_eq!(part.source().text().lines().nth(line.line - 1), Some(line.before.as_str()));
}

#[test]
fn what_agrees_already_has_no_finding_and_what_is_known_of_several_readings_counts() {
    let part = Part::parse("right.toml", RIGHT).unwrap();
    let expectation = |typed: &str| Expectation::parse(&part, typed).unwrap();
    let observation = |expectations: Vec<Expectation>| Observation { frames: frames(&part), expectations, settings: Vec::new() };
    let fine = mend(&part, &observation(vec![expectation("level=1 to 3 m")]));
    assert_eq!((fine.list.len(), fine.agree, fine.points), (0, 3, 3));
    // The second reading shows that it is not the setting.
    let both = mend(&part, &observation(vec![expectation("level=0.8 to 1.6 m"), expectation("flow=2 to 10 l/min")]));
    assert!(both.list.iter().all(|finding| finding.agree == 6 || finding.agree < both.points), "{both:?}");
    let wrong = Part::parse("wrong.toml", &RIGHT.replace("\"signed b2 b3\"", "\"b2 b3\"")).unwrap();
    let rises = Observation {
        frames: frames(&wrong),
        expectations: vec![Expectation::parse(&wrong, "warmth=rises").unwrap()],
        settings: Vec::new(),
    };
    let rising = mend(&wrong, &rises);
    assert!(rising.list.iter().any(|finding| finding.mistake == Mistake::Sign && finding.agree == 2), "{rising:?}");
    let beyond = mend(&wrong, &Observation { expectations: vec![Expectation::parse(&wrong, "warmth=-30 ± 2 °C").unwrap()], ..rises });
    assert_eq!(
        beyond.beyond.iter().map(|(id, low, high)| (*id, *low, *high)).collect::<Vec<_>>(),
        [(wrong.reading("warmth").unwrap(), 7.0, 1317.7)]
    );
}

#[test]
fn frames_that_say_nothing_are_suspect() {
    let part = Part::parse("right.toml", RIGHT).unwrap();
    let well = part.frame("WELL").unwrap();
    let frames = vec![(well, WELL[0].to_vec()), (well, WELL[0].to_vec()), (well, vec![0xFF; 16]), (well, vec![0; 16])];
    let expectations = vec![Expectation::parse(&part, "level=100 to 200 m").unwrap()];
    let found = mend(&part, &Observation { frames, expectations, settings: Vec::new() });
    let expected = [Suspect::Stale { frame: 1 }, Suspect::Blank { frame: 2, byte: 0xFF }, Suspect::Blank { frame: 3, byte: 0 }];
    assert_eq!(found.suspects, expected);
}

#[test]
fn truths_that_are_none_are_refused_with_what_to_write() {
    let part = Part::parse("right.toml", RIGHT).unwrap();
    for (typed, message) in [
        ("warmth", "`warmth` has no reading"),
        ("wramth=20 to 30 °C", "scupper-9 has no reading `wramth`"),
        ("warmth=20", "`20` has no tolerance"),
        ("warmth=20 ± 3", "`20 ± 3` has no unit"),
        ("warmth=20 ± 3 kPa", "warmth is in °C, not in kPa"),
        ("warmth=20,5 ± 3 °C", "`20,5 ± 3 °C` has a comma"),
        ("warmth=30 to 20 °C", "`30 to 20 °C` is reversed"),
        ("warmth=20 ± 0 °C", "`20 ± 0 °C` has no tolerance"),
        ("warmth=warm ± 1 °C", "`warm ± 1 °C` has no number"),
    ] {
        let error = Expectation::parse(&part, typed).unwrap_err();
        assert_eq!(error.to_string(), message, "{typed}");
        assert!(error.help.is_some(), "{typed}");
    }
    let same = |typed: &str| Expectation::parse(&part, typed).unwrap().expected;
    assert_eq!(same("warmth=20 +- 2 °C"), same("warmth=20 °C ± 2 K"));
    assert_eq!(same("warmth=18 to 22 °C"), same("warmth=20 +/- 2 °C"));
    assert_eq!(same("day=3 ± 1"), same("day=2 to 4"));
}

fn crc(bytes: &[u8], poly: u8, init: u8) -> u8 {
    bytes.iter().fold(init, |register, byte| {
        (0..8).fold(register ^ byte, |register, _| if register & 0x80 == 0 { register << 1 } else { register << 1 ^ poly })
    })
}

/// Frames of chance bytes, with a check value in the last of them.
fn sealed(count: usize, value: impl Fn(&[u8]) -> u8) -> Vec<Vec<u8>> {
    let bytes = |at: usize| (0..5).map(|place: usize| (at * 83 + place * 59 + at * place * 7) as u8).collect::<Vec<u8>>();
    (0..count).map(|at| bytes(at + 1)).map(|bytes| [bytes.clone(), vec![value(&bytes)]].concat()).collect()
}

#[test]
fn checks_are_found_from_frames_that_fail_theirs() {
    let text = r#"
part = "scupper-6"
i2c.address = 0x33
frame.WELL = { read = 6, code = { level = "b0 b1" }, check = { xor = 0x77, over = "b0..b4", in = "b5" } }
"#;
    let part = Part::parse("refused.toml", text).unwrap();
    let well = part.frame("WELL").unwrap();
    let first = |frames: &[Vec<u8>]| find_checks(&part, well, frames).first().map(|found| found.text.clone()).unwrap_or_default();
    let sum = |bytes: &[u8]| bytes.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte));
    for (frames, expected) in [
        (sealed(2, |bytes| !crc(bytes, 0x1D, 0xFF)), "{ crc = \"CRC-8/SAE-J1850\", over = \"b0..b4\", in = \"b5\" }"),
        (sealed(2, |bytes| crc(&[&[0x66], bytes].concat(), 0x07, 0)), "{ crc = \"CRC-8/SMBUS\", over = \"addr:w b0..b4\", in = \"b5\" }"),
        (sealed(2, |bytes| sum(bytes)), "{ sum = { width = 8 }, over = \"b0..b4\", in = \"b5\" }"),
        (sealed(2, |bytes| sum(bytes).wrapping_neg()), "{ sum = { width = 8, then = \"negate\" }, over = \"b0..b4\", in = \"b5\" }"),
        (sealed(2, |bytes| bytes[1..].iter().fold(0, |all, byte| all ^ byte)), "{ xor = 0, over = \"b1..b4\", in = \"b5\" }"),
        (sealed(6, |bytes| crc(bytes, 0x4B, 0)), "{ crc = { width = 8, poly = 0x4B }, over = \"b0..b4\", in = \"b5\" }"),
    ] {
        assert_eq!(first(&frames), expected);
    }
    // The corrected sheet takes the frames.
    let frames = sealed(6, |bytes| crc(bytes, 0x4B, 0xC5));
    let found: Vec<CheckFinding> = find_checks(&part, well, &frames);
    let again = Part::parse("mended.toml", &found[0].applied(&part)).unwrap();
    assert!(frames.iter().all(|bytes| Decoder::new(&again).decode(well, bytes).is_ok()), "{}", found[0].text);
    assert!(find_checks(&part, well, &frames[..1]).is_empty(), "one frame says nothing");
    // Frames of changing length have the check at the same place.
    let text = text.replace(
        "read = 6, code = { level = \"b0 b1\" }",
        "read = 9, length = \"6 + more\", code = { level = \"b0 b1\", more = \"b4[1:0]\" }",
    );
    let part = Part::parse("refused.toml", &text).unwrap();
    let longer = |(at, bytes): (usize, &Vec<u8>)| [bytes.clone(), vec![0xA5; at % 4]].concat();
    let frames: Vec<Vec<u8>> = sealed(6, |bytes| crc(bytes, 0x07, 0)).iter().enumerate().map(longer).collect();
    let found = find_checks(&part, well, &frames);
    assert_eq!(found[0].text, "{ crc = \"CRC-8/SMBUS\", over = \"b0..b4\", in = \"b5\" }");
}

#[test]
fn bytes_and_a_value_are_enough_to_start_a_sheet() {
    for (frames, known, layout, formula) in [
        (vec![vec![0x08, 0x34, 0x00]], vec![(20.5, 21.5)], "b0 b1", "x * 0.01"),
        (vec![vec![0x00, 0x34, 0x08], vec![0x00, 0x10, 0x0A]], vec![(20.5, 21.5), (25.0, 26.5)], "b2 b1", "x * 0.01"),
        (vec![vec![0xFF, 0x38, 1], vec![0x03, 0xE8, 2]], vec![(-2.2, -1.8), (9.5, 10.5)], "signed b0 b1", "x * 0.01"),
    ] {
        let found = from_bytes(&frames, &known);
        assert_eq!((found[0].layout.as_str(), found[0].formula.as_str()), (layout, formula), "{found:?}");
    }
    assert!(from_bytes(&[vec![1, 2, 3], vec![1, 2, 3]], &[(20.0, 21.0), (80.0, 81.0)]).is_empty(), "the same bytes are no two values");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// For all bytes and values, findings are valid sheets, unique, and give the values that they state.
    #[test]
    fn findings_are_sound(bytes in prop::array::uniform16(any::<u8>()), reading in 0usize..11, middle in -500.0f64..500.0) {
        let (sheet, reading) = if reading < 7 { (RIGHT, reading) } else { (TABLES, reading - 7) };
        let part = Part::parse("right.toml", sheet).unwrap();
        let frames = match sheet == RIGHT {
            true => vec![(part.frame("TRIM").unwrap(), TRIM.to_vec()), (part.frame("WELL").unwrap(), bytes.to_vec())],
            false => vec![(part.frame("HULL").unwrap(), bytes[..4].to_vec()), (part.frame("KEEL").unwrap(), bytes[4..8].to_vec())],
        };
        let id = part.readings().ids().nth(reading).unwrap();
        let at = frames.iter().rposition(|(frame, _)| part.frames()[*frame].readings().contains(&id)).unwrap();
        let unit = part.readings()[id].unit();
        let expectation = Expectation::parse(&part, &format!("{}={middle:.3} ± 5 {unit}", part.readings()[id].name())).unwrap();
        let expectations = vec![expectation];
        let found = mend(&part, &Observation { frames: frames.clone(), expectations, settings: Vec::new() });
        let mut seen: Vec<(String, Vec<String>)> = Vec::new();
        for finding in &found.list {
            let text = mended(&part, finding);
            prop_assert!(!finding.lines.is_empty() || !finding.settings.is_empty());
            let key = (text.clone(), finding.settings.clone());
            prop_assert!(!seen.contains(&key), "twice: {}", finding.what);
            seen.push(key);
            let again = Part::parse("mended.toml", &text).map_err(|error| TestCaseError::fail(format!("{}: {error}", finding.what)))?;
            let mut decoder = Decoder::new(&again);
            let state = yemdo::configure::assume(&again, decoder.state(), &finding.settings).unwrap();
            decoder.adopt(&state);
            let decoded: Vec<_> = frames.iter().map(|(frame, bytes)| decoder.decode(*frame, bytes).unwrap()).collect();
            let decoded = &decoded[at];
            let own = finding.values[at].iter().find(|(other, _)| *other == id).unwrap().1;
            let reading = decoded.readings.iter().find(|value| value.id.index() == id.index()).unwrap();
            let units = Unit::find(&reading.unit).zip(Unit::find(unit)).filter(|(from, to)| from != to);
            let turned = |value: f64| units.map_or(Some(value), |(from, to)| from.to(to, value));
            prop_assert_eq!(own, reading.value.and_then(turned), "{}", finding.what);
        }
    }
}
