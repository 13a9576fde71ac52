//! Frames: where their bytes come from, their codes and their checks.

use std::collections::HashMap;

use super::Resolver;
use crate::bits::check::{Check, CheckKind, Crc, CrcModel, MODELS, SumFinish};
use crate::bits::form::Form;
use crate::bits::gather::Gather;
use crate::bits::layout::{CheckInput, Layout, Slice, Sources, parse_cover, parse_layout, parse_slices};
use crate::bus::modbus::{AddressRange, ModbusTable};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::{Span, Text};
use crate::ground::words::counted;
use crate::model::command::{Command, CommandByte, Exchange};
use crate::model::frame::{Blank, Code, Frame, Origin};
use crate::model::ids::{CodeId, FieldId, FrameId, RegisterId};
use crate::model::registers::{Numbering, Register};
use crate::sheet::reader::At;
use crate::sheet::tree;

/// Most codes of a sheet, the elements of arrays counted.
const MAX_CODES: usize = 8192;

/// `blank` of a frame, or its default.
fn blank(frame: &tree::Frame, origin: &Origin, length: usize) -> Blank {
    match frame.blank.map(|word| word.value) {
        Some("refused") => Blank::Refused,
        Some("suspect") => Blank::Suspect,
        Some(_) => Blank::Good,
        None if frame.keep => Blank::Refused,
        None if !frame.checks.is_empty() || length < 2 || matches!(origin, Origin::Modbus(_)) => Blank::Good,
        None => Blank::Suspect,
    }
}

impl Resolver {
    pub(super) fn frame(&mut self, index: FrameId, name: &At<String>, frame: &tree::Frame) {
        let nothing = Exchange { command: Command::default(), wait: None, read: 1 };
        let (origin, length) = self.origin(frame).unwrap_or((Origin::Read(nothing), 1));
        let mut held: Vec<(String, usize, usize, bool)> = Vec::new();
        let mut holds: Vec<(RegisterId, usize)> = Vec::new();
        if let Origin::Registers(runs) = &origin {
            let mut at = 0;
            for register in runs.iter().flatten() {
                let Some(model) = self.part.registers.get(*register) else { continue };
                held.push((model.name.clone(), at, model.bytes, model.low_first));
                holds.push((*register, at));
                at += model.bytes;
            }
        }
        let otherwise = self.otherwise(frame, &origin);
        let blank = blank(frame, &origin, length);
        let sources = Sources { length, registers: &held, home: "" };
        let mut codes = Vec::new();
        for (code_name, tree::Code { layout: text, names, element, range }) in &frame.codes {
            if let Some((array, element)) = element {
                self.in_array(array, element);
            }
            let Some(typed) = self.take(parse_layout(text, &sources)) else { continue };
            if typed.layout.form == Form::Text && typed.array.is_some() {
                self.report(
                    Diagnostic::error("bad-array", text.span, "texts do not come in arrays").label("give each text a name of its own"),
                );
                continue;
            }
            let (low, high) = typed.layout.form.bounds(typed.layout.width());
            let range = range.map(|at| (at, at.value));
            if let Some((at, _)) = range.filter(|(_, range)| range.0 < low || range.1 > high) {
                let problem = Diagnostic::error("out-of-range", at.span, "the range is wider than the code")
                    .label(format!("its bits hold {low} to {high}"));
                self.report(problem.also(text.span, "the code"));
            }
            let before = self.part.codes.len();
            if before + typed.array.map_or(1, |(count, _)| count) > MAX_CODES {
                self.report(
                    Diagnostic::error("too-many", code_name.span, format!("a sheet has at most {MAX_CODES} codes")).label("one too many"),
                );
                break;
            }
            let count = typed.array.map(|(count, _)| count);
            if let Some(names) = names.as_ref().filter(|names| Some(names.value.len()) != count) {
                let problem = format!("{} for {}", counted(names.value.len(), "name"), counted(count.unwrap_or(1), "element"));
                self.report(
                    Diagnostic::error("bad-array", names.span, problem).label("as many as the layout has").also(text.span, "the layout"),
                );
                continue;
            }
            let numbered = || (0..count.unwrap_or(0)).map(|element| element.to_string()).collect();
            let elements: Vec<String> = names.as_ref().map_or_else(numbered, |names| names.value.clone());
            if count.is_some() {
                self.arrays.entry(code_name.value.clone()).or_insert_with(|| elements.clone());
            }
            for element in 0..count.unwrap_or(1) {
                let behind = elements.get(element).map_or(String::new(), |behind| format!("_{behind}"));
                let name = format!("{}{behind}", code_name.value);
                self.code(index, &name, code_name.span, typed.element(element), None, &mut codes);
            }
            self.part.codes.iter_mut().skip(before).for_each(|code| code.range = range.map(|(_, range)| range));
        }
        let fields = self.fields_in(&holds);
        for (field, layout) in &fields {
            let Some(model) = self.part.fields.get(*field) else { continue };
            let taken = codes.iter().filter_map(|code| self.part.codes.get(*code)).any(|code| code.name == model.name);
            let (name, span) = (model.name.clone(), model.span);
            if !taken {
                self.code(index, &name, span, layout.clone(), Some(*field), &mut codes);
            }
        }
        if codes.is_empty() && !self.has_errors() {
            self.report(
                Diagnostic::error("missing-key", name.span, "a frame has at least one code")
                    .label("needs `code`")
                    .help("such as code = { temperature = \"signed b0 b1\" }"),
            );
        }
        let reserved = frame.reserved.as_ref().and_then(|text| self.take(parse_slices(text, &sources)));
        let mut checks = Vec::new();
        for check in &frame.checks {
            checks.extend(self.check(check, &sources));
        }
        let fields = fields.into_iter().map(|(field, layout)| (field, Gather::new(&layout))).collect();
        self.part.frames.push(Frame {
            name: name.value.clone(),
            span: name.span,
            origin,
            length,
            keep: frame.keep,
            blank,
            fields,
            counted: None,
            checks,
            codes,
            reserved: reserved.map_or(Vec::new(), |typed| typed.layout.slices),
            status: Vec::new(),
            valid: Vec::new(),
            otherwise,
            readings: Vec::new(),
            derived: Vec::new(),
            means: frame.means.as_ref().map(|text| text.value.clone()),
            source: frame.source.as_ref().map(|text| text.value.clone()),
        });
    }

