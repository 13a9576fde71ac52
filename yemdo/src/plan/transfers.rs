//! The transfers that write registers, and read registers and frames, over any bus of a part.

use crate::bus::{Bus, Transfer};
use crate::model::frame::{Frame, Origin};
use crate::model::part::Sheet;
use crate::model::registers::Register;

/// Writes a value into a register; `None` where the part is not reached over the bus.
pub fn write_register(part: &Sheet, bus: Bus, register: &Register, value: u64) -> Option<Transfer> {
    Some(part.buses.wire(bus)?.write(register.at, &register.wire_bytes(value)))
}

/// Reads registers that follow one another; the answer is that of the last transfer.
pub fn read_registers(part: &Sheet, bus: Bus, registers: &[&Register]) -> Option<Vec<Transfer>> {
    let bytes: usize = registers.iter().map(|register| register.bytes).sum();
    let first = registers.first()?;
    Some(part.buses.wire(bus)?.read(first.at, bytes, registers.len() > 1))
}

/// Reads a frame: its bytes are the answers, one behind the other, of all transfers that are not discarded.
pub fn read_frame(part: &Sheet, bus: Bus, frame: &Frame) -> Option<Vec<Transfer>> {
    let wire = part.buses.wire(bus)?;
    Some(match &frame.origin {
        Origin::Read { command } => wire.send(command, frame.length),
        Origin::Transfers(list) => list.iter().flat_map(|(command, read)| wire.send(command, *read)).collect(),
        Origin::Registers(runs) => {
            let run = |run| read_registers(part, bus, &part.registers.of(run).collect::<Vec<_>>());
            runs.iter().map(run).collect::<Option<Vec<_>>>()?.concat()
        }
        Origin::Modbus(range) => vec![part.buses.modbus.as_ref().filter(|_| bus == Bus::Modbus)?.read_range(range)],
    })
}
