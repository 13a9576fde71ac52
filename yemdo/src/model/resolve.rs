//! Syntax tree to resolved part: binds names, checks layouts, types formulas, puts readings in order.

mod buses;
mod derived;
mod examples;
mod fields;
mod frames;
mod names;
mod needs;
mod operation;
mod readings;
mod registers;

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::ids::{CodeId, FrameId};
use super::part::{Part, Sheet};
use super::reading::Parameter;
use crate::formula::curve::{Curve, Outside};
use crate::formula::front::parse::parse;
use crate::formula::input::InputKey;
use crate::formula::typed::Lost;
use crate::ground::diagnostic::{Diagnostic, Severity, SheetError};
use crate::ground::list::Id;
use crate::ground::text::Source;
use crate::sheet::tree;

/// Reads and resolves a sheet, or one of its variants.
pub(crate) fn resolve(source: Source, variant: Option<&str>) -> Result<Part, SheetError> {
    resolve_changed(source, variant, |_| {})
}

/// The same, with the tree changed before it is resolved.
pub(crate) fn resolve_changed(source: Source, variant: Option<&str>, change: impl FnOnce(&mut tree::Sheet)) -> Result<Part, SheetError> {
    let (mut tree, diagnostics) = crate::sheet::parse::parse(source.text(), variant);
    change(&mut tree);
    let mut resolver = Resolver {
        diagnostics,
        part: Sheet::empty(source.clone()),
        code_names: HashMap::new(),
        lost: HashMap::new(),
        arrays: HashMap::new(),
    };
    // An incomplete tree would only cause follow-up errors.
    if !resolver.has_errors() {
        resolver.run(&tree);
    }
    let Resolver { mut diagnostics, mut part, .. } = resolver;
    part.variant = variant.map(str::to_owned);
    diagnostics.sort_by_key(|d| (d.span.start, d.span.end));
    // Errors of all elements of an array are reported once.
    diagnostics.dedup_by(|one, other| one.span == other.span && one.message == other.message);
    if diagnostics.iter().any(|d| d.severity == Severity::Error) {
        let allowed = |d: &Diagnostic| d.severity == Severity::Warning && tree.allow.iter().any(|text| text.value == d.name);
        diagnostics.retain(|d| !allowed(d));
        return Err(SheetError::new(source, diagnostics));
    }
    part.lost = diagnostics;
    Ok(Part::new(part))
}

struct Resolver {
    diagnostics: Vec<Diagnostic>,
    part: Sheet,
    /// The codes of frames by their names, those left out that are fields.
    code_names: HashMap<String, Vec<CodeId>>,
    /// Divisions of integers that shared values are made of.
    lost: HashMap<InputKey, Lost>,
    /// Arrays of codes and of fields: the suffixes of their elements.
    arrays: HashMap<String, Vec<String>>,
}

/// The quantities that need no reading, so that readings may use them; the others go through one, or use one that does.
fn early(quantities: &[tree::Named<tree::Quantity>]) -> HashSet<String> {
    let names = |quantity: &tree::Quantity| match &quantity.way {
        tree::Way::Formula(text) => parse(text).map_or(Vec::new(), |body| body.free_names().into_iter().map(|(name, _)| name).collect()),
        tree::Way::Through { .. } => Vec::new(),
    };
    let mut late: HashSet<String> = HashSet::new();
    loop {
        let is_late = |quantity: &tree::Quantity| {
            matches!(quantity.way, tree::Way::Through { .. }) || names(quantity).iter().any(|name| late.contains(name))
        };
        let found: Vec<String> = quantities
            .iter()
            .filter(|(name, quantity)| !late.contains(&name.value) && is_late(quantity))
            .map(|(name, _)| name.value.clone())
            .collect();
        if found.is_empty() {
            break;
        }
        late.extend(found);
    }
    quantities.iter().map(|(name, _)| name.value.clone()).filter(|name| !late.contains(name)).collect()
}

/// Errors that are looked for; with more of them a sheet is given up.
const MAX_ERRORS: usize = 200;

impl Resolver {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// The value, or `None` with its diagnostic reported.
    fn take<T>(&mut self, result: Result<T, Diagnostic>) -> Option<T> {
        result.map_err(|diagnostic| self.report(diagnostic)).ok()
    }

    /// An array has an element of that name.
    fn in_array(&mut self, array: &str, element: &str) {
        let elements = self.arrays.entry(array.to_owned()).or_default();
        if !elements.iter().any(|known| known == element) {
            elements.push(element.to_owned());
        }
    }

