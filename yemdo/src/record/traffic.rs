//! Traffic of a bus as text: one operation a line, with its time, bytes and answer. Written, read, and turned into frames.
//!
//! ```text
//! # yemdo traffic 1
//! 0.000000 i2c 0x2C W 5A 10
//! 0.015412 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24
//! 0.031000 i2c 0x2C W 31 R 3 ! address not acknowledged
//! ```
//!
//! Seconds; the bus; for I2C the 7-bit address, for Modbus the unit; `W` and the bytes that were sent; `R` and how many were wanted; behind
//! `=` those that came, behind `!` what went wrong. Lines that begin with `#` are comments.

use std::fmt;
use std::sync::Arc;

use crate::bus::modbus::ResponseError;
use crate::bus::{AnswerError, Bus, Operation, Received, Transfer};
use crate::ground::hex::{parse_hex, parse_integer, to_hex};
use crate::model::frame::Origin;
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::input::Input;
use crate::model::part::{Part, Sheet};
use crate::model::registers::{Numbering, Register};
use crate::model::state::State;
use crate::plan::heard::{is_command, left_by, may_nak, register_at, set_with, understood, unit_after};
use crate::plan::transfers::read_frame;

/// The first line of a recording.
pub const TRAFFIC_HEADER: &str = "# yemdo traffic 1";

/// One operation of a recording.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Traffic {
    /// Microseconds since the beginning.
    pub at: u64,
    /// What was sent, and how many bytes were wanted.
    pub transfer: Transfer,
    /// The bytes that came, or what went wrong.
    pub outcome: Result<Vec<u8>, String>,
}

impl fmt::Display for Traffic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let transfer = &self.transfer;
        write!(f, "{}.{:06} {}", self.at / 1_000_000, self.at % 1_000_000, transfer.bus.key())?;
        match (transfer.bus, transfer.address) {
            (Bus::I2c, Some(address)) => write!(f, " 0x{address:02X}")?,
            (_, Some(unit)) => write!(f, " {unit}")?,
            (_, None) => {}
        }
        if !transfer.send.is_empty() {
            write!(f, " W {}", to_hex(&transfer.send))?;
        }
        if transfer.receive > 0 {
            write!(f, " R {}", transfer.receive)?;
        }
        match &self.outcome {
            Ok(bytes) if bytes.is_empty() => Ok(()),
            Ok(bytes) => write!(f, " = {}", to_hex(bytes)),
            Err(error) => write!(f, " ! {}", error.replace('\n', " ")),
        }
    }
}

impl Traffic {
    /// Reads a line; `None` for an empty one and a comment.
    ///
    /// ```
    /// use yemdo::record::Traffic;
    /// let line = "0.015412 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24";
    /// let traffic = Traffic::parse(line)?.unwrap();
    /// assert_eq!((traffic.at, traffic.transfer.receive), (15412, 7));
    /// assert_eq!(traffic.to_string(), line);
    /// # Ok::<(), String>(())
    /// ```
    ///
    /// # Errors
    /// What was expected, in words.
    pub fn parse(line: &str) -> Result<Option<Traffic>, String> {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            return Ok(None);
        }
        let (asked, outcome) = match (line.split_once(" = "), line.split_once(" ! ")) {
            (_, Some((asked, error))) => (asked, Err(error.to_owned())),
            (Some((asked, bytes)), None) => (asked, Ok(parse_hex(bytes).map_err(|error| error.to_string())?)),
            (None, None) => (line, Ok(Vec::new())),
        };
        let mut words = asked.split_whitespace().peekable();
        let at = words.next().and_then(micros).ok_or("expected seconds first, such as 0.015412")?;
        let bus = words.next().and_then(Bus::of_key).ok_or("expected a bus: i2c, spi or modbus")?;
        let address = match bus {
            Bus::Spi => None,
            _ => {
                let typed = words.next().ok_or("expected an address")?;
                Some(parse_integer(typed).and_then(|address| u8::try_from(address).ok()).ok_or(format!("`{typed}` is not an address"))?)
            }
        };
        let (mut send, mut receive) = (Vec::new(), 0);
        while let Some(word) = words.next() {
            match word {
                "W" => {
                    while let Some(byte) = words.next_if(|word| word.len() == 2 && u8::from_str_radix(word, 16).is_ok()) {
                        send.push(u8::from_str_radix(byte, 16).unwrap_or(0));
                    }
                }
                "R" => {
                    let count = words.next().and_then(|count| count.parse().ok()).filter(|count| *count <= 1 << 16);
                    receive = count.ok_or("expected the number of bytes behind R")?;
                }
                other => return Err(format!("expected W, R, = or !, not `{other}`")),
            }
        }
        let transfer = Transfer { bus, address, send, receive, restart: true, discard: false };
        Ok(Some(Traffic { at, transfer, outcome }))
    }

    /// Whether a transfer is the one that was recorded.
    pub fn is(&self, transfer: &Transfer) -> bool {
        let known = &self.transfer;
        (known.bus, known.address, &known.send) == (transfer.bus, transfer.address, &transfer.send)
            && (known.receive == transfer.receive || known.bus == Bus::Modbus)
    }
}

