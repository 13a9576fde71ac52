//! Collects frames and settings for `mend`.

use std::io::Write;
use std::path::Path;

use yemdo::mend::{Expected, Observation};
use yemdo::record::parse_frames;
use yemdo::{Decoder, FrameId, Part, ReadingId, Refusal, counted};
use yemdo_bus::{Device, Port};
use yemdo_log::{AnyLog, Clocks, LogStep, seconds_of};

use crate::args::Mend;
use crate::failure::Failure;
use crate::input;
use crate::link::Stop;

/// Number of frames to use from a log.
const MOST_FRAMES: usize = 64;

/// Frames and settings, with a summary of skipped frames.
pub(crate) struct Gathered {
    pub(crate) observation: Observation,
    /// Time of each frame in seconds.
    times: Vec<Option<f64>>,
    /// Frames with a failing check.
    failing: Vec<(FrameId, Vec<u8>)>,
    /// Number of other refused frames, and the last cause.
    refused: Option<(usize, Refusal)>,
    /// Number of frames in the input.
    all: usize,
    /// True if settings change in the log.
    changed: bool,
}

/// Collects the frames named by the arguments.
pub(super) fn gather(args: &Mend, part: &Part, bytes: &[String]) -> Result<Gathered, Failure> {
    let frame = args.frame.as_deref().map(|name| part.frame(name)).transpose()?;
    if let Some(number) = args.example {
        let example = super::super::decode::worked_example(part, number)?;
        let observation = Observation::of_example(part, example).ok_or_else(|| {
            let failure = Failure::error("this worked example has no frame with an expected reading");
            failure.help("`yemdo check` runs it")
        })?;
        let frames = observation.frames.iter().map(|(frame, bytes)| (*frame, bytes.clone(), None)).collect();
        return Ok(sorted(part, Decoder::new(part), frames, observation));
    }
    let mut decoder = Decoder::new(part);
    if args.dump.is_some() {
        *decoder.state_mut() = input::present(part, args.dump.as_deref())?;
    }
    input::apply(&mut decoder, &args.set)?;
    if let Some(connected) = args.link.connect(part, &Stop::default())? {
        let all = super::super::decode::read_frames(connected, frame, &decoder)?;
        return Ok(with_settings(part, decoder, all.into_iter().map(|(frame, bytes)| (frame, bytes, None)).collect()));
    }
    let logged = match &args.log {
        Some(path) => from_log(args, part, frame, path, &mut decoder)?,
        None if bytes.is_empty() => return Err(no_frames()),
        None => {
            let typed = parse_frames(part, frame, &bytes.join(" ")).map_err(|error| Failure::helped(error.message, error.help))?;
            let frames: Vec<Timed> = typed.into_iter().map(|(frame, bytes)| (frame, bytes, None)).collect();
            Logged { count: frames.len(), frames, changed: false }
        }
    };
    if logged.frames.is_empty() {
        return Err(no_frames());
    }
    let mut gathered = with_settings(part, decoder, logged.frames);
    (gathered.all, gathered.changed) = (logged.count, logged.changed);
    Ok(gathered)
}

/// Frame with its time in seconds, if known.
type Timed = (FrameId, Vec<u8>, Option<f64>);

/// Sample of the frames of a log.
struct Logged {
    frames: Vec<Timed>,
    /// Number of frames in the log.
    count: usize,
    changed: bool,
}

/// Samples a log up to the first change of settings.
fn from_log(args: &Mend, part: &Part, frame: Option<FrameId>, path: &Path, decoder: &mut Decoder) -> Result<Logged, Failure> {
    let (input, _) = yemdo_log::open_log(path)?;
    let before = decoder.state().clone();
    let mut log = AnyLog::open(input, part, frame, args.part.as_deref(), &before, &args.set, &Clocks::new(false))?;
    let mut logged = Logged { frames: Vec::new(), count: 0, changed: false };
    let mut every = 1;
    while let Some(step) = log.next_step()? {
        let state = match &step {
            LogStep::Frame(record) => record.state.as_deref().cloned(),
            LogStep::State(state) => Some((**state).clone()),
            LogStep::Refused(..) => None,
        };
        if let Some(state) = state.filter(|state| !state.has_same_values(decoder.state())) {
            if logged.count > 0 {
                logged.changed = true;
                break;
            }
            decoder.adopt(&state);
        }
        let LogStep::Frame(record) = step else { continue };
        let Ok(bytes) = record.bytes else { continue };
        let is_kept = |frame: FrameId| part.frames()[frame].is_kept();
        if is_kept(record.frame) || logged.count.is_multiple_of(every) {
            logged.frames.push((record.frame, bytes, record.time.as_deref().and_then(seconds_of)));
        }
        logged.count += 1;
        if logged.frames.len() > 2 * MOST_FRAMES {
            let mut at = 0;
            logged.frames.retain(|(frame, ..)| {
                at += 1;
                is_kept(*frame) || at % 2 == 1
            });
            every *= 2;
        }
    }
    Ok(logged)
}

fn no_frames() -> Failure {
    Failure::error("no frames").help("add the received bytes, or --log FILE, --at PLACE or --example NUMBER")
}

