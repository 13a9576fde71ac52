//! State of the live view.

use std::collections::{BTreeMap, VecDeque};
use std::time::Instant;

use ratatui::crossterm::event::Event;
use yemdo::series::{Running, Sample};
use yemdo::units::{UNITS, Unit};
use yemdo::view::ShownUnits;
use yemdo::{Digits, Part, Status, to_hex};

use yemdo_log::{Clocks, Moment};

/// Number of stored values per reading: ten minutes at one per second, and wider than any terminal.
pub(super) const KEPT: usize = 600;
/// Number of measurements for the rate.
const RATE: usize = 20;

/// Messages of the measuring thread.
#[derive(Debug)]
pub(super) enum Happened {
    Measured(Measured),
    Failed {
        part: String,
        cause: String,
        message: String,
    },
    Note(String),
    /// A key, or another size.
    Terminal(Event),
    /// Nothing more comes; why, where it went wrong.
    Ended(Option<String>),
}

#[derive(Debug)]
pub(super) struct Measured {
    pub(super) part: String,
    pub(super) time: Moment,
    pub(super) frames: Vec<(String, Vec<u8>)>,
    pub(super) readings: Vec<Seen>,
    /// The steps of the reading that is looked at.
    pub(super) steps: Option<String>,
}

/// A reading as it came, in the sheet's unit.
#[derive(Debug)]
pub(super) struct Seen {
    pub(super) name: String,
    pub(super) value: Option<f64>,
    pub(super) digits: Digits,
    pub(super) status: Status,
    pub(super) why: Option<String>,
    pub(super) codes: String,
}

/// Capabilities of the terminal.
#[derive(Clone, Copy, Debug)]
pub(super) struct Look {
    pub(super) colours: bool,
    /// More than ASCII.
    pub(super) signs: bool,
}

#[derive(Debug)]
pub(super) struct View {
    pub(super) parts: Vec<PartView>,
    /// Part and reading.
    pub(super) selected: (usize, usize),
    /// The selected reading is shown alone.
    pub(super) large: bool,
    pub(super) help: bool,
    /// Lines of the steps that are passed over.
    pub(super) scroll: usize,
    pub(super) paused: bool,
    /// Microseconds from one measurement to the next, where it is known.
    pub(super) every: Option<u64>,
    pub(super) marks: Vec<String>,
    pub(super) note: Option<String>,
    pub(super) ended: Option<Option<String>>,
    pub(super) now: Option<Moment>,
    pub(super) clocks: Clocks,
    pub(super) look: Look,
}

#[derive(Debug)]
pub(super) struct PartView {
    pub(super) name: String,
    pub(super) readings: Vec<ReadingView>,
    pub(super) frames: Vec<(String, String)>,
    pub(super) raw: Vec<(String, Vec<u8>)>,
    pub(super) steps: Option<String>,
    pub(super) good: u64,
    pub(super) errors: BTreeMap<String, u64>,
    /// It failed the last time.
    pub(super) failing: Option<String>,
    pub(super) came: VecDeque<Instant>,
}

#[derive(Debug)]
pub(super) struct ReadingView {
    pub(super) name: String,
    /// The sheet's unit, and where it is known and another is shown, both.
    pub(super) unit: String,
    pub(super) other: Option<(&'static Unit, &'static Unit)>,
    pub(super) value: Option<f64>,
    pub(super) digits: Digits,
    pub(super) status: Option<Status>,
    pub(super) why: Option<String>,
    pub(super) codes: String,
    pub(super) all: Running,
    pub(super) history: VecDeque<Sample>,
}

