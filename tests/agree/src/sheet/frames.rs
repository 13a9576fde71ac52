//! Frames: where their bytes come from, their codes, their checks, what codes say.

use super::formulas::{Formulas, Input};
use super::registers::bounds;
use super::{Bus, FieldInfo, FrameInfo, Gen};
use crate::toml::{Table, Value};

const STATUS: &[&str] = &["alert", "saturated", "not ready", "invalid", "fault"];

impl Gen<'_, '_> {
    pub(super) fn frame(&mut self) {
        let name = self.names.fresh(self.c);
        let mut table = Table::new();
        let registers = !self.readable().is_empty() && self.c.chance(45);
        let mut held = Vec::new();
        let length = if registers {
            self.of_registers(&mut table, &mut held)
        } else if self.bus == Bus::Modbus {
            self.of_modbus(&mut table)
        } else {
            self.of_bytes(&mut table)
        };
        let bits = table.get("coils").or(table.get("discrete")).is_some();
        let mut info = FrameInfo { name: name.clone(), codes: Vec::new(), keep: false, arrays: Vec::new(), registers: held };
        let checked = if bits || registers { 0 } else { self.check(&mut table, length) };
        if bits {
            self.coils(&mut table, &mut info);
        } else if !registers || self.c.chance(50) {
            self.codes(&mut table, &mut info, length - checked);
        } else if !self.fields.iter().any(|field| info.registers.contains(&field.register)) {
            self.codes(&mut table, &mut info, length);
        }
        if registers {
            self.register_codes(&mut info);
        }
        // A check after the counted bytes never agrees.
        if table.get("read").is_some() && length >= 8 && checked == 0 && self.c.chance(10) && !info.codes.is_empty() {
            self.counted(&mut table, &mut info);
        }
        if self.c.chance(12) && !self.frames.is_empty() {
            table.put("keep", true);
            info.keep = true;
        }
        if self.c.chance(30) {
            // A name that another frame has, too, is that one's.
            let elsewhere = |input: &&Input| self.frames.iter().any(|other| other.codes.iter().any(|code| code.text == input.text));
            let inputs: Vec<Input> = info.codes.iter().filter(|input| !elsewhere(input)).cloned().collect();
            let status = self.statuses(&inputs);
            table.put("status", status);
        }
        // By the name, so that the choices of what follows stay those of a seed.
        if name.len().is_multiple_of(4) && table.get("read").is_some() {
            table.put("reserved", "b0[1:0]");
        }
        if name.len().is_multiple_of(3) {
            let sum: usize = name.bytes().map(usize::from).sum();
            table.put("blank", ["refused", "suspect", "good"][sum % 3]);
        }
        self.valid_while(&name, &mut table);
        if table.get("while").is_some() && name.len().is_multiple_of(2) {
            table.put("otherwise", self.otherwise(&info));
        }
        self.notes(&mut table, true);
        self.root.table("frame").put(&name, table);
        self.frames.push(info);
    }

    /// The field that a frame or a reading needs, by its name: the choices of what follows stay those of a seed.
    pub(super) fn valid_while(&self, name: &str, table: &mut Table) {
        let sum = name.bytes().fold(0usize, |sum, byte| sum * 7 + usize::from(byte));
        let free: Vec<&FieldInfo> = self.fields.iter().filter(|field| (field.plain || field.unstored) && !field.codes.is_empty()).collect();
        if let Some(field) = free.get(sum / 6 % free.len().max(1)).filter(|_| sum.is_multiple_of(6)) {
            let code = field.codes[sum / 5 % field.codes.len()];
            table.put("while", Table::new().with(&field.name, field.typed(code)));
        }
    }

