//! The resolved model of a part.

use std::ops::Deref;
use std::sync::Arc;

use super::command::Command;
use super::example::Example;
use super::frame::{Code, Frame};
use super::ids::{CodeId, FieldId, FrameId, ParameterId, QuantityId, ReadingId, RegisterId, RoutineId};
use super::input::{Input, inputs};
use super::operation::{Action, Quantity, Routine, Step};
use super::reading::{Condition, End, Parameter, Reading};
use super::registers::{Field, Register};
use super::state::State;
use crate::bus::Buses;
use crate::formula::curve::Curve;
use crate::formula::typed::Formula;
use crate::ground::diagnostic::{Diagnostic, SheetError};
use crate::ground::list::List;
use crate::ground::number::Ty;
use crate::ground::text::{Source, Span};

/// A part as its sheet describes it, resolved and checked. Cheap to clone; what the sheet says is reached through it
/// (see [`Sheet`]).
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#)?;
/// assert_eq!(part.name(), "lamp-1");
/// let light = part.reading("light")?;
/// assert_eq!(part.readings().get(light).unwrap().unit(), "lx");
/// assert_eq!(part.reading("lihgt").unwrap_err().to_string(), "lamp-1 has no reading `lihgt`; did you mean `light`?");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Part {
    sheet: Arc<Sheet>,
}

impl Deref for Part {
    type Target = Sheet;
    fn deref(&self) -> &Sheet {
        &self.sheet
    }
}

impl Part {
    pub(crate) fn new(sheet: Sheet) -> Self {
        Self::from_sheet(Arc::new(sheet))
    }

    pub(crate) fn from_sheet(sheet: Arc<Sheet>) -> Self {
        Self { sheet }
    }

    /// Reads a sheet. `name` is what messages call it, usually its path.
    ///
    /// # Errors
    /// [`SheetError`] holds every error found, each with its place in the text.
    pub fn parse(name: &str, text: &str) -> Result<Part, SheetError> {
        super::resolve::resolve(Source::new(name, text), None)
    }

    /// Reads a variant of a sheet: the sheet with the keys of `[variant.NAME]`.
    ///
    /// # Errors
    /// As [`Part::parse`]; also where there is no such variant.
    pub fn parse_variant(name: &str, text: &str, variant: &str) -> Result<Part, SheetError> {
        super::resolve::resolve(Source::new(name, text), Some(variant))
    }

    /// The part at another of its I2C addresses, as its pins choose it: where it is written and read, and where its checks
    /// cover the address bytes.
    ///
    /// # Errors
    /// [`NotAnAddress`], with those that it can have.
    pub fn with_address(mut self, address: u8) -> Result<Part, NotAnAddress> {
        let known = self.buses.i2c.as_ref().map_or(Vec::new(), |i2c| i2c.addresses());
        if !known.contains(&address) {
            return Err(NotAnAddress { part: self.name.clone(), address, known });
        }
        let sheet = Arc::make_mut(&mut self.sheet);
        sheet.buses.i2c.iter_mut().for_each(|i2c| i2c.address = address);
        for check in sheet.frames.iter_mut().flat_map(|frame| &mut frame.checks) {
            check.set_address(address);
        }
        Ok(self)
    }
}

impl Part {
    /// The part with another Modbus unit id than it is delivered with.
    pub fn with_unit(mut self, unit: u8) -> Part {
        Arc::make_mut(&mut self.sheet).buses.modbus.iter_mut().for_each(|modbus| modbus.unit = Some(unit));
        self
    }
}

/// A part is never at this I2C address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotAnAddress {
    /// Name of the part.
    pub part: String,
    /// The address.
    pub address: u8,
    /// Those that it can have; none where it is not reached over I2C.
    pub known: Vec<u8>,
}

impl std::fmt::Display for NotAnAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} is never at I2C address 0x{:02X}", self.part, self.address)
    }
}

impl std::error::Error for NotAnAddress {}

