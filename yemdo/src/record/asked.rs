//! Transfers of any client in the form of this library: divided into request and answer, with their registers.

use super::followed::{Accessed, TrafficFrames};
use super::traffic::Traffic;
use crate::bus::{Bus, Received, Transfer, Wire};
use crate::model::registers::Field;
use crate::plan::heard::{is_command, understood};

impl TrafficFrames {
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

    /// The registers that a transfer writes or reads, before it is taken; `None` without registers.
    pub(crate) fn accessed(&self, asked: &Traffic) -> Option<Accessed> {
        let wire = self.part.buses.wire(asked.transfer.bus)?;
        if is_command(&self.part, &self.state, &asked.transfer.send) {
            return None;
        }
        match self.answered(asked.transfer.bus, wire.received(&asked.transfer.send, asked.transfer.receive)).ok()? {
            Received::Write { address, data } => Some(Accessed::Write(self.registers_from(address, &data)?)),
            Received::Read { address, .. } => {
                let data = wire.data(&asked.transfer, asked.outcome.as_ref().ok()?).ok()?;
                Some(Accessed::Read(self.registers_from(address, data)?))
            }
            Received::Command { .. } => None,
        }
    }

    /// Incomplete or ambiguous register access, in words: a part of a register, or one of several if a bank is unknown.
    pub(crate) fn doubtful(&self, asked: &Traffic) -> Option<String> {
        let address = self.address_of(asked)?;
        if let Some(id) = self.register(address) {
            let what = if self.is_late(asked.transfer.bus) { "request of" } else { "part of" };
            return Some(format!("{what} {}", self.part.registers[id].name));
        }
        let bank = self.unknown_bank(address)?;
        let there = self.part.registers.iter().filter(|register| register.at == address);
        let names: Vec<&str> = there.map(|register| register.name.as_str()).collect();
        Some(format!("{}: {} was never read or set", names.join(" or "), bank.name))
    }

    /// Whether the register of a transfer depends on a bank that is unknown.
    pub(crate) fn is_undecided(&self, asked: &Traffic) -> bool {
        self.address_of(asked).is_some_and(|address| self.unknown_bank(address).is_some())
    }

    /// The register address of a transfer.
    fn address_of(&self, asked: &Traffic) -> Option<u32> {
        let wire = self.part.buses.wire(asked.transfer.bus)?;
        match wire.received(&asked.transfer.send, asked.transfer.receive).ok()? {
            Received::Write { address, .. } | Received::Read { address, .. } => Some(address),
            Received::Command { .. } => None,
        }
    }

    /// A field with an unknown code that selects a bank with a register at an address.
    fn unknown_bank(&self, address: u32) -> Option<&Field> {
        let there = self.part.registers.iter().filter(|register| register.at == address);
        let mut banks = there.flat_map(|register| &register.bank).map(|(field, _)| &self.part.fields[*field]);
        banks.find(|field| !self.state.knows(field))
    }

    /// Whether answers over a bus come with the next transfer.
    pub(super) fn is_late(&self, bus: Bus) -> bool {
        bus == Bus::Spi && self.part.buses.spi.as_ref().is_some_and(|spi| spi.late)
    }

    /// A read with the address that its answer is of: over late SPI that of the transfer before.
    pub(super) fn answered(&self, bus: Bus, received: Result<Received, String>) -> Result<Received, String> {
        match received {
            Ok(Received::Read { bytes, .. }) if self.is_late(bus) => match self.requested {
                Some(address) => Ok(Received::Read { address, bytes }),
                None => Err("a request, whose answer comes with the next transfer".into()),
            },
            other => other,
        }
    }
}
