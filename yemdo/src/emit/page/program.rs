//! The program of a frame as JSON for the page's script. It is the plan of the decoder, so both compute the same numbers.

use super::calculator::{list, text};
use crate::bits::gather::Gather;
use crate::formula::curve::Outside;
use crate::formula::flat::program::{Branch, Constant, Num, Op, Opcode};
use crate::ground::digits::Digits;
use crate::ground::list::Id;
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, FrameId};
use crate::model::input::Input;
use crate::model::part::Sheet;
use crate::model::state::State;
use crate::plan::frame::{CodeRange, InputSource, Load, Plan, PlanFor, PlanRange, ReadingPlan};

/// Members of a JSON object: the program of a frame, its settings, its readings.
pub(super) fn members(part: &Sheet, frame: FrameId, digits: impl Fn(&ReadingPlan) -> Digits) -> String {
    let plan = Plan::new(part, frame, PlanFor::Export);
    let mut settings: Vec<FieldId> =
        plan.loads.iter().filter_map(|load| if let InputSource::Held(input) = load.from { input.field() } else { None }).collect();
    settings.sort_unstable();
    settings.dedup();
    let readings = plan.readings.iter().filter(|planned| part.readings.get(planned.id).is_some_and(|reading| reading.is_measured()));
    format!(
        "\"program\":{},\"settings\":{},\"readings\":{}",
        program(part, &plan),
        list(settings.iter().filter_map(|field| setting(part, *field))),
        list(readings.filter_map(|planned| reading(part, frame, planned, digits(planned))))
    )
}

fn program(part: &Sheet, plan: &Plan) -> String {
    let program = &plan.program;
    let constant = |constant: &Constant| match constant {
        Constant::Int(value) => format!("\"{value}\""),
        Constant::Real(value) => real(*value),
    };
    let finite = |output: usize| program.finite.get(output).copied().unwrap_or(false);
    let curves = program.curves.iter().map(|curve| {
        let (points, outside) = curve.parts();
        let outside = match outside {
            Outside::Hold => "hold",
            Outside::Extend => "extend",
            Outside::Fault => "fault",
        };
        format!("{{\"outside\":\"{outside}\",\"points\":{}}}", list(points.iter().map(|(x, y)| format!("[{},{}]", real(*x), real(*y)))))
    });
    let needs = program.needs.iter().map(|needs| list(needs.iter().map(|need| format!("[{},{}]", need.output, guard(need.guard)))));
    format!(
        "{{\"slots\":{},\"branches\":{},\"constants\":{},\"inputs\":{},\"ops\":{},\"outputs\":{},\"needs\":{},\"curves\":{}}}",
        list(program.slots.iter().map(|num| text(name(*num)))),
        list(program.branches.iter().map(branch)),
        list(program.constants.iter().map(|(slot, value)| format!("[{slot},{}]", constant(value)))),
        list(plan.loads.iter().map(|load| input(part, load))),
        list(program.ops.iter().map(operation)),
        list(program.outputs.iter().enumerate().map(|(at, (slot, ty))| format!("[{slot},{},{}]", text(ty.short()), finite(at)))),
        list(needs),
        list(curves)
    )
}

fn branch(branch: &Branch) -> String {
    match branch {
        Branch::If { within, cond, holds } => format!("[\"if\",{},{cond},{holds}]", guard(*within)),
        Branch::Either(one, other) => format!("[\"either\",{},{}]", guard(*one), guard(*other)),
    }
}

/// A real number. JSON has no infinities and no NaN: these are texts, as JavaScript names them.
fn real(value: f64) -> String {
    match value {
        finite if finite.is_finite() => format!("{finite:e}"),
        f64::INFINITY => "\"Infinity\"".into(),
        f64::NEG_INFINITY => "\"-Infinity\"".into(),
        _ => "\"NaN\"".into(),
    }
}

fn guard(slot: Option<u32>) -> String {
    slot.map_or("-1".to_owned(), |slot| slot.to_string())
}

/// An input of the program: its source, and the outputs that need it.
fn input(part: &Sheet, load: &Load) -> String {
    let from = match &load.from {
        InputSource::Frame(gather, None) | InputSource::FrameReal(gather) => bits(gather),
        InputSource::Frame(gather, Some(allowed)) => bits(gather) + &range(*allowed),
        InputSource::FrameRow(gather, own) => bits(gather) + &rows(own.iter().map(|(code, number)| (i128::from(code), number))),
        InputSource::Held(held) => held_input(part, *held),
    };
    let users = list(load.users.iter().map(|one| format!("[{},{}]", one.output, guard(one.live))));
    format!("{{\"slot\":{},\"users\":{users}{from}}}", load.slot)
}

/// An input from elsewhere: another frame, a setting, a parameter. Empty if the page cannot provide it.
fn held_input(part: &Sheet, held: Input) -> String {
    match held {
        Input::Code(id) => part.codes.get(id).map_or(String::new(), |code| {
            let frame = part.frames[code.frame].name();
            let allowed = CodeRange::of(code).filter(|_| !code.ty.is_real());
            format!(",\"frame\":{}{}{}", text(frame), bits(&code.gather), allowed.map_or(String::new(), range))
        }),
        Input::Field(id) => format!(",\"field\":{}", id.index()),
        Input::Column(id, column) => part.fields.get(id).map_or(String::new(), |field| {
            let own = field.values().iter().filter_map(|row| Some((row.code, row.columns.get(column).copied().flatten()?)));
            format!(",\"field\":{}{}", id.index(), rows(own))
        }),
        Input::Parameter(id) => {
            part.parameters.get(id).map_or(String::new(), |parameter| format!(",\"number\":{}", real(parameter.default)))
        }
        _ => String::new(),
    }
}

