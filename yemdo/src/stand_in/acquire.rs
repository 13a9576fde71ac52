//! How a part comes by the data of a frame, read off the routines of its sheet: what starts a measurement, how long it takes,
//! and how one can tell that it is done.

use crate::formula::typed::Formula;
use crate::ground::text::Span;
use crate::model::command::Command;
use crate::model::ids::{FieldId, FrameId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Time};
use crate::model::part::Sheet;
use crate::model::registers::Access;

/// What starts a measurement.
#[derive(Clone, Debug)]
pub(super) enum Trigger {
    Command(Command),
    Fields(Vec<(FieldId, i128)>),
}

/// How the data of a frame come about.
#[derive(Clone, Debug)]
pub(super) struct Acquisition {
    pub(super) frame: FrameId,
    pub(super) trigger: Option<Trigger>,
    /// Times that are waited, with their tolerances.
    pub(super) waits: Vec<(Time, f64)>,
    /// Place of the first wait, else of the read.
    pub(super) span: Span,
    /// Polled condition and its timeout.
    pub(super) poll: Option<(Formula, Time)>,
    /// The data-ready line: its active level, and the longest time.
    pub(super) line: Option<(bool, Time)>,
    /// The read is tried again: until it is done, the part does not acknowledge.
    pub(super) retried: bool,
}

/// Acquisitions of all frames, from the first routine that reads each.
pub(super) fn acquisitions(part: &Sheet) -> Vec<Acquisition> {
    let mut found = Vec::new();
    for routine in part.routines.ids() {
        let none = Seen { trigger: None, waits: Vec::new(), span: None, poll: None, line: None };
        walk(part, routine, none, &mut found);
    }
    found
}

/// Earlier steps of a routine.
#[derive(Clone)]
struct Seen {
    trigger: Option<Trigger>,
    waits: Vec<(Time, f64)>,
    span: Option<Span>,
    poll: Option<(Formula, Time)>,
    line: Option<(bool, Time)>,
}

fn walk(part: &Sheet, routine: RoutineId, mut seen: Seen, found: &mut Vec<Acquisition>) {
    for (step, _) in part.steps_within(routine) {
        match &step.action {
            // A conditional step does not start a measurement.
            Action::Write(_) | Action::Set { .. } if step.when.is_some() => {}
            Action::Write(command) => seen = started(Trigger::Command(command.clone())),
            Action::Set { fields, .. } => {
                // Settings without a register start nothing, nor does clearing a flag.
                let starts = |field: FieldId| {
                    !part.is_unstored(field) && !matches!(part.fields[field].access, Access::WriteOneToClear | Access::ClearOnRead)
                };
                let held: Vec<_> = fields.iter().copied().filter(|(field, _)| starts(*field)).collect();
                if !held.is_empty() {
                    seen = started(Trigger::Fields(held));
                }
            }
            Action::Wait { time, tolerance } => {
                seen.waits.push((time.clone(), *tolerance));
                seen.span.get_or_insert(step.span);
            }
            Action::Poll { condition, within } => {
                // A conditional poll does not delay the data.
                if step.when.is_none() {
                    seen.poll = Some((condition.clone(), within.clone()));
                }
                // A frame that is looked at until it is done is read with that.
                for input in inputs(condition) {
                    if let Input::Code(code) = input
                        && let Some(frame) = part.codes.get(code).map(|code| code.frame)
                    {
                        take(part, &seen, frame, step.span, false, found);
                    }
                }
            }
            Action::Line { high, within } if step.when.is_none() => seen.line = Some((*high, within.clone())),
            Action::ReadFrame(frame) => take(part, &seen, *frame, step.span, step.retry > 0, found),
            Action::Run(_) | Action::WriteRegisters(_) | Action::ReadRegisters(_) | Action::Expect(_) | Action::Line { .. } => {}
        }
    }
}

fn started(trigger: Trigger) -> Seen {
    Seen { trigger: Some(trigger), waits: Vec::new(), span: None, poll: None, line: None }
}

fn take(part: &Sheet, seen: &Seen, frame: FrameId, span: Span, retried: bool, found: &mut Vec<Acquisition>) {
    let waits = seen.trigger.is_some() || seen.line.is_some();
    // A frame that is asked for by a command, and comes after a wait, is measured then.
    let asked = part.frames.get(frame).is_some_and(|frame| match frame.origin.exchanges() {
        [exchange] => exchange.wait.is_some() && !exchange.command.is_empty(),
        _ => false,
    });
    let told = matches!(seen.trigger, Some(Trigger::Command(_))) || seen.poll.is_some() || seen.line.is_some();
    if !waits || (asked && !told) || found.iter().any(|known| known.frame == frame) {
        return;
    }
    found.push(Acquisition {
        frame,
        trigger: seen.trigger.clone(),
        waits: if seen.trigger.is_some() { seen.waits.clone() } else { Vec::new() },
        span: seen.span.unwrap_or(span),
        poll: seen.poll.clone(),
        line: seen.line.clone(),
        retried,
    });
}
