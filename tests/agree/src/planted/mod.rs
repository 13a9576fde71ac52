//! How often the finder of mistakes finds one that was planted.

mod plant;

use std::collections::BTreeMap;
use std::fmt;
use std::time::{Duration, Instant};

use yemdo::configure::assume;
use yemdo::mend::{Expectation, Expected, Finding, Observation, mend, mended};
use yemdo::units::{UNITS, Unit};
use yemdo::{Decoder, FrameId, Part, ReadingId, Status};

use crate::choices::{Choices, bytes_of};
use crate::{SHEET_BYTES, sheet};
use plant::Planted;

/// Frames in the order of reception.
type Frames = Vec<(FrameId, Vec<u8>)>;

/// Maximum number of mistakes in one sheet.
const MOST: usize = 60;

/// How often the true change was first, among the first three, found at all.
#[derive(Clone, Copy, Debug, Default)]
pub struct Score {
    /// Mistakes.
    pub of: usize,
    /// First.
    pub first: usize,
    /// Among the first three.
    pub three: usize,
    /// Found.
    pub found: usize,
}

/// Scores by the kind of mistake.
#[derive(Debug, Default)]
pub struct Measured {
    /// With one frame, and with three.
    pub kinds: BTreeMap<&'static str, [Score; 2]>,
    /// The longest search.
    pub longest: Duration,
    /// All searches.
    pub all: Duration,
    /// Descriptions of misses.
    pub missed: Vec<String>,
}

impl fmt::Display for Measured {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let percent = |part: usize, of: usize| if of == 0 { 0.0 } else { 100.0 * part as f64 / of as f64 };
        let cells = |score: &Score| {
            let Score { of, first, three, found } = *score;
            format!("{of:>6} {:>6.0} {:>6.0} {:>6.0}", percent(first, of), percent(three, of), percent(found, of))
        };
        writeln!(f, "{:24}{:>27}    {:>27}", "", "one frame", "three frames")?;
        let titles = format!("{:>6} {:>6} {:>6} {:>6}", "of", "first", "3", "found");
        writeln!(f, "{:24}{titles}    {titles}", "mistake, percent")?;
        let mut all = [Score::default(); 2];
        for (kind, scores) in &self.kinds {
            writeln!(f, "{kind:24}{}    {}", cells(&scores[0]), cells(&scores[1]))?;
            for (all, score) in all.iter_mut().zip(scores) {
                all.of += score.of;
                all.first += score.first;
                all.three += score.three;
                all.found += score.found;
            }
        }
        writeln!(f, "{:24}{}    {}", "all", cells(&all[0]), cells(&all[1]))?;
        let mean = self.all / u32::try_from(all[0].of + all[1].of).unwrap_or(1).max(1);
        write!(f, "a search takes {mean:.1?}, the longest {:.1?}", self.longest)
    }
}

/// A shipped sheet without its checks, or a random one.
pub fn text_of(text: &str) -> String {
    let kept = |line: &&str| !line.trim_start().starts_with("check");
    text.lines().filter(kept).map(|line| format!("{line}\n")).collect()
}

/// The sheet of a seed.
pub fn random(seed: u64) -> String {
    text_of(&sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES))))
}