/// Resolved content of a sheet: names bound, widths known. Access through [`Part`].
#[derive(Clone, Debug)]
pub struct Sheet {
    pub(crate) source: Source,
    /// The variant of the sheet that it is.
    pub(crate) variant: Option<String>,
    pub(crate) name: String,
    pub(crate) title: Option<String>,
    pub(crate) datasheet: Option<String>,
    pub(crate) buses: Buses,
    pub(crate) registers: List<RegisterId, Register>,
    pub(crate) fields: List<FieldId, Field>,
    /// The fields that hold the Modbus unit id, and the speed of the line.
    pub(crate) unit_field: Option<FieldId>,
    pub(crate) baud_field: Option<FieldId>,
    /// The registers after a reset, and the settings that no register holds.
    pub(crate) reset: State,
    pub(crate) variants: Vec<String>,
    pub(crate) parameters: List<ParameterId, Parameter>,
    /// Curves, by the place that formulas know them by.
    pub(crate) curves: Vec<Arc<Curve>>,
    /// Their names, and where they are typed.
    pub(crate) curve_names: Vec<(String, Span)>,
    pub(crate) quantities: List<QuantityId, Quantity>,
    pub(crate) routines: List<RoutineId, Routine>,
    pub(crate) frames: List<FrameId, Frame>,
    pub(crate) codes: List<CodeId, Code>,
    pub(crate) readings: List<ReadingId, Reading>,
    /// Readings in an order in which each comes after those it uses.
    pub(crate) order: Vec<ReadingId>,
    pub(crate) examples: Vec<Example>,
    /// What reading the sheet found that is not wrong, but is often meant otherwise.
    pub(crate) lost: Vec<Diagnostic>,
    /// Warnings that the sheet switches off.
    pub(crate) allowed: Vec<String>,
    /// It is a variant, and its examples are those of the sheet.
    pub(crate) inherits_examples: bool,
    /// It was derived so that nothing in it is a real number: readings and quantities count steps.
    pub(crate) integers: bool,
    /// Units of columns of such a part, other than 1.
    pub(crate) column_units: std::collections::BTreeMap<(FieldId, super::ids::ColumnId), f64>,
    /// Quantities of such a part that could not be derived.
    pub(crate) no_integers: std::collections::BTreeSet<QuantityId>,
}

impl Sheet {
    pub(crate) fn empty(source: Source) -> Self {
        Sheet {
            source,
            variant: None,
            name: String::new(),
            title: None,
            datasheet: None,
            buses: Buses::default(),
            registers: List::new(),
            fields: List::new(),
            unit_field: None,
            baud_field: None,
            reset: State::empty(),
            variants: Vec::new(),
            parameters: List::new(),
            curves: Vec::new(),
            curve_names: Vec::new(),
            quantities: List::new(),
            routines: List::new(),
            frames: List::new(),
            codes: List::new(),
            readings: List::new(),
            order: Vec::new(),
            examples: Vec::new(),
            lost: Vec::new(),
            allowed: Vec::new(),
            inherits_examples: false,
            integers: false,
            column_units: std::collections::BTreeMap::new(),
            no_integers: std::collections::BTreeSet::new(),
        }
    }

    /// No frame brings derived quantities any more.
    pub(crate) fn leave_out_derived(&mut self) {
        self.frames.iter_mut().for_each(|frame| frame.derived.clear());
    }

    /// The type of quantities.
    pub(crate) fn quantity_ty(&self) -> Ty {
        if self.integers { Ty::I32 } else { Ty::F64 }
    }

    /// The part's name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Short description of the part.
    pub fn title(&self) -> Option<&str> {
        self.title.as_deref()
    }

    /// The datasheet and its revision.
    pub fn datasheet(&self) -> Option<&str> {
        self.datasheet.as_deref()
    }

    /// The sheet's text.
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// The names of the sheet's variants.
    pub fn variants(&self) -> &[String] {
        &self.variants
    }

    /// How the part is reached.
    pub fn buses(&self) -> &Buses {
        &self.buses
    }

    /// The registers, in the sheet's order.
    pub fn registers(&self) -> &List<RegisterId, Register> {
        &self.registers
    }

    /// The fields of all registers.
    pub fn fields(&self) -> &List<FieldId, Field> {
        &self.fields
    }

    /// The frames, in the sheet's order.
    pub fn frames(&self) -> &List<FrameId, Frame> {
        &self.frames
    }

    /// All codes of all frames.
    pub fn codes(&self) -> &List<CodeId, Code> {
        &self.codes
    }

    /// Readings in the sheet's order, then shared values.
    pub fn readings(&self) -> &List<ReadingId, Reading> {
        &self.readings
    }

    /// The numbers that the user supplies.
    pub fn parameters(&self) -> &List<ParameterId, Parameter> {
        &self.parameters
    }

    /// The quantities that fields hold.
    pub fn quantities(&self) -> &List<QuantityId, Quantity> {
        &self.quantities
    }

    /// The routines.
    pub fn routines(&self) -> &List<RoutineId, Routine> {
        &self.routines
    }

