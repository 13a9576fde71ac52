//! The review of a sheet: what is not wrong, but is often meant otherwise.

use std::collections::HashSet;

use super::missed::missed;
use super::status_bits::status_bits;
use super::unsaid::{never_read, without_saturation};

use crate::bits::form::Form;
use crate::bits::layout::Layout;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::input::CurveId;
use crate::formula::typed::Formula;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::{Id, List};
use crate::ground::text::Span;
use crate::model::command::Command;
use crate::model::example::Subject;
use crate::model::frame::{Code, Frame, Origin};
use crate::model::ids::{FieldId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Step};
use crate::model::part::{Part, Sheet};
use crate::model::reading::Reading;
use crate::model::registers::Access;
use crate::model::registers::{runs, runs_text};
use crate::plan::frame::bounds;
use crate::predict::Prediction;

/// What is not wrong with a part's sheet, but is often meant otherwise: what reading it found, and what follows by
/// analysis, in the order of the text. What the sheet allows is left out.
pub fn warnings(part: &Part) -> Vec<Diagnostic> {
    warnings_with(part, &crate::predict::predict_all(part))
}

/// The same, where what can come out is known already.
pub(crate) fn warnings_with(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>) -> Vec<Diagnostic> {
    let mut found = part.lost.clone();
    signs(part, predictions, &mut found);
    byte_order(part, &mut found);
    repeated_formulas(part, &mut found);
    registers(part, &mut found);
    unused(part, &mut found);
    commands(part, &mut found);
    without_command(part, &mut found);
    conditions(part, &mut found);
    examples(part, &mut found);
    ranges(part, predictions, &mut found);
    missed(part, predictions, &mut found);
    without_saturation(part, predictions, &mut found);
    never_read(part, &mut found);
    found.retain(|d| !part.allowed.iter().any(|name| name == d.name));
    found.sort_by_key(|d| (d.span.start, d.span.end));
    found
}

