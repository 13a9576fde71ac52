//! Readings over time: one panel per unit, with refused frames below.

use std::path::Path;

use serde::Serialize;
use yemdo::Status;
use yemdo::series::{Running, pieces, thin};

use crate::args::{CheckFormat, Plot};
use crate::failure::Failure;
use crate::output::json_line;
use crate::show::axis::{number_ticks, time_ticks};
use crate::show::figure::{Axis, Figure, Line, Marks, Panel, Shape, Strip};
use crate::show::grid::{Align, Grid};
use crate::show::number::short;
use yemdo::counted;
use yemdo_log::{Clocks, Moment};
use yemdo_log::{TimeKind, Track, Tracks};

/// Columns of pixels that samples are thinned to.
const COLUMNS: usize = 1148;

pub(super) fn run(args: &Plot, tracks: &Tracks, clocks: &Clocks, place: &Path) -> Result<u8, Failure> {
    super::write(args, place, &figure(tracks, clocks)?)?;
    summary(args, tracks)?;
    Ok(0)
}

pub(crate) fn figure(tracks: &Tracks, clocks: &Clocks) -> Result<Figure, Failure> {
    let span = tracks.span().ok_or_else(|| Failure::error("no values between these times"))?;
    let mut parts: Vec<&str> = tracks.tracks.iter().map(|track| track.part.as_str()).collect();
    parts.sort_unstable();
    parts.dedup();
    let one = if let [one] = parts.as_slice() { Some(*one) } else { None };
    let mut units: Vec<&str> = Vec::new();
    tracks.tracks.iter().for_each(|track| units.extend(Some(track.unit.as_str()).filter(|unit| !units.contains(unit))));
    let panels = units.iter().map(|unit| {
        let own = tracks.tracks.iter().filter(|track| track.unit == *unit);
        let lines = own.enumerate().map(|(style, track)| line(track, style, span, one.is_some())).collect();
        Panel { title: unit_title(unit).into(), lines, share: 1, ..Panel::default() }
    });
    let strips = tracks.refused.iter().filter(|(_, times)| !times.is_empty()).map(|((part, cause), times)| Strip {
        label: format!("{}{} × {cause}", if part.is_empty() { String::new() } else { format!("{part}: ") }, times.len()),
        ticks: times.clone(),
    });
    let title = match (one.filter(|part| !part.is_empty()), tracks.tracks.as_slice()) {
        (Some(part), [only]) => format!("{part}: {}", only.reading),
        (Some(part), _) => part.to_owned(),
        (None, _) => "Readings".to_owned(),
    };
    let x = axis(tracks.kind, span, clocks);
    let readings: u64 = tracks.tracks.iter().map(|track| track.count).sum();
    let about = about(tracks.kind, span, clocks, &counted(readings, "reading"));
    Ok(Figure { title, about, x, panels: panels.collect(), strips: strips.collect() })
}

/// The axis for times of any kind.
pub(super) fn axis(kind: TimeKind, (low, high): (f64, f64), clocks: &Clocks) -> Axis {
    // One moment is in the middle.
    let (low, high) = if high > low { (low, high) } else { (low - 0.5, high + 0.5) };
    let utc = Clocks::new(true);
    let clocks = if kind == TimeKind::Absolute { clocks } else { &utc };
    let (ticks, label) = match kind {
        TimeKind::Absolute | TimeKind::Unplaced => (time_ticks(clocks, Moment::of_seconds(low), Moment::of_seconds(high), 13), ""),
        TimeKind::Seconds => (number_ticks(low, high, 12), "seconds"),
        TimeKind::Counted => (number_ticks(low, high, 12), "frame"),
    };
    Axis { low, high, ticks, label: label.into() }
}

/// From when to when, and how much of what.
pub(super) fn about(kind: TimeKind, (low, high): (f64, f64), clocks: &Clocks, count: &str) -> String {
    let utc = Clocks::new(true);
    let clocks = if kind == TimeKind::Absolute { clocks } else { &utc };
    let (from, to) = (clocks.text(Moment::of_seconds(low)), clocks.text(Moment::of_seconds(high)));
    let piece = |text: &str, range: std::ops::Range<usize>| text.get(range).unwrap_or("").replace('T', " ");
    match kind {
        TimeKind::Absolute | TimeKind::Unplaced => {
            let offset = match from.get(23..).unwrap_or("") {
                _ if kind == TimeKind::Unplaced => String::new(),
                "Z" => " UTC".to_owned(),
                offset => format!(" UTC{offset}"),
            };
            let same_day = from.get(..10) == to.get(..10);
            let to = piece(&to, if same_day { 11..19 } else { 0..19 });
            let from = if from.starts_with("1970-01-01") { piece(&from, 11..19) } else { piece(&from, 0..19) };
            format!("{from} to {to}{offset}, {count}")
        }
        TimeKind::Seconds | TimeKind::Counted => count.to_owned(),
    }
}

