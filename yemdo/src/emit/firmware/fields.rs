//! Fields as getters and setters, their values as enums, their tables as functions.

use super::Reals;
use super::bits::{assigned, read_bits, read_field};
use super::build::Build;
use super::code::{Enum, Expr, Function, Gives, Name, Param, Pass, Stmt, Type};
use super::names::{snake, upper};
use super::readings::cited;
use super::unpack::register;
use crate::bits::form::Form;
use crate::ground::number::Ty;
use crate::model::ids::{ColumnId, FieldId};
use crate::model::registers::Field;

impl Build<'_> {
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
    pub(super) fn enum_of(&self, field: &Field) -> Option<Name> {
        let named = field.values.iter().filter(|value| value.name.is_some()).count() > 0;
        named.then(|| self.prefix.ty(&self.field_words(field)))
    }

    /// A field's name in the output: with its register's where another register has one of that name.
    pub(super) fn field_words(&self, field: &Field) -> String {
        let several = self.part.fields.iter().filter(|other| other.name.eq_ignore_ascii_case(&field.name)).count() > 1;
        match field.register.and_then(|id| self.part.registers.get(id)).filter(|_| several) {
            Some(register) => format!("{}_{}", register.name, field.name),
            None => field.name.clone(),
        }
    }

    pub(super) fn field(&mut self, id: FieldId) {
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
        doc.extend(cited(field.source()));
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
                (Type::Named(name.clone()), Expr::FromCode(name.clone(), code.boxed()))
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
                Some(name) => (Type::Named(name.clone()), Expr::CodeOf(Expr::Var("value".into()).boxed())),
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
                let outside = Expr::Outside(code_of, code.clone().boxed(), low, high);
                body.push(Stmt::If(outside, vec![Stmt::Return(Expr::Bool(false))], Vec::new()));
                doc.extend([String::new(), format!("{low} to {high}; returns `false` and sets nothing for other values.")]);
            }
            if !plain {
                doc.extend([String::new(), format!("Bits: {}, {width} bits.", form.name())]);
            }
            body.extend(assigned(self, field, code, code_of, narrow));
            body.extend(self.now_known(id));
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
            "Value in column {1} for a code of {0}{unit}{2}.",
            field.name,
            model.name,
            if whole { "" } else { ", if present" }
        )];
        let body = vec![Stmt::Switch(Expr::Var("code".into()), rows, otherwise)];
        self.module.functions.push(Function { doc, public: true, name, of: None, params, gives, body });
    }
}
