//! The loop that measures: which part is next, what is done where one fails, and who hears of it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use yemdo::view::ShownUnits;
use yemdo::{Decoder, FrameId, Part};
use yemdo_bus::place::Place;
use yemdo_bus::{Cause, Device, DeviceError, Measurement, Port, Rig, Shared};

use crate::args::Read;
use crate::failure::Failure;
use crate::link::{AnyPort, Stop, failed};
use crate::log::{Entry, LogFile, Moment};
use crate::show::live::Row;

/// A part that is read.
pub(super) struct Reader {
    pub(super) name: String,
    pub(super) part: Part,
    pub(super) units: ShownUnits,
    pub(super) place: Place,
    pub(super) set: Vec<String>,
    pub(super) run: Vec<String>,
    pub(super) every: Option<u64>,
    /// `None` while it cannot be opened.
    pub(super) device: Option<Device<AnyPort>>,
    /// What the device had decoded before it was gone: quantities over time go on from there.
    pub(super) before: Option<Decoder>,
    /// When it is read next.
    pub(super) due: u64,
    pub(super) good: u64,
    pub(super) failures: BTreeMap<&'static str, u64>,
    /// It failed the last time.
    pub(super) failing: bool,
    /// It is to be set up before it is read.
    pub(super) fresh: bool,
}

impl Reader {
    /// The device is gone.
    fn close(&mut self) {
        self.before = self.device.take().map(|mut device| device.decoder_mut().clone());
    }
}

/// After a failure with the device itself, so long until it is opened again, in microseconds.
const REOPEN: u64 = 500_000;

/// Time: that of stand-ins, or of the world.
pub(super) struct Clock {
    pub(super) rig: Option<Rig>,
    /// The moment at which the time of stand-ins and recordings begins.
    pub(super) begin: Moment,
    /// Waits for stand-ins take real time, too.
    pub(super) real: bool,
    pub(super) start: Instant,
}

impl Clock {
    pub(super) fn now(&self) -> u64 {
        match &self.rig {
            Some(rig) => rig.now(),
            None => self.start.elapsed().as_micros() as u64,
        }
    }

    /// The moment of a time; that of the world is asked anew, since its clock may be set.
    fn moment(&self, at: u64, virtual_time: bool) -> Moment {
        if virtual_time || self.rig.is_some() { self.begin.after(at) } else { Moment::now() }
    }

    fn wait(&self, micros: u64, stop: &Stop) {
        let end = self.now() + micros;
        while self.now() < end && !stop.is_asked() {
            let piece = (end - self.now()).min(PIECE);
            match &self.rig {
                Some(rig) => {
                    rig.pass(piece);
                    self.keep_pace(stop);
                }
                None => std::thread::sleep(Duration::from_micros(piece)),
            }
        }
    }

    /// What stand-ins took for measuring is over for them, and still to come in the world.
    fn keep_pace(&self, stop: &Stop) {
        let Some(rig) = self.rig.as_ref().filter(|_| self.real) else { return };
        let world = || Duration::from_micros(rig.now()).saturating_sub(self.start.elapsed());
        while !stop.is_asked() && !world().is_zero() {
            std::thread::sleep(world().min(Duration::from_micros(PIECE)));
        }
    }
}

/// The longest wait in one piece, in microseconds.
const PIECE: u64 = 50_000;

/// What somebody who watches may change while it runs.
#[derive(Debug, Default)]
pub(super) struct Control {
    /// Nothing is measured while it is set.
    pub(super) paused: AtomicBool,
    /// From one measurement to the next, for all parts, in microseconds; 0: as the bench says.
    pub(super) every: AtomicU64,
    /// The part and reading that somebody looks at in all detail.
    #[cfg(feature = "live")]
    pub(super) detail: std::sync::Mutex<Option<(String, String)>>,
}

