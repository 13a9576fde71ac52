//! Buses, registers, fields and settings that no register holds.

use super::formulas::Input;
use super::names::{COLUMNS, VALUES};
use super::{Bus, FieldInfo, Gen};
use crate::toml::{Table, Value};

impl Gen<'_, '_> {
    pub(super) fn buses(&mut self) {
        let c = &mut *self.c;
        self.bus = *c.pick(&[Bus::I2c, Bus::I2c, Bus::Spi, Bus::Modbus, Bus::I2cAndSpi, Bus::None]);
        let (i2c, spi) = (matches!(self.bus, Bus::I2c | Bus::I2cAndSpi), matches!(self.bus, Bus::Spi | Bus::I2cAndSpi));
        self.moves_on = !c.chance(15);
        // The same bit on both buses: a register address must fit either.
        let increment = if self.moves_on && c.chance(20) { 0x40u64 } else { 0 };
        if i2c {
            let address = c.within(0x08, 0x70) as u64;
            let table = self.root.table("i2c");
            if c.chance(10) {
                table.put("address", format!("0x{:02X} 8-bit", address << 1));
            } else {
                table.put("address", Value::Hex(address));
            }
            if c.chance(15) {
                table.put(
                    "strap",
                    Table::new().with("ADR", Table::new().with("low", Value::Hex(address)).with("high", Value::Hex(address + 1))),
                );
            }
            if c.chance(20) {
                table.put("pointer", 16i128);
            }
            if c.chance(20) {
                table.put("restart", false);
            }
            if c.chance(15) {
                table.put("pec", true);
            }
            if c.chance(20) {
                table.put("max_khz", 400i128);
            }
            if increment != 0 {
                table.put("increment", Value::Hex(increment));
            }
            if !self.moves_on {
                table.put("auto_increment", false);
            }
        }
        if spi {
            let table = self.root.table("spi");
            table.put("mode", c.within(0, 3));
            if c.chance(15) {
                table.put("bit_order", "lsb first");
            }
            let wide = c.chance(15);
            if wide {
                table.put("pointer", 16i128);
            }
            let top = if wide { 0x8000 } else { 0x80 };
            match c.below(3) {
                0 => table.put("read", Value::Hex(top)),
                1 => table.put("write", Value::Hex(top)),
                _ => {
                    table.put("read", Value::Hex(1));
                    table.put("shift", 1i128);
                }
            }
            if increment != 0 && table.get("shift").is_none() {
                table.put("increment", Value::Hex(increment));
            }
            if !self.moves_on {
                table.put("auto_increment", false);
            }
            if c.chance(15) {
                table.put("dummy", c.within(1, 2));
            }
            if c.chance(10) {
                table.put("late", true);
            }
            if c.chance(15) {
                table.put("max_khz", 2000i128);
            }
        }
        if self.bus == Bus::Modbus {
            let table = self.root.table("modbus");
            table.put("numbering", *c.pick(&["from 0", "40001", "from 1", "400001"]));
            if c.chance(60) {
                table.put("unit", c.within(1, 247));
            }
            if c.chance(40) {
                table.put("baud", *c.pick(&[9600i128, 19200, 115_200]));
                table.put("parity", *c.pick(&["even", "none", "odd"]));
                table.put("stop", c.within(1, 2));
            }
        }
    }

    /// The number of a Modbus address as the sheet prints it.
    pub(super) fn printed(&self, wire: u32, table: &str) -> u32 {
        let Some(Value::Table(modbus)) = self.root.get("modbus") else { return wire };
        let digit = match table {
            "holding" => 4,
            "input" => 3,
            "discrete" => 1,
            _ => 0,
        };
        match modbus.get("numbering") {
            Some(Value::Text(how)) if how == "from 0" => wire,
            Some(Value::Text(how)) if how == "from 1" => wire + 1,
            Some(Value::Text(how)) if how == "40001" => digit * 10_000 + wire + 1,
            _ => digit * 100_000 + wire + 1,
        }
    }

    pub(super) fn registers(&mut self) {
        let count = self.c.below(6);
        let mut at = self.c.within(0, 5) as u32;
        for _ in 0..count {
            at = self.register(at);
            if at > 0x30 {
                break;
            }
        }
        self.joined_fields();
    }

