//! Candidate number forms.

use super::behind::expressions;
use super::change::{Change, Mistake};
use super::layouts::{Typed, bits};
use crate::bits::form::Form;
use crate::formula::operators::Arith;
use crate::formula::typed::{Expr, ExprKind};

/// Weight factor for fixed point in a formula with a scale.
const SCALED: f64 = 0.1;

impl Typed<'_> {
    /// Other number forms.
    pub(super) fn forms(&self, found: &mut Vec<Change>) {
        let (form, width) = (self.layout.form, self.layout.width());
        let others: [(Form, Mistake, f64, &str); 7] = [
            (Form::Signed, Mistake::Sign, 1.0, "two's complement"),
            (Form::Unsigned, Mistake::Sign, 0.5, "unsigned"),
            (Form::SignMagnitude, Mistake::Form, 0.4, "sign and magnitude"),
            (Form::OffsetBinary, Mistake::Form, 0.4, "offset binary"),
            (Form::OnesComplement, Mistake::Form, 0.1, "one's complement"),
            (Form::Bcd, Mistake::Bcd, 1.0, "binary-coded decimal"),
            (Form::Float, Mistake::Form, 0.2, "IEEE 754 float"),
        ];
        for (other, mistake, share, what) in others {
            let mistake = if form == Form::Bcd && other == Form::Unsigned { Mistake::Bcd } else { mistake };
            if other != form && other.accepts(width).is_ok() {
                found.extend(self.change(mistake, share, format!("read as {what}"), other, &bits(self.layout)));
            }
        }
    }

    /// Fixed point: point missing, extra or in another position.
    pub(super) fn fixed_points(&self, found: &mut Vec<Change>) {
        let (form, width) = (self.layout.form, self.layout.width());
        let own = bits(self.layout);
        let Some(width) = u8::try_from(width).ok().filter(|width| (4..=48).contains(width)) else { return };
        let (plain, other_sign) = match form {
            Form::Unsigned | Form::Signed => (None, None),
            Form::Fixed(whole, fraction) => (Some(Form::Signed), Some(Form::UnsignedFixed(whole + 1, fraction))),
            Form::UnsignedFixed(whole, fraction) => (Some(Form::Unsigned), whole.checked_sub(1).map(|whole| Form::Fixed(whole, fraction))),
            _ => return,
        };
        if let Some(plain) = plain {
            found.extend(self.change(Mistake::Form, 0.5, format!("read as {} integer", plain.name()), plain, &own));
        }
        if let Some(other) = other_sign {
            found.extend(self.change(Mistake::Sign, 1.0, format!("read as {}", other.name()), other, &own));
        }
        // A formula with a scale of its own takes integers.
        let unlikely = if plain.is_none() && self.is_scaled() { SCALED } else { 1.0 };
        for fraction in 1..width {
            let round = unlikely * if fraction.is_multiple_of(8) || fraction + 8 == width || 2 * fraction == width { 0.2 } else { 0.05 };
            let (signed, unsigned) = (Form::Fixed(width - 1 - fraction, fraction), Form::UnsignedFixed(width - fraction, fraction));
            let others = match form {
                Form::Signed | Form::Fixed(..) => vec![(signed, round)],
                // The sign is missing too.
                Form::Unsigned => vec![(unsigned, round), (signed, round / 2.0)],
                _ => vec![(unsigned, round)],
            };
            for (other, share) in others.into_iter().filter(|(other, _)| *other != form && other.accepts(u32::from(width)).is_ok()) {
                found.extend(self.change(Mistake::Form, share, format!("read as fixed point {}", other.name()), other, &own));
            }
        }
    }

    /// True if a formula multiplies the code by a fraction, or divides it.
    fn is_scaled(&self) -> bool {
        let uses = self.part.readings.entries().filter(|(_, reading)| reading.codes.contains(&self.site.code));
        uses.flat_map(|(id, _)| expressions(self.part, id)).any(|expr| match &expr.kind {
            ExprKind::Arith(Arith::Mul, left, right) => [left, right].iter().any(|side| fraction(side)),
            ExprKind::Arith(Arith::Div, ..) => true,
            _ => false,
        })
    }
}

/// True for a constant below 1.
fn fraction(expr: &Expr) -> bool {
    matches!(expr.unconverted().kind, ExprKind::Const(value) if value.to_f64().abs() < 1.0)
}
