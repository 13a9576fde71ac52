//! Random frames, settings and wishes for a part.

use yemdo::layout::{Form, Layout, Slice};
use yemdo::part::Id;
use yemdo::{FieldId, FrameId, Part};

use crate::choices::Choices;

/// Bytes of a frame: mostly with good checks, now and then with a damaged one, or too few.
pub fn frame(c: &mut Choices<'_>, part: &Part, frame: FrameId) -> Vec<u8> {
    let Some(model) = part.frames().get(frame) else { return Vec::new() };
    let mut bytes = c.bytes(model.length());
    match c.below(8) {
        0 => bytes.fill(0),
        1 => bytes.fill(0xFF),
        2 | 3 => {
            // A code at an end of its range, or at a row of its table.
            for code in model.codes().iter().filter_map(|code| part.codes().get(*code)) {
                if matches!(code.layout().form, Form::Text | Form::Float) || !c.chance(50) {
                    continue;
                }
                let (low, high) = code.bounds();
                let value = *c.pick(&[low, high, 0i128.clamp(low, high), low + 1.min(high - low)]);
                put_code(code.layout(), &mut bytes, value);
            }
        }
        _ => {}
    }
    if !c.chance(8) {
        seal(part, frame, &mut bytes);
    }
    bytes
}

/// Puts good check values into a frame.
pub fn seal(part: &Part, frame: FrameId, bytes: &mut [u8]) {
    let Some(model) = part.frames().get(frame) else { return };
    // Checks that cover one another's places settle in a few rounds.
    for _ in 0..2 {
        for check in model.checks() {
            put(bytes, &check.place, check.expected(bytes));
        }
    }
}

/// The code that a layout has in some bytes, as an integer.
pub fn code_in(layout: &Layout, bytes: &[u8]) -> Option<i128> {
    let bits = layout.slices.iter().fold(0u64, |bits, slice| {
        let width = u32::from(slice.high - slice.low) + 1;
        let byte = bytes.get(slice.byte).copied().unwrap_or(0);
        bits << width | u64::from(byte >> slice.low & (u16::from(u8::MAX) >> (8 - width)) as u8)
    });
    layout.form.read(bits, layout.width()).map(i128::from)
}

/// Puts a code where a layout has it.
pub fn put_code(layout: &Layout, bytes: &mut [u8], code: i128) {
    put(bytes, &layout.slices, layout.form.write(code, layout.width()));
}

fn put(bytes: &mut [u8], slices: &[Slice], mut value: u64) {
    for slice in slices.iter().rev() {
        let width = u32::from(slice.high - slice.low) + 1;
        let mask = (u16::from(u8::MAX) >> (8 - width)) as u8;
        if let Some(byte) = bytes.get_mut(slice.byte) {
            *byte = *byte & !(mask << slice.low) | (value as u8 & mask) << slice.low;
        }
        value >>= width;
    }
}

/// A random code of a field: one of its table, or any that its bits hold.
pub fn code(c: &mut Choices<'_>, part: &Part, field: FieldId) -> Option<i128> {
    let field = part.fields().get(field)?;
    if !field.values().is_empty() {
        return Some(c.pick(field.values()).code);
    }
    let (low, high) = field.bounds();
    Some(match c.below(4) {
        0 => low,
        1 => high,
        _ => c.within(low, high),
    })
}

/// How a field is typed where its name alone does not tell it.
pub fn typed_name(part: &Part, field: FieldId) -> Option<String> {
    let model = part.fields().get(field)?;
    if part.field(model.name()).ok() == Some(field) {
        return Some(model.name().to_owned());
    }
    let home = part.registers().iter().find(|register| register.fields().contains(&field))?;
    let full = format!("{}.{}", home.name(), model.name());
    (part.field(&full).ok() == Some(field)).then_some(full)
}

/// A value of a field as it is typed.
pub fn typed_value(part: &Part, field: FieldId, code: i128) -> Option<String> {
    let model = part.fields().get(field)?;
    if let Some(real) = model.real(code) {
        return Some(real.to_string());
    }
    match model.value(code).and_then(|row| row.name.clone()) {
        Some(name) => Some(name),
        None => {
            let text = if code >= 0 { format!("0x{code:X}") } else { code.to_string() };
            // A number could be the name of another row.
            Some(text).filter(|text| !model.values().iter().any(|row| row.name.as_ref() == Some(text)))
        }
    }
}

/// Wishes of a part as people type them, at most `most`.
pub fn wishes(c: &mut Choices<'_>, part: &Part, most: usize) -> Vec<String> {
    let mut wishes: Vec<String> = Vec::new();
    let fields: Vec<FieldId> = part.fields().entries().filter(|(_, field)| field.access().is_writable()).map(|(id, _)| id).collect();
    for _ in 0..1 + c.below(most) {
        let wish = match c.below(6) {
            0 if !part.parameters().is_empty() => {
                let at = c.below(part.parameters().len());
                part.parameters().iter().nth(at).map(|parameter| {
                    let (low, high) = parameter.range.unwrap_or((1.0, 20.0));
                    let share = c.within(0, 8) as f64 / 8.0;
                    format!("{}={}", parameter.name, low + (high - low) * share)
                })
            }
            1 | 2 if !part.quantities().is_empty() => {
                let at = c.below(part.quantities().len());
                part.quantities().iter().nth(at).map(|quantity| format!("{}={}", quantity.name(), c.within(-400, 400) as f64 * 0.25))
            }
            _ => c.any(&fields).copied().and_then(|field| {
                let code = code(c, part, field)?;
                Some(format!("{}={}", typed_name(part, field)?, typed_value(part, field, code)?))
            }),
        };
        let Some(wish) = wish else { continue };
        let name = |wish: &str| wish.split('=').next().unwrap_or("").to_owned();
        if !wishes.iter().any(|known| name(known) == name(&wish)) {
            wishes.push(wish);
        }
    }
    wishes
}

/// The id at a place.
pub fn frame_at(at: usize) -> FrameId {
    FrameId::new(at)
}