    fn code(&mut self, frame: FrameId, name: &str, span: Span, layout: Layout, field: Option<FieldId>, codes: &mut Vec<CodeId>) {
        let twin = codes.iter().filter_map(|code| self.part.codes.get(*code)).find(|code| code.name == name);
        if let Some(twin) = twin {
            let problem = Diagnostic::error("name-taken", span, format!("there are two codes `{name}` in this frame"))
                .label("again here")
                .also(twin.span, "first here");
            self.report(problem);
            return;
        }
        let ty = layout.form.ty(layout.width());
        let code = Code { name: name.to_owned(), span, frame, field, gather: Gather::new(&layout), layout, ty, range: None };
        codes.push(self.part.codes.push(code));
    }

    /// The fields whose registers are all in a frame, with their bits there. `holds` has registers and where
    /// their first byte stands.
    fn fields_in(&self, holds: &[(RegisterId, usize)]) -> Vec<(FieldId, Layout)> {
        let mut found = Vec::new();
        for (index, field) in self.part.fields.entries() {
            let place = |slice: &Slice| {
                holds.iter().find_map(|(register, at)| {
                    let register = self.part.registers.get(*register)?;
                    let byte = slice.byte.checked_sub(register.offset).filter(|byte| *byte < register.bytes)?;
                    Some(Slice { byte: at + if register.low_first { register.bytes - 1 - byte } else { byte }, ..*slice })
                })
            };
            if let Some(slices) = field.layout.slices.iter().map(place).collect::<Option<Vec<Slice>>>() {
                found.push((index, Layout { form: field.layout.form, slices }));
            }
        }
        found
    }

