//! What bytes mean, and what their status is: a frame alone, among many, one after another, with its steps, as JSON.

use yemdo::part::{Id, Origin};
use yemdo::view::{FrameView, ShownUnits};
use yemdo::{Columns, Decoded, Decoder, FrameId, FrameValues, Part, Refusal, Status};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Frames of one sequence.
const FRAMES: usize = 12;

/// A decoder whose settings and parameters are random.
pub fn decoder(part: &Part, c: &mut Choices<'_>) -> Decoder {
    let mut decoder = Decoder::new(part);
    for (id, field) in part.fields().entries() {
        if c.chance(60)
            && let Some(code) = cases::code(c, part, id)
        {
            decoder.state_mut().set_field(field, code);
        }
    }
    for (id, parameter) in part.parameters().entries() {
        if let Some((low, high)) = parameter.range.filter(|_| c.chance(50)) {
            let share = c.within(0, 16) as f64 / 16.0;
            decoder.set_parameter(id, low + (high - low) * share).unwrap();
        }
    }
    decoder
}

/// Random frames in random order, decoded in every way.
pub fn meaning(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    if part.frames().is_empty() {
        return;
    }
    for _ in 0..3 {
        let start = decoder(part, c);
        let mut ways = Ways {
            single: start.clone(),
            kept: start.clone(),
            many: start.clone(),
            start,
            last: vec![None; part.frames().len()],
            order: Vec::new(),
        };
        let mut time = 0.0;
        for _ in 0..FRAMES {
            let frame = cases::frame_at(c.below(part.frames().len()));
            let bytes = cases::frame(c, part, frame);
            time += *c.pick(&[0.5, 0.0, 30.0, -1.0]);
            ways.frame(part, frame, &bytes, time, tally);
        }
    }
    batch(part, c, tally);
}

/// The bytes of a frame that count, with how many came, or why it is refused.
type Accepted = Result<(Vec<u8>, usize), Refusal>;

struct Ways {
    start: Decoder,
    single: Decoder,
    kept: Decoder,
    many: Decoder,
    /// The last good bytes of every frame.
    last: Vec<Option<Vec<u8>>>,
    /// The order in which they came.
    order: Vec<usize>,
}

/// A value and its status, to be compared.
type Outcome = (Option<u64>, Status);

fn outcomes(decoded: &Decoded) -> Vec<Outcome> {
    decoded.readings.iter().map(|reading| (reading.value.map(f64::to_bits), reading.status)).collect()
}

/// True if frames hold fields that other frames need: then the order of all frames matters.
fn brings_needs(part: &Part) -> bool {
    let needed = || part.frames().iter().flat_map(|frame| frame.valid_while()).map(|(field, _)| *field);
    let of_frame = |frame: &yemdo::part::Frame| match frame.origin() {
        Origin::Registers(runs) => part.registers().of(runs.iter().flatten()).flat_map(|register| register.fields().to_vec()).collect(),
        _ => Vec::new(),
    };
    part.frames().iter().flat_map(of_frame).any(|field| needed().any(|needed| needed == field))
}

