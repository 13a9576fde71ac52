//! Fields: where their bits stand, their tables of values, and how a value of one is typed.

use std::collections::BTreeMap;

use super::Resolver;
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::layout::{Layout, Slice, Sources, parse_layout};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::hex::parse_integer;
use crate::ground::list::List;
use crate::ground::text::{Span, Text};
use crate::model::frame::Origin;
use crate::model::ids::{ColumnId, FieldId, RegisterId};
use crate::model::input::Input;
use crate::model::name::UnknownName;
use crate::model::registers::{Access, ColumnName, Field, FieldValue};
use crate::sheet::reader::At;
use crate::sheet::tree::{self, Choice};

/// The tables of values, by the names of their fields.
pub(super) type Tables<'t> = BTreeMap<&'t str, &'t [tree::Row]>;

pub(super) fn tables(tree: &tree::Sheet) -> Tables<'_> {
    let mut tables = Tables::new();
    let fields = tree.registers.iter().flat_map(|(_, register)| &register.fields).chain(&tree.fields);
    let mut listed: Vec<(&str, &tree::Values)> = fields.map(|(name, field)| (name.value.as_str(), &field.values)).collect();
    listed.extend(tree.parameters.iter().filter_map(|(name, parameter)| match &parameter.supplied {
        tree::Supplied::Choice { values, .. } => Some((name.value.as_str(), values)),
        tree::Supplied::Number { .. } => None,
    }));
    for (name, values) in listed {
        if let tree::Values::Rows(rows) = values
            && !rows.is_empty()
        {
            tables.insert(name, rows);
        }
    }
    tables
}

impl Resolver {
    /// Refuses fields if a frame holds only some of their registers: the value would mix bits of different times.
    pub(super) fn fields_in_part(&mut self) {
        let mut problems = Vec::new();
        for (id, frame) in self.part.frames.entries() {
            let Origin::Registers(runs) = &frame.origin else { continue };
            let held = |register: &RegisterId| runs.iter().flatten().any(|one| one == register);
            let mut fields: Vec<FieldId> = self.part.held_inputs(&[id]).into_iter().filter_map(Input::field).collect();
            fields.sort_unstable();
            fields.dedup();
            for field in fields {
                let (here, elsewhere): (Vec<RegisterId>, Vec<RegisterId>) = self.part.homes(field).partition(held);
                if here.is_empty() {
                    continue;
                }
                let (here, elsewhere) = (self.part.names_of(&here), self.part.names_of(&elsewhere));
                let field = &self.part.fields[field];
                let problem = format!("`{}` is used in readings of `{}`, which holds only some of its bits", field.name, frame.name);
                let problem = Diagnostic::error("field-in-part", frame.span, problem)
                    .label(format!("it has {here}, not {elsewhere}"))
                    .also(field.span, "the field");
                problems.push(problem.help(format!("add {elsewhere} to the frame, or compute with fields of one register each")));
            }
        }
        problems.into_iter().for_each(|problem| self.report(problem));
    }

    /// Bits of registers, as a layout of the image of them all.
    pub(super) fn register_bits(&mut self, bits: &Text, home: Option<RegisterId>) -> Option<Layout> {
        let known: Vec<(String, usize, usize, bool)> =
            self.part.registers.iter().map(|register| (register.name.clone(), register.offset, register.bytes, false)).collect();
        let home = home.and_then(|index| self.part.registers.get(index)).map_or("", |register| register.name.as_str()).to_owned();
        let sources = Sources { length: 0, registers: &known, home: &home };
        self.take(parse_layout(bits, &sources)).map(|typed| typed.layout)
    }