    /// Where a frame's bytes come from, and how many they are.
    fn origin(&mut self, frame: &tree::Frame) -> Option<(Origin, usize)> {
        if let Some(text) = &frame.registers {
            let runs = self.register_runs(text)?;
            let length = runs.iter().flatten().filter_map(|index| self.part.registers.get(*index)).map(|register| register.bytes).sum();
            return Some((Origin::Registers(runs), length));
        }
        if !frame.transfers.is_empty() {
            let exchange = |transfer: &tree::Exchange| self.exchange(&transfer.command, transfer.wait.as_ref(), transfer.read.value);
            let transfers = frame.transfers.iter().map(exchange).collect::<Option<Vec<Exchange>>>()?;
            let length = transfers.iter().map(|transfer| transfer.read).sum();
            return Some((Origin::Transfers(transfers), length));
        }
        if let Some((table, addresses)) = &frame.modbus {
            let range = self.modbus_range(table, addresses)?;
            let length = range.bytes();
            return Some((Origin::Modbus(range), length));
        }
        // After a misspelt key: a length without follow-up errors.
        let read = frame.read.map_or(4096, |read| read.value);
        Some((Origin::Read(self.exchange(&frame.command, frame.wait.as_ref(), read)?), read))
    }

    fn exchange(&mut self, command: &[tree::Byte], wait: Option<&tree::Time>, read: usize) -> Option<Exchange> {
        let command = self.command(command)?;
        let wait = match wait {
            Some(time) => Some(self.time(time)?),
            None => None,
        };
        Some(Exchange { command, wait, read })
    }

    /// Bytes that are sent, their formulas resolved.
    pub(super) fn command(&mut self, typed: &[tree::Byte]) -> Option<Command> {
        let mut bytes = Vec::with_capacity(typed.len());
        for byte in typed {
            bytes.push(match byte {
                tree::Byte::Fixed(byte) => CommandByte::Fixed(*byte),
                tree::Byte::Formula(text) => {
                    let formula = self.formula(text, &HashMap::new(), None, None)?;
                    if !self.without_codes(&formula, text) {
                        return None;
                    }
                    CommandByte::Formula(formula)
                }
            });
        }
        Some(Command::new(bytes))
    }

    /// `"STATUS..DATA_L"` or a list of names, cut where addresses do not follow one another.
    fn register_runs(&mut self, text: &Text) -> Option<Vec<Vec<RegisterId>>> {
        let mut all: Vec<RegisterId> = Vec::new();
        for word in text.value.split_whitespace() {
            let at = word.as_ptr() as usize - text.value.as_ptr() as usize;
            let (first, last) = word.split_once("..").unwrap_or((word, word));
            let first_index = self.register_named(first, text.locate(at..at + first.len()))?;
            let last_index = self.register_named(last, text.locate(at + word.len() - last.len()..at + word.len()))?;
            let address = |index: RegisterId| self.part.registers.get(index).map_or(0, |register| register.at);
            let bank = |index: RegisterId| self.part.registers.get(index).map(|register| register.bank.clone());
            let mut between: Vec<RegisterId> = self
                .part
                .registers
                .ids()
                .filter(|index| {
                    (address(first_index)..=address(last_index)).contains(&address(*index)) && bank(*index) == bank(first_index)
                })
                .collect();
            between.sort_by_key(|index| address(*index));
            if between.is_empty() {
                let span = text.locate(at..at + word.len());
                self.report(
                    Diagnostic::error("bad-run", span, format!("`{last}` stands before `{first}`")).label("the lower address comes first"),
                );
                return None;
            }
            all.extend(if first == last { vec![first_index] } else { between.clone() });
            if first != last {
                self.gaps(&between, text.locate(at..at + word.len()));
            }
        }
        let together = self.part.buses.auto_increment();
        let numbering = Numbering::of(&self.part);
        let mut runs: Vec<Vec<RegisterId>> = Vec::new();
        for index in all {
            let register = self.part.registers.get(index)?;
            let last = runs.last().and_then(|run| run.last()).and_then(|last| self.part.registers.get(*last));
            let follows = together && last.is_some_and(|last| register.at == numbering.behind(last));
            match runs.last_mut().filter(|_| follows) {
                Some(run) => run.push(index),
                None => runs.push(vec![index]),
            }
        }
        if runs.is_empty() {
            self.report(Diagnostic::error("empty-layout", text.span, "a frame of registers names at least one").label("no register here"));
            return None;
        }
        Some(runs)
    }

