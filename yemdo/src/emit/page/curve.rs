//! The transfer curve of a reading that comes from one code: code → value, for every setting that decides over it, as SVG.

use maud::{Markup, html};

use super::readings::short;
use crate::model::ids::ReadingId;
use crate::model::part::Part;
use crate::predict::curves;
use crate::series::ticks;

const SIZE: (f64, f64) = (640.0, 260.0);
/// Room for the axes: left, right, top, bottom.
const MARGIN: (f64, f64, f64, f64) = (70.0, 150.0, 14.0, 40.0);
/// Maximum number of ticks on an axis, minus one.
const TICKS: usize = 5;
/// More curves are not told apart.
const MOST: usize = 12;

pub(super) fn figure(part: &Part, id: ReadingId, stated: Option<(f64, f64)>) -> Markup {
    let (Some(reading), Some(curves)) = (part.readings.get(id), curves(part, id)) else { return html! {} };
    let values = || curves.iter().flat_map(|curve| curve.points.iter().filter(|point| !point.saturated).filter_map(|point| point.value));
    let (low, high) = values().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(value), high.max(value)));
    let codes = || curves.iter().flat_map(|curve| curve.points.iter().map(|point| point.code as f64));
    let (first, last) = codes().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), code| (low.min(code), high.max(code)));
    if !(low < high && first < last) {
        return html! {};
    }
    let (left, right, top, bottom) = MARGIN;
    let x = |code: f64| left + (code - first) / (last - first) * (SIZE.0 - left - right);
    let y = |value: f64| SIZE.1 - bottom - (value - low) / (high - low) * (SIZE.1 - top - bottom);
    let unit = if reading.unit() == "1" { "" } else { reading.unit() };
    let left_out = curves.len().saturating_sub(MOST);
    html! {
        figure {
            svg viewBox=(format!("0 0 {} {}", SIZE.0, SIZE.1)) role="img" aria-label=(format!("{} over its code", reading.name())) {
                @if let Some((from, to)) = stated {
                    @let (from, to) = (from.clamp(low, high), to.clamp(low, high));
                    rect .stated x=(left) width=(n(SIZE.0 - left - right)) y=(n(y(to))) height=(n(y(from) - y(to))) {}
                }
                @for value in ticks(low, high, TICKS).0 {
                    line .grid x1=(left) x2=(n(SIZE.0 - right)) y1=(n(y(value))) y2=(n(y(value))) {}
                    text x=(n(left - 6.0)) y=(n(y(value) + 4.0)) text-anchor="end" { (short(value)) }
                }
                @for code in ticks(first, last, TICKS).0 {
                    line .tick x1=(n(x(code))) x2=(n(x(code))) y1=(n(SIZE.1 - bottom)) y2=(n(SIZE.1 - bottom + 5.0)) {}
                    text x=(n(x(code))) y=(n(SIZE.1 - bottom + 18.0)) text-anchor="middle" { (short(code)) }
                }
                text x=(n((left + SIZE.0 - right) / 2.0)) y=(n(SIZE.1 - 6.0)) text-anchor="middle" { "code " (curves.first().map_or("", |curve| &curve.code)) }
                text x="4" y="12" { (unit) }
                @for curve in curves.iter().skip(MOST) {
                    @for line in curve.lines() {
                        polyline class="curve more" points=(line.iter().map(|(code, value)| format!("{},{}", n(x(*code)), n(y(*value)))).collect::<Vec<_>>().join(" ")) {}
                    }
                }
                @for (index, curve) in curves.iter().take(MOST).enumerate() {
                    @for line in curve.lines() {
                        polyline class=(format!("curve c{index}")) points=(line.iter().map(|(code, value)| format!("{},{}", n(x(*code)), n(y(*value)))).collect::<Vec<_>>().join(" ")) {}
                    }
                    @for (code, value) in curve.ends() { circle class=(format!("end c{index}")) cx=(n(x(code))) cy=(n(y(value))) r="3.5" {} }
                    @if curves.len() > 1 {
                        line class=(format!("curve c{index}")) x1=(n(SIZE.0 - right + 10.0)) x2=(n(SIZE.0 - right + 30.0)) y1=(n(top + 8.0 + 17.0 * index as f64)) y2=(n(top + 8.0 + 17.0 * index as f64)) {}
                        text x=(n(SIZE.0 - right + 36.0)) y=(n(top + 12.0 + 17.0 * index as f64)) { (curve.label) }
                    }
                }
            }
            figcaption {
                "Code to value" @if curves.len() > 1 { " for each setting" }
                @if left_out > 0 { " (" (left_out) " more in grey)" }
                @if stated.is_some() { "; shaded: the stated range" }
                @if curves.iter().any(|curve| curve.points.iter().any(|point| point.saturated)) { "; circle: start of saturation" } "."
            }
        }
    }
}

/// A coordinate.
fn n(value: f64) -> String {
    short((value * 10.0).round() / 10.0)
}
