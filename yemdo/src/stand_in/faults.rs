//! Faults on demand: what goes wrong on a bus, by seed or by schedule.

use super::listen::Reaction;
use super::state::StandIn;
use crate::ground::random::Random;

/// What goes wrong with one transfer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Fault {
    /// The part does not acknowledge its address.
    Nak,
    /// The request arrives, and the answer is lost.
    LostAnswer,
    /// One bit of the answer is flipped.
    FlippedBit,
    /// The last byte of the answer, where checks usually stand, is another.
    WrongCheck,
    /// The part holds the bus.
    StuckBus,
    /// The part is reset before it answers.
    Reset,
    /// The data line is stuck: all bits of the answer are ones, or all are zeros.
    StuckBits,
    /// The answer comes after the client has given up.
    LateAnswer,
    /// The answer ends early.
    CutFrame,
    /// The bytes were sent at another baud rate.
    WrongBaud,
    /// Another part answers.
    OtherPart,
}

impl Fault {
    /// All of them.
    pub const ALL: [Fault; 11] = [
        Fault::Nak,
        Fault::LostAnswer,
        Fault::FlippedBit,
        Fault::WrongCheck,
        Fault::StuckBus,
        Fault::Reset,
        Fault::StuckBits,
        Fault::LateAnswer,
        Fault::CutFrame,
        Fault::WrongBaud,
        Fault::OtherPart,
    ];

    /// Its name, as it is typed.
    pub fn as_str(self) -> &'static str {
        match self {
            Fault::Nak => "nak",
            Fault::LostAnswer => "lost-answer",
            Fault::FlippedBit => "flipped-bit",
            Fault::WrongCheck => "wrong-check",
            Fault::StuckBus => "stuck-bus",
            Fault::Reset => "reset",
            Fault::StuckBits => "stuck-bits",
            Fault::LateAnswer => "late-answer",
            Fault::CutFrame => "cut-frame",
            Fault::WrongBaud => "wrong-baud",
            Fault::OtherPart => "other-part",
        }
    }

    /// What happens, in words.
    pub fn what(self) -> &'static str {
        match self {
            Fault::Nak => "the part does not acknowledge its address; over Modbus, no response",
            Fault::LostAnswer => "the request arrives, and the answer is lost",
            Fault::FlippedBit => "one bit of the answer is flipped",
            Fault::WrongCheck => "the last byte of the answer, usually a check, is changed",
            Fault::StuckBus => "the part holds the bus",
            Fault::Reset => "the part is reset before it answers",
            Fault::StuckBits => "the data line is stuck: all ones or all zeros",
            Fault::LateAnswer => "the answer comes after the timeout of the client",
            Fault::CutFrame => "the answer ends early",
            Fault::WrongBaud => "the bytes are sampled at another speed: other bytes, and another number of bytes",
            Fault::OtherPart => "another part answers; unknown bytes read as ones",
        }
    }

    /// Response of this library's client.
    pub fn client(self) -> &'static str {
        match self {
            Fault::Nak => "not acknowledged, or timeout; with retries if the routine or `retries` has some",
            Fault::LostAnswer | Fault::LateAnswer => "timeout; a late answer is discarded before the next request",
            Fault::FlippedBit | Fault::WrongCheck => "check failed, if the frame has a check",
            Fault::StuckBus => "bus held",
            Fault::Reset => "not ready, not acknowledged, or registers that `configure` sets again",
            Fault::StuckBits | Fault::OtherPart => "check failed, or wrong identity, if the sheet has a check or an identity",
            Fault::CutFrame => "too short, or bus held",
            Fault::WrongBaud => "garbage, with the advice to scan",
        }
    }

    /// Whether the part is asked at all.
    pub fn reaches_the_part(self) -> bool {
        !matches!(self, Fault::Nak | Fault::StuckBus | Fault::OtherPart | Fault::WrongBaud)
    }

    /// What becomes of an answer.
    pub fn bend(self, answer: Vec<u8>, random: &mut Random) -> Reaction {
        let mut bytes = answer;
        let last = bytes.len().checked_sub(1);
        match self {
            Fault::Nak => return Reaction::NakAddress,
            Fault::StuckBus => return Reaction::Stuck,
            Fault::LostAnswer => return Reaction::Silence,
            Fault::LateAnswer => return Reaction::Late(bytes),
            Fault::Reset => {}
            Fault::FlippedBit => {
                let bit = random.below(bytes.len() * 8);
                bytes.get_mut(bit / 8).into_iter().for_each(|byte| *byte ^= 1 << (bit % 8));
            }
            Fault::WrongCheck => {
                let flip = 1 + random.below(255) as u8;
                last.and_then(|last| bytes.get_mut(last)).into_iter().for_each(|byte| *byte ^= flip);
            }
            Fault::StuckBits => {
                let stuck = if random.below(2) == 0 { 0x00 } else { 0xFF };
                bytes.fill(stuck);
            }
            Fault::CutFrame => bytes.truncate(random.below(bytes.len())),
            // Unknown bytes read as ones (pull-up).
            Fault::OtherPart => bytes.iter_mut().for_each(|byte| *byte = 0xFF),
            // Bits are sampled at other places: other bytes, and another number of them.
            Fault::WrongBaud => {
                bytes.truncate(bytes.len() / 2);
                bytes.iter_mut().for_each(|byte| *byte = random.bits() as u8);
            }
        }
        Reaction::Answer(bytes)
    }
}