impl Ways {
    fn frame(&mut self, part: &Part, frame: FrameId, bytes: &[u8], time: f64, tally: &mut Tally) {
        let name = part.frames().get(frame).unwrap().name();
        let about = || format!("{name} {}", yemdo::to_hex(bytes));
        for way in [&mut self.single, &mut self.kept, &mut self.many] {
            way.measured_at(&[time]);
        }
        let steps = self.single.clone().steps(frame, bytes);
        let before = self.single.clone();
        let decoded = self.single.decode(frame, bytes);
        let mut values = FrameValues::new();
        let into = self.kept.decode_into(frame, bytes, &mut values);
        tally.hold(Row::Meaning, "decode, decode_into: refusal", decoded.as_ref().err() == into.as_ref().err(), || {
            format!("{}: {:?} and {:?}", about(), decoded.as_ref().err(), into.as_ref().err())
        });
        let mut columns = Columns::new();
        let whole = self.many.clone().frame_bytes(frame, bytes).map(|(bytes, given)| (bytes.into_owned(), given));
        if let Ok((whole, given)) = &whole {
            self.many.decode_many_partial(frame, whole, *given, &mut columns).unwrap();
        }
        let Ok(decoded) = decoded else {
            let many = whole.is_err() || columns.failed_check(0).is_some();
            tally.hold(Row::Meaning, "decode, columns: refusal", many, about);
            return;
        };
        let expected = outcomes(&decoded);
        let row: Vec<Outcome> = (0..values.len()).map(|at| (values.value(at).map(f64::to_bits), values.status(at))).collect();
        tally.hold(Row::Meaning, "decode, decode_into", expected == row, || format!("{}: {expected:?} and {row:?}", about()));
        let value = |at: usize| Some(columns.values(at)[0]).filter(|value| !value.is_nan()).map(f64::to_bits);
        let column: Vec<Outcome> = (0..columns.readings()).map(|at| (value(at), columns.status(at, 0))).collect();
        tally.hold(Row::Meaning, "decode, columns", expected == column, || format!("{}: {expected:?} and {column:?}", about()));
        self.reasons(part, frame, (bytes, &whole), (&decoded, &columns), tally);
        if let Ok(steps) = steps {
            let shown = before.part().frames().get(frame).unwrap();
            for reading in decoded.readings.iter().filter(|reading| shown.readings().contains(&reading.id)) {
                let Some(found) = steps.readings.iter().find(|found| found.name == reading.name) else { continue };
                let last = found.lines.last().and_then(|line| line.value).map(|value| value.to_f64());
                let same = match (reading.value, reading.status) {
                    (Some(value), _) => last.map(f64::to_bits) == Some(value.to_bits()) && found.fault.is_none(),
                    // The fault may be that of a condition.
                    (None, Status::FormulaFault) => found.fault.is_some() || (last.is_some() && reading.fault.is_some()),
                    _ => true,
                };
                tally.hold(Row::Meaning, "decode, steps", same, || {
                    format!("{} {}: {:?} and {last:?} {:?}", about(), reading.name, reading.value, found.fault)
                });
            }
        }
        self.last[frame.index()] = Some(bytes.to_vec());
        self.order.retain(|at| *at != frame.index());
        self.order.push(frame.index());
        self.fresh(part, frame, bytes, &decoded, tally);
    }

    /// A decoder that saw only the last of each frame answers the same.
    fn fresh(&self, part: &Part, frame: FrameId, bytes: &[u8], decoded: &Decoded, tally: &mut Tally) {
        let mut fresh = self.start.clone();
        for other in self.order.iter().copied().filter(|other| *other != frame.index()) {
            if let Some(last) = &self.last[other] {
                let _ = fresh.decode(cases::frame_at(other), last);
            }
        }
        let Ok(again) = fresh.decode(frame, bytes) else { return };
        if brings_needs(part) {
            return;
        }
        let measured = part.frames().get(frame).unwrap().readings().len();
        let same = outcomes(decoded)[..measured] == outcomes(&again)[..measured];
        tally.hold(Row::Meaning, "decode: with the same last frames", same, || {
            let frames: Vec<String> = self
                .last
                .iter()
                .enumerate()
                .filter_map(|(at, last)| {
                    Some(format!("{}={}", part.frames().get(cases::frame_at(at))?.name(), yemdo::to_hex(last.as_ref()?)))
                })
                .collect();
            format!("{}: {:?} and {:?}", frames.join(" "), readings(decoded), readings(&again))
        });
        // A reading of several frames is the same with whichever of them it comes.
        for reading in decoded.readings.iter().take(measured) {
            for other in part.readings().get(reading.id).unwrap().frames().iter().filter(|other| **other != frame) {
                let Some(last) = &self.last[other.index()] else { continue };
                let mut turned = self.single.clone();
                let Ok(with_other) = turned.decode(*other, last) else { continue };
                // Decoding an old frame again resets registers that were read later. A frame that is not valid is not kept for another.
                let valid = [frame, *other].into_iter().all(|of| turned.state().unmet(part, of).is_empty());
                if !valid || brings_needs(part) || !turned.state().has_same_settings(self.single.state()) {
                    continue;
                }
                let Some(found) = with_other.readings.iter().find(|found| found.id == reading.id) else { continue };
                let same = (found.value.map(f64::to_bits), found.status) == (reading.value.map(f64::to_bits), reading.status);
                tally.hold(Row::Meaning, "decode: one reading with either frame", same, || {
                    format!(
                        "{:?}: {} with {} {reading}, with {} {found}",
                        self.order.iter().map(|at| (at, self.last[*at].as_deref().map(yemdo::to_hex))).collect::<Vec<_>>(),
                        reading.name,
                        part.frames().get(frame).unwrap().name(),
                        part.frames().get(*other).unwrap().name()
                    )
                });
            }
        }
    }

