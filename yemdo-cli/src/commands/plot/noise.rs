//! How readings spread: a histogram each, beside the noise that the sheet states.

use std::io::Write;
use std::path::Path;

use serde::Serialize;
use yemdo::configure::{Limits, choose};
use yemdo::series::{Bin, Running, bins};
use yemdo::{Decoder, Part};

use super::over_time::unit_title;
use crate::args::{CheckFormat, Plot};
use crate::failure::Failure;
use crate::input;
use crate::output::json_line;
use crate::show::axis::number_ticks;
use crate::show::figure::{Axis, Figure, Form, Line, Panel};
use crate::show::grid::{Align, Grid};
use crate::show::number::short;
use yemdo::counted;
use yemdo_log::{Track, Tracks};

/// More bars are not told apart.
const MOST: usize = 120;

/// Data of a histogram.
struct Noise<'a> {
    track: &'a Track,
    all: Running,
    /// The deviation from one value to the next, over the square root of 2: slow changes are not in it.
    quick: Option<f64>,
    /// Noise stated in the sheet, and the step of the code.
    stated: Option<f64>,
    step: Option<f64>,
    bins: Vec<Bin>,
}

pub(super) fn run(args: &Plot, tracks: &Tracks, sheet: Option<&Part>, place: &Path) -> Result<u8, Failure> {
    let track = match tracks.tracks.as_slice() {
        [only] => only,
        several => {
            let names: Vec<String> = several.iter().map(Track::name).collect();
            let failure = Failure::error("several readings: choose one for the histogram");
            return Err(failure.help(format!("--reading takes one of {}", names.join(", "))));
        }
    };
    if track.samples.len() < 2 {
        return Err(Failure::refused(format!(
            "{} has {}: a histogram needs at least two",
            track.name(),
            counted(track.samples.len() as u64, "value")
        )));
    }
    let (stated, step) = match sheet {
        Some(part) => stated(part, track, &args.set)?,
        None => (None, None),
    };
    let values: Vec<f64> = track.samples.iter().map(|sample| sample.value).collect();
    let steps: Running = values.windows(2).filter_map(|pair| Some(pair.last()? - pair.first()?)).collect();
    let squares = steps.deviation().map_or(0.0, |deviation| deviation * deviation) + steps.mean * steps.mean;
    let quick = (steps.count > 0).then(|| (squares / 2.0).sqrt());
    let noise = Noise { track, all: values.iter().copied().collect(), quick, stated, step, bins: bins(&values, step, MOST) };
    super::write(args, place, &figure(&noise))?;
    tell(args, &noise)?;
    Ok(0)
}

/// Noise stated in the sheet for these settings, and the step of the reading, in the track's unit.
fn stated(part: &Part, track: &Track, set: &[String]) -> Result<(Option<f64>, Option<f64>), Failure> {
    let id = part.reading_or_derived(&track.reading)?;
    let mut decoder = Decoder::new(part);
    input::apply(&mut decoder, set)?;
    let choices = choose(part, Some(id), decoder.state(), &Limits::default()).unwrap_or_default();
    let found = choices.into_iter().find(|choice| choice.in_use);
    // Without settings that decide, the transfer curve has the step.
    let own = || {
        let curve = yemdo::review::curves(part, id)?.into_iter().next()?;
        let pair: Vec<_> = curve.points.iter().filter(|point| !point.saturated && point.value.is_some()).take(2).collect();
        let &[one, next] = pair.as_slice() else { return None };
        Some(((next.value? - one.value?) / (next.code - one.code) as f64).abs())
    };
    let step = found.as_ref().and_then(|choice| choice.step).or_else(own);
    let from = part.readings()[id].unit();
    let convert = |value: f64| match (yemdo::units::Unit::find(from), yemdo::units::Unit::find(&track.unit)) {
        (Some(from), Some(to)) => from.difference_to(to, value).unwrap_or(value),
        _ => value,
    };
    Ok((found.and_then(|choice| choice.noise).map(convert), step.filter(|step| *step > 0.0).map(convert)))
}

