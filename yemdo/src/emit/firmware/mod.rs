//! A part as firmware: one module of Rust or Python, or a header and a source file of C99.
//!
//! In: the part, its typed formulas and their facts. Out: text. All decisions are made once, as functions and statements
//! that all languages have (`code.rs`): `unpack` for frames, `readings`, `settings`, `routines`; `c/`, `rust/` and `python/` print it.

mod bits;
mod build;
mod c;
mod checks;
mod code;
mod derived;
mod fields;
mod forms;
mod formula;
mod inputs;
mod integers;
mod inverse;
mod judge;
mod known;
mod lines;
mod machines;
mod names;
mod needs;
mod python;
mod quantities;
mod ranging;
mod readings;
mod routines;
mod rust;
mod search;
mod settings;
mod transfers;
mod truths;
mod unpack;
mod used;
mod vectors;
mod vectors_c;
mod vectors_python;
mod vectors_rust;
mod writes;

use std::collections::BTreeMap;
use std::fmt;

use crate::bus::Bus;
use crate::formula::curve::Outside;
use crate::ground::diagnostic::{Diagnostic, render_all};
use crate::ground::number::Ty;
use crate::ground::text::Source;
use crate::model::ids::{ReadingId, RoutineId};
use crate::model::integers::{Wanted, integers};
use crate::model::part::Part;
use crate::model::status::Status;
use build::{Build, status_name};
use code::{Module, Name};
pub use forms::{Forms, ReadingForm, forms};
use names::Prefix;

/// The language.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Language {
    /// C99.
    C,
    /// Rust without the standard library.
    Rust,
    /// Python 3.9 and later, also on microcontrollers.
    Python,
}

/// How real numbers are computed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Reals {
    /// In 64 bits, as the sheet has them.
    #[default]
    Double,
    /// In 32 bits.
    Single,
    /// Not at all: readings are integers, in a fixed step.
    Integer,
}

/// Selection of items of a part.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Only {
    /// All of it.
    #[default]
    Everything,
    /// Frames and readings.
    Decode,
    /// Some readings and routines, with their dependencies.
    These {
        /// The readings.
        readings: Vec<ReadingId>,
        /// The routines.
        routines: Vec<RoutineId>,
    },
}

/// How a driver in Rust waits and talks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Hal {
    /// By the traits of embedded-hal 1.0.
    #[default]
    Blocking,
    /// By those of embedded-hal-async 1.0.
    Async,
    /// Not at all: only the state machines are emitted.
    None,
}

/// Options of emission.
#[derive(Clone, Debug)]
pub struct FirmwareOptions {
    /// How real numbers are computed.
    pub(super) reals: Reals,
    /// Selected items of the part.
    pub(super) only: Only,
    /// The bus that routines go over; the sheet's first where it has none such.
    pub(super) bus: Option<Bus>,
    /// How a Rust driver waits and talks.
    pub(super) hal: Hal,
    /// The step of integer readings, in each reading's unit.
    pub(super) step: f64,
    /// Readings with another one.
    pub(super) steps: Vec<(ReadingId, f64)>,
}

impl Default for FirmwareOptions {
    fn default() -> Self {
        Self { reals: Reals::Double, only: Only::Everything, step: 0.001, steps: Vec::new(), bus: None, hal: Hal::Blocking }
    }
}

impl FirmwareOptions {
    /// How real numbers are computed; doubles.
    pub fn reals(self, reals: Reals) -> Self {
        Self { reals, ..self }
    }

    /// Selected items of the part; default: all.
    pub fn only(self, only: Only) -> Self {
        Self { only, ..self }
    }

    /// The bus that routines go over; the sheet's first.
    pub fn bus(self, bus: Bus) -> Self {
        Self { bus: Some(bus), ..self }
    }

    /// How a Rust driver waits and talks; blocking.
    pub fn hal(self, hal: Hal) -> Self {
        Self { hal, ..self }
    }

    /// The step of integer readings, in each reading's unit; 0.001.
    pub fn step(self, step: f64) -> Self {
        Self { step, ..self }
    }

