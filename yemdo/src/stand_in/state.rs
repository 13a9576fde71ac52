//! The stand-in itself: its registers, its measurements under way, its clock as it is told.

use std::fmt;

use super::acquire::{Acquisition, Trigger, acquisitions};
use super::judge::{Judge, Remark, Rule};
use super::sample::{Held, Recipe, Recipes, column, place};
use super::signal::{Random, Signal};
use crate::bus::Bus;
use crate::bus::modbus::ModbusTable;
use crate::ground::list::{Id, List};
use crate::model::command::Command;
use crate::model::frame::Origin;
use crate::model::ids::{FieldId, FrameId, ReadingId, RegisterId};
use crate::model::operation::Action;
use crate::model::part::Part;
use crate::model::registers::{Access, Settings};
use crate::model::status::Status;
use crate::model::value::Present;

/// A part that is not there, and behaves as its sheet says.
///
/// ```
/// use yemdo::stand_in::{Reaction, Signal, StandIn};
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// frame.LIGHT = { command = [0x17], read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// "#)?;
/// let mut lamp = StandIn::new(&part, 1)?;
/// lamp.set(part.reading("light")?, Signal::constant(150.0));
/// assert_eq!(lamp.i2c(0, 0x21, &[0x17], 2), Reaction::Answer(vec![0x01, 0x2C]));
/// assert_eq!(lamp.i2c(0, 0x22, &[0x17], 2), Reaction::NakAddress);
/// assert!(lamp.remarks().is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct StandIn {
    pub(super) part: Part,
    pub(super) parameters: Vec<f64>,
    /// The registers as they are.
    pub(super) state: Settings,
    /// What the frames hold: as they were measured last.
    pub(super) last: Vec<Option<Vec<u8>>>,
    recipes: Recipes,
    pub(super) measures: List<FrameId, Option<Measure>>,
    /// The physical world, by reading.
    world: List<ReadingId, Option<Signal>>,
    /// What the readings were put to last.
    values: List<ReadingId, Option<f64>>,
    noisy: bool,
    /// Frames that are composed already with what holds now.
    current: Vec<Option<Current>>,
    random: Random,
    /// Commands of routines that start nothing, and their line.
    pub(super) commands: Vec<(Command, usize)>,
    pub(super) judge: Judge,
    /// What was read at all.
    pub(super) read_registers: List<RegisterId, bool>,
    pub(super) read_frames: List<FrameId, bool>,
    /// The register that the next read begins at.
    pub(super) pointer: Option<(u32, bool)>,
    /// A frame that was asked for and is read next: its exchange, and when it is there.
    pub(super) asked: Option<(FrameId, usize, u64)>,
    /// For parts on SPI that answer late: the next answer.
    pub(super) answer: Vec<u8>,
    pub(super) coils: Vec<(u16, bool)>,
    alert: bool,
    alert_seen: bool,
    /// It was reset without the client's doing: what it does not know is not its fault.
    pub(super) excused: bool,
}

/// What a composed frame holds for: the register image, the values.
#[derive(Clone, Debug, PartialEq)]
struct Current {
    before: Settings,
    wanted: Vec<Option<f64>>,
    waiting: bool,
    alert: bool,
    after: Settings,
}

/// The measurement of a frame.
#[derive(Clone, Debug)]
pub(super) struct Measure {
    pub(super) how: Acquisition,
    /// When it was started; `None` where it never was.
    pub(super) started: Option<u64>,
    /// When the data are there.
    pub(super) done: u64,
    /// When they are there by the sheet, tolerance and all.
    pub(super) by_sheet: u64,
    /// For parts that go on measuring: the time from one to the next.
    pub(super) period: Option<u64>,
    /// Which of them was read last.
    pub(super) taken: Option<u64>,
    /// Its data were put into the registers.
    published: Option<u64>,
    /// It was read before it was done, by a client that may be polling: when, and what to say if it never looks again.
    pub(super) early: Option<(u64, String)>,
}

/// A sheet that has no stand-in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoStandIn {
    part: String,
}

impl fmt::Display for NoStandIn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the sheet of {} describes no bus: give it [i2c], [spi] or [modbus]", self.part)
    }
}

impl std::error::Error for NoStandIn {}