    /// The reasons of the two ways, and JSON.
    fn reasons(
        &self,
        part: &Part,
        frame: FrameId,
        (bytes, whole): (&[u8], &Accepted),
        (decoded, columns): (&Decoded, &Columns),
        tally: &mut Tally,
    ) {
        let Ok((whole, given)) = whole else { return };
        let units = ShownUnits::plain(part, self.many.state());
        let view = FrameView {
            part,
            frame,
            bytes: whole,
            given: *given,
            columns,
            index: 0,
            decoder: &self.many,
            units: &units,
            time: None,
            line: None,
            uses: &[],
            before: 0,
        };
        let json = serde_json::to_value(view).unwrap();
        for (at, reading) in decoded.readings.iter().enumerate() {
            let shown = &json["readings"][&reading.name];
            let number = shown["value"].as_f64();
            let same = number == reading.value.map(|value| shown["value"].as_f64().filter(|_| is_near(value, number)).unwrap_or(value));
            tally.hold(Row::Meaning, "decode, JSON", same && shown["status"] == reading.status.as_str(), || {
                format!("{} {}: {:?} {} and {shown}", yemdo::to_hex(bytes), reading.name, reading.value, reading.status.as_str())
            });
            let why = view.reason(at, reading.id);
            let told = &reading.why;
            // Missing frames may have come since.
            tally.hold(Row::Status, "decode, columns: reason", reading.status == Status::Waiting || why == *told, || {
                format!("{} {} {}: {told:?} and {why:?}", yemdo::to_hex(bytes), reading.name, reading.status.as_str())
            });
            tally.hold(Row::Status, "status: a value exactly if it has one", reading.value.is_some() == reading.status.has_value(), || {
                format!("{} {}", reading.name, reading.status.as_str())
            });
        }
    }
}

/// A float is printed with the digits of a float.
fn is_near(value: f64, shown: Option<f64>) -> bool {
    shown.is_some_and(|shown| shown == value || shown as f32 == value as f32)
}

fn readings(decoded: &Decoded) -> Vec<String> {
    decoded.readings.iter().map(|reading| format!("{} {reading}", reading.name)).collect()
}

/// Frames of one kind in one call, and one after another.
fn batch(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    let frame = cases::frame_at(c.below(part.frames().len()));
    let model = part.frames().get(frame).unwrap();
    let start = decoder(part, c);
    let (mut one, mut many) = (start.clone(), start);
    for other in part.frames().ids().filter(|other| *other != frame) {
        let bytes = cases::frame(c, part, other);
        let _ = (one.decode(other, &bytes), many.decode(other, &bytes));
    }
    let frames: Vec<Vec<u8>> = (0..20).map(|_| cases::frame(c, part, frame)).collect();
    let times: Vec<f64> = (0..20).map(|at| f64::from(at) * 0.75).collect();
    let mut columns = Columns::new();
    many.measured_at(&times);
    if many.decode_many(frame, &frames.concat(), &mut columns).is_err() {
        return;
    }
    for (at, bytes) in frames.iter().enumerate() {
        one.measured_at(&times[at..=at]);
        let decoded = one.decode(frame, bytes);
        // A single frame may come as a whole Modbus response, and these bytes say that they are one; many frames never do.
        if matches!(decoded, Err(Refusal::Response(_))) {
            continue;
        }
        let Ok(decoded) = decoded else {
            let refused = || format!("{} {bytes:02X?}: {}", model.name(), decoded.unwrap_err());
            tally.hold(Row::Meaning, "batch: refusal", columns.failed_check(at).is_some(), refused);
            continue;
        };
        for (place, reading) in decoded.readings.iter().enumerate() {
            let value = Some(columns.values(place)[at]).filter(|value| !value.is_nan()).map(f64::to_bits);
            let same = value == reading.value.map(f64::to_bits) && columns.status(place, at) == reading.status;
            tally.hold(Row::Meaning, "batch, one after another", same, || {
                format!(
                    "{} {}: {reading} and {:?} {}",
                    model.name(),
                    reading.name,
                    columns.values(place)[at],
                    columns.status(place, at).as_str()
                )
            });
            let number = columns.number(place, at).map(|number| number.to_string());
            let same = number == reading.number.map(|number| number.to_string());
            tally.hold(Row::Meaning, "batch, one after another: number", same, || {
                format!("{} {:?} and {number:?}", reading.name, reading.number)
            });
        }
    }
}
