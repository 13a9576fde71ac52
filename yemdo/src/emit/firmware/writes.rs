//! Writes of routines: settings and their verification.

use super::bits::{masked, register_member};
use super::code::{Ask, Expr, Failure, Sent, Stmt, Type};
use super::formula::zero;
use super::routines::Builder;
use super::routines::{number, run};
use super::unpack::register;
use crate::bus::Bus;
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, RegisterId};
use crate::model::operation::Step;
use crate::model::registers::Access;
use crate::model::state::State;
use crate::plan::read_back::counted_bits;
use crate::plan::writes::{Write, WriteReason};

impl Builder<'_, '_> {
    pub(super) fn writes(&mut self, writes: &[Write], verify: bool, step: &Step) {
        let mut saved: Vec<RegisterId> = Vec::new();
        for write in writes {
            self.write(write, verify && write.reason.is_none(), step, &mut saved);
        }
    }

    pub(super) fn write(&mut self, write: &Write, verify: bool, step: &Step, saved: &mut Vec<RegisterId>) {
        let part = self.build.part;
        let Some(model) = part.registers.get(write.register) else { return };
        let (ty, member) = (register(model.width()), register_member(model));
        let own = Expr::Member("settings".into(), member.clone());
        let text = match write.reason {
            Some(WriteReason::Unlocks) => format!("{}: temporary, to unlock another register", model.name),
            Some(WriteReason::Restores) => format!("{}: restored", model.name),
            None => {
                let what: Vec<String> = write.sets.iter().filter_map(|(field, code)| part.setting_text(*field, *code)).collect();
                self.meaning(
                    step,
                    &format!("{}: {}", model.name, if what.is_empty() { "as it is set".to_owned() } else { what.join(", ") }),
                )
            }
        };
        self.comment(&text);
        let mut image = own.clone();
        let before = format!("{member}_before");
        match write.reason {
            Some(WriteReason::Unlocks) if !saved.contains(&write.register) => {
                saved.push(write.register);
                let keep = self.keep(&before, ty);
                self.push(Stmt::Set(keep, own.clone()));
            }
            Some(WriteReason::Restores) if saved.contains(&write.register) => image = run(&before),
            _ => {}
        }
        if write.sets.is_empty() && write.reason.is_none() {
            self.computed(&model.fields);
        }
        // Set bits, at their positions in this register.
        let (mut mask, mut bits) = (0u64, 0u64);
        for (field, code) in &write.sets {
            if let Some(field) = part.fields.get(*field) {
                let mut settings = State::reset(part);
                settings.set_field(field, *code);
                let own_mask = field.mask_in(model);
                // Zeros do not clear a lock.
                mask |= if field.access == Access::SetUntilReset { 0 } else { own_mask };
                bits = (bits & !own_mask) | (settings.register(model) & own_mask);
            }
        }
        let kept = model.mask() & !mask;
        let with = |image: Expr| masked(image, ty, kept, bits, model.mask());
        let image = if mask == 0 && bits == 0 { image } else { with(image) };
        let asked: Vec<FieldId> = write.sets.iter().map(|(field, _)| *field).collect();
        let (and, or, and_after, or_after) = self.build.write_masks(write.register, &asked);
        self.conditions += 1;
        let name = format!("{member}_{}", self.conditions);
        let value = masked(image.clone(), ty, and, or, model.mask());
        let after = masked(image, ty, and_after, or_after, model.mask());
        let value = if value.is_plain() {
            value
        } else {
            self.push(Stmt::Let { name: name.clone(), ty: Type::Num(ty), value: Some(value), mutable: false });
            Expr::Var(name)
        };
        let verify = verify && model.access.is_readable();
        let written = verify.then(|| self.keep(&format!("{member}_written"), ty));
        if let Some(written) = &written {
            self.push(Stmt::Set(written.clone(), value.clone()));
        }
        let Some(wire) = part.buses.wire(self.bus) else { return };
        let head = if self.bus == Bus::Modbus { Vec::new() } else { wire.write(model.at, &[]).send };
        let pec = self.bus == Bus::I2c && part.buses.i2c.as_ref().is_some_and(|i2c| i2c.pec);
        // With a packet error code the head has one already, of itself alone.
        let head: Vec<u8> = if pec { head.get(..head.len().saturating_sub(1)).unwrap_or(&[]).to_vec() } else { head };
        for (at, byte) in head.iter().enumerate() {
            self.push(Stmt::Out(at, Expr::Hex(u64::from(*byte), Ty::U8)));
        }
        for index in 0..model.bytes {
            let place = if model.low_first { index } else { model.bytes - 1 - index };
            let byte = value.clone().shr(ty, place as u32 * 8);
            let byte = if ty == Ty::U8 { byte } else { Expr::Cast { from: ty, to: Ty::U8, fits: false, value: byte.boxed() } };
            self.push(Stmt::Out(head.len() + index, byte));
        }
        let mut count = head.len() + model.bytes;
        self.out = self.out.max(count + usize::from(pec));
        if pec {
            self.pec(count);
            count += 1;
        }
        if self.bus == Bus::Modbus {
            self.ask(Ask::ModbusWrite(model.at as u16, count), step);
        } else {
            self.ask(Ask::Transfer(Sent::Out(count), None), step);
        }
        // The settings are what reads back, once it is written.
        if after != own {
            self.push(Stmt::Set(own, after));
        }
        self.build.now_written(write.register).into_iter().for_each(|known| self.push(known));
        if let Some(written) = written {
            let counts = counted_bits(part, model);
            self.read_register(write.register, step, Some((counts, written)));
        }
    }

    /// Recomputes fields that follow from parameters.
    pub(super) fn computed(&mut self, fields: &[FieldId]) {
        let part = self.build.part;
        for id in fields {
            let Some((field, formula)) = part.fields.get(*id).and_then(|field| Some((field, field.computed.as_ref()?))) else { continue };
            if part.integers && formula.ty.is_real() {
                self.build.refused.push(format!("{}: {} follows from real numbers", self.what, field.name));
                continue;
            }
            let (value, ty) = self.value(formula, "computed");
            let (low, high) = field.bounds();
            let inside = Expr::Within(ty, value.clone().boxed(), number(low, ty).boxed(), number(high, ty).boxed());
            self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
            let code_ty = self.build.field_code_type(*id);
            let rounded = if ty.is_real() {
                let half = Expr::Cond(
                    value.clone().compare(Compare::Less, ty, zero(ty)).boxed(),
                    Expr::Real(-0.5, ty).boxed(),
                    Expr::Real(0.5, ty).boxed(),
                );
                Expr::Arith(Arith::Add, ty, value.boxed(), half.boxed())
            } else {
                value
            };
            let code = Expr::Cast { from: ty, to: code_ty, fits: true, value: rounded.boxed() };
            let assignments = super::bits::assign(self.build, *id, code, code_ty);
            assignments.into_iter().for_each(|statement| self.push(statement));
        }
    }
}
