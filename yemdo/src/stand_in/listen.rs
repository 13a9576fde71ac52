//! Transfers over I2C and SPI, and their effect on the part.

use super::judge::Rule;
use super::state::StandIn;
use crate::bus::{Bus, Received, Spi, Transfer, Wire, split_pointer};
use crate::model::command::Command;
use crate::model::frame::{Code, Origin, Otherwise};
use crate::model::ids::{FrameId, RegisterId};
use crate::plan::heard::{is_command, understood};

/// Response of the part to a transfer.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Reaction {
    /// It acknowledges, and sends these bytes.
    Answer(Vec<u8>),
    /// It does not acknowledge its address: it is not there, or busy.
    NakAddress,
    /// It does not acknowledge a byte that was sent to it.
    NakData,
    /// Nothing comes at all.
    Silence,
    /// It sends these bytes when the client has given up already.
    Late(Vec<u8>),
    /// It holds the bus.
    Stuck,
}

/// A byte that is sent where there is nothing to say: the bus is pulled up.
const IDLE: u8 = 0xFF;

impl StandIn {
    /// A transfer of any bus, as [`Wire`](crate::bus::Wire) makes them: for I2C after the address, for SPI before the bytes that are clocked in, for
    /// Modbus the RTU frame.
    pub fn transfer(&mut self, now: u64, transfer: &Transfer) -> Reaction {
        match transfer.bus {
            Bus::I2c => self.i2c(now, transfer.address.unwrap_or(0), &transfer.send, transfer.receive),
            Bus::Spi => {
                let mut out = transfer.send.clone();
                out.resize(transfer.send.len() + transfer.receive, 0);
                let mut answer = self.spi(now, &out);
                Reaction::Answer(answer.split_off(transfer.send.len().min(answer.len())))
            }
            Bus::Modbus => self.modbus_rtu(now, &transfer.send).map_or(Reaction::Silence, Reaction::Answer),
        }
    }

    /// A transfer over I2C: bytes sent to a 7-bit address, and the number of bytes read after them.
    pub fn i2c(&mut self, now: u64, address: u8, sent: &[u8], receive: usize) -> Reaction {
        self.silent = false;
        let reaction = self.i2c_now(now, address, sent, receive);
        if self.silent { Reaction::NakAddress } else { reaction }
    }

    fn i2c_now(&mut self, now: u64, address: u8, sent: &[u8], receive: usize) -> Reaction {
        let part = self.part.clone();
        let Some(i2c) = part.buses.i2c.as_ref().filter(|i2c| i2c.address == address) else { return Reaction::NakAddress };
        self.advance(now);
        if let Some(reaction) = self.commanded(now, sent, receive) {
            return reaction;
        }
        if sent.is_empty() {
            // The address alone: a scan, or a command.
            if receive == 0 {
                return self.start_command(now, sent);
            }
            return match self.pointer {
                Some((address, moves_on)) => self.read_from(now, address, receive, moves_on),
                None => self.unknown_command(now, sent, receive),
            };
        }
        let pointer = split_pointer(i2c.pointer, sent).filter(|_| i2c.pointer > 0);
        match (pointer, i2c.received(sent, receive)) {
            (_, Err(what)) => {
                self.report(now, Rule::UnknownCommand, what, None);
                Reaction::NakData
            }
            (Some((raw, _)), Ok(Received::Read { address, .. })) if !part.registers.is_empty() => {
                let moves_on = i2c.auto_increment && (i2c.increment == 0 || raw & i2c.increment != 0);
                self.pointer = Some((address, moves_on));
                self.read_from(now, address, receive, moves_on)
            }
            (_, Ok(Received::Write { address, data })) if !part.registers.is_empty() => {
                self.pointer = Some((address, i2c.auto_increment));
                self.write_registers(now, address, &data);
                Reaction::Answer(Vec::new())
            }
            // The register address alone; the read is a separate transfer.
            (Some((raw, [])), _) if receive == 0 && !part.registers.is_empty() => {
                let address = raw & !i2c.increment;
                if self.register_at(address).1.is_none() {
                    return self.unknown_command(now, sent, receive);
                }
                self.pointer = Some((address, i2c.auto_increment && (i2c.increment == 0 || raw & i2c.increment != 0)));
                Reaction::Answer(Vec::new())
            }
            _ => self.unknown_command(now, sent, receive),
        }
    }

