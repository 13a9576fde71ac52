//! State machines in Rust.

use super::super::Firmware;
use super::super::code::{Ask, Failure, Machine, Sent, Stmt};
use super::super::machines::ends;
use super::super::used::Used;
use super::device::members;
use super::driver::failure;
use super::expr::Printer;
use super::lines::Lines;
use super::literals::type_name;
use super::statements::block;

pub(super) fn state_type(machine: &Machine) -> &'static str {
    if machine.states.len() > 255 { "u16" } else { "u8" }
}

pub(super) fn run(machine: &Machine, firmware: &Firmware, shared: &mut Printer, out: &mut Lines) {
    let name = &machine.ty.rust;
    out.blank();
    out.doc(0, &[format!("A run of routine {}, for event loops and interrupts.", machine.name.rust)]);
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
    let function = machine.function();
    // A machine with a request in each state needs no loop: its states are the value of the function.
    let loops = machine.loops();
    let values = (!loops).then_some(4);
    let mut printer = Printer { own: Some("run".into()), values, ..Printer::default() };
    let mut states = Lines::default();
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
    let all = Used::by(machine);
    let is_used = |member: &String| all.names.contains(member) || all.unpacked.contains(member);
    let used: Vec<String> = members(firmware).into_iter().map(|(member, _)| member).filter(is_used).collect();
    out.doc(
        1,
        &[
            "Returns the next request. `answered` is `true` if the last request was acknowledged in time; it is ignored in the first call."
                .into(),
            String::new(),
            "# Errors".into(),
            "The routine has failed, and is over.".into(),
        ],
    );
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
    let answered = if all.answered { "answered" } else { "_answered" };
    let device = if used.is_empty() { "_device" } else { "device" };
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
        out.text.push_str(&states.text);
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

/// A statement that only machines have.
pub(super) fn statement(statement: &Stmt, printer: &mut Printer, depth: usize, last: bool, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    // The last statement of a state may be the value of the function.
    let is_value = last && printer.values == Some(depth);
    let (give, end) = if is_value { ("", "") } else { ("return ", ";") };
    match statement {
        Stmt::Goto(next) => {
            out.line(&format!("{pad}self.at = {next};"));
            if !last {
                out.line(&format!("{pad}continue;"));
            }
        }
        Stmt::Ask(next, ask) => {
            out.line(&format!("{pad}self.at = {next};"));
            let place = |to: usize, count: usize| {
                if to == 0 { format!("&mut self.buffer[..{count}]") } else { format!("&mut self.buffer[{to}..{}]", to + count) }
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
                    let read = read.map_or("&mut []".to_owned(), |(to, count)| place(to, count));
                    out.line(&format!("{pad}{give}Ok(Request::Transfer {{"));
                    out.line(&format!("{pad}    write: {write},"));
                    out.line(&format!("{pad}    read: {read},"));
                    out.line(&format!("{pad}}}){end}"));
                }
                Ask::ModbusRead(function, address, count, (to, bytes)) => {
                    out.line(&format!("{pad}{give}Ok(Request::ModbusRead {{"));
                    out.line(&format!("{pad}    function: {function},"));
                    out.line(&format!("{pad}    address: {},", super::digits(i128::from(*address))));
                    out.line(&format!("{pad}    count: {count},"));
                    out.line(&format!("{pad}    data: {},", place(*to, *bytes)));
                    out.line(&format!("{pad}}}){end}"));
                }
                Ask::ModbusWrite(address, count) => {
                    out.line(&format!("{pad}{give}Ok(Request::ModbusWrite {{"));
                    out.line(&format!("{pad}    address: {},", super::digits(i128::from(*address))));
                    out.line(&format!("{pad}    data: &self.out[..{count}],"));
                    out.line(&format!("{pad}}}){end}"));
                }
                Ask::Wait(micros) => {
                    let micros = printer.doc(micros);
                    let doc = super::Doc::Call("Ok".into(), vec![super::Doc::Call("Request::Wait".into(), vec![micros])]);
                    out.statement(&format!("{pad}{give}"), &doc, depth * 4, end);
                }
                Ask::Line(high, micros) => {
                    let micros = printer.doc(micros).flat();
                    out.line(&format!("{pad}{give}Ok(Request::Line {{"));
                    out.line(&format!("{pad}    high: {high},"));
                    out.line(&format!("{pad}    micros: {micros},"));
                    out.line(&format!("{pad}}}){end}"));
                }
            }
        }
        Stmt::Raise(one) => out.line(&format!("{pad}{give}Err(Failure::{}){end}", failure(*one))),
        Stmt::Finish(done) => {
            out.line(&format!("{pad}self.at = {done};"));
            out.line(&format!("{pad}{give}Ok(Request::Finished){end}"));
        }
        Stmt::Unpack { var, ty, function, length, counted } => {
            // A frame of variable length is read completely.
            let whole = if *counted {
                format!("|bytes| {}::{}(bytes, {length})", ty.rust, function.rust)
            } else {
                format!("{}::{}", ty.rust, function.rust)
            };
            let chain = format!("{pad}let Some(next) = self.buffer.first_chunk().and_then({whole}) else {{");
            if chain.len() <= 99 {
                out.line(&chain);
            } else {
                out.line(&format!("{pad}let Some(next) = self.buffer.first_chunk().and_then({whole})"));
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
