//! Warnings for valid but unlikely sheets.

use super::warnings::facts;
use crate::bits::form::Form;
use crate::formula::facts::Facts;
use crate::formula::flat::interval::Interval;
use crate::formula::typed::{Expr, ExprKind, each};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::digits::rounded;
use crate::ground::list::List;
use crate::model::frame::{Frame, Origin};
use crate::model::ids::ReadingId;
use crate::model::input::{Input, inputs};
use crate::model::operation::Action;
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::model::registers::{runs, runs_text};
use crate::predict::Prediction;
use crate::units::Unit;

/// Minimum used part of a stated range.
const USED: f64 = 0.8;
/// Maximum ratio of the possible values to the stated range.
const BEYOND: f64 = 64.0;

/// Adds all warnings.
pub(super) fn missed(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    ratios(part, predictions, found);
    comparisons(part, found);
    frame_bits(part, found);
    triggers(part, found);
    units(part, found);
    columns(part, found);
}

/// Stated ranges that do not match the possible values; the ratio helps to find the wrong constant.
fn ratios(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    for (id, reading) in part.readings.entries() {
        let Some(prediction) = predictions.get(id).and_then(Option::as_ref) else { continue };
        let (Some((low, high)), Some(extent)) = (reading.fixed_range(), prediction.extent) else { continue };
        let (least, most) = prediction.over_settings.unwrap_or((extent.low, extent.high));
        // Disjoint ranges have a warning of their own.
        if most < low || least > high || high <= low {
            continue;
        }
        let unit = &reading.unit;
        let (text, help) = if most < high && most > 0.0 && most < USED * high {
            let ratio = high / most;
            (
                format!("`{}` is stated up to {high} {unit}, but its maximum is {} {unit}", reading.name, rounded(most, 3)),
                format!("{} times too small: check constants, code widths and signs", rounded(ratio, 3)),
            )
        } else if least > low && least < 0.0 && least > USED * low {
            (
                format!("`{}` is stated down to {low} {unit}, but its minimum is {} {unit}", reading.name, rounded(least, 3)),
                format!("{} times too small: check constants and code widths", rounded(low / least, 3)),
            )
        } else if extent.exact && (most - least) > BEYOND * (high - low) {
            let ratio = (most - least) / (high - low);
            (
                format!(
                    "`{}` is stated from {low} to {high} {unit}, but its values are {} to {}",
                    reading.name,
                    rounded(least, 3),
                    rounded(most, 3)
                ),
                format!("{} times too large: check constants and code widths", rounded(ratio, 3)),
            )
        } else {
            continue;
        };
        found.push(Diagnostic::warning("range-ratio", reading.span, text).label("range and formula do not match").help(help));
    }
}

/// Comparisons that are always true or always false.
fn comparisons(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let readings = part.readings.iter().flat_map(Reading::formulas);
    let frames = part.frames.iter().flat_map(|frame| frame.status.iter().map(|condition| &condition.formula));
    for formula in readings.chain(frames) {
        let facts = facts(part, formula);
        each(&formula.body, &mut |expr| {
            if let Some(problem) = comparison(part, &facts, expr) {
                found.push(problem);
            }
        });
    }
}

fn comparison(part: &Sheet, facts: &Facts, expr: &Expr) -> Option<Diagnostic> {
    let ExprKind::Compare(_, left, right) = &expr.kind else { return None };
    let code = [left, right].into_iter().find_map(|side| match Input::of_expr(side.unconverted()) {
        Some(Input::Code(code)) => part.codes.get(code),
        _ => None,
    })?;
    let text = part.source.slice(expr.span);
    let (low, high) = code.bounds();
    let (name, problem) = match facts.get(expr.id)?.bounds {
        Interval::Int(0, 0) => ("comparison-never", format!("`{text}` is always false")),
        Interval::Int(1, 1) => ("comparison-always", format!("`{text}` is always true")),
        _ => return None,
    };
    let problem = Diagnostic::warning(name, expr.span, problem).label(format!("`{}` is {low} to {high}", code.name));
    let width = code.layout.width();
    let help = || format!("the highest bit of {width} is the sign: 0x{:X} is {low}, or remove the number form", 1u64 << (width - 1));
    Some(if code.layout.form == Form::Signed { problem.help(help()) } else { problem.also(code.span, "the code") })
}

/// Unnamed bits in bytes with codes, in frames without conditions.
fn frame_bits(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let judged = |frame: &Frame| {
        frame.status.iter().any(|condition| condition.needs().is_none())
            || part.readings.of(&frame.readings).any(|reading| !reading.status.is_empty())
    };
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
                Diagnostic::warning("frame-bits", frame.span, format!("unnamed bits in `{}`: {}", frame.name, left.join(", ")))
                    .label("possibly status bits")
                    .help(format!("add codes and conditions, or reserved = \"{}\"", left.join(" "))),
            );
        }
    }
}

/// Formats bits of a byte: `b1[1:0]`.
fn bits_text(byte: usize, mask: u8) -> String {
    let run = |run: (u32, u32)| format!("b{byte}{}", runs_text(&[run]));
    runs(u64::from(mask)).into_iter().map(run).collect::<Vec<_>>().join(" ")
}

/// Routines that read a frame directly after a command.
fn triggers(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for routine in &part.routines {
        for pair in routine.steps.windows(2) {
            let [sent, read] = pair else { continue };
            let (Action::Write(command), Action::ReadFrame(frame)) = (&sent.action, &read.action) else { continue };
            let waits =
                part.frames.get(*frame).is_some_and(|frame| frame.origin.exchanges().iter().any(|exchange| exchange.wait.is_some()));
            if !waits && !command.is_empty() {
                found.push(
                    Diagnostic::warning(
                        "no-wait",
                        read.span,
                        format!("`{}` reads without a wait after the command {}", routine.name, command.text(part)),
                    )
                    .label("no wait before this read")
                    .also(sent.span, "command")
                    .help("for a measurement, insert { wait = \"…\" }, { poll = \"…\" } or { line = \"…\" } in between"),
                );
            }
        }
    }
}

/// Units with an unusual symbol.
fn units(part: &Sheet, found: &mut Vec<Diagnostic>) {
    for reading in &part.readings {
        if let Some(known) = Unit::find(&reading.unit).filter(|known| known.symbol != reading.unit && !reading.unit.is_empty()) {
            found.push(
                Diagnostic::warning(
                    "unit-symbol",
                    reading.span,
                    format!("`{}` has the unit {}, usually typed {}", reading.name, reading.unit, known.symbol),
                )
                .label("unusual symbol")
                .help(format!("write unit = \"{}\"", known.symbol)),
            );
        }
    }
}

/// Table rows without a column that a formula uses.
fn columns(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let mut told = Vec::new();
    for input in part.readings.iter().flat_map(Reading::formulas).flat_map(inputs) {
        let Input::Column(field, column) = input else { continue };
        let Some((model, name)) = part.fields.get(field).and_then(|model| Some((model, &model.columns.get(column)?.name))) else {
            continue;
        };
        let lacking = model.values.iter().filter(|row| row.columns.get(column).is_none_or(Option::is_none));
        let rows: Vec<String> = lacking.map(|row| model.value_text(row.code)).collect();
        if !rows.is_empty() && !told.contains(&input) {
            told.push(input);
            found.push(
                Diagnostic::warning("column-missing", model.span, format!("`{}` has no {name} for {}", model.name, rows.join(", ")))
                    .label("a formula uses this column and has no result for these values"),
            );
        }
    }
}
