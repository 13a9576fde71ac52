//! Quantities and routines.

use std::collections::HashMap;

use super::Resolver;
use crate::formula::front::analyse::analyse;
use crate::formula::typed::Formula;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::hex::parse_hex;
use crate::ground::list::{Id, List};
use crate::ground::text::{Span, Text};
use crate::model::command::{Command, CommandByte};
use crate::model::ids::{CodeId, FieldId, ReadingId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Alert, MOST_TRIED, Quantity, Routine, Step, Time};
use crate::model::registers::{Access, Field};
use crate::sheet::tree;

/// Where nothing else is said, polls and tries come so long after one another, in microseconds.
const EVERY: u64 = 1000;
/// Steps that a routine does, those that it repeats counted as often.
const MAX_DONE: u64 = 20_000;
/// Routines of a sheet.
const MAX_ROUTINES: usize = 256;
/// Steps of one routine.
const MAX_STEPS: usize = 256;

type Weights = List<RoutineId, Weight>;

/// Number of steps of a routine, if already computed.
#[derive(Clone, Copy)]
enum Weight {
    Unknown,
    UnderWay,
    Known(u64),
}

impl Resolver {
    /// Fields whose codes follow from parameters.
    pub(super) fn computed(&mut self, tree: &tree::Sheet) {
        let in_registers = tree.registers.iter().flat_map(|(_, register)| &register.fields);
        let all: Vec<(Span, &Text)> =
            in_registers.chain(&tree.fields).filter_map(|(name, field)| Some((name.span, field.computed.as_ref()?))).collect();
        for (span, text) in all {
            let formula = self.formula(text, &HashMap::new(), None, None);
            let codeless = formula.filter(|formula| self.without_codes(formula, text));
            for field in self.part.fields.iter_mut().filter(|field| field.span == span) {
                field.computed.clone_from(&codeless);
            }
        }
    }

    /// Formulas for configuration cannot use measured values.
    pub(super) fn without_codes(&mut self, formula: &Formula, text: &Text) -> bool {
        let bad = inputs(formula).any(|input| matches!(input, Input::Code(_) | Input::Reading(_)));
        if bad {
            let problem = Diagnostic::error("uses-code", text.span, "this formula uses a code or a reading, which only come with a frame");
            self.report(problem.label("fields, parameters and quantities can be used here"));
        }
        !bad
    }

    /// Resolves those of the quantities that are wanted now.
    pub(super) fn quantities(&mut self, quantities: &[tree::Named<tree::Quantity>], wanted: &dyn Fn(&str) -> bool) {
        for (name, quantity) in quantities.iter().filter(|(name, _)| wanted(&name.value)) {
            let field = self.part.fields.iter().find(|known| known.name == name.value).map(|known| known.span);
            let parameter = self.part.parameters.iter().find(|known| known.name == name.value).map(|known| known.span);
            if let Some(span) = field.or(parameter) {
                let problem = Diagnostic::error("name-taken", name.span, format!("there is a field or parameter `{}` too", name.value));
                self.report(problem.label("a quantity needs a name of its own").also(span, "taken here"));
            }
            let (text, through) = match &quantity.way {
                tree::Way::Formula(text) => (text, None),
                tree::Way::Through { reading, code } => {
                    let Some(through) = self.through(reading) else { continue };
                    (code, Some(through))
                }
            };
            let Some(formula) = self.formula(text, &HashMap::new(), None, None) else { continue };
            if !self.without_codes(&formula, text) {
                continue;
            }
            if through.is_some() && formula.ty.is_real() {
                let problem = Diagnostic::error("wrong-type", text.span, "a code is a whole number").label("this is a real number");
                self.report(problem.help("leave the scale to the reading's formula"));
            }
            let field = |input| if let Input::Field(field) = input { Some(field) } else { None };
            let fields: Vec<FieldId> = inputs(&formula).filter_map(field).collect();
            let moves: Vec<FieldId> = match &quantity.moves {
                Some(names) => names.iter().filter_map(|name| self.known_field(name)).collect(),
                None => fields,
            };
            if quantity.moves.as_ref().is_none_or(|names| names.len() == moves.len()) {
                self.movable(&moves, name.span);
            }
            self.part.quantities.push(Quantity {
                name: name.value.clone(),
                span: name.span,
                unit: quantity.unit.value.clone(),
                difference: quantity.difference,
                formula,
                through,
                moves,
                not_below: None,
                alert: quantity.alert.map(|word| if word == "above" { Alert::Above } else { Alert::Below }),
                flag: None,
                means: quantity.means.as_ref().map(|text| text.value.clone()),
                source: quantity.source.as_ref().map(|text| text.value.clone()),
            });
        }
    }