/// Who hears of what was measured.
pub(super) trait Audience {
    /// A measurement.
    fn measured(&mut self, row: &Row<'_>, device: &mut Device<AnyPort>) -> Result<(), Failure>;
    /// One that failed; its time in microseconds since the beginning.
    fn failed(&mut self, at: u64, entry: &Entry) -> Result<(), Failure>;
    /// A part cannot be opened; it is tried again.
    fn absent(&mut self, name: &str, why: &str);
    /// A part that had failed measures again.
    fn back(&mut self, name: &str);
    /// Something happened that has nothing to do with a part.
    fn note(&mut self, text: &str);
}

/// All parts, and what they have in common.
pub(super) struct Session<'a> {
    pub(super) args: &'a Read,
    pub(super) stop: &'a Stop,
    pub(super) rig: &'a Rig,
    pub(super) clock: Clock,
    pub(super) log: Option<LogFile>,
    /// Lines that several parts are on, by their names.
    pub(super) lines: BTreeMap<String, Shared>,
    pub(super) readers: Vec<Reader>,
    /// So many measurements of each.
    pub(super) count_to: u64,
    /// A recording is played at so many times its speed; `None`: as fast as it can.
    pub(super) speed: Option<f64>,
    pub(super) control: Arc<Control>,
}

impl Session<'_> {
    /// Measures until the end.
    pub(super) fn run(&mut self, audience: &mut dyn Audience) -> Result<(), Failure> {
        self.clock.start = Instant::now();
        loop {
            let now = self.clock.now();
            if self.stop.is_asked() || self.args.duration.is_some_and(|whole| now >= whole) {
                return Ok(());
            }
            if self.control.paused.load(Ordering::Relaxed) {
                self.clock.wait(20_000, self.stop);
                continue;
            }
            let count_to = self.count_to;
            let done = |reader: &Reader| reader.good + reader.failures.values().sum::<u64>() >= count_to;
            let next = self.readers.iter().enumerate().filter(|(_, reader)| !done(reader)).min_by_key(|(_, reader)| reader.due);
            let Some((at, next)) = next else { return Ok(()) };
            if next.due > now {
                let until = self.args.duration.map_or(next.due, |whole| next.due.min(whole));
                // Not all at once: somebody may want it otherwise meanwhile.
                self.clock.wait((until - now).min(50_000), self.stop);
                continue;
            }
            let gone = self.read_one(at, audience)?;
            self.clock.keep_pace(self.stop);
            if let Some(name) = gone {
                // The line is gone for all that are on it.
                self.lines.remove(&name);
                self.readers.iter_mut().filter(|reader| reader.place.shared() == name).for_each(Reader::close);
            }
        }
    }

    /// Reads one part; gives the name of its line, where that is gone.
    fn read_one(&mut self, at: usize, audience: &mut dyn Audience) -> Result<Option<String>, Failure> {
        let Session { args, stop, rig, clock, log, lines, readers, control, speed, .. } = self;
        let Some(reader) = readers.get_mut(at) else { return Ok(None) };
        let begin = clock.now();
        let every = Some(control.every.load(Ordering::Relaxed)).filter(|every| *every > 0).or(reader.every);
        let mut gone = None;
        if reader.device.is_none() {
            match args.link.connect_shared(&reader.place, &reader.part, stop, Some(*rig), lines) {
                Ok(connected) => {
                    let mut device = connected.device;
                    reader.before.take().iter().for_each(|before| device.decoder_mut().go_on_from(before));
                    (reader.device, reader.fresh) = (Some(device), true);
                }
                Err(failure) => {
                    *reader.failures.entry("not opened").or_default() += 1;
                    audience.absent(&reader.name, &failure.message());
                    reader.due = clock.now() + every.unwrap_or(REOPEN).max(REOPEN);
                    return Ok(None);
                }
            }
        }
        let Some(device) = &mut reader.device else { return Ok(None) };
        // A recording has its own time.
        let recorded = matches!(reader.place, Place::Recording { .. });
        let begin = if recorded { device.port_mut().now() } else { begin };
        let moment = clock.moment(begin, recorded);
        let set: Vec<&str> = reader.set.iter().map(String::as_str).collect();
        let fresh = reader.fresh;
        device.measured_at(moment.seconds());
        let done = prepare(device, fresh, &set, &reader.run).and_then(|()| device.measure());
        match done {
            Ok(measured) => {
                reader.fresh = false;
                reader.good += 1;
                if std::mem::take(&mut reader.failing) {
                    audience.back(&reader.name);
                }
                let settings = settings_in_use(device, &measured);
                let mut entry = Entry::new(moment, &reader.name, &reader.part, &measured, settings, &reader.units);
                let (name, part, units) = (&reader.name, &reader.part, &reader.units);
                let told = audience.measured(&Row { at: begin, name, part, measured: &measured, units, entry: &entry }, device);
                go_on(told, log.is_some())?;
                if let Some(log) = log {
                    log.rotate(moment);
                    if log.is_new_to(&reader.name) {
                        introduce(&mut entry, device);
                    }
                    log.append(&entry)?;
                    log.notes().iter().for_each(|note| audience.note(note));
                }
            }
            Err(error) => {
                if stop.is_asked() {
                    return Ok(None);
                }
                if !error.is_transient() && is_hopeless(&error) {
                    return Err(failed(error));
                }
                *reader.failures.entry(error.cause()).or_default() += 1;
                reader.failing = true;
                let entry = Entry::failed(moment, &reader.name, &error);
                go_on(audience.failed(begin, &entry), log.is_some())?;
                if let Some(log) = log {
                    log.rotate(moment);
                    log.append(&entry)?;
                    log.notes().iter().for_each(|note| audience.note(note));
                }
                // A part that was away comes up as after a reset.
                reader.fresh = !set.is_empty() || !reader.run.is_empty();
                if matches!(&error, DeviceError::Bus { error, .. } if error.cause == Cause::Gone) {
                    reader.close();
                    gone = Some(reader.place.shared());
                }
                if every.is_none() {
                    reader.due = clock.now() + REOPEN;
                    return Ok(gone);
                }
            }
        }
        // From the beginning, so that it does not drift; what was missed is missed.
        reader.due = match (every, speed, &mut reader.device) {
            (_, Some(speed), Some(device)) if recorded => (device.port_mut().now() as f64 / *speed) as u64,
            _ if recorded => clock.now(),
            (Some(every), ..) => (reader.due + every).max(clock.now().saturating_sub(every)),
            (None, ..) => clock.now().max(begin + 1),
        };
        Ok(gone)
    }
}