    /// The worked examples.
    pub fn examples(&self) -> &[Example] {
        &self.examples
    }

    /// Whether this is a variant that has no worked examples of its own: those it runs are the sheet's.
    pub fn inherits_examples(&self) -> bool {
        self.inherits_examples
    }

    /// Formula of a reading as in the sheet.
    pub fn formula_text(&self, reading: ReadingId) -> Option<String> {
        Some(self.typed(&self.readings.get(reading)?.formula))
    }

    /// First value of a derived quantity, as typed; `None` without `before` of itself.
    pub(crate) fn start_text(&self, reading: &Reading) -> Option<String> {
        Some(match reading.derived()?.start.as_ref()? {
            End::Number(number) => number.to_string(),
            End::Formula(formula) => self.typed(formula),
        })
    }

    /// A formula as typed.
    pub(crate) fn typed(&self, formula: &Formula) -> String {
        self.source.slice(formula.span).trim().trim_matches('"').to_owned()
    }

    /// A field and a code of it in words: `SPAN = 4 g`.
    pub(crate) fn setting_text(&self, field: FieldId, code: i128) -> Option<String> {
        let field = self.fields.get(field)?;
        Some(format!("{} = {}", field.name, field.value_text(code)))
    }

    /// Fields and their codes in words: `POWER = on and SPAN = 4 g`.
    pub fn settings_text(&self, settings: &[(FieldId, i128)]) -> String {
        settings.iter().filter_map(|(field, code)| self.setting_text(*field, *code)).collect::<Vec<_>>().join(" and ")
    }

    /// Whether no register holds a field: the command that is sent, or a pin, decides.
    pub(crate) fn is_unstored(&self, field: FieldId) -> bool {
        self.homes(field).next().is_none()
    }

    /// Baud rate for a code of `baud_field`.
    pub(crate) fn baud_of(&self, code: i128) -> Option<u32> {
        let field = self.fields.get(self.baud_field?)?;
        let at = field.columns.position(|column| column.name == "baud");
        let listed = at.and_then(|at| field.value(code)?.columns.get(at).copied().flatten());
        let baud = listed.unwrap_or(code as f64);
        (50.0..=1e7).contains(&baud).then_some(baud as u32)
    }

    /// The Modbus unit id; `None` if the sheet does not specify one.
    pub fn unit(&self) -> Option<u8> {
        self.buses.modbus.as_ref().and_then(|modbus| modbus.unit)
    }

