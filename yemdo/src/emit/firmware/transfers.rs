//! What routines read and send: requests, and what becomes of their answers.

use super::bits::register_member;
use super::code::{Ask, Expr, Failure, Sent, Stmt, Type};
use super::routines::Builder;
use super::routines::number;
use super::unpack::register;
use crate::bus::{Bus, Transfer};
use crate::formula::operators::{Arith, Compare};
use crate::formula::typed::Formula;
use crate::ground::number::Ty;
use crate::model::command::{Command, CommandByte, Exchange};
use crate::model::frame::Origin;
use crate::model::ids::{FrameId, RegisterId};
use crate::model::operation::Step;
use crate::model::registers::Register;
use crate::plan::reads::ReadPlan;
use crate::plan::transfers::read_registers;

pub(super) fn sent(transfer: &Transfer) -> Sent {
    if transfer.send.is_empty() { Sent::Nothing } else { Sent::Fixed(transfer.send.clone()) }
}

/// The value of a register in the bytes that were read.
pub(super) fn wire_value(model: &Register, at: usize) -> Expr {
    let ty = register(model.width());
    let mut joined: Option<Expr> = None;
    for index in 0..model.bytes {
        let place = if model.low_first { model.bytes - 1 - index } else { index };
        let piece = Expr::Byte("run.buffer".into(), at + place).cast(Ty::U8, ty).shl(ty, ((model.bytes - 1 - index) * 8) as u32);
        joined = Some(match joined {
            Some(joined) => joined.or(ty, piece),
            None => piece,
        });
    }
    joined.unwrap_or(Expr::Int(0, ty))
}

impl Builder<'_, '_> {
    /// One transfer with the retries of the step; received bytes are in the buffer from `to`.
    pub(super) fn transfer(&mut self, transfer: &Transfer, sent: Sent, to: usize, step: &Step, meaning: &str) {
        let read = (transfer.receive > 0).then_some((to, transfer.receive));
        self.buffer = self.buffer.max(to + transfer.receive);
        let both = transfer.bus == Bus::I2c && !transfer.restart && !matches!(sent, Sent::Nothing) && read.is_some();
        self.comment(meaning);
        let asks: Vec<Ask> =
            if both { vec![Ask::Transfer(sent, None), Ask::Transfer(Sent::Nothing, read)] } else { vec![Ask::Transfer(sent, read)] };
        for ask in asks {
            self.ask(ask, step);
        }
    }

    pub(super) fn send(&mut self, command: &Command, read: usize, step: &Step, meaning: &str) {
        let Some(wire) = self.build.part.buses.wire(self.bus) else { return };
        let placeholder = command.fixed().unwrap_or_else(|| vec![0; command.bytes().len()]);
        for transfer in wire.send(&placeholder, read) {
            let sent = self.command_bytes(command, &transfer);
            self.transfer(&transfer, sent, 0, step, meaning);
        }
    }

    /// A computed byte of a command.
    pub(super) fn byte(&mut self, formula: &Formula) -> Expr {
        let (value, ty) = self.value(formula, "byte");
        let inside = Expr::Within(ty, value.clone().boxed(), number(0, ty).boxed(), number(255, ty).boxed());
        self.push(Stmt::If(Expr::Not(inside.boxed()), Self::raise(Failure::NoValue), Vec::new()));
        Expr::Cast { from: ty, to: Ty::U8, fits: true, value: value.boxed() }
    }

    pub(super) fn reads(&mut self, reads: &[ReadPlan], step: &Step) {
        let mut saved = Vec::new();
        for read in reads {
            match read {
                ReadPlan::Register(id) => self.read_register(*id, step, None),
                ReadPlan::Frame(id) => self.read_frame(*id, step),
                ReadPlan::Write(write) => self.write(write, false, step, &mut saved),
            }
        }
    }

