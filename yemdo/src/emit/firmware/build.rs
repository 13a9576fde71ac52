//! Selection of the emitted items of a part, with their names, stored types and inputs.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use super::code::{Expr, Module, Name, Param, Pass, Type};
use super::formula::{Around, Source};
use super::known::Known;
use super::names::{NameClash, Prefix, Scope, snake};
use super::needs::Needs;
use super::used::Used;
use super::{FirmwareOptions, Only, Reals};
use crate::bits::form::Form;
use crate::bits::layout::Layout;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::typed::Formula;
use crate::ground::list::List;
use crate::ground::number::Ty;
use crate::model::ids::{CodeId, ColumnId, FieldId, FrameId, ParameterId, QuantityId, ReadingId, RegisterId, RoutineId};
use crate::model::input::{Input, inputs};
use crate::model::part::Part;
use crate::model::reading::Reading;
use crate::model::status::Status;
use crate::plan::frame::bounds;

/// A module that is being built.
pub(super) struct Build<'a> {
    pub(super) part: &'a Part,
    pub(super) options: &'a FirmwareOptions,
    /// By how much readings may be off.
    pub(super) errors: &'a BTreeMap<ReadingId, f64>,
    pub(super) prefix: Prefix,
    pub(super) module: Module,
    /// Reasons for refusal.
    pub(super) refused: Vec<String>,
    pub(super) clashes: Vec<NameClash>,
    /// Functions and types of C, which have one space for all.
    pub(super) global: Scope,
    pub(super) wanted: Wanted,
    pub(super) known: Known,
    pub(super) facts: List<ReadingId, Option<Facts>>,
    /// Statuses that can come.
    pub(super) statuses: BTreeSet<Status>,
    /// Possible values of quantities.
    pub(super) quantity_bounds: BTreeMap<QuantityId, Interval>,
    /// Values that only one other uses: they are called there.
    pub(super) called: BTreeSet<ReadingId>,
    /// Curves that expressions call, by their places in the part.
    pub(super) curves: RefCell<BTreeSet<usize>>,
}

/// Selected items of the part.
#[derive(Clone, Debug, Default)]
pub(super) struct Wanted {
    pub(super) readings: BTreeSet<ReadingId>,
    pub(super) derived: BTreeSet<ReadingId>,
    pub(super) frames: BTreeSet<FrameId>,
    pub(super) routines: BTreeSet<RoutineId>,
    pub(super) registers: BTreeSet<RegisterId>,
    pub(super) quantities: BTreeSet<QuantityId>,
    /// Fields that routines and quantities take from the settings.
    pub(super) outside: BTreeSet<FieldId>,
    /// Columns of tables that formulas use.
    pub(super) columns: BTreeSet<(FieldId, ColumnId)>,
    /// True for all items of the sheet, also unused ones.
    pub(super) all: bool,
}

/// Inputs of a formula and its dependencies.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Takes {
    pub(super) frames: BTreeSet<FrameId>,
    pub(super) settings: bool,
    pub(super) parameters: bool,
}

impl Takes {
    pub(super) fn add(&mut self, other: &Takes) {
        self.frames.extend(&other.frames);
        self.settings |= other.settings;
        self.parameters |= other.parameters;
    }
}

/// Variables and members that the output has itself.
const OWN: &[&str] = &[
    "answered",
    "at",
    "bits",
    "buffer",
    "bytes",
    "came",
    "code",
    "codes",
    "count",
    "device",
    "frame",
    "given_bytes",
    "good",
    "got",
    "kind",
    "next",
    "number",
    "out",
    "own",
    "parameters",
    "readings",
    "records",
    "request",
    "result",
    "run",
    "settings",
    "size",
    "start",
    "status",
    "taken",
    "value",
    "wrong",
];