    fn register(&mut self, at: u32) -> u32 {
        let name = self.names.fresh(self.c);
        let words = self.bus == Bus::Modbus;
        let width: i128 = if words { *self.c.pick(&[16, 16, 32]) } else { *self.c.pick(&[8, 8, 8, 16, 24, 32, 64]) };
        let mut table = Table::new();
        let typed = if words { Value::Int(i128::from(self.printed(at, "holding"))) } else { Value::Hex(u64::from(at)) };
        table.put("at", typed);
        if width != 8 {
            table.put("width", width);
        }
        if width > 8 && self.c.chance(25) {
            table.put("order", "low first");
        }
        let access = if self.c.chance(35) { "read-only" } else { "read-write" };
        let access = if self.c.chance(5) { "write-only" } else { access };
        if access != "read-write" {
            table.put("access", access);
        }
        if self.c.chance(70) {
            table.put("reset", Value::Hex(self.c.bits(width as u32)));
        }
        self.conditions(&mut table);
        let step = if words { (width / 16) as u32 } else { (width / 8) as u32 };
        let elements = self.array_of_registers(&mut table, step);
        let fields = self.fields_of(&name, width as u32, access, &elements);
        if !fields.0.is_empty() {
            table.put("field", fields);
        }
        let reserved = std::mem::take(&mut self.reserved);
        match reserved.len() {
            0 => {}
            1 => table.put("reserved", reserved.into_iter().next().unwrap_or_default()),
            _ => table.put("reserved", reserved),
        }
        self.notes(&mut table, true);
        self.root.table("register").put(&name, table);
        let copies = elements.as_ref().map_or(1, Vec::len) as u32;
        if elements.is_none() {
            self.registers.push((name, at, width as u32, access));
        } else {
            for element in elements.iter().flatten() {
                self.element_registers.push((format!("{name}_{element}"), access));
            }
        }
        let gap = if self.c.chance(20) { self.c.within(1, 3) as u32 } else { 0 };
        at + step * copies + gap
    }

    /// A bank, or what must hold while it is written.
    fn conditions(&mut self, table: &mut Table) {
        let free = |field: &&FieldInfo| field.plain && field.writable && field.readable && !field.codes.is_empty() && !field.conditional;
        let candidates: Vec<FieldInfo> = self.fields.iter().filter(free).cloned().collect();
        self.conditional = false;
        for (key, chance) in [("bank", 10), ("while", 12)] {
            if self.c.chance(chance)
                && let Some(field) = self.c.any(&candidates).cloned()
            {
                let code = *self.c.pick(&field.codes);
                self.named.push(field.name.clone());
                table.put(key, Table::new().with(&field.name, field.typed(code)));
                self.conditional = true;
            }
        }
    }

    fn array_of_registers(&mut self, table: &mut Table, step: u32) -> Option<Vec<String>> {
        if !self.c.chance(12) {
            return None;
        }
        let elements: Vec<String> = if self.c.chance(50) {
            table.put("count", 2i128);
            vec!["0".into(), "1".into()]
        } else {
            table.put("names", vec!["fore", "main"]);
            vec!["fore".into(), "main".into()]
        };
        if self.c.chance(50) || step > 1 {
            table.put("every", i128::from(step));
        }
        Some(elements)
    }

    /// Fields that share out the bits of a register.
    fn fields_of(&mut self, register: &str, width: u32, access: &str, elements: &Option<Vec<String>>) -> Table {
        let mut table = Table::new();
        let mut top = width;
        while top > 0 && table.0.len() < 4 {
            let most = top.min(if self.c.chance(30) { 32 } else { 8 });
            let run = self.c.within(1, i128::from(most)) as u32;
            let (high, low) = (top - 1, top - run);
            top = low;
            let bits = if high == low { format!("[{high}]") } else { format!("[{high}:{low}]") };
            match self.c.below(8) {
                0 => {
                    let mut reserved = Table::new().with("bits", bits);
                    if self.c.chance(50) {
                        let value = self.c.bits(run);
                        reserved.put("write", Value::Hex(value));
                    }
                    self.reserved.push(reserved);
                }
                1 => {}
                2 if run >= 2 && run.is_multiple_of(2) && elements.is_none() => {
                    self.array_of_fields(register, &mut table, (high, low), access);
                }
                _ => {
                    let (name, field) = self.field(register, &bits, run, access, elements);
                    table.put(&name, field);
                }
            }
        }
        table
    }

