//! The routines in Rust: what is known of the part, state machines, and a driver over embedded-hal.

use super::super::c::driver::{asks, ends, goes_on};
use super::super::code::{Ask, Failure, Function, Gives, Machine, Sent, Stmt, Type};
use super::super::names::camel;
use super::super::{Firmware, Hal};
use super::expr::{Printer, type_name};
use super::{Lines, block};
use crate::bus::Bus;

fn failure(failure: Failure) -> String {
    let words = Failure::ALL.iter().find(|(known, ..)| *known == failure).map_or("", |(_, words, _)| words);
    camel(words)
}

pub(super) fn print(firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    let Some(bus) = firmware.bus else { return };
    device(firmware, shared, out);
    out.blank();
    out.doc(0, &["Why a routine failed.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Failure {");
    for (one, _, doc) in Failure::ALL {
        out.doc(1, &[format!("{}.", super::super::readings::capital(doc))]);
        out.line(&format!("    {},", failure(one)));
    }
    out.line("}");
    requests(firmware, bus, out);
    for machine in &firmware.module.machines {
        run(machine, firmware, shared, out);
    }
    if firmware.hal != Hal::None {
        driver(firmware, bus, out);
    }
}

/// Frames and what else is known: member, type.
fn members(firmware: &Firmware) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for (member, ty) in [("settings", "Settings"), ("parameters", "Parameters")] {
        if firmware.module.structs.iter().any(|one| one.name.rust == ty) {
            all.push((member.to_owned(), ty.to_owned()));
        }
    }
    for calls in &firmware.module.frames {
        all.push((calls.var.clone(), calls.ty.rust.clone()));
        all.push((format!("has_{}", calls.var), "bool".to_owned()));
    }
    all
}

fn device(firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    out.blank();
    out.doc(0, &["What is known of the part.".into()]);
    let flags = firmware.module.frames.len();
    if flags > 3 {
        out.line("#[allow(clippy::struct_excessive_bools)] // which frames have come");
    }
    out.line("#[derive(Clone, Debug, PartialEq)]");
    out.line("pub struct Device {");
    for (member, ty) in members(firmware) {
        match member.as_str() {
            "settings" => out.doc(1, &["What its registers hold, and what else is set.".into()]),
            "parameters" => out.doc(1, &["The numbers that you supply.".into()]),
            _ => {}
        }
        let public = if matches!(member.as_str(), "settings" | "parameters") { "pub " } else { "" };
        out.line(&format!("    {public}{member}: {ty},"));
    }
    out.line("}");
    out.blank();
    out.line("impl Device {");
    out.doc(1, &["The part as after a reset: no frame has come.".into()]);
    out.line("    pub const RESET: Self = Self {");
    for (member, ty) in members(firmware) {
        match member.as_str() {
            "settings" => out.line("        settings: Settings::RESET,"),
            "parameters" => out.line("        parameters: Parameters::DEFAULT,"),
            member if member.starts_with("has_") => out.line(&format!("        {member}: false,")),
            member => {
                let one = firmware.module.structs.iter().find(|one| one.name.rust == ty);
                let values: Vec<String> = one
                    .into_iter()
                    .flat_map(|one| &one.members)
                    .map(|inner| {
                        let value =
                            if let Type::Bytes(count) = inner.ty { format!("[0; {count}]") } else { shared.doc(&inner.default).flat() };
                        format!("{}: {value}", inner.name)
                    })
                    .collect();
                if values.join(", ").len() <= 18 {
                    out.line(&format!("        {member}: {ty} {{ {} }},", values.join(", ")));
                } else {
                    out.line(&format!("        {member}: {ty} {{"));
                    values.iter().for_each(|value| out.line(&format!("            {value},")));
                    out.line("        },");
                }
            }
        }
    }
    out.line("    };");
    for calls in &firmware.module.frames {
        out.line("");
        out.doc(1, &[format!("{} as it came last.", super::super::readings::capital(&calls.var))]);
        out.line("    #[must_use]");
        out.line(&format!("    pub fn {}(&self) -> Option<&{}> {{", calls.var, calls.ty.rust));
        out.line(&format!("        self.has_{0}.then_some(&self.{0})", calls.var));
        out.line("    }");
        let Some((name, ty, params)) = &calls.readings else { continue };
        out.line("");
        out.doc(1, &[format!("The readings of {} as it came last, once all that they need has come.", calls.var)]);
        out.line("    #[must_use]");
        out.line(&format!("    pub fn {}_readings(&self) -> Option<{}> {{", calls.var, ty.rust));
        let needed: Vec<&str> = firmware
            .module
            .frames
            .iter()
            .filter(|other| other.var == calls.var || params.iter().any(|param| param.name == other.var))
            .map(|other| other.var.as_str())
            .collect();
        if needed.len() > 1 {
            let tests: Vec<String> = needed.iter().map(|var| format!("!self.has_{var}")).collect();
            out.line(&format!("        if {} {{", tests.join(" || ")));
            out.line("            return None;");
            out.line("        }");
        }
        let args: Vec<String> = params.iter().skip(1).map(|param| format!("&self.{}", param.name)).collect();
        let first = params.first().map_or(String::new(), |param| format!("self.{}", param.name));
        let call = format!("{first}.{}({})", name.rust, args.join(", "));
        if needed.len() > 1 {
            let line = format!("        Some({call})");
            if call.len() <= 60 {
                out.line(&line);
            } else {
                out.line("        Some(");
                out.line(&format!("            {first}"));
                out.line(&format!("                .{}({}),", name.rust, args.join(", ")));
                out.line("        )");
            }
        } else {
            let chain = format!("self.has_{}.then(|| {call})", calls.var);
            if chain.len() <= 60 {
                out.line(&format!("        {chain}"));
            } else {
                out.line(&format!("        self.has_{}", calls.var));
                out.line(&format!("            .then(|| {call})"));
            }
        }
        out.line("    }");
    }
    out.line("}");
    out.blank();
    out.line("impl Default for Device {");
    out.line("    fn default() -> Self {");
    out.line("        Self::RESET");
    out.line("    }");
    out.line("}");
}

