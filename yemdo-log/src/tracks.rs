//! Readings over time from logs of any form, for plots and comparisons.

use std::collections::BTreeMap;
use std::io::BufRead;
use std::path::Path;

use yemdo::configure::assume;
use yemdo::series::{Sample, integral};
use yemdo::units::Unit;
use yemdo::{Decoder, FrameValues, Part, Status, nearest, visible};

use crate::any::AnyLog;
use crate::error::{LogError, LogErrorKind};
use crate::raw::open_log;
use crate::read::{LogEntries, form_of};
use crate::records::LogStep;
use crate::time::{Clocks, Moment};

/// A reading over time.
#[derive(Clone, Debug, Default)]
pub struct Track {
    /// The part, as the log calls it.
    pub part: String,
    /// The reading.
    pub reading: String,
    /// Its unit.
    pub unit: String,
    /// All readings, with a value or without.
    pub count: u64,
    /// Measured values, without saturated ones.
    pub samples: Vec<Sample>,
    /// Readings that are not ok, by status: times, and values if any.
    pub marks: BTreeMap<String, Vec<(f64, Option<f64>)>>,
}

impl Track {
    /// `air/temperature`; of a log that names no part the reading alone.
    pub fn name(&self) -> String {
        if self.part.is_empty() { self.reading.clone() } else { format!("{}/{}", self.part, self.reading) }
    }

    fn add(&mut self, time: f64, value: Option<f64>, status: &str) {
        self.count += 1;
        let known = Status::from_name(status);
        if let Some(value) = value.filter(|value| value.is_finite() && known != Some(Status::Saturated)) {
            self.samples.push(Sample { time, value });
        }
        if known != Some(Status::Ok) {
            self.marks.entry(status.to_owned()).or_default().push((time, value));
        }
    }

    /// When there was a reading; of some that are marked, twice.
    pub fn times(&self) -> impl Iterator<Item = f64> {
        self.samples.iter().map(|sample| sample.time).chain(self.marks.values().flatten().map(|(time, _)| *time))
    }

    /// The same in another unit.
    ///
    /// # Errors
    /// [`LogErrorKind::Name`]: no reading has such a unit.
    pub fn convert(&mut self, to: &'static Unit) -> bool {
        let Some(from) = Unit::find(&self.unit).filter(|from| from.dimension == to.dimension) else { return false };
        let convert = |value: f64| from.to(to, value).unwrap_or(value);
        self.samples.iter_mut().for_each(|sample| sample.value = convert(sample.value));
        self.marks.values_mut().flatten().for_each(|(_, value)| *value = value.map(convert));
        self.unit = to.symbol.to_owned();
        true
    }
}

/// The kind of times in a log.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TimeKind {
    /// Unix time.
    #[default]
    Absolute,
    /// A date and time without an offset.
    Unplaced,
    /// Seconds of some clock.
    Seconds,
    /// The log has no times: frames are counted.
    Counted,
}

/// All that logs hold.
#[derive(Debug, Default)]
pub struct Tracks {
    /// A track for each reading of each part and unit.
    pub tracks: Vec<Track>,
    /// What gave no reading at all, by part and cause.
    pub refused: BTreeMap<(String, String), Vec<f64>>,
    /// The kind of times in the samples.
    pub kind: TimeKind,
    /// Measurements that failed while the log was recorded, by cause.
    pub failed: BTreeMap<String, u64>,
}

/// How raw frames become readings.
#[derive(Clone, Copy, Debug)]
pub struct Raw<'a> {
    /// The part that the frames are of.
    pub part: &'a Part,
    /// How it was set, as `NAME=VALUE`.
    pub set: &'a [String],
    /// The part as the log calls it.
    pub name: Option<&'a str>,
}

impl Tracks {
    fn add(&mut self, part: &str, reading: &str, unit: &str, (time, value, status): (f64, Option<f64>, &str)) {
        let known = self.tracks.iter().position(|track| track.reading == reading && track.part == part && track.unit == unit);
        let at = known.unwrap_or_else(|| {
            self.tracks.push(Track { part: part.into(), reading: reading.into(), unit: unit.into(), ..Track::default() });
            self.tracks.len() - 1
        });
        self.tracks.get_mut(at).into_iter().for_each(|track| track.add(time, value, status));
    }

