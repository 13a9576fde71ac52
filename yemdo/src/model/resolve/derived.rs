//! Derived quantities: names, previous values, and frames.

use super::Resolver;
use crate::formula::front::analyse::{Scope, analyse};
use crate::formula::input::{CurveId, InputKey};
use crate::formula::typed::Formula;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::Id;
use crate::ground::number::Ty;
use crate::ground::suggest::nearest;
use crate::ground::text::Text;
use crate::model::ids::ReadingId;
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::{Derived, End, Reading, ReadingKind};
use crate::sheet::tree;

/// Most derived quantities of a sheet.
const MAX_DERIVED: usize = 64;

/// Names for the previous frame and for the time since then.
pub(super) const BEFORE: &str = "before";
pub(super) const ELAPSED: &str = "elapsed";

impl Resolver {
    /// After all readings: nothing else uses derived quantities.
    pub(super) fn derived(&mut self, list: &[tree::Named<tree::Derived>]) {
        if let Some((name, _)) = list.get(MAX_DERIVED) {
            let text = format!("a sheet has at most {MAX_DERIVED} derived quantities");
            self.report(Diagnostic::error("too-many", name.span, text).label("one too many"));
            return;
        }
        let first = self.part.readings.len();
        let names: Vec<&str> = list.iter().map(|(name, _)| name.value.as_str()).collect();
        self.own_names(list);
        let mut resolved = Vec::new();
        for (at, (name, tree)) in list.iter().enumerate() {
            let place = (first, names.as_slice(), at);
            let Some(formula) = self.over_readings(&tree.formula, place, false) else { continue };
            let start = match tree.start.as_ref().map(|start| &start.value) {
                None => None,
                Some(tree::End::Number(number)) => Some(End::Number(*number)),
                Some(tree::End::Formula(text)) => {
                    let Some(formula) = self.over_readings(text, place, true) else { continue };
                    Some(End::Formula(formula))
                }
            };
            let mut derived = Derived { start, gap: tree.gap.as_ref().map(|gap| gap.value), ..Derived::default() };
            let mut taken: Vec<Input> = inputs(&formula).collect();
            if let Some(End::Formula(formula)) = &derived.start {
                taken.extend(inputs(formula));
            }
            for input in taken {
                match input {
                    Input::Came(id) => derived.uses.push(id),
                    Input::Before(id) => derived.before.push(id),
                    _ => {}
                }
            }
            derived.timed = !derived.before.is_empty() || inputs(&formula).any(|input| input == Input::Elapsed);
            derived.from = derived.uses.iter().chain(&derived.before).copied().filter(|id| id.index() != first + at).collect();
            for list in [&mut derived.uses, &mut derived.before, &mut derived.from] {
                list.sort_unstable();
                list.dedup();
            }
            if !self.holds_together(tree, &derived, ReadingId::new(first + at)) {
                continue;
            }
            resolved.push(Reading {
                name: name.value.clone(),
                span: name.span,
                unit: tree.unit.value.clone(),
                range: None,
                decimals: tree.decimals,
                formula,
                frames: Vec::new(),
                codes: Vec::new(),
                status: Vec::new(),
                valid: Vec::new(),
                means: tree.means.as_ref().map(|text| text.value.clone()),
                source: tree.source.as_ref().map(|text| text.value.clone()),
                kind: ReadingKind::Derived(Box::new(derived)),
            });
        }
        // With one missing, the places of the others would not be theirs.
        if resolved.len() < list.len() {
            return;
        }
        for reading in resolved {
            self.part.readings.push(reading);
        }
        self.with_frames(first);
    }

    fn own_names(&mut self, list: &[tree::Named<tree::Derived>]) {
        for (name, _) in list {
            let text = name.value.as_str();
            let reading = self.part.readings.iter().find(|reading| reading.name == text).map(|reading| ("a reading", reading.span));
            let code = || self.part.codes.iter().find(|code| code.name == text).map(|code| ("a code", code.span));
            let parameter =
                || self.part.parameters.iter().find(|parameter| parameter.name == text).map(|parameter| ("a parameter", parameter.span));
            if let Some((what, span)) = reading.or_else(code).or_else(parameter) {
                let problem = Diagnostic::error("name-taken", name.span, format!("`{text}` is the name of {what} too"));
                self.report(problem.label("needs a name of its own").also(span, what));
            } else if [BEFORE, ELAPSED].contains(&text) {
                let problem =
                    Diagnostic::error("bad-name", name.span, format!("`{text}` has a meaning of its own in formulas of `derived`"));
                self.report(problem.label("cannot be a name here"));
            }
        }
    }

    /// A typed formula over readings, with its warnings.
    fn over_readings(&mut self, text: &Text, (first, names, at): (usize, &[&str], usize), start: bool) -> Option<Formula> {
        let mut warnings = Vec::new();
        let formula = analyse(text, &DerivedNames { part: &self.part, first, names, at, start }, &mut warnings);
        self.diagnostics.extend(warnings);
        self.take(formula)
    }

