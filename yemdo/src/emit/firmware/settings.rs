//! Registers as an image, and where the part is reached.

use super::Reals;
use super::bits::{masked, register_member};
use super::build::Build;
use super::code::{Constant, Expr, Function, Gives, Member, Param, Pass, Role, Stmt, Struct, Type};
use super::names::{Scope, snake};
use super::readings::beside;
use super::unpack::register;
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, ParameterId, RegisterId};
use crate::model::state::State;
use crate::plan::heard::after_write;
use crate::plan::routine::registers_read;
use crate::plan::writes::value_to_write;

impl Build<'_> {
    /// Fields that no register holds.
    pub(super) fn unstored(&self) -> impl Iterator<Item = FieldId> + '_ {
        self.part.fields.ids().filter(|id| self.part.is_unstored(*id))
    }

    /// Addresses, the image of all registers, and the functions of its fields.
    pub(super) fn settings(&mut self) {
        let part = self.part;
        let registers: Vec<RegisterId> = self.wanted.registers.iter().copied().collect();
        let image = State::reset(part);
        let mut members = Vec::new();
        for id in &registers {
            let Some(model) = part.registers.get(*id) else { continue };
            let ty = register(model.width());
            let address = Constant {
                doc: format!(
                    "Address of register {}{}{}.",
                    model.name,
                    model.means.as_ref().map_or(String::new(), |means| format!(": {means}")),
                    beside(model.source())
                ),
                name: self.prefix.constant(&format!("{} address", model.name)),
                ty: register(32 - model.at.leading_zeros().min(24)),
                value: Expr::Int(i128::from(model.at), register(32 - model.at.leading_zeros().min(24))),
                hex: if part.buses.modbus.is_some() { 0 } else { 2 },
            };
            self.give(&address.name, format!("the address of register {}", model.name));
            if self.wanted.all {
                self.module.constants.push(address);
            }
            let reset = image.register(model);
            let value = format!("0x{reset:0digits$X}", digits = model.bytes * 2);
            let begins = match (self.known.concerns(*id), model.reset.is_some()) {
                (true, true) => format!("after a reset {value}; {}", self.until_known(*id)),
                (true, false) => self.until_known(*id),
                (false, true) => format!("after a reset {value}"),
                (false, false) => format!("no stated reset value; initially {value}"),
            };
            let doc = format!("{}, {}: {begins}", model.name, model.access.as_str());
            members.push(Member { doc, name: register_member(model), ty: Type::Num(ty), default: Expr::Hex(reset, ty) });
        }
        for id in self.unstored().collect::<Vec<_>>() {
            let Some(field) = part.fields.get(id) else { continue };
            let ty = register(field.layout.width());
            let code = field.layout.form.write(image.field(field), field.layout.width());
            members.push(Member {
                doc: format!("{}, a setting without a register", field.name),
                name: snake(&field.name),
                ty: Type::Num(ty),
                default: Expr::Hex(code, ty),
            });
        }
        if members.is_empty() {
            return;
        }
        members.extend(self.known.structure(part));
        let mut scope = Scope::default();
        members.iter().for_each(|member| scope.give(&member.name, &member.doc, &mut self.clashes));
        let name = self.settings_type();
        let name = self.give(&name, "the registers' values".into());
        let doc = vec!["Register values and other settings of the part.".to_owned()];
        self.module.structs.push(Struct { role: Role::Settings, doc, name, members });
        let used: Vec<FieldId> = part
            .fields
            .entries()
            .filter(|(id, _)| self.part.is_unstored(*id) || self.part.homes(*id).any(|home| registers.contains(&home)))
            .map(|(id, _)| id)
            .collect();
        for id in used {
            if self.wanted.all || self.wanted.columns.iter().any(|(field, _)| *field == id) {
                self.field(id);
            }
        }
        if self.wanted.all {
            registers.iter().for_each(|id| self.value_function(*id));
        }
    }

    /// How a register without a value after a reset gets one.
    fn until_known(&self, id: RegisterId) -> String {
        let part = self.part;
        let steps = self.wanted.routines.iter().flat_map(|routine| part.steps_within(*routine));
        let is_read = steps.into_iter().any(|(step, _)| registers_read(part, &step.action).contains(&id));
        let (written, nowhere) = (part.registers[id].access.is_writable(), if is_read { "" } else { " (by no routine here)" });
        if written { "unknown until it is read or set".to_owned() } else { format!("unknown until it is read{nowhere}") }
    }

    /// Where the part is reached.
    pub(super) fn addresses(&mut self) {
        let mut all = Vec::new();
        let mut add = |doc: String, name: &str, ty: Ty, value: i128, hex: usize| {
            let name = self.prefix.constant(name);
            all.push(Constant { doc, name, ty, value: Expr::Int(value, ty), hex });
        };
        if let Some(i2c) = &self.part.buses.i2c {
            let both = |address: u8| format!("7 bits; on the wire 0x{:02X} to write, 0x{:02X} to read", address << 1, address << 1 | 1);
            add(format!("I2C address: {}.", both(i2c.address)), "I2C address", Ty::U8, i128::from(i2c.address), 2);
            for (pin, level, address) in &i2c.straps {
                add(
                    format!("I2C address with pin {pin} {level}: {}.", both(*address)),
                    &format!("I2C address {pin} {level}"),
                    Ty::U8,
                    i128::from(*address),
                    2,
                );
            }
            if let Some(khz) = i2c.max_khz {
                add("The fastest clock of I2C, in Hz.".into(), "I2C max hz", Ty::U32, i128::from(khz) * 1000, 0);
            }
        }
        if let Some(spi) = &self.part.buses.spi {
            add("Clock mode of SPI.".into(), "SPI mode", Ty::U8, i128::from(spi.mode), 0);
            if let Some(khz) = spi.max_khz {
                add("The fastest clock of SPI, in Hz.".into(), "SPI max hz", Ty::U32, i128::from(khz) * 1000, 0);
            }
        }
        if let Some(modbus) = &self.part.buses.modbus {
            add("Modbus unit id, as delivered.".into(), "modbus unit", Ty::U8, i128::from(modbus.unit_or_first()), 0);
            if let Some(baud) = modbus.baud {
                add(
                    format!("Bits per second, as delivered{}.", modbus.parity.map_or(String::new(), |parity| format!("; parity {parity}"))),
                    "modbus baud",
                    Ty::U32,
                    i128::from(baud),
                    0,
                );
            }
        }
        all.extend(std::mem::take(&mut self.module.constants));
        self.module.constants = all;
    }

    /// Masks from a register's value in the settings to the written value: kept bits, and bits that are always one.
    pub(super) fn write_masks(&self, id: RegisterId, asked: &[FieldId]) -> (u64, u64, u64, u64) {
        let Some(register) = self.part.registers.get(id) else { return (0, 0, 0, 0) };
        let (zeros, ones) = (value_to_write(self.part, id, 0, asked), value_to_write(self.part, id, u64::MAX, asked));
        let after = |wanted: u64, value: u64| after_write(self.part, register, wanted, value) & register.mask();
        let (zeros_after, ones_after) = (after(0, zeros), after(u64::MAX, ones));
        (ones & !zeros, zeros, ones_after & !zeros_after, zeros_after)
    }

    /// The value to be written into a register.
    fn value_function(&mut self, id: RegisterId) {
        let Some(model) = self.part.registers.get(id).filter(|register| register.access.is_writable()) else { return };
        let ty = register(model.width());
        let asked = &model.fields;
        let (and, or, ..) = self.write_masks(id, asked);
        let own = Expr::Member("settings".into(), register_member(model));
        let value = masked(own, ty, and, or, model.mask());
        let name = self.prefix.function(&format!("{}_value", model.name));
        self.give(&name, format!("the value of register {}", model.name));
        let params = vec![Param { name: "settings".into(), ty: Type::Named(self.settings_type()), pass: Pass::In }];
        let doc = vec![format!("Value to write to {}, with reserved bits as stated in the datasheet.", model.name)];
        self.module.functions.push(Function {
            doc,
            public: true,
            name,
            of: Self::home(&params),
            params,
            gives: Gives::Type(Type::Num(ty)),
            body: vec![Stmt::Return(value)],
        });
    }

    /// The type of parameters and real columns.
    pub(super) fn parameter_type(&self) -> Ty {
        if self.options.reals == Reals::Single { Ty::F32 } else { Ty::F64 }
    }

    pub(super) fn parameters(&mut self) {
        let part = self.part;
        let used: Vec<ParameterId> = part.parameters.ids().collect();
        if used.is_empty() || self.options.reals == Reals::Integer {
            return;
        }
        let ty = self.parameter_type();
        let member = |id: &ParameterId| {
            let parameter = part.parameters.get(*id)?;
            let mut doc = parameter.means.clone().unwrap_or_else(|| parameter.name.clone());
            doc.push_str(&parameter.unit.as_ref().map_or(String::new(), |unit| format!(", in {unit}")));
            doc.push_str(&parameter.range.map_or(String::new(), |(low, high)| format!("; {low} to {high}")));
            doc.push_str(&beside(parameter.source.as_deref()));
            let default = if ty == Ty::F32 { f64::from(parameter.default as f32) } else { parameter.default };
            Some(Member { doc, name: snake(&parameter.name), ty: Type::Num(ty), default: Expr::Real(default, ty) })
        };
        let members: Vec<Member> = used.iter().filter_map(member).collect();
        let mut scope = Scope::default();
        members.iter().for_each(|member| scope.give(&member.name, &member.doc, &mut self.clashes));
        let name = self.parameters_type();
        let name = self.give(&name, "the parameters".into());
        self.module.structs.push(Struct { role: Role::Parameters, doc: vec!["Parameters, supplied by you.".into()], name, members });
    }
}
