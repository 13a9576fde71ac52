//! Frames and settings of a part in the traffic of any client, transfer by transfer.

use std::sync::Arc;

use super::traffic::Traffic;
use crate::bus::modbus::ResponseError;
use crate::bus::{AnswerError, Bus, Operation, Received, Transfer};
use crate::model::frame::{Frame, Origin};
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::input::Input;
use crate::model::part::{Part, Sheet};
use crate::model::registers::{Numbering, Register};
use crate::model::state::State;
use crate::plan::heard::{is_command, left_by, may_nak, register_at, set_with, understood, unit_after};
use crate::plan::transfers::read_frame;

/// Finds the frames of a part in its traffic, transfer by transfer, and follows its settings.
#[derive(Clone, Debug)]
pub struct TrafficFrames {
    pub(super) part: Part,
    /// The Modbus unit id of the sheet.
    unit: Option<u8>,
    pub(super) state: State,
    /// Whether transfers depend on the state.
    varies: bool,
    /// The state that the transfers below are planned for.
    planned_for: State,
    /// Fields used by readings.
    settings: Arc<[FieldId]>,
    /// The transfers of each frame, over each bus, also those without data.
    pub(super) frames: Vec<(FrameId, Vec<Transfer>)>,
    /// Frames that have begun.
    pub(super) open: Vec<Open>,
    /// The bytes of the last write over I2C, for a read that follows as a transfer of its own.
    pub(super) written: Option<Vec<u8>>,
    /// Register address of the last read over SPI, if answers come with the next transfer.
    pub(super) requested: Option<u32>,
    /// Registers of frames that were read one by one; `None` if only whole frames count.
    pieces: Option<Vec<Pieces>>,
}

/// The registers of a frame that were read so far.
#[derive(Clone, Debug)]
struct Pieces {
    frame: FrameId,
    registers: Vec<(RegisterId, Option<u64>)>,
}

/// Registers that a transfer wrote or read, with their values.
#[derive(Clone, Debug)]
pub(crate) enum Accessed {
    Write(Vec<(RegisterId, u64)>),
    Read(Vec<(RegisterId, u64)>),
}

impl Accessed {
    pub(crate) fn registers(&self) -> Vec<RegisterId> {
        let (Accessed::Write(list) | Accessed::Read(list)) = self;
        list.iter().map(|(id, _)| *id).collect()
    }
}

/// A frame that has begun.
#[derive(Clone, Debug)]
pub(super) struct Open {
    /// Its place in the list of frames.
    pub(super) place: usize,
    /// Number of its transfers so far.
    pub(super) count: usize,
    bytes: Vec<u8>,
}

impl TrafficFrames {
    /// The frames of a part that is in this state when the recording begins.
    pub fn new(part: &Part, state: &State) -> Self {
        Self {
            frames: frames(part, state),
            unit: part.unit(),
            settings: part.held_inputs(&part.frames.ids().collect::<Vec<_>>()).into_iter().filter_map(Input::field).collect(),
            part: part.clone(),
            state: state.clone(),
            planned_for: state.clone(),
            varies: varies(part),
            open: Vec::new(),
            written: None,
            requested: None,
            pieces: None,
        }
    }

    /// Also takes frames of registers whose registers are read one by one, in any order, as clients other than this library do.
    #[must_use]
    pub fn in_pieces(mut self) -> Self {
        let pieces = |(frame, model): (FrameId, &Frame)| match &model.origin {
            Origin::Registers(runs) => Some(Pieces { frame, registers: runs.iter().flatten().map(|register| (*register, None)).collect() }),
            _ => None,
        };
        self.pieces = Some(self.part.frames.entries().filter_map(pieces).collect());
        self
    }

    /// The state of the part so far.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Takes an operation. Returns the frames it completes, with their bytes: several if the sheet reads several frames alike.
    /// Register writes, register reads and the arguments of commands update the state.
    pub fn take(&mut self, traffic: &Traffic) -> Vec<(FrameId, Vec<u8>)> {
        let traffic = &self.as_asked(traffic);
        let read = self.hear(traffic);
        if self.varies && !self.planned_for.has_same_values(&self.state) {
            // Each frame keeps its place.
            self.frames = frames(&self.part, &self.state);
            self.planned_for.adopt(&self.state);
        }
        let Ok(bytes) = &traffic.outcome else { return Vec::new() };
        let (mut open, mut whole) = (std::mem::take(&mut self.open), Vec::new());
        let next = |one: &Open| self.frames.get(one.place).and_then(|(_, transfers)| transfers.get(one.count));
        let continues = |one: &Open| next(one).is_some_and(|next| traffic.is(next));
        // A read without a command belongs to the last command: it begins no other frame, and another command abandons it.
        let bare = traffic.transfer.send.is_empty();
        let awaited = bare && open.iter().any(continues);
        open.retain(|one| bare || continues(one) || next(one).is_some_and(|next| !next.send.is_empty()));
        for (place, (id, transfers)) in self.frames.iter().enumerate() {
            let begun = open.iter().position(|one| one.place == place && continues(one)).map(|at| open.swap_remove(at));
            let begins = |transfers: &[Transfer]| !awaited && transfers.first().is_some_and(|first| traffic.is(first));
            let Some(mut one) = begun.or_else(|| begins(transfers).then(|| Open { place, count: 0, bytes: Vec::new() })) else { continue };
            // The first transfer of a frame restarts it.
            open.retain(|other| other.place != place);
            if transfers.get(one.count).is_some_and(|transfer| !transfer.discard && transfer.receive > 0) {
                one.bytes.extend_from_slice(self.data_of(*id, traffic, bytes));
            }
            one.count += 1;
            if one.count == transfers.len() {
                whole.push((*id, one.bytes));
            } else {
                open.push(one);
            }
        }
        self.open = open;
        self.collect(&read, &mut whole);
        whole
    }

