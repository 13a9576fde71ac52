//! The checks of frames as statements.

use super::build::Build;
use super::code::{Expr, Stmt, Type};
use super::unpack::{bits, join, register};
use crate::bits::check::{Check, CheckKind, CrcModel, SumFinish};
use crate::bits::layout::CheckInput;
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::frame::{Blank, Frame};
use crate::model::input::{Input, inputs};

pub(super) fn width_of(input: &CheckInput) -> u32 {
    match input {
        CheckInput::Bits(slice) => slice.width(),
        CheckInput::Constant(_, width) => *width,
        CheckInput::Address(_) => 8,
    }
}

/// Covered bytes of a check, in order: runs of whole bytes, and other items one by one.
pub(super) fn runs(check: &Check) -> Vec<(usize, usize, Option<CheckInput>)> {
    let mut runs: Vec<(usize, usize, Option<CheckInput>)> = Vec::new();
    for input in &check.over {
        match *input {
            CheckInput::Bits(slice) if slice.width() == 8 => match runs.last_mut() {
                Some((at, count, None)) if *at + *count == slice.byte => *count += 1,
                _ => runs.push((slice.byte, 1, None)),
            },
            other => runs.push((0, 0, Some(other))),
        }
    }
    runs
}

pub(super) fn mask(value: u64, ty: Ty) -> u64 {
    value & (u64::MAX >> (64 - ty.bits()))
}

/// The start value of a CRC register: at the top of its type, or reflected at the bottom.
pub(super) fn start(model: &CrcModel, ty: Ty) -> u64 {
    let reversed = model.init.reverse_bits() >> (64 - model.width);
    if model.refin { reversed } else { model.init << (ty.bits() - model.width) }
}

/// Feeds the lowest `count` bits of a byte into a CRC register.
pub(super) fn feed(model: &CrcModel, ty: Ty, own: &Expr, byte: Expr, count: u32) -> Vec<Stmt> {
    let set = |value: Expr| Stmt::Set(own.clone(), value);
    let poly =
        Expr::Hex(if model.refin { model.poly.reverse_bits() >> (64 - model.width) } else { model.poly << (ty.bits() - model.width) }, ty);
    let wide = byte.cast(Ty::U8, ty);
    let aligned = if model.refin { wide } else { wide.shl(ty, ty.bits() - count) };
    let top = Expr::Hex(if model.refin { 1 } else { 1 << (ty.bits() - 1) }, ty);
    let tested = Expr::Arith(Arith::BitAnd, ty, own.clone().boxed(), top.boxed()).compare(Compare::NotEqual, ty, Expr::Int(0, ty));
    let moved = if model.refin { own.clone().shr(ty, 1) } else { own.clone().shl(ty, 1) };
    let turned = Expr::Arith(Arith::BitXor, ty, moved.clone().boxed(), poly.boxed());
    let step = Stmt::If(tested, vec![set(turned)], vec![set(moved)]);
    vec![set(Expr::Arith(Arith::BitXor, ty, own.clone().boxed(), aligned.boxed())), Stmt::Times(count, vec![step])]
}

/// The check value of a CRC register at the end.
pub(super) fn finish(model: &CrcModel, ty: Ty, own: Expr) -> Expr {
    let plain = if model.refin { own } else { own.shr(ty, ty.bits() - model.width) };
    if model.xorout == 0 { plain } else { Expr::Arith(Arith::BitXor, ty, plain.boxed(), Expr::Hex(model.xorout, ty).boxed()) }
}

