//! Every step from bytes to readings, for people who want to see.

use super::columns::no_value;
use super::decoded::{CodeValue, FormulaFault};
use super::row::Room;
use crate::bits::form::Form;
use crate::bits::layout::{Layout, cut};
use crate::formula::fault::FaultKind;
use crate::formula::flat::program::{Note, NoteKind, Program};
use crate::formula::run::columns::FaultAt;
use crate::formula::run::single::Single;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;
use crate::model::frame::{Code, Frame};
use crate::model::ids::{FrameId, ReadingId};
use crate::model::input::Input;
use crate::model::part::Sheet;
use crate::model::value::Present;
use crate::plan::frame::{InputSource, Plan, PlanFor, ReadingPlan};

/// The steps of one frame.
#[derive(Clone, Debug)]
pub struct Steps {
    /// The frame.
    pub frame: FrameId,
    /// Its checks, passed or not.
    pub checks: Vec<CheckStep>,
    /// Its codes.
    pub codes: Vec<CodeStep>,
    /// Its readings.
    pub readings: Vec<ReadingSteps>,
    /// The bytes of the frame itself.
    pub bytes: Vec<u8>,
}

/// A check: covered bytes, computed value, received value.
#[derive(Clone, Debug)]
pub struct CheckStep {
    /// The method, such as `CRC-8`.
    pub method: String,
    /// Bits of the check value.
    pub width: u32,
    /// The value that the bytes call for.
    pub expected: u64,
    /// The value that came.
    pub found: u64,
    /// For every byte of the frame, for every bit from 7 to 0: whether it is covered.
    pub over: Vec<[bool; 8]>,
    /// Covered bytes outside the frame: address bytes and constants.
    pub outside: Vec<String>,
    /// The same as `over` for the check value's own place.
    pub place: Vec<[bool; 8]>,
}

/// A code: its bits and its number.
#[derive(Clone, Debug)]
pub struct CodeStep {
    /// The code and its value.
    pub value: CodeValue,
    /// For every byte of the frame, for every bit from 7 to 0: whether it belongs to the code.
    pub bits: Vec<[bool; 8]>,
}

/// How a reading is computed, line by line.
#[derive(Clone, Debug)]
pub struct ReadingSteps {
    /// Name of the reading.
    pub name: String,
    /// The values that are computed, in order; the last is the formula's own.
    pub lines: Vec<FormulaLine>,
    /// Why the formula gives no value, where it gives none.
    pub fault: Option<FormulaFault>,
}

/// One computed value of a formula.
#[derive(Clone, Debug, PartialEq)]
pub struct FormulaLine {
    /// The variable that takes it; `None` for the formula's own value.
    pub variable: Option<String>,
    /// The expression as typed.
    pub typed: String,
    /// The expression with numbers in the place of names; names of values that are at fault stay.
    pub numbers: String,
    /// Value; `None` after a fault of the formula.
    pub value: Option<Number>,
}

impl FormulaLine {
    /// The value in words: `15`, `7.5`, `no value`.
    pub fn outcome(&self) -> String {
        self.value.map_or_else(|| "no value".to_owned(), |value| value.to_string())
    }

    /// The value in hex, as its type stores it; `None` for reals.
    pub fn hex(&self) -> Option<String> {
        let Number::Int(value, ty) = self.value? else { return None };
        let bits = ty.promoted().bits();
        let digits = usize::try_from(bits / 4).unwrap_or(8);
        let mask = if bits >= 64 { u64::MAX } else { (1u64 << bits) - 1 };
        Some(format!("0x{:0digits$X}", (value as u64) & mask))
    }
}

/// The steps of a frame, of whose bytes the first ones came.
pub(crate) fn steps(state: &Present<'_>, id: FrameId, frame: &Frame, given: &[u8], bytes: &[u8]) -> Steps {
    let part = state.part;
    let marks = |slices: &[crate::bits::layout::Slice]| -> Vec<[bool; 8]> {
        (0..frame.length).map(|byte| std::array::from_fn(|at| slices.iter().any(|slice| slice.takes(byte, 7 - at as u8)))).collect()
    };
    let checks = frame.checks.iter().map(|check| CheckStep {
        method: check.method(),
        width: check.width(),
        expected: check.expected(bytes),
        found: check.found(bytes),
        over: marks(&check.covered()),
        outside: check.outside(),
        place: marks(&check.place),
    });
    let came =
        frame.codes.iter().filter_map(|code| Some((*code, part.codes.get(*code)?))).filter(|(_, code)| code.last_byte() < given.len());
    let codes = came.filter_map(|(id, code)| Some(CodeStep { bits: marks(&code.layout.slices), value: CodeValue::of(part, id, bytes)? }));
    Steps {
        frame: id,
        checks: checks.collect(),
        codes: codes.collect(),
        readings: reading_steps(state, id, bytes, given.len()),
        bytes: given.to_vec(),
    }
}

