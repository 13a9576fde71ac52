//! The demo's plot: a day of readings, as SVG and as PNG.

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use tiny_skia::Pixmap;
use ttf_parser::Face;
use yemdo::Status;

use super::canvas::Canvas;
use crate::failure::Failure;

const SIZE: (u32, u32) = (1280, 800);
/// A subset of DejaVu Sans; see `assets/plot-font.txt`.
const FONT: &[u8] = include_bytes!("../../assets/plot-font.ttf");
const FAMILY: &str = "DejaVu Sans";
const INK: RGBColor = RGBColor(0x2b, 0x33, 0x3d);
const FAINT: RGBColor = RGBColor(0xd9, 0xde, 0xe4);
const LINES: [RGBColor; 4] =
    [RGBColor(0x1b, 0x6c, 0xa8), RGBColor(0xb8, 0x4a, 0x1e), RGBColor(0x2f, 0x80, 0x4f), RGBColor(0x6a, 0x4c, 0x93)];
const SATURATED: RGBColor = RGBColor(0xd6, 0x2a, 0x5b);
/// Seconds between two points beyond which the line is broken.
const GAP: u32 = 120;

/// What is drawn.
#[derive(Debug, Default)]
pub(crate) struct Day {
    pub(crate) series: Vec<Series>,
    /// Second of the day and part of each refused frame.
    pub(crate) refused: Vec<(u32, String)>,
}

/// One reading over the day.
#[derive(Debug)]
pub(crate) struct Series {
    pub(crate) label: String,
    pub(crate) unit: String,
    pub(crate) points: Vec<(u32, f64, Status)>,
}

/// The plot as SVG text.
pub(crate) fn svg(day: &Day) -> Result<String, Failure> {
    let mut text = String::new();
    draw(day, SVGBackend::with_string(&mut text, SIZE)).map_err(failed)?;
    // The drawing library writes a generic family; the font that goes with the command is named here.
    Ok(text.replace("font-family=\"sans-serif\"", &format!("font-family=\"{FAMILY}, sans-serif\"")))
}

/// The plot as PNG.
pub(crate) fn png(day: &Day) -> Result<Vec<u8>, Failure> {
    let mut pixels = Pixmap::new(SIZE.0, SIZE.1).ok_or_else(|| failed("no room"))?;
    let font = Face::parse(FONT, 0).map_err(failed)?;
    draw(day, Canvas::new(&mut pixels, font)).map_err(failed)?;
    pixels.encode_png().map_err(failed)
}

fn failed(what: impl std::fmt::Display) -> Failure {
    Failure::told(format!("cannot draw the plot: {what}"))
}

type Drawn<B> = Result<(), DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;

fn draw<B: DrawingBackend>(day: &Day, backend: B) -> Drawn<B> {
    let root = backend.into_drawing_area();
    root.fill(&WHITE)?;
    let title = ("sans-serif", 24).into_font().color(&INK);
    root.draw(&Text::new("A day in the ship's hall, from raw frames", (36, 20), title))?;
    let units: Vec<&str> = day.series.iter().fold(Vec::new(), |mut units, series| {
        if !units.contains(&series.unit.as_str()) {
            units.push(&series.unit);
        }
        units
    });
    let (_, below) = root.split_vertically(58);
    let (panels, foot) = below.split_vertically(652);
    // Temperatures get the most room, a supply voltage the least.
    let shares: Vec<u32> = units
        .iter()
        .map(|unit| {
            if *unit == "°C" {
                5
            } else if *unit == "V" {
                2
            } else {
                3
            }
        })
        .collect();
    let whole: u32 = shares.iter().sum::<u32>().max(1);
    let mut rest = panels;
    for (index, (unit, share)) in units.iter().zip(&shares).enumerate() {
        let (panel_area, remaining) = rest.split_vertically(652 * share / whole);
        let last = index + 1 == units.len();
        panel(&panel_area, day, unit, last)?;
        rest = remaining;
    }
    refused(&foot, day)?;
    root.present()?;
    Ok(())
}

fn hour(second: u32) -> f64 {
    f64::from(second) / 3600.0
}

