//! The transfers that write registers, and read registers and frames, over any bus of a part.

use std::fmt;

use crate::bus::{Bus, Operation, Transfer, Wire};
use crate::model::command::{Exchange, NotSent};
use crate::model::frame::{Frame, Origin};
use crate::model::part::Sheet;
use crate::model::registers::Register;
use crate::model::state::State;
use crate::model::value::Present;

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

/// Why a frame cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotReadable {
    /// The part is not reached over this bus.
    OtherBus(Bus),
    /// A formula of its command, or of the time to wait, gives nothing that can be sent or waited for.
    NotSent(NotSent),
}

impl fmt::Display for NotReadable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NotReadable::OtherBus(bus) => write!(f, "the frame is not read over {}", bus.name()),
            NotReadable::NotSent(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for NotReadable {}

impl From<NotSent> for NotReadable {
    fn from(error: NotSent) -> Self {
        NotReadable::NotSent(error)
    }
}

/// Reads a frame, in the state that its command may follow from: transfers, and waits between them.
/// Its bytes are the answers, one behind the other, of all transfers that bring any and are not discarded.
///
/// # Errors
/// [`NotReadable`].
pub fn read_frame(part: &Sheet, bus: Bus, frame: &Frame, state: &State) -> Result<Vec<Operation>, NotReadable> {
    operations(&Present { part, state }, bus, frame)
}

pub(crate) fn operations(present: &Present<'_>, bus: Bus, frame: &Frame) -> Result<Vec<Operation>, NotReadable> {
    let part = present.part;
    let wire = part.buses.wire(bus).ok_or(NotReadable::OtherBus(bus))?;
    let mut list = Vec::new();
    match &frame.origin {
        Origin::Read(one) => exchange(present, wire, one, &mut list)?,
        Origin::Transfers(all) => all.iter().try_for_each(|one| exchange(present, wire, one, &mut list))?,
        Origin::Registers(runs) => {
            let run = |run| read_registers(part, bus, &part.registers.of(run).collect::<Vec<_>>()).unwrap_or_default();
            list.extend(runs.iter().flat_map(run).map(Operation::Transfer));
        }
        Origin::Modbus(range) => {
            let modbus = part.buses.modbus.as_ref().filter(|_| bus == Bus::Modbus).ok_or(NotReadable::OtherBus(bus))?;
            list.push(Operation::Transfer(modbus.read_range(range)));
        }
    }
    Ok(list)
}

/// Something is sent, and read: in one transfer, or with a time in between.
fn exchange(present: &Present<'_>, wire: &dyn Wire, one: &Exchange, list: &mut Vec<Operation>) -> Result<(), NotSent> {
    let command = one.command.now(present)?;
    match &one.wait {
        None => list.extend(wire.send(&command, one.read).into_iter().map(Operation::Transfer)),
        Some(time) => {
            list.extend(wire.send(&command, 0).into_iter().map(Operation::Transfer));
            list.push(Operation::Wait(time.micros(present)?));
            // Where answers come late, this is the next transfer already.
            list.extend(wire.send(&[], one.read).into_iter().filter(|transfer| !transfer.discard).map(Operation::Transfer));
        }
    }
    Ok(())
}
