//! Registers and fields.

use super::Resolver;
use crate::bits::gather::Gather;
use crate::bits::layout::{Layout, Sources, parse_layout};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::{Id, List};
use crate::ground::text::Span;
use crate::model::ids::{ColumnId, FieldId, RegisterId};
use crate::model::registers::{Access, ColumnName, Field, FieldValue, Register, Reserved, Settings};
use crate::sheet::reader::At;
use crate::sheet::tree::{self, Choice};

/// Most registers and fields of a sheet, those of arrays counted.
const MAX_REGISTERS: usize = 1024;
const MAX_FIELDS: usize = 4096;

impl Resolver {
    pub(super) fn registers(&mut self, tree: &tree::Sheet) {
        let fields = tree.fields.len()
            + tree.registers.iter().map(|(_, register)| register.fields.len() * register.count.map_or(1, |c| c.value)).sum::<usize>();
        let registers = tree.registers.iter().map(|(_, register)| register.count.map_or(1, |c| c.value)).sum::<usize>();
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
        let mut home = 0;
        for (_, register) in &tree.registers {
            let copies = register.count.map_or(1, |count| count.value);
            for copy in 0..copies {
                self.fields_of(RegisterId::new(home + copy), copy, copies, register);
            }
            home += copies;
        }
        for (name, field) in &tree.fields {
            self.field(name.value.clone(), name.span, field, None);
        }
        self.part.reset_image = vec![0; self.image_length()];
        let mut settings = Settings::reset(&self.part);
        for register in &self.part.registers {
            settings.set_register(register, register.reset.unwrap_or(0));
        }
        self.part.reset_image = settings.into_image();
        let mut home = 0;
        for (_, register) in &tree.registers {
            let copies = register.count.map_or(1, |count| count.value);
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
        let copies = register.count.map_or(1, |count| count.value as u32);
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
                name: if register.count.is_some() { format!("{}_{copy}", name.value) } else { name.value.clone() },
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

    fn fields_of(&mut self, index: RegisterId, copy: usize, copies: usize, register: &tree::Register) {
        for (name, field) in &register.fields {
            let full = if copies > 1 { format!("{}_{copy}", name.value) } else { name.value.clone() };
            self.field(full, name.span, field, Some(index));
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
    fn register_bits(&mut self, bits: &crate::ground::text::Text, home: Option<RegisterId>) -> Option<Layout> {
        let known: Vec<(String, usize, usize, bool)> =
            self.part.registers.iter().map(|register| (register.name.clone(), register.offset, register.bytes, false)).collect();
        let home = home.and_then(|index| self.part.registers.get(index)).map_or("", |register| register.name.as_str()).to_owned();
        let sources = Sources { length: 0, registers: &known, home: &home };
        self.take(parse_layout(bits, &sources)).map(|typed| typed.layout)
    }

    fn field(&mut self, name: String, span: Span, field: &tree::Field, home: Option<RegisterId>) {
        let Some(layout) = self.register_bits(&field.bits, home) else { return };
        let mut columns: List<ColumnId, ColumnName> = List::new();
        for (column, _, whole) in field.values.iter().flat_map(|row| &row.columns) {
            match columns.iter_mut().find(|known| known.name == column.value) {
                Some(known) => known.whole &= whole,
                None => {
                    columns.push(ColumnName { name: column.value.clone(), whole: *whole });
                }
            }
        }
        let (low, high) = layout.form.bounds(layout.width());
        let mut values: Vec<FieldValue> = Vec::new();
        for row in &field.values {
            if !(low..=high).contains(&row.code.value) {
                self.report(
                    Diagnostic::error("out-of-range", row.code.span, format!("{} is not a code of `{name}`", row.code.value))
                        .label(format!("its {} bits hold {low} to {high}", layout.width()))
                        .also(field.bits.span, "the bits"),
                );
            }
            if values.iter().any(|known| known.code == row.code.value) {
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
                code: row.code.value,
                name: row.name.as_ref().map(|text| text.value.clone()),
                means: row.means.as_ref().map(|text| text.value.clone()),
                columns: columns.iter().map(of_column).collect::<Vec<_>>().into(),
            });
        }
        let of_register = home.and_then(|home| self.part.registers.get(home)).map(|register| register.access);
        let twin = self.part.fields.iter().find(|known| known.name == name && known.register == home);
        if let Some(twin) = twin {
            let problem = Diagnostic::error("name-taken", span, format!("there are two fields `{name}` here"))
                .label("again here")
                .also(twin.span, "first here");
            self.report(problem);
        }
        let access = Access::from_name(field.access).or(of_register).unwrap_or_default();
        let means = field.means.as_ref().map(|text| text.value.clone());
        let index = self.part.fields.push(Field {
            name,
            span,
            register: home,
            gather: Gather::new(&layout),
            layout,
            access,
            values,
            columns,
            computed: None,
            means,
        });
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
    fn choice(&mut self, name: &At<String>, choice: &Choice) -> Option<(FieldId, i128)> {
        let Ok(index) = self.part.field(&name.value) else {
            let problem = Diagnostic::error("unknown-name", name.span, format!("there is no field `{}`", name.value)).label("not a field");
            let known: Vec<&str> = self.part.fields.iter().map(|field| field.name.as_str()).collect();
            let problem = problem.known(&name.value, "fields", known);
            self.report(problem);
            return None;
        };
        let field = self.part.fields.get(index)?;
        let (low, high) = field.bounds();
        let problem = match choice {
            Choice::Code(code) if (low..=high).contains(&code.value) => return Some((index, code.value)),
            Choice::Code(code) => Diagnostic::error("out-of-range", code.span, format!("{} is not a code of `{}`", code.value, name.value))
                .label(format!("expected {low} to {high}")),
            Choice::Name(text) => match field.values.iter().find(|row| row.name.as_deref() == Some(text.value.as_str())) {
                Some(row) => return Some((index, row.code)),
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
            let fields = register.fields.iter().filter_map(|index| self.part.fields.get(*index));
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
            means: None,
        }
    }
}