impl Build<'_> {
    /// The statements that refuse a frame.
    pub(super) fn checks(&mut self, frame: &Frame) -> Vec<Stmt> {
        let mut body = Vec::new();
        if frame.blank == Blank::Refused {
            for blank in [0x00u64, 0xFF] {
                let (mut all, name) = (Vec::new(), format!("all_{}", if blank == 0 { "zeros" } else { "ones" }));
                let differs = Expr::Var("byte".into()).compare(Compare::NotEqual, Ty::U8, Expr::Hex(blank, Ty::U8));
                all.push(Stmt::If(differs, vec![Stmt::Set(Expr::Var(name.clone()), Expr::Bool(false))], Vec::new()));
                body.push(Stmt::Let { name: name.clone(), ty: Type::Num(Ty::Bool), value: Some(Expr::Bool(true)), mutable: true });
                body.push(Stmt::EachByte("byte".into(), "bytes".into(), 0, frame.length, all));
                body.push(Stmt::If(Expr::Var(name), vec![Stmt::Fail("blank: no response".into())], Vec::new()));
            }
        }
        for (index, check) in frame.checks.iter().enumerate() {
            let name = if frame.checks.len() > 1 { format!("check_{index}") } else { "check".into() };
            match self.check(check, &name, &mut body) {
                Ok((ty, value)) => {
                    let own = Expr::Var(name.clone());
                    let plain = value == own || matches!(value, Expr::Shr { .. });
                    if !plain {
                        body.push(Stmt::Set(own.clone(), value.clone()));
                    }
                    let value = if plain { value } else { own };
                    let found = join(&check.place, ty, "bytes");
                    body.push(Stmt::If(
                        value.compare(Compare::NotEqual, ty, found),
                        vec![Stmt::Fail(format!("{} mismatch", check.method()))],
                        Vec::new(),
                    ));
                }
                Err(why) => self.refused.push(format!("frame {}: {}: {why}", frame.name, check.method())),
            }
        }
        if let Some(formula) = &frame.counted {
            let id = self.part.frames.entries().find(|(_, other)| other.name == frame.name).map(|(id, _)| id);
            let facts = self.facts_of(formula);
            let sources = inputs(formula).filter_map(|input| {
                let Input::Code(code) = input else { return None };
                let model = self.part.codes.get(code)?;
                let Type::Num(ty) = self.stored(&model.layout) else { return None };
                Some((input.key(), super::formula::Source::Value(self.code(&model.layout, "bytes"), ty)))
            });
            let sources = sources.collect();
            let found = super::build::Found { build: self, sources };
            let only_codes =
                inputs(formula).all(|input| matches!(input, Input::Code(code) if self.part.codes.get(code).map(|code| code.frame) == id));
            match super::formula::expression(formula, &facts, &found).filter(|_| only_codes && !formula.ty.is_real()) {
                Some(count) => {
                    let last = inputs(formula)
                        .filter_map(|input| if let Input::Code(code) = input { self.part.codes.get(code) } else { None })
                        .map(crate::model::frame::Code::last_byte)
                        .max();
                    let (ty, most) = (formula.ty, frame.length as i128);
                    let number = |number: i128| Expr::Int(number, ty).boxed();
                    let came = |least: i128| {
                        Expr::Not(
                            Expr::Within(
                                Ty::U16,
                                Expr::Var("came".into()).boxed(),
                                Expr::Int(least, Ty::U16).boxed(),
                                Expr::Int(most, Ty::U16).boxed(),
                            )
                            .boxed(),
                        )
                    };
                    let fail = || vec![Stmt::Fail("too short, or too long".into())];
                    body.push(Stmt::If(came(last.map_or(0, |last| last as i128 + 1)), fail(), Vec::new()));
                    body.push(Stmt::Let { name: "count".into(), ty: Type::Num(ty), value: Some(count), mutable: false });
                    let count = Expr::Var("count".into());
                    let few = Expr::Var("came".into()).cast(Ty::U16, ty).compare(Compare::Less, ty, count.clone());
                    let range = Expr::Not(Expr::Within(ty, count.boxed(), number(0), number(most)).boxed());
                    body.push(Stmt::If(Expr::Or(range.boxed(), few.boxed()), fail(), Vec::new()));
                }
                None => self.refused.push(format!("frame {}: the formula of its length needs more than its own codes", frame.name)),
            }
        }
        body
    }

    /// Statements that compute the expected value of a check, its type and value; or the reason for refusal.
    pub(super) fn check(&self, check: &Check, name: &str, body: &mut Vec<Stmt>) -> Result<(Ty, Expr), &'static str> {
        let whole = |fed: &CheckInput| !matches!(fed, CheckInput::Bits(slice) if slice.width() != 8);
        let fed = |input: &CheckInput| match *input {
            CheckInput::Bits(slice) => bits(slice, "bytes", Ty::U8),
            CheckInput::Constant(value, _) => Expr::Hex(u64::from(value), Ty::U8),
            CheckInput::Address(read) => Expr::Hex(u64::from(check.address_byte() | u8::from(read)), Ty::U8),
        };
        let own = Expr::Var(name.to_owned());
        match &check.kind {
            CheckKind::Crc(crc, _) => {
                let model = crc.model();
                let aligned =
                    check.over.iter().all(|input| matches!(input, CheckInput::Bits(slice) if slice.width() == 8) || width_of(input) == 8);
                if model.refin && !aligned {
                    return Err("it covers parts of bytes and reflects its input, which is not emitted");
                }
                if model.refin != model.refout {
                    return Err("it reflects only its input or only its result, which is not emitted");
                }
                let ty = register(model.width);
                body.push(Stmt::Let { name: name.into(), ty: Type::Num(ty), value: Some(Expr::Hex(start(&model, ty), ty)), mutable: true });
                for (at, count, input) in runs(check) {
                    match input {
                        None => body.push(Stmt::EachByte(
                            "byte".into(),
                            "bytes".into(),
                            at,
                            count,
                            feed(&model, ty, &own, Expr::Var("byte".into()), 8),
                        )),
                        Some(input) => body.extend(feed(&model, ty, &own, fed(&input), width_of(&input))),
                    }
                }
                Ok((ty, finish(&model, ty, own)))
            }
            CheckKind::Sum { width, init, modulo, finish } => {
                if !check.over.iter().all(whole) {
                    return Err("it covers parts of bytes, which is not emitted");
                }
                // A remainder needs the whole sum.
                let most = 255 * check.over.len() as u64 + init;
                let ty = if *modulo > 0 || *width > 32 {
                    super::build::narrowest((0, i128::from(most.max(u64::from(u8::MAX)))))
                } else {
                    register(*width)
                };
                let ty = if *modulo > 0 && ty.bits() < register(*width).bits() { register(*width) } else { ty };
                body.push(Stmt::Let { name: name.into(), ty: Type::Num(ty), value: Some(Expr::Hex(mask(*init, ty), ty)), mutable: true });
                let add =
                    |value: Expr| Stmt::Set(own.clone(), Expr::Arith(Arith::Add, ty, own.clone().boxed(), value.cast(Ty::U8, ty).boxed()));
                for (at, count, input) in runs(check) {
                    body.push(match input {
                        None => Stmt::EachByte("byte".into(), "bytes".into(), at, count, vec![add(Expr::Var("byte".into()))]),
                        Some(input) => add(fed(&input)),
                    });
                }
                let sum =
                    if *modulo > 0 { Expr::Arith(Arith::Rem, ty, own.boxed(), Expr::Int(i128::from(*modulo), ty).boxed()) } else { own };
                let done = match finish {
                    SumFinish::Plain => sum,
                    SumFinish::Invert => Expr::BitNot(ty, sum.boxed()),
                    SumFinish::Negate => Expr::Neg(ty, sum.boxed()),
                };
                let narrow = if *width < ty.bits() { done.and_mask(ty, u64::MAX >> (64 - width)) } else { done };
                Ok((ty, narrow))
            }
            CheckKind::Xor(init) => {
                if !check.over.iter().all(whole) {
                    return Err("it covers parts of bytes, which is not emitted");
                }
                let xor = |value: Expr| Stmt::Set(own.clone(), Expr::Arith(Arith::BitXor, Ty::U8, own.clone().boxed(), value.boxed()));
                body.push(Stmt::Let {
                    name: name.into(),
                    ty: Type::Num(Ty::U8),
                    value: Some(Expr::Hex(u64::from(*init), Ty::U8)),
                    mutable: true,
                });
                for (at, count, input) in runs(check) {
                    body.push(match input {
                        None => Stmt::EachByte("byte".into(), "bytes".into(), at, count, vec![xor(Expr::Var("byte".into()))]),
                        Some(input) => xor(fed(&input)),
                    });
                }
                Ok((Ty::U8, own))
            }
            CheckKind::Parity(odd) => {
                let start = Expr::Hex(u64::from(*odd), Ty::U8);
                body.push(Stmt::Let { name: name.into(), ty: Type::Num(Ty::U8), value: Some(start), mutable: true });
                let xor = |value: Expr| Stmt::Set(own.clone(), Expr::Arith(Arith::BitXor, Ty::U8, own.clone().boxed(), value.boxed()));
                body.extend(check.over.iter().map(|input| xor(fed(input))));
                for places in [4, 2, 1] {
                    body.push(xor(own.clone().shr(Ty::U8, places)));
                }
                Ok((Ty::U8, own.and_mask(Ty::U8, 1)))
            }
        }
    }
}