impl<'a> Build<'a> {
    pub(super) fn new(part: &'a Part, options: &'a FirmwareOptions, errors: &'a BTreeMap<ReadingId, f64>) -> Self {
        let mut this = Self {
            part,
            options,
            errors,
            prefix: Prefix::of(part.name()),
            module: Module::default(),
            refused: Vec::new(),
            clashes: Vec::new(),
            global: Scope::default(),
            wanted: Wanted::default(),
            known: Known::default(),
            facts: List::filled(part.readings.len(), |_| None),
            statuses: BTreeSet::from([Status::Ok]),
            quantity_bounds: BTreeMap::new(),
            called: BTreeSet::new(),
            curves: RefCell::default(),
        };
        this.own_names();
        this.want();
        this.known = Known::of(part, &this.wanted);
        this.work_out_facts();
        this
    }

    /// Selects the wanted items and their dependencies.
    fn want(&mut self) {
        let part = self.part;
        let wanted = &mut self.wanted;
        let shown = |id: &ReadingId| part.readings.get(*id).is_some_and(|reading| reading.is_measured());
        let every = part.readings.ids().filter(shown);
        match &self.options.only {
            Only::Everything => {
                wanted.all = true;
                wanted.derived.extend(part.readings.entries().filter(|(_, reading)| reading.is_derived()).map(|(id, _)| id));
                wanted.readings.extend(every);
                wanted.frames.extend(part.frames.ids());
                wanted.routines.extend(part.routines.ids());
                wanted.registers.extend(part.registers.ids());
                wanted.quantities.extend(part.quantities.ids());
            }
            Only::Decode => {
                wanted.readings.extend(every);
                wanted.frames.extend(part.frames.ids());
            }
            Only::These { readings, routines } => {
                // Derived quantities include their readings.
                let mut all: Vec<ReadingId> = readings.clone();
                let mut at = 0;
                while let Some(reading) = all.get(at).and_then(|id| part.readings.get(*id)) {
                    all.extend(reading.derived_from());
                    at += 1;
                }
                let is_derived = |id: &ReadingId| part.readings.get(*id).is_some_and(Reading::is_derived);
                let (derived, measured): (Vec<_>, Vec<_>) = all.into_iter().partition(is_derived);
                wanted.derived.extend(derived);
                wanted.readings.extend(measured);
                wanted.routines.extend(routines);
            }
        }
        let mut found: Vec<Input> = Vec::new();
        let mut needs = Needs::default();
        for id in wanted.readings.iter().flat_map(|id| part.needed(*id)).collect::<Vec<_>>() {
            let Some(reading) = part.readings.get(id) else { continue };
            wanted.frames.extend(part.codes.of(&reading.codes).map(|code| code.frame));
            found.extend(part.inputs_behind(reading.formulas().flat_map(inputs)));
        }
        for frame in part.frames.of(&wanted.frames) {
            found.extend(part.inputs_behind(frame.status.iter().flat_map(|condition| inputs(&condition.formula))));
        }
        for id in &wanted.routines {
            super::needs::needs(part, *id, &mut needs);
        }
        wanted.frames.extend(needs.frames);
        wanted.registers.extend(needs.registers);
        wanted.outside.extend(needs.fields);
        found.extend(needs.inputs);
        for quantity in part.quantities.of(&wanted.quantities.iter().copied().collect::<Vec<_>>()) {
            let through = quantity.through.and_then(|(reading, _)| part.readings.get(reading));
            let taken =
                part.inputs_behind(inputs(&quantity.formula).chain(through.into_iter().flat_map(|reading| inputs(&reading.formula))));
            wanted.outside.extend(taken.iter().filter_map(|input| input.field()));
            found.extend(taken);
        }
        for input in found {
            if let Input::Column(field, column) = input {
                wanted.columns.insert((field, column));
            }
            if let Input::Quantity(quantity) = input {
                wanted.quantities.insert(quantity);
            }
            wanted.registers.extend(input.field().into_iter().flat_map(|field| part.homes(field)));
            if let Input::Code(code) = input {
                wanted.frames.extend(part.codes.get(code).map(|code| code.frame));
            }
        }
    }

