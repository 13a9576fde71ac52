//! Operations on a part: quantities stored in its fields, and routines.

use super::command::Command;
use super::ids::{FieldId, FrameId, QuantityId, ReadingId, RegisterId, RoutineId};
use super::input::Input;
use super::part::Sheet;
use crate::formula::typed::Formula;
use crate::ground::text::Span;

/// Maximum number of codes of one field, or pairs of codes of two, to try for a value.
pub(crate) const MOST_TRIED: usize = 1 << 17;

/// A physical value that fields hold, such as a threshold.
#[derive(Clone, Debug)]
pub struct Quantity {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) unit: String,
    /// It is a difference of values of its unit.
    pub(crate) difference: bool,
    /// Its value, or, with `through`, what takes the place of that reading's code.
    pub(crate) formula: Formula,
    /// The reading whose formula it goes through, and the code, or the field of a frame, whose place it takes.
    pub(crate) through: Option<(ReadingId, Input)>,
    /// Fields that may be changed to set it.
    pub(crate) moves: Vec<FieldId>,
    /// Another that it must not be below.
    pub(crate) not_below: Option<QuantityId>,
    pub(crate) alert: Option<Alert>,
    pub(crate) flag: Option<Formula>,
    pub(crate) means: Option<String>,
    pub(crate) source: Option<String>,
}

/// On which side of a threshold the part raises its alert.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Alert {
    /// The reading is above it.
    Above,
    /// The reading is below it.
    Below,
}

impl Quantity {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Its unit, as a symbol.
    pub fn unit(&self) -> &str {
        &self.unit
    }

    /// The fields that may be changed to set it.
    pub fn moves(&self) -> &[FieldId] {
        &self.moves
    }

    /// The side on which the part raises its alert, where it is a threshold.
    pub fn alert(&self) -> Option<Alert> {
        self.alert
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
    }

    /// Where the datasheet says so.
    pub fn source(&self) -> Option<&str> {
        self.source.as_deref()
    }
}

/// Steps that are done with the part.
#[derive(Clone, Debug)]
pub struct Routine {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) steps: Vec<Step>,
}

impl Routine {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its place in the sheet.
    pub fn span(&self) -> Span {
        self.span
    }

    /// Its steps, in order.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }
}

/// A step of a routine.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its place in the sheet.
    pub span: Span,
    /// Action.
    pub action: Action,
    /// It is only done where this holds.
    pub when: Option<Formula>,
    /// How often it is done.
    pub repeat: u32,
    /// How often it is tried again where the part does not acknowledge.
    pub retry: u32,
    /// A missing acknowledgement is not an error.
    pub may_nak: bool,
    /// From one poll, or try, to the next.
    pub every: Time,
    /// The datasheet's words for it.
    pub means: Option<String>,
    /// Where the datasheet says so.
    pub source: Option<String>,
}

impl Step {
    /// Its formulas.
    pub(crate) fn formulas(&self) -> Vec<&Formula> {
        self.condition().into_iter().chain(self.other_formulas()).collect()
    }

    /// The condition that it waits for or expects, asked after its reads.
    pub(crate) fn condition(&self) -> Option<&Formula> {
        match &self.action {
            Action::Poll { condition, .. } | Action::Expect(condition) => Some(condition),
            _ => None,
        }
    }

    /// All formulas but its [`condition`](Self::condition).
    pub(crate) fn other_formulas(&self) -> Vec<&Formula> {
        let mut all: Vec<&Formula> = self.when.iter().collect();
        all.extend(if let Time::Formula(every) = &self.every { Some(every) } else { None });
        match &self.action {
            Action::Poll { within: Time::Formula(formula), .. }
            | Action::Wait { time: Time::Formula(formula), .. }
            | Action::Line { within: Time::Formula(formula), .. } => all.push(formula),
            Action::Poll { .. } | Action::Expect(_) => {}
            Action::Write(command) => all.extend(command.formulas()),
            Action::Wait { .. } | Action::Line { .. } | Action::WriteRegisters(_) | Action::Set { .. } => {}
            Action::ReadFrame(_) | Action::ReadRegisters(_) | Action::Run(_) => {}
        }
        all
    }
}

/// Action of a step.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Action {
    /// Bytes are sent.
    Write(Command),
    /// Writes registers with the present values of their fields; recomputes `computed` fields.
    WriteRegisters(Vec<RegisterId>),
    /// Fields get codes, and their registers are written.
    Set {
        /// The fields and their codes.
        fields: Vec<(FieldId, i128)>,
        /// The registers are read back and compared.
        verify: bool,
    },
    /// A frame is read.
    ReadFrame(FrameId),
    /// Registers are read.
    ReadRegisters(Vec<RegisterId>),
    /// Time passes.
    Wait {
        /// The time by the datasheet.
        time: Time,
        /// Its tolerance: so much of it is added.
        tolerance: f64,
    },
    /// Reads the inputs of a condition until it is true.
    Poll {
        /// The condition.
        condition: Formula,
        /// The longest time.
        within: Time,
    },
    /// The data-ready line is waited for.
    Line {
        /// The level that is waited for.
        high: bool,
        /// The longest time.
        within: Time,
    },
    /// Reads the inputs of a condition once; it must be true.
    Expect(Formula),
    /// Another routine.
    Run(RoutineId),
}

impl Sheet {
    /// The steps of a routine in order, with those of the routines that it runs in their places; for each, whether it is done in any case.
    pub fn steps_within(&self, routine: RoutineId) -> Vec<(&Step, bool)> {
        let steps = |routine: RoutineId| self.routines.get(routine).map_or(&[] as &[Step], Routine::steps).iter();
        let mut found = Vec::new();
        // Sheets in which a routine runs itself are refused.
        let mut open = vec![(steps(routine), true)];
        while let Some((rest, always)) = open.last_mut() {
            let Some(step) = rest.next() else {
                open.pop();
                continue;
            };
            let always = *always && step.when.is_none();
            match step.action {
                Action::Run(other) => open.push((steps(other), always)),
                _ => found.push((step, always)),
            }
        }
        found
    }
}

/// A tolerance in thousandths, rounded up.
pub(crate) fn thousandths(tolerance: f64) -> u32 {
    // A typed percentage has no exact double.
    ((tolerance * 1e6).round() / 1e3).ceil() as u32
}

/// A time with its tolerance, rounded up.
pub(crate) fn longer(micros: u64, tolerance: f64) -> u64 {
    micros.saturating_add(micros.saturating_mul(u64::from(thousandths(tolerance))).div_ceil(1000))
}

/// A time.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Time {
    /// Microseconds.
    Fixed(u64),
    /// A formula that gives milliseconds.
    Formula(Formula),
}
