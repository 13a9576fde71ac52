//! Frames: their bytes to codes, and their checks.

use super::Reals;
use super::build::Build;
use super::code::{Expr, Function, Gives, Member, Param, Pass, Role, Stmt, Struct, Type};
use super::formula::zero;
use super::names::{Scope, snake};
use super::needs::Needs;
use crate::bits::form::Form;
use crate::bits::layout::{Layout, Slice};
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::frame::Frame;
use crate::model::ids::{CodeId, FieldId, FrameId};
use crate::model::input::{Input, inputs};

impl Build<'_> {
    /// The codes of a frame that are emitted, and the fields of its registers.
    pub(super) fn members(&self, id: FrameId) -> (Vec<CodeId>, Vec<FieldId>) {
        let Some(frame) = self.part.frames.get(id) else { return (Vec::new(), Vec::new()) };
        let readings: Vec<_> = self.wanted.readings.iter().flat_map(|reading| self.part.needed(*reading)).collect();
        let conditions = frame.status.iter().map(|condition| &condition.formula).chain(frame.counted.as_ref());
        let mut used: Vec<Input> =
            conditions.chain(self.part.readings.of(&readings).flat_map(|reading| reading.formulas())).flat_map(inputs).collect();
        let mut needs = Needs::default();
        self.wanted.routines.iter().for_each(|routine| super::needs::needs(self.part, *routine, &mut needs));
        used.extend(needs.inputs);
        let used = self.part.inputs_behind(used.into_iter());
        let codes = frame.codes.iter().copied().filter(|code| {
            self.wanted.all
                || matches!(self.options.only, super::Only::Decode)
                || used.contains(&Input::Code(*code))
                || self
                    .part
                    .codes
                    .get(*code)
                    .and_then(|code| code.field)
                    .is_some_and(|field| used.iter().any(|input| input.field() == Some(field)))
        });
        let fields = frame.fields.iter().map(|(field, _)| *field).filter(|field| used.iter().any(|input| input.field() == Some(*field)));
        (codes.collect(), fields.collect())
    }

    pub(super) fn frame(&mut self, id: FrameId) {
        let Some(frame) = self.part.frames.get(id) else { return };
        let name = self.frame_type(id);
        let name = self.give(&name, format!("the codes of frame {}", frame.name));
        let (codes, fields) = self.members(id);
        let (mut members, mut scope) = (Vec::new(), Scope::default());
        let mut body = self.checks(frame);
        let mut sets = Vec::new();
        let mut locals = Scope::default();
        ["bytes", "frame", "came", "count", "byte", "index", "round", "check"].into_iter().for_each(|name| drop(locals.fresh(name)));
        let mut set = |member: &str, value: Expr| {
            // Bits are joined before sign extension.
            let value = match value {
                Expr::SignExtend(width, wide, to, raw) if matches!(*raw, Expr::Arith(..)) => {
                    let (inner, turned) = match *raw {
                        Expr::Arith(Arith::BitXor, _, inner, mask) => (*inner, Some(mask)),
                        joined => (joined, None),
                    };
                    let name = locals.fresh(member);
                    body.push(Stmt::Let { name: name.clone(), ty: Type::Num(wide), value: Some(inner), mutable: false });
                    let raw = Expr::Var(name);
                    let raw = turned.map_or(raw.clone(), |mask| Expr::Arith(Arith::BitXor, wide, raw.boxed(), mask));
                    Expr::SignExtend(width, wide, to, raw.boxed())
                }
                other => other,
            };
            sets.push(Stmt::Set(Expr::Own("frame".into(), member.to_owned()), value));
        };
        for code in &codes {
            let Some(model) = self.part.codes.get(*code) else { continue };
            let member = snake(&model.name);
            scope.give(&member, &format!("code {}", model.name), &mut self.clashes);
            let ty = self.stored(&model.layout);
            let doc = format!("{}{}", model.layout.notation(), form_text(model.layout.form));
            set(&member, self.code(&model.layout, "bytes"));
            let default = if let Type::Num(ty) = ty { zero(ty) } else { Expr::Int(0, Ty::U8) };
            members.push(Member { doc, name: member, ty, default });
        }
        for field in &fields {
            let Some(model) = self.part.fields.get(*field) else { continue };
            let Some((_, layout)) = frame_layout(frame, *field, self.part) else { continue };
            let member = self.field_member(id, *field);
            if members.iter().any(|known: &Member| known.name == member) {
                continue;
            }
            scope.give(&member, &format!("field {}", model.name), &mut self.clashes);
            let ty = self.stored(&layout);
            set(&member, self.code(&layout, "bytes"));
            let default = if let Type::Num(ty) = ty { zero(ty) } else { Expr::Int(0, Ty::U8) };
            members.push(Member { doc: format!("field {}", model.name), name: member, ty, default });
        }
        let counted = frame.counted.is_some();
        if counted {
            let ty = Type::Num(Ty::U16);
            let count_ty = frame.counted.as_ref().map_or(Ty::I32, |formula| formula.ty);
            set("given_bytes", Expr::Cast { from: count_ty, to: Ty::U16, fits: true, value: Expr::Var("count".into()).boxed() });
            members.push(Member {
                doc: "number of valid bytes of the frame".into(),
                name: "given_bytes".into(),
                ty,
                default: zero(Ty::U16),
            });
        }
        // C has no structures without members.
        if members.is_empty() {
            set("unused", Expr::Int(0, Ty::U8));
            members.push(Member { doc: "unused".into(), name: "unused".into(), ty: Type::Num(Ty::U8), default: zero(Ty::U8) });
        }
        let mut doc = vec![format!("Codes of frame {}: {} bytes.", frame.name, frame.length)];
        if let Some(means) = frame.means() {
            doc.extend([String::new(), format!("{}.", super::readings::capital(means).trim_end_matches('.'))]);
        }
        doc.extend(super::readings::cited(frame.source()));
        self.module.structs.push(Struct { role: Role::Frame, doc, name: name.clone(), members });
        body.extend(sets);
        body.push(Stmt::Filled);
        let mut params = vec![Param { name: "bytes".into(), ty: Type::Bytes(frame.length), pass: Pass::In }];
        let mut doc = vec![format!("Unpacks the bytes of {}.", frame.name), String::new()];
        let refuses = self.refuses(frame);
        doc.push(if refuses.is_empty() {
            "Every frame is taken: the sheet has no check for it.".into()
        } else {
            format!("Fails where {refuses}.")
        });
        if counted {
            params.push(Param { name: "came".into(), ty: Type::Num(Ty::U16), pass: Pass::Value });
            doc.push("`came` bytes were read; the other bytes of `bytes` must be zeros.".into());
        }
        let method = self.prefix.method(&frame.name, "unpack");
        let method = self.give(&method, format!("unpacking frame {}", frame.name));
        let gives = Gives::MaybeStruct(name.clone(), Role::Frame);
        self.module.frames.push(super::code::FrameCalls {
            frame: id,
            var: self.frame_var(id),
            ty: name.clone(),
            length: frame.length,
            counted,
            unpack: method.clone(),
            readings: None,
            members: Vec::new(),
        });
        self.module.functions.push(Function { doc, public: true, name: method, of: Some(name), params, gives, body });
    }

    fn refuses(&self, frame: &Frame) -> String {
        let mut all: Vec<String> = frame.checks.iter().map(|check| format!("the {} does not agree", check.method())).collect();
        if frame.keep {
            all.insert(0, "all bytes are 0x00 or all are 0xFF: no response".into());
        }
        if frame.counted.is_some() {
            all.push("fewer bytes came than the frame says itself".into());
        }
        all.join(", or ")
    }

    /// A code of some bytes, as it is kept.
    pub(super) fn code(&self, layout: &Layout, bytes: &str) -> Expr {
        let width = layout.width();
        let Type::Num(stored) = self.stored(layout) else {
            return Expr::Bytes(bytes.to_owned(), layout.slices.iter().map(|slice| slice.byte).collect());
        };
        self.number(layout.form, join(&layout.slices, register(width), bytes), width, stored)
    }

    /// Joined bits, in the type of [`register`] for this width, as a number.
    pub(super) fn number(&self, form: Form, raw: Expr, width: u32, stored: Ty) -> Expr {
        let wide = register(width);
        let half = 1u64 << (width.clamp(1, 64) - 1);
        let signed = |raw: Expr, to: Ty| Expr::SignExtend(width, wide, to, raw.boxed());
        match form {
            Form::Unsigned if stored == Ty::Bool => raw.compare(Compare::NotEqual, wide, Expr::Int(0, wide)),
            Form::Unsigned | Form::Text => raw.cast(wide, stored),
            Form::Signed => signed(raw, stored),
            // The middle of the range is zero: it is two's complement with the highest bit turned over.
            Form::OffsetBinary => signed(Expr::Arith(Arith::BitXor, wide, raw.boxed(), Expr::Hex(half, wide).boxed()), stored),
            Form::SignMagnitude | Form::OnesComplement => {
                // Narrow numbers are promoted where they are negated.
                let ty = if stored.bits() < 32 { Ty::I32 } else { stored };
                let sign = raw.clone().and_mask(wide, half).compare(Compare::NotEqual, wide, Expr::Int(0, wide));
                let magnitude = match form {
                    Form::SignMagnitude => raw.clone().and_mask(wide, half - 1),
                    _ => Expr::BitNot(wide, raw.clone().boxed()).and_mask(wide, half - 1),
                };
                let of = |value: Expr| Expr::Cast { from: wide, to: ty, fits: true, value: value.boxed() };
                let both = Expr::Cond(sign.boxed(), Expr::Neg(ty, of(magnitude).boxed()).boxed(), of(raw.and_mask(wide, half - 1)).boxed());
                if ty == stored { both } else { Expr::Cast { from: ty, to: stored, fits: true, value: both.boxed() } }
            }
            Form::Bcd => {
                let value = Expr::Bcd(raw.cast(wide, Ty::U64).boxed(), width.div_ceil(4));
                Expr::Cast { from: Ty::I64, to: stored, fits: true, value: value.boxed() }
            }
            Form::Float if self.options.reals == Reals::Integer => raw.cast(wide, stored),
            Form::Float => {
                let ty = if width == 64 { Ty::F64 } else { Ty::F32 };
                Expr::FromBits(width, ty, raw.boxed()).cast(ty, stored)
            }
            Form::Fixed(_, fraction) | Form::UnsignedFixed(_, fraction) => {
                let is_signed = matches!(form, Form::Fixed(..));
                let kept = super::build::narrowest(form.bounds(width));
                let code = if is_signed { signed(raw, kept) } else { raw.cast(wide, kept) };
                if !stored.is_real() {
                    return code.cast(kept, stored);
                }
                let scale = Expr::Real(1.0 / (1u64 << fraction) as f64, stored);
                Expr::Arith(Arith::Mul, stored, code.cast(kept, stored).boxed(), scale.boxed())
            }
        }
    }
}