/// How much of a tolerance a specimen takes: it is neither the quickest nor the slowest.
const SHARE: f64 = 0.5;

impl StandIn {
    /// A part after power-up, at time 0. What looks random in it follows from the seed.
    ///
    /// # Errors
    /// [`NoStandIn`], where the sheet describes no bus.
    pub fn new(part: &Part, seed: u64) -> Result<Self, NoStandIn> {
        if part.buses.all().next().is_none() {
            return Err(NoStandIn { part: part.name.clone() });
        }
        let parameters: Vec<f64> = part.parameters.iter().map(|parameter| parameter.default).collect();
        let (state, last) = (Settings::reset(part), vec![None; part.frames.len()]);
        let found = acquisitions(part);
        let of_frame = |id: FrameId| found.iter().find(|acquisition| acquisition.frame == id);
        let held = Held { part, settings: &state, parameters: &parameters, last: &last };
        let mut recipes = Recipes::new();
        for (id, frame) in part.frames.entries() {
            recipes.push(Recipe::new(&held, id, frame, of_frame(id)));
        }
        let measure = |how: &Acquisition| Measure {
            how: how.clone(),
            started: None,
            done: 0,
            by_sheet: 0,
            period: None,
            taken: None,
            published: None,
            early: None,
        };
        let mut commands = Vec::new();
        for step in part.routines.iter().flat_map(|routine| &routine.steps) {
            if let Action::Write(command) = &step.action {
                commands.push((command.clone(), part.source.line_column(step.span.start).0));
            }
        }
        let mut stand_in = Self {
            measures: List::filled(part.frames.len(), |id| of_frame(id).map(measure)),
            world: List::filled(part.readings.len(), |_| None),
            values: List::filled(part.readings.len(), |_| None),
            read_registers: List::filled(part.registers.len(), |_| false),
            read_frames: List::filled(part.frames.len(), |_| false),
            current: vec![None; part.frames.len()],
            part: part.clone(),
            noisy: false,
            random: Random::new(seed),
            judge: Judge::default(),
            pointer: None,
            asked: None,
            answer: Vec::new(),
            coils: Vec::new(),
            alert: false,
            alert_seen: true,
            excused: false,
            parameters,
            state,
            last,
            recipes,
            commands,
        };
        stand_in.power_up(0);
        Ok(stand_in)
    }

    /// The part that it stands in for.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// Gives a reading's physical quantity, in the reading's unit. Without it, a reading is as in the sheet's worked example.
    pub fn set(&mut self, reading: ReadingId, signal: Signal) {
        self.world.get_mut(reading).into_iter().for_each(|place| *place = Some(signal.clone()));
        self.current.fill(None);
    }

    /// Adds the noise that the sheet states in a column `noise`, and rounds to the step in a column `step`.
    pub fn with_noise(mut self) -> Self {
        self.noisy = true;
        self
    }

    /// Another value for a parameter, such as a property of what is measured.
    pub fn with_parameters(mut self, parameters: &[f64]) -> Self {
        self.parameters = parameters.to_vec();
        self
    }

    /// Power comes back, or the part is reset: registers as after a reset, nothing measured.
    pub fn power_up(&mut self, now: u64) {
        self.state = Settings::reset(&self.part);
        self.pointer = None;
        self.asked = None;
        self.answer.clear();
        self.alert = false;
        self.current.fill(None);
        for measure in self.measures.iter_mut().flatten() {
            (measure.started, measure.taken, measure.published) = (None, None, None);
        }
        // Registers that the sheet gives a reset value hold it until something is measured; all else holds what its frames show.
        for (id, frame) in self.part.clone().frames.entries() {
            let known = matches!(&frame.origin, Origin::Registers(runs) if self.have_resets(runs));
            if !known {
                self.publish(now, id, !frame.keep);
            }
        }
        self.hold_shown();
        // What is already on after a reset begins to measure.
        let whole: Vec<FieldId> = self.part.fields.ids().collect();
        self.start_fields(now, &whole, true);
    }