    /// Takes registers that were read, and adds the frames that are whole with them.
    fn collect(&mut self, read: &[(RegisterId, u64)], whole: &mut Vec<(FrameId, Vec<u8>)>) {
        let part = self.part.clone();
        for Pieces { frame, registers } in self.pieces.iter_mut().flatten() {
            if whole.iter().any(|(known, _)| known == frame) {
                registers.iter_mut().for_each(|(_, value)| *value = None);
                continue;
            }
            let mut news = false;
            for (id, value) in registers.iter_mut() {
                if let Some((_, came)) = read.iter().find(|(known, _)| known == id) {
                    (*value, news) = (Some(*came), true);
                }
            }
            if news && registers.iter().all(|(_, value)| value.is_some()) {
                let bytes = registers.iter_mut().flat_map(|(id, value)| part.registers[*id].wire_bytes(value.take().unwrap_or(0)));
                whole.push((*frame, bytes.collect()));
            }
        }
    }

    /// The registers from an address on, and their values; `None` without registers.
    pub(super) fn registers_from(&self, address: u32, data: &[u8]) -> Option<Vec<(RegisterId, u64)>> {
        let (mut at, mut rest, mut found) = (address, data, Vec::new());
        while let Some((id, value, next, behind)) = self.register_of(at, rest) {
            found.push((id, value));
            (at, rest) = (next, behind);
        }
        (!found.is_empty()).then_some(found)
    }

