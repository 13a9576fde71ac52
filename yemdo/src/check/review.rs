//! The review of a sheet: what is not wrong, but is often meant otherwise.

use crate::bits::form::Form;
use crate::bits::layout::Layout;
use crate::model::part::{Input, Part};
use crate::model::registers::Access;
use crate::sheet::{Diagnostic, tree};

/// Every warning: its name, and when it comes. A sheet switches one off with `allow = ["name"]`.
pub const WARNINGS: &[(&str, &str)] = &[
    ("reserved-address", "An I2C address is below 0x08 or above 0x77: reserved, or an 8-bit form."),
    ("sign-missing", "A reading's stated range is negative, but the code of two or more bytes has no sign, so that it cannot be."),
    ("byte-order-differs", "A code of several bytes has another byte order than the part's others."),
    ("formula-repeated", "Two readings of different units have the same formula: a pasted constant."),
    ("reset-sets-reserved", "A reset value has other bits in a reserved place than must be written there."),
    ("bits-unaccounted", "Bits of a register belong to no field and are not reserved."),
    ("never-used", "A code, parameter, table or shared value that no formula, condition or example uses."),
    ("no-example", "The sheet has readings but no worked example."),
    ("not-checked", "A frame has a byte that no code uses and no check: a CRC that is not checked?"),
    ("range-never-reached", "No code gives a value within the stated range."),
    ("integer-division", "A division of integers drops the fraction, and the reading is then scaled as if it did not."),
    ("power-is-xor", "`^` with 2 or 3 behind it is XOR in C; a power may be meant."),
    ("sign-lost", "A comparison or division mixes signed and unsigned, so that a negative number becomes a large one."),
];

/// Reviews a sound sheet.
pub(crate) fn review(part: &Part, tree: &tree::Sheet, used: &[String]) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    signs(part, &mut found);
    byte_order(part, &mut found);
    repeated_formulas(part, &mut found);
    registers(part, &mut found);
    unused(part, tree, used, &mut found);
    examples(part, &mut found);
    ranges(part, &mut found);
    found
}

fn signs(part: &Part, found: &mut Vec<Diagnostic>) {
    for reading in &part.readings {
        let [Input::Code(code)] = reading.formula.inputs.as_slice() else { continue };
        let (Some(code), Some((low, _))) = (part.codes.get(*code), reading.range) else { continue };
        if low >= 0.0 || code.layout.form != Form::Unsigned || code.layout.width() < 10 {
            continue;
        }
        let index = part.readings.iter().position(|other| other.name == reading.name).unwrap_or(0);
        if part.outcome(index).and_then(|outcome| outcome.extent).is_some_and(|extent| extent.low >= 0.0) {
            found.push(
                Diagnostic::warning(
                    "sign-missing",
                    code.span,
                    format!("`{}` has no sign, but `{}` is stated down to {low} {}", code.name, reading.name, reading.unit),
                )
                .label("read as unsigned: it can never be negative")
                .also(reading.span, "its range begins below zero")
                .help("if the datasheet says two's complement, write `signed` in front of the layout"),
            );
        }
    }
}

/// The order of whole bytes in a layout: high first, low first, or neither.
fn order_of(layout: &Layout) -> Option<bool> {
    let bytes: Vec<usize> = layout.slices.iter().map(|slice| slice.byte).collect();
    let mut pairs = bytes.windows(2).map(|pair| pair.first() < pair.last());
    let first = pairs.next()?;
    pairs.all(|high_first| high_first == first).then_some(first)
}

fn byte_order(part: &Part, found: &mut Vec<Diagnostic>) {
    let codes: Vec<_> =
        part.codes.iter().filter(|code| code.field.is_none()).filter_map(|code| Some((code, order_of(&code.layout)?))).collect();
    let high_first = codes.iter().filter(|(_, high_first)| *high_first).count();
    let (odd, usual) = if high_first * 2 > codes.len() { (false, "high byte first") } else { (true, "low byte first") };
    let odd_ones: Vec<_> = codes.iter().filter(|(_, high_first)| *high_first == odd).collect();
    // One or two among many are a slip; where it is even, the part is like that.
    if odd_ones.is_empty() || odd_ones.len() * 3 > codes.len() {
        return;
    }
    for (code, _) in odd_ones {
        found.push(
            Diagnostic::warning(
                "byte-order-differs",
                code.span,
                format!("`{}` has another byte order than the part's other codes", code.name),
            )
            .label(format!("typed as {}; the others have the {usual}", code.layout.notation())),
        );
    }
}

fn repeated_formulas(part: &Part, found: &mut Vec<Diagnostic>) {
    let texts: Vec<String> =
        part.readings.iter().map(|r| part.source.slice(r.formula.span).split_whitespace().collect::<String>()).collect();
    let text = |index: usize| texts.get(index);
    for (index, reading) in part.readings.iter().enumerate() {
        let twin = part.readings.iter().take(index).enumerate().find(|(other, r)| r.unit != reading.unit && text(*other) == text(index));
        if let Some((_, twin)) = twin {
            found.push(
                Diagnostic::warning(
                    "formula-repeated",
                    reading.formula.span,
                    format!("`{}` in {} has the same formula as `{}` in {}", reading.name, reading.unit, twin.name, twin.unit),
                )
                .label("the same text")
                .also(twin.formula.span, "first here")
                .help("was it pasted?"),
            );
        }
    }
}