    /// Whether something is missing because of an error; an unknown key leaves no hole, and no formula needs an
    /// address.
    fn has_errors(&self) -> bool {
        let leaves_no_hole = |name: &str| matches!(name, "unknown-key" | "eight-bit-address");
        self.diagnostics.iter().any(|d| d.severity == Severity::Error && !leaves_no_hole(d.name))
    }

    fn run(&mut self, tree: &tree::Sheet) {
        self.part.name = tree.part.value.clone();
        self.part.title = tree.title.as_ref().map(|text| text.value.clone());
        self.part.datasheet = tree.source.as_ref().map(|text| text.value.clone());
        self.part.variants = tree.variants.iter().map(|name| name.value.clone()).collect();
        self.allowed_warnings(tree);
        self.part.allowed = tree.allow.iter().map(|text| text.value.clone()).collect();
        self.part.inherits_examples = tree.inherits_examples;
        self.buses(tree);
        self.registers(tree);
        self.supplied(tree);
        for (index, (name, frame)) in tree.frames.iter().enumerate() {
            self.frame(FrameId::new(index), name, frame);
            if self.diagnostics.last().is_some_and(|d| d.name == "too-many") {
                return;
            }
        }
        for (id, code) in self.part.codes.entries().filter(|(_, code)| code.field.is_none()) {
            self.code_names.entry(code.name.clone()).or_default().push(id);
        }
        for (name, _) in &tree.parameters {
            let code = self.code_names.get(&name.value).and_then(|ids| ids.first()).and_then(|id| self.part.codes.get(*id));
            if let Some(code) = code {
                let problem = Diagnostic::error("name-taken", name.span, format!("`{}` is the name of a code too", name.value));
                let problem =
                    problem.label("formulas would take the code").also(code.span, "the code").help("give one of them another name");
                self.report(problem);
            }
        }
        let early = early(&tree.quantities);
        if !self.has_errors() {
            self.quantities(&tree.quantities, &|name| early.contains(name));
        }
        if !self.has_errors() {
            self.readings(&tree.readings, &tree.shared);
        }
        if !self.has_errors() {
            for (index, (_, frame)) in tree.frames.iter().enumerate() {
                self.frame_formulas(FrameId::new(index), frame);
            }
            self.computed(tree);
            self.quantities(&tree.quantities, &|name| !early.contains(name));
        }
        if !self.has_errors() {
            self.fields_in_part();
        }
        self.floors(&tree.quantities);
        if !self.has_errors() {
            self.flags(&tree.quantities);
        }
        if let Some(modbus) = &tree.modbus {
            self.part.unit_field = modbus.unit_field.as_ref().and_then(|name| self.known_field(name));
            self.part.baud_field = modbus.baud_field.as_ref().and_then(|name| self.known_field(name));
            self.as_delivered(modbus);
        }
        if !self.has_errors() {
            self.routines(&tree.routines);
        }
        if !self.has_errors() {
            self.derived(&tree.derived);
        }
        if !self.has_errors() {
            for example in &tree.examples {
                self.example(example);
            }
        }
    }

    /// Parameters and tables.
    fn supplied(&mut self, tree: &tree::Sheet) {
        let text = |text: &Option<crate::ground::text::Text>| text.as_ref().map(|text| text.value.clone());
        for (name, parameter) in &tree.parameters {
            let tree::Supplied::Number { default, unit, range } = &parameter.supplied else { continue };
            self.part.parameters.push(Parameter {
                name: name.value.clone(),
                span: name.span,
                default: *default,
                unit: text(unit),
                range: range.map(|range| range.value),
                means: text(&parameter.means),
                source: text(&parameter.source),
            });
        }
        for (name, table) in &tree.tables {
            let outside = match table.outside {
                "hold" => Outside::Hold,
                "extend" => Outside::Extend,
                _ => Outside::Fault,
            };
            self.part.curves.push(Arc::new(Curve::new(table.points.iter().map(|[x, y]| (x.value, y.value)).collect(), outside)));
            self.part.curve_names.push((name.value.clone(), name.span));
        }
    }

    fn allowed_warnings(&mut self, tree: &tree::Sheet) {
        for name in &tree.allow {
            let known = crate::sheet::warnings::WARNINGS.iter().map(|(name, _)| *name);
            if !known.clone().any(|known| known == name.value) {
                let problem =
                    Diagnostic::error("unknown-word", name.span, format!("there is no warning `{}`", name.value)).label("not known");
                self.report(problem.known(&name.value, "warnings", known));
            }
        }
    }
}