    pub(super) fn field(&mut self, name: String, span: Span, field: &tree::Field, home: Option<RegisterId>, tables: &Tables<'_>) {
        if let Some((array, element)) = &field.element {
            self.in_array(array, element);
        }
        let of_fields = if home.is_none() { self.bits_of_fields(&field.bits) } else { None };
        let joined = of_fields.is_some();
        let Some(layout) = of_fields.or_else(|| self.register_bits(&field.bits, home)) else { return };
        let (columns, values) = self.table_of(&name, &layout, (field.bits.span, "the bits"), &field.values, tables);
        let of_register = home.and_then(|home| self.part.registers.get(home)).map(|register| register.access);
        let access = Access::from_name(field.access).or(of_register).unwrap_or_else(|| self.access_of(&layout));
        self.add_field(Field {
            name,
            span,
            register: home,
            gather: Gather::new(&layout),
            layout,
            access,
            values,
            columns,
            computed: None,
            joined,
            means: field.means.as_ref().map(|text| text.value.clone()),
            source: field.source.as_ref().map(|text| text.value.clone()),
        });
    }

    /// The access of bits in several registers: that of the fields and registers that they belong to, or where these differ, what all of them allow.
    fn access_of(&self, layout: &Layout) -> Access {
        let mut all: Vec<Access> = Vec::new();
        for slice in &layout.slices {
            let held = |field: &Field| field.layout.slices.iter().any(|own| own.byte == slice.byte && own.mask() & slice.mask() != 0);
            let fields: Vec<Access> = self.part.fields.iter().filter(|field| held(field)).map(|field| field.access).collect();
            let home = self.part.registers.iter().find(|home| (home.offset..home.offset + home.bytes).contains(&slice.byte));
            if fields.is_empty() { all.extend(home.map(|home| home.access)) } else { all.extend(fields) }
        }
        match all.first() {
            Some(first) if all.iter().all(|access| access == first) => *first,
            _ if all.contains(&Access::ClearOnRead) => Access::ClearOnRead,
            _ if all.iter().any(|access| !access.is_writable()) => Access::ReadOnly,
            _ if all.iter().any(|access| !access.is_readable()) => Access::WriteOnly,
            _ => Access::default(),
        }
    }

    /// The bits of a field that is put together from others: `"FAST QUIET"`, those that are named, most significant first.
    /// `None` where they are not all fields.
    fn bits_of_fields(&self, bits: &Text) -> Option<Layout> {
        let (form, names) = match bits.value.trim().split_once(' ') {
            Some((word, rest)) if Form::named(word).is_some() => (Form::named(word)?, rest),
            _ => (Form::Unsigned, bits.value.trim()),
        };
        let mut slices: Vec<Slice> = Vec::new();
        for name in names.split_whitespace() {
            if self.part.registers.iter().any(|register| register.name == name) {
                return None;
            }
            slices.extend(self.part.fields.get(self.part.field(name).ok()?)?.layout.slices.iter().copied());
        }
        let width = slices.iter().map(|slice| slice.width()).sum();
        (!slices.is_empty() && width <= 64 && form.accepts(width).is_ok()).then_some(Layout { form, slices })
    }

    /// A setting without a register: its bits are in the image after those of all registers.
    pub(super) fn chosen(&mut self, name: &At<String>, parameter: &tree::Parameter, values: &tree::Values, tables: &Tables<'_>) {
        let codes: Vec<i128> = self.rows(values, tables).iter().map(|row| row.code.value).collect();
        let (least, most) = (codes.iter().copied().min().unwrap_or(0), codes.iter().copied().max().unwrap_or(0));
        let form = if least < 0 { Form::Signed } else { Form::Unsigned };
        let fits = |width: &u32| {
            let (low, high) = form.bounds(*width);
            low <= least && most <= high
        };
        let width = (1..=32).find(fits).unwrap_or(32);
        let bytes = width.div_ceil(8) as usize;
        let from = self.part.reset.extend_image(bytes);
        let mut slices: Vec<Slice> = (from..from + bytes).map(Slice::whole).collect();
        if let Some(first) = slices.first_mut() {
            first.high = ((width - 1) % 8) as u8;
        }
        let layout = Layout { form, slices };
        let (columns, values) = self.table_of(&name.value, &layout, (name.span, "its name"), values, tables);
        self.add_field(Field {
            name: name.value.clone(),
            span: name.span,
            register: None,
            gather: Gather::new(&layout),
            layout,
            access: Access::ReadWrite,
            values,
            columns,
            computed: None,
            joined: false,
            means: parameter.means.as_ref().map(|text| text.value.clone()),
            source: parameter.source.as_ref().map(|text| text.value.clone()),
        });
    }

