//! Readings, their order, and the conditions that say how far to believe them.

use std::collections::HashMap;

use super::names::Names;
use super::{MAX_ERRORS, Resolver};
use crate::formula::front::analyse::analyse;
use crate::formula::front::parse::parse;
use crate::formula::typed::Formula;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::{Id, List};
use crate::ground::number::Ty;
use crate::ground::text::{Span, Text};
use crate::model::frame::Frame;
use crate::model::ids::{CodeId, FrameId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::reading::{Condition, End, Reading, ReadingKind, StatedRange};
use crate::model::status::Status;
use crate::sheet::tree;

/// A reading of the tree, or one element of one.
struct Wanted<'t> {
    name: String,
    span: Span,
    tree: &'t tree::Reading,
    element: Option<usize>,
    arrays: Vec<String>,
    /// Its formula and conditions can be read at all.
    readable: bool,
}

impl tree::Reading {
    fn range_formulas(&self) -> impl Iterator<Item = &Text> {
        let ends = if let Some(tree::Stated::Ends(ends)) = &self.range { ends.as_slice() } else { &[] };
        ends.iter().filter_map(|end| if let tree::End::Formula(text) = end { Some(text) } else { None })
    }
}

/// Most readings and shared values of a sheet, the elements of arrays counted.
const MAX_READINGS: usize = 1024;

type Types = HashMap<String, (ReadingId, Ty)>;

impl Resolver {
    pub(super) fn readings(&mut self, readings: &[tree::Named<tree::Reading>], shared: &[tree::Named<tree::Reading>]) {
        let Some(mut wanted) = self.expand(readings) else { return };
        let shown = wanted.len();
        let Some(hidden) = self.expand(shared) else { return };
        wanted.extend(hidden);
        if let Some(last) = wanted.get(MAX_READINGS) {
            let span = last.span;
            self.report(
                Diagnostic::error("too-many", span, format!("a sheet has at most {MAX_READINGS} readings and shared values"))
                    .label("one too many"),
            );
            return;
        }
        if !self.distinct(&wanted) {
            return;
        }
        let needs = self.needs(&wanted);
        let mut failed: Vec<bool> = wanted.iter().map(|want| !want.readable).collect();
        let Some(order) = self.order(&wanted, &needs) else { return };
        let mut resolved: Vec<Option<Reading>> = vec![None; wanted.len()];
        let mut types = Types::new();
        for index in order.iter().copied() {
            let Some(want) = wanted.get(index) else { continue };
            let element = want.element.map(|element| (element, want.arrays.as_slice()));
            let has_failed = |index: usize| failed.get(index).copied().unwrap_or(false);
            // Errors are reported at their place, not again for their users.
            let hopeless = has_failed(index) || needs.get(index).is_some_and(|needs| needs.iter().any(|(need, _)| has_failed(*need)));
            let formula = if hopeless { None } else { self.formula(&want.tree.formula, &types, None, element) };
            let Some(formula) = formula else {
                failed.get_mut(index).into_iter().for_each(|failed| *failed = true);
                continue;
            };
            match &formula.lost {
                Some(lost) if index < shown => self.warn(lost.warning()),
                Some(lost) => drop(self.lost.insert(Input::Reading(ReadingId::new(index)).key(), lost.clone())),
                None => {}
            }
            let of = |id: ReadingId| resolved.get(id.index()).and_then(Option::as_ref);
            let (mut codes, mut frames): (Vec<CodeId>, Vec<FrameId>) = (Vec::new(), Vec::new());
            for input in inputs(&formula) {
                match input {
                    Input::Code(code) => codes.push(code),
                    Input::Reading(other) => {
                        codes.extend(of(other).map_or(&[] as &[CodeId], |other| &other.codes));
                        frames.extend(of(other).map_or(&[] as &[FrameId], |other| &other.frames));
                    }
                    // Nothing else comes with frames.
                    _ => {}
                }
            }
            frames.extend(codes.iter().filter_map(|code| self.part.codes.get(*code)).map(|code| code.frame));
            let mut seen = Vec::new();
            codes.retain(|code| {
                !seen.contains(code) && {
                    seen.push(*code);
                    true
                }
            });
            frames.sort_unstable();
            frames.dedup();
            self.field_codes(&formula, &mut codes, &mut frames);
            // A shared value may follow from settings and parameters alone: a scale of several axes.
            if frames.is_empty() && index < shown {
                self.no_code(&want.tree.formula);
                continue;
            }
            let only = if let [frame] = frames.as_slice() { Some(*frame) } else { None };
            // A condition may be about the reading itself.
            types.insert(want.name.clone(), (ReadingId::new(index), formula.ty));
            let (valid, mut status) = self.valid_while(&want.tree.valid, only);
            status.extend(self.conditions(&want.tree.status, only, &types, element));
            let range = want.tree.range.as_ref().and_then(|range| self.stated(range, element));
            let done = Reading {
                name: want.name.clone(),
                span: want.span,
                unit: want.tree.unit.value.clone(),
                range,
                decimals: want.tree.decimals,
                formula,
                frames,
                codes,
                status,
                valid,
                means: want.tree.means.as_ref().map(|text| text.value.clone()),
                source: want.tree.source.as_ref().map(|text| text.value.clone()),
                kind: if index < shown { ReadingKind::Measured } else { ReadingKind::Shared },
            };
            if let Some(place) = resolved.get_mut(index) {
                *place = Some(done);
            }
        }
        let Some(resolved) = resolved.into_iter().collect::<Option<Vec<Reading>>>() else { return };
        let resolved: List<ReadingId, Reading> = resolved.into();
        let kept: List<FrameId, bool> = self.part.frames.iter().map(|frame| frame.keep).collect::<Vec<_>>().into();
        for (frame_index, frame) in self.part.frames.iter_mut().enumerate() {
            let frame_index = FrameId::new(frame_index);
            // A kept frame gives a reading only where nothing else could.
            let gives = |reading: &Reading| {
                reading.is_measured()
                    && reading.frames.contains(&frame_index)
                    && (!frame.keep || reading.frames.iter().all(|other| kept.get(*other).copied().unwrap_or(false)))
            };
            frame.readings = resolved.ids().filter(|at| resolved.get(*at).is_some_and(gives)).collect();
        }
        self.part.readings = resolved;
        self.part.order = order.into_iter().map(ReadingId::new).collect();
    }

