//! Integer readings: within their stated error bound, with the same frames accepted, and the same status unless rounding decides.

use yemdo::emit::{FirmwareOptions, Reals, as_computed, error_bound};
use yemdo::{Decoder, Part, ReadingId, Status};

use super::decode::decoder;
use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// The step of integers.
const STEP: f64 = 0.001;

/// Frames of each sheet.
const FRAMES: usize = 24;

/// Random frames decoded in doubles and in steps of integers.
pub fn integers(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    let options = FirmwareOptions::default().reals(Reals::Integer).step(STEP);
    let Ok(narrow) = as_computed(part, &options) else { return };
    let bounds: Vec<Option<f64>> = part.readings().ids().map(|id| error_bound(part, &options, id).ok().flatten()).collect();
    let start = decoder(part, c);
    let floats = part.readings().ids().filter_map(|id| part.formula_text(id)).any(|text| text.contains("float") || text.contains("f("));
    let mut steps = Decoder::new(&narrow);
    let mut exact = start;
    steps.adopt(exact.state());
    for _ in 0..FRAMES {
        let frame = cases::frame_at(c.below(part.frames().len().max(1)));
        if part.frames().get(frame).is_none() {
            return;
        }
        let bytes = cases::frame(c, part, frame);
        let (one, two) = (exact.decode(frame, &bytes), steps.decode(frame, &bytes));
        let about = || format!("{} {}", part.frames()[frame].name(), yemdo::to_hex(&bytes));
        tally.hold(Row::Meaning, "doubles, integers: refusal", one.is_ok() == two.is_ok(), about);
        let (Ok(one), Ok(two)) = (one, two) else { continue };
        for (reading, step) in one.readings.iter().zip(&two.readings) {
            let bound = bounds.get(index(part, reading.id)).copied().flatten();
            let (Some(bound), Some(value), Some(steps)) = (bound, reading.value, step.value) else { continue };
            let off = (steps * STEP - value).abs();
            // The bound refers to the exact formula; the floating-point value has its own rounding error.
            let codes = reading.codes.iter().filter_map(|code| code.value.to_f64()).map(f64::abs);
            // Of large codes a difference may be small.
            let largest = codes.fold(value.abs().max(1.0), f64::max);
            let rounded = if floats { largest * 1e-5 } else { value.abs() * 1e-12 };
            tally.hold(Row::Meaning, "integers are within their bound", off <= bound * (1.0 + 1e-9) + rounded, || {
                format!("{}: {} is {value}, {steps} steps of {}, off by {off} of {bound}", about(), reading.name, STEP)
            });
            // At the end of a range, and in comparisons of reals, rounding decides.
            let told = |status: Status| !matches!(status, Status::OutOfRange | Status::Ok);
            let same = reading.status == step.status || !told(reading.status) || !told(step.status);
            tally.hold(Row::Status, "doubles, integers: status", same, || {
                format!("{}: {} is {:?} and {:?}", about(), reading.name, reading.status, step.status)
            });
        }
    }
}

fn index(part: &Part, id: ReadingId) -> usize {
    part.readings().ids().position(|known| known == id).unwrap_or(usize::MAX)
}