    /// Modbus registers that the sheet gives no reset value hold what the frames beside them show.
    fn hold_shown(&mut self) {
        let part = self.part.clone();
        for (id, frame) in part.frames.entries() {
            let Origin::Modbus(range) = &frame.origin else { continue };
            let Some(bytes) = self.last.get(id.index()).and_then(Option::as_ref).filter(|_| range.table == ModbusTable::Holding) else {
                continue;
            };
            for register in part.registers.iter().filter(|register| register.reset.is_none()) {
                let at = register.at.checked_sub(u32::from(range.start)).map_or(usize::MAX, |words| words as usize * 2);
                if let Some(own) = bytes.get(at..at.saturating_add(register.bytes)) {
                    self.state.set_register(register, register.value_of(own));
                }
            }
        }
    }

    fn have_resets(&self, runs: &[Vec<RegisterId>]) -> bool {
        self.part.registers.of(runs.iter().flatten()).all(|register| register.reset.is_some())
    }

    /// The part is reset, and the client does not know: a supply that drops, a fault that is injected.
    pub fn reset_unseen(&mut self, now: u64) {
        self.power_up(now);
        self.excused = true;
    }

    /// Something went wrong that the client cannot help: what it leaves undone because of it is not its fault.
    pub fn excuse(&mut self) {
        self.excused = true;
        self.measures.iter_mut().flatten().for_each(|measure| measure.early = None);
    }

    /// What the client did against the sheet so far.
    pub fn remarks(&self) -> &[Remark] {
        &self.judge.remarks
    }

    /// Forgets the remarks so far.
    pub fn forget_remarks(&mut self) {
        self.judge = Judge::default();
    }

    /// All remarks, and what can only be said at the end: what was never read, and an alert that was never looked at.
    pub fn verdict(&self, now: u64) -> Vec<Remark> {
        let mut judge = self.judge.clone();
        let part = &self.part;
        let line = |start: usize| Some(part.source.line_column(start).0);
        let took = |frame: FrameId| self.read_frames.get(frame).copied().unwrap_or(false);
        for (id, frame) in part.frames.entries().filter(|(id, frame)| frame.keep && !took(*id)) {
            let needs = |reading: &ReadingId| part.readings.get(*reading).is_some_and(|reading| reading.frames.contains(&id));
            let user = part.frames.entries().find(|(other, model)| took(*other) && model.readings.iter().any(needs));
            if let Some((_, user)) = user {
                let what = format!("{} was read, and never {}, which its readings need", user.name, frame.name);
                judge.remark(now, Rule::CalibrationNotRead, what, line(frame.span.start));
            }
        }
        for measure in self.measures.iter().flatten() {
            if let Some((at, what)) = &measure.early {
                judge.remark(*at, Rule::ReadTooEarly, what.clone(), line(measure.how.span.start));
            }
        }
        self.unread_status(now, &mut judge);
        if self.alert && !self.alert_seen {
            judge.remark(now, Rule::AlertNotCleared, "the alert was raised and never read".into(), None);
        }
        judge.remarks
    }

    /// Registers of status bits that were never read, although the data beside them were.
    fn unread_status(&self, now: u64, judge: &mut Judge) {
        let part = &self.part;
        let read = |register: RegisterId| self.read_registers.get(register).copied().unwrap_or(false);
        for frame in part.frames.iter() {
            let Origin::Registers(runs) = &frame.origin else { continue };
            if frame.readings.is_empty() || !runs.iter().flatten().any(|register| read(*register)) {
                continue;
            }
            for condition in frame.status.iter().filter(|condition| !matches!(condition.status, Status::Alert)) {
                let fields = crate::model::input::inputs(&condition.formula).filter_map(|input| match input {
                    crate::model::input::Input::Code(code) => part.codes.get(code)?.field,
                    other => other.field(),
                });
                for home in fields.flat_map(|field| part.homes(field)) {
                    let used = frame.readings.iter().any(|reading| self.values_read(*reading, home));
                    if let Some(model) = part.registers.get(home).filter(|_| used && !read(home)) {
                        let what = format!("{} was never read, and says whether readings are {}", model.name, condition.status.as_str());
                        judge.remark(now, Rule::StatusNotRead, what, Some(part.source.line_column(condition.span().start).0));
                    }
                }
            }
        }
    }