fn panel<B: DrawingBackend>(area: &DrawingArea<B, Shift>, day: &Day, unit: &str, labelled: bool) -> Drawn<B> {
    let series: Vec<&Series> = day.series.iter().filter(|series| series.unit == unit).collect();
    let is_sound = |status: Status| status != Status::Saturated;
    let sound = || series.iter().flat_map(|s| &s.points).filter(|p| is_sound(p.2)).map(|p| p.1);
    let (low, high) = (sound().fold(f64::INFINITY, f64::min), sound().fold(f64::NEG_INFINITY, f64::max));
    let room = ((high - low) * 0.08).max(0.01);
    let mut chart = ChartBuilder::on(area)
        .margin_left(16)
        .margin_right(36)
        .margin_top(6)
        .x_label_area_size(if labelled { 26 } else { 8 })
        .y_label_area_size(64)
        .build_cartesian_2d(0.0..24.0, (low - room)..(high + room * 2.4))?;
    let label = ("sans-serif", 15).into_font().color(&INK);
    chart
        .configure_mesh()
        .light_line_style(WHITE.mix(0.0))
        .bold_line_style(FAINT)
        .axis_style(INK.mix(0.5))
        .x_labels(13)
        .y_labels(if high - low < 1.0 { 4 } else { 6 })
        .y_label_formatter(&|value| if high - low < 1.0 { format!("{value:.2}") } else { format!("{value:.0}") })
        .x_label_formatter(&|hour| if labelled { format!("{hour:02.0}:00") } else { String::new() })
        .label_style(label.clone())
        .draw()?;
    for (index, series) in series.iter().enumerate() {
        let color = color(day, series, index);
        for run in runs(&series.points) {
            chart.draw_series(LineSeries::new(run.iter().map(|(second, value, _)| (hour(*second), *value)), color.stroke_width(2)))?;
        }
        // Saturated values stand at the upper edge: they say "beyond", not "here".
        let beyond = series.points.iter().filter(|p| !is_sound(p.2));
        chart.draw_series(beyond.map(|(second, _, _)| TriangleMarker::new((hour(*second), high + room * 0.9), 4, SATURATED.filled())))?;
    }
    let (left, top) = (area.get_pixel_range().0.start + 92, area.get_pixel_range().1.start + 12);
    let mut at = left;
    let unit_style = ("sans-serif", 16).into_font().style(FontStyle::Bold).color(&INK);
    let local = |x: i32, y: i32| (x - area.get_pixel_range().0.start, y - area.get_pixel_range().1.start);
    area.draw(&Text::new(unit.to_owned(), local(left - 72, top - 4), unit_style))?;
    for (index, series) in series.iter().enumerate() {
        let color = color(day, series, index);
        let (x, y) = local(at, top + 6);
        area.draw(&PathElement::new(vec![(x, y), (x + 26, y)], color.stroke_width(3)))?;
        area.draw(&Text::new(series.label.clone(), (x + 34, y - 9), label.clone()))?;
        at += 34 + 9 * i32::try_from(series.label.len()).unwrap_or(20) + 24;
        if series.points.iter().any(|p| !is_sound(p.2)) {
            let (x, y) = local(at, top + 6);
            area.draw(&TriangleMarker::new((x, y), 5, SATURATED.filled()))?;
            area.draw(&Text::new("saturated", (x + 12, y - 9), label.clone()))?;
            at += 110;
        }
    }
    Ok(())
}

/// A colour of its own for every series of the plot.
fn color(day: &Day, series: &Series, index: usize) -> RGBColor {
    let before = day.series.iter().position(|other| other.unit == series.unit).unwrap_or(0);
    let at = if before == 0 { index } else { before + 1 + index };
    LINES.get(at % LINES.len()).copied().unwrap_or(INK)
}

/// Points that follow one another without a gap; saturated ones are left out.
fn runs(points: &[(u32, f64, Status)]) -> Vec<Vec<(u32, f64, Status)>> {
    let mut runs: Vec<Vec<(u32, f64, Status)>> = Vec::new();
    for point in points.iter().filter(|point| point.2 != Status::Saturated) {
        match runs.last_mut().filter(|run| run.last().is_some_and(|last| point.0.saturating_sub(last.0) <= GAP)) {
            Some(run) => run.push(*point),
            None => runs.push(vec![*point]),
        }
    }
    runs
}

/// A strip a part, with a tick for each refused frame.
fn refused<B: DrawingBackend>(area: &DrawingArea<B, Shift>, day: &Day) -> Drawn<B> {
    let label = ("sans-serif", 15).into_font().color(&INK);
    let mut parts: Vec<&str> = day.refused.iter().map(|(_, part)| part.as_str()).collect();
    parts.dedup();
    // The time axis of the panels above: from their left label area to their right margin.
    let (left, right) = (80.0, 1280.0 - 36.0);
    for (row, part) in parts.iter().enumerate() {
        let y = 14 + 34 * i32::try_from(row).unwrap_or(0);
        let ticks: Vec<u32> = day.refused.iter().filter(|(_, p)| p == part).map(|(second, _)| *second).collect();
        area.draw(&Text::new(
            format!("{part}: {} frames refused", ticks.len()),
            (92, y),
            label.clone().pos(Pos::new(HPos::Left, VPos::Top)),
        ))?;
        for second in ticks {
            let x = (left + (right - left) * hour(second) / 24.0) as i32;
            area.draw(&PathElement::new(vec![(x, y + 17), (x, y + 29)], INK.mix(0.75).stroke_width(1)))?;
        }
    }
    Ok(())
}