    /// A word for `otherwise` that is valid for the frame.
    fn otherwise(&self, info: &FrameInfo) -> &'static str {
        let reset = |name: &String| match self.root.get("register") {
            Some(Value::Table(all)) => matches!(all.get(name), Some(Value::Table(register)) if register.get("reset").is_some()),
            _ => false,
        };
        match info.registers.len() {
            0 => "no answer",
            _ if info.registers.iter().all(reset) => "reset value",
            _ => "last value",
        }
    }

    /// Conditions and their statuses.
    pub(super) fn statuses(&mut self, inputs: &[Input]) -> Value {
        let count = 1 + self.c.below(2);
        let mut all = Vec::new();
        for _ in 0..count {
            let when = Formulas { inputs, curves: &[] }.truth(self.c, 1);
            let mut table = Table::new().with("when", when).with("is", *self.c.pick(STATUS));
            if self.c.chance(50) {
                table.put("means", "as the datasheet says");
            }
            all.push(table);
        }
        if all.len() == 1 { all.into_iter().next().unwrap_or_default().into() } else { all.into() }
    }

    /// The registers that frames may hold. A field must be readable in all its registers.
    fn readable(&self) -> Vec<(String, u32, u32, &'static str)> {
        let is_known = |name: &String| self.registers.iter().any(|(known, _, _, access)| known == name && *access != "write-only");
        let alone = |name: &String| !self.fields.iter().any(|field| field.parts.contains(name) && !field.parts.iter().all(is_known));
        self.registers.iter().filter(|(name, ..)| is_known(name) && alone(name)).cloned().collect()
    }

    fn of_registers(&mut self, table: &mut Table, held: &mut Vec<String>) -> usize {
        let readable = self.readable();
        let count = 1 + self.c.below(readable.len().min(3));
        let start = self.c.below(readable.len() - count + 1);
        let mut list = readable[start..start + count].to_vec();
        // A frame has all bits of a field or none.
        let mut at = 0;
        while let Some((name, ..)) = list.get(at).cloned() {
            let others = self.fields.iter().filter(|field| field.parts.contains(&name)).flat_map(|field| &field.parts);
            for other in others {
                let missing = !list.iter().any(|(known, ..)| known == other);
                list.extend(readable.iter().filter(|(known, ..)| missing && known == other).cloned());
            }
            at += 1;
        }
        let count = list.len();
        held.extend(list.iter().map(|(name, ..)| name.clone()));
        let names: Vec<&str> = list.iter().map(|(name, ..)| name.as_str()).collect();
        let text = if count > 1 && self.c.chance(30) && self.follow(&list) {
            format!("{}..{}", names[0], names[count - 1])
        } else {
            names.join(" ")
        };
        table.put("registers", text);
        list.iter().map(|(_, _, width, _)| *width as usize / 8).sum()
    }

    /// All of them without a bank, at neighbouring addresses, with nothing else between.
    fn follow(&self, list: &[(String, u32, u32, &str)]) -> bool {
        let Some(Value::Table(all)) = self.root.get("register") else { return false };
        let banked = |name: &String| matches!(all.get(name), Some(Value::Table(table)) if table.get("bank").is_some());
        let words = if self.bus == Bus::Modbus { 16 } else { 8 };
        list.windows(2).all(|pair| pair[0].1 + pair[0].2 / words == pair[1].1) && !list.iter().any(|(name, ..)| banked(name))
    }

    /// Fields of its registers are codes of the frame.
    fn register_codes(&mut self, info: &mut FrameInfo) {
        for field in &self.fields {
            if info.registers.contains(&field.register) && !info.codes.iter().any(|code| code.text == field.name) {
                info.codes.extend(field.inputs());
            }
        }
    }

    fn of_modbus(&mut self, table: &mut Table) -> usize {
        let kind = *self.c.pick(&["input", "holding", "input", "coils", "discrete"]);
        let start = 0x60 + self.c.below(8) as u32 + 16 * self.frames.len() as u32;
        let count = self.c.within(1, 4) as u32;
        let (first, last) = (self.printed(start, kind), self.printed(start + count - 1, kind));
        table.put(
            kind,
            if count == 1 && self.c.chance(50) { Value::Int(i128::from(first)) } else { Value::Text(format!("{first}..{last}")) },
        );
        if matches!(kind, "coils" | "discrete") { count as usize } else { count as usize * 2 }
    }

    fn coils(&mut self, table: &mut Table, info: &mut FrameInfo) {
        let count = match table.get("coils").or(table.get("discrete")) {
            Some(Value::Text(text)) => {
                let (first, last) = text.split_once("..").unwrap_or((text, text));
                last.parse::<usize>().unwrap_or(0) - first.parse::<usize>().unwrap_or(0) + 1
            }
            _ => 1,
        };
        let mut codes = Table::new();
        for at in 0..count.min(2) {
            let name = self.names.fresh(self.c);
            codes.put(&name, format!("c{at}"));
            info.codes.push(Input::int(name, 0, 1));
        }
        table.put("code", codes);
    }

    fn command(&mut self, least: usize) -> Vec<Value> {
        let count = least + self.c.below(3);
        let mut bytes: Vec<Value> = (0..count).map(|_| Value::Hex(0x80 | self.c.bits(7))).collect();
        // No two commands begin alike, and none as an access to a register.
        if let Some(first) = bytes.first_mut() {
            let reads_from = self.root.get("spi").is_some_and(|spi| matches!(spi, Value::Table(spi) if spi.get("increment").is_some()));
            *first = Value::Hex(if reads_from { 0xE0 | self.commands & 0x1F } else { 0xC0 | self.commands & 0x3F });
            self.commands += 1;
        }
        // One that follows from a setting.
        let settings: Vec<Input> =
            self.fields.iter().filter(|field| field.unstored && field.bounds.1 <= 15).map(|field| Input::int(&field.text, 0, 15)).collect();
        if count > 1
            && self.c.chance(60)
            && let Some(setting) = self.c.any(&settings)
        {
            let at = 1 + self.c.below(count - 1);
            bytes[at] = Value::Text(format!("{} << {} | {}", setting.text, self.c.below(4), self.c.below(8)));
        }
        bytes
    }

    fn wait(&mut self) -> Value {
        let times: Vec<String> = self
            .fields
            .iter()
            .filter(|field| field.unstored && !field.columns.is_empty())
            .map(|field| format!("{}.{}", field.text, field.columns[0].0))
            .collect();
        match self.c.any(&times) {
            Some(time) if self.c.chance(50) => Value::Text(time.clone()),
            _ => Value::Text((*self.c.pick(&["2 ms", "350 us", "12.5 ms"])).to_owned()),
        }
    }

    fn of_bytes(&mut self, table: &mut Table) -> usize {
        if self.c.chance(15) {
            let mut total = 0;
            let mut transfers = Vec::new();
            for _ in 0..2 {
                let read = self.c.within(1, 4);
                let mut transfer = Table::new().with("command", self.command(1)).with("read", read);
                if self.c.chance(40) {
                    let wait = self.wait();
                    transfer.put("wait", wait);
                }
                transfers.push(transfer);
                total += read as usize;
            }
            table.put("transfers", transfers);
            return total;
        }
        let read = self.c.within(1, 12);
        table.put("read", read);
        // Direct reads and register reads can share I2C, but not SPI.
        let any = !self.registers.is_empty() || !self.element_registers.is_empty();
        let told = !self.frames.is_empty() || (any && matches!(self.bus, Bus::Spi | Bus::I2cAndSpi));
        let least = usize::from(told);
        if least > 0 || self.c.chance(70) {
            let command = self.command(1);
            let fixed: Option<Vec<String>> =
                command.iter().map(|byte| if let Value::Hex(byte) = byte { Some(format!("{byte:02X}")) } else { None }).collect();
            match fixed {
                Some(hex) if self.c.chance(30) => table.put("command", hex.join(" ")),
                _ => table.put("command", command),
            }
            if self.c.chance(40) {
                let wait = self.wait();
                table.put("wait", wait);
            }
        }
        read as usize
    }

    /// A check in the last bytes of a frame; gives how many bytes it takes.
    fn check(&mut self, table: &mut Table, length: usize) -> usize {
        if length < 3 || !self.c.chance(50) {
            return 0;
        }
        let mut check = Table::new();
        let mut bytes = 1;
        match self.c.below(6) {
            0 => check.put("xor", Value::Hex(self.c.bits(8))),
            1 => {
                let mut sum = Table::new().with("width", 8i128);
                if self.c.chance(50) {
                    sum.put("init", Value::Hex(self.c.bits(8)));
                }
                if self.c.chance(30) {
                    sum.put("modulo", 251i128);
                }
                if self.c.chance(50) {
                    sum.put("then", *self.c.pick(&["plain", "invert", "negate"]));
                }
                check.put("sum", sum);
            }
            2 => check.put("crc", "CRC-8/SMBUS"),
            3 if length >= 4 => {
                bytes = 2;
                check.put("crc", "CRC-16/MODBUS");
            }
            4 => {
                check.put("parity", *self.c.pick(&["even", "odd"]));
                let last = length - 1;
                let check = check.with("over", format!("b0..b{}", last - 1)).with("in", format!("b{last}[{}]", self.c.below(8)));
                table.put("check", check);
                return 1;
            }
            _ => {
                let mut crc = Table::new().with("width", 8i128).with("poly", Value::Hex(self.c.bits(8) | 1));
                for key in ["init", "xorout"] {
                    if self.c.chance(60) {
                        crc.put(key, Value::Hex(self.c.bits(8)));
                    }
                }
                for key in ["refin", "refout"] {
                    if self.c.chance(40) {
                        crc.put(key, true);
                    }
                }
                check.put("crc", crc);
            }
        }
        let first = length - bytes;
        let mut over = format!("b0..b{}", first - 1);
        if matches!(self.bus, Bus::I2c | Bus::I2cAndSpi) && self.c.chance(15) {
            over = format!("addr:r {over}");
        } else if self.c.chance(10) {
            over = format!("0x5A {over}");
        }
        let place = if bytes == 1 { format!("b{first}") } else { format!("b{first} b{}", first + 1) };
        table.put("check", check.with("over", over).with("in", place));
        bytes
    }

    /// How many bytes count, by a code of three bits in the first byte.
    fn counted(&mut self, table: &mut Table, info: &mut FrameInfo) {
        let name = self.names.fresh(self.c);
        let Some(Value::Table(codes)) = table.get("code").cloned() else { return };
        table.put("code", codes.with(&name, "b0[2:0]"));
        info.codes.push(Input::int(&name, 0, 7));
        let formula = if self.c.chance(50) { format!("{name} + 1") } else { format!("{name} > 3 ? 8 : 4") };
        table.put("length", formula);
    }

    fn codes(&mut self, table: &mut Table, info: &mut FrameInfo, length: usize) {
        let mut codes = Table::new();
        let count = 1 + self.c.below(4);
        for _ in 0..count {
            if length >= 4 && self.c.chance(10) {
                self.array(&mut codes, info, length);
                continue;
            }
            let twin = self.c.chance(6);
            let twin = if twin { self.other_code(info) } else { None };
            let (layout, input) = self.layout(length);
            let name = match twin {
                Some(name) => name,
                None => self.names.fresh(self.c),
            };
            let Some(mut input) = input else {
                // Formulas cannot use texts.
                let name = if info.codes.iter().any(|code| code.text == name)
                    || self.frames.iter().any(|frame| frame.codes.iter().any(|code| code.text == name))
                {
                    self.names.fresh(self.c)
                } else {
                    name
                };
                codes.put(&name, layout);
                continue;
            };
            let (low, high) = input.bounds;
            input.text.clone_from(&name);
            if !input.real && high - low > 16 && self.c.chance(12) {
                let (least, most) = (low + (high - low) / 8, high - (high - low) / 8);
                let mut code = Table::new().with("layout", layout).with("range", vec![Value::Int(least), Value::Int(most)]);
                self.notes(&mut code, false);
                codes.put(&name, code);
                input.bounds = (least, most);
            } else {
                codes.put(&name, layout);
            }
            info.codes.push(input);
        }
        table.put("code", codes);
    }

    /// The name of a code of another frame: told apart as FRAME.name.
    fn other_code(&mut self, info: &FrameInfo) -> Option<String> {
        let frame = self.frames.last()?;
        let element = |text: &str| frame.arrays.iter().any(|(array, _)| text.starts_with(&format!("{array}_")));
        let own = |code: &&Input| {
            !element(&code.text)
                && !code.text.contains('.')
                && !info.codes.iter().any(|known| known.text == code.text)
                && !self.fields.iter().any(|field| field.name == code.text)
        };
        let codes: Vec<Input> = frame.codes.iter().filter(own).cloned().collect();
        Some(self.c.any(&codes)?.text.clone())
    }

    fn array(&mut self, codes: &mut Table, info: &mut FrameInfo, length: usize) {
        let name = self.names.fresh(self.c);
        let elements: [&str; 2] = if self.c.chance(50) { ["0", "1"] } else { ["port", "lee"] };
        let named = elements[0] == "port";
        let signed = self.c.chance(50);
        let half = if signed { (-128, 127) } else { (0, 255) };
        if self.c.chance(50) {
            let every = if length >= 6 && self.c.chance(40) { " every 2" } else { "" };
            let layout = format!("2 x {}b0{every}", if signed { "signed " } else { "" });
            if named {
                codes.put(&name, Table::new().with("layout", layout).with("names", elements.to_vec()));
            } else {
                codes.put(&name, layout);
            }
        } else {
            let layouts = vec![if signed { "signed b1" } else { "b1" }, if signed { "signed b3" } else { "b3" }];
            if named {
                codes.put(&name, Table::new().with("layout", layouts).with("names", elements.to_vec()));
            } else {
                codes.put(&name, layouts);
            }
        }
        for element in elements {
            info.codes.push(Input::int(format!("{name}_{element}"), half.0, half.1));
        }
        info.arrays.push((name, 2));
    }

    /// A layout of a code, and its input for formulas; `None` for a text.
    fn layout(&mut self, length: usize) -> (String, Option<Input>) {
        let c = &mut *self.c;
        let at = c.below(length);
        let bytes = (1 + c.below(4)).min(length - at);
        let first = at;
        let run = |low_first: bool, bytes: usize| -> String {
            let mut list: Vec<String> = (first..first + bytes).map(|byte| format!("b{byte}")).collect();
            if low_first {
                list.reverse();
            }
            list.join(" ")
        };
        let whole = bytes as u32 * 8;
        match c.below(12) {
            0 if bytes >= 2 => {
                let bits = c.within(1, 7) as u32;
                let text = format!("{} b{}[7:{}]", run(false, bytes - 1), at + bytes - 1, 8 - bits);
                let width = whole - 8 + bits;
                let form = *c.pick(&["", "signed "]);
                let (low, high) = bounds(form.trim(), width);
                (format!("{form}{text}"), Some(Input::int("", low, high)))
            }
            1 | 2 => {
                let high = c.below(8);
                let low = c.below(high + 1);
                let text = if high == low { format!("b{at}[{high}]") } else { format!("b{at}[{high}:{low}]") };
                (text, Some(Input::int("", 0, (1 << (high - low + 1)) - 1)))
            }
            3 if matches!(bytes, 2 | 4) => (format!("float {}", run(c.chance(30), bytes)), Some(Input::real(""))),
            4 if length >= 8 && c.chance(30) => ("float b0..b7".into(), Some(Input::real(""))),
            4 if length >= 8 && c.chance(50) => {
                let form = *c.pick(&["", "signed "]);
                let (low, high) = bounds(form.trim(), 64);
                (format!("{form}b0..b7"), Some(Input::int("", low, high)))
            }
            5 => {
                let form = *c.pick(&["sign-magnitude", "ones-complement", "offset-binary"]);
                let (low, high) = bounds(form, whole);
                (format!("{form} {}", run(c.chance(30), bytes)), Some(Input::int("", low, high)))
            }
            6 => {
                let (low, high) = bounds("bcd", whole);
                (format!("bcd {}", run(false, bytes)), Some(Input::int("", low, high)))
            }
            7 => {
                let point = c.within(0, i128::from(whole) - 1) as u32;
                (format!("q{}.{point} {}", whole - 1 - point, run(false, bytes)), Some(Input::real("")))
            }
            8 => {
                let point = c.within(0, i128::from(whole)) as u32;
                (format!("uq{}.{point} {}", whole - point, run(false, bytes)), Some(Input::real("")))
            }
            9 if c.chance(50) => (format!("text {}", run(false, bytes)), None),
            _ => {
                let form = *c.pick(&["signed ", ""]);
                let (low, high) = bounds(form.trim(), whole);
                (format!("{form}{}", run(c.chance(40), bytes)), Some(Input::int("", low, high)))
            }
        }
    }
}
