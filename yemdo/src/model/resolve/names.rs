//! Names in formulas.

use std::borrow::Cow;
use std::collections::HashMap;

use super::derived::{BEFORE, ELAPSED};
use crate::formula::front::analyse::Scope;
use crate::formula::input::{CurveId, InputKey};
use crate::formula::typed::Lost;
use crate::ground::number::Ty;
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FrameId, ReadingId};
use crate::model::input::Input;
use crate::model::part::Sheet;

/// Names in a formula: codes first, then readings, then fields and their columns.
pub(super) struct Names<'a> {
    pub(super) part: &'a Sheet,
    /// The codes by their names.
    pub(super) codes: &'a HashMap<String, Vec<CodeId>>,
    /// Arrays of codes and of fields: the suffixes of their elements.
    pub(super) arrays: &'a HashMap<String, Vec<String>>,
    /// Readings that are resolved so far.
    pub(super) readings: &'a HashMap<String, (ReadingId, Ty)>,
    /// Divisions of integers that shared values are made of.
    pub(super) lost: &'a HashMap<InputKey, Lost>,
    /// Codes of other frames are refused.
    pub(super) only_frame: Option<FrameId>,
    /// Fields of registers come before the codes that frames have of them: a routine reads the register.
    pub(super) fields_first: bool,
    /// For a reading of an array: its element, and the arrays.
    pub(super) element: Option<(usize, &'a [String])>,
}

impl Names<'_> {
    /// The name of the element that is meant by that of an array.
    fn full<'n>(&self, name: &'n str) -> Cow<'n, str> {
        let behind = self.element.filter(|(_, arrays)| arrays.iter().any(|array| array == name));
        let behind = behind.and_then(|(index, _)| self.arrays.get(name)?.get(index));
        behind.map_or(Cow::Borrowed(name), |behind| Cow::Owned(format!("{name}_{behind}")))
    }

    fn code(&self, frame: Option<FrameId>, name: &str) -> Result<Option<(Input, Ty)>, String> {
        let full = self.full(name);
        let named = self.codes.get(full.as_ref()).map_or(&[] as &[CodeId], Vec::as_slice);
        let of_frame = |code: &Code| frame.or(self.only_frame).is_none_or(|frame| code.frame == frame);
        let mut found = named.iter().filter_map(|id| Some((*id, self.part.codes.get(*id)?))).filter(|(_, code)| of_frame(code));
        let first = found.next();
        if let (Some((_, one)), Some((_, two))) = (first, found.next()) {
            let name_of = |frame: FrameId| self.part.frames.get(frame).map_or("", |frame| frame.name.as_str());
            return Err(format!("frames {0} and {1} have it: write {0}.{name} or {1}.{name}", name_of(one.frame), name_of(two.frame)));
        }
        if first.is_none() && self.only_frame.is_some() && frame.is_none() && !named.is_empty() {
            return Err("this code belongs to another frame".into());
        }
        Ok(first.map(|(index, code)| (Input::Code(index), code.ty)))
    }

    fn field(&self, name: &str) -> Result<Option<(Input, Ty)>, String> {
        let name = self.full(name).into_owned();
        let name = name.as_str();
        let Ok(index) = self.part.field(name) else {
            let homes: Vec<String> = self
                .part
                .fields
                .iter()
                .filter(|field| field.name == name)
                .filter_map(|field| self.part.registers.get(field.register?))
                .map(|register| format!("{}.{name}", register.name))
                .collect();
            return if homes.len() > 1 { Err(format!("several registers have it: write {}", homes.join(" or "))) } else { Ok(None) };
        };
        let Some(field) = self.part.fields.get(index).filter(|field| name.ends_with(&field.name)) else { return Ok(None) };
        Ok(Some((Input::Field(index), field.ty())))
    }

    fn column(&self, field_name: &str, column: &str) -> Result<Option<(Input, Ty)>, String> {
        let Some((Input::Field(index), _)) = self.field(field_name)? else { return Ok(None) };
        let Some(field) = self.part.fields.get(index) else { return Ok(None) };
        let Some(at) = field.columns.position(|known| known.name == column) else {
            let known: Vec<&str> = field.columns.iter().map(|column| column.name.as_str()).collect();
            return Err(if known.is_empty() {
                "its values have no columns".into()
            } else {
                format!("its columns are {}", known.join(", "))
            });
        };
        let whole = field.columns.get(at).is_some_and(|column| column.whole);
        let numbers = || field.values.iter().filter_map(|row| row.columns.get(at).copied().flatten());
        let (low, high) = (numbers().fold(0.0, f64::min), numbers().fold(0.0, f64::max));
        Ok(Some((Input::Column(index, at), if whole { Ty::holding(low as i128, high as i128) } else { Ty::F64 })))
    }
}

