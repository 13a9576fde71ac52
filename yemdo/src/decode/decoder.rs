//! The decoder of a part.

use std::fmt;

use super::columns::{self, Columns};
use super::plan::Plan;
use super::steps::{self, Steps};
use crate::formula::program::FaultKind;
use crate::formula::run::{LANES, Machine};
use crate::model::part::{Code, Frame, Part, Status};

/// Why a frame was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// There is no frame of that index.
    UnknownFrame,
    /// The frame has too few or too many bytes.
    Length {
        /// Name of the frame.
        frame: String,
        /// Bytes that it has by the sheet.
        expected: usize,
        /// Bytes that came.
        found: usize,
    },
    /// A check failed.
    Check {
        /// Name of the frame.
        frame: String,
        /// The method, such as `CRC-8`.
        method: String,
        /// Bits of the check value.
        width: u32,
        /// What the bytes call for.
        expected: u64,
        /// What came.
        found: u64,
    },
}

impl Refusal {
    /// The cause in one or two words, for counting.
    pub fn cause(&self) -> &'static str {
        match self {
            Refusal::UnknownFrame => "unknown frame",
            Refusal::Length { expected, found, .. } if found < expected => "too short",
            Refusal::Length { .. } => "too long",
            Refusal::Check { .. } => "check failed",
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Refusal::UnknownFrame => f.write_str("there is no such frame"),
            Refusal::Length { frame, expected, found } => {
                let what = if found < expected { "too short" } else { "too long" };
                write!(f, "{what}: {frame} has {expected} bytes, {found} came")
            }
            Refusal::Check { frame, method, width, expected, found } => {
                let digits = usize::try_from(width.div_ceil(4)).unwrap_or(2);
                write!(f, "{method} of {frame} failed: its bytes call for 0x{expected:0digits$X}, but 0x{found:0digits$X} came")
            }
        }
    }
}

impl std::error::Error for Refusal {}

/// A fault of a formula.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fault {
    /// What went wrong.
    pub kind: FaultKind,
    /// Line of the sheet, from 1; `None` where it is about the formula as a whole.
    pub line: Option<usize>,
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            Some(line) => write!(f, "{} in line {line} of the sheet", self.kind.describe()),
            None => f.write_str(self.kind.describe()),
        }
    }
}

/// A code of a frame, with its name.
#[derive(Clone, Debug, PartialEq)]
pub struct CodeValue<'p> {
    /// The code in the model.
    pub code: &'p Code,
    /// The joined bits.
    pub raw: u64,
    /// The number that they make.
    pub value: i128,
}

/// A reading.
#[derive(Clone, Debug)]
pub struct Reading<'p> {
    /// Its name.
    pub name: &'p str,
    /// Its unit.
    pub unit: &'p str,
    /// Its value in that unit; `None` where the status has no value.
    pub value: Option<f64>,
    /// How far it is to be believed.
    pub status: Status,
    /// The datasheet's words for the status, where it has some.
    pub means: Option<&'p str>,
    /// What went wrong in its formula.
    pub fault: Option<Fault>,
    /// The codes that it comes from.
    pub codes: Vec<CodeValue<'p>>,
    /// Decimals worth showing.
    pub decimals: usize,
}

/// One frame, decoded.
#[derive(Clone, Debug)]
pub struct Decoded<'p> {
    /// The frame in the model.
    pub frame: &'p Frame,
    /// All its codes.
    pub codes: Vec<CodeValue<'p>>,
    /// Its readings, in the sheet's order.
    pub readings: Vec<Reading<'p>>,
}

impl<'p> Decoded<'p> {
    /// The reading of that name.
    pub fn reading(&self, name: &str) -> Option<&Reading<'p>> {
        self.readings.iter().find(|reading| reading.name == name)
    }
}

/// Turns the frames of one part into readings. It holds the compiled formulas and all the room they need, so
/// make one and keep it.
#[derive(Clone, Debug)]
pub struct Decoder<'p> {
    part: &'p Part,
    frames: Vec<Ready>,
}

/// A frame's plan and the room to run it in.
#[derive(Clone, Debug)]
struct Ready {
    plan: Plan,
    many: Machine,
    single: Machine,
    columns: Columns,
}

impl<'p> Decoder<'p> {
    /// Compiles the formulas of a part.
    pub fn new(part: &'p Part) -> Self {
        let ready = |frame| {
            let plan = Plan::new(part, frame, false);
            Ready {
                many: Machine::new(&plan.program, LANES, false),
                single: Machine::new(&plan.program, 1, false),
                plan,
                columns: Columns::new(),
            }
        };
        Self { part, frames: (0..part.frames.len()).map(ready).collect() }
    }