/// Why a reading of a frame has no value, with the operation that failed as typed and with the values at hand.
pub(crate) fn fault(state: &Present<'_>, frame: FrameId, bytes: &[u8], reading: ReadingId) -> Option<FormulaFault> {
    let plan = Plan::new(state.part, frame, PlanFor::Steps);
    let mut room = Room::new(&plan);
    super::row::run(&plan, &mut room, state, bytes);
    let planned = plan.readings.iter().find(|planned| planned.id == reading)?;
    let conditions = planned.conditions.iter().filter(|condition| condition.applies(state.state, frame, bytes.len()));
    let mut outputs = std::iter::once(planned.output).chain(conditions.map(|condition| condition.output));
    let (output, fault) = outputs.find_map(|at| Some((at, Used::new(&plan.program, &room.single, at).fault(state.part)?)))?;
    Some(match fault {
        FormulaFault { kind: FaultKind::NoValue, line: None, operation: None } => {
            FormulaFault { operation: without_value(&plan, state, output, bytes), ..fault }
        }
        other => other,
    })
}

/// Reason for an output without a value: its invalid input.
fn without_value(plan: &Plan, state: &Present<'_>, output: usize, bytes: &[u8]) -> Option<String> {
    let part = state.part;
    let input = |slot| plan.program.inputs.iter().find(|(known, _)| *known == slot).map(|(_, key)| Input::of(*key));
    plan.loads.iter().filter(|load| load.users.iter().any(|one| one.output == output)).find_map(|load| match input(load.slot)? {
        Input::Code(id) => {
            let code = part.codes.get(id)?;
            let bytes = if matches!(load.from, InputSource::Held(_)) { state.state.frame(code.frame)? } else { bytes };
            code_without_value(code, bytes)
        }
        Input::Field(field) | Input::Column(field, _) => {
            let field = part.fields.get(field)?;
            let from_frame = match &load.from {
                InputSource::Frame(gather, _) | InputSource::FrameReal(gather) | InputSource::FrameRow(gather, _) => {
                    Some(gather.code(bytes))
                }
                InputSource::Held(_) => None,
            };
            match from_frame.map_or_else(|| state.state.value_of(field), |code| code.map(i128::from)) {
                None if from_frame.is_none() && !state.state.has_value_of(field) => Some(format!("{} was never read or set", field.name)),
                None => Some(format!("{} is not BCD", field.name)),
                Some(code) if !field.values.is_empty() && field.value(code).is_none() => {
                    Some(format!("{} = {code} is not in its table", field.name))
                }
                Some(_) => None,
            }
        }
        _ => None,
    })
}

/// Reason for an invalid code; `None` for a valid one.
fn code_without_value(code: &Code, bytes: &[u8]) -> Option<String> {
    let (name, width) = (&code.name, code.layout.width());
    let raw = code.gather.raw(bytes);
    let Some(value) = code.gather.code(bytes) else {
        let digits = width.div_ceil(4) as usize;
        let bad = (0..width.div_ceil(4)).rev().find(|digit| raw >> (4 * digit) & 0xF > 9)?;
        let slices = cut(&code.layout.slices, (4 * bad + 3).min(width - 1), 4 * bad);
        let place = Layout { form: Form::Unsigned, slices }.notation();
        return Some(format!("{name}: 0x{raw:0digits$X} is not BCD: digit {:X} in {place}", raw >> (4 * bad) & 0xF));
    };
    let (low, high) = code.range?;
    let value = if code.ty == Ty::U64 { i128::from(value as u64) } else { i128::from(value) };
    (!(low..=high).contains(&value)).then(|| format!("{name} = {value} is outside the codes {low} to {high}"))
}

/// Used inputs and results of a formula in a run.
struct Used<'r> {
    /// Assigned and returned values in executed branches.
    notes: Vec<&'r Note>,
    /// Names, and the numbers that they stood for.
    numbers: Vec<(Span, Number)>,
    /// Names of values that are at fault.
    at_fault: Vec<Span>,
    /// The formula's own fault.
    fault: Option<FaultAt>,
}

