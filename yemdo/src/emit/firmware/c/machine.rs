//! State machines in C.

use super::super::Firmware;
use super::super::code::{Ask, Expr, Failure, Machine, Sent, Stmt};
use super::super::machines::ends;
use super::super::used::Used;
use super::driver::{failure, members};
use super::expr::Printer;
use super::{Lines, statements};

pub(super) fn state_type(machine: &Machine) -> &'static str {
    if machine.states.len() > 255 { "uint16_t" } else { "uint8_t" }
}

pub(super) fn print(machine: &Machine, firmware: &Firmware, printer: &mut Printer<'_>, out: &mut Lines) {
    let (p, up) = (&firmware.prefix.lower, &firmware.prefix.upper);
    let function = machine.function();
    printer.tried.clear();
    printer.filled = false;
    let mut states = Lines::default();
    for (index, (comment, list)) in machine.states.iter().enumerate() {
        states.line(&format!("        case {index}: {{"));
        if !comment.is_empty() {
            states.line(&format!("            /* {} */", super::plain(comment)));
        }
        statements(list, &function, printer, 3, &mut states);
        if !ends(list) {
            states.line(&format!("            run->at = {};", index + 1));
            states.line("            break;");
        }
        states.line("        }");
    }
    out.blank();
    out.wrapped(
        &format!(
            "{p}_outcome_t {}_step({} *run, {p}_device_t *device, bool answered, {p}_request_t *request)",
            machine.name.c, machine.ty.c
        ),
        0,
    );
    out.line("{");
    let used = Used::by(machine);
    let mut locals = Vec::new();
    for (member, ty) in members(firmware).into_iter().filter(|(member, _)| used.names.contains(member)) {
        let constant = if used.changed.contains(&member) { "" } else { "const " };
        locals.push(format!("    {constant}{ty} *const {member} = &device->{member};"));
    }
    if used.unpacked.is_empty() && locals.is_empty() {
        locals.push("    (void)device;".into());
    }
    if !used.answered {
        locals.push("    (void)answered;".into());
    }
    locals.iter().for_each(|line| out.line(line));
    out.line(&format!("    *request = ({p}_request_t){{ .kind = {up}_FINISHED }};"));
    // What never continues by itself needs no loop.
    let loops = machine.loops();
    if loops {
        out.line("    for (;;) {");
        out.line("        switch (run->at) {");
        out.raw(&states.text);
        out.line("        default:");
        out.line(&format!("            return {up}_SUCCEEDED;"));
        out.line("        }");
        out.line("    }");
    } else {
        out.line("    switch (run->at) {");
        states.text.lines().for_each(|line| out.line(line.strip_prefix("    ").unwrap_or(line)));
        out.line("    default:");
        out.line(&format!("        return {up}_SUCCEEDED;"));
        out.line("    }");
    }
    out.line("}");
}

/// A statement that only machines have.
pub(super) fn statement(statement: &Stmt, printer: &mut Printer<'_>, depth: usize, out: &mut Lines) {
    let pad = "    ".repeat(depth);
    let (p, up) = (printer.prefix.to_owned(), super::super::names::upper(printer.prefix));
    match statement {
        Stmt::Goto(next) => {
            out.line(&format!("{pad}run->at = {next};"));
            out.line(&format!("{pad}continue;"));
        }
        Stmt::Ask(next, ask) => {
            out.line(&format!("{pad}run->at = {next};"));
            let mut set = |member: &str, value: &str| out.wrapped(&format!("{pad}request->{member} = {value};"), depth);
            match ask {
                Ask::Transfer(sent, read) => {
                    set("kind", &format!("{up}_TRANSFER"));
                    match sent {
                        Sent::Nothing => {}
                        Sent::Fixed(bytes) => {
                            let list: Vec<String> = bytes.iter().map(|byte| format!("0x{byte:02X}")).collect();
                            // A constant of this place, which outlives the call.
                            let name = format!("bytes_{}", list.join("_").replace("0x", "").to_lowercase());
                            out.line(&format!("{pad}static const uint8_t {name}[] = {{ {} }};", list.join(", ")));
                            out.line(&format!("{pad}request->write = {name};"));
                            out.line(&format!("{pad}request->write_length = {};", bytes.len()));
                        }
                        Sent::Out(count) => {
                            set("write", "run->out");
                            set("write_length", &count.to_string());
                        }
                    }
                    if let Some((to, count)) = read {
                        let place = if *to == 0 { "run->buffer".to_owned() } else { format!("&run->buffer[{to}]") };
                        out.line(&format!("{pad}request->read = {place};"));
                        out.line(&format!("{pad}request->read_length = {count};"));
                    }
                }
                Ask::ModbusRead(function, address, count, (to, bytes)) => {
                    set("kind", &format!("{up}_MODBUS_READ"));
                    set("function", &function.to_string());
                    set("address", &address.to_string());
                    set("count", &count.to_string());
                    let place = if *to == 0 { "run->buffer".to_owned() } else { format!("&run->buffer[{to}]") };
                    set("read", &place);
                    set("read_length", &bytes.to_string());
                }
                Ask::ModbusWrite(address, bytes) => {
                    set("kind", &format!("{up}_MODBUS_WRITE"));
                    set("address", &address.to_string());
                    set("write", "run->out");
                    set("write_length", &bytes.to_string());
                }
                Ask::Wait(micros) => {
                    let micros = printer.alone(micros);
                    out.line(&format!("{pad}request->kind = {up}_WAIT;"));
                    out.wrapped(&format!("{pad}request->micros = {micros};"), depth);
                }
                Ask::Line(high, micros) => {
                    let micros = printer.alone(micros);
                    out.line(&format!("{pad}request->kind = {up}_LINE;"));
                    out.line(&format!("{pad}request->high = {high};"));
                    out.wrapped(&format!("{pad}request->micros = {micros};"), depth);
                }
            }
            out.line(&format!("{pad}return {up}_SUCCEEDED;"));
        }
        Stmt::Raise(one) => out.line(&format!("{pad}return {};", failure(&up, *one))),
        Stmt::Finish(end) => {
            out.line(&format!("{pad}run->at = {end};"));
            out.line(&format!("{pad}return {up}_SUCCEEDED;"));
        }
        Stmt::Unpack { var, function, length, counted, .. } => {
            let came = if *counted { format!(", {length}U") } else { String::new() };
            out.line(&format!("{pad}if (!{}(&device->{var}, run->buffer{came})) {{", function.c));
            out.line(&format!("{pad}    return {};", failure(&up, Failure::Check)));
            out.line(&format!("{pad}}}"));
            out.line(&format!("{pad}device->has_{var} = true;"));
        }
        Stmt::Out(at, value) => {
            let value = printer.value(value, crate::ground::number::Ty::U8);
            out.wrapped(&format!("{pad}run->out[{at}] = {value};"), depth);
        }
        _ => {
            let _ = (p, Expr::NoAnswer);
        }
    }
}