fn registers(part: &Part, found: &mut Vec<Diagnostic>) {
    for register in &part.registers {
        let fields = register.fields.iter().filter_map(|index| part.fields.get(*index));
        let of_fields = fields.fold(0, |mask, field| mask | field.mask_in(register));
        let reserved = register.reserved.iter().fold(0, |mask, reserved| mask | reserved.mask);
        if let Some(reset) = register.reset {
            for place in &register.reserved {
                if place.write.is_some_and(|write| reset & place.mask != write) {
                    found.push(
                        Diagnostic::warning(
                            "reset-sets-reserved",
                            register.span,
                            format!("the reset value {reset:#04X} of `{}` is not what must be written to its reserved bits", register.name),
                        )
                        .label("its reset value")
                        .also(place.span, "these bits"),
                    );
                }
            }
        }
        let left = register.mask() & !of_fields & !reserved;
        if left != 0 && !register.fields.is_empty() && register.access != Access::Reserved {
            let bits: Vec<String> = runs(left)
                .into_iter()
                .map(|(high, low)| if high == low { format!("[{high}]") } else { format!("[{high}:{low}]") })
                .collect();
            found.push(
                Diagnostic::warning(
                    "bits-unaccounted",
                    register.span,
                    format!("bits {} of `{}` belong to no field", bits.join(" "), register.name),
                )
                .label("has a gap")
                .help(format!("if they are reserved: reserved = {{ bits = \"{}\", write = 0 }}", bits.join(" "))),
            );
        }
    }
}

/// Runs of ones in a mask, the most significant first.
pub(crate) fn runs(mask: u64) -> Vec<(u32, u32)> {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for bit in (0..64).rev().filter(|bit| mask >> bit & 1 == 1) {
        match runs.last_mut().filter(|(_, low)| *low == bit + 1) {
            Some((_, low)) => *low = bit,
            None => runs.push((bit, bit)),
        }
    }
    runs
}

fn unused(part: &Part, tree: &tree::Sheet, used: &[String], found: &mut Vec<Diagnostic>) {
    if part.readings.is_empty() {
        return;
    }
    let texts: Vec<&str> = tree.examples.iter().flat_map(|example| &example.gives).map(|(name, _)| name.value.as_str()).collect();
    let mut told = Vec::new();
    for code in part.codes.iter().filter(|code| code.field.is_none() && code.layout.form != Form::Text) {
        let is_used = used.contains(&code.name) || texts.contains(&code.name.as_str());
        if !is_used && !told.contains(&code.span) {
            told.push(code.span);
            found.push(
                Diagnostic::warning("never-used", code.span, format!("the code `{}` is never used", code.name))
                    .label("no formula and no condition has it")
                    .help("if it is only to be seen, have an example expect it, or switch the warning off: allow = [\"never-used\"]"),
            );
        }
    }
    let supplied = tree.parameters.iter().map(|(name, _)| (name, "parameter"));
    let tables = tree.tables.iter().map(|(name, _)| (name, "table"));
    let shared = tree.shared.iter().map(|(name, _)| (name, "shared value"));
    for (name, what) in supplied.chain(tables).chain(shared).filter(|(name, _)| !mentioned(part, &name.value)) {
        found.push(
            Diagnostic::warning("never-used", name.span, format!("the {what} `{}` is never used", name.value)).label("no formula has it"),
        );
    }
    for frame in part.frames.iter().filter(|frame| frame.checks.is_empty()) {
        let taken = |byte: usize| {
            frame
                .codes
                .iter()
                .filter_map(|code| part.codes.get(*code))
                .any(|code| code.layout.slices.iter().any(|slice| slice.byte == byte))
        };
        if matches!(frame.origin, crate::model::part::Origin::Read { .. })
            && let Some(byte) = (0..frame.length).rfind(|byte| !taken(*byte))
        {
            found.push(
                Diagnostic::warning(
                    "not-checked",
                    frame.span,
                    format!("nothing uses b{byte} of `{}`, and the frame has no check", frame.name),
                )
                .label("a check value that is not checked?"),
            );
        }
    }
}

/// Whether the text of some formula has a name.
fn mentioned(part: &Part, name: &str) -> bool {
    let has = |text: &str| text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').any(|word| word == name);
    let readings = part
        .readings
        .iter()
        .flat_map(|reading| std::iter::once(reading.formula.span).chain(reading.status.iter().map(|condition| condition.span())));
    let quantities = part.quantities.iter().map(|quantity| quantity.formula.span);
    let computed = part.fields.iter().filter_map(|field| Some(field.computed.as_ref()?.span));
    let steps = part.routines.iter().flat_map(|routine| &routine.steps).map(|step| step.span);
    readings.chain(quantities).chain(computed).chain(steps).any(|span| has(part.source.slice(span)))
}

fn examples(part: &Part, found: &mut Vec<Diagnostic>) {
    if part.examples.is_empty() && !part.readings.is_empty() {
        found.push(
            Diagnostic::warning("no-example", crate::sheet::Span::new(0, 0), "the sheet has no worked example")
                .label("the datasheet has one, as a rule")
                .help("type it as [[example]]: it is what tells a slip from the truth"),
        );
    }
}

fn ranges(part: &Part, found: &mut Vec<Diagnostic>) {
    for (index, reading) in part.readings.iter().enumerate() {
        let (Some((low, high)), Some(extent)) = (reading.range, part.outcome(index).and_then(|outcome| outcome.extent)) else { continue };
        if extent.high < low || extent.low > high {
            found.push(
                Diagnostic::warning(
                    "range-never-reached",
                    reading.span,
                    format!(
                        "`{}` is stated from {low} to {high} {}, but comes out from {} to {}",
                        reading.name, reading.unit, extent.low, extent.high
                    ),
                )
                .label("no code gives a value in its range")
                .help("is the scale or the unit another one?"),
            );
        }
    }
}
