//! Logs in all forms: measurements read back, decoded again, and as readings over time.

use std::collections::BTreeMap;
use std::fs;
use std::io::BufReader;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::stand_in::StandIn;
use yemdo::units::Unit;
use yemdo::{Decoder, Part, State};
use yemdo_bus::{Device, Port, Rig, RigPort};
use yemdo_log::{
    AnyLog, Audience, Clock, Clocks, Entry, LogEntries, LogError, LogFile, LogForm, LogStep, Logger, Measured, Moment, Raw, Station, Tracks,
};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Measurements with each settings.
const MEASUREMENTS: u64 = 2;

/// Keeps all entries.
#[derive(Default)]
struct Kept(Vec<Entry>);

impl<P: Port> Audience<P> for Kept {
    type Error = Box<dyn std::error::Error>;

    fn measured(&mut self, measured: &Measured<'_, P>) -> Result<(), Self::Error> {
        self.0.push(measured.entry.clone());
        Ok(())
    }

    fn failed(&mut self, _: u64, entry: &Entry) -> Result<(), Self::Error> {
        self.0.push(entry.clone());
        Ok(())
    }
}

/// Measures at a stand-in with two settings, one after the other, into a log of each form.
pub fn logged(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    let Some(bus) = part.buses().all().next() else { return };
    let mut wishes = || {
        let typed = cases::wishes(c, part, 3);
        let read: Vec<Wish> = typed.iter().filter_map(|typed| Wish::parse(part, typed).ok()).collect();
        configure(part, &State::reset(part), &read, WriteScope::Changed).map_or_else(|_| Vec::new(), |_| typed)
    };
    let settings = [wishes(), wishes()];
    for form in ["csv", "jsonl", "senml", "senmlc"] {
        let file = Temporary::new(form);
        let Ok(heard) = measure(part, &settings, &file.0, || {
            let rig = Rig::new();
            let place = rig.add(StandIn::new(part, 3).ok()?);
            Some((Device::new(rig.port(place, bus), part.clone(), bus).ok()?, rig))
        }) else {
            continue;
        };
        // What read nothing but frames that are kept leaves no record.
        if heard.iter().any(|entry| entry.error.is_none() && entry.frames.is_empty()) {
            continue;
        }
        let about = format!("{form} of {settings:?}");
        let form = LogForm::of(&file.0).unwrap();
        read_back(&heard, &file.0, form, &about, tally);
        let Ok(decoded) = decoded(part, &file.0) else {
            tally.hold(Row::Meaning, "logged, decoded anew", false, || format!("{about} cannot be read"));
            continue;
        };
        for (at, entry) in heard.iter().filter(|entry| entry.error.is_none()).enumerate() {
            let anew = decoded.get(at).cloned().unwrap_or_default();
            for reading in measured_readings(part, entry) {
                let same = anew.get(&reading.0) == Some(&(reading.1, reading.2.clone()));
                tally.hold(Row::Meaning, "logged, decoded anew", same, || {
                    format!("{about}: {reading:?} of {entry:?}, anew {:?}", anew.get(&reading.0))
                });
            }
        }
        if !form.is_text() || form == LogForm::Senml {
            continue;
        }
        tracks(part, &file.0, form, &about, tally);
    }
}

/// A file that is removed.
struct Temporary(PathBuf);

impl Temporary {
    fn new(ending: &str) -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        let name = format!("yemdo-agree-{}-{}.{ending}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        Self(std::env::temp_dir().join(name))
    }
}