fn requests(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    let line = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::Line(..))));
    let reads = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::ModbusRead(..))));
    let writes = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::ModbusWrite(..))));
    let waits = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::Wait(..))));
    out.blank();
    out.doc(0, &["What a routine asks for next.".into()]);
    out.line("#[derive(Debug)]");
    out.line("pub enum Request<'a> {");
    if bus == Bus::Modbus {
        if reads {
            out.doc(1, &["Registers or bits are read.".into()]);
            out.line("    ModbusRead {");
            for (name, ty, doc) in [
                ("function", "u8", "1 to 4."),
                ("address", "u16", "The first."),
                ("count", "u16", "How many."),
                ("data", "&'a mut [u8]", "Where they go, high byte first."),
            ] {
                out.doc(2, &[doc.into()]);
                out.line(&format!("        {name}: {ty},"));
            }
            out.line("    },");
        }
        if writes {
            out.doc(1, &["Registers are written.".into()]);
            out.line("    ModbusWrite {");
            for (name, ty, doc) in [("address", "u16", "The first."), ("data", "&'a [u8]", "What they hold, high byte first.")] {
                out.doc(2, &[doc.into()]);
                out.line(&format!("        {name}: {ty},"));
            }
            out.line("    },");
        }
    } else {
        out.doc(1, &["Bytes are written, then others are read; either may be empty.".into()]);
        out.line("    Transfer {");
        for (name, ty, doc) in [("write", "&'a [u8]", "What is written."), ("read", "&'a mut [u8]", "Where what is read goes.")] {
            out.doc(2, &[doc.into()]);
            out.line(&format!("        {name}: {ty},"));
        }
        out.line("    },");
    }
    if waits {
        out.doc(1, &["So many microseconds pass.".into()]);
        out.line("    Wait(u32),");
    }
    if line {
        out.doc(1, &["The data-ready line is waited for.".into()]);
        out.line("    Line {");
        for (name, ty, doc) in [("high", "bool", "The level."), ("micros", "u32", "The longest time.")] {
            out.doc(2, &[doc.into()]);
            out.line(&format!("        {name}: {ty},"));
        }
        out.line("    },");
    }
    out.doc(1, &["Nothing: it is done.".into()]);
    out.line("    Finished,");
    out.line("}");
}