    /// Whether a register that a reading needs was read, other than its status register.
    fn values_read(&self, reading: ReadingId, status: RegisterId) -> bool {
        let codes = self.part.readings.get(reading).map_or(&[] as &[_], |reading| &reading.codes);
        let homes = self.part.codes.of(codes).filter_map(|code| self.frame_registers(code.frame)).flatten();
        homes.into_iter().any(|home| home != status && self.read_registers.get(home).copied().unwrap_or(false))
    }

    fn frame_registers(&self, frame: FrameId) -> Option<Vec<RegisterId>> {
        match &self.part.frames.get(frame)?.origin {
            Origin::Registers(runs) => Some(runs.iter().flatten().copied().collect()),
            _ => None,
        }
    }

    pub(super) fn remark(&mut self, now: u64, rule: Rule, what: String, line: Option<usize>) {
        self.judge.remark(now, rule, what, line);
    }

    pub(super) fn line_of(&self, start: usize) -> Option<usize> {
        Some(self.part.source.line_column(start).0)
    }

    pub(super) fn present(&self) -> Present<'_> {
        Present { part: &self.part, settings: &self.state, parameters: &self.parameters, last: &self.last }
    }

    /// The bus clock is told, to be held against what the sheet allows.
    pub fn clocked(&mut self, now: u64, bus: Bus, hertz: u32) {
        let most = match bus {
            Bus::I2c => self.part.buses.i2c.as_ref().and_then(|i2c| i2c.max_khz),
            Bus::Spi => self.part.buses.spi.as_ref().and_then(|spi| spi.max_khz),
            Bus::Modbus => None,
        };
        if let Some(most) = most.filter(|most| u64::from(hertz) > u64::from(*most) * 1000) {
            let what = format!("{} at {} kHz, and the part allows {most} kHz", bus.name(), hertz / 1000);
            self.remark(now, Rule::ClockTooFast, what, None);
        }
    }

    /// A command came that starts measurements.
    pub(super) fn start_command(&mut self, now: u64, sent: &[u8]) -> bool {
        let mut any = false;
        for id in self.part.frames.ids() {
            let Some(measure) = self.measures.get(id).and_then(|measure| measure.as_ref()) else { continue };
            let Some(Trigger::Command(command)) = &measure.how.trigger else { continue };
            if command.now(&self.present()).is_ok_and(|bytes| bytes == sent) {
                self.start(now, id, None);
                any = true;
            }
        }
        any
    }

    /// Fields were written: measurements that these start begin. `fresh` where they were not so before.
    pub(super) fn start_fields(&mut self, now: u64, written: &[FieldId], fresh: bool) {
        for id in self.part.frames.ids() {
            let Some(measure) = self.measures.get(id).and_then(|measure| measure.as_ref()) else { continue };
            let fields = match &measure.how.trigger {
                Some(Trigger::Fields(fields)) => fields.clone(),
                None if measure.how.line.is_some() => Vec::new(),
                _ => continue,
            };
            let own = |access: Access| access == Access::SelfClearing;
            let clears = fields.iter().any(|(field, _)| self.part.fields.get(*field).is_some_and(|field| own(field.access)));
            let holds =
                |(field, code): &(FieldId, i128)| self.part.fields.get(*field).is_some_and(|model| self.state.field(model) == *code);
            let named = fields.is_empty() || fields.iter().any(|(field, _)| written.contains(field));
            if named && (fresh || clears) && fields.iter().all(holds) {
                let period = (!clears).then(|| self.period()).flatten();
                self.start(now, id, Some(period));
            } else if !clears && !fields.is_empty() && !fields.iter().all(holds) {
                self.measures.get_mut(id).into_iter().flatten().for_each(|measure| measure.started = None);
            }
        }
    }

    /// From one measurement to the next, of a part that goes on measuring: by a column `hz` or `ms` of its settings.
    fn period(&self) -> Option<u64> {
        let hertz = column(&self.part, &self.state, "hz").filter(|hz| *hz > 0.0).map(|hz| 1e6 / hz);
        let micros = hertz.or_else(|| column(&self.part, &self.state, "ms").map(|ms| ms * 1000.0));
        micros.filter(|micros| *micros >= 1.0).map(|micros| micros as u64)
    }

    /// A measurement begins. `period` is given for those that settings start: `Some(None)` where it is not known how long one takes.
    fn start(&mut self, now: u64, id: FrameId, period: Option<Option<u64>>) {
        let Some(how) = self.measures.get(id).and_then(|measure| measure.as_ref()).map(|measure| measure.how.clone()) else { return };
        let early = self.measures.get_mut(id).and_then(|measure| measure.as_mut()?.early.take());
        if let Some((at, what)) = early {
            self.remark(at, Rule::ReadTooEarly, what, self.line_of(how.span.start));
        }
        let micros = |time| crate::model::operation::Time::micros(time, &self.present()).unwrap_or(0);
        let waits: Vec<(u64, f64)> = how.waits.iter().map(|(time, tolerance)| (micros(time), *tolerance)).collect();
        let took = |share: f64| waits.iter().map(|(micros, tolerance)| micros + (*micros as f64 * tolerance * share) as u64).sum::<u64>();
        let polled = how.poll.as_ref().map_or(0, |(_, within)| micros(within) / 4);
        let lined = how.line.as_ref().map_or(0, |(_, within)| micros(within) / 4);
        let own = took(SHARE) + if waits.iter().all(|(_, tolerance)| *tolerance == 0.0) { polled } else { 0 };
        let period = period.flatten();
        let first = if how.line.is_some() { period.unwrap_or(lined) } else { own };
        if let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) {
            measure.started = Some(now);
            measure.done = now + first;
            measure.by_sheet = now + took(1.0).max(if how.poll.is_some() || how.line.is_some() { 0 } else { first });
            measure.period = if how.line.is_some() { Some(first.max(1)) } else { period };
            (measure.taken, measure.published) = (None, None);
        }
        self.excused = false;
        // Status bits show at once that it is under way.
        self.publish(now, id, true);
    }

    /// Which of the measurements of a frame is the last one that is done by now: its number, and when it was done.
    pub(super) fn done(&self, id: FrameId, now: u64) -> Option<(u64, u64)> {
        let measure = self.measures.get(id)?.as_ref()?;
        measure.started?;
        let since = now.checked_sub(measure.done)?;
        match measure.period {
            Some(period) => Some((since / period, measure.done + since / period * period)),
            None => Some((0, measure.done)),
        }
    }

    /// Brings the registers and frames up to date.
    pub(super) fn advance(&mut self, now: u64) {
        for id in self.part.frames.ids() {
            match self.measures.get(id).and_then(|measure| measure.as_ref()) {
                Some(measure) => {
                    let Some((number, at)) = self.done(id, now) else { continue };
                    if measure.published == Some(number) {
                        continue;
                    }
                    if let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) {
                        measure.published = Some(number);
                    }
                    self.publish(at, id, false);
                }
                None => self.publish(now, id, false),
            }
        }
    }

    /// Composes a frame as of a time, and puts what it says into the registers.
    pub(super) fn publish(&mut self, at: u64, id: FrameId, waiting: bool) {
        let part = self.part.clone();
        let Some(frame) = part.frames.get(id) else { return };
        let Some(recipe) = self.recipes.get_mut(id) else { return };
        let readings: Vec<ReadingId> = recipe.readings().collect();
        let constant = frame.readings.is_empty() || frame.keep;
        if constant && self.last.get(id.index()).is_some_and(Option::is_some) {
            return;
        }
        let mut wanted: Vec<Option<f64>> = Vec::with_capacity(readings.len());
        for reading in &readings {
            if waiting {
                // Until it is done, what was measured before is still there.
                wanted.push(self.values.get(*reading).copied().flatten());
                continue;
            }
            let value = self.world.get_mut(*reading).and_then(|signal| signal.as_mut()?.at(at));
            let value = value.map(|value| if self.noisy { noisy(&part, &self.state, &mut self.random, value) } else { value });
            self.values.get_mut(*reading).into_iter().for_each(|place| *place = value);
            wanted.push(value);
        }
        let held = Held { part: &part, settings: &self.state, parameters: &self.parameters, last: &self.last };
        if !waiting {
            let values = &self.values;
            let alert = recipe.alert(&held, self.alert, &mut |reading| values.get(reading).copied().flatten());
            if alert && !self.alert {
                self.alert_seen = false;
            }
            self.alert = alert;
        }
        let known = self.current.get(id.index()).and_then(|current| current.as_ref());
        let same = |current: &&Current| {
            let state = current.before == self.state || current.after == self.state;
            state && current.wanted == wanted && (current.waiting, current.alert) == (waiting, self.alert)
        };
        if let Some(current) = known.filter(same) {
            self.state.clone_from(&current.after);
            return;
        }
        let mut values = readings.iter().zip(&wanted);
        let mut next = |reading: ReadingId| values.find(|(known, _)| **known == reading).and_then(|(_, value)| *value);
        let (bytes, settings) = recipe.compose(&held, id, waiting, self.alert, &mut next);
        let before = self.state.clone();
        self.state = settings;
        match &frame.origin {
            Origin::Registers(runs) => self.put_registers(runs, &bytes),
            _ => place(&mut self.last, id).into_iter().for_each(|place| *place = Some(bytes.clone())),
        }
        let after = self.state.clone();
        if let Some(place) = self.current.get_mut(id.index()) {
            *place = Some(Current { before, wanted, waiting, alert: self.alert, after });
        }
    }

    /// Registers that the part alone changes take what a frame says.
    fn put_registers(&mut self, runs: &[Vec<RegisterId>], bytes: &[u8]) {
        let part = self.part.clone();
        let mut rest = bytes;
        for register in part.registers.of(runs.iter().flatten()) {
            let Some((own, behind)) = rest.split_at_checked(register.bytes) else { return };
            rest = behind;
            if register.access.is_writable() {
                continue;
            }
            let mut value = register.value_of(own);
            if register.access == Access::ClearOnRead {
                // What is set stays so until somebody has read it.
                value |= self.state.register(register);
            }
            self.state.set_register(register, value);
        }
    }

    /// Whether the data-ready line is at its active level.
    pub fn line(&mut self, now: u64) -> bool {
        self.advance(now);
        self.line_due(now).is_some_and(|due| due <= now)
    }

    /// The time at which the data-ready line goes to its active level, or went there; `None` where no measurement is under way.
    pub fn line_due(&self, now: u64) -> Option<u64> {
        self.measures.entries().find_map(|(id, measure)| {
            let measure = measure.as_ref().filter(|measure| measure.how.line.is_some() && measure.started.is_some())?;
            match self.done(id, now) {
                Some((number, at)) if measure.taken == Some(number) => Some(at + measure.period?),
                Some((_, at)) => Some(at),
                None => Some(measure.done),
            }
        })
    }

    /// The level of the line when it is active: high unless the sheet's routines wait for low.
    pub fn line_is_active_high(&self) -> bool {
        let line = |measure: &Option<Measure>| measure.as_ref().and_then(|measure| measure.how.line.as_ref()).map(|(high, _)| *high);
        self.measures.iter().find_map(line).unwrap_or(true)
    }

    /// Whether the alert output is active.
    pub fn alert(&mut self, now: u64) -> bool {
        self.advance(now);
        self.alert
    }

    /// The client has looked at a frame: it knows of the alert, and what was new is not new any longer.
    pub(super) fn seen(&mut self, now: u64, id: FrameId) {
        self.read_frames.get_mut(id).into_iter().for_each(|read| *read = true);
        self.alert_seen |= !self.recipes.get(id).map_or(&[] as &[_], |recipe| recipe.alert_flags()).is_empty();
        let done = self.done(id, now).map(|(number, _)| number);
        let Some(measure) = self.measures.get_mut(id).and_then(|measure| measure.as_mut()) else { return };
        let lined = measure.how.line.is_some();
        measure.taken = done;
        // With a data-ready line the flag goes with it, until the next one.
        if lined {
            self.publish(now, id, true);
        }
    }

    /// Whether the frame itself shows that there is nothing new.
    pub(super) fn shows_waiting(&self, id: FrameId) -> bool {
        self.recipes.get(id).is_some_and(Recipe::shows_waiting)
    }
}

/// A value with the noise and the step that the sheet states for the settings of now.
fn noisy(part: &Part, settings: &Settings, random: &mut Random, value: f64) -> f64 {
    let noise = column(part, settings, "noise").map_or(0.0, |noise| noise * random.normal());
    match column(part, settings, "step").filter(|step| *step > 0.0) {
        Some(step) => ((value + noise) / step).round() * step,
        None => value + noise,
    }
}
