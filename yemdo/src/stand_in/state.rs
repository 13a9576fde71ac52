//! The stand-in: registers, running measurements, clock.

use std::fmt;

use super::acquire::{Acquisition, acquisitions};
use super::judge::Judge;
use super::measure::Measure;
use super::sample::{Held, Miss, Recipe, Recipes};
use super::signal::Signal;
use super::watching::Watch;
use crate::bus::modbus::ModbusTable;
use crate::ground::list::List;
use crate::ground::random::Random;
use crate::model::frame::Origin;
use crate::model::ids::{FieldId, FrameId, ReadingId, RegisterId};
use crate::model::part::Part;
use crate::model::state::State;
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
/// assert!(lamp.violations().is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct StandIn {
    pub(super) part: Part,
    /// The part as it is: its registers, and what its frames hold.
    pub(super) state: State,
    pub(super) recipes: Recipes,
    pub(super) measures: List<FrameId, Option<Measure>>,
    /// The physical world, by reading.
    pub(super) world: List<ReadingId, Option<Signal>>,
    /// Last values of the readings.
    pub(super) values: List<ReadingId, Option<f64>>,
    pub(super) noisy: bool,
    /// Frames that are already composed for the present state.
    pub(super) current: Vec<Option<Current>>,
    pub(super) random: Random,
    pub(super) judge: Judge,
    /// Frames that were read.
    pub(super) read_registers: List<RegisterId, bool>,
    pub(super) read_frames: List<FrameId, bool>,
    /// The register that the next read begins at.
    pub(super) pointer: Option<(u32, bool)>,
    /// A frame that was asked for and is read next: its exchange, and when it is there.
    pub(super) asked: Option<(FrameId, usize, u64)>,
    /// For parts on SPI that answer late: the next answer.
    pub(super) answer: Vec<u8>,
    pub(super) coils: Vec<(u16, bool)>,
    pub(super) alert: bool,
    pub(super) alert_seen: bool,
    /// A frame was composed since this was cleared.
    pub(super) composed: bool,
    /// Some signal is said by several frames together.
    pub(super) spans_frames: bool,
    /// The bits of each frame that signals were put into.
    pub(super) said: List<FrameId, Vec<u8>>,
    /// Signals that the last frames could not say.
    pub(super) misses: Vec<Miss>,
    /// It does not answer the transfer of now.
    pub(super) silent: bool,
    /// It was reset externally: the client cannot know it.
    pub(super) excused: bool,
    /// It only watches the client of a real part; see `watching.rs`.
    pub(super) watch: Option<Watch>,
}

/// Key of a composed frame: register image and values.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Current {
    pub(super) before: State,
    pub(super) wanted: Vec<Option<f64>>,
    pub(super) waiting: bool,
    pub(super) alert: bool,
    pub(super) raised: Vec<bool>,
    pub(super) after: State,
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

/// A reading that no signal can be given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoSignal {
    reading: String,
}

impl fmt::Display for NoSignal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let reading = &self.reading;
        write!(
            f,
            "{reading} cannot be given: no code that the part makes says it (calibration, settings and texts are not made of signals)"
        )
    }
}

impl std::error::Error for NoSignal {}

impl StandIn {
    /// A part after power-up, at time 0. What looks random in it follows from the seed.
    ///
    /// # Errors
    /// [`NoStandIn`], where the sheet describes no bus.
    pub fn new(part: &Part, seed: u64) -> Result<Self, NoStandIn> {
        let mut stand_in = Self::unpowered(part, seed)?;
        stand_in.power_up(0);
        Ok(stand_in)
    }

    /// A part that was never powered up.
    pub(super) fn unpowered(part: &Part, seed: u64) -> Result<Self, NoStandIn> {
        if part.buses.all().next().is_none() {
            return Err(NoStandIn { part: part.name.clone() });
        }
        // A register always holds something, whatever the sheet states.
        let state = State::reset(part).assumed(part);
        let found = acquisitions(part);
        let of_frame = |id: FrameId| found.iter().find(|acquisition| acquisition.frame == id);
        let held = Held { part, state: &state };
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
        Ok(Self {
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
            composed: false,
            spans_frames: false,
            said: List::filled(part.frames.len(), |_| Vec::new()),
            misses: Vec::new(),
            silent: false,
            excused: false,
            watch: None,
            state,
            recipes,
        })
    }

    /// Simulated part.
    pub fn part(&self) -> &Part {
        &self.part
    }

    /// The state of the part: registers and frames.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// Signals that the last frames could not say: the value is beyond what the codes hold with the present settings, a status withholds
    /// it, or another signal has the codes.
    pub fn misses(&self) -> &[Miss] {
        &self.misses
    }