fn state_type(machine: &Machine) -> &'static str {
    if machine.states.len() > 255 { "u16" } else { "u8" }
}

fn run(machine: &Machine, firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    let name = &machine.ty.rust;
    out.blank();
    out.doc(0, &[format!("A run of routine {}, for whoever waits for nothing: an event loop, an interrupt.", machine.name.rust)]);
    out.line("#[derive(Clone, Debug)]");
    out.line(&format!("pub struct {name} {{"));
    let mut fields = vec![("at".to_owned(), state_type(machine).to_owned(), "0".to_owned())];
    fields.extend(machine.keeps.iter().map(|(name, ty)| (name.clone(), type_name(*ty).to_owned(), "0".to_owned())));
    if machine.out > 0 {
        fields.push(("out".into(), format!("[u8; {}]", machine.out), format!("[0; {}]", machine.out)));
    }
    if machine.buffer > 0 {
        fields.push(("buffer".into(), format!("[u8; {}]", machine.buffer), format!("[0; {}]", machine.buffer)));
    }
    for (name, ty, _) in &fields {
        out.line(&format!("    {name}: {ty},"));
    }
    out.line("}");
    out.blank();
    out.line(&format!("impl {name} {{"));
    out.doc(1, &["Its beginning.".into()]);
    out.line("    #[must_use]");
    out.line("    pub const fn new() -> Self {");
    let flat: Vec<String> = fields.iter().map(|(name, _, value)| format!("{name}: {value}")).collect();
    if flat.join(", ").len() <= 18 {
        out.line(&format!("        Self {{ {} }}", flat.join(", ")));
    } else {
        out.line("        Self {");
        flat.iter().for_each(|field| out.line(&format!("            {field},")));
        out.line("        }");
    }
    out.line("    }");
    out.line("");
    let function = Function {
        doc: Vec::new(),
        public: true,
        name: machine.name.clone(),
        of: None,
        params: Vec::new(),
        gives: Gives::Nothing,
        body: Vec::new(),
    };
    let mut printer = Printer { own: Some("run".into()), ..Printer::default() };
    let mut states = Lines::default();
    // What never goes on by itself needs no loop.
    let loops = machine.states.iter().any(|(_, list)| goes_on(list) || !ends(list));
    let pad = if loops { "                " } else { "            " };
    for (index, (comment, list)) in machine.states.iter().enumerate() {
        states.line(&format!("{pad}{index} => {{"));
        if !comment.is_empty() {
            states.line(&format!("{pad}    // {}", comment.replace(['\n', '\r'], " ")));
        }
        block(list, &function, &mut printer, if loops { 5 } else { 4 }, true, &mut states);
        if !ends(list) {
            states.line(&format!("{pad}    self.at = {};", index + 1));
        }
        states.line(&format!("{pad}}}"));
    }
    let uses = |word: &str| {
        let text = &states.text;
        text.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|token| token == word)
    };
    let used: Vec<String> = members(firmware).into_iter().map(|(member, _)| member).filter(|member| uses(member)).collect();
    out.doc(1, &[
        "Goes on until something has to be done, and says what. `answered` is whether what was asked last was acknowledged, or came in time; it counts for nothing at first.".into(),
        String::new(),
        "# Errors".into(),
        "The routine has failed, and is over.".into(),
    ]);
    let mut allowed: Vec<String> = printer.allowed.iter().map(|lint| format!("clippy::{lint}")).collect();
    if states.text.lines().count() > 85 {
        allowed.push("clippy::too_many_lines".into());
    }
    if states.text.matches(" let ").count() > 1 {
        allowed.push("clippy::similar_names".into());
    }
    allowed.sort();
    if !allowed.is_empty() {
        out.attribute(1, &allowed);
    }
    let answered = if uses("answered") { "answered" } else { "_answered" };
    let device = if used.is_empty() && !uses("device") { "_device" } else { "device" };
    let head = format!("    pub fn step(&mut self, {device}: &mut Device, {answered}: bool) -> Result<Request<'_>, Failure> {{");
    if head.len() <= 100 {
        out.line(&head);
    } else {
        out.line("    pub fn step(");
        out.line("        &mut self,");
        out.line(&format!("        {device}: &mut Device,"));
        out.line(&format!("        {answered}: bool,"));
        out.line("    ) -> Result<Request<'_>, Failure> {");
    }
    for member in used.iter().filter(|member| !member.starts_with("has_")) {
        out.line(&format!("        let {member} = &mut device.{member};"));
    }
    if loops {
        out.line("        loop {");
        out.line("            match self.at {");
        out.text.push_str(&states.text);
        out.line("                _ => return Ok(Request::Finished),");
        out.line("            }");
        out.line("        }");
    } else {
        out.line("        match self.at {");
        // Here they are the value of the function.
        out.text.push_str(&as_values(&states.text));
        out.line("            _ => Ok(Request::Finished),");
        out.line("        }");
    }
    out.line("    }");
    out.line("}");
    out.blank();
    out.line(&format!("impl Default for {name} {{"));
    out.line("    fn default() -> Self {");
    out.line("        Self::new()");
    out.line("    }");
    out.line("}");
    shared.bcd |= printer.bcd;
    shared.half |= printer.half;
}

