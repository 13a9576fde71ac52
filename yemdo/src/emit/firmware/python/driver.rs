//! Routines in Python: the known state of the part, requests, and a driver over any object with the usual methods of a bus.

use super::super::code::{Ask, Failure, Role};
use super::super::{Firmware, Hal};
use super::beginning;
use super::expr::Printer;
use super::lines::{Lines, comment};
use super::machine::{failure, run};
use crate::bus::Bus;

/// A member of the device: a part of the known state.
pub(super) struct Known {
    /// The variable of routines.
    pub(super) variable: String,
    pub(super) attribute: String,
    class: String,
    /// It is a frame, with a flag.
    frame: bool,
}

pub(super) fn members(firmware: &Firmware) -> Vec<Known> {
    let mut all = Vec::new();
    for (role, variable) in [(Role::Settings, "settings"), (Role::Parameters, "parameters")] {
        if let Some(one) = firmware.module.of_role(role) {
            let class = one.name.python.clone();
            all.push(Known { variable: variable.to_owned(), attribute: variable.to_owned(), class, frame: false });
        }
    }
    for calls in &firmware.module.frames {
        let (variable, attribute) = (calls.var.clone(), super::super::names::python(&calls.var));
        all.push(Known { variable, attribute, class: calls.ty.python.clone(), frame: true });
    }
    all
}

/// Modules that the driver imports.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Imports {
    pub(super) asyncio: bool,
    pub(super) sys: bool,
    pub(super) time: bool,
    pub(super) typing: bool,
}

pub(super) fn imports(firmware: &Firmware) -> Imports {
    let Some(bus) = firmware.bus.filter(|_| firmware.hal != Hal::None) else { return Imports::default() };
    let asynchronous = firmware.hal == Hal::Async;
    Imports { asyncio: asynchronous, sys: bus == Bus::I2c, time: !asynchronous, typing: true }
}

pub(super) fn print(firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    let Some(bus) = firmware.bus else { return };
    device(firmware, printer, out);
    failures(out);
    requests(firmware, bus, out);
    firmware.module.machines.iter().for_each(|machine| run(machine, firmware, printer, out));
    if firmware.hal != Hal::None {
        driver(firmware, bus, out);
    }
}

fn device(firmware: &Firmware, printer: &mut Printer, out: &mut Lines) {
    out.space();
    out.line(0, "class Device:");
    out.docstring(1, &["Known state of the part; at first as after a reset: no frame has come.".into()]);
    out.line(0, "");
    out.line(1, "def __init__(self) -> None:");
    for member in members(firmware) {
        let Known { attribute: name, class, frame, variable } = member;
        let structure = firmware.module.structs.iter().find(|one| frame && one.name.python == class);
        let values: Vec<String> = structure.map_or(Vec::new(), |one| one.members.iter().map(|inner| beginning(inner, printer)).collect());
        out.exploded(2, &format!("self.{name} = {class}("), &values, ")");
        if frame {
            out.line(2, &format!("self.has_{variable} = False"));
        }
    }
    for calls in &firmware.module.frames {
        let Some((name, ty, params)) = &calls.readings else { continue };
        let call = printer.callee(name);
        out.line(0, "");
        out.line(1, &format!("def {}_readings(self) -> \"{} | None\":", calls.var, ty.python));
        let frames = firmware.module.frames.iter();
        let needed = frames.filter(|other| other.var == calls.var || params.iter().any(|param| param.name == other.var));
        let missing: Vec<String> = needed.map(|other| format!("not self.has_{}", other.var)).collect();
        out.docstring(2, &[format!("The readings of {} as it came last; None until all that they need has come.", calls.var)]);
        out.lay(2, &format!("if {}:", missing.join(" or ")));
        out.line(3, "return None");
        let args: Vec<String> = params.iter().map(|param| format!("self.{}", super::super::names::python(&param.name))).collect();
        out.lay(2, &format!("return {}", call.call("", &args)));
    }
}

fn failures(out: &mut Lines) {
    out.line(0, "");
    out.line(0, "");
    comment("Why a routine fails.", 0, out);
    for (one, words, doc) in Failure::ALL {
        out.line(0, &format!("{} = \"{words}\"  # {doc}", failure(one)));
    }
    out.space();
    out.line(0, "class Failure(Exception):");
    out.docstring(1, &["A failed routine; `reason` is one of the reasons above.".into()]);
    out.line(0, "");
    out.line(1, "def __init__(self, reason: str) -> None:");
    out.line(2, "super().__init__(reason)");
    out.line(2, "self.reason = reason");
}