pub(super) fn unit_title(unit: &str) -> &str {
    if unit == "1" { "number" } else { unit }
}

/// A track as a line with its marks.
pub(super) fn line(track: &Track, style: usize, span: (f64, f64), alone: bool) -> Line {
    let pieces = pieces(&track.samples).map(|piece| thin(piece, span, COLUMNS).iter().map(|at| (at.time, at.value)).collect()).collect();
    let name = if alone { track.reading.clone() } else { track.name() };
    let marks = track.marks.iter().map(|(status, marks)| {
        let known = Status::from_name(status);
        let (shape, has_value) = match known {
            Some(Status::Saturated) => (Shape::Triangle, false),
            Some(Status::Alert | Status::OutOfRange) if marks.iter().any(|(_, value)| value.is_some()) => (Shape::Ring, true),
            _ => (Shape::Cross, false),
        };
        let all = marks.iter().map(|(time, value)| (*time, value.filter(|_| has_value)));
        // Rings on a line hide it where they are many.
        let most = if shape == Shape::Ring { 90 } else { 280 };
        Marks { label: format!("{} {status}", marks.len()), shape, points: few(all.collect(), span, most) }
    });
    Line { label: name, style, marks: marks.collect(), pieces, ..Line::default() }
}

/// No more marks than can be seen: of those in one column, one.
fn few(marks: Vec<(f64, Option<f64>)>, (from, to): (f64, f64), most: usize) -> Vec<(f64, Option<f64>)> {
    if marks.len() <= most {
        return marks;
    }
    let column = |time: f64| ((time - from) / (to - from) * most as f64).floor();
    let mut seen = f64::NAN;
    marks.into_iter().filter(|(time, _)| std::mem::replace(&mut seen, column(*time)) != column(*time)).collect()
}

/// Summary of a plotted reading.
#[derive(Debug, Serialize)]
struct TrackView<'a> {
    part: &'a str,
    reading: &'a str,
    unit: &'a str,
    values: u64,
    least: Option<f64>,
    greatest: Option<f64>,
    mean: Option<f64>,
    deviation: Option<f64>,
    statuses: std::collections::BTreeMap<&'a str, usize>,
}

fn summary(args: &Plot, tracks: &Tracks) -> Result<(), Failure> {
    let mut out = anstream::stdout().lock();
    let mut grid = Grid::new(0, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Right, Align::Left, Align::Left]);
    grid.titles(&["reading", "values", "minimum", "mean", "maximum", "", ""]);
    for track in &tracks.tracks {
        let all: Running = track.samples.iter().map(|sample| sample.value).collect();
        if args.format == CheckFormat::Json {
            let some = |value: f64| (all.count > 0).then_some(value);
            json_line(
                &mut out,
                &TrackView {
                    part: &track.part,
                    reading: &track.reading,
                    unit: &track.unit,
                    values: all.count,
                    least: some(all.least),
                    greatest: some(all.greatest),
                    mean: some(all.mean),
                    deviation: all.deviation(),
                    statuses: track.marks.iter().map(|(status, marks)| (status.as_str(), marks.len())).collect(),
                },
            )?;
            continue;
        }
        let show = |value: f64| if all.count == 0 { "–".to_owned() } else { short(value) };
        let statuses: Vec<String> = track.marks.iter().map(|(status, marks)| format!("{} {status}", marks.len())).collect();
        let unit = if track.unit == "1" { "" } else { &track.unit };
        grid.row(vec![
            track.name().into(),
            all.count.to_string().into(),
            show(all.least).into(),
            show(all.mean).into(),
            show(all.greatest).into(),
            unit.to_owned().into(),
            statuses.join(", ").into(),
        ]);
    }
    if args.format != CheckFormat::Json {
        grid.write(&mut out)?;
    }
    Ok(())
}