/// The states of a machine without a loop: what they return last is their value.
fn as_values(text: &str) -> String {
    let lines: Vec<&str> = text.lines().collect();
    let mut out = String::new();
    let mut inside = false;
    for line in &lines {
        let own = line.strip_prefix("                ").filter(|rest| !rest.starts_with(' '));
        match own.and_then(|own| own.strip_prefix("return ")) {
            Some(value) => {
                let value = value.strip_suffix(';').unwrap_or(value);
                inside = !value.ends_with(')') || value.ends_with('{');
                out.push_str(&format!("                {value}\n"));
            }
            None if inside && own == Some("});") => {
                inside = false;
                out.push_str("                })\n");
            }
            None => out.push_str(&format!("{line}\n")),
        }
    }
    out
}

/// A statement that only machines have.
pub(super) fn statement(statement: &Stmt, printer: &mut Printer, depth: usize, last: bool, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    match statement {
        Stmt::Goto(next) => {
            out.line(&format!("{pad}self.at = {next};"));
            if !last {
                out.line(&format!("{pad}continue;"));
            }
        }
        Stmt::Ask(next, ask) => {
            out.line(&format!("{pad}self.at = {next};"));
            let place = |to: usize, count: usize, whole: bool| {
                if whole {
                    "&mut self.buffer".to_owned()
                } else if to == 0 {
                    format!("&mut self.buffer[..{count}]")
                } else {
                    format!("&mut self.buffer[{to}..{}]", to + count)
                }
            };
            match ask {
                Ask::Transfer(sent, read) => {
                    let write = match sent {
                        Sent::Nothing => "&[]".to_owned(),
                        Sent::Fixed(bytes) => {
                            format!("&[{}]", bytes.iter().map(|byte| format!("0x{byte:02X}")).collect::<Vec<_>>().join(", "))
                        }
                        Sent::Out(count) => format!("&self.out[..{count}]"),
                    };
                    let read = read.map_or("&mut []".to_owned(), |(to, count)| place(to, count, false));
                    out.line(&format!("{pad}return Ok(Request::Transfer {{"));
                    out.line(&format!("{pad}    write: {write},"));
                    out.line(&format!("{pad}    read: {read},"));
                    out.line(&format!("{pad}}});"));
                }
                Ask::ModbusRead(function, address, count, (to, bytes)) => {
                    out.line(&format!("{pad}return Ok(Request::ModbusRead {{"));
                    out.line(&format!("{pad}    function: {function},"));
                    out.line(&format!("{pad}    address: {},", super::digits(i128::from(*address))));
                    out.line(&format!("{pad}    count: {count},"));
                    out.line(&format!("{pad}    data: {},", place(*to, *bytes, false)));
                    out.line(&format!("{pad}}});"));
                }
                Ask::ModbusWrite(address, count) => {
                    out.line(&format!("{pad}return Ok(Request::ModbusWrite {{"));
                    out.line(&format!("{pad}    address: {},", super::digits(i128::from(*address))));
                    out.line(&format!("{pad}    data: &self.out[..{count}],"));
                    out.line(&format!("{pad}}});"));
                }
                Ask::Wait(micros) => {
                    let micros = printer.doc(micros);
                    let doc = super::Doc::Call("Ok".into(), vec![super::Doc::Call("Request::Wait".into(), vec![micros])]);
                    out.statement(&format!("{pad}return "), &doc, depth * 4, ";");
                }
                Ask::Line(high, micros) => {
                    let micros = printer.doc(micros).flat();
                    out.line(&format!("{pad}return Ok(Request::Line {{"));
                    out.line(&format!("{pad}    high: {high},"));
                    out.line(&format!("{pad}    micros: {micros},"));
                    out.line(&format!("{pad}}});"));
                }
            }
        }
        Stmt::Raise(one) => out.line(&format!("{pad}return Err(Failure::{});", failure(*one))),
        Stmt::Finish(end) => {
            out.line(&format!("{pad}self.at = {end};"));
            out.line(&format!("{pad}return Ok(Request::Finished);"));
        }
        Stmt::Unpack(var, ty, unpack) => {
            let chain = format!("{pad}let Some(next) = self.buffer.first_chunk().and_then({}::{}) else {{", ty.rust, unpack.rust);
            if chain.len() <= 99 {
                out.line(&chain);
            } else {
                out.line(&format!("{pad}let Some(next) = self.buffer.first_chunk().and_then({}::{})", ty.rust, unpack.rust));
                out.line(&format!("{pad}else {{"));
            }
            out.line(&format!("{pad}    return Err(Failure::{});", failure(Failure::Check)));
            out.line(&format!("{pad}}};"));
            out.line(&format!("{pad}*{var} = next;"));
            out.line(&format!("{pad}device.has_{var} = true;"));
        }
        Stmt::Out(at, value) => {
            let value = printer.doc(value);
            out.statement(&format!("{pad}self.out[{at}] = "), &value, depth * 4, ";");
        }
        _ => {}
    }
}