    /// The part.
    pub fn part(&self) -> &'p Part {
        self.part
    }

    /// Decodes one frame, named by its index in [`Part::frames`].
    ///
    /// # Errors
    /// [`Refusal`]: the frame has another length, or a check failed.
    pub fn decode(&mut self, frame: usize, bytes: &[u8]) -> Result<Decoded<'p>, Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        accept_length(model, bytes.len())?;
        columns::decode(&ready.plan, &mut ready.single, &model.checks, model.length, bytes, &mut ready.columns);
        if let Some(failed) = ready.columns.failed_check.first().filter(|failed| **failed != 0) {
            return Err(check_refusal(model, usize::from(*failed) - 1, bytes));
        }
        let codes: Vec<CodeValue<'p>> = model.codes.iter().filter_map(|code| code_value(self.part, *code, bytes)).collect();
        let mut readings = Vec::with_capacity(ready.plan.readings.len());
        for (at, planned) in ready.plan.readings.iter().enumerate() {
            let Some(reading) = self.part.readings.get(planned.index) else { continue };
            let first = |column: Option<&Vec<f64>>| column.and_then(|values| values.first()).copied();
            let status = ready.columns.status.get(at).and_then(|column| column.first()).copied().unwrap_or_default();
            let source = &self.part.source;
            let fault = match ready.single.output(&ready.plan.program, planned.output, 0) {
                Err((kind, span)) if status == Status::FormulaFault => {
                    Some(Fault { kind, line: span.map(|span| source.line_column(span.start).0) })
                }
                _ => None,
            };
            let conditions = model.status.iter().chain(&reading.status);
            let holding =
                planned.conditions.iter().zip(conditions).find(|((output, _), _)| {
                    ready.single.output(&ready.plan.program, *output, 0).is_ok_and(|number| number.to_f64() != 0.0)
                });
            readings.push(Reading {
                name: &reading.name,
                unit: &reading.unit,
                value: first(ready.columns.values.get(at)).filter(|_| status.has_value()),
                status,
                means: holding.and_then(|(_, condition)| condition.means.as_deref()),
                fault,
                codes: reading.codes.iter().filter_map(|code| code_value(self.part, *code, bytes)).collect(),
                decimals: reading.decimals,
            });
        }
        Ok(Decoded { frame: model, codes, readings })
    }

    /// Decodes frames that follow one another in `bytes` into columns; what `out` held before is forgotten.
    /// A frame that fails a check does not stop the others.
    ///
    /// # Errors
    /// [`Refusal::Length`] where the last frame is cut short, [`Refusal::UnknownFrame`]; nothing is decoded then.
    pub fn decode_many(&mut self, frame: usize, bytes: &[u8], out: &mut Columns) -> Result<(), Refusal> {
        let (model, ready) = self.part.frames.get(frame).zip(self.frames.get_mut(frame)).ok_or(Refusal::UnknownFrame)?;
        if !bytes.len().is_multiple_of(model.length) {
            accept_length(model, bytes.len() % model.length)?;
        }
        columns::decode(&ready.plan, &mut ready.many, &model.checks, model.length, bytes, out);
        Ok(())
    }

    /// Why a frame fails one of its checks, by the check's index.
    pub fn check_refusal(&self, frame: usize, check: usize, bytes: &[u8]) -> Refusal {
        self.part.frames.get(frame).map_or(Refusal::UnknownFrame, |model| check_refusal(model, check, bytes))
    }

    /// Every step from the bytes of a frame to its readings. A failed check is among the steps, and does not
    /// stop them.
    ///
    /// # Errors
    /// [`Refusal::Length`], [`Refusal::UnknownFrame`].
    pub fn steps(&mut self, frame: usize, bytes: &[u8]) -> Result<Steps<'p>, Refusal> {
        let model = self.part.frames.get(frame).ok_or(Refusal::UnknownFrame)?;
        accept_length(model, bytes.len())?;
        Ok(steps::steps(self.part, frame, model, bytes))
    }
}

/// Refuses bytes that are too few or too many.
pub(crate) fn accept_length(frame: &Frame, found: usize) -> Result<(), Refusal> {
    if found == frame.length { Ok(()) } else { Err(Refusal::Length { frame: frame.name.clone(), expected: frame.length, found }) }
}

fn check_refusal(frame: &Frame, check: usize, bytes: &[u8]) -> Refusal {
    frame.checks.get(check).map_or(Refusal::UnknownFrame, |check| Refusal::Check {
        frame: frame.name.clone(),
        method: check.method(),
        width: check.width(),
        expected: check.expected(bytes),
        found: check.found(bytes),
    })
}

pub(crate) fn code_value<'p>(part: &'p Part, code: usize, bytes: &[u8]) -> Option<CodeValue<'p>> {
    let code = part.codes.get(code)?;
    Some(CodeValue { code, raw: code.gather.raw(bytes), value: code.value(bytes) })
}

impl PartialEq for Code {
    fn eq(&self, other: &Code) -> bool {
        self.name == other.name && self.frame == other.frame && self.layout == other.layout
    }
}