    /// Adds the readings of a log.
    ///
    /// # Errors
    /// The log cannot be read; or it has no readings, and no part is given to decode it.
    pub fn read(&mut self, path: &Path, raw: Option<&Raw<'_>>) -> Result<(), LogError> {
        let (mut input, _) = open_log(path)?;
        let first = input.fill_buf().map_err(|error| LogError::file("read the log", path, &error))?;
        let empty = first.is_empty();
        match (raw, form_of(first)) {
            _ if empty => Err(LogError::new(LogErrorKind::Format, format!("the log {} is empty", path.display()))),
            // What was recorded is what was measured, unless it is asked to be decoded anew.
            (Some(raw), form) if form.is_none() || raw.name.is_some() => self.decode(input, raw),
            (_, Some(form)) => self.add_entries(LogEntries::new(input, form).without_bytes()),
            _ => {
                let failure = LogError::new(LogErrorKind::Format, format!("{} is not a log of readings", path.display()));
                Err(failure.with_help("for raw frames give --sheet; a log of readings comes from yemdo read --log"))
            }
        }
    }

    /// Adds readings as they were logged.
    ///
    /// # Errors
    /// The log cannot be read.
    pub fn add_entries(&mut self, mut log: LogEntries<impl BufRead>) -> Result<(), LogError> {
        let mut last = 0.0;
        while let Some((_, entry)) = log.next_entry()? {
            let entry = match entry {
                Ok(entry) => entry,
                Err(_) => {
                    self.refused.entry((String::new(), "not a record".into())).or_default().push(last);
                    continue;
                }
            };
            let time = entry.time.seconds();
            last = time;
            for reading in &entry.readings {
                self.add(&entry.part, &reading.reading, &reading.unit, (time, reading.value, &reading.status));
            }
            if let Some(error) = entry.error {
                self.refused.entry((entry.part, error.cause)).or_default().push(time);
            }
        }
        self.join_without_unit();
        Ok(())
    }

    /// A reading without a value may have been logged without its unit.
    fn join_without_unit(&mut self) {
        let (mut whole, bare): (Vec<Track>, Vec<Track>) =
            std::mem::take(&mut self.tracks).into_iter().partition(|track| !(track.unit.is_empty() && track.samples.is_empty()));
        for track in bare {
            match whole.iter_mut().find(|known| known.reading == track.reading && known.part == track.part) {
                Some(known) => {
                    known.count += track.count;
                    track.marks.into_iter().for_each(|(status, marks)| known.marks.entry(status).or_default().extend(marks));
                }
                None => whole.push(track),
            }
        }
        self.tracks = whole;
    }

    /// Adds the readings of raw frames.
    ///
    /// # Errors
    /// The log cannot be read, or the settings are none of the part.
    pub fn decode(&mut self, input: impl BufRead, raw: &Raw<'_>) -> Result<(), LogError> {
        let part = raw.part;
        let mut decoder = Decoder::new(part);
        let before = assume(part, decoder.state(), raw.set)?;
        decoder.adopt(&before);
        let mut log = AnyLog::open(input, part, None, raw.name, &before, raw.set, &Clocks::new(true))?;
        let name = raw.name.unwrap_or(part.name()).to_owned();
        let (mut values, mut number, mut last) = (FrameValues::new(), 0.0, None);
        while let Some(step) = log.next_step()? {
            let record = match step {
                LogStep::Frame(record) => record,
                LogStep::Refused(..) => {
                    self.refused.entry((name.clone(), "not a frame".into())).or_default().push(last.unwrap_or(number));
                    continue;
                }
                LogStep::State(state) => {
                    decoder.adopt(&state);
                    continue;
                }
            };
            record.state.iter().for_each(|state| decoder.adopt(state));
            number += 1.0;
            let known = record.time.as_deref().and_then(time_of);
            let (time, kind) = known.unwrap_or((number, TimeKind::Counted));
            self.kind = if number == 1.0 { kind } else { self.kind };
            last = Some(time);
            decoder.measured_at(known.map(|(time, _)| time).as_slice());
            let done = match &record.bytes {
                Ok(bytes) => decoder.decode_into(record.frame, bytes, &mut values).map_err(|refusal| refusal.cause()),
                Err(_) => Err("not a frame"),
            };
            if let Err(cause) = done {
                self.refused.entry((name.clone(), cause.into())).or_default().push(time);
                continue;
            }
            let shown = part.frames()[record.frame].shown();
            for (place, reading) in shown.map(|id| &part.readings()[id]).enumerate() {
                let status = values.status(place);
                // A frame that is still to come is nothing to be shown.
                if status != Status::Waiting {
                    self.add(&name, reading.name(), reading.unit(), (time, values.value(place), status.as_str()));
                }
            }
        }
        log.failed().into_iter().flatten().for_each(|(cause, count)| *self.failed.entry(cause.clone()).or_default() += count);
        Ok(())
    }

    /// Keeps the readings that are asked for.
    ///
    /// # Errors
    /// [`LogErrorKind::Name`]: there is no such reading.
    pub fn choose(&mut self, asked: &[String]) -> Result<(), LogError> {
        for one in asked {
            if !self.tracks.iter().any(|track| is_meant(track, one)) {
                return Err(self.unknown(one));
            }
        }
        self.tracks.retain(|track| asked.is_empty() || asked.iter().any(|one| is_meant(track, one)));
        Ok(())
    }