    fn work_out_facts(&mut self) {
        let part = self.part;
        let formulas: Vec<(InputKey, &Formula)> =
            part.order.iter().filter_map(|id| Some((Input::Reading(*id).key(), &part.readings.get(*id)?.formula))).collect();
        let all = Facts::of_all(&formulas, &part.curves, &|key| bounds(part, key));
        for (id, facts) in part.order.iter().zip(all) {
            self.facts.get_mut(*id).into_iter().for_each(|place| *place = Some(facts.clone()));
        }
    }

    /// Facts of a formula that no other formula uses.
    pub(super) fn facts_of(&self, formula: &Formula) -> Facts {
        let part = self.part;
        let mut formulas: Vec<(InputKey, &Formula)> = Vec::new();
        let needed: BTreeSet<ReadingId> = inputs(formula)
            .filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None })
            .flat_map(|id| part.needed(id))
            .collect();
        for id in part.order.iter().filter(|id| needed.contains(id)) {
            formulas.extend(part.readings.get(*id).map(|reading| (Input::Reading(*id).key(), &reading.formula)));
        }
        formulas.push((InputKey(u64::MAX), formula));
        // Bounds of quantities that were computed before.
        let known = |key| match Input::of(key) {
            Input::Quantity(id) => self.quantity_bounds.get(&id).copied().unwrap_or_else(|| bounds(part, key)),
            _ => bounds(part, key),
        };
        Facts::of_all(&formulas, &part.curves, &known).pop().unwrap_or_else(Facts::unknown)
    }

    /// Leaves out functions of the module's own that nothing calls.
    pub(super) fn drop_uncalled(&mut self) {
        loop {
            let used = Used::in_module(&self.module);
            let before = self.module.functions.len();
            self.module.functions.retain(|function| function.public || used.calls.contains(&function.name.c));
            if self.module.functions.len() == before {
                return;
            }
        }
    }

    /// Names that the output has itself, whatever the sheet has: nothing of the sheet becomes one of them.
    fn own_names(&mut self) {
        let types = ["reading", "status", "device", "outcome", "request", "request_kind", "bus_result", "driver"];
        for name in types {
            let name = self.prefix.ty(name);
            self.give(&name, format!("the type {} of the output", name.rust));
        }
        for name in ["bcd", "serve", "device_reset", "settings_reset", "parameters_default"] {
            let name = self.prefix.function(name);
            self.give(&name, format!("the function {} of the output", name.rust));
        }
        for name in ["I2C address", "I2C max hz", "SPI mode", "SPI max hz", "modbus unit", "modbus baud"] {
            let name = self.prefix.constant(name);
            self.give(&name, format!("the constant {} of the output", name.rust));
        }
    }

    /// The type of readings.
    pub(super) fn real(&self) -> Ty {
        match self.options.reals {
            Reals::Double => Ty::F64,
            Reals::Single => Ty::F32,
            Reals::Integer => Ty::I32,
        }
    }

    /// A name of the sheet that is given in the output, so that two never become one.
    pub(super) fn give(&mut self, name: &Name, of: String) -> Name {
        self.global.give(&name.c, &of, &mut self.clashes);
        name.clone()
    }

    pub(super) fn frame_name(&self, id: FrameId) -> &'a str {
        self.part.frames[id].name.as_str()
    }

    /// The structure of a frame.
    pub(super) fn frame_type(&self, id: FrameId) -> Name {
        self.prefix.ty(&format!("{}_frame", self.frame_name(id)))
    }

    /// The variable of a frame.
    pub(super) fn frame_var(&self, id: FrameId) -> String {
        let name = snake(self.frame_name(id));
        // Variables of the output's own, beside which a frame's stands.
        // Each frame has a flag `has_FRAME`.
        match name.as_str() {
            flag if flag.starts_with("has_") => format!("frame_{name}"),
            own if OWN.contains(&own) => format!("{name}_frame"),
            _ => name,
        }
    }

    pub(super) fn settings_type(&self) -> Name {
        self.prefix.ty("settings")
    }

    pub(super) fn parameters_type(&self) -> Name {
        self.prefix.ty("parameters")
    }

    pub(super) fn status_type(&self) -> Name {
        self.prefix.ty("status")
    }

    pub(super) fn reading_type(&self) -> Name {
        self.prefix.ty("reading")
    }

    /// A status as a value.
    pub(super) fn status(&mut self, status: Status) -> Expr {
        self.statuses.insert(status);
        Expr::Value(self.status_type(), status_name(&self.prefix, status))
    }

    /// The integer, or real, that a code is kept in.
    pub(super) fn stored(&self, layout: &Layout) -> Type {
        let width = layout.width();
        match layout.form {
            Form::Text => Type::Bytes(layout.slices.len()),
            Form::Float if self.options.reals == Reals::Integer => Type::Num(if width == 64 { Ty::U64 } else { Ty::U32 }),
            Form::Float if width == 64 && self.options.reals == Reals::Double => Type::Num(Ty::F64),
            Form::Float => Type::Num(Ty::F32),
            Form::Fixed(..) | Form::UnsignedFixed(..) => match self.options.reals {
                Reals::Double => Type::Num(Ty::F64),
                Reals::Single => Type::Num(Ty::F32),
                Reals::Integer => Type::Num(narrowest(layout.form.bounds(width))),
            },
            Form::Bcd => Type::Num(narrowest((-1, layout.form.bounds(width).1))),
            Form::Unsigned if width == 1 => Type::Num(Ty::Bool),
            form => Type::Num(narrowest(form.bounds(width))),
        }
    }

    pub(super) fn code_member(&self, id: CodeId) -> String {
        self.part.codes.get(id).map_or(String::new(), |code| snake(&code.name))
    }

    /// The member of a frame that holds a field of one of its registers.
    pub(super) fn field_member(&self, frame: FrameId, id: FieldId) -> String {
        let Some(field) = self.part.fields.get(id) else { return String::new() };
        let codes = || self.part.frames.get(frame).into_iter().flat_map(|frame| self.part.codes.of(&frame.codes));
        // It may be a code of the frame, too.
        if let Some(same) = codes().find(|code| code.field == Some(id)) {
            return snake(&same.name);
        }
        let taken = codes().any(|code| snake(&code.name) == snake(&field.name));
        if taken { format!("{}_field", snake(&field.name)) } else { snake(&field.name) }
    }

    /// Whether a frame holds a field.
    pub(super) fn holds(&self, frame: Option<FrameId>, field: FieldId) -> bool {
        frame.and_then(|id| self.part.frames.get(id)).is_some_and(|frame| frame.fields.iter().any(|(held, _)| *held == field))
    }

    /// A field as it is set.
    pub(super) fn setting(&self, id: FieldId) -> (Expr, Ty) {
        super::bits::read_field(self, id, "settings")
    }

    pub(super) fn parameter_member(&self, id: ParameterId) -> String {
        self.part.parameters.get(id).map_or(String::new(), |parameter| snake(&parameter.name))
    }

    /// Direct inputs of a formula in frame `of`.
    pub(super) fn takes(&self, formula: &Formula, of: Option<FrameId>) -> Takes {
        let mut takes = Takes::default();
        for input in self.part.inputs_behind(inputs(formula)) {
            match input {
                Input::Code(code) => takes.frames.extend(self.part.codes.get(code).map(|code| code.frame)),
                Input::Field(field) | Input::Column(field, _) if self.holds(of, field) => takes.frames.extend(of),
                Input::Field(_) | Input::Column(..) => takes.settings = true,
                Input::Parameter(_) => takes.parameters = true,
                // Inputs of quantities are separate inputs; readings are values.
                Input::Quantity(_) | Input::Reading(_) => {}
                // Only derived quantities take them, which are not emitted.
                Input::Came(_) | Input::Before(_) | Input::Elapsed => {}
            }
        }
        takes
    }

    /// Parameters for inputs, the present frame first.
    pub(super) fn params(&self, takes: &Takes, of: Option<FrameId>) -> Vec<Param> {
        let look = |name: String, ty: Name| Param { name, ty: Type::Named(ty), pass: Pass::In };
        let first = of.into_iter().filter(|of| takes.frames.contains(of));
        let others = takes.frames.iter().copied().filter(|frame| Some(*frame) != of);
        let mut params: Vec<Param> = first.chain(others).map(|frame| look(self.frame_var(frame), self.frame_type(frame))).collect();
        if takes.settings {
            params.push(look("settings".into(), self.settings_type()));
        }
        if takes.parameters {
            params.push(look("parameters".into(), self.parameters_type()));
        }
        params
    }

    /// The type of Rust that a function with these parameters is a method of.
    pub(super) fn home(params: &[Param]) -> Option<Name> {
        match params.first() {
            Some(Param { ty: Type::Named(name), pass: Pass::In | Pass::Change, .. }) => Some(name.clone()),
            _ => None,
        }
    }

    /// The call of a function with its parameters' own names.
    pub(super) fn call(name: &Name, params: &[Param]) -> Expr {
        let argument = |param: &Param| match param.ty {
            Type::Maybe(_) => Expr::Pass(param.name.clone()),
            _ => Expr::Var(param.name.clone()),
        };
        let arguments = params.iter().map(argument).collect();
        if Self::home(params).is_some() { Expr::Method(name.clone(), arguments) } else { Expr::Call(name.clone(), arguments) }
    }
}