fn signs(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    for (id, reading) in part.readings.entries() {
        let [Input::Code(code)] = inputs(&reading.formula).collect::<Vec<_>>()[..] else { continue };
        let (Some(code), Some((low, _))) = (part.codes.get(code), reading.fixed_range()) else { continue };
        if low >= 0.0 || code.layout.form != Form::Unsigned || code.layout.width() < 10 {
            continue;
        }
        let extent = predictions.get(id).and_then(|prediction| prediction.as_ref()?.extent);
        if extent.is_some_and(|extent| extent.low >= 0.0) {
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

/// Bounds of a formula and its expressions, from the bounds of its inputs.
pub(super) fn facts(part: &Sheet, formula: &Formula) -> Facts {
    // Nothing uses the formula's own result, so any key will do.
    let key = Input::Reading(ReadingId::new(0)).key();
    let mut all = Facts::of_all(&[(key, formula)], &part.curves, &|key| bounds(part, key));
    all.pop().unwrap_or_else(Facts::unknown)
}

/// Conditions that cannot hold, by the bounds of what they are about.
fn conditions(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let steps = part.routines.iter().flat_map(|routine| routine.steps.iter().map(move |step| (routine, step)));
    for (routine, step) in steps {
        let (Action::Poll { condition, .. } | Action::Expect(condition)) = &step.action else { continue };
        if matches!(facts(part, condition).result, Interval::Int(0, 0)) {
            let text = format!("`{}` never holds, whatever is read", part.typed(condition));
            let problem = Diagnostic::warning("never-holds", condition.span, text).label(format!("so `{}` always fails", routine.name));
            let range = |input: Input| {
                let field = part.fields.get(input.field()?)?;
                Some(format!("{} is {} to {}", field.name, field.bounds().0, field.bounds().1))
            };
            let ranges: Vec<String> = inputs(condition).filter_map(range).collect();
            found.push(if ranges.is_empty() { problem } else { problem.help(ranges.join(", ")) });
        }
    }
}

/// A routine sends a command, and then reads the frame that sends it itself.
fn commands(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for routine in &part.routines {
        let mut sent: Option<(&Command, Span)> = None;
        for step in &routine.steps {
            match &step.action {
                Action::Write(command) => sent = Some((command, step.span)),
                // Time may pass in between, or the part be looked at.
                Action::Wait { .. } | Action::Poll { .. } | Action::Line { .. } => {}
                Action::ReadFrame(frame) => {
                    let frame = part.frames.get(*frame);
                    if let Some((frame, (command, span))) = frame.zip(sent.take())
                        && let Origin::Read(one) = &frame.origin
                        && !command.is_empty()
                        && one.command.text(part) == command.text(part)
                    {
                        let text = format!("`{}` sends {} itself before it is read", frame.name, command.text(part));
                        found.push(
                            Diagnostic::warning("command-twice", span, text)
                                .label("sent here, and once more with the frame")
                                .also(frame.span, "the frame and its `command`")
                                .help("if the part needs time in between, give the frame `wait`; if it is sent twice, switch this warning off"),
                        );
                    }
                }
                _ => sent = None,
            }
        }
    }
}

/// A part with registers takes the first byte on SPI as an address, even during a read.
fn without_command(part: &Sheet, found: &mut Vec<Diagnostic>) {
    if part.buses.spi.is_none() || part.registers.is_empty() {
        return;
    }
    let bare = |frame: &&Frame| frame.origin.exchanges().first().is_some_and(|first| first.command.is_empty());
    for frame in part.frames.iter().filter(bare) {
        found.push(
            Diagnostic::warning("no-command", frame.span, format!("`{}` is read over SPI without a command", frame.name))
                .label("the part takes the first byte for the address of a register")
                .help("give it the `command` that the datasheet sends first"),
        );
    }
}

/// The order of whole bytes in a layout: high first, low first, or neither.
fn order_of(layout: &Layout) -> Option<bool> {
    let bytes: Vec<usize> = layout.slices.iter().map(|slice| slice.byte).collect();
    let mut pairs = bytes.windows(2).map(|pair| pair.first() < pair.last());
    let first = pairs.next()?;
    pairs.all(|high_first| high_first == first).then_some(first)
}

fn byte_order(part: &Sheet, found: &mut Vec<Diagnostic>) {
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

fn repeated_formulas(part: &Sheet, found: &mut Vec<Diagnostic>) {
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

fn registers(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for (at, register) in part.registers.iter().enumerate() {
        let both = |one: Access, other: Access| (one.is_readable() && other.is_readable()) || (one.is_writable() && other.is_writable());
        let twin = part.registers.iter().take(at).find(|other| other.at == register.at && other.bank == register.bank);
        if let Some(twin) = twin.filter(|twin| both(twin.access, register.access)) {
            found.push(
                Diagnostic::warning("same-address", register.span, format!("`{}` and `{}` share an address", twin.name, register.name))
                    .label(format!("at 0x{:02X} too", register.at))
                    .also(twin.span, "first here")
                    .help("where a field selects which of them is there, say so with `bank`"),
            );
        }
    }
    for register in &part.registers {
        let fields = part.fields.of(&register.fields);
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
            let bits = runs_text(&runs(left));
            found.push(
                Diagnostic::warning("bits-unaccounted", register.span, format!("bits {} of `{}` belong to no field", bits, register.name))
                    .label("has a gap")
                    .help(if register.access.is_writable() {
                        format!("if they are reserved: reserved = {{ bits = \"{bits}\", write = 0 }}")
                    } else {
                        format!("if they are reserved: reserved = {{ bits = \"{bits}\" }}")
                    }),
            );
        }
    }
}

/// Every formula of the part.
pub(super) fn formulas(part: &Sheet) -> impl Iterator<Item = &Formula> {
    let readings = part.readings.iter().flat_map(Reading::formulas);
    let sent = part.frames.iter().flat_map(|frame| frame.origin.formulas());
    let frames = part.frames.iter().flat_map(|frame| frame.status.iter().map(|c| &c.formula).chain(&frame.counted));
    let quantities = part.quantities.iter().flat_map(|quantity| std::iter::once(&quantity.formula).chain(&quantity.flag));
    let computed = part.fields.iter().filter_map(|field| field.computed.as_ref());
    let steps = part.routines.iter().flat_map(|routine| &routine.steps).flat_map(Step::formulas);
    readings.chain(sent).chain(frames).chain(quantities).chain(computed).chain(steps)
}

fn unused(part: &Sheet, found: &mut Vec<Diagnostic>) {
    if part.readings.is_empty() {
        return;
    }
    let mut used: HashSet<Input> = formulas(part).flat_map(inputs).collect();
    // A quantity that goes through a reading's formula takes the place of its code there.
    used.extend(part.quantities.iter().filter_map(|quantity| quantity.through).map(|(_, code)| code));
    let expected = part.examples.iter().flat_map(|example| &example.gives).filter_map(|(subject, ..)| match subject {
        Subject::Code(code) => Some(*code),
        Subject::Reading(_) | Subject::Quantity(_) | Subject::Step(..) => None,
    });
    used.extend(expected.map(Input::Code));
    let status = status_bits(part);
    let mut told: Vec<Span> = status.iter().map(|(id, _)| part.codes[*id].span).collect();
    found.extend(status.into_iter().map(|(_, warning)| warning));
    for (id, code) in part.codes.entries().filter(|(_, code)| code.field.is_none() && code.layout.form != Form::Text) {
        // Of an array all elements stand at one place; one that is used will do.
        let is_used = used.contains(&Input::Code(id)) || told.contains(&code.span);
        let twin = |other: &Code| other.span == code.span;
        if !is_used && !part.codes.entries().any(|(other, model)| twin(model) && used.contains(&Input::Code(other))) {
            told.push(code.span);
            found.push(
                Diagnostic::warning("never-used", code.span, format!("the code `{}` is never used", code.name))
                    .label("no formula and no condition has it")
                    .help("if it is only to be seen, have an example expect it, or switch the warning off: allow = [\"never-used\"]"),
            );
        }
    }
    let called: HashSet<CurveId> = formulas(part).flat_map(Formula::curves).collect();
    let parameters = part.parameters.entries().filter(|(id, _)| !used.contains(&Input::Parameter(*id)));
    let parameters = parameters.map(|(_, parameter)| (parameter.span, parameter.name.as_str(), "parameter"));
    let curves = part.curve_names.iter().enumerate().filter(|(at, _)| !called.iter().any(|id| id.0 as usize == *at));
    let curves = curves.map(|(_, (name, span))| (*span, name.as_str(), "table"));
    let shared = part.readings.entries().filter(|(id, reading)| reading.is_shared() && !used.contains(&Input::Reading(*id)));
    let shared = shared.map(|(_, reading)| (reading.span, reading.name.as_str(), "shared value"));
    let uses = |id: FieldId| used.iter().any(|input| input.field() == Some(id));
    let settings = part.fields.entries().filter(|(id, field)| field.register.is_none() && part.is_unstored(*id) && !uses(*id));
    let settings = settings.map(|(_, field)| (field.span, field.name.as_str(), "parameter"));
    for (span, name, what) in parameters.chain(settings).chain(curves).chain(shared) {
        found.push(Diagnostic::warning("never-used", span, format!("the {what} `{name}` is never used")).label("no formula has it"));
    }
    for frame in part.frames.iter().filter(|frame| frame.checks.is_empty()) {
        let named = || part.codes.of(&frame.codes).flat_map(|code| &code.layout.slices).chain(&frame.reserved);
        let taken = |byte: usize| named().any(|slice| slice.byte == byte);
        if matches!(frame.origin, Origin::Read(_))
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

fn examples(part: &Sheet, found: &mut Vec<Diagnostic>) {
    if part.examples.is_empty() && !part.readings.is_empty() {
        found.push(
            Diagnostic::warning("no-example", Span::new(0, 0), "the sheet has no worked example")
                .label("the datasheet has one, as a rule")
                .help("type it as [[example]]; otherwise make one at the bench: received bytes, and a reference value (24 ± 3 °C)"),
        );
    }
}

fn ranges(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    for (id, reading) in part.readings.entries() {
        let extent = predictions.get(id).and_then(|prediction| prediction.as_ref()?.extent);
        let (Some((low, high)), Some(extent)) = (reading.fixed_range(), extent) else { continue };
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