    /// The step of one reading.
    pub fn step_for(mut self, reading: ReadingId, step: f64) -> Self {
        self.steps.push((reading, step));
        self
    }

    /// The step of a reading.
    fn step_of(&self, id: ReadingId) -> f64 {
        self.steps.iter().find(|(known, _)| *known == id).map_or(self.step, |(_, step)| *step)
    }
}

/// A file that is emitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Emitted {
    /// Its name.
    pub name: String,
    /// Content.
    pub text: String,
}

/// Why a part cannot be emitted: all of the reasons.
#[derive(Clone, Debug)]
pub struct EmitError {
    /// Those that have no one place in the sheet.
    pub reasons: Vec<String>,
    /// Those that have.
    pub diagnostics: Vec<Diagnostic>,
    source: Source,
}

impl EmitError {
    /// Those that have a place, with their text underlined.
    pub fn render(&self, color: bool) -> String {
        render_all(&self.diagnostics, &self.source, color)
    }
}

impl fmt::Display for EmitError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let diagnostics = self
            .diagnostics
            .iter()
            .map(|one| format!("{}:{}: {}: {}", self.source.name(), self.source.line(one.span.start), one.message, one.label));
        f.write_str(&diagnostics.chain(self.reasons.iter().cloned()).collect::<Vec<_>>().join("\n"))
    }
}

impl std::error::Error for EmitError {}

/// A curve of the output.
struct CurveOut {
    name: String,
    sheet_name: String,
    ty: Ty,
    points: Vec<(f64, f64)>,
    outside: Outside,
}

/// A part that is ready to be printed.
struct Firmware {
    prefix: Prefix,
    module: Module,
    statuses: Vec<Status>,
    status_type: Name,
    real: Ty,
    curves: Vec<CurveOut>,
    title: Vec<String>,
    bus: Option<Bus>,
    hal: Hal,
    step: Option<f64>,
    known: known::Known,
}

/// Emits a part: the files of its module.
///
/// # Errors
/// [`EmitError`], with all reasons.
pub fn firmware(part: &Part, language: Language, options: &FirmwareOptions) -> Result<Vec<Emitted>, EmitError> {
    let Narrowed { part, errors } = &narrowed(part, options)?;
    let firmware = build(part, options, errors)?;
    let twins = match language {
        Language::C => Vec::new(),
        Language::Rust => twins(&firmware.module),
        Language::Python => python::twins(&firmware.module),
    };
    if !twins.is_empty() {
        return Err(EmitError { reasons: twins, diagnostics: Vec::new(), source: part.source().clone() });
    }
    Ok(match language {
        Language::C => c::files(&firmware),
        Language::Rust => rust::files(&firmware),
        Language::Python => python::files(&firmware),
    })
}

/// Methods with the same name in Rust. (Names in C have a prefix.)
fn twins(module: &Module) -> Vec<String> {
    let mut seen = BTreeMap::new();
    let mut found = Vec::new();
    for function in &module.functions {
        let of = function.of.as_ref().map_or("", |of| of.rust.as_str());
        if let Some(other) =
            seen.insert((of, function.name.rust.as_str()), function.name.c.as_str()).filter(|other| *other != function.name.c)
        {
            found.push(format!("{other} and {} both become `{}` in Rust: rename a field or register", function.name.c, function.name.rust));
        }
    }
    found
}

/// A self-contained test of an emitted module: a file with this number of frames and their expected readings, and a function that
/// compares the module with it. In C a header comes with it.
///
/// # Errors
/// [`EmitError`], as [`firmware`].
pub fn vectors(part: &Part, language: Language, options: &FirmwareOptions, seed: u64, count: usize) -> Result<Vec<Emitted>, EmitError> {
    let Narrowed { part, errors } = &narrowed(part, options)?;
    let firmware = build(part, options, errors)?;
    let records = vectors::records(part, &firmware, options, seed, count);
    let mut files = vec![vectors::print(&firmware, language, &records)];
    files.extend((language == Language::C).then(|| vectors_c::header(&firmware)));
    Ok(files)
}

