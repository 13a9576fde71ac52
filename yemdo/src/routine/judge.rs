//! Conditions and times of a routine's steps, as far as they are known by then.

use super::failure::{Failure, RoutineError};
use super::queue::Work;
use super::runner::Runner;
use crate::formula::typed::Formula;
use crate::model::ids::FieldId;
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Time};
use crate::plan::routine::StepPlan;

impl Runner {
    pub(super) fn compute(&self, formula: &Formula) -> Result<f64, RoutineError> {
        self.present().compute(formula).map_err(|_| self.error(Failure::NoValue { formula: self.text(formula) }))
    }

    /// In a dry run: whether a condition is about known fields and parameters alone.
    pub(super) fn is_known(&self, condition: &Formula) -> bool {
        let unknown = |field: FieldId| self.part.fields.get(field).is_some_and(|field| !self.state.has_value_of(field));
        let inputs = self.part.inputs_behind(inputs(condition));
        inputs.into_iter().all(|input| !input.comes_with_frames() && !input.field().is_some_and(unknown))
    }

    /// Decides a condition from what was read.
    pub(super) fn judge(&mut self, poll: Option<u64>) -> Result<(), RoutineError> {
        let part = self.part.clone();
        let call = self.calls.last().copied();
        let Some(step) = call.and_then(|call| part.routines.get(call.routine)?.steps.get(call.step)) else { return Ok(()) };
        let (condition, within) = match &step.action {
            Action::Poll { condition, within } => (condition, self.micros(within)?),
            Action::Expect(condition) => (condition, 0),
            _ => return Ok(()),
        };
        let every = self.every()?;
        if self.dry {
            // As often as the part may be looked at again, each time with its reads.
            self.at.1 += within / every * (every + self.looking);
            return Ok(());
        }
        match poll {
            _ if self.compute(condition)? != 0.0 => Ok(()),
            None => Err(self.error(Failure::Unexpected { condition: self.text(condition), found: self.found(condition) })),
            Some(elapsed) if elapsed + every > within => {
                Err(self.error(Failure::TimedOut { waited_for: self.text(condition), micros: within }))
            }
            Some(elapsed) => {
                self.work.push_back(Work::Wait { micros: every, meaning: "before the next look".into() });
                let meaning = step.means.clone().unwrap_or_else(|| format!("until {}", self.text(condition)));
                let planned = call.and_then(|call| self.plan.step(call.routine, call.step)).cloned();
                if let Some(StepPlan::Read(reads)) = planned {
                    self.push_reads(&reads, &meaning)?;
                }
                self.work.push_back(Work::Judge { poll: Some(elapsed + every) });
                Ok(())
            }
        }
    }

    /// What a condition was decided by.
    pub(super) fn found(&self, condition: &Formula) -> Vec<(String, String)> {
        let one = |input: Input| {
            let (name, width) = match input {
                Input::Field(field) => self.part.fields.get(field).map(|field| (field.name.clone(), field.width()))?,
                Input::Column(field, column) => {
                    let field = self.part.fields.get(field)?;
                    (format!("{}.{}", field.name, field.columns.get(column)?.name), 0)
                }
                Input::Code(code) => self.part.codes.get(code).map(|code| (code.name.clone(), 0))?,
                _ => return None,
            };
            let value = self.present().input(input)?.to_f64();
            Some((name, if width > 3 { format!("0x{:X}", value as i64) } else { value.to_string() }))
        };
        self.part.inputs_behind(inputs(condition)).into_iter().filter_map(one).collect()
    }

    /// From one look, or try, of the step under way to the next; never nothing.
    pub(super) fn every(&self) -> Result<u64, RoutineError> {
        self.step().map_or(Ok(1), |step| self.micros(&step.every)).map(|every| every.max(1))
    }

    pub(super) fn micros(&self, time: &Time) -> Result<u64, RoutineError> {
        time.micros(&self.present()).map_err(|error| self.not_sent(error))
    }
}
