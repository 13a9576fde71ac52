//! Follows one part through a capture.

use super::meaning::{self, Meaning};
use super::transaction::Transaction;
use super::verdict::{self, TraceFinding};
use crate::bus::Bus;
use crate::decode::{Decoded, Decoder};
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::operation::{Action, Time};
use crate::model::part::{Part, Sheet};
use crate::model::state::State;
use crate::model::status::Status;
use crate::model::value::Present;
use crate::plan::accept::Refusal;
use crate::record::{Accessed, Traffic, TrafficFrames};
use crate::stand_in::{Gap, NoStandIn, Rule, StandIn, Violation};

/// Known state of the part when a capture begins.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Start {
    /// Unknown: settings have no value until they are written or read; parameters have their defaults.
    Unseen,
    /// The capture begins with the power-up of the part.
    PowerUp,
    /// This state; earlier transfers are unknown.
    Known(Box<State>),
}

/// Follows the transfers of one part.
///
/// ```
/// use yemdo::record::Traffic;
/// use yemdo::trace::{Follower, Start};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c = { address = 0x21, pointer = 8 }
/// register.MODE = { at = 1, reset = 2, field.RATE = { bits = "[7:4]", values = [{ code = 3, name = "fast" }] } }
/// frame.LIGHT = { command = [0x17], read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#)?;
/// let mut follower = Follower::new(&part, &Start::PowerUp)?;
/// let mut take = |line: &str| follower.take(&Traffic::parse(line).unwrap().unwrap().into()).unwrap();
/// assert_eq!(take("0.001 i2c 0x21 W 01 32").meanings[0].to_string(), "MODE = 0x32: RATE = fast");
/// let light = take("0.002 i2c 0x21 W 17 R 2 = 01 2C");
/// assert_eq!(light.frames[0].decoded.as_ref().unwrap().reading("light")?.to_string(), "150.0 lx");
/// assert!(follower.finish(3000).is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Follower {
    part: Part,
    frames: TrafficFrames,
    decoder: Decoder,
    judge: Judged,
    findings: Vec<TraceFinding>,
}

/// The judges of a client: a violation is certain if both report it.
#[derive(Clone, Debug)]
struct Judged {
    /// Assumes reset values for unknown bits.
    strict: StandIn,
    /// Assumes the best values for the client; `None` from power-up on.
    mild: Option<StandIn>,
    /// Assumed by both for unknown bits.
    reset: State,
    favourable: State,
    /// Settings that no bus shows; empty if the user sets them.
    hidden: Vec<FieldId>,
}

/// One transfer of a part, followed.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Followed {
    /// The transfer, divided into request and answer.
    pub traffic: Traffic,
    /// Meanings by the sheet; at least one.
    pub meanings: Vec<Meaning>,
    /// Registers that it wrote or read, in sequence.
    pub registers: Vec<RegisterId>,
    /// Frames that are complete with it.
    pub frames: Vec<FrameSeen>,
    /// The time since the start of the measurement that it reads.
    pub gap: Option<Gap>,
    /// Violations of the client, each with whether it depends on the time before the capture.
    pub violations: Vec<(Violation, bool)>,
}

/// A frame in a capture.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct FrameSeen {
    /// The frame.
    pub frame: FrameId,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Its readings, or why it was refused.
    pub decoded: Result<Decoded, Refusal>,
}

impl Follower {
    /// Follows a part from here on.
    ///
    /// # Errors
    /// [`NoStandIn`]: the sheet describes no bus.
    pub fn new(part: &Part, start: &Start) -> Result<Self, NoStandIn> {
        let state = match start {
            Start::Unseen => unsent(part, State::unseen(part)),
            Start::PowerUp => unsent(part, State::reset(part)),
            Start::Known(state) => (**state).clone(),
        };
        let state = at_its_unit(part, state);
        let reset = State::reset(part).assumed(part);
        let favourable = favourable(part);
        // Settings that no bus shows: as after a reset, or as frames need them.
        let hidden = if matches!(start, Start::Known(_)) { Vec::new() } else { unshown(part).collect() };
        let mut judge = match start {
            Start::PowerUp => Judged {
                strict: StandIn::watching_from_power_up(part)?,
                mild: (!hidden.is_empty()).then(|| StandIn::watching_from_power_up(part)).transpose()?,
                reset,
                favourable,
                hidden,
            },
            _ => Judged {
                strict: StandIn::watching(part, &state.filled_from(&reset), false)?,
                mild: Some(StandIn::watching(part, &state.filled_from(&favourable), true)?),
                reset,
                favourable,
                hidden,
            },
        };
        judge.set_state(part, &state);
        let mut decoder = Decoder::new(part);
        *decoder.state_mut() = state.clone();
        Ok(Self { part: part.clone(), frames: TrafficFrames::new(part, &state).in_pieces(), decoder, judge, findings: Vec::new() })
    }

