//! State of one part, and its next requests; blocking and async drivers share it.

use yemdo::bus::Bus;
use yemdo::configure::{Configuration, Wish, WriteScope, configure};
use yemdo::part::Action;
use yemdo::routine::{Answer, Failure, Request, Runner};
use yemdo::{Decoded, Decoder, FrameId, InUse, Part, ReadingValue, RegisterId, RoutineId, State};

use crate::error::{BusError, DeviceError};

/// What one measurement gave.
#[derive(Clone, Debug)]
pub struct Measurement {
    /// The frames that were read, in the order in which they came.
    pub frames: Vec<MeasuredFrame>,
}

/// A frame of a measurement.
#[derive(Clone, Debug)]
pub struct MeasuredFrame {
    part: Part,
    decoded: Decoded,
    bytes: Vec<u8>,
    state: State,
}

impl MeasuredFrame {
    /// Its readings.
    pub fn decoded(&self) -> &Decoded {
        &self.decoded
    }

    /// Name of the frame.
    pub fn name(&self) -> &str {
        self.part.frames().get(self.decoded.frame).map_or("", yemdo::part::Frame::name)
    }

    /// True if it has values, and may be no answer at all ([`Frame::is_suspect`](yemdo::part::Frame::is_suspect)).
    pub fn is_suspect(&self) -> bool {
        let model = self.part.frames().get(self.decoded.frame);
        model.is_some_and(|frame| frame.is_suspect(&self.bytes)) && self.decoded.readings.iter().any(|reading| reading.value.is_some())
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// State of the part at the time of the frame; its readings are decoded with it.
    pub fn state(&self) -> &State {
        &self.state
    }

    /// The settings and parameters that its readings take something from.
    pub fn in_use(&self) -> Vec<InUse> {
        self.state.in_use(&self.part, &[self.decoded.frame])
    }
}

impl Measurement {
    /// The readings of all frames. One that several frames bring is as the last of them has it.
    pub fn readings(&self) -> impl Iterator<Item = &ReadingValue> {
        let later = |at: usize, reading: &ReadingValue| {
            self.frames.iter().skip(at + 1).any(|frame| frame.decoded.readings.iter().any(|other| other.id == reading.id))
        };
        let all = self.frames.iter().enumerate().flat_map(|(at, frame)| frame.decoded.readings.iter().map(move |reading| (at, reading)));
        all.filter(move |(at, reading)| !later(*at, reading)).map(|(_, reading)| reading)
    }

    /// A reading, with its status.
    ///
    /// # Errors
    /// [`DeviceError::Unknown`], with the names that there are.
    pub fn reading(&self, name: &str) -> Result<&ReadingValue, DeviceError> {
        let found = self.frames.iter().rev().map(|frame| frame.decoded.reading(name)).find(Result::is_ok);
        match (found, self.frames.last()) {
            (Some(Ok(reading)), _) => Ok(reading),
            (_, Some(frame)) => Ok(frame.decoded.reading(name)?),
            (_, None) => Err(DeviceError::NothingToMeasure),
        }
    }

    /// A reading's value, in its unit.
    ///
    /// # Errors
    /// [`DeviceError::NoValue`] says why there is none: not ready, invalid; [`DeviceError::Unknown`].
    pub fn value(&self, name: &str) -> Result<f64, DeviceError> {
        let reading = self.reading(name)?;
        reading.value.ok_or_else(|| DeviceError::NoValue { reading: name.to_owned(), status: reading.status })
    }
}

/// One thing that is done with the part.
#[derive(Clone, Debug)]
pub(crate) enum Job {
    Routine(RoutineId),
    Frame(FrameId),
    Registers(Vec<RegisterId>),
    /// Registers that readings use. Without them the readings have no value, but the measurement does not fail.
    Inputs(Vec<RegisterId>),
    Write(Vec<yemdo::configure::Write>),
    Raw(RegisterId, u64),
}

/// State of a part.
#[derive(Debug)]
pub(crate) struct Session {
    pub(crate) part: Part,
    pub(crate) bus: Bus,
    pub(crate) decoder: Decoder,
    /// When the next measurement is made, where its user says so.
    pub(crate) measured_at: Option<f64>,
    /// Frames that are read once, and were.
    kept: Vec<FrameId>,
    /// Frames read since the start of the last measurement, each with the state at that time.
    last: Vec<(FrameId, Vec<u8>, State)>,
    /// The last error of the bus, for where a routine gives up.
    failed: Option<BusError>,
    /// Registers with a failed write: unknown until they are read.
    doubtful: Vec<RegisterId>,
    /// Routines that were run, to be run again without planning.
    prepared: Vec<(RoutineId, Runner)>,
    /// The part was silent. It may have lost power, and be asleep again.
    pub(super) may_sleep: bool,
}

impl Session {
    pub(crate) fn new(part: Part, bus: Bus) -> Self {
        let mut decoder = Decoder::new(&part);
        // A new decoder assumes valid frames. This part has not been set up yet.
        *decoder.state_mut() = State::reset(&part);
        Self {
            decoder,
            bus,
            measured_at: None,
            kept: Vec::new(),
            last: Vec::new(),
            failed: None,
            doubtful: Vec::new(),
            prepared: Vec::new(),
            may_sleep: false,
            part,
        }
    }

