//! Finds the items of a part by name. An exact match has priority over one that differs in case.

use super::ids::{FieldId, FrameId, ParameterId, QuantityId, ReadingId, RegisterId, RoutineId};
use super::name::{Kind, UnknownName};
use super::part::Sheet;
use super::registers::Field;
use crate::ground::list::Id;

/// Items with a name: the exact matches, otherwise those that differ in case.
fn alike<'l, I: Id, T: 'l>(items: impl Iterator<Item = (I, &'l T)> + Clone, name: &str, name_of: impl Fn(&T) -> &str) -> Vec<(I, &'l T)> {
    let exact: Vec<(I, &T)> = items.clone().filter(|(_, item)| name_of(item) == name).collect();
    if exact.is_empty() { items.filter(|(_, item)| name_of(item).eq_ignore_ascii_case(name)).collect() } else { exact }
}

impl Sheet {
    /// Finds a frame by name.
    ///
    /// # Errors
    /// [`UnknownName`] with similar names.
    pub fn frame(&self, name: &str) -> Result<FrameId, UnknownName> {
        self.find(Kind::Frame, name, self.frames.entries(), |frame| &frame.name)
    }

    /// Finds a reading by name; not a derived one.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn reading(&self, name: &str) -> Result<ReadingId, UnknownName> {
        let measured = self.readings.entries().filter(|(_, reading)| reading.is_measured());
        self.find(Kind::Reading, name, measured, |reading| &reading.name).map_err(|unknown| {
            let is_derived = self.readings.iter().any(|reading| reading.is_derived() && reading.name == name);
            UnknownName { is_derived, ..unknown }
        })
    }

    /// Finds a reading or a derived quantity by name.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn reading_or_derived(&self, name: &str) -> Result<ReadingId, UnknownName> {
        let derived = self.readings.position(|reading| reading.is_derived() && reading.name == name);
        derived.map_or_else(|| self.reading(name), Ok)
    }

    /// Finds a register by name.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn register(&self, name: &str) -> Result<RegisterId, UnknownName> {
        self.find(Kind::Register, name, self.registers.entries(), |register| &register.name)
    }

    /// Finds a field by name, or as `REGISTER.FIELD` if several registers have a field of that name.
    ///
    /// # Errors
    /// [`UnknownName`]; for an ambiguous name with the ways to write it.
    pub fn field(&self, name: &str) -> Result<FieldId, UnknownName> {
        let found = match name.split_once('.') {
            Some((register, field)) => {
                let home = self.register(register)?;
                alike(self.fields.entries().filter(|(_, known)| known.register == Some(home)), field, |field| &field.name)
            }
            None => alike(self.fields.entries(), name, |field| &field.name),
        };
        match found.as_slice() {
            [] => Err(self.unknown(Kind::Field, name, self.fields.iter().map(|field| field.name.as_str()))),
            [(only, _)] => Ok(*only),
            [(first, _), ..] if name.contains('.') => Ok(*first),
            several => Err(UnknownName { ways: self.ways(several), ..self.unknown(Kind::Field, name, std::iter::empty()) }),
        }
    }

    /// Full names of fields: `REGISTER.FIELD`.
    fn ways(&self, fields: &[(FieldId, &Field)]) -> Vec<String> {
        let homes = fields.iter().filter_map(|(_, field)| self.registers.get(field.register?).map(|home| (home, field)));
        homes.map(|(home, field)| format!("{}.{}", home.name, field.name)).collect()
    }

    /// True if a field has exactly this name, as formulas use it.
    pub(crate) fn has_field(&self, name: &str) -> bool {
        self.fields.iter().any(|field| field.name == name)
    }

    /// Finds a routine by name.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn routine(&self, name: &str) -> Result<RoutineId, UnknownName> {
        self.find(Kind::Routine, name, self.routines.entries(), |routine| &routine.name)
    }

    /// Finds a quantity by name.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn quantity(&self, name: &str) -> Result<QuantityId, UnknownName> {
        self.find(Kind::Quantity, name, self.quantities.entries(), |quantity| &quantity.name)
    }

    /// Finds a parameter by name.
    ///
    /// # Errors
    /// [`UnknownName`].
    pub fn parameter(&self, name: &str) -> Result<ParameterId, UnknownName> {
        self.find(Kind::Parameter, name, self.parameters.entries(), |parameter| &parameter.name)
    }

    fn find<'l, I: Id, T: 'l>(
        &self,
        kind: Kind,
        name: &str,
        items: impl Iterator<Item = (I, &'l T)> + Clone,
        name_of: impl Fn(&T) -> &str,
    ) -> Result<I, UnknownName> {
        let found = alike(items.clone(), name, &name_of).first().map(|(id, _)| *id);
        found.ok_or_else(|| self.unknown(kind, name, items.map(|(_, item)| name_of(item)).collect::<Vec<_>>().into_iter()))
    }

    fn unknown<'a>(&self, kind: Kind, name: &str, known: impl Iterator<Item = &'a str>) -> UnknownName {
        UnknownName {
            part: self.name.clone(),
            kind,
            name: name.to_owned(),
            known: known.map(str::to_owned).collect(),
            ways: Vec::new(),
            is_derived: false,
        }
    }
}