/// The lines of a formula in a program that notes them, which was run.
pub(crate) fn formula_lines(part: &Sheet, name: &str, program: &Program, machine: &Single, output: usize) -> ReadingSteps {
    let used = Used::new(program, machine, output);
    let mut lines = Vec::new();
    let mut failed = false;
    for note in &used.notes {
        let variable = match &note.what {
            NoteKind::Use => continue,
            NoteKind::Set(name) => Some(name.clone()),
            NoteKind::Return => None,
        };
        // Results of missing values are missing.
        failed |= used.fails_in(note.span);
        let value = machine.number(note.slot, note.ty).filter(|_| !failed);
        let typed = one_line(part.source.slice(note.span));
        let numbers = used.in_numbers(part, note.span);
        lines.push(FormulaLine { variable, typed, numbers, value });
    }
    ReadingSteps { name: name.to_owned(), lines, fault: used.fault(part) }
}

impl<'r> Used<'r> {
    fn new(program: &'r Program, machine: &Single, output: usize) -> Self {
        let holds = |note: &&Note| match note.guard {
            Some(guard) => machine.number(guard, Ty::I32).is_some_and(|truth| truth.to_f64() != 0.0),
            None => true,
        };
        let of_output = program.notes.iter().filter(|note| note.owner as usize == output).filter(holds);
        let (uses, notes): (Vec<&Note>, Vec<&Note>) = of_output.partition(|note| note.what == NoteKind::Use);
        let is_at_fault = |note: &&Note| {
            let mut outputs = program.outputs.iter().enumerate().filter(|(_, (slot, _))| *slot == note.slot);
            outputs.any(|(other, _)| other != output && machine.output(program, other).is_err())
        };
        let (at_fault, sound): (Vec<&Note>, Vec<&Note>) = uses.into_iter().partition(is_at_fault);
        Self {
            notes,
            numbers: sound.iter().filter_map(|note| Some((note.span, machine.number(note.slot, note.ty)?))).collect(),
            at_fault: at_fault.iter().map(|note| note.span).collect(),
            fault: machine.output(program, output).err(),
        }
    }

    fn fault(&self, part: &Sheet) -> Option<FormulaFault> {
        let (kind, span) = self.fault?;
        let line = span.map(|span| part.source.line_column(span.start).0);
        // Of values that are needed the names are said, each once.
        let mut names: Vec<&str> = self.at_fault.iter().map(|span| part.source.slice(*span)).collect();
        names.dedup();
        let needed = (kind == FaultKind::Needed && !names.is_empty()).then(|| names.join(", "));
        Some(FormulaFault { kind, line, operation: span.map(|span| self.in_numbers(part, span)).or(needed) })
    }

    /// An expression with numbers in the place of names.
    fn in_numbers(&self, part: &Sheet, span: Span) -> String {
        one_line(&put_in(part.source.slice(span), span, &self.numbers))
    }

    /// Whether an expression is where the fault is.
    fn fails_in(&self, span: Span) -> bool {
        let inside = |at: &Span| span.start <= at.start && at.end <= span.end;
        match self.fault {
            // NaN is a computed value, and is shown.
            None | Some((FaultKind::NotFinite, _)) => false,
            Some((FaultKind::NoValue, None)) => true,
            Some((_, at)) => at.iter().chain(&self.at_fault).any(inside),
        }
    }
}

fn reading_steps(state: &Present<'_>, frame: FrameId, bytes: &[u8], given: usize) -> Vec<ReadingSteps> {
    let part = state.part;
    let plan = Plan::new(part, frame, PlanFor::Steps);
    let mut room = Room::new(&plan);
    super::row::run(&plan, &mut room, state, bytes);
    let machine = &room.single;
    let shown: Vec<&ReadingPlan> = plan.readings.iter().filter(|planned| no_value(planned, state, given).is_none()).collect();
    let beside = plan.beside.iter().copied().filter(|(index, _)| {
        // A shared value has something to say where a reading that uses it has.
        shown.iter().any(|planned| part.needed(planned.id).contains(index))
    });
    let mut all = Vec::new();
    for (index, output) in beside.chain(shown.iter().map(|planned| (planned.id, planned.output))) {
        let Some(reading) = part.readings.get(index) else { continue };
        all.push(formula_lines(part, &reading.name, &plan.program, machine, output));
    }
    all
}

/// The text of `span` with every used name replaced by its number.
fn put_in(text: &str, span: Span, uses: &[(Span, Number)]) -> String {
    let mut inside: Vec<&(Span, Number)> = uses.iter().filter(|(at, _)| span.start <= at.start && at.end <= span.end).collect();
    inside.sort_by_key(|(at, _)| at.start);
    let mut result = String::new();
    let mut from = 0;
    for (at, number) in inside {
        let (start, end) = (at.start - span.start, at.end - span.start);
        if start < from {
            continue;
        }
        result.push_str(text.get(from..start).unwrap_or(""));
        result.push_str(&number.to_string());
        from = end;
    }
    result.push_str(text.get(from..).unwrap_or(""));
    result
}

/// Blanks and line breaks folded; a formula's line may be broken in the sheet.
fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