impl View {
    pub(super) fn new<'a>(parts: impl Iterator<Item = (&'a str, &'a Part, &'a ShownUnits)>, clocks: Clocks, look: Look) -> Self {
        let parts = parts.map(|(name, part, units)| PartView {
            name: name.to_owned(),
            readings: part
                .readings()
                .entries()
                .filter(|(_, reading)| !reading.is_shared())
                .map(|(id, reading)| {
                    let mut view = ReadingView::new(reading.name(), reading.unit());
                    let shown = units.unit(id).filter(|_| !units.is_plain(id));
                    view.other = Unit::find(reading.unit()).zip(shown);
                    view
                })
                .collect(),
            frames: Vec::new(),
            raw: Vec::new(),
            steps: None,
            good: 0,
            errors: BTreeMap::new(),
            failing: None,
            came: VecDeque::new(),
        });
        Self {
            parts: parts.collect(),
            selected: (0, 0),
            large: false,
            help: false,
            scroll: 0,
            paused: false,
            every: None,
            marks: Vec::new(),
            note: None,
            ended: None,
            now: None,
            clocks,
            look,
        }
    }

    /// Takes what happened.
    pub(super) fn take(&mut self, happened: Happened, now: Instant) {
        match happened {
            Happened::Measured(measured) => {
                self.now = Some(measured.time);
                if let Some(part) = self.parts.iter_mut().find(|part| part.name == measured.part) {
                    part.measured(measured, now);
                }
            }
            Happened::Failed { part, cause, message } => {
                if let Some(part) = self.parts.iter_mut().find(|known| known.name == part) {
                    *part.errors.entry(cause).or_default() += 1;
                    part.failing = Some(message);
                }
            }
            Happened::Note(text) => self.note = Some(text),
            Happened::Terminal(_) => {}
            Happened::Ended(why) => self.ended = Some(why),
        }
    }

    pub(super) fn selected(&self) -> Option<(&PartView, &ReadingView)> {
        let part = self.parts.get(self.selected.0)?;
        Some((part, part.readings.get(self.selected.1)?))
    }

    /// Moves the selection by this number of readings, across parts.
    pub(super) fn select(&mut self, by: isize) {
        let all: Vec<(usize, usize)> =
            self.parts.iter().enumerate().flat_map(|(at, part)| part.known().map(move |(reading, _)| (at, reading))).collect();
        let here = all.iter().position(|place| *place == self.selected).unwrap_or(0);
        let to = here.saturating_add_signed(by).min(all.len().saturating_sub(1));
        self.selected = all.get(to).copied().unwrap_or_default();
    }

    /// Selects the next unit of the reading's dimension; after the last one, its own.
    pub(super) fn next_unit(&mut self) {
        let (part, reading) = self.selected;
        let Some(reading) = self.parts.get_mut(part).and_then(|part| part.readings.get_mut(reading)) else { return };
        let Some(own) = Unit::find(&reading.unit) else { return };
        let all: Vec<&'static Unit> = UNITS.iter().filter(|unit| unit.dimension == own.dimension).collect();
        let shown = reading.other.map_or(own, |(_, to)| to);
        let at = all.iter().position(|unit| unit.symbol == shown.symbol).unwrap_or(0);
        let next = all.get((at + 1) % all.len().max(1)).copied().unwrap_or(own);
        reading.other = Some((own, next)).filter(|_| next.symbol != own.symbol);
    }

    /// Remembers this moment with all values.
    pub(super) fn mark(&mut self) {
        let time = self.now.map_or_else(String::new, |now| self.clocks.text(now));
        let readings = self.parts.iter().flat_map(|part| part.readings.iter().map(move |reading| (part, reading)));
        let values: Vec<String> = readings
            .filter_map(|(part, reading)| {
                Some(format!("{}/{} {} {}", part.name, reading.name, reading.shown(reading.value?), reading.symbol()))
            })
            .collect();
        self.marks.push(format!("mark {} at {time}: {}", self.marks.len() + 1, values.join(", ")));
        self.note = Some(format!("mark {} at {}", self.marks.len(), time.get(11..19).unwrap_or(&time)));
    }

    /// Resets statistics and errors.
    pub(super) fn reset(&mut self) {
        for part in &mut self.parts {
            part.errors.clear();
            part.good = 0;
            part.readings.iter_mut().for_each(|reading| reading.all = Running::default());
        }
        self.note = Some("statistics reset".into());
    }
}

impl PartView {
    fn measured(&mut self, measured: Measured, now: Instant) {
        self.good += 1;
        self.failing = None;
        self.came.push_back(now);
        if self.came.len() > RATE {
            self.came.pop_front();
        }
        self.frames = measured.frames.iter().map(|(name, bytes)| (name.clone(), to_hex(bytes))).collect();
        self.raw = measured.frames;
        self.steps = measured.steps.or(self.steps.take());
        for seen in measured.readings {
            let Some(reading) = self.readings.iter_mut().find(|reading| reading.name == seen.name) else { continue };
            if let Some(value) = seen.value.filter(|value| value.is_finite()) {
                if seen.status != Status::Saturated {
                    reading.all.add(value);
                }
                reading.history.push_back(Sample { time: measured.time.seconds(), value });
                if reading.history.len() > KEPT {
                    reading.history.pop_front();
                }
            }
            reading.value = seen.value;
            reading.digits = seen.digits;
            reading.status = Some(seen.status);
            reading.why = seen.why;
            reading.codes = seen.codes;
        }
    }

    /// The readings that measuring brings, with their places: others come from frames that it does not read.
    pub(super) fn known(&self) -> impl Iterator<Item = (usize, &ReadingView)> {
        self.readings.iter().enumerate().filter(|(_, reading)| reading.status.is_some() || self.good == 0)
    }

    /// Measurements a second.
    pub(super) fn rate(&self) -> Option<f64> {
        let span = self.came.back()?.duration_since(*self.came.front()?).as_secs_f64();
        (span > 0.0).then(|| (self.came.len() - 1) as f64 / span)
    }

    /// Seconds since the last one came.
    pub(super) fn age(&self, now: Instant) -> Option<f64> {
        Some(now.saturating_duration_since(*self.came.back()?).as_secs_f64())
    }
}

impl ReadingView {
    fn new(name: &str, unit: &str) -> Self {
        Self {
            name: name.to_owned(),
            unit: unit.to_owned(),
            other: None,
            value: None,
            digits: Digits::UNKNOWN,
            status: None,
            why: None,
            codes: String::new(),
            all: Running::default(),
            history: VecDeque::new(),
        }
    }

    /// A value in the unit that is shown.
    pub(super) fn convert(&self, value: f64) -> f64 {
        self.other.and_then(|(from, to)| from.to(to, value)).unwrap_or(value)
    }

    /// The same with its digits.
    pub(super) fn shown(&self, value: f64) -> String {
        let digits = match (self.other, self.digits) {
            (Some((from, to)), Digits::Decimals(decimals)) => Digits::Decimals(from.decimals_in(to, decimals)),
            (_, digits) => digits,
        };
        digits.text(self.convert(value))
    }

    pub(super) fn symbol(&self) -> &str {
        let symbol = self.other.map_or(self.unit.as_str(), |(_, to)| to.symbol);
        if symbol == "1" { "" } else { symbol }
    }
}
