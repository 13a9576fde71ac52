//! Syntax tree to typed program: binds names, and writes out the conversions that C makes.

use super::ast::{self, Body, UnaryOp};
use super::slips::Fractions;
use crate::formula::functions::Func;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::operators::{Arith, BinaryOp};
use crate::formula::typed::{Expr, ExprKind, Formula, Lost, Stmt, Var, number};
use crate::ground::number::{Number, Ty};
use crate::ground::text::{Span, Text};
use crate::ground::{diagnostic::Diagnostic, suggest};

/// The names that a formula can take values from.
pub(crate) trait Scope {
    /// The value of that name, and its type; `Err` where the name is known but cannot be used.
    fn resolve(&self, name: &str, member: Option<&str>) -> Result<Option<(InputKey, Ty)>, String>;
    /// The curve of that name.
    fn curve(&self, name: &str) -> Option<CurveId>;
    /// The division of integers that a value from outside is made of.
    fn lost(&self, _input: InputKey) -> Option<Lost> {
        None
    }
    /// Every name, for "did you mean".
    fn names(&self) -> Vec<String>;
}

/// Parses and types a formula. Warnings that do not stop it go into `warnings`.
pub(crate) fn analyse(text: &Text, scope: &dyn Scope, warnings: &mut Vec<Diagnostic>) -> Result<Formula, Diagnostic> {
    let body = crate::formula::front::parse::parse(text)?;
    let mut analyser = Analyser {
        scope,
        vars: Vec::new(),
        visible: Vec::new(),
        assigned: Vec::new(),
        inputs: Vec::new(),
        returns: None,
        results: Vec::new(),
        fractions: Fractions::default(),
        warnings,
    };
    let is_expression = matches!(body, Body::Value(_));
    let mut statements = match body {
        Body::Value(value) => {
            let value = analyser.expr(&value)?;
            analyser.returns(&value);
            vec![Stmt::Return(value)]
        }
        Body::Statements(list) => {
            let (list, ends) = analyser.block(&list)?;
            if !ends {
                let end = text.locate(text.value.trim_end().len()..text.value.trim_end().len());
                return Err(Diagnostic::error("no-return", end, "the formula can end without a `return`")
                    .label("a value must be returned on every path")
                    .help("end with `return x;`"));
            }
            list
        }
    };
    let ty = analyser.returns.unwrap_or(Ty::I32);
    convert_returns(&mut statements, ty);
    let mut expressions = 0;
    number(&mut statements, &mut expressions);
    let results = std::mem::take(&mut analyser.results);
    let mut lost = results.iter().find_map(|span| analyser.fractions.at(*span)).cloned();
    if ty.is_real() {
        lost = None;
        results.into_iter().for_each(|span| analyser.becomes_real(span));
    }
    let Analyser { vars, inputs, .. } = analyser;
    let trimmed = text.value.len() - text.value.trim_start().len()..text.value.trim_end().len();
    Ok(Formula { vars, body: statements, ty, inputs, span: text.locate(trimmed), expressions: expressions as usize, is_expression, lost })
}

struct Analyser<'a> {
    scope: &'a dyn Scope,
    vars: Vec<Var>,
    /// Variables in sight, innermost last.
    visible: Vec<usize>,
    /// For each variable, whether every path so far has given it a value.
    assigned: Vec<bool>,
    inputs: Vec<InputKey>,
    returns: Option<Ty>,
    /// The places of the values that it returns as integers.
    results: Vec<Span>,
    fractions: Fractions,
    warnings: &'a mut Vec<Diagnostic>,
}

type Typed<T> = Result<T, Diagnostic>;

