//! Every step from bytes to readings, for people who want to see.

use super::columns::State;
use super::decoded::CodeValue;
use super::decoder::code_value;
use super::plan::Plan;
use super::row::Room;
use crate::formula::program::{Note, NoteKind};
use crate::formula::types::{Number, Ty};
use crate::model::part::{Frame, Part};
use crate::sheet::text::Span;

/// The steps of one frame.
#[derive(Clone, Debug)]
pub struct Steps<'p> {
    /// The frame in the model.
    pub frame: &'p Frame,
    /// Its checks, passed or not.
    pub checks: Vec<CheckStep>,
    /// Its codes.
    pub codes: Vec<CodeStep<'p>>,
    /// Its readings.
    pub readings: Vec<ReadingSteps<'p>>,
    /// The bytes of the frame itself.
    pub bytes: Vec<u8>,
}

/// A check: what is covered, what was called for, what came.
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
    /// What is covered and does not stand in the frame: address bytes and constants.
    pub outside: Vec<String>,
    /// The same as `over` for the check value's own place.
    pub place: Vec<[bool; 8]>,
}

/// A code: its bits and its number.
#[derive(Clone, Debug)]
pub struct CodeStep<'p> {
    /// The code and its value.
    pub value: CodeValue<'p>,
    /// For every byte of the frame, for every bit from 7 to 0: whether it belongs to the code.
    pub bits: Vec<[bool; 8]>,
}

/// How a reading is computed, line by line.
#[derive(Clone, Debug)]
pub struct ReadingSteps<'p> {
    /// Name of the reading.
    pub name: &'p str,
    /// The values that are computed, in order; the last is the formula's own.
    pub lines: Vec<FormulaLine>,
}

/// One computed value of a formula.
#[derive(Clone, Debug, PartialEq)]
pub struct FormulaLine {
    /// The variable that takes it; `None` for the formula's own value.
    pub variable: Option<String>,
    /// The expression as typed.
    pub typed: String,
    /// The expression with numbers in the place of names.
    pub numbers: String,
    /// The value.
    pub value: Number,
}

impl FormulaLine {
    /// The value in hex, as its type stores it; `None` for reals.
    pub fn hex(&self) -> Option<String> {
        let Number::Int(value, ty) = self.value else { return None };
        let bits = ty.promoted().bits();
        let digits = usize::try_from(bits / 4).unwrap_or(8);
        let mask = if bits >= 64 { u64::MAX } else { (1u64 << bits) - 1 };
        Some(format!("0x{:0digits$X}", (value as u64) & mask))
    }
}

/// The steps of a frame, of whose bytes the first `given` came.
pub(crate) fn steps<'p>(state: &State<'_>, part: &'p Part, index: usize, frame: &'p Frame, given: &[u8], bytes: &[u8]) -> Steps<'p> {
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
    let codes = frame.codes.iter().filter_map(|code| code_value(part, *code, bytes)).filter(|code| code.code.last_byte() < given.len());
    let codes = codes.map(|value| CodeStep { bits: marks(&value.code.layout.slices), value });
    Steps {
        frame,
        checks: checks.collect(),
        codes: codes.collect(),
        readings: reading_steps(state, part, index, bytes, given.len()),
        bytes: given.to_vec(),
    }
}

/// The operation that failed, as typed and with the values at hand.
pub(crate) fn fault_text(state: &State<'_>, part: &Part, frame: usize, bytes: &[u8], reading: usize) -> Option<String> {
    let plan = Plan::new(part, frame, true);
    let mut room = Room::new(&plan);
    super::row::run(&plan, &mut room, state, bytes);
    let machine = &room.single;
    let output = plan.readings.iter().find(|planned| planned.index == reading)?.output;
    let (_, span) = machine.output(&plan.program, output).err()?;
    let uses: Vec<(Span, Number)> = plan
        .program
        .notes
        .iter()
        .filter(|note| note.owner as usize == output && note.what == NoteKind::Use)
        .filter_map(|note| Some((note.span, machine.number(note.slot, note.ty)?)))
        .collect();
    span.map(|span| one_line(&put_in(part.source.slice(span), span, &uses)))
}

fn reading_steps<'p>(state: &State<'_>, part: &'p Part, frame: usize, bytes: &[u8], given: usize) -> Vec<ReadingSteps<'p>> {
    let plan = Plan::new(part, frame, true);
    let mut room = Room::new(&plan);
    super::row::run(&plan, &mut room, state, bytes);
    let machine = &room.single;
    let holds = |note: &&Note| match note.guard {
        Some(guard) => machine.number(guard, Ty::I32).is_some_and(|truth| truth.to_f64() != 0.0),
        None => true,
    };
    let missing = |planned: &super::plan::ReadingPlan| planned.needs.iter().any(|frame| state.last.get(*frame).is_none_or(Option::is_none));
    let shown: Vec<&super::plan::ReadingPlan> =
        plan.readings.iter().filter(|planned| planned.last_byte < given && !missing(planned)).collect();
    let beside = plan.beside.iter().copied().filter(|(index, _)| {
        // A shared value has something to say where a reading that uses it has.
        shown.iter().any(|planned| crate::model::needed(part, planned.index).contains(index))
    });
    let mut all = Vec::new();
    for (index, output) in beside.chain(shown.iter().map(|planned| (planned.index, planned.output))) {
        let Some(reading) = part.readings.get(index) else { continue };
        let notes: Vec<&Note> = plan.program.notes.iter().filter(|note| note.owner as usize == output).filter(holds).collect();
        let uses: Vec<(Span, Number)> = notes
            .iter()
            .filter(|note| note.what == NoteKind::Use)
            .filter_map(|note| Some((note.span, machine.number(note.slot, note.ty)?)))
            .collect();
        let mut lines = Vec::new();
        for note in &notes {
            let variable = match &note.what {
                NoteKind::Use => continue,
                NoteKind::Set(name) => Some(name.clone()),
                NoteKind::Return => None,
            };
            let Some(value) = machine.number(note.slot, note.ty) else { continue };
            let typed = one_line(part.source.slice(note.span));
            let numbers = one_line(&put_in(part.source.slice(note.span), note.span, &uses));
            lines.push(FormulaLine { variable, typed, numbers, value });
        }
        all.push(ReadingSteps { name: &reading.name, lines });
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