    /// A transfer over SPI while the part is selected: the bytes that are clocked out to it, and as many that come back.
    pub fn spi(&mut self, now: u64, out: &[u8]) -> Vec<u8> {
        let part = self.part.clone();
        let Some(spi) = &part.buses.spi else { return vec![IDLE; out.len()] };
        self.advance(now);
        self.silent = false;
        // A request before a wait is already late.
        let was_asked = self.asked.is_some() && out.iter().all(|byte| *byte == 0);
        let (sent, data) = self.spi_now(now, out, spi);
        let data = if spi.late && !was_asked { std::mem::replace(&mut self.answer, data) } else { data };
        let mut back = vec![0; sent];
        back.extend(if self.silent { Vec::new() } else { data });
        back.resize(out.len(), IDLE);
        back
    }

    /// Number of bytes sent to the part, and its response to them.
    fn spi_now(&mut self, now: u64, out: &[u8], spi: &Spi) -> (usize, Vec<u8>) {
        let part = self.part.clone();
        // The answer to the previous request is clocked out.
        if self.asked.is_some()
            && out.iter().all(|byte| *byte == 0)
            && let Some(reaction) = self.commanded(now, &[], out.len().saturating_sub(spi.dummy))
        {
            return (spi.dummy, if let Reaction::Answer(data) = reaction { data } else { Vec::new() });
        }
        // A frame that is asked for by the first bytes; the longest command first.
        let mut asked: Vec<(usize, usize)> = self.exchanges().map(|(command, read)| (command.len(), read)).collect();
        asked.sort_unstable();
        for (length, read) in asked.into_iter().rev() {
            let (Some(command), true) = (out.get(..length), out.len() > length) else { continue };
            let behind = out.len() - length - spi.dummy.min(out.len() - length);
            if behind < read && length > 0 {
                continue;
            }
            // Register accesses and commands have priority over frames without a command.
            if length == 0 && (self.names_register(Bus::Spi, out, 0) || is_command(&part, &self.state, out)) {
                continue;
            }
            match self.commanded(now, command, behind) {
                Some(Reaction::Answer(data)) => return (length + spi.dummy, data),
                // A part that is busy says nothing over SPI.
                Some(_) => return (out.len(), Vec::new()),
                None => {}
            }
        }
        // Nothing is acknowledged over SPI.
        if self.commanded(now, out, 0).is_some() {
            return (out.len(), Vec::new());
        }
        let Some((pointer, data)) = split_pointer(spi.pointer, out).filter(|_| spi.pointer > 0) else {
            self.unknown_command(now, out, 0);
            return (out.len(), Vec::new());
        };
        let (head, flags) = (out.len() - data.len(), spi.read | spi.write | spi.increment);
        let address = (pointer & !flags) >> spi.shift;
        let direction = pointer & (spi.read | spi.write);
        if self.part.registers.is_empty() || (direction != spi.read && direction != spi.write) {
            self.unknown_command(now, out, 0);
            return (out.len(), Vec::new());
        }
        if direction == spi.write && spi.read != spi.write {
            self.write_registers(now, address, data);
            return (out.len(), Vec::new());
        }
        let bytes = data.len().saturating_sub(spi.dummy);
        let moves_on = spi.auto_increment && (spi.increment == 0 || pointer & spi.increment != 0);
        (head + spi.dummy, self.read_registers(now, address, bytes, moves_on).unwrap_or_default())
    }

    fn read_from(&mut self, now: u64, address: u32, receive: usize, moves_on: bool) -> Reaction {
        match self.read_registers(now, address, receive, moves_on) {
            Some(data) => Reaction::Answer(data),
            None => Reaction::Answer(vec![IDLE; receive]),
        }
    }

    fn unknown_command(&mut self, now: u64, sent: &[u8], receive: usize) -> Reaction {
        let what = match (sent.is_empty(), receive) {
            (true, _) => format!("read {receive} bytes without asking for anything"),
            (false, 0) => format!("sent {}, which is no command of the part", Self::bytes_text(sent)),
            (false, _) => format!("sent {} and read {receive} bytes: no command of the part", Self::bytes_text(sent)),
        };
        self.report(now, Rule::UnknownCommand, what, None);
        Reaction::Answer(vec![IDLE; receive])
    }