fn bits(gather: &Gather) -> String {
    format!(",\"bits\":{},\"form\":{}", list(gather.places()), text(&gather.form().name()))
}

/// The codes of a table with their numbers.
fn rows(rows: impl Iterator<Item = (i128, f64)>) -> String {
    format!(",\"rows\":{}", list(rows.map(|(code, number)| format!("[\"{code}\",{}]", real(number)))))
}

/// The codes the datasheet allows.
fn range(allowed: CodeRange) -> String {
    let end = |end: i64| if allowed.unsigned { (end as u64).to_string() } else { end.to_string() };
    format!(",\"range\":[\"{}\",\"{}\"]", end(allowed.low), end(allowed.high))
}

fn operation(op: &Op) -> String {
    let (what, num, more) = match op.what {
        Opcode::Add(num) => ("add", num, ""),
        Opcode::Sub(num) => ("sub", num, ""),
        Opcode::Mul(num) => ("mul", num, ""),
        Opcode::Div(num) => ("div", num, ""),
        Opcode::Rem(num) => ("rem", num, ""),
        Opcode::And(num) => ("and", num, ""),
        Opcode::Or(num) => ("or", num, ""),
        Opcode::Xor(num) => ("xor", num, ""),
        Opcode::Shl(num, by) => ("shl", num, name(by)),
        Opcode::Shr(num, by) => ("shr", num, name(by)),
        Opcode::Neg(num) => ("neg", num, ""),
        Opcode::Not(num) => ("not", num, ""),
        Opcode::Less(num) => ("less", num, ""),
        Opcode::LessEqual(num) => ("lessEqual", num, ""),
        Opcode::Equal(num) => ("equal", num, ""),
        Opcode::Truth(num) => ("truth", num, ""),
        Opcode::Zero(num) => ("zero", num, ""),
        Opcode::Select(num) => ("select", num, ""),
        Opcode::Both => ("both", Num::I32, ""),
        Opcode::Without => ("without", Num::I32, ""),
        Opcode::Either => ("either", Num::I32, ""),
        Opcode::Convert(num, to) => ("convert", num, to.short()),
        Opcode::Call(func, num) => return line("call", num, &text(&func.name(Ty::F64)), op),
        Opcode::Curve(id, num) => return line("curve", num, &id.0.to_string(), op),
        // Fused operations are not exported.
        Opcode::MulShr(num) | Opcode::Max(num) => ("none", num, ""),
        Opcode::ShlDiv | Opcode::NarrowReal | Opcode::NarrowDiv => ("none", Num::F64, ""),
    };
    line(what, num, &text(more), op)
}

fn line(what: &str, num: Num, more: &str, op: &Op) -> String {
    let (guard, num) = (guard(op.guard), name(num));
    format!("[\"{what}\",\"{num}\",{more},{},{},{},{},{guard},{},{}]", op.dst, op.a, op.b, op.c, op.owner, op.safe)
}

fn name(num: Num) -> &'static str {
    num.ty().short()
}

/// A field that readings depend on, with its reset value and its table.
fn setting(part: &Sheet, id: FieldId) -> Option<String> {
    let field = part.fields.get(id)?;
    let number = |code: i128| field.real(code).map_or_else(|| code.to_string(), |real| real.to_string());
    let reset = State::while_read(part).value_of(field).map_or("null".to_owned(), |code| text(&number(code)));
    let rows = field.values().iter().map(|row| format!("[\"{}\",{}]", row.code, text(&field.value_text(row.code))));
    Some(format!("{{\"id\":{},\"name\":{},\"reset\":{reset},\"values\":{}}}", id.index(), text(field.name()), list(rows)))
}

fn reading(part: &Sheet, frame: FrameId, planned: &ReadingPlan, digits: Digits) -> Option<String> {
    let reading = part.readings.get(planned.id)?;
    let digits = match digits {
        Digits::Decimals(decimals) => format!("{{\"decimals\":{decimals}}}"),
        Digits::Significant(least) => format!("{{\"least\":{least}}}"),
    };
    let unit = if reading.unit() == "1" { "" } else { reading.unit() };
    let range = match planned.range {
        None => "null".to_owned(),
        Some(PlanRange::Numbers(low, high)) => format!("[{},{}]", real(low), real(high)),
        Some(PlanRange::Outputs(low, high)) => format!("{{\"outputs\":[{low},{high}]}}"),
    };
    let means = part.conditions(Some(frame), planned.id).map(|(_, condition)| condition.means.as_deref().unwrap_or(""));
    let conditions = planned.conditions.iter().zip(means);
    let conditions =
        conditions.map(|(condition, means)| format!("[{},{},{}]", condition.output, text(condition.status.as_str()), text(means)));
    let needs = planned.needs.iter().filter_map(|(other, _)| part.frames.get(*other)).map(|other| text(other.name()));
    Some(format!(
        "{{\"name\":{},\"unit\":{},\"digits\":{digits},\"output\":{},\"range\":{range},\"conditions\":{},\"needs\":{}}}",
        text(reading.name()),
        text(unit),
        planned.output,
        list(conditions),
        list(needs)
    ))
}