/// A driver over the traits of embedded-hal.
fn driver(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    let asynchronous = firmware.hal == Hal::Async;
    let hal = if asynchronous { "embedded_hal_async" } else { "embedded_hal" };
    let (keyword, awaits) = if asynchronous { ("async ", ".await") } else { ("", "") };
    let line = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::Line(..))));
    let waits = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::Wait(..)))) || line;
    out.blank();
    out.doc(0, &["Why the driver gave up.".into()]);
    out.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
    out.line("pub enum Error<E> {");
    out.doc(1, &["The bus itself failed.".into()]);
    out.line("    Bus(E),");
    out.doc(1, &["The routine failed.".into()]);
    out.line("    Failed(Failure),");
    out.line("}");
    if bus == Bus::Modbus {
        modbus_trait(asynchronous, out);
    }
    let (generic, member, bound, error) = match bus {
        Bus::I2c => ("I2C", "i2c", format!("{hal}::i2c::I2c"), "I2C::Error"),
        Bus::Spi => ("SPI", "spi", format!("{hal}::spi::SpiDevice"), "SPI::Error"),
        Bus::Modbus => ("M", "client", "ModbusClient".to_owned(), "M::Error"),
    };
    let mut generics = vec![(generic, bound.clone())];
    if waits {
        generics.push(("D", format!("{hal}::delay::DelayNs")));
    }
    if line {
        generics.push(("P", "embedded_hal::digital::InputPin".to_owned()));
    }
    let names: Vec<&str> = generics.iter().map(|(name, _)| *name).collect();
    out.blank();
    out.doc(0, &["The part on a bus.".into()]);
    out.line("#[derive(Debug)]");
    out.line(&format!("pub struct Driver<{}> {{", names.join(", ")));
    out.line(&format!("    {member}: {generic},"));
    if waits {
        out.line("    delay: D,");
    }
    if line {
        out.line("    line: P,");
    }
    match bus {
        Bus::I2c => out.line("    address: u8,"),
        Bus::Modbus => out.line("    unit: u8,"),
        Bus::Spi => {}
    }
    out.doc(1, &["What is known of the part.".into()]);
    out.line("    pub device: Device,");
    out.line("}");
    out.blank();
    out.line(&format!("impl<{0}> Driver<{0}>", names.join(", ")));
    out.line("where");
    for (name, bound) in &generics {
        out.line(&format!("    {name}: {bound},"));
    }
    out.line("{");
    let mut params = vec![format!("{member}: {generic}")];
    let mut inits = vec![member.to_owned()];
    if waits {
        params.push("delay: D".into());
        inits.push("delay".into());
    }
    if line {
        params.push("line: P".into());
        inits.push("line".into());
    }
    match bus {
        Bus::I2c => inits.push("address: I2C_ADDRESS".into()),
        Bus::Modbus => inits.push("unit: MODBUS_UNIT".into()),
        Bus::Spi => {}
    }
    inits.push("device: Device::RESET".into());
    out.doc(1, &["The part as after a reset.".into()]);
    out.line(&format!("    pub const fn new({}) -> Self {{", params.join(", ")));
    out.line("        Self {");
    inits.iter().for_each(|init| out.line(&format!("            {init},")));
    out.line("        }");
    out.line("    }");
    if bus == Bus::I2c {
        out.line("");
        out.doc(1, &["At another address, as its pins choose it.".into()]);
        out.line("    #[must_use]");
        out.line("    pub fn at(self, address: u8) -> Self {");
        out.line("        Self { address, ..self }");
        out.line("    }");
    }
    out.line("");
    out.doc(1, &["The bus and what else it was made from.".into()]);
    let parts: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
    let values: Vec<String> = params.iter().map(|param| format!("self.{}", param.split(':').next().unwrap_or(""))).collect();
    if parts.len() == 1 {
        out.line(&format!("    pub fn release(self) -> {} {{", parts.join("")));
        out.line(&format!("        {}", values.join("")));
    } else {
        out.line(&format!("    pub fn release(self) -> ({}) {{", parts.join(", ")));
        out.line(&format!("        ({})", values.join(", ")));
    }
    out.line("    }");
    for machine in &firmware.module.machines {
        out.line("");
        out.doc(
            1,
            &[
                format!("Runs routine {}.", machine.name.rust),
                String::new(),
                "# Errors".into(),
                "[`Error`]; the routine is over then.".into(),
            ],
        );
        out.line(&format!("    pub {keyword}fn {}(&mut self) -> Result<(), Error<{error}>> {{", machine.name.rust));
        out.line(&format!("        let mut run = {}::new();", machine.ty.rust));
        out.line("        let mut answered = true;");
        out.line("        loop {");
        out.line("            let request = run");
        out.line("                .step(&mut self.device, answered)");
        out.line("                .map_err(Error::Failed)?;");
        out.line("            if matches!(request, Request::Finished) {");
        out.line("                return Ok(());");
        out.line("            }");
        out.line(&format!("            answered = self.serve(request){awaits}?;"));
        out.line("        }");
        out.line("    }");
    }
    out.line("");
    out.doc(1, &["Does what a routine asks for; `false` where the part does not answer.".into()]);
    out.line(&format!("    {keyword}fn serve(&mut self, request: Request<'_>) -> Result<bool, Error<{error}>> {{"));
    out.line("        match request {");
    match bus {
        Bus::I2c => {
            out.line("            Request::Transfer { write, read } => {");
            out.line("                let done = if read.is_empty() {");
            out.line(&format!("                    self.i2c.write(self.address, write){awaits}"));
            out.line("                } else if write.is_empty() {");
            out.line(&format!("                    self.i2c.read(self.address, read){awaits}"));
            out.line("                } else {");
            out.line(&format!("                    self.i2c.write_read(self.address, write, read){awaits}"));
            out.line("                };");
            out.line("                match done {");
            out.line("                    Ok(()) => Ok(true),");
            out.line("                    Err(error) => match embedded_hal::i2c::Error::kind(&error) {");
            out.line("                        embedded_hal::i2c::ErrorKind::NoAcknowledge(_) => Ok(false),");
            out.line("                        _ => Err(Error::Bus(error)),");
            out.line("                    },");
            out.line("                }");
            out.line("            }");
        }
        Bus::Spi => {
            out.line("            Request::Transfer { write, read } => {");
            out.line(
                &format!("                let write = {hal}::spi::Operation::Write(write);")
                    .replace("embedded_hal_async::spi::Operation", "embedded_hal_async::spi::Operation"),
            );
            out.line(&format!("                let read = {hal}::spi::Operation::Read(read);"));
            out.line(&format!("                let done = self.spi.transaction(&mut [write, read]){awaits};"));
            out.line("                done.map(|()| true).map_err(Error::Bus)");
            out.line("            }");
        }
        Bus::Modbus => {
            let reads = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::ModbusRead(..))));
            let writes = firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::ModbusWrite(..))));
            if reads {
                out.line("            Request::ModbusRead {");
                out.line("                function,");
                out.line("                address,");
                out.line("                count,");
                out.line("                data,");
                out.line("            } => {");
                if asynchronous {
                    out.line("                let done = self");
                    out.line("                    .client");
                    out.line("                    .read(self.unit, function, address, count, data)");
                    out.line("                    .await;");
                } else {
                    out.line("                let done = self.client.read(self.unit, function, address, count, data);");
                }
                out.line("                done.map_err(Error::Bus)");
                out.line("            }");
            }
            if writes {
                out.line("            Request::ModbusWrite { address, data } => {");
                out.line(&format!("                let done = self.client.write(self.unit, address, data){awaits};"));
                out.line("                done.map_err(Error::Bus)");
                out.line("            }");
            }
        }
    }
    if firmware.module.machines.iter().any(|machine| asks(machine, &|ask| matches!(ask, Ask::Wait(..)))) {
        out.line("            Request::Wait(micros) => {");
        out.line(&format!("                self.delay.delay_us(micros){awaits};"));
        out.line("                Ok(true)");
        out.line("            }");
    }
    if line {
        out.line("            Request::Line { high, micros } => {");
        out.line("                let mut passed = 0;");
        out.line("                // A line that cannot be read counts as one that does not come.");
        out.line("                while self.line.is_high().ok() != Some(high) {");
        out.line("                    if passed >= micros {");
        out.line("                        return Ok(false);");
        out.line("                    }");
        out.line(&format!("                    self.delay.delay_us(100){awaits};"));
        out.line("                    passed += 100;");
        out.line("                }");
        out.line("                Ok(true)");
        out.line("            }");
    }
    out.line("            Request::Finished => Ok(true),");
    out.line("        }");
    out.line("    }");
    out.line("}");
}