    pub(crate) fn state(&self) -> &State {
        self.decoder.state()
    }

    pub(crate) fn runner(&mut self, job: &Job) -> Result<Runner, DeviceError> {
        if let Job::Routine(routine) = job
            && let Some((_, runner)) = self.prepared.iter().find(|(known, _)| known == routine)
        {
            return Ok(runner.again(self.decoder.state())?);
        }
        let runner = self.new_runner(job)?;
        if let Job::Routine(routine) = job {
            self.prepared.push((*routine, runner.clone()));
        }
        Ok(runner)
    }

    fn new_runner(&self, job: &Job) -> Result<Runner, DeviceError> {
        let state = self.state().clone();
        let runner = match job {
            Job::Routine(routine) => Runner::new(&self.part, *routine, state)?,
            Job::Frame(frame) => Runner::reading_frame(&self.part, state, *frame)?,
            Job::Registers(registers) | Job::Inputs(registers) => Runner::reading_registers(&self.part, state, registers)?,
            Job::Write(writes) => Runner::writing(&self.part, state, writes, true)?,
            Job::Raw(register, value) => Runner::writing_raw(&self.part, state, *register, *value)?,
        };
        Ok(runner.on_bus(self.bus, None)?)
    }

    /// Takes the answer of the bus to a request, and returns the next one.
    pub(crate) fn answer(
        &mut self,
        runner: &mut Runner,
        request: &Request,
        outcome: Result<Option<Vec<u8>>, BusError>,
    ) -> Result<Option<Request>, DeviceError> {
        let bytes;
        let answer = match outcome {
            Ok(Some(data)) => {
                bytes = data;
                if bytes.is_empty() { Answer::Done } else { Answer::Bytes(&bytes) }
            }
            Ok(None) => Answer::TimedOut,
            // A routine may try again what was not acknowledged.
            Err(error) if error.cause.is_transient() => {
                self.failed = Some(error);
                Answer::Nak
            }
            Err(error) => return Err(DeviceError::Bus { meaning: request.meaning.clone(), error }),
        };
        runner.answer(answer).map_err(|error| match (&error.failure, self.failed.take()) {
            (Failure::NoAnswer { .. }, Some(cause)) => DeviceError::Bus { meaning: request.meaning.clone(), error: cause },
            _ => error.into(),
        })
    }

    /// Adopts the state of a runner, finished or failed: completed writes and reads count.
    pub(crate) fn absorb(&mut self, runner: &Runner) {
        if runner.part().unit() != self.part.unit() {
            self.move_to(runner.part().clone());
        }
        for id in runner.frames_read() {
            let Some((bytes, state)) = runner.frame(id).zip(runner.state_with(id)) else { continue };
            if self.part.frames().get(id).is_some_and(yemdo::part::Frame::is_kept) && state.unmet(&self.part, id).is_empty() {
                // Calibration is known from here on, whatever becomes of this measurement.
                self.decoder.adopt(state);
                if self.decoder.decode(id, bytes).is_ok() && !self.kept.contains(&id) {
                    self.kept.push(id);
                }
            }
            self.last.retain(|(known, ..)| *known != id);
            self.last.push((id, bytes.to_vec(), state.clone()));
        }
        self.decoder.adopt(runner.state());
        self.doubtful.extend(runner.unacknowledged());
    }

    /// The registers to read before any other job: their last write failed, and they are still unknown.
    pub(crate) fn doubtful(&mut self) -> Option<Job> {
        let Self { doubtful, decoder, part, .. } = self;
        doubtful.sort_unstable();
        doubtful.dedup();
        doubtful.retain(|id| part.registers().get(*id).is_some_and(|register| decoder.state().known_register(register).is_none()));
        (!doubtful.is_empty()).then(|| Job::Registers(doubtful.clone()))
    }

    /// Handles a failure. A silent part may have lost power: kept frames are read again.
    pub(crate) fn lost(&mut self, error: &DeviceError) {
        if matches!(error, DeviceError::Bus { error, .. } if error.cause.is_silence()) {
            self.kept.clear();
            self.may_sleep = true;
        }
    }

    /// Returns to the state after a reset; parameters stay.
    pub(crate) fn was_reset(&mut self) {
        let parameters = self.state().parameters().to_vec();
        *self.decoder.state_mut() = State::reset(&self.part);
        self.decoder.clear_frames();
        self.set_parameters(&parameters);
        (self.kept, self.last, self.doubtful) = (Vec::new(), Vec::new(), Vec::new());
    }