    fn array_of_fields(&mut self, register: &str, table: &mut Table, (high, low): (u32, u32), access: &str) {
        let name = self.names.fresh(self.c);
        let half = (high - low).div_ceil(2);
        let one = |high: u32, low: u32| if high == low { format!("[{high}]") } else { format!("[{high}:{low}]") };
        let mut field = Table::new().with("bits", vec![one(high, high - half + 1), one(high - half, low)]);
        let elements = if self.c.chance(50) {
            field.put("names", vec!["port", "lee"]);
            ["port", "lee"]
        } else {
            ["0", "1"]
        };
        table.put(&name, field);
        let writable = access != "read-only";
        for element in elements {
            let full = format!("{name}_{element}");
            let info = FieldInfo {
                plain: true,
                writable,
                readable: access != "write-only",
                conditional: self.conditional,
                ..FieldInfo::new(&full, register, half, (0, (1i128 << half) - 1))
            };
            self.fields.push(info);
        }
        self.arrays.push((name, elements.len()));
    }

    fn field(&mut self, register: &str, bits: &str, run: u32, access: &str, elements: &Option<Vec<String>>) -> (String, Table) {
        let twin = self.c.chance(4) && elements.is_none();
        let twin = if twin {
            self.c
                .any(&self.fields)
                .filter(|field| field.register != register && field.plain && !self.named.contains(&field.name))
                .map(|f| f.name.clone())
        } else {
            None
        };
        let is_twin = twin.is_some();
        let name = twin.unwrap_or_else(|| self.names.fresh(self.c));
        let form = match self.c.below(12) {
            0 | 1 if run >= 2 => "signed ",
            2 if run >= 2 => *self.c.pick(&["sign-magnitude ", "ones-complement ", "offset-binary "]),
            3 if run.is_multiple_of(4) && run <= 32 => "bcd ",
            4 if matches!(run, 16 | 32) => "float ",
            _ => "",
        };
        let mut table = Table::new().with("bits", format!("{form}{bits}"));
        let bounds = bounds(form.trim(), run);
        let mut info = FieldInfo { conditional: self.conditional, ..FieldInfo::new(&name, register, run, bounds) };
        info.real = form == "float ";
        info.plain = elements.is_none() && form.is_empty() && !is_twin;
        if run <= 4 && form.is_empty() && self.c.chance(55) {
            let values = self.values(&mut info);
            table.put("values", values);
        } else if run <= 4 && form.is_empty() && self.c.chance(8) {
            let same: Vec<&FieldInfo> = self.fields.iter().filter(|f| f.own_table && f.width <= run && f.plain).collect();
            if let Some(other) = self.c.any(&same) {
                table.put("values", other.name.clone());
                self.named.push(other.name.clone());
                (info.codes, info.columns, info.value_names) = (other.codes.clone(), other.columns.clone(), other.value_names.clone());
            }
        }
        let mut own = access;
        if access == "read-write" && self.c.chance(20) {
            own = *self.c.pick(&["read-only", "self-clearing", "write-1-to-clear", "clear-on-read", "write-only", "reserved"]);
            table.put("access", own);
        } else if access == "read-only" && self.c.chance(5) {
            own = "clear-on-read";
            table.put("access", own);
        } else if access == "read-write" && name.len().is_multiple_of(7) {
            own = "set-until-reset";
            table.put("access", own);
        }
        info.writable = matches!(own, "read-write" | "write-only" | "self-clearing" | "write-1-to-clear" | "set-until-reset");
        info.readable = !matches!(own, "write-only" | "reserved");
        info.action = matches!(own, "self-clearing" | "write-1-to-clear");
        info.plain &= own == "read-write" || own == "read-only";
        self.notes(&mut table, true);
        match elements {
            None => {
                if is_twin {
                    info.text = format!("{register}.{name}");
                    for other in self.fields.iter_mut().filter(|other| other.name == name) {
                        other.text = format!("{}.{name}", other.register);
                        other.plain = false;
                    }
                }
                self.fields.push(info);
            }
            Some(elements) => {
                for element in elements {
                    let full = format!("{name}_{element}");
                    self.fields.push(FieldInfo {
                        name: full.clone(),
                        text: full,
                        register: format!("{register}_{element}"),
                        own_table: false,
                        ..info.clone()
                    });
                }
                self.arrays.push((name.clone(), elements.len()));
            }
        }
        (name, table)
    }