fn modbus_trait(asynchronous: bool, out: &mut Lines) {
    let keyword = if asynchronous { "async " } else { "" };
    out.blank();
    out.doc(0, &["A client of Modbus, over a serial line or TCP: yours.".into()]);
    if asynchronous {
        out.line("#[allow(async_fn_in_trait)] // nothing here is sent to another thread");
    }
    out.line("pub trait ModbusClient {");
    out.doc(1, &["What can go wrong with the line.".into()]);
    out.line("    type Error;");
    out.line("");
    out.doc(
        1,
        &[
            "Reads registers, high byte first, or bits, by a function from 1 to 4; `false` where nobody answers.".into(),
            String::new(),
            "# Errors".into(),
            "The line failed, or the response is none.".into(),
        ],
    );
    out.line(&format!("    {keyword}fn read("));
    for param in ["&mut self", "unit: u8", "function: u8", "address: u16", "count: u16", "data: &mut [u8]"] {
        out.line(&format!("        {param},"));
    }
    out.line("    ) -> Result<bool, Self::Error>;");
    out.line("");
    out.doc(
        1,
        &[
            "Writes registers, high byte first; `false` where nobody answers.".into(),
            String::new(),
            "# Errors".into(),
            "The line failed, or the response is none.".into(),
        ],
    );
    out.line(&format!("    {keyword}fn write(&mut self, unit: u8, address: u16, data: &[u8]) -> Result<bool, Self::Error>;"));
    out.line("}");
}