impl Scope for Names<'_> {
    fn resolve(&self, name: &str, member: Option<&str>) -> Result<Option<(InputKey, Ty)>, String> {
        Ok(self.find(name, member)?.map(|(input, ty)| (input.key(), ty)))
    }

    fn curve(&self, name: &str) -> Option<CurveId> {
        let found = self.part.curve_names.iter().position(|(known, _)| known == name)?;
        u32::try_from(found).ok().map(CurveId)
    }

    fn lost(&self, input: InputKey) -> Option<Lost> {
        self.lost.get(&input).cloned()
    }

    fn names(&self) -> Vec<String> {
        let codes = self.part.codes.iter().map(|code| code.name.clone());
        let columns =
            self.part.fields.iter().flat_map(|field| field.columns.iter().map(|column| format!("{}.{}", field.name, column.name)));
        let fields = self.part.fields.iter().map(|field| field.name.clone());
        let parameters = self.part.parameters.iter().map(|parameter| parameter.name.clone());
        let curves = self.part.curve_names.iter().map(|(name, _)| name.clone());
        let quantities = self.part.quantities.iter().map(|quantity| quantity.name.clone());
        codes.chain(parameters).chain(quantities).chain(curves).chain(self.readings.keys().cloned()).chain(columns).chain(fields).collect()
    }
}

impl Names<'_> {
    fn find(&self, name: &str, member: Option<&str>) -> Result<Option<(Input, Ty)>, String> {
        match self.find_now(name, member)? {
            None if name == BEFORE || name == ELAPSED && member.is_none() => {
                Err("it is for formulas of `derived`, which use the previous frame".into())
            }
            found => Ok(found),
        }
    }

    fn find_now(&self, name: &str, member: Option<&str>) -> Result<Option<(Input, Ty)>, String> {
        let Some(member) = member else {
            if self.fields_first
                && let Some(field) = self.field(name)?
            {
                return Ok(Some(field));
            }
            if let Some(code) = self.code(None, name)? {
                return Ok(Some(code));
            }
            if let Some((index, ty)) = self.readings.get(name) {
                return Ok(Some((Input::Reading(*index), *ty)));
            }
            if let Some(index) = self.part.parameters.position(|parameter| parameter.name == name) {
                return Ok(Some((Input::Parameter(index), Ty::F64)));
            }
            if let Some(index) = self.part.quantities.position(|quantity| quantity.name == name) {
                return Ok(Some((Input::Quantity(index), Ty::F64)));
            }
            return self.field(name);
        };
        if let Some(frame) = self.part.frames.position(|frame| frame.name == name)
            && let Some(code) = self.code(Some(frame), member)?
        {
            return Ok(Some(code));
        }
        if let Some((field, column)) = member.split_once('.') {
            return self.column(&format!("{name}.{field}"), column);
        }
        // A register may have the name of a field of it.
        if self.part.registers.iter().any(|register| register.name == name)
            && let Some(field) = self.field(&format!("{name}.{member}"))?
        {
            return Ok(Some(field));
        }
        self.column(name, member)
    }
}
