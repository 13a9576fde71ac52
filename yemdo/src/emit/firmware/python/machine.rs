//! State machines in Python.

use super::super::Firmware;
use super::super::code::{Ask, Failure, Machine, Sent, Stmt};
use super::super::machines::ends;
use super::super::names::upper;
use super::super::used::Used;
use super::driver::members;
use super::expr::Printer;
use super::lines::{Lines, comment};
use super::statements::block;

/// The constant for a failure.
pub(super) fn failure(failure: Failure) -> String {
    Failure::ALL.iter().find(|(known, ..)| *known == failure).map_or(String::new(), |(_, words, _)| upper(words))
}

pub(super) fn run(machine: &Machine, firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    out.space();
    out.line(0, &format!("class {}:", machine.ty.python));
    out.docstring(1, &[format!("A run of routine {}, for event loops.", machine.name.python)]);
    out.line(0, "");
    out.line(1, "def __init__(self) -> None:");
    out.line(2, "self.at = 0");
    machine.keeps.iter().for_each(|(name, _)| out.line(2, &format!("self.{name} = 0")));
    for (name, length) in [("out", machine.out), ("buffer", machine.buffer)] {
        if length > 0 {
            out.line(2, &format!("self.{name} = bytearray({length})"));
        }
    }
    out.line(0, "");
    out.line(1, "def step(self, device: Device, answered: bool = True) -> \"Request | None\":");
    out.docstring(
        2,
        &[
            "Returns the next request, or None at the end. `answered` is True if the last request was acknowledged in time.".into(),
            String::new(),
            "Raises Failure if the routine has failed; it is over then.".into(),
        ],
    );
    let used = Used::by(machine);
    printer.calls(&used);
    for member in members(firmware).iter().filter(|member| used.names.contains(&member.variable)) {
        out.line(2, &format!("{} = device.{}", printer.local(&member.variable), member.attribute));
    }
    let loops = machine.loops();
    if loops {
        out.line(2, "while True:");
    }
    let depth = if loops { 3 } else { 2 };
    let function = machine.function();
    for (index, (meaning, list)) in machine.states.iter().enumerate() {
        out.line(depth, &format!("{} self.at == {index}:", if index == 0 { "if" } else { "elif" }));
        if !meaning.is_empty() {
            comment(meaning, depth + 1, out);
        }
        if !list.is_empty() {
            block(list, &function, printer, depth + 1, out);
        }
        if !ends(list) {
            out.line(depth + 1, &format!("self.at = {}", index + 1));
        }
    }
    if loops {
        out.line(depth, "else:");
        out.line(depth + 1, "return None");
    } else {
        out.line(depth, "return None");
    }
}

/// A statement that only machines have.
pub(super) fn statement(statement: &Stmt, printer: &mut Printer, depth: usize, out: &mut Lines) {
    match statement {
        Stmt::Goto(next) => {
            out.line(depth, &format!("self.at = {next}"));
            out.line(depth, "continue");
        }
        Stmt::Ask(next, ask) => {
            out.line(depth, &format!("self.at = {next}"));
            let request = asked(ask, printer);
            out.lay(depth, &format!("return {request}"));
        }
        Stmt::Raise(one) => out.line(depth, &format!("raise Failure({})", failure(*one))),
        Stmt::Finish(end) => {
            out.line(depth, &format!("self.at = {end}"));
            out.line(depth, "return None");
        }
        Stmt::Unpack { var, function, length, counted, .. } => {
            let count = if *counted { format!(", {length}") } else { String::new() };
            let call = printer.callee(function).name;
            let member = super::super::names::python(var);
            let new = printer.temporary(&format!("frame_{var}"));
            out.lay(depth, &format!("{new} = {call}(memoryview(self.buffer)[:{length}]{count})"));
            out.line(depth, &format!("if {new} is None:"));
            out.line(depth + 1, &format!("raise Failure({})", failure(Failure::Check)));
            // Later states of this call look at the new one.
            let own = if printer.names.contains(var) { format!("{} = ", printer.local(var)) } else { String::new() };
            out.line(depth, &format!("device.{member} = {own}{new}"));
            out.line(depth, &format!("device.has_{var} = True"));
        }
        Stmt::Out(at, value) => {
            let value = printer.alone(value);
            out.lay(depth, &format!("self.out[{at}] = {value}"));
        }
        _ => {}
    }
}

fn asked(ask: &Ask, printer: &mut Printer) -> String {
    let place = |to: usize, count: usize| format!("memoryview(self.buffer)[{to}:{}]", to + count);
    match ask {
        Ask::Transfer(sent, read) => {
            let write = match sent {
                Sent::Nothing => "b\"\"".to_owned(),
                Sent::Fixed(bytes) => format!("b\"{}\"", bytes.iter().map(|byte| format!("\\x{byte:02x}")).collect::<String>()),
                Sent::Out(count) => format!("bytes(self.out[:{count}])"),
            };
            let read = read.map_or(String::new(), |(to, count)| format!(", read={}", place(to, count)));
            format!("Request(TRANSFER, write={write}{read})")
        }
        Ask::ModbusRead(function, address, count, (to, bytes)) => {
            format!("Request(MODBUS_READ, function={function}, address={address}, count={count}, read={})", place(*to, *bytes))
        }
        Ask::ModbusWrite(address, count) => format!("Request(MODBUS_WRITE, address={address}, write=bytes(self.out[:{count}]))"),
        Ask::Wait(micros) => format!("Request(WAIT, micros={})", printer.alone(micros)),
        Ask::Line(high, micros) => {
            format!("Request(LINE, high={}, micros={})", if *high { "True" } else { "False" }, printer.alone(micros))
        }
    }
}
