//! Registers and fields.

use super::Resolver;
use super::fields::{Tables, tables};
use crate::bus::Bus;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::Id;
use crate::ground::text::Span;
use crate::model::ids::RegisterId;
use crate::model::registers::{Access, Field, Register, Reserved};
use crate::model::state::State;
use crate::sheet::reader::At;
use crate::sheet::tree;

/// Most registers and fields of a sheet, those of arrays counted.
const MAX_REGISTERS: usize = 1024;
const MAX_FIELDS: usize = 4096;

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
        let length = self.image_length();
        self.part.reset = State::empty();
        self.part.reset.extend_image(length);
        for (name, parameter) in &tree.parameters {
            if let tree::Supplied::Choice { values, .. } = &parameter.supplied {
                self.chosen(name, parameter, values, &tables);
            }
        }
        let mut reset = std::mem::replace(&mut self.part.reset, State::empty());
        for (register, value) in self.part.registers.iter().filter_map(|register| Some((register, register.reset?))) {
            reset.set_register(register, value);
        }
        for (name, parameter) in &tree.parameters {
            if let tree::Supplied::Choice { default, .. } = &parameter.supplied
                && let Some((field, code)) = self.choice(name, default)
                && let Some(field) = self.part.fields.get(field)
            {
                reset.set_field(field, code);
            }
        }
        let by_part = self.part.fields.iter().filter(|field| !field.joined && !field.access.is_writable());
        self.part.reset = reset.into_reset(by_part);
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
        // Addresses over Modbus are those of words.
        let wide = if self.part.buses.all().eq([Bus::Modbus]) { bytes.div_ceil(2) } else { bytes };
        let every = register.every.map_or(wide as u32, |every| every.value);
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
                low_first: register.low_first(),
                access: Access::from_name(register.access).unwrap_or_default(),
                reset,
                bank: Vec::new(),
                writable: Vec::new(),
                fields: Vec::new(),
                reserved: Vec::new(),
                means: register.means.as_ref().map(|text| text.value.clone()),
                source: register.source.as_ref().map(|text| text.value.clone()),
                offset,
            });
        }
    }

    /// Expected range for a register address that a bus of the part cannot send.
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

    /// True for an address in the notation of holding registers, 40001 to 49999, on another bus.
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

    /// Name of an element with its suffix.
    fn element_name(&self, name: &str, copy: usize) -> String {
        match self.elements.as_ref().and_then(|elements| elements.get(copy)) {
            Some(element) => format!("{name}_{element}"),
            None => name.to_owned(),
        }
    }
}
