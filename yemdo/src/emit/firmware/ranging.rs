//! Auto-range: which settings the next measurement needs, as a function of the last reading.

use super::bits::read_bits;
use super::build::Build;
use super::code::{Expr, Function, Gives, Name, Param, Pass, Stmt, Type};
use super::readings::{said, unit_text};
use crate::configure::{Choice, Limits, choose};
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::ground::words::counted;
use crate::model::ids::{FieldId, ReadingId};
use crate::model::state::State;

/// Tables of more rows are not emitted.
const MOST_ROWS: usize = 64;

/// A setting: fields and their codes, and the largest value with it.
type Row = (Vec<(FieldId, i128)>, f64);

/// A table of settings.
struct Table {
    rows: Vec<Row>,
    /// The readings that it holds for.
    readings: Vec<ReadingId>,
}

impl Build<'_> {
    /// The functions that choose ranges: one for all readings that have the same settings and largest values.
    pub(super) fn ranging(&mut self) {
        if !self.wanted.all {
            return;
        }
        let mut tables: Vec<Table> = Vec::new();
        for id in self.wanted.readings.iter().copied().collect::<Vec<_>>() {
            let Some(rows) = self.ranges(id) else { continue };
            match tables.iter_mut().find(|table| alike(&table.rows, &rows)) {
                Some(table) => table.readings.push(id),
                None => tables.push(Table { rows, readings: vec![id] }),
            }
        }
        tables.iter().for_each(|table| self.next_range(table));
    }

    /// The settings that decide over a reading, where its largest value is another with each.
    fn ranges(&self, id: ReadingId) -> Option<Vec<Row>> {
        let part = self.part;
        let choices = choose(part, Some(id), &State::reset(part), &Limits::default()).ok()?;
        let row = |choice: Choice| Some((choice.codes, in_digits(choice.range?.1)));
        let rows = choices.into_iter().map(row).collect::<Option<Vec<_>>>().filter(|rows| rows.len() <= MOST_ROWS)?;
        let writable = |(field, _): &(FieldId, i128)| part.fields.get(*field).is_some_and(|field| field.access.is_writable());
        let tops = || rows.iter().map(|(_, top)| *top);
        let (least, most) = (tops().fold(f64::INFINITY, f64::min), tops().fold(0.0, f64::max));
        // Ends that differ by a code are no ranges.
        let ranges = least > 0.0 && most.is_finite() && most > 1.1 * least;
        (ranges && rows.iter().all(|(codes, _)| codes.iter().all(writable))).then_some(rows)
    }

    fn next_range(&mut self, table: &Table) {
        let part = self.part;
        let Some(reading) = table.readings.first().and_then(|id| part.readings.get(*id)) else { return };
        let names: Vec<String> = part.readings.of(&table.readings).map(|reading| said(&reading.name)).collect();
        let names = match names.as_slice() {
            [one] => one.clone(),
            [one, others @ ..] => format!("{one} and {} with the same settings", counted(others.len(), "reading")),
            [] => String::new(),
        };
        let fields: Vec<FieldId> = table.rows.first().map_or(Vec::new(), |(codes, _)| codes.iter().map(|(field, _)| *field).collect());
        let field_names: Vec<&str> = part.fields.of(&fields).map(|field| field.name.as_str()).collect();
        let real = self.real();
        let number = |value: f64| match real {
            Ty::F32 => Expr::Real(f64::from(value as f32), real),
            Ty::F64 => Expr::Real(value, real),
            _ => Expr::Int(value as i128, real),
        };
        let row_ty = Ty::U8;
        let none = table.rows.len() as i128;
        let settings_type = self.settings_type();
        let settings = |pass: Pass| Param { name: "settings".into(), ty: Type::Named(settings_type.clone()), pass };
        let of = Some(self.settings_type());
        let rows = |of: &dyn Fn(usize) -> Vec<Stmt>| (0..table.rows.len()).map(|row| (vec![row as i128], of(row))).collect::<Vec<_>>();

        // Which row is set.
        let present = self.prefix.function(&format!("{}_range", reading.name));
        let mut codes: Vec<(Vec<i128>, i128)> = Vec::new();
        for (row, (own, _)) in table.rows.iter().enumerate() {
            codes.push((own.iter().map(|(_, code)| *code).collect(), row as i128));
        }
        let body = self.row_of(&fields, &codes, none, row_ty);
        let doc = vec![format!("The present range of {names}; {none} for other settings.")];
        self.helper(present.clone(), doc, of.clone(), vec![settings(Pass::In)], Type::Num(row_ty), body);

        // How far a row reaches.
        let top = self.prefix.function(&format!("{}_range_top", reading.name));
        let row_param = || Param { name: "row".into(), ty: Type::Num(row_ty), pass: Pass::Value };
        let tops = rows(&|row| vec![Stmt::Return(number(table.rows.get(row).map_or(0.0, |(_, top)| *top)))]);
        let body = vec![Stmt::Switch(Expr::Var("row".into()), tops, vec![Stmt::Return(number(0.0))])];
        let doc = vec![format!("Maximum value of a range, in {}.", unit_text(&reading.unit))];
        self.helper(top.clone(), doc, None, vec![row_param()], Type::Num(real), body);

        let name = self.prefix.function(&format!("next_range_{}", reading.name));
        self.give(&name, format!("choosing a range for {}", reading.name));
        let doc = vec![
            format!(
                "Sets {} for the next measurement of {names}: the next larger range after a saturated reading, otherwise the smallest range with the \
                 last value at 80 % or less. It selects a smaller range only if the value is below 40 % of it, for hysteresis.",
                field_names.join(" and ")
            ),
            String::new(),
            "Returns `true` if a setting changed; write the settings before the next measurement then. The ranges are those with \
             all other settings as after a reset."
                .into(),
        ];
        let value = Param { name: "last".into(), ty: Type::Num(real), pass: Pass::Value };
        let saturated = Param { name: "saturated".into(), ty: Type::Num(Ty::Bool), pass: Pass::Value };
        let set = rows(&|row| {
            let own = table.rows.get(row).map_or(&[] as &[_], |(codes, _)| codes);
            own.iter()
                .filter_map(|(id, code)| Some(self.set_code((*id, part.fields.get(*id)?), Expr::Int(*code, self.field_code_type(*id)))))
                .collect()
        });
        let body = chosen(&present, &top, real, (none, row_ty), set);
        let function = Function {
            doc,
            public: true,
            name,
            of,
            params: vec![settings(Pass::Change), value, saturated],
            gives: Gives::Type(Type::Num(Ty::Bool)),
            body,
        };
        self.module.functions.push(function);
    }

    fn helper(&mut self, name: Name, doc: Vec<String>, of: Option<Name>, params: Vec<Param>, gives: Type, body: Vec<Stmt>) {
        self.give(&name, format!("the ranges `{}`", name.rust));
        self.module.functions.push(Function { doc, public: false, name, of, params, gives: Gives::Type(gives), body });
    }

    /// Statements that return the row of the present codes: a choice by the first field, and in it one by the next.
    fn row_of(&self, fields: &[FieldId], rows: &[(Vec<i128>, i128)], none: i128, row_ty: Ty) -> Vec<Stmt> {
        let returned = |row: i128| vec![Stmt::Return(Expr::Int(row, row_ty))];
        let Some((first, others)) = fields.split_first() else { return returned(rows.first().map_or(none, |(_, row)| *row)) };
        let mut codes: Vec<i128> = rows.iter().filter_map(|(codes, _)| codes.first().copied()).collect();
        codes.sort_unstable();
        codes.dedup();
        let ways = codes.into_iter().map(|code| {
            let own: Vec<(Vec<i128>, i128)> = rows
                .iter()
                .filter(|(codes, _)| codes.first() == Some(&code))
                .map(|(codes, row)| (codes.iter().skip(1).copied().collect(), *row))
                .collect();
            (vec![code], self.row_of(others, &own, none, row_ty))
        });
        let Some(field) = self.part.fields.get(*first) else { return returned(none) };
        let (bits, held) = read_bits(self, field, "settings");
        let code_ty = self.field_code_type(*first);
        let code = if held == code_ty { bits } else { Expr::Cast { from: held, to: code_ty, fits: true, value: bits.boxed() } };
        vec![Stmt::Switch(code, ways.collect(), returned(none))]
    }
}

