//! What people who typed a datasheet have missed: each is sound, and hardly meant.

use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::typed::{Expr, ExprKind, Formula, each};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::{Id, List};
use crate::model::frame::{Frame, Origin};
use crate::model::ids::ReadingId;
use crate::model::input::{Input, inputs};
use crate::model::operation::Action;
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::plan::frame::bounds;
use crate::predict::Prediction;
use crate::units::Unit;

/// A stated range is used up to here, at least.
const USED: f64 = 0.8;
/// What comes out is so many times as wide as what is stated, at most.
const BEYOND: f64 = 64.0;

/// Looks for all of them.
pub(super) fn missed(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    ratios(part, predictions, found);
    comparisons(part, found);
    frame_bits(part, found);
    triggers(part, found);
    units(part, found);
    columns(part, found);
}

/// Stated ranges that a formula reaches in part only, or exceeds many times over: the ratio says which constant is wrong.
fn ratios(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    for (id, reading) in part.readings.entries() {
        let Some(prediction) = predictions.get(id).and_then(Option::as_ref) else { continue };
        let (Some((low, high)), Some(extent)) = (reading.fixed_range(), prediction.extent) else { continue };
        let (least, most) = prediction.over_settings.unwrap_or((extent.low, extent.high));
        // Nothing of it is reached: that is told already.
        if most < low || least > high || high <= low {
            continue;
        }
        let unit = &reading.unit;
        let (text, help) = if most < high && most > 0.0 && most < USED * high {
            let ratio = high / most;
            (
                format!("`{}` is stated up to {high} {unit}, but comes out up to {} {unit}", reading.name, short(most)),
                format!("{} times too small: is it a constant, the width of a code, or a sign?", short(ratio)),
            )
        } else if least > low && least < 0.0 && least > USED * low {
            (
                format!("`{}` is stated down to {low} {unit}, but comes out down to {} {unit}", reading.name, short(least)),
                format!("{} times too small: is it a constant, or the width of a code?", short(low / least)),
            )
        } else if extent.exact && (most - least) > BEYOND * (high - low) {
            let ratio = (most - least) / (high - low);
            (
                format!("`{}` is stated from {low} to {high} {unit}, but comes out from {} to {}", reading.name, short(least), short(most)),
                format!("{} times as far: is it a constant, or the width of a code?", short(ratio)),
            )
        } else {
            continue;
        };
        found.push(Diagnostic::warning("range-ratio", reading.span, text).label("its range and its formula do not go together").help(help));
    }
}

fn short(value: f64) -> f64 {
    format!("{value:.2e}").parse().unwrap_or(value)
}

/// Comparisons that can never hold, or always do, by the bounds of what they compare.
fn comparisons(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let readings = part.readings.iter().flat_map(Reading::formulas);
    let frames = part.frames.iter().flat_map(|frame| frame.status.iter().map(|condition| &condition.formula));
    for formula in readings.chain(frames) {
        let known = |key| match Input::of(key) {
            // What other values can be is worked out elsewhere.
            Input::Reading(_) | Input::Quantity(_) | Input::Came(_) | Input::Before(_) | Input::Elapsed => {
                Interval::Real(f64::NEG_INFINITY, f64::INFINITY)
            }
            _ => bounds(part, key),
        };
        let facts = Facts::of_all(&[(Input::Reading(ReadingId::new(0)).key(), formula)], &part.curves, &known);
        let Some(facts) = facts.first() else { continue };
        each(&formula.body, &mut |expr| {
            if let Some(problem) = comparison(part, formula, facts, expr) {
                found.push(problem);
            }
        });
    }
}

fn comparison(part: &Sheet, formula: &Formula, facts: &Facts, expr: &Expr) -> Option<Diagnostic> {
    let ExprKind::Compare(_, left, right) = &expr.kind else { return None };
    let code = [left, right].into_iter().find_map(|side| code_of(side))?;
    let Input::Code(code) = code else { return None };
    let code = part.codes.get(code)?;
    let text = part.source.slice(expr.span);
    let (low, high) = code.bounds();
    let (name, problem) = match facts.get(expr.id)?.bounds {
        Interval::Int(0, 0) => ("comparison-never", format!("`{text}` never holds")),
        Interval::Int(1, 1) => ("comparison-always", format!("`{text}` always holds")),
        _ => return None,
    };
    let problem = Diagnostic::warning(name, expr.span, problem).label(format!("`{}` is {low} to {high}", code.name));
    let signed = low < 0 && formula.is_expression;
    let help = "of a signed code, the bits 0x8000 are -32768: compare with the negative number, or take the sign off the layout";
    Some(if signed { problem.help(help) } else { problem.also(code.span, "the code") })
}