/// A part as a module with these options computes it: decode with it to hold the two against one another. Readings of a part without
/// real numbers count steps.
///
/// # Errors
/// [`EmitError`], where it cannot be computed so.
pub fn as_computed(part: &Part, options: &FirmwareOptions) -> Result<Part, EmitError> {
    Ok(narrowed(part, options)?.part)
}

/// By how much a reading of a module may be off the exact formula, in its unit, where it is an integer: proved for every code.
///
/// # Errors
/// [`EmitError`], where it cannot be computed so.
pub fn error_bound(part: &Part, options: &FirmwareOptions, reading: ReadingId) -> Result<Option<f64>, EmitError> {
    Ok(narrowed(part, options)?.errors.get(&reading).copied())
}

/// A sheet's text as a module of Rust, for a `build.rs`.
///
/// # Errors
/// Reasons for refusal.
pub fn rust_module(name: &str, sheet: &str, options: &FirmwareOptions) -> Result<String, EmitError> {
    let part = Part::parse(name, sheet).map_err(|error| EmitError {
        reasons: Vec::new(),
        diagnostics: error.diagnostics().to_vec(),
        source: error.source_text().clone(),
    })?;
    let files = firmware(&part, Language::Rust, options)?;
    Ok(files.into_iter().map(|file| file.text).collect())
}

/// The records of such a test alone, for a module that was emitted with the same options.
///
/// # Errors
/// [`EmitError`], as [`firmware`].
pub fn vector_records(part: &Part, options: &FirmwareOptions, seed: u64, count: usize) -> Result<Vec<u8>, EmitError> {
    let Narrowed { part, errors } = &narrowed(part, options)?;
    let firmware = build(part, options, errors)?;
    Ok(vectors::records(part, &firmware, options, seed, count))
}

/// A part with its real numbers as they are to be computed, and by how much readings may be off for it, in their units.
struct Narrowed {
    part: Part,
    errors: BTreeMap<ReadingId, f64>,
}

fn narrowed(part: &Part, options: &FirmwareOptions) -> Result<Narrowed, EmitError> {
    let exact = |part: Part| Narrowed { part, errors: BTreeMap::new() };
    Ok(match options.reals {
        Reals::Double => exact(part.clone()),
        Reals::Single => exact(part.in_single_precision()),
        Reals::Integer => {
            let shown = |id: &ReadingId| part.readings.get(*id).is_some_and(|reading| reading.is_measured());
            let (readings, routines): (Vec<ReadingId>, Vec<RoutineId>) = match &options.only {
                Only::Everything => (part.readings.ids().filter(shown).collect(), part.routines.ids().collect()),
                Only::Decode => (part.readings.ids().filter(shown).collect(), Vec::new()),
                Only::These { readings, routines } => (readings.clone(), routines.clone()),
            };
            let wanted = Wanted {
                readings: readings.into_iter().collect(),
                routines: routines.into_iter().collect(),
                step: &|id| options.step_of(id),
                usual_step: options.step,
                bounds: &crate::plan::frame::bounds,
            };
            let done = integers(part, &wanted);
            let done = done.map_err(|diagnostics| EmitError { reasons: Vec::new(), diagnostics, source: part.source().clone() })?;
            Narrowed { part: done.part, errors: done.errors }
        }
    })
}

