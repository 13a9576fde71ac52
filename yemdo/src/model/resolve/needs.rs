//! `while` of frames and readings: a condition for each field that must have a certain code.

use super::Resolver;
use crate::formula::operators::Compare;
use crate::formula::typed::{Expr, ExprKind, Formula, Stmt, number};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::number::{Number, Ty};
use crate::ground::text::Span;
use crate::model::frame::{Origin, Otherwise};
use crate::model::ids::{FieldId, FrameId};
use crate::model::input::Input;
use crate::model::reading::Condition;
use crate::model::status::Status;
use crate::sheet::tree::{self, Choice, Named};

impl Resolver {
    /// The fields of a `while` with their codes, and conditions that hold if they have other codes. If the frame holds the field, the
    /// condition uses the code of the frame.
    pub(super) fn valid_while(&mut self, typed: &[Named<Choice>], frame: Option<FrameId>) -> (Vec<(FieldId, i128)>, Vec<Condition>) {
        let needs = self.choices(typed);
        if needs.len() != typed.len() {
            return (needs, Vec::new());
        }
        let conditions = needs.iter().zip(typed).filter_map(|((field, code), (name, _))| self.need(*field, *code, frame, name.span));
        let conditions = conditions.collect();
        (needs, conditions)
    }

    fn need(&self, id: FieldId, code: i128, frame: Option<FrameId>, span: Span) -> Option<Condition> {
        let field = self.part.fields.get(id)?;
        let held = frame.and_then(|frame| self.part.codes.position(|code| code.frame == frame && code.field == Some(id)));
        let (input, ty) = match held.and_then(|held| Some((held, self.part.codes.get(held)?))) {
            Some((held, code)) => (Input::Code(held), code.ty),
            None => (Input::Field(id), field.ty()),
        };
        let text = self.part.setting_text(id, code)?;
        let value = Expr::new(ExprKind::Input(input.key()), ty, span);
        let wanted = Expr::new(ExprKind::Const(Number::Int(code, ty)), ty, span);
        let differs = Expr::new(ExprKind::Compare(Compare::NotEqual, Box::new(value), Box::new(wanted)), Ty::I32, span);
        let mut body = vec![Stmt::Return(differs)];
        let mut expressions = 0;
        number(&mut body, &mut expressions);
        let formula = Formula {
            vars: Vec::new(),
            body,
            ty: Ty::I32,
            inputs: vec![input.key()],
            span,
            expressions: expressions as usize,
            is_expression: true,
            lost: None,
        };
        Some(Condition { formula, status: Status::Invalid, means: Some(format!("valid only while {text}")), needs: Some((id, code)) })
    }

    /// Resolves `otherwise` of a frame.
    pub(super) fn otherwise(&mut self, frame: &tree::Frame, origin: &Origin) -> Otherwise {
        let Some(word) = frame.otherwise else { return Otherwise::default() };
        match word.value {
            "no answer" => Otherwise::NoAnswer,
            "reset value" => {
                let has_reset = match origin {
                    Origin::Registers(runs) => self.part.registers.of(runs.iter().flatten()).all(|register| register.reset.is_some()),
                    _ => false,
                };
                if !has_reset {
                    let problem = Diagnostic::error("bad-otherwise", word.span, "the sheet states no reset value of this frame");
                    self.report(problem.label("for frames of registers that each have `reset`").help("give its registers `reset`"));
                }
                Otherwise::ResetValue
            }
            _ => Otherwise::LastValue,
        }
    }
}