    /// Reads a register into the settings; with a mask and a value, compares it with the written value instead.
    pub(super) fn read_register(&mut self, id: RegisterId, step: &Step, compare: Option<(u64, Expr)>) {
        let part = self.build.part;
        let Some(model) = part.registers.get(id) else { return };
        let meaning = if compare.is_some() { format!("verify {}", model.name) } else { format!("read {}", model.name) };
        if self.bus == Bus::Modbus {
            self.comment(&meaning);
            self.buffer = self.buffer.max(model.bytes);
            let words = model.bytes.div_ceil(2) as u16;
            self.ask(Ask::ModbusRead(3, model.at as u16, words, (0, model.bytes)), step);
        } else {
            for transfer in read_registers(part, self.bus, &[model]).unwrap_or_default() {
                self.transfer(&transfer, sent(&transfer), 0, step, &meaning);
            }
        }
        let value = wire_value(model, 0);
        match compare {
            None => {
                self.push(Stmt::Set(Expr::Member("settings".into(), register_member(model)), value));
                self.build.now_read(id).into_iter().for_each(|known| self.push(known));
            }
            Some((mask, written)) => {
                let ty = register(model.width());
                let differs = Expr::Arith(Arith::BitXor, ty, value.boxed(), written.boxed()).and_mask(ty, mask);
                self.push(Stmt::If(differs.compare(Compare::NotEqual, ty, Expr::Int(0, ty)), Self::raise(Failure::NotTaken), Vec::new()));
            }
        }
    }

    pub(super) fn read_frame(&mut self, id: FrameId, step: &Step) {
        let part = self.build.part;
        let Some(frame) = part.frames.get(id) else { return };
        let meaning = self.meaning(step, &format!("read {}", frame.name));
        let mut at = 0;
        match &frame.origin {
            Origin::Read(one) => self.exchange(one, &mut at, step, &meaning),
            Origin::Transfers(all) => {
                for one in all {
                    self.exchange(one, &mut at, step, &meaning);
                }
            }
            Origin::Registers(runs) => {
                for run in runs {
                    let registers: Vec<&Register> = part.registers.of(run).collect();
                    if self.bus == Bus::Modbus {
                        let bytes: usize = registers.iter().map(|register| register.bytes).sum();
                        let first = registers.first().map_or(0, |register| register.at as u16);
                        self.comment(&meaning);
                        self.buffer = self.buffer.max(at + bytes);
                        self.ask(Ask::ModbusRead(3, first, bytes.div_ceil(2) as u16, (at, bytes)), step);
                        at += bytes;
                        continue;
                    }
                    let mut bytes = 0;
                    for transfer in read_registers(part, self.bus, &registers).unwrap_or_default() {
                        bytes = transfer.receive;
                        self.transfer(&transfer, sent(&transfer), at, step, &meaning);
                    }
                    at += bytes;
                }
            }
            Origin::Modbus(range) => {
                self.comment(&meaning);
                let bytes = range.bytes();
                self.buffer = self.buffer.max(bytes);
                self.ask(Ask::ModbusRead(range.table.read_function(), range.start, range.count, (0, bytes)), step);
            }
        }
        self.buffer = self.buffer.max(frame.length);
        let Some(calls) = self.build.module.frames.iter().find(|calls| calls.frame == id).cloned() else { return };
        self.push(Stmt::Unpack {
            var: calls.var.clone(),
            ty: calls.ty,
            function: calls.unpack,
            length: calls.length,
            counted: calls.counted,
        });
        // The registers that were read are known now, too.
        if let Origin::Registers(runs) = &frame.origin {
            let mut offset = 0;
            for (id, model) in runs.iter().flatten().filter_map(|id| Some((*id, part.registers.get(*id)?))) {
                if model.fields.iter().any(|field| part.fields.get(*field).is_some()) && !model.fields.is_empty() {
                    self.push(Stmt::Set(Expr::Member("settings".into(), register_member(model)), wire_value(model, offset)));
                    self.build.now_read(id).into_iter().for_each(|known| self.push(known));
                }
                offset += model.bytes;
            }
        }
        self.forget_invalid(id, &calls.var);
    }