impl Drop for Temporary {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

type Opened = Option<(Device<RigPort>, Rig)>;

/// What an audience heard while the log was written.
fn measure(part: &Part, settings: &[Vec<String>], path: &Path, open: impl Fn() -> Opened) -> Result<Vec<Entry>, ()> {
    let mut heard = Kept::default();
    for (round, set) in settings.iter().enumerate() {
        let (device, rig) = open().ok_or(())?;
        let begin = Moment::of_seconds(2e9 + 1000.0 * round as f64);
        let mut logger = Logger::new(Clock::of_rig(&rig, begin));
        logger.add(Station::new("probe", part).set_up(set, &[]).every(1_000_000)).count(MEASUREMENTS);
        logger.log_to(LogFile::open(path, &Clocks::new(true), None, false).map_err(drop)?);
        let mut device = Some(device);
        let mut connect = |_: &Station| device.take().ok_or("gone");
        logger.run(&mut connect, &mut heard).map_err(drop)?;
    }
    Ok(heard.0)
}

/// Records read back hold the measurement; SenML in its own units.
fn read_back(heard: &[Entry], path: &Path, form: LogForm, about: &str, tally: &mut Tally) {
    let mut log = LogEntries::new(BufReader::new(fs::File::open(path).unwrap()), form);
    let mut back = Vec::new();
    while let Ok(Some((_, entry))) = log.next_entry() {
        back.push(entry);
    }
    tally.hold(Row::Meaning, "logged, read back", back.len() == heard.len(), || format!("{about}: {} of {}", back.len(), heard.len()));
    for (one, other) in heard.iter().zip(&back) {
        let same = other.as_ref().is_ok_and(|other| is_same(one, other, matches!(form, LogForm::Senml | LogForm::SenmlCbor)));
        tally.hold(Row::Meaning, "logged, read back", same, || format!("{about}: {one:?} and {other:?}"));
    }
}

fn is_same(one: &Entry, other: &Entry, senml: bool) -> bool {
    let value = |entry: &Entry, name: &str| entry.readings.iter().find(|reading| reading.reading == name).cloned();
    let readings = one.readings.iter().all(|reading| {
        let Some(back) = value(other, &reading.reading) else { return false };
        let same = match (reading.value, back.value) {
            (Some(one), Some(other)) if senml && reading.unit != back.unit => match (Unit::find(&reading.unit), Unit::find(&back.unit)) {
                (Some(from), Some(to)) => from.to(to, one).is_some_and(|one| (one - other).abs() <= one.abs() * 1e-12),
                _ => one == other,
            },
            (one, other) => one == other,
        };
        same && reading.status == back.status && (senml || (reading.unit == back.unit && reading.reason == back.reason))
    });
    let times = (one.time.micros() - other.time.micros()).abs() <= 500;
    let frames = one.frames.iter().all(|frame| other.frames.contains(frame));
    let sorted = |entry: &Entry| BTreeMap::from_iter(entry.settings.clone());
    let same = (&one.part, sorted(one), one.readings.len()) == (&other.part, sorted(other), other.readings.len());
    let errors = one.error.as_ref().map(|error| &error.cause) == other.error.as_ref().map(|error| &error.cause);
    readings && times && frames && same && errors
}

/// The name of a reading, its value, its status.
type Outcome = (Option<f64>, String);

/// Readings without derived quantities: logs have times in milliseconds.
fn measured_readings(part: &Part, entry: &Entry) -> Vec<(String, Option<f64>, String)> {
    let of = |name: &str| part.reading_or_derived(name).ok().filter(|id| !part.readings()[*id].is_derived());
    let readings = entry.readings.iter().filter(|reading| of(&reading.reading).is_some());
    readings.map(|reading| (reading.reading.clone(), reading.value, reading.status.clone())).collect()
}

/// The readings of each record, decoded again.
fn decoded(part: &Part, path: &Path) -> Result<Vec<BTreeMap<String, Outcome>>, LogError> {
    let state = State::while_read(part);
    let mut decoder = Decoder::new(part);
    let input = BufReader::new(fs::File::open(path).unwrap());
    let mut log = AnyLog::open(input, part, None, Some("probe"), &state, &[], &Clocks::new(true))?;
    let (mut all, mut last) = (Vec::new(), None);
    while let Some(step) = log.next_step()? {
        match step {
            LogStep::State(state) => decoder.adopt(&state),
            LogStep::Refused(line, why) => panic!("line {line}: {why}"),
            LogStep::Frame(record) => {
                if last.replace(record.line) != Some(record.line) {
                    all.push(BTreeMap::new());
                }
                let bytes = record.bytes.unwrap();
                for reading in decoder.decode(record.frame, &bytes).into_iter().flat_map(|decoded| decoded.readings) {
                    all.last_mut().unwrap().insert(reading.name, (reading.value, reading.status.as_str().to_owned()));
                }
            }
        }
    }
    Ok(all)
}

/// Readings over time, as logged and as decoded again.
fn tracks(part: &Part, path: &Path, form: LogForm, about: &str, tally: &mut Tally) {
    let open = || BufReader::new(fs::File::open(path).unwrap());
    let (mut logged, mut anew) = (Tracks::default(), Tracks::default());
    let read = logged.add_entries(LogEntries::new(open(), form));
    let decoded = anew.decode(open(), &Raw { part, set: &[], name: Some("probe") });
    tally.hold(Row::Meaning, "tracks", read.is_ok() && decoded.is_ok(), || format!("{about}: {read:?} {decoded:?}"));
    for track in &logged.tracks {
        if part.reading_or_derived(&track.reading).is_ok_and(|id| part.readings()[id].is_derived()) {
            continue;
        }
        let other = anew.tracks.iter().find(|other| other.reading == track.reading);
        // A reading that comes with several frames is decoded with each of them, and logged once.
        let samples = |track: &yemdo_log::Track| track.samples.iter().map(|sample| (sample.time, sample.value)).collect::<Vec<_>>();
        let same = other.is_none_or(|other| samples(track).iter().all(|sample| samples(other).contains(sample)));
        let found = other.is_some() || track.samples.is_empty();
        tally.hold(Row::Meaning, "tracks", same && found, || format!("{about}: {track:?} and {other:?}"));
    }
}