    /// Gives a reading's physical quantity, in the reading's unit. Without it, a reading is as in the sheet's worked example.
    ///
    /// # Errors
    /// [`NoSignal`]: no code of a frame says it.
    pub fn set(&mut self, reading: ReadingId, signal: Signal) -> Result<(), NoSignal> {
        let frames = self.recipes.iter().filter(|recipe| recipe.readings().any(|known| known == reading)).count();
        self.spans_frames |= frames > 1;
        if frames == 0 {
            return Err(NoSignal { reading: self.part.readings.get(reading).map_or_else(String::new, |reading| reading.name.clone()) });
        }
        self.world.get_mut(reading).into_iter().for_each(|place| *place = Some(signal.clone()));
        self.current.fill(None);
        Ok(())
    }

    /// Adds the noise that the sheet states in a column `noise`, and rounds to the step in a column `step`.
    pub fn with_noise(mut self) -> Self {
        self.noisy = true;
        self
    }

    /// Adopts parameters from a state, and settings that no register holds.
    pub fn supply(&mut self, state: &State) {
        let unstored = || self.part.fields.entries().filter(|(id, _)| self.part.is_unstored(*id)).map(|(_, field)| field);
        let same = unstored().all(|field| state.known_field(field).is_none_or(|code| self.state.known_field(field) == Some(code)));
        if same && state.parameters() == self.state.parameters() {
            return;
        }
        let mut supplied = self.state.clone();
        for (id, value) in self.part.parameters.ids().zip(state.parameters()) {
            // Values outside of the stated range are ignored.
            let _ = supplied.set_parameter(&self.part, id, *value);
        }
        for field in unstored() {
            state.known_field(field).into_iter().for_each(|code| supplied.set_field(field, code));
        }
        if !supplied.has_same_values(&self.state) {
            self.state = supplied;
            self.current.fill(None);
        }
    }

    /// Power comes back, or the part is reset: registers as after a reset, nothing measured.
    pub fn power_up(&mut self, now: u64) {
        let parameters = self.state.parameters().to_vec();
        self.state = State::reset(&self.part).assumed(&self.part);
        for (id, value) in self.part.parameters.ids().zip(&parameters) {
            let _ = self.state.set_parameter(&self.part, id, *value);
        }
        self.pointer = None;
        self.asked = None;
        self.answer.clear();
        self.alert = false;
        self.recipes.iter_mut().for_each(|recipe| recipe.thresholds.reset());
        self.current.fill(None);
        for measure in self.measures.iter_mut().flatten() {
            (measure.started, measure.taken, measure.published) = (None, None, None);
        }
        self.hold_frames();
        // Registers that the sheet gives a reset value hold it until something is measured; all else holds what its frames show.
        for (id, frame) in self.part.clone().frames.entries() {
            let known = matches!(&frame.origin, Origin::Registers(runs) if self.have_resets(runs));
            if !known {
                self.publish(now, id, !frame.keep);
            }
        }
        self.hold_shown();
        // A part that is on after a reset starts to measure.
        let whole: Vec<FieldId> = self.part.fields.ids().collect();
        self.start_fields(now, &whole, true);
    }

    /// Formulas over several frames have something to begin with.
    pub(super) fn hold_frames(&mut self) {
        for (id, frame) in self.part.clone().frames.entries() {
            let bytes = match &frame.origin {
                Origin::Registers(runs) => self.register_bytes(runs),
                _ => self.recipes[id].base().to_vec(),
            };
            self.state.keep_frame(id, &bytes);
        }
    }

    /// Modbus registers without a reset value have the values of frames at their addresses.
    fn hold_shown(&mut self) {
        let part = self.part.clone();
        for (id, frame) in part.frames.entries() {
            let Origin::Modbus(range) = &frame.origin else { continue };
            let Some(bytes) = self.state.frame(id).filter(|_| range.table == ModbusTable::Holding).map(<[u8]>::to_vec) else { continue };
            for register in part.registers.iter().filter(|register| register.reset.is_none()) {
                let at = register.at.checked_sub(u32::from(range.start)).map_or(usize::MAX, |words| words as usize * 2);
                if let Some(own) = bytes.get(at..at.saturating_add(register.bytes)) {
                    self.state.set_register(register, register.value_of(own));
                }
            }
        }
    }

    /// Values of registers, as bytes of their frame.
    pub(super) fn register_bytes(&self, runs: &[Vec<RegisterId>]) -> Vec<u8> {
        let registers = self.part.registers.of(runs.iter().flatten());
        registers.flat_map(|register| register.wire_bytes(self.state.register(register))).collect()
    }

    fn have_resets(&self, runs: &[Vec<RegisterId>]) -> bool {
        self.part.registers.of(runs.iter().flatten()).all(|register| register.reset.is_some())
    }

    /// The part is reset, and the client does not know: a supply that drops, a fault that is injected.
    pub fn reset_unseen(&mut self, now: u64) {
        self.power_up(now);
        self.excused = true;
    }

    /// An external fault: omissions of the client because of it are no violations.
    pub fn excuse(&mut self) {
        self.excused = true;
        self.measures.iter_mut().flatten().for_each(|measure| measure.early = None);
    }

    pub(super) fn present(&self) -> Present<'_> {
        Present { part: &self.part, state: &self.state }
    }
}