/// True if readings of other frames use a frame.
pub(super) fn feeds_others(part: &Part, id: FrameId) -> bool {
    let frames = |reading| -> BTreeSet<FrameId> {
        let needed = part.needed(reading);
        part.readings.of(&needed).flat_map(|reading| part.codes.of(&reading.codes)).map(|code| code.frame).collect()
    };
    part.readings.ids().map(frames).any(|frames| frames.len() > 1 && frames.contains(&id))
}

/// Sources of a formula's inputs, prepared before.
pub(super) struct Found<'b, 'a> {
    pub(super) build: &'b Build<'a>,
    pub(super) sources: Vec<(InputKey, Source)>,
}

impl Around for Found<'_, '_> {
    fn source(&self, key: InputKey) -> Source {
        let found = self.sources.iter().find(|(known, _)| *known == key);
        found.map_or(Source::Value(Expr::Int(0, Ty::I32), Ty::I32), |(_, source)| source.clone())
    }

    fn curve(&self, curve: CurveId, x: Expr) -> (Expr, bool) {
        let index = curve.0 as usize;
        self.build.curves.borrow_mut().insert(index);
        let name = self.build.part.curve_names.get(index).map_or("", |(name, _)| name.as_str());
        let may_be_none = self.build.part.curves.get(index).is_none_or(|curve| curve.may_be_left());
        (Expr::Call(self.build.prefix.function(&format!("curve_{name}")), vec![x]), may_be_none)
    }
}

/// The narrowest type that holds these.
pub(super) fn narrowest((low, high): (i128, i128)) -> Ty {
    let all = [Ty::U8, Ty::I8, Ty::U16, Ty::I16, Ty::U32, Ty::I32, Ty::U64, Ty::I64];
    all.into_iter().find(|ty| ty.bounds().is_some_and(|(least, most)| least <= low && high <= most)).unwrap_or(Ty::I64)
}

/// The name of a status.
pub(super) fn status_name(prefix: &Prefix, status: Status) -> Name {
    let words = match status {
        Status::PartFault => "part fault",
        other => other.as_str(),
    };
    Name { rust: super::names::camel(words), ..prefix.constant(words) }
}
