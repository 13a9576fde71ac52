//! The routines of a module in Rust.

use yemdo::Part;
use yemdo::bus::Bus;

use super::{Replay, listed, replays};

/// Code shared by all modules.
pub const TOOLS: &str = include_str!("script.rs");

/// Requests, as an enum that has them looks and as they are answered.
const WAIT: (&str, &str) = ("\n    Wait(u32),", "Request::Wait(micros) => script.wait(1, micros)");
const LINE: (&str, &str) = ("\n    Line {", "Request::Line { high, micros } => script.wait(if high { 3 } else { 2 }, micros)");
const TRANSFER: (&str, &str) = ("\n    Transfer {", "Request::Transfer { write, read } => script.transfer(write, read)");
const MODBUS_READ: (&str, &str) =
    ("\n    ModbusRead {", "Request::ModbusRead { function, address, count, data } => script.modbus_read(function, address, count, data)");
const MODBUS_WRITE: (&str, &str) = ("\n    ModbusWrite {", "Request::ModbusWrite { address, data } => script.modbus_write(address, data)");

/// A run of a routine.
const RUN: &str = "
fn @NAME@() -> Option<String> {
    use @MODULE@::{Device, @RUN@Run, Request};
    let mut script = script::Script::new(\"@WHICH@\", &[@SCRIPT@]);
    let (mut run, mut device, mut answered) = (@RUN@Run::new(), Device::RESET, true);
    loop {
        let same = match run.step(&mut device, answered) {
            Err(_) => return script.ended(false),
            Ok(Request::Finished) => return script.ended(true),
            Ok(request) => {
                let asked = format!(\"{request:?}\");
                let came = match request {
                    @ARMS@,
                    Request::Finished => None,
                };
                came.ok_or(asked)
            }
        };
        match same {
            Ok(came) => answered = came,
            Err(asked) => return script.told(&asked),
        }
    }
}
";

/// Functions that run the routines of a module against the library's runs, each giving what differs; and their names.
pub fn functions(part: &Part, text: &str, module: &str) -> (String, Vec<String>) {
    let runs: Vec<&str> = text.match_indices("Run {\n    /// Its beginning.").map(|(at, _)| type_before(text, at)).collect();
    let asks = match part.buses().all().next() {
        Some(Bus::Modbus) => [WAIT, LINE, MODBUS_READ, MODBUS_WRITE].to_vec(),
        _ => [WAIT, LINE, TRANSFER].to_vec(),
    };
    let arms: Vec<&str> = asks.into_iter().filter(|(has, _)| text.contains(has)).map(|(_, arm)| arm).collect();
    let (mut functions, mut names) = (String::new(), Vec::new());
    for (at, Replay { routine, which, script }) in replays(part).into_iter().enumerate() {
        let name = format!("{module}_replay_{at}");
        let function = RUN.replace("@ARMS@", &arms.join(",\n                    ")).replace("@RUN@", runs[routine]);
        let function = function.replace("@NAME@", &name).replace("@MODULE@", module);
        functions.push_str(&function.replace("@WHICH@", &which).replace("@SCRIPT@", &listed(&script)));
        names.push(name);
    }
    (functions, names)
}

/// The name of the type before a position.
fn type_before(text: &str, at: usize) -> &str {
    text[..at].rsplit(' ').next().unwrap_or("")
}
