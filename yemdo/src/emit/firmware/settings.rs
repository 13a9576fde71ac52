//! Registers as an image, fields as getters and setters, tables of values, quantities there and back.

use super::Reals;
use super::build::{Build, Found, Takes};
use super::code::{Constant, Enum, Expr, Function, Gives, Member, Name, Param, Pass, Stmt, Struct, Type};
use super::formula::{Source, body, expression};
use super::names::{snake, upper};
use super::readings::{can_fail, capital, said, unit_text};
use super::unpack::register;
use crate::bits::form::Form;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::ids::{ColumnId, FieldId, ParameterId, QuantityId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::registers::{Field, Register, Settings};
use crate::model::value::{Eval, Present};
use crate::plan::frame::bounds;
use crate::plan::writes::value_to_write;

/// Bits of a field in a member of the settings: the member, its type, its lowest bit, how many, and how far left they stand in
/// the code.
struct Piece {
    member: String,
    ty: Ty,
    low: u32,
    width: u32,
    left: u32,
}

/// The pieces of a field, most significant first.
fn pieces(build: &Build<'_>, field: &Field) -> Vec<Piece> {
    let mut left = field.layout.width();
    let mut pieces: Vec<Piece> = Vec::new();
    for slice in &field.layout.slices {
        left -= slice.width();
        let home = build.part.registers.iter().find(|register| (register.offset..register.offset + register.bytes).contains(&slice.byte));
        let Some(register) = home else {
            // Held by no register: a member of its own.
            let ty = super::unpack::register(field.layout.width());
            return vec![Piece { member: snake(&field.name), ty, low: 0, width: field.layout.width(), left: 0 }];
        };
        let base = ((register.offset + register.bytes - 1 - slice.byte) * 8) as u32;
        let (member, low) = (register_member(register), base + u32::from(slice.low));
        match pieces.last_mut() {
            Some(last) if last.member == member && last.low == low + slice.width() => {
                last.low = low;
                last.width += slice.width();
                last.left = left;
            }
            _ => pieces.push(Piece { member, ty: super::unpack::register(register.width()), low, width: slice.width(), left }),
        }
    }
    pieces
}

pub(super) fn register_member(register: &Register) -> String {
    snake(&register.name)
}

/// The present bits of a field, and their type.
fn read_bits(build: &Build<'_>, field: &Field, settings: &str) -> (Expr, Ty) {
    let wide = register(field.layout.width());
    let pieces = pieces(build, field);
    // Where they stand in one register, they are cut there.
    if let [piece] = pieces.as_slice() {
        return (cut(piece, settings), piece.ty);
    }
    let mut joined: Option<Expr> = None;
    for piece in pieces {
        let own = cut(&piece, settings);
        let moved = if piece.ty.bits() > wide.bits() {
            Expr::Cast { from: piece.ty, to: wide, fits: true, value: own.boxed() }
        } else {
            own.cast(piece.ty, wide)
        };
        let moved = moved.shl(wide, piece.left);
        joined = Some(match joined {
            Some(joined) => joined.or(wide, moved),
            None => moved,
        });
    }
    (joined.unwrap_or(Expr::Int(0, wide)), wide)
}

fn cut(piece: &Piece, settings: &str) -> Expr {
    let own = Expr::Member(settings.to_owned(), piece.member.clone()).shr(piece.ty, piece.low);
    if piece.low + piece.width == piece.ty.bits() { own } else { own.and_mask(piece.ty, u64::MAX >> (64 - piece.width)) }
}

/// The present code of a field, and the type that it is kept in.
pub(super) fn read_field(build: &Build<'_>, id: FieldId, settings: &str) -> (Expr, Ty) {
    let Some(field) = build.part.fields.get(id) else { return (Expr::Int(0, Ty::U8), Ty::U8) };
    let Type::Num(stored) = build.stored(&field.layout) else { return (Expr::Int(0, Ty::U8), Ty::U8) };
    let (raw, held) = read_bits(build, field, settings);
    let (width, wide) = (field.layout.width(), register(field.layout.width()));
    if stored == Ty::Bool {
        return (raw.compare(Compare::NotEqual, held, Expr::Int(0, held)), stored);
    }
    let raw = if held == wide { raw } else { Expr::Cast { from: held, to: wide, fits: true, value: raw.boxed() } };
    (build.number(field.layout.form, raw, width, stored), stored)
}

impl Build<'_> {
    /// Fields that no register holds.
    pub(super) fn unstored(&self) -> impl Iterator<Item = FieldId> + '_ {
        self.part.fields.ids().filter(|id| self.part.is_unstored(*id))
    }

    /// Addresses, the image of all registers, and the functions of its fields.
    pub(super) fn settings(&mut self) {
        let part = self.part;
        let registers: Vec<RegisterId> = self.wanted.registers.iter().copied().collect();
        let image = Settings::reset(part);
        let mut members = Vec::new();
        for id in &registers {
            let Some(model) = part.registers.get(*id) else { continue };
            let ty = register(model.width());
            let address = Constant {
                doc: format!(
                    "Address of register {}{}.",
                    model.name,
                    model.means.as_ref().map_or(String::new(), |means| format!(": {means}"))
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
            let known = if model.reset.is_some() { "after a reset" } else { "its value after a reset is not stated; here it begins as" };
            let doc = format!("{}, {}: {known} 0x{reset:0digits$X}", model.name, model.access.as_str(), digits = model.bytes * 2);
            members.push(Member { doc, name: register_member(model), ty: Type::Num(ty), default: Expr::Hex(reset, ty) });
        }
        for id in self.unstored().collect::<Vec<_>>() {
            let Some(field) = part.fields.get(id) else { continue };
            let ty = register(field.layout.width());
            let code = field.layout.form.write(image.field(field), field.layout.width());
            members.push(Member {
                doc: format!("{}, which no register holds", field.name),
                name: snake(&field.name),
                ty: Type::Num(ty),
                default: Expr::Hex(code, ty),
            });
        }
        if members.is_empty() {
            return;
        }
        let name = self.settings_type();
        let name = self.give(&name, "the registers' values".into());
        let doc = vec!["What the part's registers hold, and what else is set.".to_owned()];
        self.module.structs.push(Struct { doc, name, members });
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
                    format!("Bits a second, as delivered{}.", modbus.parity.map_or(String::new(), |parity| format!("; parity {parity}"))),
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

    /// The type of a field's code in the output.
    pub(super) fn field_code_type(&self, id: FieldId) -> Ty {
        let Some(field) = self.part.fields.get(id) else { return Ty::U8 };
        match self.stored(&field.layout) {
            Type::Num(Ty::Bool) => Ty::U8,
            Type::Num(ty) if !ty.is_real() => ty,
            _ => register(field.layout.width()),
        }
    }

    /// The enum of a field whose values have names.
    fn enum_of(&self, field: &Field) -> Option<Name> {
        let named = field.values.iter().filter(|value| value.name.is_some()).count() > 0;
        named.then(|| self.prefix.ty(&self.field_words(field)))
    }

    /// A field's name in the output: with its register's where another register has one of that name.
    fn field_words(&self, field: &Field) -> String {
        let several = self.part.fields.iter().filter(|other| other.name.eq_ignore_ascii_case(&field.name)).count() > 1;
        match field.register.and_then(|id| self.part.registers.get(id)).filter(|_| several) {
            Some(register) => format!("{}_{}", register.name, field.name),
            None => field.name.clone(),
        }
    }

    fn field(&mut self, id: FieldId) {
        let Some(field) = self.part.fields.get(id) else { return };
        let words = self.field_words(field);
        let code_ty = self.field_code_type(id);
        let bits = field
            .register
            .and_then(|home| self.part.registers.get(home))
            .map_or(String::new(), |home| format!("{}{}", home.name, field.bits_text(home)));
        let mut doc = vec![format!(
            "{}{}{}.",
            field.name,
            if bits.is_empty() { String::new() } else { format!(", {bits}") },
            field.means.as_ref().map_or(String::new(), |means| format!(": {means}"))
        )];
        let enum_name = self.enum_of(field);
        if let Some(name) = &enum_name {
            self.give(name, format!("the values of field {words}"));
            let (low, high) = field.bounds();
            let mut seen: Vec<String> = Vec::new();
            let mut values = Vec::new();
            for row in &field.values {
                let Some(value_name) = &row.name else { continue };
                let mut named = self.prefix.value(&words, value_name);
                if upper(value_name).is_empty() || seen.contains(&named.rust) {
                    named = self.prefix.value(&words, &format!("{value_name} code {}", row.code));
                }
                seen.push(named.rust.clone());
                let columns: Vec<String> = field
                    .columns
                    .entries()
                    .filter_map(|(column, model)| Some(format!("{} = {}", model.name, row.columns.get(column).copied().flatten()?)))
                    .collect();
                let text = [Some(value_name.clone()), row.means.clone(), (!columns.is_empty()).then(|| columns.join(", "))];
                values.push((named, row.code, text.into_iter().flatten().collect::<Vec<_>>().join("; ")));
            }
            let open = high - low + 1 > values.len() as i128;
            self.module.enums.push(Enum {
                doc: vec![format!("The values of {}.", field.name)],
                name: name.clone(),
                ty: code_ty,
                values,
                open,
            });
        }
        for column in field.columns.ids().collect::<Vec<_>>() {
            if self.wanted.all || self.wanted.columns.contains(&(id, column)) {
                self.column(id, column);
            }
        }
        if !self.wanted.all {
            return;
        }
        let settings = Param { name: "settings".into(), ty: Type::Named(self.settings_type()), pass: Pass::In };
        let (value, stored) = read_field(self, id, "settings");
        let get = self.prefix.function(&format!("get_{words}"));
        let get = Name { rust: snake(&words), ..get };
        self.give(&get, format!("reading field {words}"));
        let of = Some(self.settings_type());
        let (gives, returned) = match &enum_name {
            Some(name) => {
                let code = if field.layout.form == Form::Unsigned {
                    let (bits, held) = read_bits(self, field, "settings");
                    if held == code_ty { bits } else { Expr::Cast { from: held, to: code_ty, fits: true, value: bits.boxed() } }
                } else {
                    value.cast(stored, code_ty)
                };
                (Type::Named(name.clone()), Expr::Call(Name { c: String::new(), rust: format!("{}::from_code", name.rust) }, vec![code]))
            }
            None => (Type::Num(stored), value),
        };
        if !field.joined || field.access.is_readable() {
            self.module.functions.push(Function {
                doc: doc.clone(),
                public: true,
                name: get,
                of: of.clone(),
                params: vec![settings],
                gives: Gives::Type(gives.clone()),
                body: vec![Stmt::Return(returned)],
            });
        }
        if field.access.is_writable() {
            let set = self.prefix.function(&format!("set_{words}"));
            self.give(&set, format!("setting field {words}"));
            let settings = Param { name: "settings".into(), ty: Type::Named(self.settings_type()), pass: Pass::Change };
            let form = field.layout.form;
            let plain = matches!(form, Form::Unsigned | Form::Signed | Form::OffsetBinary);
            let width = field.layout.width();
            let wide = register(width);
            let (param_ty, code) = match &enum_name {
                Some(name) => (
                    Type::Named(name.clone()),
                    Expr::Call(Name { c: String::new(), rust: ".code".into() }, vec![Expr::Var("value".into())]),
                ),
                None if plain => (Type::Num(stored), Expr::Var("value".into())),
                None => (Type::Num(wide), Expr::Var("value".into())),
            };
            let mut body = Vec::new();
            let code_of = if enum_name.is_some() {
                code_ty
            } else if plain {
                stored
            } else {
                wide
            };
            let (low, high) = if plain { field.bounds() } else { (0, (1i128 << width) - 1) };
            let (least, most) = code_of.bounds().unwrap_or((low, high));
            let narrow = (least < low || most > high) && code_of != Ty::Bool;
            if narrow {
                let (below, above) = (
                    code.clone().compare(Compare::Less, code_of, Expr::Int(low, code_of)),
                    code.clone().compare(Compare::Greater, code_of, Expr::Int(high, code_of)),
                );
                let number = |number: i128| Expr::Int(number, code_of).boxed();
                let outside = if least < low && most > high {
                    Expr::Not(Expr::Within(code_of, code.clone().boxed(), number(low), number(high)).boxed())
                } else if least < low {
                    below
                } else {
                    above
                };
                body.push(Stmt::If(outside, vec![Stmt::Return(Expr::Bool(false))], Vec::new()));
                doc.extend([String::new(), format!("{low} to {high}; anything else is refused, and nothing is set.")]);
            }
            if !plain {
                doc.extend([String::new(), format!("As its bits: {} of {width} bits.", form.name())]);
            }
            body.extend(assigned(self, field, code, code_of, narrow));
            let gives = if narrow {
                body.push(Stmt::Return(Expr::Bool(true)));
                Gives::Type(Type::Num(Ty::Bool))
            } else {
                Gives::Nothing
            };
            let value = Param { name: "value".into(), ty: param_ty, pass: Pass::Value };
            self.module.functions.push(Function { doc, public: true, name: set, of, params: vec![settings, value], gives, body });
        }
    }

    /// The masks by which a register's value in the settings becomes what is written: what of it counts, and what is always one.
    pub(super) fn write_masks(&self, id: RegisterId, asked: &[FieldId]) -> (u64, u64, u64, u64) {
        let ((zeros, zeros_after), (ones, ones_after)) =
            (value_to_write(self.part, id, 0, asked), value_to_write(self.part, id, u64::MAX, asked));
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
        let doc = vec![format!("What is written to {}: reserved bits are as the datasheet demands.", model.name)];
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

    /// The function of a column: its name, the type of its numbers, and whether every code has one.
    pub(super) fn column_function(&self, id: FieldId, column: ColumnId) -> Option<(Name, Ty, bool)> {
        let field = self.part.fields.get(id)?;
        let model = field.columns.get(column)?;
        let numbers: Vec<f64> = field.values.iter().filter_map(|row| row.columns.get(column).copied().flatten()).collect();
        let (low, high) = (numbers.iter().copied().fold(0.0, f64::min), numbers.iter().copied().fold(0.0, f64::max));
        let ty = if model.whole { Ty::holding(low as i128, high as i128) } else { self.parameter_type() };
        let (least, most) = field.bounds();
        let whole = most - least < numbers.len() as i128;
        Some((self.prefix.function(&format!("{}_{}", self.field_words(field), model.name)), ty, whole))
    }

    fn column(&mut self, id: FieldId, column: ColumnId) {
        let Some(field) = self.part.fields.get(id) else { return };
        let (Some((name, ty, whole)), Some(model)) = (self.column_function(id, column), field.columns.get(column)) else { return };
        if ty.is_real() && self.options.reals == Reals::Integer {
            return;
        }
        self.give(&name, format!("column {} of field {}", model.name, field.name));
        let code_ty = self.field_code_type(id);
        let number = |value: f64| {
            if ty.is_real() {
                Expr::Real(if ty == Ty::F32 { f64::from(value as f32) } else { value }, ty)
            } else {
                Expr::Int(value as i128, ty)
            }
        };
        let mut rows: Vec<(Vec<i128>, Vec<Stmt>)> = Vec::new();
        for row in &field.values {
            let Some(value) = row.columns.get(column).copied().flatten() else { continue };
            let body = vec![Stmt::Return(number(value))];
            match rows.iter_mut().find(
                |(_, known)| matches!((known.as_slice(), body.as_slice()), ([Stmt::Return(one)], [Stmt::Return(other)]) if one == other),
            ) {
                Some((codes, _)) => codes.push(row.code),
                None => rows.push((vec![row.code], body)),
            }
        }
        let otherwise = if whole { rows.pop().map_or(Vec::new(), |(_, body)| body) } else { vec![Stmt::Fail("no row for it".into())] };
        let gives = if whole { Gives::Type(Type::Num(ty)) } else { Gives::Maybe(ty) };
        let params = vec![Param { name: "code".into(), ty: Type::Num(code_ty), pass: Pass::Value }];
        let unit = self.part.column_units.get(&(id, column)).map_or(String::new(), |unit| format!(", in units of {unit}"));
        let doc = vec![format!(
            "The number beside a code of {} in column {}{}{unit}.",
            field.name,
            model.name,
            if whole { "" } else { ", where there is one" }
        )];
        let body = vec![Stmt::Switch(Expr::Var("code".into()), code_ty, rows, otherwise)];
        self.module.functions.push(Function { doc, public: true, name, of: None, params, gives, body });
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
            let default = if ty == Ty::F32 { f64::from(parameter.default as f32) } else { parameter.default };
            Some(Member { doc, name: snake(&parameter.name), ty: Type::Num(ty), default: Expr::Real(default, ty) })
        };
        let members = used.iter().filter_map(member).collect();
        let name = self.parameters_type();
        let name = self.give(&name, "the parameters".into());
        self.module.structs.push(Struct { doc: vec!["The numbers that you supply.".into()], name, members });
    }

    /// What the value of a quantity is taken from.
    pub(super) fn quantity_takes(&self, id: QuantityId) -> Takes {
        let Some(quantity) = self.part.quantities.get(id) else { return Takes::default() };
        let mut takes = self.takes_with(&quantity.formula, None);
        if let Some((reading, code)) = quantity.through
            && let Some(reading) = self.part.readings.get(reading)
        {
            for input in inputs(&reading.formula).filter(|input| *input != code) {
                match input {
                    Input::Parameter(_) => takes.parameters = true,
                    Input::Field(_) | Input::Column(..) => takes.settings = true,
                    _ => {}
                }
            }
        }
        takes
    }

    /// The call that gives a quantity's value, its type, and whether it may be none.
    pub(super) fn quantity_value(&self, id: QuantityId) -> Option<(Expr, Ty, bool)> {
        let quantity = self.part.quantities.get(id)?;
        let params = self.params(&self.quantity_takes(id), None);
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        let name = Name { rust: snake(&quantity.name), ..name };
        let known = self.module.functions.iter().find(|function| function.name.c == name.c)?;
        Some((Self::call(&name, &params), self.real(), matches!(known.gives, Gives::Maybe(_))))
    }

    /// A quantity there and back.
    pub(super) fn quantity(&mut self, id: QuantityId) {
        let part = self.part;
        let Some(quantity) = part.quantities.get(id) else { return };
        if part.no_integers.contains(&id) {
            self.module.notes.push(format!("quantity {}, which cannot be computed in integers", quantity.name));
            return;
        }
        // Those that it uses come first.
        for input in inputs(&quantity.formula) {
            if let Input::Quantity(other) = input {
                self.quantity_once(other);
            }
        }
        let real = self.real();
        let takes = self.quantity_takes(id);
        let params = self.params(&takes, None);
        let given: Vec<String> = params.iter().map(|param| param.name.clone()).collect();
        let mut statements = Vec::new();
        let ready = |formula: &crate::formula::typed::Formula, place: Option<(Input, Source)>, statements: &mut Vec<Stmt>| {
            let mut sources = Vec::new();
            for input in inputs(formula) {
                let source = match &place {
                    Some((code, source)) if *code == input => source.clone(),
                    _ => self.source(input, None, statements)?,
                };
                sources.push((input.key(), source));
            }
            Some(sources)
        };
        let result: Option<(Ty, bool)> = match quantity.through.and_then(|(reading, code)| Some((part.readings.get(reading)?, code))) {
            None => {
                let Some(sources) = ready(&quantity.formula, None, &mut statements) else { return };
                let facts = self.facts_of(&quantity.formula);
                let range = as_quantity(facts.result, real);
                let (more, fails) = body(&quantity.formula, &facts, &Found { build: self, sources }, &given);
                self.quantity_bounds.insert(id, range);
                statements.extend(more);
                Some((quantity.formula.ty, fails))
            }
            Some((reading, code)) => {
                let Some(sources) = ready(&quantity.formula, None, &mut statements) else { return };
                let facts = self.facts_of(&quantity.formula);
                let found = Found { build: self, sources };
                let code_ty = match code {
                    Input::Code(code) => part.codes.get(code).map_or(Ty::I32, |code| code.ty),
                    Input::Field(field) => part.fields.get(field).map_or(Ty::I32, Field::ty),
                    _ => Ty::I32,
                };
                match expression(&quantity.formula, &facts, &found) {
                    Some(expr) => {
                        let value = expr.cast(quantity.formula.ty, code_ty);
                        statements.push(Stmt::Let { name: "code".into(), ty: Type::Num(code_ty), value: Some(value), mutable: false });
                    }
                    None => {
                        self.refused.push(format!("quantity {}: its code needs more than one expression that cannot fail", quantity.name));
                        return;
                    }
                }
                let place = (code, Source::Value(Expr::Var("code".into()), code_ty));
                let Some(sources) = ready(&reading.formula, Some(place), &mut statements) else {
                    self.refused.push(format!("quantity {}: the reading {} needs other readings", quantity.name, reading.name));
                    return;
                };
                let key = code.key();
                let inner = facts.result;
                let facts = Facts::of_all(&[(crate::formula::input::InputKey(u64::MAX), &reading.formula)], &part.curves, &|asked| {
                    if asked == key { inner } else { bounds(part, asked) }
                });
                let facts = facts.into_iter().next().unwrap_or_else(Facts::unknown);
                self.quantity_bounds.insert(id, as_quantity(facts.result, real));
                let given: Vec<String> = given.iter().cloned().chain(["code".to_owned()]).collect();
                let (more, fails) = body(&reading.formula, &facts, &Found { build: self, sources }, &given);
                statements.extend(more);
                Some((reading.formula.ty, fails))
            }
        };
        let Some((ty, may_fail)) = result else { return };
        let fails = may_fail || statements.iter().any(can_fail);
        let statements: Vec<Stmt> = statements.into_iter().map(|statement| returned_as(statement, ty, real)).collect();
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        let name = Name { rust: snake(&quantity.name), ..name };
        self.give(&name, format!("quantity {}", quantity.name));
        let means = quantity.means.as_ref().map_or(String::new(), |means| format!(": {means}"));
        let mut doc = vec![format!("{} in {}{means}.", capital(&said(&quantity.name)), unit_text(&quantity.unit))];
        doc.extend([String::new(), format!("It is {}.", part.typed(&quantity.formula))]);
        let gives = if fails { Gives::Maybe(real) } else { Gives::Type(Type::Num(real)) };
        let of = Self::home(&params);
        self.module.functions.push(Function { doc, public: true, name, of, params, gives, body: statements });
        if self.wanted.all {
            self.set_quantity(id, fails);
        }
    }

    /// The same, unless it is there already.
    pub(super) fn quantity_once(&mut self, id: QuantityId) {
        let Some(quantity) = self.part.quantities.get(id) else { return };
        let name = self.prefix.function(&format!("get_{}", quantity.name));
        if !self.module.functions.iter().any(|function| function.name.c == name.c) {
            self.quantity(id);
        }
    }

    /// The way back: from a value to the field's code, in closed form where the value is linear in it, else by halving.
    fn set_quantity(&mut self, id: QuantityId, get_fails: bool) {
        let part = self.part;
        let Some(quantity) = part.quantities.get(id) else { return };
        let [moved] = quantity.moves.as_slice() else { return self.search_quantity(id, get_fails) };
        let Some(field) = part.fields.get(*moved) else { return };
        let Some((line, rising)) = shape(self, id, *moved) else { return self.search_quantity(id, get_fails) };
        self.halve_quantity(id, field, *moved, line, rising, get_fails);
    }

    fn halve_quantity(&mut self, id: QuantityId, field: &Field, moved: FieldId, line: Option<(f64, f64)>, rising: bool, get_fails: bool) {
        let part = self.part;
        let Some(quantity) = part.quantities.get(id) else { return };
        let real = self.real();
        let (low, high) = field.bounds();
        let words = self.field_words(field);
        let set = self.prefix.function(&format!("set_{words}"));
        let settings = || Expr::Var("settings".into());
        let wanted = Expr::Var("value".into());
        let mut params = self.params(&self.quantity_takes(id), None);
        params.iter_mut().filter(|param| param.name == "settings").for_each(|param| param.pass = Pass::Change);
        params.insert(1.min(params.len()), Param { name: "value".into(), ty: Type::Num(real), pass: Pass::Value });
        let (width, stored) = (field.layout.width(), self.field_code_type(moved));
        let set_code = |code: Expr, from: Ty| {
            let narrow = code_bounds(stored) != (low, high);
            let call = Expr::Method(set.clone(), vec![settings(), code.cast(from, stored)]);
            if narrow { Stmt::Ignore(call) } else { Stmt::Do(call) }
        };
        let mut body = Vec::new();
        let mut doc = vec![
            format!("Sets {} as near to a value in {} as {} can hold it.", said(&quantity.name), unit_text(&quantity.unit), field.name),
            String::new(),
        ];
        match line.filter(|_| real.is_real()) {
            // Away from where another field has a part in it, the inverse is written down.
            Some((zero, step)) => {
                doc.push(format!(
                    "A code is {step} {} more than the one before. Beyond the ends nothing is set, and `false` comes back.",
                    quantity.unit
                ));
                let number = |value: f64| Expr::Real(if real == Ty::F32 { f64::from(value as f32) } else { value }, real);
                let code = Expr::Arith(
                    Arith::Div,
                    real,
                    Expr::Arith(Arith::Sub, real, wanted.boxed(), number(zero).boxed()).boxed(),
                    number(step).boxed(),
                );
                let code =
                    if zero == 0.0 { Expr::Arith(Arith::Div, real, Expr::Var("value".into()).boxed(), number(step).boxed()) } else { code };
                body.push(Stmt::Let { name: "code".into(), ty: Type::Num(real), value: Some(code), mutable: false });
                let own = || Expr::Var("code".into());
                let inside = Expr::Within(real, own().boxed(), number(low as f64 - 0.5).boxed(), number(high as f64 + 0.5).boxed());
                body.push(Stmt::If(Expr::Not(inside.boxed()), vec![Stmt::Return(Expr::Bool(false))], Vec::new()));
                let wide = if high > i128::from(i32::MAX) { Ty::I64 } else { Ty::I32 };
                let half = Expr::Cond(own().compare(Compare::Less, real, number(0.0)).boxed(), number(-0.5).boxed(), number(0.5).boxed());
                let rounded = Expr::Cast {
                    from: real,
                    to: wide,
                    fits: true,
                    value: Expr::Arith(Arith::Add, real, own().boxed(), half.boxed()).boxed(),
                };
                // Half a code beyond an end is that end.
                body.push(Stmt::Let { name: "rounded".into(), ty: Type::Num(wide), value: Some(rounded), mutable: false });
                let clamped = Expr::Clamp(Expr::Var("rounded".into()).boxed(), Expr::Int(low, wide).boxed(), Expr::Int(high, wide).boxed());
                body.push(Stmt::Let { name: "nearest".into(), ty: Type::Num(wide), value: Some(clamped), mutable: false });
                let nearest = || Expr::Var("nearest".into());
                let code = Expr::Cast { from: wide, to: stored, fits: true, value: nearest().boxed() };
                body.push(set_code(code, stored));
                body.push(Stmt::Return(Expr::Bool(true)));
            }
            None => {
                doc.push("It is found by halving. Beyond the ends nothing is set, and `false` comes back.".into());
                let steps = width;
                let wide = if high > i128::from(i32::MAX) || low < i128::from(i32::MIN) { Ty::I64 } else { Ty::I32 };
                let variable = |name: &str, value: i128, mutable| Stmt::Let {
                    name: name.into(),
                    ty: Type::Num(wide),
                    value: Some(Expr::Int(value, wide)),
                    mutable,
                };
                let before = Stmt::Let { name: "before".into(), ty: Type::Num(register(width)), value: None, mutable: false };
                let _ = before;
                let at = |name: &str| Expr::Var(name.into());
                let get = Expr::Method(
                    Name { rust: snake(&quantity.name), ..self.prefix.function(&format!("get_{}", quantity.name)) },
                    params.iter().filter(|param| param.name != "value").map(|param| Expr::Var(param.name.clone())).collect(),
                );
                let value_of = |name: &str, into: &str, fails: Vec<Stmt>| -> Vec<Stmt> {
                    let mut all = vec![set_code(Expr::Cast { from: wide, to: stored, fits: true, value: at(name).boxed() }, stored)];
                    if get_fails {
                        all.push(Stmt::Try(into.into(), real, get.clone()));
                        all.push(Stmt::If(Expr::Not(Expr::IsThere(into.into()).boxed()), fails, Vec::new()));
                    } else {
                        all.push(Stmt::Let { name: into.into(), ty: Type::Num(real), value: Some(get.clone()), mutable: false });
                    }
                    all
                };
                let got = |name: &str| if get_fails { Expr::There(name.into()) } else { Expr::Var(name.into()) };
                let saved = self.saved(field);
                body.extend(saved.0);
                let restore = || saved.1.clone().into_iter().chain([Stmt::Return(Expr::Bool(false))]).collect::<Vec<_>>();
                body.push(variable("low", low, true));
                body.push(variable("high", high, true));
                body.extend(value_of("low", "first", restore()));
                body.extend(value_of("high", "last", restore()));
                let (under, over) = if rising { ("first", "last") } else { ("last", "first") };
                let outside = Expr::Not(Expr::Within(real, wanted.clone().boxed(), got(under).boxed(), got(over).boxed()).boxed());
                body.push(Stmt::If(outside, restore(), Vec::new()));
                let middle = Expr::Arith(
                    Arith::Add,
                    wide,
                    at("low").boxed(),
                    Expr::Arith(
                        Arith::Div,
                        wide,
                        Expr::Arith(Arith::Sub, wide, at("high").boxed(), at("low").boxed()).boxed(),
                        Expr::Int(2, wide).boxed(),
                    )
                    .boxed(),
                );
                let mut round = vec![Stmt::Let { name: "middle".into(), ty: Type::Num(wide), value: Some(middle), mutable: false }];
                round.extend(value_of("middle", "there", restore()));
                let before = if rising {
                    got("there").compare(Compare::Less, real, wanted.clone())
                } else {
                    got("there").compare(Compare::Greater, real, wanted.clone())
                };
                round.push(Stmt::If(before, vec![Stmt::Set(at("low"), at("middle"))], vec![Stmt::Set(at("high"), at("middle"))]));
                body.push(Stmt::Times(steps, round));
                // One of two neighbours.
                body.extend(value_of("low", "one", restore()));
                body.extend(value_of("high", "other", restore()));
                let (one, other) = if rising {
                    (
                        Expr::Arith(Arith::Sub, real, wanted.clone().boxed(), got("one").boxed()),
                        Expr::Arith(Arith::Sub, real, got("other").boxed(), wanted.boxed()),
                    )
                } else {
                    (
                        Expr::Arith(Arith::Sub, real, got("one").boxed(), wanted.clone().boxed()),
                        Expr::Arith(Arith::Sub, real, wanted.boxed(), got("other").boxed()),
                    )
                };
                let nearer = one.compare(Compare::LessEqual, real, other);
                body.push(Stmt::If(
                    nearer,
                    vec![set_code(Expr::Cast { from: wide, to: stored, fits: true, value: at("low").boxed() }, stored)],
                    Vec::new(),
                ));
                body.push(Stmt::Return(Expr::Bool(true)));
            }
        }
        let name = self.prefix.function(&format!("set_{}", quantity.name));
        self.give(&name, format!("setting quantity {}", quantity.name));
        self.module.functions.push(Function {
            doc,
            public: true,
            name,
            of: Some(self.settings_type()),
            params,
            gives: Gives::Type(Type::Num(Ty::Bool)),
            body,
        });
    }

    /// Statements that remember the members that hold a field, and those that restore them.
    fn saved(&self, field: &Field) -> (Vec<Stmt>, Vec<Stmt>) {
        let one = |piece: Piece| {
            let name = format!("{}_before", piece.member);
            let member = Expr::Member("settings".into(), piece.member);
            let keep = Stmt::Let { name: name.clone(), ty: Type::Num(piece.ty), value: Some(member.clone()), mutable: false };
            (keep, Stmt::Set(member, Expr::Var(name)))
        };
        pieces(self, field).into_iter().map(one).unzip()
    }

    /// A quantity that two fields hold, or whose value does not go one way.
    fn search_quantity(&mut self, id: QuantityId, _get_fails: bool) {
        let Some(quantity) = self.part.quantities.get(id) else { return };
        self.module.notes.push(format!(
            "quantity {} has no setter: set its fields, {}",
            quantity.name,
            self.part.fields.of(&quantity.moves).map(|field| field.name.as_str()).collect::<Vec<_>>().join(" and ")
        ));
    }
}

/// Statements that put a code, which fits, into the settings.
pub(super) fn assign(build: &Build<'_>, id: FieldId, code: Expr, code_of: Ty) -> Vec<Stmt> {
    build.part.fields.get(id).map_or(Vec::new(), |field| assigned(build, field, code, code_of, true))
}

/// The same; `narrow` where the code is known to have no more bits than the field.
fn assigned(build: &Build<'_>, field: &Field, code: Expr, code_of: Ty, narrow: bool) -> Vec<Stmt> {
    let (form, width, wide) = (field.layout.form, field.layout.width(), register(field.layout.width()));
    let raw = if code_of == Ty::Bool {
        Expr::FromBool(wide, code.boxed())
    } else {
        let raw = if code_of == wide { code } else { Expr::Cast { from: code_of, to: wide, fits: false, value: code.boxed() } };
        if form == Form::OffsetBinary {
            Expr::Arith(Arith::BitXor, wide, raw.boxed(), Expr::Hex(1 << (width - 1), wide).boxed())
        } else {
            raw
        }
    };
    let mut body = Vec::new();
    for piece in pieces(build, field) {
        let mask = (u64::MAX >> (64 - piece.width)) << piece.low;
        let member = Expr::Member("settings".into(), piece.member);
        let moved = raw.clone().shr(wide, piece.left);
        let known = form == Form::Unsigned && (narrow || code_of == Ty::Bool) && piece.left + piece.width == width;
        let moved =
            if !known && piece.width < wide.bits() - piece.left { moved.and_mask(wide, u64::MAX >> (64 - piece.width)) } else { moved };
        let moved = if piece.ty.bits() < wide.bits() {
            Expr::Cast { from: wide, to: piece.ty, fits: true, value: moved.boxed() }
        } else {
            moved.cast(wide, piece.ty)
        };
        let moved = moved.shl(piece.ty, piece.low);
        let kept = !mask & (u64::MAX >> (64 - piece.ty.bits()));
        let value = if kept == 0 { moved } else { member.clone().and_mask(piece.ty, kept).or(piece.ty, moved) };
        body.push(Stmt::Set(member, value));
    }
    body
}

/// What can come out of a formula, as the number that a quantity is.
fn as_quantity(interval: Interval, real: Ty) -> Interval {
    let (low, high) = interval.to_f64();
    if real.is_real() { Interval::Real(low, high) } else { interval }
}

/// A value with the masks of what is written.
pub(super) fn masked(own: Expr, ty: Ty, and: u64, or: u64, all: u64) -> Expr {
    let kept = if and == all {
        own
    } else if and == 0 {
        return Expr::Hex(or, ty);
    } else {
        own.and_mask(ty, and)
    };
    if or == 0 { kept } else { kept.or(ty, Expr::Hex(or, ty)) }
}

fn code_bounds(ty: Ty) -> (i128, i128) {
    ty.bounds().unwrap_or((0, 0))
}

/// How a quantity follows from a field: the value at code 0 and the step, where it is a line and nothing else has a part in it; and
/// whether it rises. `None` where it does not go one way.
#[allow(clippy::type_complexity)]
fn shape(build: &Build<'_>, id: QuantityId, moved: FieldId) -> Option<(Option<(f64, f64)>, bool)> {
    let part = build.part;
    let (field, mut eval) = (part.fields.get(moved)?, Eval::of_quantity(part, id)?);
    let (low, high) = field.bounds();
    if high - low >= 1 << 17 || !field.values.is_empty() {
        return None;
    }
    let parameters: Vec<f64> = part.parameters.iter().map(|parameter| parameter.default).collect();
    let mut settings = Settings::reset(part);
    let mut values = Vec::new();
    for code in low..=high {
        settings.set_field(field, code);
        values.push(eval.value(&Present { part, settings: &settings, parameters: &parameters, last: &[] }).ok()?);
    }
    let rising = values.first()? < values.last()?;
    let one_way = values.windows(2).all(|pair| matches!(pair, [one, next] if (one < next) == rising && one != next));
    if !one_way {
        return None;
    }
    let takes_more = part.quantities.get(id)?;
    let behind = part.inputs_behind(inputs(&takes_more.formula));
    let alone = behind.iter().all(|input| *input == Input::Field(moved));
    let through = takes_more.through.is_none_or(|(reading, code)| {
        part.readings.get(reading).is_some_and(|reading| inputs(&reading.formula).all(|input| input == code))
    });
    let at = |code: i128| values.get(usize::try_from(code - low).ok()?).copied();
    let zero = at(0)?;
    let step = (values.last()? - values.first()?) / (high - low) as f64;
    let step = nearest_short(step);
    let largest = values.iter().fold(0.0f64, |most, value| most.max(value.abs()));
    let line = (low..=high).zip(&values).all(|(code, value)| (zero + step * code as f64 - value).abs() <= largest * 1e-12);
    Some(((alone && through && line).then_some((zero, step)), rising))
}

/// A step as a person would write it, where that is as good.
fn nearest_short(step: f64) -> f64 {
    let digits = 12 - step.abs().log10().ceil() as i32;
    let scale = 10f64.powi(digits.clamp(0, 20));
    let short = (step * scale).round() / scale;
    if ((short - step) / step).abs() < 1e-13 { short } else { step }
}

/// What a formula returns, as another type.
fn returned_as(statement: Stmt, from: Ty, to: Ty) -> Stmt {
    match statement {
        Stmt::Return(value) => Stmt::Return(value.cast(from, to)),
        Stmt::If(cond, then, otherwise) => {
            let all = |list: Vec<Stmt>| list.into_iter().map(|statement| returned_as(statement, from, to)).collect();
            Stmt::If(cond, all(then), all(otherwise))
        }
        other => other,
    }
}
