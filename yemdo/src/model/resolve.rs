//! Syntax tree to resolved part: binds names, checks layouts, types formulas, puts readings in order.

mod buses;
mod examples;
mod frames;
mod names;
mod operation;
mod readings;
mod registers;

use std::sync::Arc;

use super::outcome;
use super::part::{Parameter, Part};
use crate::formula::curve::{Curve, Outside};
use crate::sheet::text::Source;
use crate::sheet::tree;
use crate::sheet::{Diagnostic, Severity, SheetError};

/// Reads and resolves a sheet, or one of its variants.
pub(crate) fn resolve(source: Source, variant: Option<&str>) -> Result<Part, SheetError> {
    let (tree, diagnostics) = crate::sheet::parse::parse(source.text(), variant);
    let mut resolver = Resolver { diagnostics, part: empty(source.clone()), used: Vec::new() };
    // A tree with holes would only draw complaints about what is missing because of them.
    if !resolver.has_errors() {
        resolver.run(&tree);
    }
    let Resolver { mut diagnostics, mut part, used } = resolver;
    let sound = diagnostics.iter().all(|d| d.severity != Severity::Error);
    if sound {
        diagnostics.extend(crate::check::review::review(&part, &tree, &used));
    }
    let allowed = |d: &Diagnostic| d.severity == Severity::Warning && tree.allow.iter().any(|text| text.value == d.name);
    diagnostics.retain(|d| !allowed(d));
    diagnostics.sort_by_key(|d| (d.span.start, d.span.end));
    if !sound {
        return Err(SheetError::new(source, diagnostics));
    }
    part.warnings = diagnostics;
    Ok(part)
}

fn empty(source: Source) -> Part {
    Part {
        source,
        name: String::new(),
        title: None,
        datasheet: None,
        i2c: None,
        spi: None,
        modbus: None,
        registers: Vec::new(),
        fields: Vec::new(),
        reset_image: Vec::new(),
        variants: Vec::new(),
        parameters: Vec::new(),
        tables: Vec::new(),
        quantities: Vec::new(),
        routines: Vec::new(),
        frames: Vec::new(),
        codes: Vec::new(),
        readings: Vec::new(),
        order: Vec::new(),
        examples: Vec::new(),
        warnings: Vec::new(),
    }
}

struct Resolver {
    diagnostics: Vec<Diagnostic>,
    part: Part,
    /// Codes and fields that some formula or condition uses, by name.
    used: Vec<String>,
}

impl Resolver {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// The value, or `None` with its diagnostic reported.
    fn take<T>(&mut self, result: Result<T, Diagnostic>) -> Option<T> {
        result.map_err(|diagnostic| self.report(diagnostic)).ok()
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
        self.buses(tree);
        self.registers(tree);
        self.supplied(tree);
        for (index, (name, frame)) in tree.frames.iter().enumerate() {
            self.frame(index, name, frame);
            if self.diagnostics.last().is_some_and(|d| d.name == "too-many") {
                return;
            }
        }
        if !self.has_errors() {
            self.readings(&tree.readings, &tree.shared);
        }
        if !self.has_errors() {
            for (index, (_, frame)) in tree.frames.iter().enumerate() {
                self.frame_formulas(index, frame);
            }
            self.computed(tree);
            self.quantities(&tree.quantities);
        }
        if !self.has_errors() {
            self.routines(&tree.routines);
        }
        if !self.has_errors() {
            for index in 0..self.part.readings.len() {
                let decimals = outcome::decimals(&self.part, index);
                if let Some(reading) = self.part.readings.get_mut(index) {
                    reading.decimals = decimals;
                }
            }
            for example in &tree.examples {
                self.example(example);
            }
        }
    }

    /// Parameters and tables.
    fn supplied(&mut self, tree: &tree::Sheet) {
        let text = |text: &Option<crate::sheet::text::Text>| text.as_ref().map(|text| text.value.clone());
        for (name, parameter) in &tree.parameters {
            self.part.parameters.push(Parameter {
                name: name.value.clone(),
                default: parameter.default.value,
                unit: text(&parameter.unit),
                range: parameter.range.map(|range| range.value),
                means: text(&parameter.means),
            });
        }
        for (name, table) in &tree.tables {
            let outside = match table.outside {
                "hold" => Outside::Hold,
                "extend" => Outside::Extend,
                _ => Outside::Fault,
            };
            self.part.tables.push((name.value.clone(), Arc::new(Curve::new(table.points.clone(), outside))));
        }
    }

    fn allowed_warnings(&mut self, tree: &tree::Sheet) {
        for name in &tree.allow {
            let known = crate::check::review::WARNINGS.iter().map(|(name, _)| *name);
            if !known.clone().any(|known| known == name.value) {
                let problem =
                    Diagnostic::error("unknown-word", name.span, format!("there is no warning `{}`", name.value)).label("not known");
                self.report(problem.known(&name.value, "warnings", known));
            }
        }
    }
}