    /// A table of values, with names and columns.
    pub(super) fn values(&mut self, info: &mut FieldInfo) -> Vec<Table> {
        let (low, high) = info.bounds;
        let count = self.c.within(1, (high - low + 1).min(5)) as usize;
        let mut codes: Vec<i128> = Vec::new();
        for _ in 0..count {
            let code = self.c.within(low, high);
            if !codes.contains(&code) {
                codes.push(code);
            }
        }
        let columns: Vec<&str> = COLUMNS.iter().copied().filter(|column| *column != "baud" && self.c.chance(25)).collect();
        let whole: Vec<bool> = columns.iter().map(|column| *column == "shift" || self.c.chance(25)).collect();
        let start = self.c.below(VALUES.len());
        let mut rows = Vec::new();
        for (at, code) in codes.iter().enumerate() {
            let mut row = Table::new().with("code", *code);
            if self.c.chance(75) {
                let name = VALUES[(start + at) % VALUES.len()];
                row.put("name", name);
                info.value_names.push((name.to_owned(), *code));
            }
            if self.c.chance(15) {
                row.put("means", "from the datasheet");
            }
            for (column, whole) in columns.iter().zip(&whole) {
                if self.c.chance(10) {
                    continue;
                }
                let number = if *column == "shift" { self.c.within(0, 8) } else { self.c.within(1, 200) };
                row.put(column, if *whole { Value::Int(number) } else { Value::Real(number as f64 * 0.25) });
            }
            rows.push(row);
        }
        let present = |column: &&str| rows.iter().any(|row| row.get(column).is_some());
        info.columns = columns
            .iter()
            .zip(&whole)
            .filter(|(column, _)| present(column))
            .map(|(column, whole)| ((*column).to_owned(), *whole))
            .collect();
        info.codes = codes;
        info.own_table = true;
        rows
    }

    /// Fields that are put together from others, and one of several registers.
    fn joined_fields(&mut self) {
        let plain: Vec<FieldInfo> = self.fields.iter().filter(|field| field.plain && !field.real).cloned().collect();
        if plain.len() >= 2 && self.c.chance(15) {
            let (one, two) = (self.c.pick(&plain).clone(), self.c.pick(&plain).clone());
            if one.name != two.name && one.width + two.width <= 16 {
                let name = self.names.fresh(self.c);
                let width = one.width + two.width;
                self.root.table("field").put(&name, Table::new().with("bits", format!("{} {}", one.name, two.name)));
                let mut info = FieldInfo::new(&name, "", width, (0, (1i128 << width) - 1));
                info.writable = one.writable && two.writable;
                if !info.writable {
                    self.root.table("field").table(&name).put("access", "read-only");
                }
                info.conditional = true;
                info.parts = vec![one.register, two.register];
                self.fields.push(info);
            }
        }
        let wide: Vec<(String, u32, u32, &str)> = self.registers.clone();
        if wide.len() >= 2 && self.c.chance(12) {
            // A register that is called as a form of numbers cannot begin a layout.
            let form = |name: &str| matches!(name, "bcd" | "float" | "text" | "signed" | "unsigned");
            let bare = |name: &str| !form(name) && !self.fields.iter().any(|field| field.register == name);
            if let Some((register, ..)) = wide.iter().find(|(name, ..)| bare(name) && !self.has_reserved(name)) {
                let name = self.names.fresh(self.c);
                let access = wide.iter().find(|(known, ..)| known == register).map_or("read-write", |(.., access)| access);
                let width = wide.iter().find(|(known, ..)| known == register).map_or(8, |(_, _, width, _)| *width).min(32);
                let bits = if width == 8 { register.clone() } else { format!("{register}[{}:0]", width - 1) };
                self.root.table("field").put(&name, Table::new().with("bits", bits).with("access", access));
                let mut info = FieldInfo::new(&name, register, width, (0, (1i128 << width) - 1));
                (info.writable, info.readable) = (access != "read-only", access != "write-only");
                info.conditional = true;
                self.fields.push(info);
            }
        }
    }