/// Which transfers go wrong, and how.
#[derive(Clone, Debug)]
pub struct Faults {
    random: Random,
    /// Faults per million transfers, of these kinds.
    share: u64,
    kinds: Vec<Fault>,
    schedule: Vec<(u64, Fault)>,
    count: u64,
    /// Those that were injected: the number of the transfer, and the fault.
    pub injected: Vec<(u64, Fault)>,
}

/// Maximum number of listed faults.
const MOST_LISTED: usize = 10_000;

impl Faults {
    /// Nothing goes wrong.
    pub fn none() -> Self {
        Self { random: Random::new(0), share: 0, kinds: Vec::new(), schedule: Vec::new(), count: 0, injected: Vec::new() }
    }

    /// Of all transfers this share, from 0 to 1, goes wrong in one of some ways, chosen by the seed.
    pub fn seeded(seed: u64, share: f64, kinds: &[Fault]) -> Self {
        let share = (share.clamp(0.0, 1.0) * 1e6) as u64;
        Self { random: Random::new(seed), share, kinds: kinds.to_vec(), ..Self::none() }
    }

    /// The transfer of that number, from 0, goes wrong in this way.
    pub fn at(mut self, transfer: u64, fault: Fault) -> Self {
        self.schedule.push((transfer, fault));
        self
    }

    /// What goes wrong with the next transfer; `None` where nothing does.
    pub fn draw(&mut self) -> Option<Fault> {
        let number = self.count;
        self.count += 1;
        let planned = self.schedule.iter().find(|(at, _)| *at == number).map(|(_, fault)| *fault);
        let mut fault = planned;
        if planned.is_none() && self.share > 0 && (self.random.unit() * 1e6) < self.share as f64 {
            fault = self.kinds.get(self.random.below(self.kinds.len())).copied();
        }
        if let Some(fault) = fault.filter(|_| self.injected.len() < MOST_LISTED) {
            self.injected.push((number, fault));
        }
        fault
    }

    /// Does a transfer with a part, with what goes wrong with it.
    pub fn transfer(&mut self, stand_in: &mut StandIn, now: u64, what: impl FnOnce(&mut StandIn) -> Reaction) -> Reaction {
        let Some(fault) = self.draw() else { return what(stand_in) };
        if fault == Fault::Reset {
            stand_in.reset_unseen(now);
        }
        // Requests that never arrive do not change the part.
        let reaction = if fault.reaches_the_part() { what(stand_in) } else { what(&mut stand_in.clone()) };
        stand_in.excuse();
        match reaction {
            Reaction::Answer(bytes) => fault.bend(bytes, &mut self.random),
            _ if matches!(fault, Fault::Nak | Fault::StuckBus) => fault.bend(Vec::new(), &mut self.random),
            other => other,
        }
    }

    /// Transfers so far.
    pub fn transfers(&self) -> u64 {
        self.count
    }

    /// The generator that faults are drawn from.
    pub fn random(&mut self) -> &mut Random {
        &mut self.random
    }
}