    /// The rows of a table of values, or of the field that has the same.
    fn rows<'t>(&mut self, values: &'t tree::Values, tables: &Tables<'t>) -> &'t [tree::Row] {
        match values {
            tree::Values::Rows(rows) => rows,
            tree::Values::As(other) => match tables.get(other.value.as_str()) {
                Some(rows) => rows,
                None => {
                    let problem =
                        Diagnostic::error("unknown-name", other.span, format!("no field `{}` has a table of values", other.value));
                    let problem = problem.label("the name of a field that lists its values");
                    self.report(problem.known(&other.value, "tables", tables.keys().copied().collect::<Vec<_>>()));
                    &[]
                }
            },
        }
    }

    /// The columns and values of a field.
    fn table_of(
        &mut self,
        name: &str,
        layout: &Layout,
        place: (Span, &str),
        values: &tree::Values,
        tables: &Tables<'_>,
    ) -> (List<ColumnId, ColumnName>, Vec<FieldValue>) {
        let rows = self.rows(values, tables);
        let mut columns: List<ColumnId, ColumnName> = List::new();
        for tree::Cell { name: column, whole, .. } in rows.iter().flat_map(|row| &row.columns) {
            match columns.iter_mut().find(|known| known.name == column.value) {
                Some(known) => known.whole &= whole,
                None => {
                    columns.push(ColumnName { name: column.value.clone(), whole: *whole });
                }
            }
        }
        let (low, high) = layout.form.bounds(layout.width());
        let mut values: Vec<FieldValue> = Vec::new();
        for row in rows {
            let code = layout.as_printed(row.code.value, self.part.source.slice(row.code.span));
            if !(low..=high).contains(&code) {
                self.report(
                    Diagnostic::error("out-of-range", row.code.span, format!("{} is not a code of `{name}`", row.code.value))
                        .label(format!("its {} bits hold {low} to {high}", layout.width()))
                        .also(place.0, place.1),
                );
            }
            if values.iter().any(|known| known.code == code) {
                self.report(
                    Diagnostic::error("code-taken", row.code.span, format!("the code {} of `{name}` has two rows", row.code.value))
                        .label("again here"),
                );
            }
            if let Some(name) = row.name.as_ref().filter(|name| values.iter().any(|known| known.name.as_ref() == Some(&name.value))) {
                let problem = Diagnostic::error("name-taken", name.span, format!("the value `{}` has two codes", name.value));
                self.report(problem.label("again here"));
            }
            let of_column =
                |column: &ColumnName| row.columns.iter().find(|cell| cell.name.value == column.name).map(|cell| cell.number.value);
            values.push(FieldValue {
                code,
                name: row.name.as_ref().map(|text| text.value.clone()),
                means: row.means.as_ref().map(|text| text.value.clone()),
                columns: columns.iter().map(of_column).collect::<Vec<_>>().into(),
            });
        }
        (columns, values)
    }

    fn add_field(&mut self, field: Field) {
        let twin = self.part.fields.iter().find(|known| known.name == field.name && known.register == field.register);
        if let Some(twin) = twin {
            let problem = Diagnostic::error("name-taken", field.span, format!("there are two fields `{}` here", field.name))
                .label("again here")
                .also(twin.span, "first here");
            self.report(problem);
        }
        let index = self.part.fields.push(field);
        // A field of several registers is a field of each.
        let field = self.part.fields.last().cloned();
        for register in self.part.registers.iter_mut() {
            if field.as_ref().is_some_and(|field| field.mask_in(register) != 0) {
                register.fields.push(index);
            }
        }
    }