    /// Reports addresses without a register within `A..B`.
    fn gaps(&mut self, between: &[RegisterId], span: Span) {
        let numbering = Numbering::of(&self.part);
        let registers: Vec<&Register> = self.part.registers.of(between).collect();
        let gap = registers.windows(2).find_map(|pair| match *pair {
            [one, next] => Some((one, numbering.behind(one), next)).filter(|(_, from, _)| next.at > *from),
            _ => None,
        });
        if let Some((one, from, next)) = gap {
            let missing = if next.at - from == 1 { format!("0x{from:02X}") } else { format!("0x{from:02X} to 0x{:02X}", next.at - 1) };
            let text = format!("between `{}` and `{}` the sheet has no register at {missing}", one.name, next.name);
            let problem = Diagnostic::warning("gap", span, text).label("read in transfers of their own");
            self.report(problem.help("for a single transfer, add the registers between them, such as a reserved register"));
        }
    }

    pub(super) fn register_named(&mut self, name: &str, span: Span) -> Option<RegisterId> {
        let found = self.part.registers.position(|register| register.name == name);
        if found.is_none() {
            let known: Vec<&str> = self.part.registers.iter().map(|register| register.name.as_str()).collect();
            let problem = Diagnostic::error("unknown-name", span, format!("there is no register `{name}`")).label("not a register").known(
                name,
                "registers",
                known,
            );
            self.report(problem);
        }
        found
    }

    fn modbus_range(&mut self, table: &str, addresses: &Text) -> Option<AddressRange> {
        let table = match table {
            "coils" => ModbusTable::Coils,
            "discrete" => ModbusTable::Discrete,
            "input" => ModbusTable::Input,
            _ => ModbusTable::Holding,
        };
        let Some(modbus) = &self.part.buses.modbus else {
            self.report(
                Diagnostic::error("missing-key", addresses.span, "a Modbus frame needs to know how addresses are printed")
                    .label("there is no [modbus] in this sheet")
                    .help("such as [modbus] with numbering = \"40001\""),
            );
            return None;
        };
        let numbering = modbus.numbering;
        let (first, last) = addresses.value.split_once("..").unwrap_or((&addresses.value, &addresses.value));
        let number = |text: &str| {
            text.trim().parse::<u32>().map_err(|_| "expected an address, or two with .. between, such as \"40011..40014\"".to_owned())
        };
        let wire = |text: &str| number(text).and_then(|printed| numbering.wire(printed, table));
        let problem = match (wire(first), wire(last)) {
            (Ok(first), Ok(last)) if first > last => "the lower address comes first".to_owned(),
            (Ok(first), Ok(last)) if u32::from(last - first) >= table.most() => {
                format!("one request reads at most {} {}", table.most(), table.name())
            }
            (Ok(first), Ok(last)) => return Some(AddressRange { table, start: first, count: last - first + 1 }),
            (Err(why), _) | (_, Err(why)) => why,
        };
        self.report(
            Diagnostic::error("bad-address", addresses.span, format!("`{}` is not an address of {}", addresses.value, table.name()))
                .label(problem),
        );
        None
    }