    /// Whether every reading and shared value has a name of its own.
    fn distinct(&mut self, wanted: &[Wanted<'_>]) -> bool {
        let mut seen: HashMap<&str, Span> = HashMap::new();
        for want in wanted {
            if let Some(twin) = seen.insert(&want.name, want.span) {
                let problem = Diagnostic::error("name-taken", want.span, format!("there are two values `{}`", want.name))
                    .label("again here")
                    .also(twin, "first here");
                self.report(problem);
                return false;
            }
        }
        true
    }

    /// The pieces of a name that may be an array's: `codes`, `FIELD` of `FIELD.column`, and what follows the name of a frame or a
    /// register. Columns never count as arrays.
    fn could_be_arrays<'n>(&self, name: &'n str) -> impl Iterator<Item = &'n str> + use<'n> {
        let mut pieces = name.split('.');
        let first = pieces.next();
        let home = |name: &str| {
            self.part.frames.iter().any(|frame| frame.name == name) || self.part.registers.iter().any(|register| register.name == name)
        };
        first.into_iter().chain(pieces.next().filter(|_| first.is_some_and(home)))
    }

    /// Readings of arrays become one reading an element.
    fn expand<'t>(&mut self, readings: &'t [tree::Named<tree::Reading>]) -> Option<Vec<Wanted<'t>>> {
        let mut wanted = Vec::new();
        for (name, tree) in readings {
            let mut names = Vec::new();
            let mut readable = true;
            for text in std::iter::once(&tree.formula).chain(tree.status.iter().map(|status| &status.when)).chain(tree.range_formulas()) {
                match self.take(parse(text)) {
                    Some(body) => names.extend(body.free_names()),
                    None => readable = false,
                }
            }
            let mut counts: Vec<(String, usize)> = Vec::new();
            for used in names.iter().flat_map(|(used, _)| self.could_be_arrays(used)) {
                let elements = self.arrays.get(used).map_or(0, Vec::len);
                let plain = self.code_names.contains_key(used) || self.part.has_field(used);
                if elements > 0 && !plain && !counts.iter().any(|(known, _)| known == used) {
                    counts.push((used.to_owned(), elements));
                }
            }
            let arrays: Vec<String> = counts.iter().map(|(name, _)| name.clone()).collect();
            // The names are those of the first array that has names of its own, or else numbers.
            let named = |array: &&String| self.arrays.get(*array).is_some_and(|names| names.first().is_some_and(|name| name != "0"));
            let names = arrays.iter().find(named).or(arrays.first()).and_then(|array| self.arrays.get(array));
            match counts.iter().map(|(_, count)| *count).min() {
                None => wanted.push(Wanted { name: name.value.clone(), span: name.span, tree, element: None, arrays, readable }),
                Some(count) => wanted.extend((0..count).map(|element| Wanted {
                    name: format!("{}_{}", name.value, names.and_then(|names| names.get(element)).map_or("", String::as_str)),
                    span: name.span,
                    tree,
                    element: Some(element),
                    arrays: arrays.clone(),
                    readable,
                })),
            }
        }
        Some(wanted)
    }

    /// Fields that a formula uses and that stand in one of its frames are codes of it; where it has no frame
    /// yet, the one frame that holds them is it.
    fn field_codes(&self, formula: &Formula, codes: &mut Vec<CodeId>, frames: &mut Vec<FrameId>) {
        for field in inputs(formula).filter_map(Input::field) {
            let holds = |frame: &Frame| frame.fields.iter().any(|(held, _)| *held == field);
            let holding: Vec<FrameId> = self.part.frames.entries().filter(|(_, frame)| holds(frame)).map(|(id, _)| id).collect();
            if frames.is_empty()
                && let [only] = holding.as_slice()
            {
                frames.push(*only);
            }
            let here = holding.iter().find(|frame| frames.contains(frame));
            let code = here.and_then(|frame| self.part.codes.position(|code| code.frame == *frame && code.field == Some(field)));
            codes.extend(code.filter(|code| !codes.contains(code)));
        }
    }

    fn no_code(&mut self, formula: &Text) {
        let known: Vec<&str> = self.part.codes.iter().map(|code| code.name.as_str()).collect();
        let problem = Diagnostic::error("no-code", formula.span, "this formula uses no code")
            .label("the same value always")
            .known("", "codes", known);
        self.report(problem);
    }

    /// A stated range, its formulas resolved: over settings, parameters and quantities.
    fn stated(&mut self, range: &tree::Stated, element: Option<(usize, &[String])>) -> Option<StatedRange> {
        let mut end = |end: &tree::End| match end {
            tree::End::Number(number) => Some(End::Number(*number)),
            tree::End::Formula(text) => {
                let formula = self.formula(text, &Types::new(), None, element)?;
                self.without_codes(&formula, text).then_some(End::Formula(formula))
            }
        };
        Some(match range {
            tree::Stated::Numbers(low, high) => StatedRange { low: End::Number(*low), high: End::Number(*high) },
            tree::Stated::Ends([low, high]) => StatedRange { low: end(low)?, high: end(high)? },
        })
    }

    /// A formula, typed; its warnings are reported.
    pub(super) fn formula(
        &mut self,
        text: &Text,
        readings: &Types,
        only_frame: Option<FrameId>,
        element: Option<(usize, &[String])>,
    ) -> Option<Formula> {
        if self.diagnostics.len() > MAX_ERRORS && self.has_errors() {
            return None;
        }
        let mut warnings = Vec::new();
        let formula = analyse(
            text,
            &Names {
                part: &self.part,
                codes: &self.code_names,
                arrays: &self.arrays,
                readings,
                lost: &self.lost,
                only_frame,
                element,
                fields_first: false,
            },
            &mut warnings,
        );
        if element.is_none_or(|(index, _)| index == 0) {
            warnings.into_iter().for_each(|warning| self.warn(warning));
        }
        self.take(formula)
    }

    /// A warning, told once of a place.
    fn warn(&mut self, warning: Diagnostic) {
        if !self.diagnostics.iter().any(|known| known.name == warning.name && known.span == warning.span) {
            self.diagnostics.push(warning);
        }
    }

    /// For every reading the others that its formula uses, with the places.
    fn needs(&self, wanted: &[Wanted<'_>]) -> Vec<Vec<(usize, Span)>> {
        let names: HashMap<&str, usize> = wanted.iter().enumerate().map(|(index, want)| (want.name.as_str(), index)).collect();
        let mut needs = Vec::new();
        for want in wanted {
            let names_used = parse(&want.tree.formula).map_or(Vec::new(), |body| body.free_names());
            let is_code = |name: &str| self.code_names.contains_key(name) || want.arrays.iter().any(|array| array == name);
            let used = names_used.into_iter().filter(|(name, _)| !is_code(name));
            needs.push(used.filter_map(|(name, span)| Some((*names.get(name.as_str())?, span))).collect());
        }
        needs
    }

    /// An order in which every reading comes after those it uses; a cycle is an error.
    fn order(&mut self, wanted: &[Wanted<'_>], needs: &[Vec<(usize, Span)>]) -> Option<Vec<usize>> {
        let mut order: Vec<usize> = Vec::new();
        let mut placed = vec![false; wanted.len()];
        while order.len() < wanted.len() {
            let is_placed = |index: usize| placed.get(index).copied().unwrap_or(true);
            let ready = |index: &usize| !is_placed(*index) && needs.get(*index).is_some_and(|n| n.iter().all(|(need, _)| is_placed(*need)));
            if let Some(index) = (0..wanted.len()).find(ready) {
                order.push(index);
                if let Some(place) = placed.get_mut(index) {
                    *place = true;
                }
                continue;
            }
            let stuck = (0..wanted.len()).find(|index| !is_placed(*index))?;
            let open = |from: usize| needs.get(from).and_then(|n| n.iter().find(|(need, _)| !is_placed(*need))).copied();
            // Following unmet needs leads into the cycle; after as many steps as there are readings we are in it.
            let at = (0..wanted.len()).try_fold(stuck, |at, _| open(at).map(|(next, _)| next))?;
            let (next, span) = open(at)?;
            let name = |index: usize| wanted.get(index).map_or("", |want| want.name.as_str());
            let problem = Diagnostic::error("cycle", span, format!("`{}` and `{}` need one another", name(at), name(next)))
                .label("a reading cannot depend on itself");
            self.report(problem);
            return None;
        }
        Some(order)
    }

    fn conditions(
        &mut self,
        list: &[tree::Status],
        frame: Option<FrameId>,
        readings: &Types,
        element: Option<(usize, &[String])>,
    ) -> Vec<Condition> {
        let mut found = Vec::new();
        for status in list {
            let formula = self.formula(&status.when, readings, frame, element);
            if let (Some(formula), Some(meant)) = (formula, Status::from_name(status.is.value)) {
                found.push(Condition { formula, status: meant, means: status.means.as_ref().map(|text| text.value.clone()), needs: None });
            }
        }
        found
    }

    /// The formulas of a frame itself: its conditions and how many of its bytes count.
    pub(super) fn frame_formulas(&mut self, index: FrameId, frame: &tree::Frame) {
        let none = Types::new();
        let (valid, mut status) = self.valid_while(&frame.valid, Some(index));
        status.extend(self.conditions(&frame.status, Some(index), &none, None));
        let counted = frame.length.as_ref().and_then(|text| self.formula(text, &none, Some(index), None));
        if let (Some(formula), Some(text)) = (&counted, &frame.length)
            && formula.ty.is_real()
        {
            self.report(Diagnostic::error("wrong-type", text.span, "a number of bytes is a whole number").label("this is a real number"));
        }
        if let Some(frame) = self.part.frames.get_mut(index) {
            frame.status = status;
            frame.valid = valid;
            frame.counted = counted;
        }
    }
}
