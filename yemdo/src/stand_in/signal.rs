//! A physical quantity over time, as a stand-in is given it.

use std::fmt;

use crate::formula::flat::lower::Lowerer;
use crate::formula::flat::program::Program;
use crate::formula::front::analyse::{Scope, analyse};
use crate::formula::input::{CurveId, InputKey};
use crate::formula::run::single::Single;
use crate::ground::number::Ty;
use crate::ground::text::Text;

/// A physical quantity over time, in the unit of its reading.
#[derive(Clone, Debug)]
pub struct Signal {
    shape: Shape,
}

#[derive(Clone, Debug)]
enum Shape {
    Constant(f64),
    /// A ramp from one value to another within a number of seconds, then constant.
    Ramp {
        from: f64,
        to: f64,
        seconds: f64,
    },
    /// Seconds and values, in order; between two of them it goes straight.
    Recorded(Vec<(f64, f64)>),
    Formula(Box<(Program, Single)>),
}

/// Why a text is no signal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignalError {
    /// Description.
    pub message: String,
}

impl fmt::Display for SignalError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for SignalError {}

/// The one name that a formula of time knows.
struct Seconds;

const KEY: InputKey = InputKey(0);

impl Scope for Seconds {
    fn resolve(&self, name: &str, member: Option<&str>) -> Result<Option<(InputKey, Ty)>, String> {
        Ok((name == "t" && member.is_none()).then_some((KEY, Ty::F64)))
    }

    fn curve(&self, _: &str) -> Option<CurveId> {
        None
    }

    fn names(&self) -> Vec<String> {
        vec!["t".into()]
    }
}

impl Signal {
    /// The same at any time.
    pub fn constant(value: f64) -> Self {
        Self { shape: Shape::Constant(value) }
    }

    /// A ramp from one value to another within a number of seconds, then constant.
    pub fn ramp(from: f64, to: f64, seconds: f64) -> Self {
        Self { shape: Shape::Ramp { from, to, seconds } }
    }

    /// Recorded values with their times in seconds; straight between them, and as the first and the last one outside.
    ///
    /// # Errors
    /// No value at all, times that do not rise, or a value that is no number.
    pub fn recorded(points: Vec<(f64, f64)>) -> Result<Self, SignalError> {
        let rising = points.windows(2).all(|pair| matches!(pair, [(before, _), (after, _)] if before < after));
        if points.is_empty() || !rising || points.iter().any(|(_, value)| !value.is_finite()) {
            return Err(SignalError { message: "expected pairs of seconds and values, with times that rise".into() });
        }
        Ok(Self { shape: Shape::Recorded(points) })
    }

    /// A signal as typed: `21.5`; `20 to 30 in 60 s`; or a formula in C of the seconds `t`: `20 + 5 * sin(t / 10)`.
    ///
    /// ```
    /// use yemdo::stand_in::Signal;
    /// assert_eq!(Signal::parse("20 to 30 in 60 s")?.at(30_000_000), Some(25.0));
    /// assert_eq!(Signal::parse("20 + 2 * t")?.at(1_500_000), Some(23.0));
    /// # Ok::<(), yemdo::stand_in::SignalError>(())
    /// ```
    ///
    /// # Errors
    /// [`SignalError`], with the expected syntax.
    pub fn parse(text: &str) -> Result<Self, SignalError> {
        let text = text.trim();
        if let Ok(value) = text.parse::<f64>()
            && value.is_finite()
        {
            return Ok(Self::constant(value));
        }
        if let [from, "to", to, "in", seconds, "s"] = *text.split_whitespace().collect::<Vec<_>>() {
            let number = |text: &str| text.parse::<f64>().ok().filter(|value| value.is_finite());
            if let (Some(from), Some(to), Some(seconds)) = (number(from), number(to), number(seconds).filter(|seconds| *seconds > 0.0)) {
                return Ok(Self::ramp(from, to, seconds));
            }
        }
        let formula = analyse(&Text::bare(text), &Seconds, &mut Vec::new()).map_err(|error| SignalError {
            message: format!("`{text}` is not a number, `A to B in N s`, or a formula in C of the seconds `t`: {}", error.message),
        })?;
        let mut lowerer = Lowerer::new(&[], false);
        lowerer.formula_as(&formula, Ty::F64);
        let program = lowerer.finish();
        let single = Single::new(&program);
        Ok(Self { shape: Shape::Formula(Box::new((program, single))) })
    }

    /// Its value at a time in microseconds; `None` where a formula gives none.
    pub fn at(&mut self, micros: u64) -> Option<f64> {
        let seconds = micros as f64 / 1e6;
        match &mut self.shape {
            Shape::Constant(value) => Some(*value),
            Shape::Ramp { from, to, seconds: whole } => Some(*from + (*to - *from) * (seconds / *whole).min(1.0)),
            Shape::Recorded(points) => {
                let behind = points.partition_point(|(time, _)| *time <= seconds);
                match (behind.checked_sub(1).and_then(|at| points.get(at)), points.get(behind)) {
                    (Some((before, low)), Some((after, high))) => Some(low + (high - low) * (seconds - before) / (after - before)),
                    (Some((_, value)), None) | (None, Some((_, value))) => Some(*value),
                    (None, None) => None,
                }
            }
            Shape::Formula(room) => {
                let (program, single) = room.as_mut();
                single.begin();
                single.settled = false;
                for (slot, _) in &program.inputs {
                    single.put_real(program, *slot, seconds);
                }
                single.run(program);
                single.output(program, 0).ok().map(|number| number.to_f64()).filter(|value| value.is_finite())
            }
        }
    }
}