    /// The register at an address, its value in the first bytes, the next address, and the remaining bytes.
    fn register_of<'b>(&self, at: u32, data: &'b [u8]) -> Option<(RegisterId, u64, u32, &'b [u8])> {
        let id = self.register(at)?;
        let register = &self.part.registers[id];
        let (own, behind) = data.split_at_checked(register.bytes)?;
        Some((id, register.value_of(own), Numbering::of(&self.part).behind(register), behind))
    }

    /// A frame that has begun and is incomplete: how many of its transfers came, and how many it has.
    pub(crate) fn begun(&self) -> Option<(FrameId, usize, usize)> {
        let open = self.open.last()?;
        let (frame, transfers) = self.frames.get(open.place)?;
        Some((*frame, open.count, transfers.len()))
    }

    /// Whether a transfer is to this part, not to another on the same bus.
    pub(super) fn is_own(&self, transfer: &Transfer) -> bool {
        transfer.bus != Bus::I2c || transfer.address == self.part.buses.i2c.as_ref().map(|i2c| i2c.address)
    }

    /// The bytes of an answer that belong to a frame. A frame of registers has their data only; so has a table of a part that has
    /// moved to another unit. An invalid answer is kept unchanged, and is refused by the decoder.
    fn data_of<'b>(&self, frame: FrameId, traffic: &Traffic, answer: &'b [u8]) -> &'b [u8] {
        let of_registers = self.part.frames.get(frame).is_some_and(|frame| matches!(frame.origin, Origin::Registers(_)));
        let wire = self.part.buses.wire(traffic.transfer.bus).filter(|_| of_registers || self.part.unit() != self.unit);
        wire.and_then(|wire| wire.data(&traffic.transfer, answer).ok()).unwrap_or(answer)
    }

    /// Updates registers and settings from a transfer. Returns the registers that were read, with their values.
    fn hear(&mut self, traffic: &Traffic) -> Vec<(RegisterId, u64)> {
        let mut read = Vec::new();
        let transfer = &traffic.transfer;
        let Some(wire) = self.part.buses.wire(transfer.bus) else { return read };
        if !self.is_own(transfer) {
            return read;
        }
        if transfer.bus == Bus::I2c {
            self.written = Some(transfer.send.clone()).filter(|sent| !sent.is_empty() && traffic.outcome.is_ok());
        }
        // A read without a command is not a write of the address alone.
        let sends = transfer.receive == 0 || !transfer.send.is_empty();
        if sends && is_command(&self.part, &self.state, &transfer.send) {
            if traffic.outcome.is_ok() || may_nak(&self.part, &self.state, &transfer.send) {
                for (field, code) in set_with(&self.part, &self.state, &transfer.send) {
                    self.state.set_field(&self.part.fields[field], code);
                }
            }
            return read;
        }
        let received = self.answered(transfer.bus, wire.received(&transfer.send, transfer.receive));
        self.requested = match wire.received(&transfer.send, transfer.receive) {
            Ok(Received::Read { address, .. }) if self.is_late(transfer.bus) => Some(address),
            _ => None,
        };
        match received {
            Ok(Received::Write { address, data }) if self.register(address).is_some() => self.written(traffic, address, &data),
            Ok(Received::Read { address, .. }) if self.register(address).is_some() => {
                let data = traffic.outcome.as_ref().ok().and_then(|answer| wire.data(transfer, answer).ok()).map(<[u8]>::to_vec);
                let settings = Arc::clone(&self.settings);
                let all = self.pieces.is_some();
                self.walk(address, &data.unwrap_or_default(), |id, _, state, register, value| {
                    read.push((id, value));
                    // Read-only registers without dependents are not followed.
                    if all || register.access.is_writable() || register.fields.iter().any(|field| settings.contains(field)) {
                        state.read_register(register, value);
                    }
                });
            }
            Ok(_) if traffic.outcome.is_ok() => {
                let found = understood(&self.part, &self.state, &transfer.send);
                found.into_iter().for_each(|state| self.state.adopt(&state));
            }
            _ => {}
        }
        read
    }

    /// Updates written registers: unknown if the transfer failed, unchanged if the answer is an exception.
    fn written(&mut self, traffic: &Traffic, address: u32, data: &[u8]) {
        let wire = self.part.buses.wire(traffic.transfer.bus);
        let answer = traffic.outcome.as_ref().ok().zip(wire).map(|(answer, wire)| wire.data(&traffic.transfer, answer));
        if matches!(answer, Some(Err(AnswerError::Response(ResponseError::Exception { .. })))) {
            return;
        }
        let (whole, mut unit) = (traffic.outcome.is_ok(), None);
        self.walk(address, data, |_, part, state, register, value| {
            if whole {
                let left = left_by(part, state, register, value);
                unit = unit_after(part, state, register, left.value).or(unit);
                state.write_register(register, left.value, left.known);
            } else {
                state.forget_register(register);
            }
        });
        if let Some(unit) = unit {
            self.part = self.part.clone().with_unit(unit);
            self.frames = frames(&self.part, &self.state);
        }
    }

    /// Splits bytes among the register at an address and those that follow.
    fn walk(&mut self, address: u32, data: &[u8], mut each: impl FnMut(RegisterId, &Sheet, &mut State, &Register, u64)) {
        let part = self.part.clone();
        let (mut at, mut rest) = (address, data);
        while let Some((id, value, next, behind)) = self.register_of(at, rest) {
            each(id, &part, &mut self.state, &part.registers[id], value);
            (at, rest) = (next, behind);
        }
    }

    /// The register at an address; if the bank is unknown, the only candidate.
    pub(super) fn register(&self, address: u32) -> Option<RegisterId> {
        let mut there = self.part.registers.entries().filter(|(_, register)| register.at == address);
        let only = there.next().filter(|_| there.next().is_none()).map(|(id, _)| id);
        register_at(&self.part, &self.state, address).0.or(only)
    }
}

/// Whether the transfers of some frame depend on the state: by formulas of its commands and waits, or by banks.
fn varies(part: &Sheet) -> bool {
    let mut exchanges = part.frames.iter().flat_map(|frame| frame.origin.exchanges());
    exchanges.any(|exchange| exchange.formulas().next().is_some()) || part.registers.iter().any(|register| !register.bank.is_empty())
}

/// Whether a frame's registers share an address with others, and the selected bank is unknown.
fn is_ambiguous(part: &Sheet, frame: &Frame, state: &State) -> bool {
    let Origin::Registers(runs) = &frame.origin else { return false };
    let shares = |register: &Register| part.registers.iter().filter(|other| other.at == register.at).count() > 1;
    let unknown = |register: &Register| register.bank.iter().any(|(field, _)| !state.knows(&part.fields[*field]));
    part.registers.of(runs.iter().flatten()).any(|register| unknown(register) && shares(register))
}

/// For each frame the transfers that bring it, over each bus; none if the selected bank decides about it and is unknown.
fn frames(part: &Part, state: &State) -> Vec<(FrameId, Vec<Transfer>)> {
    let mut frames = Vec::new();
    // Frames are recognized with unknown waits and settings, too.
    let planned = state.assumed(part);
    for (id, frame) in part.frames.entries() {
        for bus in part.buses.all() {
            let operations = read_frame(part, bus, frame, &planned).unwrap_or_default();
            let clear = !is_ambiguous(part, frame, state);
            let transfers = operations.into_iter().filter_map(|operation| match operation {
                Operation::Transfer(transfer) if clear => Some(transfer),
                _ => None,
            });
            frames.push((id, transfers.collect::<Vec<_>>()));
        }
    }
    frames
}