/// Unsigned type for `width` bits.
pub(super) fn register(width: u32) -> Ty {
    match width {
        0..=8 => Ty::U8,
        9..=16 => Ty::U16,
        17..=32 => Ty::U32,
        _ => Ty::U64,
    }
}

/// The bits of a byte that a slice takes, in a type.
pub(super) fn bits(slice: Slice, bytes: &str, ty: Ty) -> Expr {
    let moved = Expr::Byte(bytes.to_owned(), slice.byte).shr(Ty::U8, u32::from(slice.low));
    let cut = if slice.high == 7 { moved } else { moved.and_mask(Ty::U8, (1 << slice.width()) - 1) };
    cut.cast(Ty::U8, ty)
}

/// The bits of slices, joined, the first the most significant.
pub(super) fn join(slices: &[Slice], ty: Ty, bytes: &str) -> Expr {
    let mut left: u32 = slices.iter().map(|slice| slice.width()).sum();
    let mut joined: Option<Expr> = None;
    for slice in slices {
        left -= slice.width();
        let piece = bits(*slice, bytes, ty).shl(ty, left);
        joined = Some(match joined {
            Some(joined) => joined.or(ty, piece),
            None => piece,
        });
    }
    joined.unwrap_or(Expr::Int(0, ty))
}

/// The layout of a field in a frame of registers.
fn frame_layout(frame: &Frame, field: FieldId, part: &crate::model::part::Part) -> Option<(FieldId, Layout)> {
    let (_, gather) = frame.fields.iter().find(|(held, _)| *held == field)?;
    let form = part.fields.get(field)?.layout.form;
    Some((field, Layout { form, slices: gather.slices() }))
}

fn form_text(form: Form) -> String {
    match form {
        Form::Unsigned => String::new(),
        Form::Signed => ", two's complement".into(),
        Form::Bcd => ", decimal digits; -1 if a digit is above 9".into(),
        Form::Float => ", IEEE 754".into(),
        Form::Text => ", text".into(),
        other => format!(", {}", other.name()),
    }
}