    /// Checks `start` and `gap` against its formula.
    fn holds_together(&mut self, tree: &tree::Derived, derived: &Derived, own: ReadingId) -> bool {
        let on_itself = derived.before.contains(&own);
        let problem = match (&tree.start, &tree.gap) {
            _ if derived.uses.is_empty() && derived.before.iter().all(|id| *id == own) => {
                let known: Vec<&str> =
                    self.part.readings.iter().filter(|reading| !reading.is_shared()).map(|reading| reading.name.as_str()).collect();
                let problem = Diagnostic::error("no-reading", tree.formula.span, "this formula takes no reading");
                problem.label("nothing says when it is to be computed").known("", "readings", known)
            }
            (None, _) if on_itself => {
                Diagnostic::error("missing-key", tree.formula.span, "missing `start`: the formula uses `before` of itself")
                    .label("needs `start`")
                    .help("a sum begins with start = 0; a mean with a reading: start = \"temperature\"")
            }
            (Some(start), _) if !on_itself => {
                let problem = Diagnostic::error("unknown-key", start.span, "`start` needs `before` of the quantity itself in the formula");
                problem.label("the formula does not take `before` of itself")
            }
            (_, None) if derived.timed => {
                Diagnostic::error("missing-key", tree.formula.span, "missing `gap`: the maximum time between two frames")
                    .label("needs `gap`")
                    .help("give the longest time between two frames that belong together, such as gap = \"15 min\"")
            }
            (_, Some(gap)) if !derived.timed => {
                let problem = Diagnostic::error("unknown-key", gap.span, "`gap` is for what takes something from the frame before");
                problem.label("the formula has neither `before` nor `elapsed`")
            }
            _ => return true,
        };
        self.report(problem);
        false
    }

    /// A derived quantity comes with every frame of its readings.
    fn with_frames(&mut self, first: usize) {
        let derived: Vec<ReadingId> = self.part.readings.ids().skip(first).collect();
        let mut behind: Vec<Vec<ReadingId>> = Vec::new();
        for id in &derived {
            let used = self.part.readings.get(*id).and_then(Reading::derived);
            let mut all: Vec<ReadingId> = used.iter().flat_map(|used| used.uses.iter().chain(&used.before)).copied().collect();
            // Earlier quantities are known; later ones are available from the previous frame.
            let further = all.iter().filter_map(|id| behind.get(id.index().checked_sub(first)?)).flatten().copied().collect::<Vec<_>>();
            all.extend(further);
            behind.push(all);
        }
        for frame in self.part.frames.iter_mut() {
            let comes = |readings: &Vec<ReadingId>| readings.iter().any(|id| frame.readings.contains(id));
            frame.derived = derived.iter().zip(&behind).filter(|(_, behind)| comes(behind)).map(|(id, _)| *id).collect();
        }
    }
}

/// Names in a formula over readings.
struct DerivedNames<'a> {
    part: &'a Sheet,
    /// The place of the first derived quantity among the readings.
    first: usize,
    names: &'a [&'a str],
    /// Which of them this is.
    at: usize,
    /// Formula of the first value: there is no previous frame.
    start: bool,
}

impl DerivedNames<'_> {
    fn derived(&self, name: &str) -> Option<usize> {
        self.names.iter().position(|known| *known == name)
    }

    fn reading(&self, name: &str) -> Option<(ReadingId, Ty)> {
        let found = self.part.readings.entries().find(|(_, reading)| reading.is_measured() && reading.name == name);
        found.map(|(id, reading)| (id, reading.ty_in_derived()))
    }

    fn at_before(&self, name: &str) -> Result<Option<(Input, Ty)>, String> {
        if self.start {
            return Err("at the start there is no frame before".into());
        }
        if let Some(at) = self.derived(name) {
            return Ok(Some((Input::Before(ReadingId::new(self.first + at)), Ty::F64)));
        }
        if let Some((id, ty)) = self.reading(name) {
            return Ok(Some((Input::Before(id), ty)));
        }
        let known = self.part.readings.iter().filter(|reading| reading.is_measured()).map(|reading| reading.name.as_str());
        let near = nearest(name, known.chain(self.names.iter().copied()));
        Err(near.map_or_else(
            || format!("there is no reading `{name}`"),
            |near| format!("there is no reading `{name}`; did you mean `{near}`?"),
        ))
    }

    fn find(&self, name: &str, member: Option<&str>) -> Result<Option<(Input, Ty)>, String> {
        match (name, member) {
            (BEFORE, Some(name)) => return self.at_before(name),
            (BEFORE, None) => return Err("write before.NAME, with the name of a reading".into()),
            (ELAPSED, None) if self.start => return Err("at the start there is no frame before".into()),
            (ELAPSED, None) => return Ok(Some((Input::Elapsed, Ty::F64))),
            (_, Some(_)) => return Ok(None),
            _ => {}
        }
        if let Some((id, ty)) = self.reading(name) {
            return Ok(Some((Input::Came(id), ty)));
        }
        match self.derived(name) {
            Some(at) if at < self.at => return Ok(Some((Input::Came(ReadingId::new(self.first + at)), Ty::F64))),
            Some(at) if at == self.at => return Err(format!("its own value at the frame before is before.{name}")),
            Some(_) => return Err(format!("it comes further below; its value at the frame before is before.{name}")),
            None => {}
        }
        if let Some(id) = self.part.parameters.position(|parameter| parameter.name == name) {
            return Ok(Some((Input::Parameter(id), Ty::F64)));
        }
        if self.part.codes.iter().any(|code| code.name == name) {
            return Err("it is a code: derived quantities use readings".into());
        }
        Ok(None)
    }
}

impl Scope for DerivedNames<'_> {
    fn resolve(&self, name: &str, member: Option<&str>) -> Result<Option<(InputKey, Ty)>, String> {
        Ok(self.find(name, member)?.map(|(input, ty)| (input.key(), ty)))
    }

    fn curve(&self, name: &str) -> Option<CurveId> {
        let found = self.part.curve_names.iter().position(|(known, _)| known == name)?;
        u32::try_from(found).ok().map(CurveId)
    }

    fn names(&self) -> Vec<String> {
        let readings = self.part.readings.iter().filter(|reading| reading.is_measured()).map(|reading| reading.name.clone());
        let parameters = self.part.parameters.iter().map(|parameter| parameter.name.clone());
        let above = self.names.iter().take(self.at).map(|name| (*name).to_owned());
        readings.chain(above).chain(parameters).chain([ELAPSED.to_owned()]).collect()
    }
}