fn requests(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    out.line(0, "");
    out.line(0, "");
    comment("Kinds of requests.", 0, out);
    let kinds = [
        ("TRANSFER", bus != Bus::Modbus, "write bytes, then read; either may be empty"),
        ("MODBUS_READ", bus == Bus::Modbus, "read registers or bits"),
        ("MODBUS_WRITE", bus == Bus::Modbus, "write registers"),
        ("WAIT", true, "let microseconds pass"),
        ("LINE", firmware.module.asks(&|ask| matches!(ask, Ask::Line(..))), "wait for a level of the data-ready line"),
    ];
    for (number, (name, _, doc)) in kinds.iter().enumerate().filter(|(_, (_, used, _))| *used) {
        out.line(0, &format!("{name} = {number}  # {doc}"));
    }
    out.space();
    out.line(0, "class Request:");
    out.docstring(1, &["A request of a routine; `read` is the buffer for the bytes read.".into()]);
    out.line(0, "");
    let modbus = bus == Bus::Modbus;
    let mut params =
        vec!["self", "kind: int", "write: bytes = b\"\"", "read: \"memoryview | None\" = None", "micros: int = 0", "high: bool = False"];
    if modbus {
        params.extend(["function: int = 0", "address: int = 0", "count: int = 0"]);
    }
    let params: Vec<String> = params.into_iter().map(str::to_owned).collect();
    out.head(1, "def __init__", &params, "None");
    let names = params.iter().skip(1).filter_map(|param| param.split(':').next());
    names.for_each(|name| out.line(2, &format!("self.{name} = {name}")));
}

/// The function that talks to a bus object.
const I2C: &str = r#"
def i2c_transfer(
    bus: Any, address: int, write: bytes, read: "memoryview | None"
) -> bool:
    """A transfer by the methods that the object has; False if not acknowledged.

    It may be that of a board (`writeto`, `readfrom_into`), a Linux bus with `i2c_rdwr`,
    or a function of the address, the bytes and the buffer.
    """
    try:
        if hasattr(bus, "readfrom_into"):
            if write or read is None:
                bus.writeto(address, write, read is None)
            if read is not None:
                bus.readfrom_into(address, read)
        elif hasattr(bus, "i2c_rdwr"):
            homes = [sys.modules[kind.__module__] for kind in type(bus).__mro__]
            message: Any = next(one.i2c_msg for one in homes if hasattr(one, "i2c_msg"))
            messages = [message.write(address, write)] if write or read is None else []
            if read is not None:
                messages.append(message.read(address, len(read)))
            bus.i2c_rdwr(*messages)
            if read is not None:
                read[:] = bytes(list(messages[-1]))
        else:
            return bool(bus(address, write, read))
    except OSError as error:
        # Input/output error, no such device, time-out, remote error: by system.
        if error.errno in (5, 6, 19, 110, 116, 121):
            return False
        raise
    return True
"#;

const SPI: &str = r#"
def spi_transfer(
    bus: Any, select: Any, write: bytes, read: "memoryview | None"
) -> bool:
    """A transfer by the methods that the object has.

    It may be that of a board (`write`, `readinto`, with a pin `select`), a Linux device
    with `xfer2`, or a function of the bytes and the buffer.
    """
    count = 0 if read is None else len(read)
    if hasattr(bus, "xfer2"):
        received = bus.xfer2(list(write) + [0] * count)
        if read is not None:
            read[:] = bytes(received[len(write) :])
        return True
    if not hasattr(bus, "readinto"):
        return bool(bus(write, read))
    select(0)
    try:
        if write:
            bus.write(write)
        if read is not None:
            bus.readinto(read)
    finally:
        select(1)
    return True
"#;

const SLEEP: &str = r#"
def _sleep_us(micros: int) -> None:
    if hasattr(time, "sleep_us"):
        time.sleep_us(micros)
    else:
        time.sleep(micros / 1e6)
"#;