/// The code that an expression is, conversions aside.
fn code_of(expr: &Expr) -> Option<Input> {
    match &expr.kind {
        ExprKind::Convert(inner) => code_of(inner),
        ExprKind::Input(key) => Some(Input::of(*key)),
        _ => None,
    }
}

/// Bits of a byte of which other bits are used, in frames of which no bit has been found that says how the readings are.
fn frame_bits(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let judged = |frame: &Frame| !frame.status.is_empty() || part.readings.of(&frame.readings).any(|reading| !reading.status.is_empty());
    let own = |frame: &&Frame| matches!(frame.origin, Origin::Read(_) | Origin::Transfers(_)) && !frame.codes.is_empty() && !judged(frame);
    for frame in part.frames.iter().filter(own) {
        let mut used = vec![0u8; frame.length];
        let codes = part.codes.of(&frame.codes).flat_map(|code| &code.layout.slices);
        let checks = frame.checks.iter().flat_map(|check| &check.place);
        for slice in codes.chain(checks).chain(&frame.reserved) {
            used.get_mut(slice.byte).into_iter().for_each(|byte| *byte |= slice.mask());
        }
        let bits = |(at, used): (usize, &u8)| (*used != 0 && *used != 0xFF).then(|| bits_text(at, !used));
        let left: Vec<String> = used.iter().enumerate().filter_map(bits).collect();
        if !left.is_empty() {
            found.push(
                Diagnostic::warning("frame-bits", frame.span, format!("no code of `{}` has {}", frame.name, left.join(", ")))
                    .label("bits beside codes are often a status")
                    .help(format!("give them names and conditions; if they mean nothing: reserved = \"{}\"", left.join(" "))),
            );
        }
    }
}

/// Bits of a byte in the notation: `b1[1:0]`.
fn bits_text(byte: usize, mask: u8) -> String {
    let mut runs: Vec<(u8, u8)> = Vec::new();
    for bit in (0..8u8).rev().filter(|bit| mask >> bit & 1 == 1) {
        match runs.last_mut() {
            Some((_, low)) if *low == bit + 1 => *low = bit,
            _ => runs.push((bit, bit)),
        }
    }
    let one = |(high, low): &(u8, u8)| if high == low { format!("b{byte}[{high}]") } else { format!("b{byte}[{high}:{low}]") };
    runs.iter().map(one).collect::<Vec<_>>().join(" ")
}

/// A routine that sends a command and reads at once.
fn triggers(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for routine in &part.routines {
        for pair in routine.steps.windows(2) {
            let [sent, read] = pair else { continue };
            let (Action::Write(command), Action::ReadFrame(frame)) = (&sent.action, &read.action) else { continue };
            let waits = part.frames.get(*frame).is_some_and(|frame| frame.origin.exchanges().iter().any(|exchange| exchange.wait.is_some()));
            if !waits && !command.is_empty() {
                found.push(
                    Diagnostic::warning("no-wait", read.span, format!("`{}` reads at once after it sends {}", routine.name, command.text(part)))
                        .label("nothing is waited for")
                        .also(sent.span, "sent here")
                        .help("if that starts a measurement: { wait = \"…\" }, { poll = \"…\" } or { line = \"…\" } in between"),
                );
            }
        }
    }
}

/// Units that are known by another symbol.
fn units(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for reading in &part.readings {
        if let Some(known) = Unit::find(&reading.unit).filter(|known| known.symbol != reading.unit && !reading.unit.is_empty()) {
            found.push(
                Diagnostic::warning("unit-symbol", reading.span, format!("`{}` is in {}: is {} meant?", reading.name, reading.unit, known.symbol))
                    .label("its unit has another symbol")
                    .help(format!("write unit = \"{}\"", known.symbol)),
            );
        }
    }
}

/// Rows of a table that lack a column which a formula takes.
fn columns(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let mut told = Vec::new();
    for input in part.readings.iter().flat_map(Reading::formulas).flat_map(inputs) {
        let Input::Column(field, column) = input else { continue };
        let Some((model, name)) = part.fields.get(field).and_then(|model| Some((model, &model.columns.get(column)?.name))) else { continue };
        let lacking = model.values.iter().filter(|row| row.columns.get(column).is_none_or(Option::is_none));
        let rows: Vec<String> = lacking.map(|row| model.value_text(row.code)).collect();
        if !rows.is_empty() && !told.contains(&input) {
            told.push(input);
            found.push(
                Diagnostic::warning("column-missing", model.span, format!("`{}` has no {name} for {}", model.name, rows.join(", ")))
                    .label("a formula takes that column: with these values it has no result"),
            );
        }
    }
}
