//! What is done with a part: quantities that its fields hold, and routines.

use crate::formula::typed::Formula;
use crate::sheet::text::Span;

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
    /// The reading whose formula it goes through, and the code whose place it takes; both by index.
    pub(crate) through: Option<(usize, usize)>,
    /// Fields that may be changed to set it, by index.
    pub(crate) moves: Vec<usize>,
    /// Another that it must not be below, by index.
    pub(crate) not_below: Option<usize>,
    pub(crate) means: Option<String>,
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

    /// The fields that may be changed to set it, as indices into [`Part::fields`](super::part::Part::fields).
    pub fn moves(&self) -> &[usize] {
        &self.moves
    }

    /// The datasheet's words for it.
    pub fn means(&self) -> Option<&str> {
        self.means.as_deref()
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
    /// What is done.
    pub action: Action,
    /// It is only done where this holds.
    pub when: Option<Formula>,
    /// How often it is done.
    pub repeat: u32,
    /// How often it is tried again where the part does not acknowledge.
    pub retry: u32,
    /// From one poll, or try, to the next, in microseconds.
    pub every: u64,
    /// The datasheet's words for it.
    pub means: Option<String>,
}

/// What a step does.
#[derive(Clone, Debug)]
pub enum Action {
    /// Bytes are sent.
    Write(Vec<u8>),
    /// Fields get codes, and their registers are written.
    Set {
        /// The fields and their codes.
        fields: Vec<(usize, i128)>,
        /// The registers are read back and compared.
        verify: bool,
    },
    /// A frame is read, by index.
    ReadFrame(usize),
    /// Registers are read, by index.
    ReadRegisters(Vec<usize>),
    /// Time passes.
    Wait {
        /// The time by the datasheet.
        time: Time,
        /// Its tolerance: so much of it is added.
        tolerance: f64,
    },
    /// What the condition needs is read until it holds.
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
    /// What the condition needs is read once, and it must hold.
    Expect(Formula),
    /// Another routine, by its index in [`Part::routines`](super::part::Part::routines).
    Do(usize),
}

/// A time.
#[derive(Clone, Debug)]
pub enum Time {
    /// Microseconds.
    Fixed(u64),
    /// A formula that gives milliseconds.
    Formula(Formula),
}