fn driver(firmware: &Firmware, bus: Bus, out: &mut Lines) {
    let asynchronous = firmware.hal == Hal::Async;
    let line = firmware.module.asks(&|ask| matches!(ask, Ask::Line(..)));
    let transfer = match bus {
        Bus::I2c => Some(I2C),
        Bus::Spi => Some(SPI),
        Bus::Modbus => None,
    };
    for text in transfer.into_iter().chain((!asynchronous).then_some(SLEEP)) {
        out.space();
        text.trim().lines().for_each(|line| out.line(0, line));
    }
    out.space();
    out.line(0, "class Driver:");
    out.docstring(1, &["The part on a bus. `device` is its known state.".into()]);
    begin(bus, asynchronous, line, out);
    let (keyword, awaits) = if asynchronous { ("async ", "await ") } else { ("", "") };
    for machine in &firmware.module.machines {
        // `device` is the member.
        let name = if machine.name.python == "device" { "device_" } else { machine.name.python.as_str() };
        out.line(0, "");
        out.line(1, &format!("{keyword}def {name}(self) -> None:"));
        out.docstring(2, &[format!("Runs routine {}. Raises Failure if it fails.", machine.name.python)]);
        out.line(2, &format!("{awaits}self._run({}())", machine.ty.python));
    }
    out.line(0, "");
    out.line(1, &format!("{keyword}def _run(self, run: Any) -> None:"));
    out.line(2, "answered = True");
    out.line(2, "while True:");
    out.line(3, "request = run.step(self.device, answered)");
    out.line(3, "if request is None:");
    out.line(4, "return");
    out.line(3, &format!("answered = {awaits}self._serve(request)"));
    serve(bus, asynchronous, line, out);
}

/// The beginning of a driver: its bus, and how it waits.
fn begin(bus: Bus, asynchronous: bool, line: bool, out: &mut Lines) {
    let (params, doc): (&[(&str, &str)], &str) = match bus {
        Bus::I2c => (&[("bus", "Any"), ("address", "int = I2C_ADDRESS")], "`bus`: see i2c_transfer."),
        Bus::Spi => (&[("bus", "Any"), ("select", "Any = None")], "`bus` and `select`: see spi_transfer."),
        Bus::Modbus => (
            &[("read", "Any"), ("write", "Any"), ("unit", "int = MODBUS_UNIT")],
            "`read` takes unit, function, address and count, and returns the bytes, high byte first, or None without a response; `write` takes \
             unit, address and bytes, and returns False without a response.",
        ),
    };
    let mut params = params.to_vec();
    let mut doc = doc.to_owned();
    if line {
        params.push(("line", "Any"));
        doc.push_str(" `line` returns the level of the data-ready line.");
    }
    params.push(("wait", if asynchronous { "Any = None" } else { "Any = _sleep_us" }));
    doc.push_str(" `wait` lets microseconds pass.");
    let kept = params.clone();
    // Parameters without a default come first.
    params.sort_by_key(|(_, ty)| ty.contains(" = "));
    let params: Vec<String> = ["self".to_owned()].into_iter().chain(params.iter().map(|(name, ty)| format!("{name}: {ty}"))).collect();
    out.line(0, "");
    out.head(1, "def __init__", &params, "None");
    out.docstring(2, &[doc]);
    kept.iter().for_each(|(name, _)| out.line(2, &format!("self._{name} = {name}")));
    out.line(2, "self.device = Device()");
}

fn serve(bus: Bus, asynchronous: bool, line: bool, out: &mut Lines) {
    let (keyword, awaits) = if asynchronous { ("async ", "await ") } else { ("", "") };
    out.line(0, "");
    out.line(1, &format!("{keyword}def _serve(self, request: Request) -> bool:"));
    out.line(2, "if request.kind == WAIT:");
    out.line(3, &format!("{awaits}self._pause(request.micros)"));
    out.line(3, "return True");
    if line {
        out.line(2, "if request.kind == LINE:");
        out.line(3, "passed = 0");
        out.line(3, "while bool(self._line()) != request.high:");
        out.line(4, "if passed >= request.micros:");
        out.line(5, "return False");
        out.line(4, &format!("{awaits}self._pause(100)"));
        out.line(4, "passed += 100");
        out.line(3, "return True");
    }
    match bus {
        Bus::I2c => out.line(2, "return i2c_transfer(self._bus, self._address, request.write, request.read)"),
        Bus::Spi => out.line(2, "return spi_transfer(self._bus, self._select, request.write, request.read)"),
        Bus::Modbus => {
            out.line(2, "if request.kind == MODBUS_WRITE:");
            out.lay(3, &format!("return bool({awaits}self._write(self._unit, request.address, request.write))"));
            out.line(2, "function, address, count = request.function, request.address, request.count");
            out.line(2, &format!("data = {awaits}self._read(self._unit, function, address, count)"));
            out.line(2, "if data is None or request.read is None:");
            out.line(3, "return False");
            out.line(2, "request.read[:] = data");
            out.line(2, "return True");
        }
    }
    out.line(0, "");
    out.line(1, &format!("{keyword}def _pause(self, micros: int) -> None:"));
    if asynchronous {
        out.line(2, "if self._wait is None:");
        out.line(3, "await asyncio.sleep(micros / 1e6)");
        out.line(2, "else:");
        out.line(3, "await self._wait(micros)");
    } else {
        out.line(2, "self._wait(micros)");
    }
}