fn figure(noise: &Noise<'_>) -> Figure {
    let (low, high) = noise.bins.first().zip(noise.bins.last()).map_or((0.0, 1.0), |(first, last)| (first.low, last.high));
    let room = (high - low) * 0.04;
    let bars = noise.bins.iter().filter(|bin| bin.count > 0);
    let bars: Vec<Vec<(f64, f64)>> = bars.map(|bin| vec![(bin.low, bin.count as f64), (bin.high, bin.count as f64)]).collect();
    let all = format!("{}, standard deviation {}", noise.track.name(), deviation(noise.all.deviation(), &noise.track.unit));
    let mut lines = vec![Line { label: all, style: 2, form: Form::Bars, pieces: bars, ..Line::default() }];
    let width = noise.bins.first().map_or(1.0, |bin| bin.high - bin.low);
    let bell = |deviation: f64| -> Vec<(f64, f64)> {
        let at = |place: u32| low - room + (high - low + 2.0 * room) * f64::from(place) / 400.0;
        let height = noise.all.count as f64 * width / (deviation * std::f64::consts::TAU.sqrt());
        (0..=400).map(at).map(|x| (x, height * (-((x - noise.all.mean) / deviation).powi(2) / 2.0).exp())).collect()
    };
    for (style, label, sigma) in
        [(0, "normal distribution of that deviation", noise.all.deviation()), (1, "as the sheet states", noise.stated)]
    {
        if let Some(sigma) = sigma.filter(|sigma| *sigma > 0.0) {
            let label = if style == 1 { format!("{label}: {}", deviation(Some(sigma), &noise.track.unit)) } else { label.to_owned() };
            lines.push(Line { label, style, pieces: vec![bell(sigma)], ..Line::default() });
        }
    }
    let panel = Panel { title: "values".into(), lines, share: 1, ..Panel::default() };
    Figure {
        title: format!("Noise of {}", noise.track.name()),
        about: counted(noise.all.count, "value"),
        x: Axis {
            low: low - room,
            high: high + room,
            ticks: number_ticks(low - room, high + room, 12),
            label: format!("{} in {}", noise.track.reading, unit_title(&noise.track.unit)),
        },
        panels: vec![panel],
        strips: Vec::new(),
    }
}

fn deviation(value: Option<f64>, unit: &str) -> String {
    let value = value.map_or("–".to_owned(), |value| crate::show::number::digits(value, 3, 9));
    if unit == "1" || value == "–" { value } else { format!("{value} {unit}") }
}

#[derive(Debug, Serialize)]
struct NoiseView<'a> {
    reading: String,
    unit: &'a str,
    values: u64,
    mean: f64,
    least: f64,
    greatest: f64,
    deviation: Option<f64>,
    deviation_without_drift: Option<f64>,
    stated: Option<f64>,
    step: Option<f64>,
}

fn tell(args: &Plot, noise: &Noise<'_>) -> Result<(), Failure> {
    let mut out = anstream::stdout().lock();
    let unit = noise.track.unit.as_str();
    if args.format == CheckFormat::Json {
        return json_line(
            &mut out,
            &NoiseView {
                reading: noise.track.name(),
                unit,
                values: noise.all.count,
                mean: noise.all.mean,
                least: noise.all.least,
                greatest: noise.all.greatest,
                deviation: noise.all.deviation(),
                deviation_without_drift: noise.quick,
                stated: noise.stated,
                step: noise.step,
            },
        );
    }
    writeln!(out, "{}: {}", noise.track.name(), counted(noise.all.count, "value"))?;
    let mut grid = Grid::new(2, &[Align::Left, Align::Left]);
    let with = |value: f64| yemdo::with_unit(short(value).parse().unwrap_or(value), unit);
    grid.row(vec!["mean".into(), with(noise.all.mean).into()]);
    grid.row(vec!["from".into(), format!("{} to {}", short(noise.all.least), with(noise.all.greatest)).into()]);
    grid.row(vec!["standard deviation".into(), deviation(noise.all.deviation(), unit).into()]);
    grid.row(vec!["sample to sample".into(), format!("{} (without slow drift)", deviation(noise.quick, unit)).into()]);
    if noise.stated.is_some() {
        grid.row(vec!["stated by the sheet".into(), deviation(noise.stated, unit).into()]);
    }
    if noise.step.is_some() {
        grid.row(vec!["step between codes".into(), deviation(noise.step, unit).into()]);
    }
    Ok(grid.write(&mut out)?)
}
