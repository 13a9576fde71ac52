//! The frames of a part in its traffic, and its settings: transfer by transfer, with whatever client.

use std::sync::Arc;

use super::traffic::Traffic;
use crate::bus::modbus::ResponseError;
use crate::bus::{AnswerError, Bus, Operation, Received, Transfer, Wire};
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
    part: Part,
    /// The Modbus unit id of the sheet.
    unit: Option<u8>,
    state: State,
    /// The state that the transfers below are planned for.
    planned_for: State,
    /// Fields used by readings.
    settings: Arc<[FieldId]>,
    /// The transfers of each frame, over each bus, also those without data.
    frames: Vec<(FrameId, Vec<Transfer>)>,
    /// Frames that have begun.
    open: Vec<Open>,
    /// The bytes of the last write over I2C, for a read that follows as a transfer of its own.
    written: Option<Vec<u8>>,
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
struct Open {
    /// Its place in the list of frames.
    place: usize,
    /// Number of its transfers so far.
    count: usize,
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
            open: Vec::new(),
            written: None,
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
        if !self.planned_for.has_same_values(&self.state) {
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

    /// A transfer in the form of this library: divided into request and answer, with its register address.
    pub fn as_asked(&self, traffic: &Traffic) -> Traffic {
        let transfer = &traffic.transfer;
        match transfer.bus {
            Bus::Spi => self.divided(traffic),
            Bus::I2c if transfer.send.is_empty() && transfer.receive > 0 && self.is_own(transfer) => {
                self.joined(traffic).unwrap_or_else(|| traffic.clone())
            }
            _ => traffic.clone(),
        }
    }

    /// A read over I2C with the write before it: one transfer, with a stop in between.
    fn joined(&self, traffic: &Traffic) -> Option<Traffic> {
        if self.next_of_open().any(|next| traffic.is(next)) {
            return None;
        }
        if self.frames.iter().any(|(_, transfers)| transfers.first().is_some_and(|first| traffic.is(first))) {
            return None;
        }
        let transfer = Transfer { send: self.written.clone()?, ..traffic.transfer.clone() };
        let joined = Traffic { transfer, ..traffic.clone() };
        let is_pointer = self.part.buses.i2c.as_ref().is_some_and(|i2c| joined.transfer.send.len() * 8 == i2c.pointer as usize);
        let is_frame = self.frames.iter().any(|(_, transfers)| transfers.first().is_some_and(|first| joined.is(first)));
        (is_frame || is_pointer && !self.part.registers.is_empty()).then_some(joined)
    }

    /// A transfer over SPI, divided where the answer begins.
    fn divided(&self, traffic: &Traffic) -> Traffic {
        let (out, Ok(back)) = (&traffic.transfer.send, &traffic.outcome) else { return traffic.clone() };
        if traffic.transfer.receive > 0 || back.len() != out.len() {
            return traffic.clone();
        }
        let head = self.head(out);
        let transfer = Transfer { send: out[..head].to_vec(), receive: out.len() - head, ..traffic.transfer.clone() };
        Traffic { at: traffic.at, transfer, outcome: Ok(back[head..].to_vec()) }
    }

    /// How many of the bytes that were clocked out are before the answer.
    fn head(&self, out: &[u8]) -> usize {
        let planned = self.frames.iter().flat_map(|(_, transfers)| transfers).filter(|transfer| transfer.bus == Bus::Spi);
        let fits = |transfer: &&Transfer| transfer.send.len() + transfer.receive == out.len() && out.starts_with(&transfer.send);
        let longest = planned.filter(fits).map(|transfer| transfer.send.len()).max();
        let dummy = self.part.buses.spi.as_ref().map_or(0, |spi| spi.dummy);
        // The answer to the previous transfer is clocked out with zeros.
        let awaited = |next: &&Transfer| next.send.len() <= dummy && next.send.len() + next.receive == out.len();
        if let Some(next) = self.next_of_open().find(awaited).filter(|_| out.iter().all(|byte| *byte == 0)) {
            return next.send.len();
        }
        if let Some(length) = longest.filter(|length| *length > dummy) {
            return length;
        }
        let pointer = self.part.buses.spi.as_ref().map_or(0, |spi| spi.pointer as usize / 8 + spi.dummy);
        let read = |head: &[u8]| self.part.buses.spi.as_ref().and_then(|spi| spi.received(head, out.len() - head.len()).ok());
        match out.get(..pointer).filter(|_| pointer > 0 && out.len() > pointer).and_then(read) {
            _ if is_command(&self.part, &self.state, out) => out.len(),
            Some(Received::Read { address, .. }) if self.register(address).is_some() => pointer,
            _ if self.writes(out) || understood(&self.part, &self.state, out).is_some() => out.len(),
            read => match (self.asked_in(out), read) {
                (Some(length), _) => length,
                (None, Some(Received::Read { .. })) if longest.is_none() => pointer,
                _ => longest.unwrap_or(out.len()),
            },
        }
    }

    /// The length of a command with other arguments that asks for a frame in these bytes.
    fn asked_in(&self, out: &[u8]) -> Option<usize> {
        let dummy = self.part.buses.spi.as_ref().map_or(0, |spi| spi.dummy);
        let all =
            self.frames.iter().flat_map(|(_, transfers)| transfers).filter(|transfer| transfer.bus == Bus::Spi && transfer.receive > 0);
        let mut lengths: Vec<usize> =
            all.filter(|transfer| transfer.send.len() + transfer.receive == out.len()).map(|transfer| transfer.send.len()).collect();
        lengths.sort_unstable();
        lengths.dedup();
        let fits = |length: &usize| {
            let command = out.get(..length.saturating_sub(dummy)).filter(|command| !command.is_empty());
            command.is_some_and(|command| understood(&self.part, &self.state, command).is_some())
        };
        lengths.into_iter().rev().find(fits)
    }

    /// The next transfers of frames that have begun.
    fn next_of_open(&self) -> impl Iterator<Item = &Transfer> {
        self.open.iter().filter_map(|one| self.frames.get(one.place).and_then(|(_, transfers)| transfers.get(one.count)))
    }

    /// Whether bytes over SPI are a write to a register.
    fn writes(&self, out: &[u8]) -> bool {
        let received = self.part.buses.spi.as_ref().and_then(|spi| spi.received(out, 0).ok());
        matches!(received, Some(Received::Write { address, .. }) if self.register(address).is_some())
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

    /// The registers that a transfer writes or reads, before it is taken; `None` without registers.
    pub(crate) fn accessed(&self, asked: &Traffic) -> Option<Accessed> {
        let wire = self.part.buses.wire(asked.transfer.bus)?;
        if is_command(&self.part, &self.state, &asked.transfer.send) {
            return None;
        }
        match wire.received(&asked.transfer.send, asked.transfer.receive).ok()? {
            Received::Write { address, data } => Some(Accessed::Write(self.registers_from(address, &data)?)),
            Received::Read { address, .. } => {
                let data = wire.data(&asked.transfer, asked.outcome.as_ref().ok()?).ok()?;
                Some(Accessed::Read(self.registers_from(address, data)?))
            }
            Received::Command { .. } => None,
        }
    }

    /// The registers from an address on, and their values; `None` without registers.
    fn registers_from(&self, address: u32, data: &[u8]) -> Option<Vec<(RegisterId, u64)>> {
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

    /// Incomplete or ambiguous register access, in words: a part of a register, or one of several if a bank is unknown.
    pub(crate) fn doubtful(&self, asked: &Traffic) -> Option<String> {
        let wire = self.part.buses.wire(asked.transfer.bus)?;
        let received = wire.received(&asked.transfer.send, asked.transfer.receive).ok()?;
        let (Received::Write { address, .. } | Received::Read { address, .. }) = received else { return None };
        if let Some(id) = self.register(address) {
            return Some(format!("part of {}", self.part.registers[id].name));
        }
        let there: Vec<&Register> = self.part.registers.iter().filter(|register| register.at == address).collect();
        let banks = there.iter().flat_map(|register| &register.bank).map(|(field, _)| &self.part.fields[*field]);
        let bank = banks.into_iter().find(|field| !self.state.knows(field))?;
        let names: Vec<&str> = there.iter().map(|register| register.name.as_str()).collect();
        Some(format!("{}: {} was never read or set", names.join(" or "), bank.name))
    }

    /// A frame that has begun and is incomplete: how many of its transfers came, and how many it has.
    pub(crate) fn begun(&self) -> Option<(FrameId, usize, usize)> {
        let open = self.open.last()?;
        let (frame, transfers) = self.frames.get(open.place)?;
        Some((*frame, open.count, transfers.len()))
    }

    /// Whether a bank is selected that is unknown.
    pub(crate) fn has_unknown_bank(&self) -> bool {
        let mut banks = self.part.registers.iter().flat_map(|register| &register.bank);
        banks.any(|(field, _)| !self.state.knows(&self.part.fields[*field]))
    }

    /// Whether a transfer is to this part, not to another on the same bus.
    fn is_own(&self, transfer: &Transfer) -> bool {
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
        match wire.received(&transfer.send, transfer.receive) {
            Ok(Received::Write { address, data }) if self.register(address).is_some() => self.written(traffic, address, &data),
            Ok(Received::Read { address, .. }) if self.register(address).is_some() => {
                let data = traffic.outcome.as_ref().ok().and_then(|answer| wire.data(transfer, answer).ok()).map(<[u8]>::to_vec);
                let settings = Arc::clone(&self.settings);
                let all = self.pieces.is_some();
                self.walk(address, &data.unwrap_or_default(), |id, _, state, register, value| {
                    read.push((id, value));
                    // Read-only registers on which nothing depends are not worth following.
                    if all || register.access.is_writable() || register.fields.iter().any(|field| settings.contains(field)) {
                        state.read_register(register, value);
                    }
                });
            }
            _ if traffic.outcome.is_ok() => {
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
    fn register(&self, address: u32) -> Option<RegisterId> {
        let mut there = self.part.registers.entries().filter(|(_, register)| register.at == address);
        let only = there.next().filter(|_| there.next().is_none()).map(|(id, _)| id);
        register_at(&self.part, &self.state, address).0.or(only)
    }
}

/// For each frame the transfers that bring it, over each bus.
fn frames(part: &Part, state: &State) -> Vec<(FrameId, Vec<Transfer>)> {
    let mut frames = Vec::new();
    for (id, frame) in part.frames.entries() {
        for bus in part.buses.all() {
            let operations = read_frame(part, bus, frame, state).unwrap_or_default();
            let transfers = operations.into_iter().filter_map(|operation| match operation {
                Operation::Transfer(transfer) => Some(transfer),
                _ => None,
            });
            frames.push((id, transfers.collect::<Vec<_>>()));
        }
    }
    frames
}