    /// Flags of thresholds: conditions over codes and fields.
    pub(super) fn flags(&mut self, quantities: &[tree::Named<tree::Quantity>]) {
        for (name, text) in quantities.iter().filter_map(|(name, quantity)| Some((name, quantity.flag.as_ref()?))) {
            let flag = self.formula(text, &HashMap::new(), None, None);
            self.part.quantities.iter_mut().filter(|known| known.span == name.span).for_each(|known| known.flag.clone_from(&flag));
        }
    }

    /// Which quantities must not be below which others.
    pub(super) fn floors(&mut self, quantities: &[tree::Named<tree::Quantity>]) {
        for (name, other) in quantities.iter().filter_map(|(name, quantity)| Some((name, quantity.not_below.as_ref()?))) {
            let floor = self.part.quantities.position(|known| known.name == other.value && known.span != name.span);
            let there = quantities.iter().any(|(known, _)| known.value == other.value && known.span != name.span);
            if !there {
                let names = quantities.iter().map(|(known, _)| known.value.as_str());
                let problem = Diagnostic::error("unknown-name", other.span, format!("there is no other quantity `{}`", other.value));
                self.report(problem.label("not a quantity").known(&other.value, "quantities", names.collect::<Vec<_>>()));
            }
            self.part.quantities.iter_mut().filter(|known| known.span == name.span).for_each(|known| known.not_below = floor);
        }
    }

    /// The reading that a quantity goes through, and its code.
    fn through(&mut self, reading: &Text) -> Option<(ReadingId, Input)> {
        let Some(index) = self.part.readings.position(|known| known.name == reading.value) else {
            let names: Vec<&str> = self.part.readings.iter().map(|known| known.name.as_str()).collect();
            let problem = Diagnostic::error("unknown-name", reading.span, format!("there is no reading `{}`", reading.value));
            let problem = problem.label("not a reading").known(&reading.value, "readings", names);
            self.report(problem);
            return None;
        };
        let used: Vec<Input> = self.part.readings.get(index).map_or(Vec::new(), |reading| inputs(&reading.formula).collect());
        // A field of a register that the reading's frame holds is a code too.
        let own = self.part.readings.get(index).map_or(&[] as &[CodeId], |reading| &reading.codes);
        let in_frame = |field: FieldId| self.part.codes.of(own).any(|code| code.field == Some(field));
        let is_code = |input: &&Input| matches!(input, Input::Code(_)) || matches!(input, Input::Field(field) if in_frame(*field));
        let codes: Vec<Input> = used.iter().filter(is_code).copied().collect();
        let others = used.iter().any(|input| matches!(input, Input::Reading(_)));
        let (&[code], false) = (codes.as_slice(), others) else {
            let problem = Diagnostic::error("no-way-back", reading.span, format!("`{}` has not just one code", reading.value))
                .label("ambiguous: the code of the threshold")
                .help("give `formula` in place of `reading` and `code`");
            self.report(problem);
            return None;
        };
        Some((index, code))
    }

    pub(super) fn known_field(&mut self, name: &Text) -> Option<FieldId> {
        let found = self.part.field(&name.value);
        found.map_err(|unknown| self.unknown_field(&name.value, name.span, &unknown)).ok()
    }

    fn movable(&mut self, moves: &[FieldId], span: Span) {
        let fixed = self.part.fields.of(moves).find(|field| !field.access.is_writable());
        let tried = self.part.fields.of(moves).map(Field::code_count).fold(1usize, usize::saturating_mul);
        let problem = match (moves.len(), fixed) {
            (2, None) if tried > MOST_TRIED => "this quantity would move two fields with too many codes together to try them all".into(),
            (_, Some(field)) => format!("`{}` cannot be written", field.name),
            (0, _) => "no field holds this quantity".into(),
            (1..=2, _) => return,
            (count, _) => format!("this quantity would move {count} fields at once; it can move two"),
        };
        let problem = Diagnostic::error("no-way-back", span, problem).label("it cannot be set");
        self.report(problem.help("say which fields may be changed: moves = [\"…\"]"));
    }

    pub(super) fn routines(&mut self, routines: &[tree::Named<Vec<tree::Step>>]) {
        let names: Vec<&str> = routines.iter().map(|(name, _)| name.value.as_str()).collect();
        if let Some((name, _)) = routines.get(MAX_ROUTINES) {
            let problem = Diagnostic::error("too-many", name.span, format!("a sheet has at most {MAX_ROUTINES} routines"));
            self.report(problem.label("one too many"));
            return;
        }
        for (name, steps) in routines {
            let resolved = steps.iter().filter_map(|step| self.step(step, &names)).collect();
            if steps.is_empty() || steps.len() > MAX_STEPS {
                let problem = Diagnostic::error("step-action", name.span, format!("a routine has 1 to {MAX_STEPS} steps"));
                self.report(problem.label(format!("{} here", steps.len())));
            }
            self.part.routines.push(Routine { name: name.value.clone(), span: name.span, steps: resolved });
        }
        if self.has_errors() {
            return;
        }
        let mut weights: Weights = List::filled(self.part.routines.len(), |_| Weight::Unknown);
        for at in self.part.routines.ids() {
            if let Err(problem) = self.weigh(at, &mut weights) {
                self.report(problem);
                return;
            }
        }
    }