/// Rounded to the usual digits of a range.
fn in_digits(value: f64) -> f64 {
    let scale = 10f64.powi(6 - value.abs().max(f64::MIN_POSITIVE).log10().ceil() as i32);
    (value * scale).round() / scale
}

/// Whether two tables are the same but for a code or two at the ends.
fn alike(one: &[Row], other: &[Row]) -> bool {
    let mut rows = one.iter().zip(other);
    one.len() == other.len() && rows.all(|((one, top), (other, other_top))| one == other && (top - other_top).abs() <= 0.01 * top)
}

/// The way of [`crate::configure::next_range`], as statements.
fn chosen(present: &Name, top: &Name, real: Ty, (none, row_ty): (i128, Ty), set: Vec<(Vec<i128>, Vec<Stmt>)>) -> Vec<Stmt> {
    let wide = if real.is_real() { real } else { Ty::I64 };
    let at = |name: &str| Expr::Var(name.into());
    let variable =
        |name: &str, ty: Ty, value: Expr, mutable| Stmt::Let { name: name.into(), ty: Type::Num(ty), value: Some(value), mutable };
    let number = |value: i32| if wide.is_real() { Expr::Real(f64::from(value), wide) } else { Expr::Int(i128::from(value), wide) };
    let times = |factor: i32, of: Expr| Expr::Arith(Arith::Mul, wide, number(factor).boxed(), of.boxed());
    let top_of = |row: Expr| Expr::Call(top.clone(), vec![row]).cast(real, wide);
    let last = || at("last").cast(real, wide);
    let size = Expr::Cond(last().compare(Compare::Less, wide, number(0)).boxed(), Expr::Neg(wide, last().boxed()).boxed(), last().boxed());
    // Of a range a value takes four fifths, or of a smaller one two fifths.
    let over = times(5, at("size")).compare(Compare::Greater, wide, times(4, at("now_top")));
    let row = || at("row").cast(Ty::I32, row_ty);
    let row = || match row() {
        Expr::Cast { from, to, value, .. } => Expr::Cast { from, to, fits: true, value },
        plain => plain,
    };
    let above = at("top").compare(Compare::Greater, wide, at("now_top"));
    let room = times(4, at("top")).compare(Compare::Greater, wide, times(5, at("size")));
    let larger = Expr::And(above.boxed(), Expr::Or(at("saturated").boxed(), room.boxed()).boxed());
    let below = at("top").compare(Compare::Less, wide, at("now_top"));
    let little = times(5, at("size")).compare(Compare::Less, wide, times(2, at("top")));
    let smaller = Expr::And(below.boxed(), little.boxed());
    let smallest = Expr::Or(Expr::Not(at("found").boxed()).boxed(), at("top").compare(Compare::Less, wide, at("best")).boxed());
    let take = vec![Stmt::Set(at("found"), Expr::Bool(true)), Stmt::Set(at("best"), at("top")), Stmt::Set(at("next"), row())];
    let wider = vec![Stmt::Set(at("widest_top"), at("top")), Stmt::Set(at("widest"), row())];
    let each = vec![
        variable("top", wide, top_of(row()), false),
        variable("fits", Ty::Bool, Expr::Cond(at("up").boxed(), larger.boxed(), smaller.boxed()), false),
        Stmt::If(Expr::And(at("fits").boxed(), smallest.boxed()), take, Vec::new()),
        Stmt::If(at("top").compare(Compare::Greater, wide, at("widest_top")), wider, Vec::new()),
    ];
    let none_left = Expr::And(at("up").boxed(), Expr::Not(at("saturated").boxed()).boxed());
    let none_left = Expr::And(none_left.boxed(), Expr::Not(at("found").boxed()).boxed());
    vec![
        variable("now", row_ty, Expr::Method(present.clone(), vec![at("settings")]), false),
        variable("now_top", wide, top_of(at("now")), false),
        variable("size", wide, size, false),
        variable("up", Ty::Bool, Expr::Or(at("saturated").boxed(), over.boxed()), false),
        variable("next", row_ty, at("now"), true),
        variable("widest", row_ty, at("now"), true),
        variable("widest_top", wide, at("now_top"), true),
        variable("best", wide, at("now_top"), true),
        variable("found", Ty::Bool, Expr::Bool(false), true),
        Stmt::EachCode { name: "row".into(), ty: Ty::I32, low: 0, high: none - 1, down: false, body: each },
        Stmt::Comment("Beyond all ranges: the widest one.".into()),
        Stmt::If(none_left, vec![Stmt::Set(at("next"), at("widest"))], Vec::new()),
        Stmt::Switch(at("next"), set, vec![Stmt::Return(Expr::Bool(false))]),
        Stmt::Return(at("next").compare(Compare::NotEqual, row_ty, at("now"))),
    ]
}