    /// Codes of a frame that is not valid (`while`) are not for other frames to use.
    fn forget_invalid(&mut self, id: FrameId, var: &str) {
        let part = self.build.part;
        if !super::build::feeds_others(part, id) {
            return;
        }
        for (field, code) in part.frames[id].valid_while() {
            let (value, ty) = self.build.setting(*field);
            let differs = match ty {
                Ty::Bool if *code != 0 => super::truths::negated(value),
                Ty::Bool => value,
                ty => value.compare(Compare::NotEqual, ty, Expr::Int(*code, ty)),
            };
            // What is unknown does not differ.
            let known = self.build.flags_of(*field).into_iter().map(|flags| super::truths::negated(super::known::missing(&flags)));
            let differs = known.fold(differs, |all, known| Expr::And(known.boxed(), all.boxed()));
            let flag = Expr::Member("device".into(), format!("has_{var}"));
            self.push(Stmt::If(differs, vec![Stmt::Set(flag, Expr::Bool(false))], Vec::new()));
        }
    }

    pub(super) fn exchange(&mut self, one: &Exchange, at: &mut usize, step: &Step, meaning: &str) {
        let Some(wire) = self.build.part.buses.wire(self.bus) else { return };
        let bytes = one.command.fixed().unwrap_or_else(|| vec![0; one.command.bytes().len()]);
        match &one.wait {
            None => {
                for transfer in wire.send(&bytes, one.read) {
                    let sent = self.command_bytes(&one.command, &transfer);
                    self.transfer(&transfer, sent, *at, step, meaning);
                }
            }
            Some(time) => {
                for transfer in wire.send(&bytes, 0) {
                    let sent = self.command_bytes(&one.command, &transfer);
                    self.transfer(&transfer, sent, *at, step, meaning);
                }
                let micros = self.micros(time);
                let next = self.states.len();
                self.push(Stmt::Ask(next, Ask::Wait(micros)));
                self.open("");
                for transfer in wire.send(&[], one.read).into_iter().filter(|transfer| !transfer.discard) {
                    self.transfer(&transfer, sent(&transfer), *at, step, meaning);
                }
            }
        }
        *at += one.read;
    }

    pub(super) fn command_bytes(&mut self, command: &Command, transfer: &Transfer) -> Sent {
        if command.fixed().is_some() {
            return sent(transfer);
        }
        for (at, byte) in command.bytes().iter().enumerate() {
            let value = match byte {
                CommandByte::Fixed(byte) => Expr::Hex(u64::from(*byte), Ty::U8),
                CommandByte::Formula(formula) => self.byte(formula),
            };
            self.push(Stmt::Out(at, value));
        }
        self.out = self.out.max(command.bytes().len());
        Sent::Out(command.bytes().len())
    }

    /// The packet error code after `count` sent bytes (SMBus 3.2, section 6.4).
    pub(super) fn pec(&mut self, count: usize) {
        let address = self.build.part.buses.i2c.as_ref().map_or(0, |i2c| i2c.address << 1);
        let own = Expr::Var("pec".into());
        let mut body = vec![Stmt::Let { name: "pec".into(), ty: Type::Num(Ty::U8), value: Some(Expr::Hex(0, Ty::U8)), mutable: true }];
        let step = |value: Expr| {
            let set = |value: Expr| Stmt::Set(own.clone(), value);
            let top = own.clone().and_mask(Ty::U8, 0x80).compare(Compare::NotEqual, Ty::U8, Expr::Int(0, Ty::U8));
            let moved = own.clone().shl(Ty::U8, 1);
            let turned = Expr::Arith(Arith::BitXor, Ty::U8, moved.clone().boxed(), Expr::Hex(0x07, Ty::U8).boxed());
            vec![
                set(Expr::Arith(Arith::BitXor, Ty::U8, own.clone().boxed(), value.boxed())),
                Stmt::Times(8, vec![Stmt::If(top, vec![set(turned)], vec![set(moved)])]),
            ]
        };
        body.extend(step(Expr::Hex(u64::from(address), Ty::U8)));
        for at in 0..count {
            body.extend(step(Expr::Byte("run.out".into(), at)));
        }
        body.push(Stmt::Out(count, own.clone()));
        body.into_iter().for_each(|statement| self.push(statement));
    }
}
