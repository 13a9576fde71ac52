//! Ticks of an axis and their labels.

use yemdo::series::ticks;

use yemdo_log::{Clocks, Moment};

/// Values and their labels.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ticks(pub(crate) Vec<(f64, String)>);

/// Ticks at round numbers: at most `most` + 1.
pub(crate) fn number_ticks(low: f64, high: f64, most: usize) -> Ticks {
    let (values, step) = ticks(low, high, most);
    let decimals = (-step.log10().floor()).clamp(0.0, 12.0) as usize;
    Ticks(values.into_iter().map(|value| (value, short(value, decimals))).collect())
}

/// A number on an axis; thousands and millions in short.
fn short(value: f64, decimals: usize) -> String {
    let value = if value == 0.0 { 0.0 } else { value };
    match value.abs() {
        large if large >= 1e7 => format!("{value:.1e}"),
        _ => format!("{value:.decimals$}"),
    }
}

/// Ticks at round times of the day, at most `most`. Days have their date.
pub(crate) fn time_ticks(clocks: &Clocks, from: Moment, to: Moment, most: usize) -> Ticks {
    const STEPS: [i64; 19] = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10_800, 21_600, 43_200, 86_400, 172_800];
    let span = ((to.micros() - from.micros()) / 1_000_000).max(1);
    let fitting = STEPS.into_iter().find(|step| span / step < most as i64);
    let step = fitting.unwrap_or_else(|| span / 86_400 / most as i64 * 86_400 + 86_400) * 1_000_000;
    // Round in local time, whatever its offset is.
    let offset = clocks.offset(from);
    let mut at = (from.micros() + offset).div_euclid(step) * step - offset;
    let mut ticks = Vec::new();
    let days = clocks.text(from).get(..10) != clocks.text(to).get(..10);
    while at <= to.micros() {
        if at >= from.micros() {
            let text = clocks.text(Moment::of_micros(at));
            let piece = |range: std::ops::Range<usize>| text.get(range).unwrap_or("").to_owned();
            let midnight = piece(11..19) == "00:00:00";
            let label = match (midnight && days, step < 60_000_000) {
                (true, _) => piece(5..10),
                (false, true) => piece(11..19),
                (false, false) => piece(11..16),
            };
            ticks.push((Moment::of_micros(at).seconds(), label));
        }
        at += step;
    }
    Ticks(ticks)
}