fn build(part: &Part, options: &FirmwareOptions, errors: &BTreeMap<ReadingId, f64>) -> Result<Firmware, EmitError> {
    let mut build = Build::new(part, options, errors);
    build.settings();
    build.parameters();
    let quantities: Vec<_> = build.wanted.quantities.iter().copied().collect();
    let frames: Vec<_> = build.wanted.frames.iter().copied().collect();
    frames.iter().for_each(|frame| build.frame(*frame));
    quantities.iter().for_each(|quantity| build.quantity_once(*quantity));
    frames.iter().for_each(|frame| build.quantities_in(*frame));
    frames.iter().for_each(|frame| build.readings(*frame));
    build.ranging();
    build.derived();
    let routines: Vec<_> = build.wanted.routines.iter().copied().collect();
    routines.iter().for_each(|routine| build.routine(*routine));
    let bus = build.bus();
    build.addresses();
    build.drop_uncalled();
    let Build { prefix, module, mut refused, clashes, statuses, curves, known, .. } = build;
    let curves = curves.into_inner();
    refused.extend(
        clashes
            .into_iter()
            .map(|clash| format!("{} and {} both become `{}` in the output: rename one of them", clash.one, clash.other, clash.becomes)),
    );
    if !refused.is_empty() {
        refused.dedup();
        return Err(EmitError { reasons: refused, diagnostics: Vec::new(), source: part.source().clone() });
    }
    let real = match options.reals {
        Reals::Double => Ty::F64,
        Reals::Single => Ty::F32,
        Reals::Integer => Ty::I32,
    };
    let used = used::Used::in_module(&module);
    let curve = |index: &usize| {
        let (points, outside) = part.curves.get(*index)?.parts();
        let (name, _) = part.curve_names.get(*index)?;
        let function = prefix.function(&format!("curve_{name}"));
        used.calls.contains(&function.c).then(|| CurveOut {
            name: names::snake(&format!("curve {name}")).trim_start_matches("curve_").to_owned(),
            sheet_name: name.clone(),
            ty: if real.is_real() { real } else { Ty::I64 },
            points: points.to_vec(),
            outside,
        })
    };
    Ok(Firmware {
        status_type: prefix.ty("status"),
        statuses: statuses.into_iter().collect(),
        real,
        curves: curves.iter().filter_map(curve).collect(),
        title: title(part, options),
        bus: bus.filter(|_| !module.machines.is_empty()),
        hal: options.hal,
        step: (options.reals == Reals::Integer).then_some(options.step),
        known,
        prefix,
        module,
    })
}

/// Header of all files.
fn title(part: &Part, options: &FirmwareOptions) -> Vec<String> {
    let mut lines = vec![format!("{}{}", part.name(), part.title().map_or(String::new(), |title| format!(": {title}")))];
    lines.extend(part.datasheet().map(|datasheet| format!("After: {datasheet}")));
    lines.push(String::new());
    lines.push(format!("Generated by yemdo {} from the sheet with hash {:016x}.", env!("CARGO_PKG_VERSION"), hash(part.source().text())));
    lines.push("Do not edit: change the sheet and generate it again.".into());
    let reals = match options.reals {
        Reals::Double => "Real numbers are computed in 64 bits.".to_owned(),
        Reals::Single => "Real numbers are computed in 32 bits.".to_owned(),
        Reals::Integer => "There are no real numbers: readings are integers that count steps.".to_owned(),
    };
    lines.push(reals);
    lines
}

/// FNV-1a over the text (64 bits).
fn hash(text: &str) -> u64 {
    text.bytes().fold(0xCBF2_9CE4_8422_2325, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0000_0100_0000_01B3))
}

impl Firmware {
    fn head(&self) -> Vec<String> {
        let mut lines = self.title.clone();
        lines.extend(self.module.notes.iter().map(|note| format!("Left out: {note}.")));
        lines.iter().map(|line| lines::one_line(line)).collect()
    }

    fn step_note(&self) -> String {
        self.step.map_or(String::new(), |_| " The value counts steps; how large they are is said where the reading is.".to_owned())
    }

    /// Possible statuses with their meanings.
    fn status_list(&self) -> Vec<(Name, &'static str)> {
        let doc = |status: Status| match status {
            Status::Ok => "a good value",
            Status::Alert => "a good value; the part signals an alert",
            Status::OutOfRange => "a value outside the stated range",
            Status::Saturated => "end of the range; the value is a bound",
            Status::NotReady => "no value: no new measurement",
            Status::Invalid => "no value: invalid measurement",
            Status::PartFault => "no value: the part reports a fault",
            Status::FormulaFault => "no value: the formula cannot be computed",
            Status::Waiting => "no value: another frame is needed first",
            Status::Absent => "no value: the frame ends before it",
        };
        self.statuses.iter().map(|status| (status_name(&self.prefix, *status), doc(*status))).collect()
    }

    fn uses_reals(&self) -> bool {
        self.real.is_real()
    }
}