    /// Jobs of one measurement: first frames that are read once, then the routine `measure`, or all frames that come over this bus.
    pub(crate) fn jobs(&self) -> Result<Vec<Job>, DeviceError> {
        let mut jobs = Vec::new();
        let reads = |routine: RoutineId, frame: FrameId| {
            let steps = self.part.steps_within(routine);
            steps.iter().any(|(step, _)| matches!(step.action, Action::ReadFrame(read) if read == frame))
        };
        let measure = self.part.routine("measure").ok();
        for (id, _) in self.part.frames().entries().filter(|(id, frame)| frame.is_kept() && !self.kept.contains(id)) {
            if measure.is_some_and(|measure| reads(measure, id)) {
                continue;
            }
            jobs.push(self.part.routines().ids().find(|routine| reads(*routine, id)).map_or(Job::Frame(id), Job::Routine));
        }
        match measure {
            Some(measure) => jobs.push(Job::Routine(measure)),
            None => {
                let frames = self.part.frames().entries().filter(|(_, frame)| !frame.is_kept() && !frame.readings().is_empty());
                jobs.extend(frames.map(|(id, _)| Job::Frame(id)));
            }
        }
        if jobs.is_empty() { Err(DeviceError::NothingToMeasure) } else { Ok(self.awake_first(jobs)) }
    }

    /// The part answers as another Modbus unit from here on.
    fn move_to(&mut self, part: Part) {
        let before = std::mem::replace(&mut self.decoder, Decoder::new(&part));
        *self.decoder.state_mut() = before.state().clone();
        self.decoder.go_on_from(&before);
        self.part = part;
        self.prepared.clear();
    }

    fn set_parameters(&mut self, values: &[f64]) {
        for (id, value) in self.part.parameters().ids().zip(values) {
            // They were accepted before: by the decoder, or by the sheet's own range.
            let _ = self.decoder.set_parameter(id, *value);
        }
    }

    pub(crate) fn clear(&mut self) {
        self.last.clear();
    }

    /// Frames read since [`clear`](Self::clear), decoded; `now` is the port's time in microseconds, where it has one.
    pub(crate) fn measurement(&mut self, now: Option<u64>) -> Result<Measurement, DeviceError> {
        let mut frames = Vec::new();
        self.may_sleep = false;
        let time = self.measured_at.take().or(now.map(|micros| micros as f64 / 1e6));
        self.decoder.measured_at(time.as_slice());
        // Later reads and writes do not apply to an earlier frame.
        let now = self.state().clone();
        for (id, bytes, state) in std::mem::take(&mut self.last) {
            if !self.kept.contains(&id) {
                self.decoder.adopt(&state);
                let decoded = self.decoder.decode(id, &bytes).map_err(DeviceError::Refused)?;
                frames.push(MeasuredFrame { part: self.part.clone(), decoded, bytes, state });
            }
        }
        self.decoder.adopt(&now);
        Ok(Measurement { frames })
    }

    /// Resolves wishes to writes; sends nothing.
    pub(crate) fn configuration(&self, typed: &[String], scope: WriteScope) -> Result<Configuration, DeviceError> {
        Ok(configure(&self.part, self.state(), &self.wishes(typed)?, scope)?)
    }

    fn wishes(&self, typed: &[String]) -> Result<Vec<Wish>, DeviceError> {
        Ok(typed.iter().map(|typed| Wish::parse(&self.part, typed)).collect::<Result<Vec<_>, _>>()?)
    }

    /// The readable registers that wishes depend on; an error if the wishes are impossible for all register values.
    pub(crate) fn asked_first(&self, typed: &[String]) -> Result<Option<Job>, DeviceError> {
        let wishes = self.wishes(typed)?;
        let mut registers = yemdo::configure::registers_behind(&self.part, &wishes);
        match configure(&self.part, self.state(), &wishes, WriteScope::All) {
            Ok(done) => registers.extend(done.writes.iter().map(|write| write.register)),
            // It may be possible with the real register values.
            Err(_) if self.is_unknown(&registers) => {}
            Err(error) => return Err(error.into()),
        }
        registers.sort_unstable();
        registers.dedup();
        registers.retain(|id| self.part.registers().get(*id).is_some_and(|register| register.access().is_readable()));
        Ok((!registers.is_empty()).then_some(Job::Registers(registers)))
    }

    fn is_unknown(&self, registers: &[RegisterId]) -> bool {
        self.part.registers().of(registers).any(|register| self.state().known_register(register).is_none())
    }

    /// What a configuration sets beyond registers.
    pub(crate) fn configured(&mut self, done: &Configuration) {
        self.set_parameters(done.state.parameters());
        for (field, code) in &done.unstored {
            self.part.fields().get(*field).into_iter().for_each(|field| self.decoder.state_mut().set_field(field, *code));
        }
    }
}