/// Whoever read our output and has left does not stop a log.
fn go_on(told: Result<(), Failure>, logged: bool) -> Result<(), Failure> {
    match told {
        Err(Failure::Closed) if logged => Ok(()),
        told => told,
    }
}

/// What readings of these frames depend on, where it is not as after a reset: who reads the log needs it.
fn settings_in_use(device: &mut Device<AnyPort>, measured: &Measurement) -> Vec<(String, String)> {
    let frames: Vec<FrameId> = measured.frames.iter().map(|(decoded, _)| decoded.frame).collect();
    let used = device.decoder_mut().in_use(&frames).into_iter();
    used.filter(|used| !used.as_reset).map(|used| (used.name, used.value)).collect()
}

/// Puts the frames that are read once, such as calibration, before the others of a record.
fn introduce(entry: &mut Entry, device: &Device<AnyPort>) {
    let part = device.part();
    let kept = part.frames().entries().filter(|(_, frame)| frame.is_kept());
    let kept = kept.filter_map(|(id, frame)| Some((frame.name().to_owned(), device.last_bytes(id)?.to_vec())));
    let missing: Vec<(String, Vec<u8>)> = kept.filter(|(name, _)| !entry.frames.iter().any(|(known, _)| known == name)).collect();
    entry.frames.splice(0..0, missing);
}

/// Sets a part up, where it has just come.
fn prepare(device: &mut Device<AnyPort>, fresh: bool, set: &[&str], run: &[String]) -> Result<(), DeviceError> {
    if fresh && !set.is_empty() {
        device.configure(set)?;
    }
    if fresh {
        run.iter().try_for_each(|routine| device.run(routine).map(drop))?;
    }
    Ok(())
}

/// What will not be better by trying again.
fn is_hopeless(error: &DeviceError) -> bool {
    match error {
        DeviceError::Bus { error, .. } => matches!(error.cause, Cause::Unsupported | Cause::NotPermitted | Cause::OtherTraffic),
        DeviceError::Routine(_) | DeviceError::Identity(_) | DeviceError::NoValue { .. } | DeviceError::Refused(_) => false,
        _ => true,
    }
}
