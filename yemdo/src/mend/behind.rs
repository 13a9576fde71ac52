//! Inputs of readings, with their positions in the sheet.

use crate::formula::input::CurveId;
use crate::formula::typed::{Expr, each};
use crate::ground::text::{Span, Text};
use crate::model::frame::{Code, Origin};
use crate::model::ids::{CodeId, FieldId, FrameId, ParameterId, ReadingId};
use crate::model::input::{Input, inputs};
use crate::model::part::Part;
use crate::model::registers::Register;
use crate::sheet::parse::parse;
use crate::sheet::reader::At;
use crate::sheet::tree;

/// Layout of a code and its position in the sheet.
pub(super) struct LayoutSite {
    pub(super) code: CodeId,
    pub(super) text: Text,
    /// Set if the code is a register field.
    pub(super) field: Option<FieldId>,
}

/// Table cell with a number.
pub(super) struct CellSite {
    pub(super) field: FieldId,
    /// Code of the row.
    pub(super) code: i128,
    pub(super) column: String,
    pub(super) number: f64,
    pub(super) span: Span,
}

/// Byte order of a register.
pub(super) struct OrderSite {
    pub(super) register: String,
    pub(super) low_first: bool,
    /// Value of the key `order`, if present.
    pub(super) order: Option<Span>,
    /// Value of the key `at`.
    pub(super) address: Span,
}

/// Number in a point of a curve.
pub(super) struct PointSite {
    pub(super) curve: String,
    /// True for x, the argument.
    pub(super) is_argument: bool,
    pub(super) number: f64,
    pub(super) span: Span,
}

/// Everything in the sheet that determines some readings.
pub(super) struct Behind {
    pub(super) layouts: Vec<LayoutSite>,
    /// Layouts of the other codes in the same frames.
    pub(super) beside: Vec<LayoutSite>,
    /// The readings, and the readings and shared values that they use.
    pub(super) readings: Vec<ReadingId>,
    pub(super) units: Vec<(ReadingId, Text)>,
    /// Settings: fields that are not in the frames.
    pub(super) settings: Vec<FieldId>,
    pub(super) parameters: Vec<ParameterId>,
    pub(super) cells: Vec<CellSite>,
    /// Points of curves, x and y in turn.
    pub(super) points: Vec<PointSite>,
    /// Registers whose bytes are in the frames, with the position of their byte order.
    pub(super) orders: Vec<OrderSite>,
}

impl Behind {
    /// Collects the inputs of readings.
    pub(super) fn of(part: &Part, targets: &[ReadingId]) -> Self {
        let (tree, _) = parse(part.source.text(), part.variant.as_deref());
        let mut readings: Vec<ReadingId> = targets.iter().flat_map(|target| part.needed(*target)).collect();
        readings.sort_unstable();
        readings.dedup();
        let mut codes: Vec<CodeId> = part.readings.of(&readings).flat_map(|reading| reading.codes.iter().copied()).collect();
        // Conditions and the frame length decide if there is a value.
        let frames: Vec<FrameId> = part.codes.of(&codes).map(|code| code.frame).collect();
        let conditions = targets.iter().flat_map(|target| part.conditions(None, *target)).map(|(_, condition)| &condition.formula);
        let counts = part.frames.of(&frames).filter_map(|frame| frame.counted.as_ref());
        codes.extend(
            conditions.chain(counts).flat_map(inputs).filter_map(|input| if let Input::Code(code) = input { Some(code) } else { None }),
        );
        codes.sort_unstable();
        codes.dedup();
        let behind = part.inputs_behind(part.readings.of(&readings).flat_map(|reading| inputs(&reading.formula)));
        let (mut settings, mut parameters, mut columns) = (Vec::new(), Vec::new(), Vec::new());
        let in_frames = |field: FieldId| part.codes.of(&codes).any(|code| code.field == Some(field));
        for input in &behind {
            match input {
                Input::Parameter(id) => parameters.push(*id),
                Input::Column(field, column) => columns.push((*field, *column)),
                _ => {}
            }
            if let Some(field) = input.field().filter(|field| !in_frames(*field) && !settings.contains(field)) {
                settings.push(field);
            }
        }
        let frames: Vec<FrameId> = part.codes.of(&codes).map(|code| code.frame).collect();
        let site = |id: &CodeId| site(part, &tree, *id);
        let beside = part.codes.entries().filter(|(id, code)| frames.contains(&code.frame) && !codes.contains(id)).map(|(id, _)| id);
        let mut layouts: Vec<LayoutSite> = codes.iter().filter_map(site).collect();
        let mut beside: Vec<LayoutSite> = beside.collect::<Vec<_>>().iter().filter_map(site).collect();
        // Array elements share a layout.
        layouts.dedup_by_key(|site| site.text.span);
        beside.dedup_by_key(|site| site.text.span);
        let mut cells = Vec::new();
        for (field, column) in columns {
            let Some(column) = part.fields[field].columns.get(column).map(|column| column.name.clone()) else { continue };
            cells.extend(cells_of(part, &tree, field, &column));
        }
        let unit = |id: &ReadingId| {
            let name = &part.readings.get(*id)?.name;
            tree.readings.iter().find(|(known, _)| known.value == *name).map(|(_, reading)| (*id, reading.unit.clone()))
        };
        let units = targets.iter().filter_map(unit).collect();
        let curves = part.readings.of(&readings).flat_map(|reading| reading.formula.curves());
        let points = points_of(part, &tree, curves);
        let orders = orders_of(part, &tree, &codes);
        Behind { layouts, beside, readings, units, settings, parameters, cells, points, orders }
    }
}