/// Plants mistakes into a sheet, one after the other, and looks for them.
pub fn measure(name: &str, text: &str, seed: u64, measured: &mut Measured) {
    let Ok(part) = Part::parse(name, text) else { return };
    let bytes = bytes_of(seed ^ 0x5EED, 1 << 20);
    let mut choices = Choices::new(&bytes);
    let mut all = plant::mistakes(text, &part);
    while all.len() > MOST {
        all.swap_remove(choices.below(all.len()));
    }
    for planted in all {
        let settings: Vec<String> = planted.setting.iter().cloned().collect();
        let Ok(wrong) = Part::parse(name, &planted.text) else { continue };
        let target = (0..part.readings().len()).find_map(|_| {
            let ids: Vec<ReadingId> = part.readings().ids().collect();
            let target = ids[choices.below(ids.len())];
            let three = frames(&part, &settings, target, &mut choices)?;
            disagrees(&part, &wrong, &settings, target, &three).then_some((target, three))
        });
        let Some((target, three)) = target else { continue };
        for (place, count) in [(0, 1), (1, 3)] {
            let Some(observation) = observation(&part, &wrong, &settings, target, &three, count, &mut choices) else { continue };
            if !disagrees(&part, &wrong, &settings, target, &three[..count]) {
                continue;
            }
            let begin = Instant::now();
            let found = mend(&wrong, &observation);
            let took = begin.elapsed();
            measured.longest = measured.longest.max(took);
            measured.all += took;
            let place_of = found.list.iter().position(|finding| is_it(&part, &wrong, &planted, finding, &settings, target, &three));
            let score = &mut measured.kinds.entry(planted.kind).or_default()[place];
            score.of += 1;
            score.first += usize::from(place_of == Some(0));
            score.three += usize::from(place_of.is_some_and(|at| at < 3));
            score.found += usize::from(place_of.is_some());
            if place_of.is_none_or(|at| at >= 1) {
                let line = planted.text.lines().zip(text.lines()).find(|(one, two)| one != two);
                let first: Vec<&str> = found.list.iter().take(3).map(|finding| finding.what.as_str()).collect();
                measured.missed.push(format!("{name} {} {} frames {place_of:?} {:?} {line:?} {first:?}", planted.kind, count, settings));
            }
        }
    }
}

/// Values of a reading for frames, with active settings.
fn values(part: &Part, settings: &[String], target: ReadingId, frames: &[(FrameId, Vec<u8>)]) -> Option<Vec<Option<f64>>> {
    let mut decoder = Decoder::new(part);
    if !settings.is_empty() {
        let state = assume(part, decoder.state(), settings).ok()?;
        decoder.adopt(&state);
    }
    let name = part.readings()[target].name();
    let value = |decoded: yemdo::Decoded| {
        let reading = decoded.reading(name).ok()?;
        // In the dimension's own unit: one may be wrong.
        let unit = Unit::find(&reading.unit).and_then(|unit| Some((unit, UNITS.iter().find(|other| other.dimension == unit.dimension)?)));
        unit.map_or(reading.value, |(unit, base)| unit.to(base, reading.value?))
    };
    Some(frames.iter().map(|(frame, bytes)| decoder.decode(*frame, bytes).ok().and_then(value)).collect())
}

/// Frames with valid values of a reading, after the frames with `keep`.
fn frames(part: &Part, settings: &[String], target: ReadingId, choices: &mut Choices<'_>) -> Option<Vec<Frames>> {
    let (id, frame) = part.frames().entries().find(|(_, frame)| frame.readings().contains(&target))?;
    let examples: Vec<&(FrameId, Vec<u8>)> = part.examples().iter().flat_map(|example| example.frames()).collect();
    let mut before: Frames = Vec::new();
    for (other, kept) in part.frames().entries().filter(|(other, kept)| kept.is_kept() && *other != id) {
        let example = examples.iter().find(|(frame, _)| *frame == other).map(|(_, bytes)| bytes.clone());
        before.push((other, example.unwrap_or_else(|| (0..kept.length()).map(|_| byte(choices)).collect())));
    }
    let name = part.readings()[target].name();
    let mut decoder = Decoder::new(part);
    let state = assume(part, decoder.state(), settings).ok()?;
    decoder.adopt(&state);
    let own: Vec<Vec<u8>> = examples.iter().filter(|(frame, _)| *frame == id).map(|(_, bytes)| bytes.clone()).collect();
    let (mut found, mut known): (Vec<Frames>, Vec<f64>) = (Vec::new(), Vec::new());
    for _ in 0..400 {
        let base = if own.is_empty() { None } else { own.get(choices.below(own.len())) };
        let bytes: Vec<u8> = (0..frame.length())
            .map(|at| base.and_then(|base| base.get(at)).copied().filter(|_| choices.below(2) == 0).unwrap_or_else(|| byte(choices)))
            .collect();
        let mut all = before.clone();
        all.push((id, bytes));
        decoder.clear_frames();
        let good = all.iter().fold(None, |_, (frame, bytes)| {
            let decoded = decoder.decode(*frame, bytes).ok()?;
            let reading = decoded.reading(name).ok()?;
            reading.value.filter(|value| reading.status == Status::Ok && value.is_finite() && (1e-3..1e9).contains(&value.abs()))
        });
        let Some(value) = good.filter(|value| known.iter().all(|known| (known - value).abs() > 0.15 * known.abs())) else { continue };
        known.push(value);
        found.push(all);
        if found.len() == 3 {
            return Some(found);
        }
    }
    None
}