/// Seconds with up to six decimals, as microseconds.
fn micros(text: &str) -> Option<u64> {
    let (whole, decimals) = text.split_once('.').unwrap_or((text, ""));
    if decimals.len() > 6 || !decimals.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    let fraction: u64 = format!("{decimals:0<6}").parse().ok()?;
    whole.parse::<u64>().ok()?.checked_mul(1_000_000)?.checked_add(fraction)
}

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
        }
    }

    /// The state of the part so far.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Takes an operation. Returns the frames it completes, with their bytes: several if the sheet reads several frames alike.
    /// Register writes, register reads and the arguments of commands update the state.
    pub fn take(&mut self, traffic: &Traffic) -> Vec<(FrameId, Vec<u8>)> {
        self.hear(traffic);
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
        whole
    }

    /// The bytes of an answer that belong to a frame. A frame of registers has their data only; so has a table of a part that has
    /// moved to another unit. An invalid answer is kept unchanged, and is refused by the decoder.
    fn data_of<'b>(&self, frame: FrameId, traffic: &Traffic, answer: &'b [u8]) -> &'b [u8] {
        let of_registers = self.part.frames.get(frame).is_some_and(|frame| matches!(frame.origin, Origin::Registers(_)));
        let wire = self.part.buses.wire(traffic.transfer.bus).filter(|_| of_registers || self.part.unit() != self.unit);
        wire.and_then(|wire| wire.data(&traffic.transfer, answer).ok()).unwrap_or(answer)
    }

    /// Updates registers and settings from a transfer.
    fn hear(&mut self, traffic: &Traffic) {
        let transfer = &traffic.transfer;
        let Some(wire) = self.part.buses.wire(transfer.bus) else { return };
        // Another part on the same bus.
        if transfer.bus == Bus::I2c && transfer.address != self.part.buses.i2c.as_ref().map(|i2c| i2c.address) {
            return;
        }
        // A read without a command is not a write of the address alone.
        let sends = transfer.receive == 0 || !transfer.send.is_empty();
        if sends && is_command(&self.part, &self.state, &transfer.send) {
            if traffic.outcome.is_ok() || may_nak(&self.part, &self.state, &transfer.send) {
                for (field, code) in set_with(&self.part, &self.state, &transfer.send) {
                    self.state.set_field(&self.part.fields[field], code);
                }
            }
            return;
        }
        match wire.received(&transfer.send, transfer.receive) {
            Ok(Received::Write { address, data }) if self.register(address).is_some() => self.written(traffic, address, &data),
            Ok(Received::Read { address, .. }) if self.register(address).is_some() => {
                let data = traffic.outcome.as_ref().ok().and_then(|answer| wire.data(transfer, answer).ok()).map(<[u8]>::to_vec);
                let settings = Arc::clone(&self.settings);
                self.walk(address, &data.unwrap_or_default(), |_, state, register, value| {
                    // Read-only registers on which nothing depends are not worth following.
                    if register.access.is_writable() || register.fields.iter().any(|field| settings.contains(field)) {
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
    }

    /// Updates written registers: unknown if the transfer failed, unchanged if the answer is an exception.
    fn written(&mut self, traffic: &Traffic, address: u32, data: &[u8]) {
        let wire = self.part.buses.wire(traffic.transfer.bus);
        let answer = traffic.outcome.as_ref().ok().zip(wire).map(|(answer, wire)| wire.data(&traffic.transfer, answer));
        if matches!(answer, Some(Err(AnswerError::Response(ResponseError::Exception { .. })))) {
            return;
        }
        let (whole, mut unit) = (traffic.outcome.is_ok(), None);
        self.walk(address, data, |part, state, register, value| {
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
    fn walk(&mut self, address: u32, data: &[u8], mut each: impl FnMut(&Sheet, &mut State, &Register, u64)) {
        let part = self.part.clone();
        let numbering = Numbering::of(&part);
        let (mut at, mut rest) = (address, data);
        while let Some(register) = self.register(at).and_then(|id| part.registers.get(id)) {
            let Some((own, behind)) = rest.split_at_checked(register.bytes) else { return };
            each(&part, &mut self.state, register, register.value_of(own));
            (at, rest) = (numbering.behind(register), behind);
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