    fn check(&mut self, check: &tree::Check, sources: &Sources<'_>) -> Vec<Check> {
        let over = self.take(parse_cover(&check.over, sources));
        let place = self.take(parse_slices(&check.place, sources));
        let Some((kind, width, width_span)) = check.method.as_ref().and_then(|method| self.method(method, check.span)) else {
            return Vec::new();
        };
        let (Some(over), Some(place)) = (over, place) else { return Vec::new() };
        let found = place.layout.width();
        if found != width {
            self.report(
                Diagnostic::error("bad-width", check.place.span, format!("the check value has {width} bits, but its place has {found}"))
                    .label(format!("{found} bits"))
                    .also(width_span, format!("{width} bits")),
            );
            return Vec::new();
        }
        let places = place.array.map_or(1, |(count, _)| count);
        if places != over.len() {
            self.report(
                Diagnostic::error(
                    "bad-array",
                    check.place.span,
                    format!("{} pieces are covered, but there are {places} check values", over.len()),
                )
                .label("as many as are covered")
                .also(check.over.span, "covered"),
            );
            return Vec::new();
        }
        let address = self.part.buses.i2c.as_ref().map(|i2c| i2c.address);
        if address.is_none() && over.iter().flatten().any(|fed| matches!(fed, CheckInput::Address(_))) {
            self.report(
                Diagnostic::error("missing-key", check.over.span, "the check covers the I2C address, which the sheet does not tell")
                    .label("there is no [i2c]"),
            );
        }
        let mut made = Vec::new();
        for (element, over) in over.into_iter().enumerate() {
            let slices = place.element(element).slices;
            let covers = |fed: &CheckInput| matches!(fed, CheckInput::Bits(slice) if slices.iter().any(|other| slice.overlaps(*other)));
            if over.iter().any(covers) {
                self.report(
                    Diagnostic::error("check-covers-itself", check.over.span, "a check cannot cover the place where its own value stands")
                        .label("this covers it")
                        .also(check.place.span, "the check value stands here")
                        .help("leave those bits out, or put zeros in their place: `0b0000`"),
                );
                return Vec::new();
            }
            made.push(Check::new(kind.clone(), over, slices, address.unwrap_or(0)));
        }
        made
    }

    /// How a check is computed, the width of its value, and where the sheet says that.
    fn method(&mut self, method: &tree::Method, span: Span) -> Option<(CheckKind, u32, Span)> {
        let value = |at: &Option<At<u64>>| at.map_or(0, |at| at.value);
        match method {
            tree::Method::Model(name) => {
                let Some((known, model)) = MODELS.iter().find(|(known, _)| known.eq_ignore_ascii_case(&name.value)) else {
                    let problem = Diagnostic::error("unknown-word", name.span, format!("`{}` is not a known CRC model", name.value))
                        .label("not known");
                    let problem = problem
                        .known(&name.value, "models", MODELS.iter().map(|(name, _)| *name))
                        .help("or give its parameters: { width = 8, poly = 0x07, init = 0 }");
                    self.report(problem);
                    return None;
                };
                Some((CheckKind::Crc(Crc::new(*model), Some(known)), model.width, name.span))
            }
            tree::Method::Crc { width, poly, init, refin, refout, xorout } => {
                let bits = width.value;
                let mask = u64::MAX >> (64 - bits);
                for parameter in [Some(*poly), *init, *xorout].into_iter().flatten() {
                    let top = u128::from(parameter.value) >> bits;
                    if top != 0 {
                        let problem =
                            Diagnostic::error("too-wide", parameter.span, format!("{:#X} does not fit in {bits} bits", parameter.value))
                                .label(format!("at most {mask:#X}"))
                                .also(width.span, "the width");
                        let without = parameter.value & mask;
                        self.report(if parameter == *poly && top == 1 {
                            problem.help(format!("leave the polynomial's highest term out: write {without:#04X}"))
                        } else {
                            problem
                        });
                    }
                }
                let model =
                    CrcModel { width: bits, poly: poly.value, init: value(init), refin: *refin, refout: *refout, xorout: value(xorout) };
                Some((CheckKind::Crc(Crc::new(model), None), bits, width.span))
            }
            tree::Method::Sum { width, init, modulo, then } => {
                let bits = width.value;
                let finish = match *then {
                    "invert" => SumFinish::Invert,
                    "negate" => SumFinish::Negate,
                    _ => SumFinish::Plain,
                };
                Some((CheckKind::Sum { width: bits, init: value(init), modulo: *modulo, finish }, bits, width.span))
            }
            tree::Method::Xor(init) => Some((CheckKind::Xor(init.value), 8, span)),
            tree::Method::Parity(kind) => Some((CheckKind::Parity(*kind == "odd"), 1, span)),
        }
    }
}