/// Expected values: ± 10 %, with the middle up to 5 % off.
fn observation(
    part: &Part,
    wrong: &Part,
    settings: &[String],
    target: ReadingId,
    three: &[Frames],
    count: usize,
    choices: &mut Choices<'_>,
) -> Option<Observation> {
    let mut observation = Observation::default();
    let mut pairs = Vec::new();
    for (at, all) in three.iter().take(count).enumerate() {
        let value = values(part, settings, target, all)?.pop()??;
        let middle = value * (0.95 + 0.1 * f64::from(byte(choices)) / 255.0);
        pairs.push((middle - 0.1 * value.abs(), middle + 0.1 * value.abs()));
        let own = all.len() - 1;
        observation.frames.extend(all.iter().skip(if at == 0 { 0 } else { own }).cloned());
    }
    // The expectation is in the unit that the wrong sheet has.
    let unit = |part: &Part| Unit::find(part.readings()[target].unit());
    let base = unit(part).and_then(|unit| UNITS.iter().find(|other| other.dimension == unit.dimension));
    let turned = |value: f64| unit(wrong).zip(base).map_or(Some(value), |(unit, base)| base.to(unit, value));
    let pairs = pairs.into_iter().map(|(low, high)| Some((turned(low)?, turned(high)?))).collect::<Option<Vec<_>>>()?;
    observation.expectations.push(Expectation { reading: target, expected: Expected::Within(pairs) });
    Some(observation)
}

/// Whether the wrong sheet gives clearly other values at one of the frames.
fn disagrees(part: &Part, wrong: &Part, settings: &[String], target: ReadingId, frames: &[Frames]) -> bool {
    frames.iter().any(|all| {
        let right = values(part, settings, target, all).and_then(|mut values| values.pop()).flatten();
        let other = values(wrong, &[], target, all).and_then(|mut values| values.pop()).flatten();
        match (right, other) {
            (Some(right), Some(other)) => (right - other).abs() > 0.2 * right.abs(),
            (right, other) => right != other,
        }
    })
}

fn byte(choices: &mut Choices<'_>) -> u8 {
    choices.bytes(1).first().copied().unwrap_or(0)
}

/// True if a finding gives the values of the right sheet for random bytes.
fn is_it(
    part: &Part,
    wrong: &Part,
    planted: &Planted,
    finding: &Finding,
    settings: &[String],
    target: ReadingId,
    frames: &[Frames],
) -> bool {
    let Ok(own) = Part::parse("mended.toml", &mended(wrong, finding)) else { return false };
    let with: Vec<String> = finding.settings.clone();
    if planted.setting.is_none() && !with.is_empty() {
        return false;
    }
    let bytes = bytes_of(99, 4096);
    let mut choices = Choices::new(&bytes);
    frames.iter().cycle().take(40).all(|all| {
        let mut all = all.clone();
        if let Some((_, last)) = all.last_mut() {
            last.iter_mut().for_each(|place| {
                if choices.below(2) == 0 {
                    *place = byte(&mut choices);
                }
            });
        }
        let (right, other) = (values(part, settings, target, &all), values(&own, &with, target, &all));
        match (right.and_then(|mut values| values.pop()).flatten(), other.and_then(|mut values| values.pop()).flatten()) {
            (Some(right), Some(other)) => (right - other).abs() <= 1e-9 * right.abs(),
            (right, other) => right == other,
        }
    })
}