    /// How many steps a routine does at the most, those of the routines that it does counted.
    fn weigh(&self, at: RoutineId, weights: &mut Weights) -> Result<u64, Diagnostic> {
        let Some(routine) = self.part.routines.get(at) else { return Ok(0) };
        if let Some(Weight::Known(weight)) = weights.get(at) {
            return Ok(*weight);
        }
        weights.get_mut(at).into_iter().for_each(|weight| *weight = Weight::UnderWay);
        let mut total: u64 = 0;
        for step in &routine.steps {
            let one = match step.action {
                Action::Run(other) if matches!(weights.get(other), Some(Weight::UnderWay)) => {
                    let problem = Diagnostic::error("cycle", step.span, format!("`{}` leads back to itself", routine.name));
                    return Err(problem.label("a routine that never ends"));
                }
                Action::Run(other) => self.weigh(other, weights)?,
                _ => 1,
            };
            total = total.saturating_add(one.saturating_mul(u64::from(step.repeat)));
            if total > MAX_DONE {
                let problem = Diagnostic::error("too-many", step.span, format!("`{}` would do more than {MAX_DONE} steps", routine.name));
                return Err(problem.label("with all that it repeats"));
            }
        }
        weights.get_mut(at).into_iter().for_each(|weight| *weight = Weight::Known(total));
        Ok(total)
    }

    fn step(&mut self, step: &tree::Step, routines: &[&str]) -> Option<Step> {
        let action = match &step.action {
            tree::Action::Write(bytes) => {
                if bytes.is_empty() && self.part.buses.i2c.is_none() {
                    let problem = Diagnostic::error("bad-hex", step.span, "there is no byte to write").label("needs a byte at least");
                    self.report(problem.help("`[]` sends the address alone, over I2C"));
                }
                Action::Write(self.command(bytes)?)
            }
            tree::Action::WriteText(text) => self.write_what(text)?,
            tree::Action::Set { fields, verify } => {
                let chosen = self.choices(fields);
                for (name, _) in fields {
                    let field = self.part.field(&name.value).ok().and_then(|index| self.part.fields.get(index));
                    let Some(field) = field else { continue };
                    let error = |text: String, label: &str| Diagnostic::error("not-writable", name.span, text).label(label);
                    let computed = field.computed.as_ref().map(|_| {
                        let text = format!("`{}` is computed from parameters", field.name);
                        error(text, "a step cannot set it to something else").also(field.span, "computed here")
                    });
                    let fixed = (!field.access.is_writable())
                        .then(|| error(format!("`{}` is {}", field.name, field.access.as_str()), "it cannot be set"));
                    computed.or(fixed).into_iter().for_each(|problem| self.report(problem));
                }
                Action::Set { fields: chosen, verify: *verify }
            }
            tree::Action::Read(text) => self.read_what(text)?,
            tree::Action::Wait { time, tolerance } => Action::Wait { time: self.time(time)?, tolerance: tolerance / 100.0 },
            tree::Action::Poll { condition, within } => {
                Action::Poll { condition: self.readable_condition(condition, true)?, within: self.time(within)? }
            }
            tree::Action::Line { high, within } => Action::Line { high: *high, within: self.time(within)? },
            tree::Action::Expect(condition) => Action::Expect(self.readable_condition(condition, false)?),
            tree::Action::Run(name) => {
                let Some(index) = routines.iter().position(|known| *known == name.value) else {
                    let problem = Diagnostic::error("unknown-name", name.span, format!("there is no routine `{}`", name.value));
                    self.report(problem.label("not a routine").known(&name.value, "routines", routines.to_vec()));
                    return None;
                };
                Action::Run(RoutineId::new(index))
            }
        };
        let every = match &step.every {
            Some(time) => self.time(time)?,
            None => Time::Fixed(EVERY),
        };
        let when = match &step.when {
            Some(text) => Some(self.formula(text, &HashMap::new(), None, None)?),
            None => None,
        };
        Some(Step {
            span: step.span,
            action,
            when,
            repeat: step.repeat.map_or(1, |at| at.value),
            retry: step.retry.map_or(0, |at| at.value),
            may_nak: step.may_nak,
            every,
            means: step.means.as_ref().map(|text| text.value.clone()),
            source: step.source.as_ref().map(|text| text.value.clone()),
        })
    }

