//! The mistakes that a part invites: what of it is often done otherwise, as one would tell a colleague.

use crate::bits::form::Form;
use crate::bits::layout::Slice;
use crate::model::part::Part;
use crate::model::status::Status;

/// Maximum number of names listed per mistake.
const MOST: usize = 6;

/// All of them, as sentences.
pub(super) fn mistakes(part: &Part) -> Vec<String> {
    let mut all = Vec::new();
    if let Some(i2c) = &part.buses().i2c {
        let (address, write) = (i2c.address, i2c.address << 1);
        all.push(format!(
            "0x{address:02X} is the 7-bit address. In 8-bit form it is 0x{write:02X} to write and 0x{:02X} to read.",
            write | 1
        ));
    }
    let codes = || part.codes.iter();
    let mut tell = |names: Vec<String>, one: &str, many: &str| {
        let more = names.len().saturating_sub(MOST);
        let listed = names.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
        match names.len() {
            0 => {}
            1 => all.push(format!("{listed} {one}.")),
            _ if more > 0 => all.push(format!("{listed} and {more} more {many}.")),
            _ => all.push(format!("{listed} {many}.")),
        }
    };
    let signed = codes().filter(|code| code.layout().form == Form::Signed && !code.layout().width().is_multiple_of(8));
    let signed = signed.map(|code| format!("{} ({} bits)", code.name(), code.layout().width())).collect();
    tell(
        signed,
        "is two's complement and not a whole number of bytes: sign-extend it",
        "are two's complement and not a whole number of bytes: sign-extend them",
    );
    let other = codes().filter(|code| !matches!(code.layout().form, Form::Unsigned | Form::Signed | Form::Float | Form::Text));
    tell(
        other.map(|code| format!("{} ({})", code.name(), code.layout().form.name())).collect(),
        "is not plain binary",
        "are not plain binary",
    );
    let back = |slices: &[Slice]| slices.windows(2).any(|pair| matches!(pair, [one, next] if next.byte < one.byte));
    let low = codes().filter(|code| back(&code.layout().slices)).map(|code| code.name().to_owned());
    tell(low.collect(), "has its low byte first", "have their low bytes first");
    let low = part.registers().iter().filter(|register| register.low_first()).map(|register| register.name().to_owned());
    tell(low.collect(), "is sent low byte first", "are sent low byte first");
    let straddles = |slices: &[Slice]| slices.len() > 1 && slices.iter().any(|slice| slice.high != 7 || slice.low != 0);
    let straddling = codes().filter(|code| straddles(&code.layout().slices)).map(|code| code.name().to_owned());
    tell(straddling.collect(), "shares a byte with another code", "share bytes with other codes");
    let kept = part.registers().iter().filter(|register| !register.reserved().is_empty()).map(|register| register.name().to_owned());
    tell(
        kept.collect(),
        "has reserved bits: write the stated value, otherwise the reset value",
        "have reserved bits: write the stated value, otherwise the reset value",
    );
    let locked =
        part.registers().iter().filter(|register| !register.writable_while().is_empty()).map(|register| register.name().to_owned());
    tell(locked.collect(), "can only be written in certain states", "can only be written in certain states");
    let once = part.frames().iter().filter(|frame| frame.is_kept()).map(|frame| frame.name().to_owned());
    tell(
        once.collect(),
        "holds values of this individual part: read it once, before the readings",
        "hold values of this individual part: read them once, before the readings",
    );
    let checked = part.frames().iter().filter(|frame| !frame.checks().is_empty()).map(|frame| frame.name().to_owned());
    tell(checked.collect(), "has a check: discard a frame that fails it", "have checks: discard a frame that fails them");
    let ends =
        part.readings.entries().filter(|(id, _)| part.conditions(None, *id).any(|(_, condition)| condition.status == Status::Saturated));
    let ends = ends.map(|(_, reading)| reading.name().to_owned()).collect();
    tell(ends, "saturates: its last code means \"at least\"", "saturate: their last codes mean \"at least\"");
    all
}