    /// The part.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// The state of the part so far.
    pub fn state(&self) -> &State {
        self.frames.state()
    }

    /// Findings so far, in the order of their first time.
    pub fn findings(&self) -> &[TraceFinding] {
        &self.findings
    }

    /// The decoder of its frames.
    pub fn decoder(&self) -> &Decoder {
        &self.decoder
    }

    /// Whether a transfer is one of this part, by its bus and address. On SPI, that is for the caller to know.
    pub fn is_own(&self, traffic: &Traffic) -> bool {
        let (transfer, buses) = (&traffic.transfer, &self.part.buses);
        match transfer.bus {
            Bus::I2c => buses.i2c.as_ref().is_some_and(|i2c| Some(i2c.address) == transfer.address),
            Bus::Spi => buses.spi.is_some(),
            // The unit may have changed during the capture.
            Bus::Modbus => {
                buses.modbus.is_some()
                    && (transfer.address == Some(0) || self.judge.strict.unit().is_none_or(|own| transfer.address == Some(own)))
            }
        }
    }

    /// Takes the next transfer; `None` if it is one of another part.
    pub fn take(&mut self, transaction: &Transaction) -> Option<Followed> {
        if !self.is_own(&transaction.traffic) {
            return None;
        }
        let traffic = self.frames.as_asked(&transaction.traffic);
        let now = transaction.acts_at(&traffic);
        let waited = self.judge.strict.asked_since(now);
        let violations = self.judged(now, transaction, &traffic);
        let before = self.frames.state().clone();
        let accessed = self.frames.accessed(&traffic);
        let complete = self.frames.take(&traffic);
        if !before.has_same_values(self.frames.state()) {
            self.judge.set_state(&self.part, self.frames.state());
            self.decoder.adopt(self.frames.state());
        }
        let mut gap = None;
        let mut frames = Vec::new();
        for (frame, bytes) in complete {
            let elapsed = waited.filter(|(asked, _)| *asked == frame).map(|(_, elapsed)| elapsed);
            let elapsed = elapsed.or_else(|| self.judge.strict.elapsed(now, frame));
            gap = gap.or(elapsed);
            let seen = self.take_frame(transaction.traffic.at, frame, &bytes);
            if let Ok(decoded) = &seen.decoded {
                let ready = !decoded.readings.iter().any(|reading| reading.status == Status::NotReady);
                self.judge.report_ready(now, frame, ready);
            }
            frames.push(seen);
        }
        let registers = accessed.as_ref().map_or(Vec::new(), Accessed::registers);
        let meanings = self.meanings(&traffic, &before, accessed, &frames);
        Some(Followed { traffic, meanings, registers, frames, gap, violations })
    }

    /// Takes bytes of a frame without the transfers that brought them: they are decoded, and not judged.
    pub fn take_frame(&mut self, at: u64, frame: FrameId, bytes: &[u8]) -> FrameSeen {
        self.decoder.measured_at(&[at as f64 / 1e6]);
        FrameSeen { frame, bytes: bytes.to_vec(), decoded: self.decoder.decode(frame, bytes) }
    }

    /// The findings of the whole capture, those included that only show at its end.
    pub fn finish(&self, now: u64) -> Vec<TraceFinding> {
        let mut findings = self.findings.clone();
        let mild = self.judge.mild.as_ref().map(|mild| mild.verdict(now));
        for violation in self.judge.strict.verdict(now) {
            let depends = mild.as_ref().is_some_and(|mild| !mild.iter().any(|other| other.is_like(&violation)));
            verdict::add(&mut findings, &violation, depends);
        }
        findings.sort_by_key(|finding| finding.violation.at);
        findings
    }

    /// Violations of a transfer, and whether each depends on the beginning.
    fn judged(&mut self, now: u64, transaction: &Transaction, traffic: &Traffic) -> Vec<(Violation, bool)> {
        let transfer = &transaction.traffic.transfer;
        // Without acknowledgement, the part took nothing; a read shows that the client was early.
        if traffic.outcome.is_err() && transfer.receive == 0 && transfer.bus == Bus::I2c {
            return Vec::new();
        }
        // A read that was refused ends early: its length is not the client's.
        let refused = traffic.outcome.is_err();
        let run = |judge: &mut StandIn| {
            let mut violations = judge.judge(now, transfer, transaction.hertz);
            violations.retain(|violation| !(refused && violation.rule.is_about_length()));
            violations
        };
        let strict = run(&mut self.judge.strict);
        let mild = self.judge.mild.as_mut().map(run);
        let undecided = self.frames.is_undecided(traffic);
        let unknown_bank = |violation: &Violation| violation.rule == Rule::UnknownRegister && undecided;
        let mut violations = Vec::new();
        for violation in strict {
            let certain = mild.as_ref().is_none_or(|mild| mild.iter().any(|other| other.is_like(&violation)));
            let depends = !certain || unknown_bank(&violation);
            verdict::add(&mut self.findings, &violation, depends);
            violations.push((violation, depends));
        }
        violations
    }