    /// Registers by their names, or bytes in hex.
    fn write_what(&mut self, text: &Text) -> Option<Action> {
        let words: Vec<&str> = text.value.split_whitespace().collect();
        if !words.is_empty() && words.iter().any(|word| self.part.register(word).is_ok()) {
            let Action::ReadRegisters(registers) = self.read_what(text)? else { return None };
            let fixed = self.part.registers.of(&registers).find(|register| !register.access.is_writable());
            if let Some(what) = fixed.map(|register| format!("`{}` is {}", register.name, register.access.as_str())) {
                self.report(Diagnostic::error("not-writable", text.span, what).label("it cannot be written"));
            }
            let plain = |field: &Field| field.access.holds_value();
            let bare = self.part.registers.of(&registers).find(|register| !self.part.fields.of(&register.fields).any(plain));
            if let Some(what) = bare.map(|register| format!("`{}` has no field that holds a value", register.name)) {
                let problem = Diagnostic::error("not-writable", text.span, what).label("there is nothing to write into it");
                self.report(problem.help("describe its bits as a field"));
            }
            return Some(Action::WriteRegisters(registers));
        }
        match parse_hex(&text.value) {
            Ok(bytes) if !bytes.is_empty() => Some(Action::Write(Command::new(bytes.into_iter().map(CommandByte::Fixed).collect()))),
            Ok(_) => {
                self.report(Diagnostic::error("bad-hex", text.span, "there is no byte to write").label("needs a byte at least"));
                None
            }
            Err(error) => {
                let span = text.locate(error.at..error.at + error.piece.len().max(1));
                let known: Vec<&str> = self.part.registers.iter().map(|register| register.name.as_str()).collect();
                let problem = Diagnostic::error("bad-hex", span, error.to_string()).label("neither hex nor a register");
                let problem = problem.known(error.piece.trim(), "registers", known);
                self.report(problem);
                None
            }
        }
    }

    /// A frame by name, or registers by their names.
    fn read_what(&mut self, text: &Text) -> Option<Action> {
        if let Ok(frame) = self.part.frame(text.value.trim()) {
            return Some(Action::ReadFrame(frame));
        }
        let mut registers = Vec::new();
        for word in text.value.split_whitespace() {
            let Ok(index) = self.part.register(word) else {
                let frames = self.part.frames.iter().map(|frame| frame.name.as_str());
                let known: Vec<&str> = frames.chain(self.part.registers.iter().map(|register| register.name.as_str())).collect();
                let at = text.value.find(word).unwrap_or(0);
                let span = text.locate(at..at + word.len());
                let problem = Diagnostic::error("unknown-name", span, format!("there is no frame and no register `{word}`"));
                let problem = problem.label("nothing of that name").known(word, "frames and registers", known);
                self.report(problem);
                return None;
            };
            registers.push(index);
        }
        Some(Action::ReadRegisters(registers))
    }

    pub(super) fn time(&mut self, time: &tree::Time) -> Option<Time> {
        Some(match time {
            tree::Time::Fixed(micros) => Time::Fixed(*micros),
            tree::Time::Formula(text) => {
                let formula = self.formula(text, &HashMap::new(), None, None)?;
                if !self.without_codes(&formula, text) {
                    return None;
                }
                Time::Formula(formula)
            }
        })
    }

    /// A condition over what can be read: fields of registers, codes of frames.
    fn readable_condition(&mut self, text: &Text, must_read: bool) -> Option<Formula> {
        let formula = analyse(
            text,
            &super::names::Names {
                part: &self.part,
                codes: &self.code_names,
                arrays: &self.arrays,
                readings: &HashMap::new(),
                lost: &HashMap::new(),
                only_frame: None,
                element: None,
                fields_first: true,
            },
            &mut Vec::new(),
        );
        let formula = self.take(formula)?;
        let reads = |input| matches!(input, Input::Code(_) | Input::Field(_) | Input::Column(..) | Input::Quantity(_));
        if inputs(&formula).next().is_none() || (must_read && !inputs(&formula).any(reads)) {
            let problem = Diagnostic::error("no-code", text.span, "nothing is read for this condition");
            self.report(problem.label("it holds always, or never").help("name a field of a register, or a code of a frame"));
            return None;
        }
        let fields = inputs(&formula).filter_map(|input| self.part.fields.get(input.field()?));
        let write_only = fields.into_iter().find(|field| field.access == Access::WriteOnly);
        if let Some(field) = write_only {
            let problem = Diagnostic::error("not-readable", text.span, format!("`{}` is write-only", field.name));
            self.report(problem.label("nothing can be read for it"));
            return None;
        }
        Some(formula)
    }
}