/// Uses the last frames of a device with its settings; `None` before the first.
pub(crate) fn last<P: Port>(device: &Device<P>) -> Option<Gathered> {
    let part = device.part();
    let all: Vec<Timed> = part.frames().ids().filter_map(|id| Some((id, device.last_bytes(id)?.to_vec(), None))).collect();
    let mut decoder = Decoder::new(part);
    decoder.adopt(device.state());
    (!all.is_empty()).then(|| with_settings(part, decoder, all))
}

fn with_settings(part: &Part, decoder: Decoder, all: Vec<Timed>) -> Gathered {
    let every: Vec<FrameId> = part.frames().ids().collect();
    let used = decoder.in_use(&every).into_iter().filter(|used| !used.as_reset);
    let settings = used.map(|used| format!("{}={}", used.name, used.value)).collect();
    sorted(part, decoder, all, Observation { settings, ..Observation::default() })
}

/// Sorts frames by validity, frames with `keep` first.
fn sorted(part: &Part, mut decoder: Decoder, mut all: Vec<Timed>, mut observation: Observation) -> Gathered {
    all.sort_by_key(|(frame, ..)| !part.frames()[*frame].is_kept());
    let count = all.len();
    observation.frames.clear();
    let (mut times, mut failing, mut refused) = (Vec::new(), Vec::new(), None);
    for (frame, bytes, time) in all {
        match decoder.decode(frame, &bytes) {
            Ok(_) => {
                observation.frames.push((frame, bytes));
                times.push(time);
            }
            Err(Refusal::Check { .. }) => failing.push((frame, bytes)),
            Err(other) => refused = Some((refused.map_or(1, |(count, _): (usize, Refusal)| count + 1), other)),
        }
    }
    Gathered { observation, times, failing, refused, all: count, changed: false }
}

/// True if a frame gives a reading.
fn brings(part: &Part, frame: FrameId, reading: ReadingId) -> bool {
    part.frames()[frame].readings().contains(&reading)
}

impl Gathered {
    /// Times of the frames with a reading.
    pub(super) fn times(&self, part: &Part, reading: ReadingId) -> impl Iterator<Item = f64> {
        let frames = self.observation.frames.iter().zip(&self.times);
        frames.filter(move |((frame, _), _)| brings(part, *frame, reading)).filter_map(|(_, time)| *time)
    }

    /// Keeps frames with a reading only if their time fits.
    pub(super) fn retain(&mut self, part: &Part, reading: ReadingId, fits: impl Fn(f64) -> bool) {
        let both = std::mem::take(&mut self.observation.frames).into_iter().zip(std::mem::take(&mut self.times));
        let kept = both.filter(|((frame, _), time)| !brings(part, *frame, reading) || time.is_some_and(&fits));
        (self.observation.frames, self.times) = kept.unzip();
    }

    /// Frames of a kind without any valid frame.
    pub(super) fn all_fail(&self) -> Option<(FrameId, Vec<Vec<u8>>)> {
        let (frame, _) = self.failing.iter().find(|(frame, _)| !self.observation.frames.iter().any(|(good, _)| good == frame))?;
        let own = self.failing.iter().filter(|(other, _)| other == frame);
        Some((*frame, own.map(|(_, bytes)| bytes.clone()).collect()))
    }

    /// Checks that the expectations match the frames.
    pub(super) fn fit_expectations(&self, part: &Part) -> Result<(), Failure> {
        if let (true, Some((_, refusal))) = (self.observation.frames.is_empty(), &self.refused) {
            return Err(Failure::error(format!("no valid frame: {refusal}")));
        }
        for expectation in &self.observation.expectations {
            let reading = &part.readings()[expectation.reading];
            let frames = self.observation.frames.iter().filter(|(frame, _)| brings(part, *frame, expectation.reading)).count();
            if frames == 0 {
                let known = part.frames().iter().filter(|frame| frame.readings().contains(&expectation.reading));
                let names: Vec<&str> = known.map(|frame| frame.name()).collect();
                let failure = Failure::error(format!("no frame with {}", reading.name()));
                return Err(failure.help(format!("{} comes with {}", reading.name(), names.join(" and "))));
            }
            match &expectation.expected {
                Expected::Within(list) if list.len() > 1 && list.len() != frames => {
                    let text = format!("{}: {} expected values for {}", reading.name(), list.len(), counted(frames, "frame"));
                    return Err(Failure::error(text).help("write one value for all frames, or one per frame"));
                }
                Expected::Rises | Expected::Falls if frames < 2 => {
                    let text = format!("{}: a direction needs two frames", reading.name());
                    return Err(Failure::error(text).help("add the bytes of more frames"));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Reports skipped frames and assumed settings.
    pub(super) fn tell(&self, part: &Part) {
        let mut err = anstream::stderr();
        let used = self.observation.frames.len();
        let left = self.failing.len() + self.refused.as_ref().map_or(0, |(count, _)| *count);
        if self.all > used + left {
            let _ = writeln!(err, "using {used} of {} frames", self.all);
        }
        if self.changed {
            let _ = writeln!(err, "settings change in the log: using the frames before the change");
        }
        if left > 0 {
            let why = self.refused.as_ref().map_or("check failed".to_owned(), |(_, refusal)| refusal.to_string());
            let _ = writeln!(err, "skipped {}: {why}", counted(left, "invalid frame"));
        }
        if !self.observation.settings.is_empty() {
            let _ = writeln!(err, "assuming {1} for {0}", part.name(), self.observation.settings.join(", "));
        }
    }
}