    fn meanings(&self, traffic: &Traffic, before: &State, accessed: Option<Accessed>, frames: &[FrameSeen]) -> Vec<Meaning> {
        let part: &Sheet = &self.part;
        let (after, transfer) = (self.frames.state(), &traffic.transfer);
        let mut found: Vec<Meaning> =
            frames.iter().map(|seen| Meaning::Frame { frame: seen.frame, text: part.frames[seen.frame].name.clone() }).collect();
        match accessed {
            Some(Accessed::Write(registers)) => {
                found.extend(registers.iter().map(|(id, value)| meaning::written(part, *id, *value, before)));
            }
            // The frame names its registers.
            Some(Accessed::Read(_)) if !found.is_empty() => {}
            Some(Accessed::Read(registers)) => {
                let alone = registers.len() == 1;
                found.extend(registers.iter().map(|(id, value)| meaning::read(part, *id, *value, after, !alone)));
            }
            None => {}
        }
        if let Some((frame, count, of)) = self.frames.begun().filter(|_| found.is_empty()) {
            let text = format!("{}, transfer {count} of {of}", part.frames[frame].name);
            found.push(Meaning::Command { frame: Some(frame), text });
        }
        if found.is_empty() && !transfer.send.is_empty() {
            found.extend(meaning::command(part, after, &transfer.send).or_else(|| meaning::command(part, before, &transfer.send)));
        }
        if let Some(text) = self.frames.doubtful(traffic).filter(|_| found.is_empty() && traffic.outcome.is_ok()) {
            found.push(Meaning::Doubtful { text });
        }
        if found.is_empty() {
            found.push(if transfer.send.is_empty() && transfer.receive == 0 { Meaning::Ping } else { Meaning::Unknown });
        }
        found
    }
}

impl Judged {
    fn set_state(&mut self, part: &Sheet, state: &State) {
        let mut strict = state.filled_from(&self.reset);
        self.hidden.iter().for_each(|field| strict.restore_field(&part.fields[*field], &self.reset));
        self.strict.set_state(&strict);
        self.mild.iter_mut().for_each(|mild| mild.set_state(&state.filled_from(&self.favourable)));
    }

    fn report_ready(&mut self, now: u64, frame: FrameId, ready: bool) {
        self.strict.report_ready(now, frame, ready);
        self.mild.iter_mut().for_each(|mild| mild.report_ready(now, frame, ready));
    }
}

/// The same, with the Modbus unit of the part.
fn at_its_unit(part: &Sheet, mut state: State) -> State {
    let unit = part.buses.modbus.as_ref().and_then(|modbus| modbus.unit);
    if let Some((field, unit)) = part.unit_field.zip(unit) {
        state.set_field(&part.fields[field], i128::from(unit));
    }
    state
}

/// The same, with settings that no bus shows as frames need them.
fn unsent(part: &Sheet, mut state: State) -> State {
    let needed = State::while_read(part);
    unshown(part).for_each(|field| state.restore_field(&part.fields[field], &needed));
    state
}

/// Settings that neither registers nor commands carry.
fn unshown(part: &Sheet) -> impl Iterator<Item = FieldId> + '_ {
    part.fields.ids().filter(|id| part.is_unstored(*id) && !part.is_sent(*id))
}

/// The state in which the client may do most: registers are writable, frames are valid, waits are short.
fn favourable(part: &Sheet) -> State {
    let mut state = State::while_read(part).assumed(part);
    for (field, code) in part.registers.iter().flat_map(|register| &register.writable) {
        state.set_field(&part.fields[*field], *code);
    }
    let steps = part.routines.iter().flat_map(|routine| &routine.steps);
    let waits = steps.filter_map(|step| if let Action::Wait { time, .. } = &step.action { Some(time) } else { None });
    let exchanges = part.frames.iter().flat_map(|frame| frame.origin.exchanges()).filter_map(|exchange| exchange.wait.as_ref());
    waits.chain(exchanges).for_each(|time| shorten(part, time, &mut state));
    state
}

/// Gives the fields of a wait the codes of their tables with which it is the shortest.
fn shorten(part: &Sheet, time: &Time, state: &mut State) {
    let Time::Formula(formula) = time else { return };
    for field in part.inputs_behind(inputs(formula)).into_iter().filter_map(Input::field) {
        let model = &part.fields[field];
        let with = |code: i128| {
            let mut trial = state.clone();
            trial.set_field(model, code);
            time.micros(&Present { part, state: &trial }).ok().map(|micros| (micros, code))
        };
        if let Some((_, code)) = model.values.iter().filter_map(|row| with(row.code)).min() {
            state.set_field(model, code);
        }
    }
}
