//! Registers and fields.

use std::collections::BTreeMap;

use super::Resolver;
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::layout::{Layout, Slice, Sources, parse_layout};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::hex::parse_integer;
use crate::ground::list::{Id, List};
use crate::ground::text::{Span, Text};
use crate::model::ids::{ColumnId, FieldId, RegisterId};
use crate::model::registers::{Access, ColumnName, Field, FieldValue, Register, Reserved, Settings};
use crate::sheet::reader::At;
use crate::sheet::tree::{self, Choice};

/// Most registers and fields of a sheet, those of arrays counted.
const MAX_REGISTERS: usize = 1024;
const MAX_FIELDS: usize = 4096;

/// The tables of values, by the names of their fields.
type Tables<'t> = BTreeMap<&'t str, &'t [tree::Row]>;

fn tables(tree: &tree::Sheet) -> Tables<'_> {
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
    pub(super) fn registers(&mut self, tree: &tree::Sheet) {
        let fields =
            tree.fields.len() + tree.registers.iter().map(|(_, register)| register.fields.len() * register.copies()).sum::<usize>();
        let registers = tree.registers.iter().map(|(_, register)| register.copies()).sum::<usize>();
        if registers > MAX_REGISTERS || fields > MAX_FIELDS {
            let span = tree.registers.last().map(|(name, _)| name.span).unwrap_or_default();
            let text =
                format!("a sheet has at most {MAX_REGISTERS} registers and {MAX_FIELDS} fields, this one has {registers} and {fields}");
            self.report(Diagnostic::error("too-many", span, text).label("one too many"));
            return;
        }
        for (name, register) in &tree.registers {
            self.register(name, register);
        }
        let tables = tables(tree);
        let mut home = 0;
        for (_, register) in &tree.registers {
            let copies = register.copies();
            for copy in 0..copies {
                self.fields_of(RegisterId::new(home + copy), copy, register, &tables);
            }
            home += copies;
        }
        for (name, field) in &tree.fields {
            self.field(name.value.clone(), name.span, field, None, &tables);
        }
        self.part.reset_image = vec![0; self.image_length()];
        for (name, parameter) in &tree.parameters {
            if let tree::Supplied::Choice { values, .. } = &parameter.supplied {
                self.chosen(name, parameter, values, &tables);
            }
        }
        let mut settings = Settings::reset(&self.part);
        for register in &self.part.registers {
            settings.set_register(register, register.reset.unwrap_or(0));
        }
        for (name, parameter) in &tree.parameters {
            if let tree::Supplied::Choice { default, .. } = &parameter.supplied
                && let Some((field, code)) = self.choice(name, default)
                && let Some(field) = self.part.fields.get(field)
            {
                settings.set_field(field, code);
            }
        }
        self.part.reset_image = settings.into_image();
        let mut home = 0;
        for (_, register) in &tree.registers {
            let copies = register.copies();
            let bank = self.choices(&register.bank);
            let writable = self.choices(&register.writable);
            for copy in self.part.registers.iter_mut().skip(home).take(copies) {
                copy.bank.clone_from(&bank);
                copy.writable.clone_from(&writable);
            }
            home += copies;
        }
        self.clashes();
    }

    fn image_length(&self) -> usize {
        self.part.registers.iter().map(|register| register.bytes).sum()
    }

    fn register(&mut self, name: &At<String>, register: &tree::Register) {
        let bytes = (register.width.value / 8) as usize;
        let reset = register.reset.map(|at| at.value);
        if let Some(typed) = register.reset.filter(|at| bytes < 8 && at.value >> (bytes * 8) != 0) {
            self.report(
                Diagnostic::error("too-wide", typed.span, format!("{:#X} does not fit in {} bits", typed.value, bytes * 8))
                    .label(format!("at most {:#X}", u64::MAX >> (64 - bytes * 8))),
            );
        }
        if let Some(other) = self.part.registers.iter().find(|other| other.name == name.value) {
            let problem = Diagnostic::error("name-taken", name.span, format!("there are two registers `{}`", name.value))
                .label("again here")
                .also(other.span, "first here");
            self.report(problem);
        }
        let at = self.register_address(register);
        let copies = register.copies() as u32;
        let every = register.every.map_or(bytes as u32, |every| every.value);
        if let Some(expected) = (0..copies).find_map(|copy| self.does_not_fit(at.saturating_add(copy.saturating_mul(every)))) {
            let typed = register.at.value;
            let problem =
                Diagnostic::error("out-of-range", register.at.span, format!("0x{typed:02X} cannot be sent as a register's address"));
            self.report(problem.label(expected));
        }
        for copy in 0..copies {
            let offset = self.image_length();
            self.part.registers.push(Register {
                name: register.element_name(&name.value, copy as usize),
                span: name.span,
                at: at.saturating_add(copy.saturating_mul(every)),
                bytes,
                low_first: register.low_first,
                access: Access::from_name(register.access).unwrap_or_default(),
                reset,
                bank: Vec::new(),
                writable: Vec::new(),
                fields: Vec::new(),
                reserved: Vec::new(),
                means: register.means.as_ref().map(|text| text.value.clone()),
                offset,
            });
        }
    }

    /// What is expected of a register's address where one of the part's buses cannot send it.
    fn does_not_fit(&self, address: u32) -> Option<String> {
        self.part.buses.all().find_map(|bus| self.part.buses.wire(bus)?.fits(address).err())
    }

    /// The address on the wire; of a part that only speaks Modbus, that of a holding register.
    fn register_address(&mut self, register: &tree::Register) -> u32 {
        let typed = register.at.value;
        let numbering = self
            .part
            .buses
            .modbus
            .as_ref()
            .filter(|_| self.part.buses.i2c.is_none() && self.part.buses.spi.is_none())
            .map(|bus| bus.numbering);
        let problem = match numbering {
            Some(_) if !register.width.value.is_multiple_of(16) => {
                (register.width.span, "holding registers have words of 16 bits".to_owned())
            }
            Some(numbering) => match numbering.wire(typed, crate::bus::modbus::ModbusTable::Holding) {
                Ok(wire) => return u32::from(wire),
                Err(expected) => (register.at.span, format!("{typed} is not an address here: {expected}")),
            },
            None if self.is_modbus_number(register) => {
                let text = format!("{typed} looks like a Modbus number, and would be sent as {typed:#06X}");
                (register.at.span, text)
            }
            None if typed > 0xFFFF => (register.at.span, format!("a register's address is 0 to 65535, not {typed}")),
            None => return typed,
        };
        self.report(Diagnostic::error("out-of-range", problem.0, problem.1).label("another was expected"));
        0
    }

    /// Whether an address is typed as holding registers are printed, 40001 to 49999, where it is none: on another bus.
    fn is_modbus_number(&self, register: &tree::Register) -> bool {
        let typed = self.part.source.slice(register.at.span).replace('_', "");
        let others = self.part.buses.i2c.is_some() || self.part.buses.spi.is_some();
        others && typed.len() == 5 && typed.starts_with('4') && typed.bytes().all(|digit| digit.is_ascii_digit())
    }

    fn fields_of(&mut self, index: RegisterId, copy: usize, register: &tree::Register, tables: &Tables<'_>) {
        for (name, field) in &register.fields {
            let full = if register.copies() > 1 { register.element_name(&name.value, copy) } else { name.value.clone() };
            self.field(full, name.span, field, Some(index), tables);
            if let Some(elements) = register.elements.as_ref().filter(|elements| elements.len() > 1) {
                self.arrays.entry(name.value.clone()).or_insert_with(|| elements.clone());
            }
        }
        for (bits, write) in &register.reserved {
            let Some(layout) = self.register_bits(bits, Some(index)) else { continue };
            let gather = Field::bare(layout);
            let Some(register) = self.part.registers.get_mut(index) else { continue };
            let mask = gather.mask_in(register);
            let shift = mask.trailing_zeros();
            let fits = |at: &At<u64>| at.value.checked_shl(shift).is_some_and(|placed| placed >> shift == at.value && placed & !mask == 0);
            if let Some(wide) = write.filter(|write| !fits(write)) {
                let most = mask.checked_shr(shift).unwrap_or(0);
                let problem = Diagnostic::error("too-wide", wide.span, format!("{:#X} does not fit in these reserved bits", wide.value));
                let problem = problem.label(format!("at most {most:#X}")).also(bits.span, "the bits");
                self.diagnostics.push(problem);
                continue;
            }
            let write = write.map(|write| write.value.checked_shl(shift).unwrap_or(0) & mask);
            register.reserved.push(Reserved { mask, write, span: bits.span });
        }
    }

    /// Bits of registers, as a layout of the image of them all.
    fn register_bits(&mut self, bits: &Text, home: Option<RegisterId>) -> Option<Layout> {
        let known: Vec<(String, usize, usize, bool)> =
            self.part.registers.iter().map(|register| (register.name.clone(), register.offset, register.bytes, false)).collect();
        let home = home.and_then(|index| self.part.registers.get(index)).map_or("", |register| register.name.as_str()).to_owned();
        let sources = Sources { length: 0, registers: &known, home: &home };
        self.take(parse_layout(bits, &sources)).map(|typed| typed.layout)
    }

    fn field(&mut self, name: String, span: Span, field: &tree::Field, home: Option<RegisterId>, tables: &Tables<'_>) {
        let of_fields = if home.is_none() { self.bits_of_fields(&field.bits) } else { None };
        let joined = of_fields.is_some();
        let Some(layout) = of_fields.or_else(|| self.register_bits(&field.bits, home)) else { return };
        let (columns, values) = self.table_of(&name, &layout, (field.bits.span, "the bits"), &field.values, tables);
        let of_register = home.and_then(|home| self.part.registers.get(home)).map(|register| register.access);
        let access = Access::from_name(field.access).or(of_register).unwrap_or_default();
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
        });
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

    /// A setting that no register holds: its bits stand in the image behind those of all registers.
    fn chosen(&mut self, name: &At<String>, parameter: &tree::Parameter, values: &tree::Values, tables: &Tables<'_>) {
        let codes: Vec<i128> = self.rows(values, tables).iter().map(|row| row.code.value).collect();
        let (least, most) = (codes.iter().copied().min().unwrap_or(0), codes.iter().copied().max().unwrap_or(0));
        let form = if least < 0 { Form::Signed } else { Form::Unsigned };
        let fits = |width: &u32| {
            let (low, high) = form.bounds(*width);
            low <= least && most <= high
        };
        let width = (1..=32).find(fits).unwrap_or(32);
        let from = self.part.reset_image.len();
        let bytes = width.div_ceil(8) as usize;
        let mut slices: Vec<Slice> = (from..from + bytes).map(Slice::whole).collect();
        if let Some(first) = slices.first_mut() {
            first.high = ((width - 1) % 8) as u8;
        }
        self.part.reset_image.resize(from + bytes, 0);
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
        for (column, _, whole) in rows.iter().flat_map(|row| &row.columns) {
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
                |column: &ColumnName| row.columns.iter().find(|(name, ..)| name.value == column.name).map(|(_, number, _)| *number);
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
        let Ok(index) = self.part.field(&name.value) else {
            let problem = Diagnostic::error("unknown-name", name.span, format!("there is no field `{}`", name.value)).label("not a field");
            let known: Vec<&str> = self.part.fields.iter().map(|field| field.name.as_str()).collect();
            let problem = problem.known(&name.value, "fields", known);
            self.report(problem);
            return None;
        };
        let field = self.part.fields.get(index)?;
        let (low, high) = field.bounds();
        let typed = if let Choice::Code(code) = choice { self.part.source.slice(code.span).trim() } else { "" };
        // A name goes before a code; a number that could be both is neither.
        let namesake = field.values.iter().find(|row| row.name.as_deref() == Some(typed));
        let problem = match choice {
            Choice::Code(code) if namesake.is_some_and(|row| row.code != code.value) => {
                let other = namesake.map_or(0, |row| row.code);
                Diagnostic::error(
                    "ambiguous",
                    code.span,
                    format!("{typed} is a code of `{}`, and the name of its code {other}", name.value),
                )
                .label("which of the two?")
                .help(format!("write \"{typed}\" for the name, or 0x{:X} for the code", code.value))
            }
            Choice::Code(code) if (low..=high).contains(&field.as_printed(code.value, typed)) => {
                return Some((index, field.as_printed(code.value, typed)));
            }
            Choice::Code(code) => Diagnostic::error("out-of-range", code.span, format!("{} is not a code of `{}`", code.value, name.value))
                .label(format!("expected {low} to {high}")),
            Choice::Name(text) => match field.values.iter().find(|row| row.name.as_deref() == Some(text.value.as_str())) {
                Some(row) => return Some((index, row.code)),
                // As on the command line: what is no name may be a code.
                None if parse_integer(&text.value).is_some_and(|code| (low..=high).contains(&field.as_printed(code, &text.value))) => {
                    let code = parse_integer(&text.value).unwrap_or(0);
                    return Some((index, field.as_printed(code, &text.value)));
                }
                None => Diagnostic::error("unknown-name", text.span, format!("`{}` has no value `{}`", name.value, text.value))
                    .label("not a value of it")
                    .known(&text.value, "values", field.values.iter().filter_map(|row| row.name.as_deref()).collect::<Vec<_>>()),
            },
        };
        self.report(problem);
        None
    }

    /// Fields that share a bit, with both places.
    fn clashes(&mut self) {
        let mut found = Vec::new();
        for register in &self.part.registers {
            let mut taken: Vec<(u64, Span, String)> = Vec::new();
            let reserved = register.reserved.iter().map(|r| (r.mask, r.span, "reserved bits".to_owned()));
            // One that is put together from others shares their bits.
            let fields = register.fields.iter().filter_map(|index| self.part.fields.get(*index)).filter(|field| !field.joined);
            for (mask, span, name) in fields.map(|field| (field.mask_in(register), field.span, format!("`{}`", field.name))).chain(reserved)
            {
                if let Some((_, other, whose)) = taken.iter().find(|(other, ..)| other & mask != 0) {
                    found.push(
                        Diagnostic::error("fields-overlap", span, format!("{name} and {whose} share bits of `{}`", register.name))
                            .label("takes bits that are taken")
                            .also(*other, "taken here"),
                    );
                }
                taken.push((mask, span, name));
            }
        }
        found.dedup_by_key(|d| d.span);
        self.diagnostics.extend(found);
    }
}

impl tree::Register {
    /// How many there are of it.
    fn copies(&self) -> usize {
        self.elements.as_ref().map_or(1, Vec::len)
    }

    /// A name with what stands behind it for one of them.
    fn element_name(&self, name: &str, copy: usize) -> String {
        match self.elements.as_ref().and_then(|elements| elements.get(copy)) {
            Some(element) => format!("{name}_{element}"),
            None => name.to_owned(),
        }
    }
}

impl Field {
    /// Bits without a name.
    fn bare(layout: Layout) -> Self {
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
        }
    }
}