impl Analyser<'_> {
    /// Types a list of statements; says whether every path through it returns.
    fn block(&mut self, list: &[ast::Stmt]) -> Typed<(Vec<Stmt>, bool)> {
        let outer = self.visible.len();
        let mut out = Vec::new();
        let mut ends = false;
        for statement in list {
            if ends {
                let span = first_span(statement);
                return Err(Diagnostic::error("unreachable", span, "this is never reached: the formula has returned before")
                    .label("after a `return`"));
            }
            ends = self.statement(statement, &mut out)?;
        }
        self.visible.truncate(outer);
        Ok((out, ends))
    }

    fn statement(&mut self, statement: &ast::Stmt, out: &mut Vec<Stmt>) -> Typed<bool> {
        match statement {
            ast::Stmt::Declare { ty, name, span, value } => {
                let outer = self.visible.iter().rev().filter_map(|index| self.vars.get(*index)).find(|var| var.name == *name);
                if let Some(earlier) = outer {
                    return Err(Diagnostic::error("declared-twice", *span, format!("`{name}` is declared twice"))
                        .label("declared again here")
                        .also(earlier.span, "first declared here"));
                }
                let var = self.vars.len();
                let value = match value {
                    Some(value) => {
                        let value = self.expr(value)?;
                        Some(self.taken_by(var, value, *ty))
                    }
                    None => None,
                };
                self.vars.push(Var { name: name.clone(), ty: *ty, span: *span });
                self.visible.push(var);
                self.assigned.push(value.is_some());
                out.extend(value.map(|value| Stmt::Set { var, value, span: *span }));
                Ok(false)
            }
            ast::Stmt::Assign { name, span, op, value } => {
                let var = self.variable(name, *span)?;
                let ty = self.vars.get(var).map_or(Ty::I32, |var| var.ty);
                let typed = value;
                let mut value = self.expr(typed)?;
                if let Some((op, op_span)) = op {
                    let current = self.read_variable(var, *span)?;
                    let whole = span.to(value.span);
                    value = self.binary(*op, *op_span, current, value, whole)?;
                    let lost = self.fractions.of_binary(*op, *span, typed, whole, value.ty).filter(|_| !value.ty.is_real());
                    self.fractions.put(whole, lost);
                }
                if let Some(assigned) = self.assigned.get_mut(var) {
                    *assigned = true;
                }
                let value = self.taken_by(var, value, ty);
                out.push(Stmt::Set { var, value, span: *span });
                Ok(false)
            }
            ast::Stmt::If { cond, then, otherwise } => {
                let cond = self.expr(cond)?;
                let mut before = self.assigned.clone();
                let (then, then_ends) = self.block(then)?;
                before.resize(self.vars.len(), true); // those declared inside are out of sight by now
                let after_then = std::mem::replace(&mut self.assigned, before);
                let (otherwise, else_ends) = self.block(otherwise)?;
                // Assigned after both: where both give a value, or the one that goes on does.
                for (index, assigned) in self.assigned.iter_mut().enumerate() {
                    let in_then = after_then.get(index).copied().unwrap_or(true);
                    *assigned = (*assigned || else_ends) && (in_then || then_ends);
                }
                out.push(Stmt::If { cond, then, otherwise });
                Ok(then_ends && else_ends)
            }
            ast::Stmt::Block(list) => {
                let (list, ends) = self.block(list)?;
                out.extend(list);
                Ok(ends)
            }
            ast::Stmt::Return(value) => {
                let value = self.expr(value)?;
                self.returns(&value);
                out.push(Stmt::Return(value));
                Ok(true)
            }
        }
    }

    fn find_variable(&self, name: &str) -> Option<usize> {
        self.visible.iter().rev().copied().find(|index| self.vars.get(*index).is_some_and(|var| var.name == name))
    }

    fn variable(&self, name: &str, span: Span) -> Typed<usize> {
        self.find_variable(name).ok_or_else(|| {
            let problem = Diagnostic::error("unknown-name", span, format!("`{name}` is not a variable"));
            if matches!(self.scope.resolve(name, None), Ok(Some(_))) {
                return problem.label("comes from outside the formula").help("give a variable of your own the new value");
            }
            let known: Vec<&str> = self.visible.iter().filter_map(|index| self.vars.get(*index)).map(|var| var.name.as_str()).collect();
            problem.label("not declared").help(match suggest::nearest(name, known) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("declare it with its type, such as `int32_t {name} = ...;`"),
            })
        })
    }

    /// A value as a variable of a type takes it.
    fn taken_by(&mut self, var: usize, value: Expr, ty: Ty) -> Expr {
        if ty.is_real() {
            self.becomes_real(value.span);
        } else {
            let lost = self.fractions.at(value.span).cloned();
            self.fractions.set(var, lost);
        }
        convert(value, ty)
    }

    /// A value is given as the result.
    fn returns(&mut self, value: &Expr) {
        self.returns = Some(self.returns.map_or(value.ty, |ty| if ty == value.ty { ty } else { ty.common(value.ty) }));
        if !value.ty.is_real() {
            self.results.push(value.span);
        }
    }

    /// The value of an expression goes on as a real: too late for a fraction that a division of integers has dropped.
    fn becomes_real(&mut self, span: Span) {
        let warning = self.fractions.goes_on(span);
        self.warnings.extend(warning);
    }

    fn read_variable(&mut self, var: usize, span: Span) -> Typed<Expr> {
        let lost = self.fractions.variable(var).cloned();
        self.fractions.put(span, lost);
        let (name, ty) = self.vars.get(var).map_or(("", Ty::I32), |var| (var.name.as_str(), var.ty));
        if self.assigned.get(var).copied().unwrap_or(false) {
            return Ok(Expr::new(ExprKind::Var(var), ty, span));
        }
        Err(Diagnostic::error("no-value-yet", span, format!("`{name}` may be used before it has a value"))
            .label("on some path nothing was assigned")
            .also(self.vars.get(var).map_or(span, |var| var.span), "declared here without a value"))
    }

    fn expr(&mut self, expr: &ast::Expr) -> Typed<Expr> {
        let typed = self.expr_alone(expr)?;
        if !typed.ty.is_real() {
            let lost = self.fractions.of(expr, typed.ty);
            self.fractions.put(expr.span, lost);
        }
        Ok(typed)
    }

    fn expr_alone(&mut self, expr: &ast::Expr) -> Typed<Expr> {
        let span = expr.span;
        let make = |kind, ty| Ok(Expr::new(kind, ty, span));
        match &expr.kind {
            ast::ExprKind::Int(value, ty) => make(ExprKind::Const(Number::Int(i128::from(*value), *ty)), *ty),
            ast::ExprKind::Real(value, ty) => make(ExprKind::Const(Number::Real(*value, *ty)), *ty),
            ast::ExprKind::Name(name, member) => self.name(name, member.as_ref().map(|(m, _)| m.as_str()), span),
            ast::ExprKind::Unary(op, inner) => {
                let inner = self.expr(inner)?;
                let promoted = inner.ty.promoted();
                match op {
                    UnaryOp::Plus => Ok(Expr { span, ..convert(inner, promoted) }),
                    UnaryOp::Minus => make(ExprKind::Neg(Box::new(convert(inner, promoted))), promoted),
                    UnaryOp::Not => make(ExprKind::Not(Box::new(inner)), Ty::I32),
                    UnaryOp::BitNot if promoted.is_real() => Err(integers_only("~", span, &[&inner])),
                    UnaryOp::BitNot => make(ExprKind::BitNot(Box::new(convert(inner, promoted))), promoted),
                }
            }
            ast::ExprKind::Binary(op, op_span, left, right) => {
                let (left, right) = (self.expr(left)?, self.expr(right)?);
                self.binary(*op, *op_span, left, right, span)
            }
            ast::ExprKind::Cond(cond, then, otherwise) => {
                let (cond, then, otherwise) = (self.expr(cond)?, self.expr(then)?, self.expr(otherwise)?);
                let ty = then.ty.common(otherwise.ty);
                if ty.is_real() {
                    self.becomes_real(then.span);
                    self.becomes_real(otherwise.span);
                }
                make(ExprKind::Cond(Box::new(cond), Box::new(convert(then, ty)), Box::new(convert(otherwise, ty))), ty)
            }
            ast::ExprKind::Cast(ty, inner) => {
                let value = self.expr(inner)?;
                if ty.is_real() {
                    self.becomes_real(value.span);
                }
                Ok(Expr { span, ..convert(value, *ty) })
            }
            ast::ExprKind::Call(name, name_span, args) => self.call(name, *name_span, args, span),
        }
    }

    fn name(&mut self, name: &str, member: Option<&str>, span: Span) -> Typed<Expr> {
        if member.is_none()
            && let Some(var) = self.find_variable(name)
        {
            return self.read_variable(var, span);
        }
        if let ("M_PI", None) = (name, member) {
            return Ok(Expr::new(ExprKind::Const(Number::Real(std::f64::consts::PI, Ty::F64)), Ty::F64, span));
        }
        let full = member.map_or(name.to_owned(), |member| format!("{name}.{member}"));
        match self.scope.resolve(name, member) {
            Ok(Some((input, ty))) => {
                if !self.inputs.contains(&input) {
                    self.inputs.push(input);
                }
                self.fractions.put(span, self.scope.lost(input));
                Ok(Expr::new(ExprKind::Input(input), ty, span))
            }
            Ok(None) => {
                let mut known = self.scope.names();
                known.extend(self.visible.iter().filter_map(|index| self.vars.get(*index)).map(|var| var.name.clone()));
                let problem = Diagnostic::error("unknown-name", span, format!("`{full}` is not known here")).label("not known");
                if Func::named(name).is_some() {
                    return Err(problem.help(format!("`{name}` is a function: write {name}(x)")));
                }
                Err(problem.known(&full, "names", known.iter().map(String::as_str)))
            }
            Err(reason) => Err(Diagnostic::error("unusable-name", span, format!("`{full}` cannot be used here")).label(reason)),
        }
    }

    fn binary(&mut self, op: BinaryOp, op_span: Span, left: Expr, right: Expr, span: Span) -> Typed<Expr> {
        let make = |kind: ExprKind, ty: Ty| Ok(Expr::new(kind, ty, span));
        match op {
            BinaryOp::Logic(op) => make(ExprKind::Logic(op, Box::new(left), Box::new(right)), Ty::I32),
            BinaryOp::Shift(shift) => {
                if left.ty.is_real() || right.ty.is_real() {
                    return Err(integers_only(op.mark(), op_span, &[&left, &right]));
                }
                let (ty, right_ty) = (left.ty.promoted(), right.ty.promoted());
                make(ExprKind::Shift(shift, Box::new(convert(left, ty)), Box::new(convert(right, right_ty))), ty)
            }
            BinaryOp::Compare(compare) => {
                let (left, right) = self.balanced(op, op_span, left, right);
                make(ExprKind::Compare(compare, Box::new(left), Box::new(right)), Ty::I32)
            }
            BinaryOp::Arith(arith) => {
                let ty = left.ty.common(right.ty);
                if ty.is_real() && arith.integers_only() {
                    let problem = integers_only(op.mark(), op_span, &[&left, &right]);
                    return Err(match arith {
                        Arith::BitXor => problem.help("^ is XOR in C; for a power, write pow(x, y)"),
                        Arith::Rem => problem.help("for the remainder of reals, write fmod(x, y)"),
                        _ => problem,
                    });
                }
                let (left, right) = self.balanced(op, op_span, left, right);
                make(ExprKind::Arith(arith, Box::new(left), Box::new(right)), ty)
            }
        }
    }

    /// Both operands in their common type (C11 6.3.1.8).
    fn balanced(&mut self, op: BinaryOp, op_span: Span, left: Expr, right: Expr) -> (Expr, Expr) {
        let ty = left.ty.common(right.ty);
        self.look_for_unsigned_surprise(op, op_span, &left, &right, ty);
        if ty.is_real() {
            self.becomes_real(left.span);
            self.becomes_real(right.span);
        }
        (convert(left, ty), convert(right, ty))
    }

    /// A negative number that becomes a huge unsigned one is a classic of pasted code.
    fn look_for_unsigned_surprise(&mut self, op: BinaryOp, op_span: Span, left: &Expr, right: &Expr, ty: Ty) {
        let compares_or_divides = matches!(op, BinaryOp::Compare(_) | BinaryOp::Arith(Arith::Div | Arith::Rem));
        if !compares_or_divides || ty.is_real() || ty.is_signed() {
            return;
        }
        for side in [left, right] {
            let constant = matches!(side.kind, ExprKind::Const(_));
            if side.ty.is_signed() && side.ty.promoted() == side.ty && !constant {
                self.warnings.push(
                    Diagnostic::warning(
                        "sign-lost",
                        op_span,
                        format!("`{}` works on {ty} here: a negative {} becomes a large number", op.mark(), side.ty),
                    )
                    .label("signed meets unsigned")
                    .also(side.span, format!("this is {}", side.ty))
                    .help(format!("if the sign matters, cast the other side: ({})x", if ty == Ty::U32 { "int32_t" } else { "int64_t" })),
                );
            }
        }
    }

    fn call(&mut self, name: &str, name_span: Span, args: &[ast::Expr], span: Span) -> Typed<Expr> {
        if let Some(curve) = self.scope.curve(name) {
            let [arg] = args else {
                return Err(Diagnostic::error(
                    "argument-count",
                    span,
                    format!("the table `{name}` takes one argument, not {}", args.len()),
                )
                .label("expected one argument"));
            };
            let arg = self.expr(arg)?;
            self.becomes_real(arg.span);
            let arg = convert(arg, Ty::F64);
            return Ok(Expr::new(ExprKind::Curve(curve, Box::new(arg)), Ty::F64, span));
        }
        let Some((func, ty, arity)) = Func::named(name) else {
            let names = Func::ALL.iter().map(|(name, ..)| *name).chain(Func::INTEGER.iter().map(|(name, ..)| *name));
            return Err(Diagnostic::error("unknown-function", name_span, format!("`{name}` is not a function that formulas may call"))
                .label("only the functions of <math.h>, and abs")
                .known(name, "functions", names));
        };
        if args.len() != arity {
            let wanted = if arity == 1 { "one argument".to_owned() } else { format!("{arity} arguments") };
            return Err(Diagnostic::error("argument-count", span, format!("`{name}` takes {wanted}, not {}", args.len()))
                .label(format!("expected {wanted}")));
        }
        let mut converted = Vec::new();
        for arg in args {
            let arg = self.expr(arg)?;
            if func == Func::Abs && arg.ty.is_real() {
                return Err(Diagnostic::error(
                    "integers-only",
                    arg.span,
                    format!("`{name}` works on integers and would cut the fraction off"),
                )
                .label(format!("this is {}", arg.ty))
                .help("for reals, write fabs(x)"));
            }
            if ty.is_real() {
                self.becomes_real(arg.span);
            }
            converted.push(convert(arg, ty));
        }
        Ok(Expr::new(ExprKind::Call(func, converted), ty, span))
    }
}

