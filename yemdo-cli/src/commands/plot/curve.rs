//! The transfer curve of a sheet's reading: code to value, for every setting.

use std::path::Path;

use yemdo::review::curves;
use yemdo::{Decoder, Part};

use crate::args::{CheckFormat, Plot};
use crate::failure::Failure;
use crate::output::json_line;
use crate::show::axis::number_ticks;
use crate::show::figure::{Axis, Figure, Line, Marks, NO_STYLE, Panel, Shape};
use yemdo::counted;

/// Maximum number of distinguishable lines; more are grey.
const MOST: usize = 12;

pub(super) fn run(args: &Plot, part: &Part, place: &Path) -> Result<u8, Failure> {
    let name = match args.reading.as_slice() {
        [one] => one.as_str(),
        [] => part.readings().first().map(|reading| reading.name()).ok_or_else(|| Failure::error("no reading in the sheet"))?,
        _ => return Err(Failure::error("several readings: choose one transfer curve")),
    };
    let id = part.reading(name)?;
    let Some((reading, curves)) = part.readings().get(id).zip(curves(part, id)) else {
        let others = part.readings().entries().filter(|(id, _)| yemdo::review::curves(part, *id).is_some());
        let others: Vec<&str> = others.map(|(_, reading)| reading.name()).collect();
        let failure = Failure::refused(format!("{name} has no transfer curve: it has several codes, or a real one"));
        return Err(if others.is_empty() { failure } else { failure.help(format!("--reading takes {}", others.join(", "))) });
    };
    let codes = || curves.iter().flat_map(|curve| curve.points.iter().map(|point| point.code as f64));
    let (low, high) = codes().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), code| (low.min(code), high.max(code)));
    let lines = curves.iter().enumerate().map(|(at, curve)| {
        let pieces = curve.lines().into_iter().filter(|line| line.len() > 1).collect();
        let ends = curve.ends().into_iter().map(|(code, value)| (code, Some(value))).collect();
        // Explained once, after the last line.
        let label = if at + 1 == curves.len() { "saturation begins" } else { "" };
        let marks = Marks { label: label.into(), shape: Shape::Ring, points: ends };
        let (style, label) = match at {
            _ if at < MOST => (at, curve.label.clone()),
            MOST => (NO_STYLE, counted(curves.len() as u64 - MOST as u64, "more setting")),
            _ => (NO_STYLE, String::new()),
        };
        Line { label, style, pieces, marks: vec![marks], ..Line::default() }
    });
    let decoder = Decoder::new(part);
    let stated = reading.range(part, decoder.state());
    let levels = stated.into_iter().flat_map(|(low, high)| [(low, "stated range".to_owned()), (high, "stated range".to_owned())]);
    let unit = super::over_time::unit_title(reading.unit());
    let about = if curves.len() > 1 { counted(curves.len() as u64, "setting") } else { String::new() };
    let panel = Panel { title: unit.to_owned(), lines: lines.collect(), levels: levels.collect(), share: 1, ..Panel::default() };
    let code = curves.first().map_or("", |curve| curve.code.as_str());
    let figure = Figure {
        title: format!("{}: {name} over its code", part.name()),
        about,
        x: Axis { low, high, ticks: number_ticks(low, high, 10), label: format!("code {code}") },
        panels: vec![panel],
        strips: Vec::new(),
    };
    super::write(args, place, &figure)?;
    if args.format == CheckFormat::Json {
        let mut out = anstream::stdout().lock();
        for curve in &curves {
            json_line(
                &mut out,
                &serde_json::json!({ "reading": name, "settings": curve.label, "code": curve.code, "points": curve.points.iter()
                    .map(|point| serde_json::json!([point.code as i64, point.value, point.saturated])).collect::<Vec<_>>() }),
            )?;
        }
    }
    Ok(0)
}