    /// What can be asked for: the bytes that are sent first, and how many are read.
    fn exchanges(&self) -> impl Iterator<Item = (Vec<u8>, usize)> + '_ {
        let all = self.part.frames.iter().flat_map(|frame| frame.origin.exchanges());
        all.filter_map(|exchange| Some((exchange.command.now(&self.present()).ok()?, exchange.read)))
    }

    /// A command of the part, or a frame that is asked for; `None` where it is neither.
    fn commanded(&mut self, now: u64, sent: &[u8], receive: usize) -> Option<Reaction> {
        let part = self.part.clone();
        if sent.is_empty() && receive > 0 {
            // The earlier request, or a part without commands.
            if let Some((frame, exchange, due)) = self.asked.take() {
                let reaction = self.answer_exchange(now, frame, exchange, receive, due);
                // A read that was not acknowledged can be tried again.
                if self.silent || !matches!(reaction, Reaction::Answer(_)) {
                    self.asked = Some((frame, exchange, due));
                }
                return Some(reaction);
            }
            let own = part.frames.entries().find_map(|(id, frame)| {
                let at = frame.origin.exchanges().iter().position(|exchange| exchange.command.is_empty() && exchange.wait.is_none())?;
                Some((id, at))
            })?;
            return Some(self.answer_exchange(now, own.0, own.1, receive, now));
        }
        if sent.is_empty() {
            return None;
        }
        self.understand(now, sent, receive);
        for (id, frame) in part.frames.entries() {
            for (at, exchange) in frame.origin.exchanges().iter().enumerate() {
                if exchange.command.is_empty() || exchange.command.now(&self.present()).ok().as_deref() != Some(sent) {
                    continue;
                }
                let wait = exchange.wait.as_ref().and_then(|time| time.micros(&self.present()).ok());
                if receive == 0 {
                    self.asked = Some((id, at, now + wait.unwrap_or(0)));
                    return Some(self.start_command(now, sent));
                }
                return Some(self.answer_exchange(now, id, at, receive, now + wait.unwrap_or(0)));
            }
        }
        let known = |command: &Command| command.now(&self.present()).is_ok_and(|bytes| bytes == sent);
        if receive == 0 && part.routine_commands().any(known) {
            self.asked = None;
            return Some(self.start_command(now, sent));
        }
        None
    }

    /// Whether bytes write to a register, or read one. Over SPI all bytes of the transfer are here, those that come back too.
    fn names_register(&self, bus: Bus, sent: &[u8], receive: usize) -> bool {
        let Some(wire) = self.part.buses.wire(bus) else { return false };
        let head = self.part.buses.spi.as_ref().filter(|_| bus == Bus::Spi).map_or(0, |spi| spi.pointer as usize / 8 + spi.dummy);
        let clocked = sent.split_at_checked(head).filter(|(head, rest)| !head.is_empty() && !rest.is_empty() && receive == 0);
        let read = clocked.map(|(head, rest)| wire.received(head, rest.len()));
        [Some(wire.received(sent, receive)), read].into_iter().flatten().any(|received| match received {
            Ok(Received::Write { address, .. } | Received::Read { address, .. }) => self.register_at(address).1.is_some(),
            _ => false,
        })
    }

    /// Adopts the arguments of a command: parameters and settings that no register holds.
    fn understand(&mut self, now: u64, sent: &[u8], receive: usize) {
        let part = self.part.clone();
        // Register accesses are not commands.
        if part.buses.all().any(|bus| self.names_register(bus, sent, receive)) {
            return;
        }
        if !is_command(&part, &self.state, sent)
            && let Some(state) = understood(&part, &self.state, sent)
        {
            self.state.adopt(&state);
            self.current.fill(None);
            self.advance(now);
        }
    }

    /// The bytes of one exchange of a frame.
    fn answer_exchange(&mut self, now: u64, id: FrameId, at: usize, receive: usize, due: u64) -> Reaction {
        let part = self.part.clone();
        let Some(frame) = part.frames.get(id) else { return Reaction::NakAddress };
        let line = self.line_of(frame.span.start);
        if now < due {
            let what = format!("{} was read too early by {:.3} ms", frame.name, ms(due - now));
            self.report(now, Rule::ReadTooEarly, what, line);
            return Reaction::NakAddress;
        }
        if !self.judge_measure(now, id) {
            return Reaction::NakAddress;
        }
        let offset: usize = frame.origin.exchanges().iter().take(at).map(|exchange| exchange.read).sum();
        let read = frame.origin.exchanges().get(at).map_or(0, |exchange| exchange.read);
        let whole = self.state.frame(id).map(<[u8]>::to_vec).unwrap_or_default();
        let mut data: Vec<u8> = whole.get(offset..).unwrap_or(&[]).iter().take(receive.min(read)).copied().collect();
        data.resize(receive, IDLE);
        if receive != read && frame.counted.is_none() {
            let cut = frame.checks.iter().any(|check| check.place.iter().any(|slice| slice.byte >= offset + receive));
            let what = format!("read {receive} of the {read} bytes of {}", frame.name);
            self.report(now, if cut && receive < read { Rule::CheckNotRead } else { Rule::WrongLength }, what, line);
        }
        self.seen(now, id);
        Reaction::Answer(data)
    }

    /// Returns if a frame that is read is valid. Otherwise it is a violation, and the part may not answer.
    pub(super) fn judge_validity(&mut self, now: u64, id: FrameId) -> bool {
        let part = self.part.clone();
        let (unmet, frame) = (self.unmet(id), &part.frames[id]);
        self.silent |= !unmet.is_empty() && frame.otherwise == Otherwise::NoAnswer;
        if !unmet.is_empty() && !self.excused {
            let what = format!("{} was read, and is valid only while {}", frame.name, self.missing(&unmet));
            let line = frame.needs().next().and_then(|condition| self.line_of(condition.span().start));
            self.report(now, Rule::NotValid, what, line);
        }
        unmet.is_empty()
    }

    /// Holds the read of a frame against its measurement. `false` where the part does not acknowledge.
    fn judge_measure(&mut self, now: u64, id: FrameId) -> bool {
        let part = self.part.clone();
        let Some(frame) = part.frames.get(id) else { return true };
        if !self.judge_validity(now, id) {
            return !self.silent;
        }
        let Some(measure) = self.measures.get(id).and_then(|measure| measure.clone()) else { return true };
        let line = self.line_of(measure.how.span.start);
        let Some(started) = measure.started else {
            // Calibration words are loaded at power-up too.
            if !frame.keep && !self.excused && !self.began_unseen() {
                self.report(now, Rule::NotStarted, format!("{} was read, and no measurement was started", frame.name), line);
            }
            return true;
        };
        let looked = measure.how.poll.is_some() && self.shows_waiting(id);
        if looked {
            // Who polls reads early, and looks again.
            let what = format!(
                "{} was read {:.3} ms after the start, when it was not done, and not again",
                frame.name,
                ms(now.saturating_sub(started))
            );
            let early = (now < measure.done).then_some((now, what));
            self.measures.get_mut(id).and_then(|measure| measure.as_mut()).into_iter().for_each(|measure| measure.early = early.clone());
        }
        if now < measure.by_sheet && !looked {
            let what = format!(
                "{} was read {:.3} ms after the start; the sheet waits {:.3} ms",
                frame.name,
                ms(now.saturating_sub(started)),
                ms(measure.by_sheet - started)
            );
            self.report(now, Rule::ReadTooEarly, what, line);
        }
        now >= measure.done || !measure.how.retried
    }

    /// Registers that hold measured values were read: when?
    pub(super) fn judge_reads(&mut self, now: u64, read: &[RegisterId]) {
        let part = self.part.clone();
        for (id, frame) in part.frames.entries() {
            let Origin::Registers(runs) = &frame.origin else { continue };
            let measured: Vec<RegisterId> = self.data_registers(id, runs);
            if read.iter().any(|register| measured.contains(register)) {
                self.judge_measure(now, id);
            }
            // The last register of its data ends it.
            let last = measured.iter().all(|register| read.contains(register));
            if last && !measured.is_empty() || frame.readings.is_empty() && runs.iter().flatten().all(|register| read.contains(register)) {
                self.seen(now, id);
            }
        }
    }

    /// The registers of a frame that readings are made of, and not its status.
    fn data_registers(&self, id: FrameId, runs: &[Vec<RegisterId>]) -> Vec<RegisterId> {
        let part = &self.part;
        let Some(frame) = part.frames.get(id) else { return Vec::new() };
        let mut found = Vec::new();
        let mut at = 0;
        for register in runs.iter().flatten() {
            let Some(model) = part.registers.get(*register) else { continue };
            let inside = at..at + model.bytes;
            at += model.bytes;
            let codes = frame.readings.iter().filter_map(|reading| part.readings.get(*reading)).flat_map(|reading| &reading.codes);
            let within = |code: &Code| {
                code.frame == id && code.field.is_none() && code.layout.slices.iter().any(|slice| inside.contains(&slice.byte))
            };
            if part.codes.of(codes).any(within) {
                found.push(*register);
            }
        }
        found
    }
}

/// Microseconds as milliseconds.
pub(super) fn ms(micros: u64) -> f64 {
    micros as f64 / 1000.0
}