    /// The registers that hold bits of a field.
    pub(crate) fn homes(&self, field: FieldId) -> impl Iterator<Item = RegisterId> + '_ {
        self.registers.entries().filter(move |(_, register)| register.fields.contains(&field)).map(|(id, _)| id)
    }

    /// Names of registers, for messages.
    pub(crate) fn names_of(&self, registers: &[RegisterId]) -> String {
        let names: Vec<String> = self.registers.of(registers).map(|register| format!("`{}`", register.name)).collect();
        names.join(" and ")
    }

    /// Commands of frames and of routines.
    pub(crate) fn commands(&self) -> impl Iterator<Item = &Command> {
        let asked = self.frames.iter().flat_map(|frame| frame.origin.exchanges()).map(|exchange| &exchange.command);
        asked.filter(|command| !command.is_empty()).chain(self.routine_commands())
    }

    /// Commands that steps of routines send.
    pub(crate) fn routine_commands(&self) -> impl Iterator<Item = &Command> {
        let steps = self.routines.iter().flat_map(|routine| &routine.steps);
        steps.filter_map(|step| if let Action::Write(command) = &step.action { Some(command) } else { None })
    }

    /// Whether commands carry a setting without a register, or routines set it: it shows on the bus.
    pub(crate) fn is_sent(&self, field: FieldId) -> bool {
        let carried = || self.inputs_behind(self.commands().flat_map(Command::formulas).flat_map(inputs));
        let mut steps = self.routines.iter().flat_map(|routine| &routine.steps);
        let set = |step: &Step| matches!(&step.action, Action::Set { fields, .. } if fields.iter().any(|(set, _)| *set == field));
        steps.any(set) || carried().into_iter().any(|input| input.field() == Some(field))
    }

    /// The conditions of a reading in a frame, by priority: those of the frame, if any, and of other frames whose codes the reading
    /// uses, each with its frame; then those of the reading. Whether another frame was valid was judged when it came.
    pub(crate) fn conditions(&self, frame: Option<FrameId>, reading: ReadingId) -> impl Iterator<Item = (Option<FrameId>, &Condition)> {
        let reading = self.readings.get(reading);
        let needs = move |id: &FrameId| Some(*id) == frame || reading.is_some_and(|reading| reading.frames.contains(id));
        let frames = self.frames.entries().filter(move |(id, _)| needs(id));
        let alone = frame.is_none() && reading.is_some_and(|reading| reading.frames.len() == 1);
        let counts = move |id: FrameId, condition: &Condition| condition.needs.is_none() || Some(id) == frame || alone;
        let of_frames = frames.flat_map(move |(id, frame)| {
            frame.status.iter().filter(move |condition| counts(id, condition)).map(move |condition| (Some(id), condition))
        });
        of_frames.chain(reading.into_iter().flat_map(|reading| &reading.status).map(|condition| (None, condition)))
    }

    /// The fields that a reading and its frames need to be valid, with their codes.
    pub(crate) fn needs(&self, reading: ReadingId) -> impl Iterator<Item = (FieldId, i128)> {
        let reading = self.readings.get(reading);
        let frames = self.frames.of(reading.map_or(&[] as &[FrameId], |reading| &reading.frames));
        frames.flat_map(|frame| &frame.valid).chain(reading.into_iter().flat_map(|reading| &reading.valid)).copied()
    }

    /// The readings that a reading needs, in order, itself last.
    pub(crate) fn needed(&self, reading: ReadingId) -> Vec<ReadingId> {
        self.with_needed(vec![reading])
    }

    /// The readings that a formula needs, in order.
    pub(crate) fn needed_by(&self, formula: &Formula) -> Vec<ReadingId> {
        self.with_needed(inputs(formula).filter_map(|input| if let Input::Reading(id) = input { Some(id) } else { None }).collect())
    }

    fn with_needed(&self, mut wanted: Vec<ReadingId>) -> Vec<ReadingId> {
        let mut seen: List<ReadingId, bool> = List::filled(self.readings.len(), |id| wanted.contains(&id));
        while let Some(current) = wanted.pop() {
            for input in self.readings.get(current).into_iter().flat_map(|reading| inputs(&reading.formula)) {
                if let Input::Reading(other) = input
                    && let Some(seen) = seen.get_mut(other).filter(|seen| !**seen)
                {
                    *seen = true;
                    wanted.push(other);
                }
            }
        }
        self.order.iter().copied().filter(|id| seen.get(*id).copied().unwrap_or(false)).collect()
    }

    /// Inputs, and behind quantities what those follow from, each once.
    pub(crate) fn inputs_behind(&self, inputs_of: impl Iterator<Item = Input>) -> Vec<Input> {
        let mut found: Vec<Input> = Vec::new();
        let mut wanted: Vec<Input> = inputs_of.collect();
        wanted.reverse();
        while let Some(input) = wanted.pop() {
            if found.contains(&input) {
                continue;
            }
            found.push(input);
            if let Input::Quantity(quantity) = input {
                wanted.extend(self.quantities.get(quantity).into_iter().flat_map(|quantity| inputs(&quantity.formula)));
            }
        }
        found
    }

    /// Inputs of the readings of some frames from settings and parameters, outside the frames.
    pub(crate) fn held_inputs(&self, frames: &[FrameId]) -> Vec<Input> {
        self.held_inputs_of(frames, &|_| true)
    }

    /// The same, of those conditions alone that `counts`.
    pub(crate) fn held_inputs_of(&self, frames: &[FrameId], counts: &dyn Fn(&Condition) -> bool) -> Vec<Input> {
        let mut found = Vec::new();
        for (id, frame) in frames.iter().filter_map(|id| Some((*id, self.frames.get(*id)?))) {
            let wanted: Vec<ReadingId> = frame.readings.iter().flat_map(|reading| self.needed(*reading)).collect();
            let conditions = frame.readings.iter().flat_map(|reading| self.conditions(Some(id), *reading));
            let conditions = conditions.map(|(_, condition)| condition).filter(|condition| counts(condition));
            let others = self.readings.of(&wanted).flat_map(|reading| reading.formulas_of(counts));
            let formulas = others.chain(conditions.map(|condition| &condition.formula));
            for input in self.inputs_behind(formulas.flat_map(inputs)) {
                let inside = |field: FieldId| frame.fields.iter().any(|(inside, _)| *inside == field);
                let held = !input.comes_with_frames() && !input.field().is_some_and(inside);
                if held && !found.contains(&input) {
                    found.push(input);
                }
            }
        }
        found
    }
}