    fn has_reserved(&self, register: &str) -> bool {
        let Some(Value::Table(all)) = self.root.get("register") else { return false };
        matches!(all.get(register), Some(Value::Table(table)) if table.get("reserved").is_some())
    }

    pub(super) fn parameters(&mut self) {
        for _ in 0..self.c.below(3) {
            let name = self.names.fresh(self.c);
            let mut table = Table::new();
            if self.c.chance(40) {
                let mut info = FieldInfo::new(&name, "", 4, (0, 15));
                let values = self.values(&mut info);
                let code = *self.c.pick(&info.codes);
                table.put("default", info.typed(code));
                table.put("values", values);
                (info.writable, info.unstored, info.readable) = (true, true, true);
                let same: Vec<&FieldInfo> = self.fields.iter().filter(|f| f.own_table && f.plain && !f.codes.is_empty()).collect();
                if self.c.chance(10)
                    && let Some(other) = self.c.any(&same)
                {
                    table.put("values", other.name.clone());
                    table.put("default", other.typed(other.codes[0]));
                    (info.codes, info.columns, info.value_names) = (other.codes.clone(), other.columns.clone(), other.value_names.clone());
                }
                self.fields.push(info);
            } else {
                let (low, high) = *self.c.pick(&[(1.0, 10.0), (0.5, 40.0), (-20.0, 20.0)]);
                table.put("default", *self.c.pick(&[2.0, 5.5, 3.0]));
                if self.c.chance(80) {
                    table.put("range", vec![low, high]);
                }
                if self.c.chance(60) {
                    table.put("unit", *self.c.pick(&["m", "Ω", "hPa", "1"]));
                }
                self.numbers.push((name.clone(), (low, high)));
                self.held.push(Input::real(name.clone()));
            }
            self.notes(&mut table, true);
            self.root.table("parameter").put(&name, table);
        }
        self.computed();
    }

    /// A field whose code follows from a parameter.
    fn computed(&mut self) {
        let Some((parameter, (_, high))) = self.c.any(&self.numbers).cloned() else { return };
        if !self.c.chance(25) {
            return;
        }
        let fits = |field: &FieldInfo| {
            field.plain
                && field.writable
                && field.codes.is_empty()
                && !field.real
                && field.width >= 6
                && !field.register.is_empty()
                && !field.conditional
        };
        let Some(at) = self.fields.iter().position(fits) else { return };
        let register = self.fields[at].register.clone();
        let Some(Value::Table(all)) = self.root.get("register") else { return };
        let Some(Value::Table(table)) = all.get(&register) else { return };
        let name = self.fields[at].name.clone();
        let inside = matches!(table.get("field"), Some(Value::Table(fields)) if fields.get(&name).is_some());
        if !inside {
            return;
        }
        let scale = if high > 20.0 { "1" } else { "3" };
        let formula = if self.c.chance(50) { format!("{parameter} * {scale}") } else { format!("(int32_t)({parameter} * {scale})") };
        self.root.table("register").table(&register).table("field").table(&name).put("computed", formula);
        self.fields[at].computed = true;
    }
}

/// Lowest and highest code for a number of bits.
pub fn bounds(form: &str, width: u32) -> (i128, i128) {
    let half = 1i128 << (width - 1);
    match form {
        "signed" | "offset-binary" => (-half, half - 1),
        "sign-magnitude" | "ones-complement" => (1 - half, half - 1),
        "bcd" => (0, 10i128.pow(width.div_ceil(4)) - 1),
        _ => (0, (1i128 << width) - 1),
    }
}
