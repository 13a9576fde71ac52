//! Possible values: predictions compared with decoded frames.

use yemdo::part::Id;
use yemdo::review::{Prediction, Proof, predict};
use yemdo::{Decoder, FrameId, FrameValues, Part, ReadingId, State, Status};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Frames for each frame of the part.
const FRAMES: usize = 60;

/// Random frames with the settings after a reset.
pub fn possible(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    let predictions: Vec<Option<Prediction>> = part.readings().ids().map(|id| predict(part, id)).collect();
    // A field that comes with a frame is not told by settings alone.
    if part.frames().iter().any(|frame| matches!(frame.origin(), yemdo::part::Origin::Registers(_))) {
        return;
    }
    let mut decoder = Decoder::new(part);
    assume(&mut decoder, part);
    let start = decoder.state().clone();
    for _ in 0..FRAMES {
        let each: Vec<(FrameId, Vec<u8>)> = part.frames().ids().map(|frame| (frame, cases::frame(c, part, frame))).collect();
        for (frame, bytes) in each {
            held(part, &predictions, &mut decoder, &start, (frame, &bytes), tally);
            // Predictions hold for these settings; a frame may have brought others.
            decoder.adopt(&start);
        }
    }
}

/// Unknown fields become 0, or the first row of a table without 0, as in predictions.
fn assume(decoder: &mut Decoder, part: &Part) {
    let known = decoder.state().clone();
    for field in part.fields().iter().filter(|field| !decoder.state().knows(field)).collect::<Vec<_>>() {
        let listed = field.values().is_empty() || field.value(0).is_some();
        let code = if listed { 0 } else { field.values().first().map_or(0, |row| row.code) };
        decoder.state_mut().set_field(field, code);
    }
    // Known values stay, even if other fields share their bits; so do reset values of fields that only the part sets.
    for field in part.fields() {
        known.known_field(field).into_iter().for_each(|code| decoder.state_mut().set_field(field, code));
    }
}

/// Whether a code is outside its stated range: no prediction holds then.
fn is_beyond(part: &Part, frame: &yemdo::part::Frame, bytes: &[u8]) -> bool {
    part.codes().of(frame.codes()).any(|code| {
        let (low, high) = code.bounds();
        cases::code_in(code.layout(), bytes).is_some_and(|value| !(low..=high).contains(&value))
    })
}

fn held(
    part: &Part,
    predictions: &[Option<Prediction>],
    decoder: &mut Decoder,
    start: &State,
    (frame, bytes): (FrameId, &[u8]),
    tally: &mut Tally,
) {
    let mut values = FrameValues::new();
    let Some(model) = part.frames().get(frame).filter(|_| decoder.decode_into(frame, bytes, &mut values).is_ok()) else { return };
    let shown: Vec<ReadingId> = model.shown().collect();
    for (place, reading) in shown.into_iter().enumerate() {
        let Some(prediction) = predictions.get(reading.index()).and_then(Option::as_ref) else { continue };
        let name = part.readings()[reading].name();
        let about = || format!("{} {}: {name}", model.name(), yemdo::to_hex(bytes));
        if !decoder.state().has_same_settings(start) || is_beyond(part, model, bytes) {
            continue;
        }
        if let Some(value) = values.value(place) {
            let inside = prediction.extent.is_some_and(|extent| {
                let slack = 1e-9 * extent.low.abs().max(extent.high.abs());
                value >= extent.low - slack && value <= extent.high + slack
            });
            tally.hold(Row::Possible, "values stay within the predicted range", inside, || {
                format!("{} is {value}, predicted {:?}", about(), prediction.extent)
            });
        }
        if prediction.proof == Proof::Proved && prediction.faults.is_empty() && prediction.may_lack.is_empty() {
            let faults = values.status(place) == Status::FormulaFault;
            tally.hold(Row::Possible, "proved formulas never fault", !faults, || format!("{} is at fault", about()));
        }
    }
}