    /// A name that is no field's, or that of several fields.
    pub(super) fn unknown_field(&mut self, name: &str, span: Span, unknown: &UnknownName) {
        let problem = if unknown.ways.is_empty() {
            let known: Vec<&str> = self.part.fields.iter().map(|field| field.name.as_str()).collect();
            let problem = Diagnostic::error("unknown-name", span, format!("there is no field `{name}`"));
            problem.label("not a field").known(name, "fields", known)
        } else {
            let problem = Diagnostic::error("ambiguous", span, format!("several registers have a field `{name}`"));
            problem.label("which of them?").help(format!("write \"{}\"", unknown.ways.join("\" or \"")))
        };
        self.report(problem);
    }

    /// Fields and their codes, each field once.
    pub(super) fn choices(&mut self, typed: &[tree::Named<Choice>]) -> Vec<(FieldId, i128)> {
        let mut found: Vec<(FieldId, i128, Span)> = Vec::new();
        for (name, choice) in typed {
            let Some((field, code)) = self.choice(name, choice) else { continue };
            match found.iter().find(|(known, ..)| *known == field) {
                Some((.., first)) => {
                    let problem = Diagnostic::error("name-taken", name.span, format!("the field `{}` is given twice", name.value));
                    self.report(problem.label("again here").also(*first, "first here"));
                }
                None => found.push((field, code, name.span)),
            }
        }
        found.into_iter().map(|(field, code, _)| (field, code)).collect()
    }

    /// A field by name and one of its codes, by number or name.
    pub(super) fn choice(&mut self, name: &At<String>, choice: &Choice) -> Option<(FieldId, i128)> {
        let index = match self.part.field(&name.value) {
            Ok(index) => index,
            Err(unknown) => {
                self.unknown_field(&name.value, name.span, &unknown);
                return None;
            }
        };
        let field = self.part.fields.get(index)?;
        let (low, high) = field.bounds();
        let (typed, code) = match choice {
            Choice::Code(code) => (self.part.source.slice(code.span).trim(), Some(code.value)),
            // As on the command line: a name, otherwise a code.
            Choice::Name(text) => (text.value.as_str(), parse_integer(&text.value)),
        };
        let code = code.map(|code| field.as_printed(code, typed)).filter(|code| (low..=high).contains(code));
        // A name goes before a code; a number that could be both is neither.
        let namesake = field.values.iter().find(|row| row.name.as_deref() == Some(typed));
        let problem = match (choice, namesake, code) {
            (Choice::Name(_), Some(row), _) => return Some((index, row.code)),
            (Choice::Code(code), Some(row), _) if row.code != code.value => {
                let text = format!("{typed} is a code of `{}`, and the name of its code {}", name.value, row.code);
                Diagnostic::error("ambiguous", code.span, text).label("which of the two?").help(match typed.starts_with("0x") {
                    true => format!("write \"{typed}\" for the name, or {} for the code", code.value),
                    false => format!("write \"{typed}\" for the name, or 0x{:X} for the code", code.value),
                })
            }
            (_, _, Some(code)) => return Some((index, code)),
            (Choice::Code(code), ..) => {
                Diagnostic::error("out-of-range", code.span, format!("{} is not a code of `{}`", code.value, name.value))
                    .label(format!("expected {low} to {high}"))
            }
            (Choice::Name(text), ..) => {
                Diagnostic::error("unknown-name", text.span, format!("`{}` has no value `{}`", name.value, text.value))
                    .label("not a value of it")
                    .known(&text.value, "values", field.values.iter().filter_map(|row| row.name.as_deref()).collect::<Vec<_>>())
            }
        };
        self.report(problem);
        None
    }
}

impl Field {
    /// Bits without a name.
    pub(super) fn bare(layout: Layout) -> Self {
        Field {
            name: String::new(),
            span: Span::default(),
            register: None,
            gather: Gather::new(&layout),
            layout,
            access: Access::Reserved,
            values: Vec::new(),
            columns: List::new(),
            computed: None,
            joined: false,
            means: None,
            source: None,
        }
    }
}