/// Position of a code's layout.
fn site(part: &Part, tree: &tree::Sheet, id: CodeId) -> Option<LayoutSite> {
    let code = part.codes.get(id)?;
    if let Some(field) = code.field {
        let name = &part.fields.get(field)?.name;
        let fields = tree.registers.iter().flat_map(|(_, register)| &register.fields).chain(&tree.fields);
        let (_, typed) = fields.into_iter().find(|(known, _)| known.value == *name)?;
        return Some(LayoutSite { code: id, text: typed.bits.clone(), field: Some(field) });
    }
    let frame = &part.frames.get(code.frame)?.name;
    let (_, frame) = tree.frames.iter().find(|(known, _)| known.value == *frame)?;
    // Layouts in a list share a position and differ in their names.
    let typed = frame.codes.iter().find(|(name, _)| name.value == code.name);
    let typed = typed.or_else(|| frame.codes.iter().find(|(name, _)| name.span == code.span));
    typed.map(|(_, typed)| LayoutSite { code: id, text: typed.layout.clone(), field: None })
}

fn cells_of(part: &Part, tree: &tree::Sheet, field: FieldId, column: &str) -> Vec<CellSite> {
    let name = &part.fields[field].name;
    let fields: Vec<&tree::Named<tree::Field>> =
        tree.registers.iter().flat_map(|(_, register)| &register.fields).chain(&tree.fields).collect();
    let rows_of = |name: &str| fields.iter().find(|(known, _)| known.value == name).map(|(_, field)| &field.values);
    let parameter = || {
        tree.parameters.iter().find(|(known, _)| known.value == *name).and_then(|(_, parameter)| match &parameter.supplied {
            tree::Supplied::Choice { values, .. } => Some(values),
            tree::Supplied::Number { .. } => None,
        })
    };
    let values = match rows_of(name).or_else(parameter) {
        Some(tree::Values::As(other)) => rows_of(&other.value),
        own => own,
    };
    let Some(tree::Values::Rows(rows)) = values else { return Vec::new() };
    let mut found = Vec::new();
    for row in rows {
        let code = part.fields[field].layout.as_printed(row.code.value, part.source.slice(row.code.span));
        for cell in row.columns.iter().filter(|cell| cell.name.value == column) {
            let (number, span) = (cell.number.value, cell.number.span);
            found.push(CellSite { field, code, column: column.to_owned(), number, span });
        }
    }
    found
}

/// Points of curves, each curve once.
fn points_of(part: &Part, tree: &tree::Sheet, curves: impl Iterator<Item = CurveId>) -> Vec<PointSite> {
    let mut names: Vec<&str> = curves.filter_map(|id| part.curve_names.get(id.0 as usize)).map(|(name, _)| name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let typed = tree.tables.iter().filter(|(name, _)| names.contains(&name.value.as_str()));
    let points = typed.flat_map(|(name, table)| table.points.iter().flatten().map(move |number| (name, number)));
    let site = |(at, (name, number)): (usize, (&At<String>, &At<f64>))| PointSite {
        curve: name.value.clone(),
        is_argument: at.is_multiple_of(2),
        number: number.value,
        span: number.span,
    };
    points.enumerate().map(site).collect()
}

/// Registers of a frame that hold bits of a code.
pub(super) fn registers_of<'p>(part: &'p Part, code: &Code) -> Vec<&'p Register> {
    let holds =
        |(register, at): &(&Register, usize)| code.layout.slices.iter().any(|slice| (*at..at + register.bytes).contains(&slice.byte));
    places_in(part, code.frame).into_iter().filter(holds).map(|(register, _)| register).collect()
}

/// Registers of a frame, each with its first byte.
pub(super) fn places_in(part: &Part, frame: FrameId) -> Vec<(&Register, usize)> {
    let Origin::Registers(runs) = &part.frames[frame].origin else { return Vec::new() };
    let (mut found, mut at) = (Vec::new(), 0);
    for register in part.registers.of(runs.iter().flatten()) {
        found.push((register, at));
        at += register.bytes;
    }
    found
}

/// Registers of several bytes that hold some codes.
fn orders_of(part: &Part, tree: &tree::Sheet, codes: &[CodeId]) -> Vec<OrderSite> {
    let mut found: Vec<OrderSite> = Vec::new();
    for register in part.codes.of(codes).flat_map(|code| registers_of(part, code)).filter(|register| register.bytes > 1) {
        let Some((name, typed)) = tree.registers.iter().find(|(name, _)| name.span == register.span) else { continue };
        if !found.iter().any(|site| site.address == typed.at.span) {
            let order = typed.order.map(|order| order.span);
            found.push(OrderSite { register: name.value.clone(), low_first: register.low_first, order, address: typed.at.span });
        }
    }
    found
}

/// Expressions of a reading's formula, operands first.
pub(super) fn expressions(part: &Part, reading: ReadingId) -> Vec<&Expr> {
    let mut found = Vec::new();
    if let Some(reading) = part.readings.get(reading) {
        each(&reading.formula.body, &mut |expr| found.push(expr));
    }
    found
}