    /// The one reading that is meant.
    ///
    /// # Errors
    /// [`LogErrorKind::Name`]: there is no such reading, or there are several.
    pub fn only(&self, asked: &str) -> Result<&Track, LogError> {
        let found: Vec<&Track> = self.tracks.iter().filter(|track| is_meant(track, asked)).collect();
        match found.as_slice() {
            [one] => Ok(one),
            [] => Err(self.unknown(asked)),
            several => {
                let names: Vec<String> = several.iter().map(|track| track.name()).collect();
                Err(LogError::new(LogErrorKind::Name, format!("`{}` is several readings", visible(asked)))
                    .with_help(format!("choose one: {}", names.join(", "))))
            }
        }
    }

    fn unknown(&self, asked: &str) -> LogError {
        let names: Vec<String> = self.tracks.iter().map(Track::name).collect();
        let failure = LogError::new(LogErrorKind::Name, format!("the log has no reading `{}`", visible(asked)));
        match nearest(asked, self.tracks.iter().map(|track| track.reading.as_str())) {
            Some(near) => failure.with_help(format!("did you mean `{near}`? It has {}", names.join(", "))),
            None if names.is_empty() => failure.with_help("it has none"),
            None => failure.with_help(format!("it has {}", names.join(", "))),
        }
    }

    /// Puts readings into the units that are asked for.
    ///
    /// # Errors
    /// [`LogErrorKind::Name`]: no reading has such a unit.
    pub fn convert(&mut self, asked: &[String]) -> Result<(), LogError> {
        for one in asked {
            let (name, symbol) = one.split_once('=').map_or((None, one.as_str()), |(name, symbol)| (Some(name.trim()), symbol.trim()));
            let to = Unit::find(symbol)
                .ok_or_else(|| LogError::new(LogErrorKind::Name, format!("the unit `{}` is not known", visible(symbol))))?;
            let meant = self.tracks.iter_mut().filter(|track| name.is_none_or(|name| is_meant(track, name)));
            if meant.map(|track| track.convert(to)).filter(|done| *done).count() == 0 {
                return Err(LogError::new(
                    LogErrorKind::Name,
                    format!("{symbol} is a unit of {}, and no reading has such a unit", to.dimension),
                ));
            }
        }
        Ok(())
    }

    /// Puts what readings have added up to in their place; a saturated one adds nothing that is known, and stays marked.
    pub fn integrate(&mut self) {
        for track in &mut self.tracks {
            track.samples = integral(&track.samples);
            track.unit = if track.unit == "1" { "h".to_owned() } else { format!("{}·h", track.unit) };
            track.marks.values_mut().flatten().for_each(|(_, value)| *value = None);
        }
    }

    /// Keeps samples between two times.
    pub fn cut(&mut self, from: Option<f64>, to: Option<f64>) {
        let within = |time: f64| from.is_none_or(|from| time >= from) && to.is_none_or(|to| time <= to);
        for track in &mut self.tracks {
            track.samples.retain(|sample| within(sample.time));
            track.marks.values_mut().for_each(|marks| marks.retain(|(time, _)| within(*time)));
        }
        self.refused.values_mut().for_each(|times| times.retain(|time| within(*time)));
    }

    /// The first and the last time.
    pub fn span(&self) -> Option<(f64, f64)> {
        span(self.tracks.iter().flat_map(Track::times).chain(self.refused.values().flatten().copied()))
    }
}

/// The first and the last of times.
pub fn span(times: impl Iterator<Item = f64>) -> Option<(f64, f64)> {
    times.map(|time| (time, time)).reduce(|(low, high), (time, _)| (low.min(time), high.max(time)))
}

/// Whether a reading is meant by `temperature`, or by `air/temperature`.
fn is_meant(track: &Track, asked: &str) -> bool {
    track.reading == asked || track.name() == asked
}

/// A time as logs have it, in seconds; `None` for other texts.
pub fn seconds_of(text: &str) -> Option<f64> {
    time_of(text).map(|(seconds, _)| seconds)
}

/// The same, and what kind it is.
fn time_of(text: &str) -> Option<(f64, TimeKind)> {
    if let Some(moment) = Moment::parse(text) {
        return Some((moment.seconds(), TimeKind::Absolute));
    }
    let dated = text.replacen(' ', "T", 1);
    let unplaced = Moment::parse(&format!("{dated}Z")).or_else(|| Moment::parse(&format!("1970-01-01T{dated}Z")));
    if let Some(moment) = unplaced {
        return Some((moment.seconds(), TimeKind::Unplaced));
    }
    text.trim().parse().ok().filter(|seconds: &f64| seconds.is_finite()).map(|seconds| (seconds, TimeKind::Seconds))
}
