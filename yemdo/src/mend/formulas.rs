//! Candidate changes of formulas: operators, codes, columns, units, integer divisions.

use super::behind::{Behind, expressions};
use super::change::{Change, Edit, Mistake};
use super::layouts::likeness;
use crate::formula::operators::Arith;
use crate::formula::typed::{Expr, ExprKind};
use crate::ground::number::Ty;
use crate::ground::text::Span;
use crate::ground::words::toml_text;
use crate::model::ids::{CodeId, ReadingId};
use crate::model::input::Input;
use crate::model::part::Part;
use crate::units::{UNITS, Unit};

/// Candidate formulas, except for their constants.
pub(super) fn changes(part: &Part, behind: &Behind) -> Vec<Change> {
    let mut found = Vec::new();
    for reading in &behind.readings {
        let expressions = expressions(part, *reading);
        for expr in &expressions {
            operators(part, *reading, expr, &mut found);
            takes_another(part, *reading, expr, &mut found);
        }
        decimal_bytes(part, *reading, &expressions, &mut found);
    }
    for (reading, unit) in &behind.units {
        let name = &part.readings[*reading].name;
        let own = Unit::find(&unit.value);
        let others: Vec<&Unit> =
            UNITS.iter().filter(|other| own.is_some_and(|own| own.dimension == other.dimension && own != *other)).collect();
        for other in &others {
            let what = format!("{name}: result of the formula in {}, not {}", other.symbol, unit.value);
            let share = 1.0 / others.len() as f64;
            found.push(Change::edit(Mistake::Unit, share, what, unit.span, toml_text(other.symbol)));
        }
    }
    found
}

/// Position of the operator between two operands, if it is unique.
fn between(part: &Part, left: &Expr, right: &Expr, mark: char) -> Option<Span> {
    let gap = Span::new(left.span.end, right.span.start);
    let text = part.source.slice(gap);
    let at = text.find(mark)?;
    (text.matches(mark).count() == 1).then(|| Span::new(gap.start + at, gap.start + at + mark.len_utf8()))
}

fn operators(part: &Part, reading: ReadingId, expr: &Expr, found: &mut Vec<Change>) {
    let ExprKind::Arith(op, left, right) = &expr.kind else { return };
    let name = &part.readings[reading].name;
    let (left, right) = (left.unconverted(), right.unconverted());
    let (mark, other, mistake, share) = match op {
        Arith::Add => ('+', '-', Mistake::ConstantSign, 0.5),
        Arith::Sub => ('-', '+', Mistake::ConstantSign, 0.5),
        Arith::Mul => ('*', '/', Mistake::Operator, 0.5),
        Arith::Div => ('/', '*', Mistake::Operator, 0.5),
        _ => return,
    };
    if let Some(span) = between(part, left, right, mark) {
        let what = format!("{name}: `{other}` instead of `{mark}`");
        found.push(Change::edit(mistake, share, what, span, other.to_string()));
    }
    if *op == Arith::Div && !expr.ty.is_real() {
        let text = part.source.slice(right.span);
        let what = format!("{name}: integer division drops the fraction");
        if text.bytes().all(|byte| byte.is_ascii_digit()) {
            found.push(Change::edit(Mistake::IntegerDivision, 1.0, what, right.span, format!("{text}.0")));
        } else {
            let at = Span::new(left.span.start, left.span.start);
            found.push(Change::edit(Mistake::IntegerDivision, 1.0, what, at, "(double)".to_owned()));
        }
    }
}

/// Other codes of the frame and other columns of the table.
fn takes_another(part: &Part, reading: ReadingId, expr: &Expr, found: &mut Vec<Change>) {
    let name = &part.readings[reading].name;
    match Input::of_expr(expr) {
        Some(Input::Code(id)) => {
            let code = &part.codes[id];
            let others: Vec<CodeId> = part.frames[code.frame].codes.iter().copied().filter(|other| *other != id).collect();
            for other in &others {
                let likeness = likeness(code, part.codes.get(*other));
                let other = &part.codes[*other].name;
                // Names of array elements are generated.
                if part.source.slice(expr.span) == code.name {
                    let what = format!("{name} uses {other}, not {}", code.name);
                    let share = 0.5 * likeness / others.len() as f64;
                    found.push(Change::edit(Mistake::Exchanged, share, what, expr.span, other.clone()));
                }
            }
        }
        Some(Input::Column(field, column)) => {
            let field = &part.fields[field];
            let typed = part.source.slice(expr.span);
            for (_, other) in field.columns.entries().filter(|(id, _)| *id != column) {
                let own = &field.columns[column].name;
                if let Some(front) = typed.strip_suffix(own.as_str()) {
                    let what = format!("{name} uses the column {} of {}, not {own}", other.name, field.name);
                    let share = 0.5 / field.columns.len().max(1) as f64;
                    found.push(Change::edit(Mistake::Exchanged, share, what, expr.span, format!("{front}{}", other.name)));
                }
            }
        }
        _ => {}
    }
}

/// Integer byte and decimal byte: 0x18 0x32 for 24.5.
fn decimal_bytes(part: &Part, reading: ReadingId, expressions: &[&Expr], found: &mut Vec<Change>) {
    let model = &part.readings[reading];
    let [code] = model.codes.as_slice() else { return };
    let code = &part.codes[*code];
    let uses = expressions.iter().filter(|expr| matches!(Input::of_expr(expr), Some(Input::Code(_))));
    let spans: Vec<Span> = uses.map(|expr| expr.span).filter(|span| part.source.slice(*span) == code.name).collect();
    if code.layout.width() != 16 || spans.is_empty() || !matches!(code.ty, Ty::I32 | Ty::U32) {
        return;
    }
    for (divisor, share) in [("10.0", 0.5), ("100.0", 0.5)] {
        let text = format!("(({0} >> 8) + ({0} & 255) / {divisor})", code.name);
        let edits = spans.iter().map(|span| Edit { span: *span, text: text.clone() }).collect();
        let what = format!("{}: integer byte and decimal byte", model.name);
        found.push(Change::edits(Mistake::DecimalByte, share, what, edits));
    }
}