fn integers_only(mark: &str, span: Span, sides: &[&Expr]) -> Diagnostic {
    let mut problem =
        Diagnostic::error("integers-only", span, format!("`{mark}` works on integers only")).label("one side is a real number");
    for side in sides.iter().filter(|side| side.ty.is_real() && side.span != span) {
        problem = problem.also(side.span, format!("this is {}", side.ty));
    }
    problem
}

/// A conversion, unless the type is right already.
fn convert(expr: Expr, ty: Ty) -> Expr {
    if expr.ty == ty {
        return expr;
    }
    let span = expr.span;
    if let ExprKind::Const(Number::Int(value, _)) = expr.kind
        && ty.bounds().is_some_and(|(low, high)| (low..=high).contains(&value))
    {
        return Expr::new(ExprKind::Const(Number::Int(value, ty)), ty, span);
    }
    if let (ExprKind::Const(Number::Int(value, _)), Ty::F32 | Ty::F64) = (&expr.kind, ty) {
        let real = if ty == Ty::F32 { f64::from(*value as f32) } else { *value as f64 };
        return Expr::new(ExprKind::Const(Number::Real(real, ty)), ty, span);
    }
    Expr::new(ExprKind::Convert(Box::new(expr)), ty, span)
}

fn convert_returns(list: &mut [Stmt], ty: Ty) {
    for statement in list {
        match statement {
            Stmt::Return(value) => {
                let taken = std::mem::replace(value, Expr::new(ExprKind::Const(Number::Int(0, ty)), ty, value.span));
                *value = convert(taken, ty);
            }
            Stmt::If { then, otherwise, .. } => {
                convert_returns(then, ty);
                convert_returns(otherwise, ty);
            }
            Stmt::Set { .. } => {}
        }
    }
}

fn first_span(statement: &ast::Stmt) -> Span {
    match statement {
        ast::Stmt::Declare { span, .. } | ast::Stmt::Assign { span, .. } => *span,
        ast::Stmt::If { cond, .. } => cond.span,
        ast::Stmt::Block(list) => list.first().map_or(Span::default(), first_span),
        ast::Stmt::Return(value) => value.span,
    }
}
