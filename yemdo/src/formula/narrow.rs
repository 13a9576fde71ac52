//! A typed formula in fewer bits: every `double` of it becomes a `float`, as if it had been typed so.

use super::input::InputKey;
use super::typed::{Expr, ExprKind, Formula, Stmt, number};
use crate::ground::number::{Number, Ty};

/// The same formula in single precision. `narrowed` says of an input whether what gives it is narrowed, too; others are doubles
/// still, and are rounded where they come in.
pub(crate) fn single(formula: &Formula, narrowed: &dyn Fn(InputKey) -> bool) -> Formula {
    let mut single = formula.clone();
    single.ty = narrow(single.ty);
    single.vars.iter_mut().for_each(|var| var.ty = narrow(var.ty));
    statements(&mut single.body, narrowed);
    let mut count = 0;
    number(&mut single.body, &mut count);
    single.expressions = count as usize;
    single
}

fn narrow(ty: Ty) -> Ty {
    if ty == Ty::F64 { Ty::F32 } else { ty }
}

fn statements(list: &mut [Stmt], narrowed: &dyn Fn(InputKey) -> bool) {
    for statement in list {
        match statement {
            Stmt::Set { value, .. } | Stmt::Return(value) => expression(value, narrowed),
            Stmt::If { cond, then, otherwise } => {
                expression(cond, narrowed);
                statements(then, narrowed);
                statements(otherwise, narrowed);
            }
        }
    }
}

fn expression(expr: &mut Expr, narrowed: &dyn Fn(InputKey) -> bool) {
    expr.operands_mut().into_iter().for_each(|operand| expression(operand, narrowed));
    let was = expr.ty;
    expr.ty = narrow(was);
    match &mut expr.kind {
        ExprKind::Const(Number::Real(value, ty)) => {
            *value = f64::from(*value as f32);
            *ty = Ty::F32;
        }
        ExprKind::Input(key) if was == Ty::F64 && !narrowed(*key) => {
            let input = Expr::new(ExprKind::Input(*key), Ty::F64, expr.span);
            expr.kind = ExprKind::Convert(Box::new(input));
        }
        // A conversion between the two is none any more.
        ExprKind::Convert(inner) if inner.ty == expr.ty && was.is_real() => {
            let inner = (**inner).clone();
            *expr = inner;
        }
        _ => {}
    }
}
