//! Worked examples.

use super::Resolver;
use crate::formula::fault::FaultKind;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::hex::parse_hex;
use crate::ground::list::Id;
use crate::ground::text::Text;
use crate::ground::words::with_unit;
use crate::model::example::{Example, Expected, Subject};
use crate::model::frame::Code;
use crate::model::ids::{FrameId, QuantityId};
use crate::model::status::Status;
use crate::sheet::tree;

impl Resolver {
    pub(super) fn example(&mut self, example: &tree::Example) {
        let mut frames = Vec::new();
        for (name, text) in &example.frames {
            let Ok(index) = self.part.frame(&name.value) else { continue };
            match parse_hex(&text.value) {
                Ok(bytes) => frames.push((index, bytes)),
                Err(error) => {
                    let span = text.locate(error.at..error.at + error.piece.len().max(1));
                    self.report(Diagnostic::error("bad-hex", span, error.to_string()).label("not hex"));
                }
            }
        }
        // Those of several kinds come side by side.
        let mut times = Vec::new();
        if let Some(every) = &example.every {
            let earlier = |at: usize, frame: FrameId| frames.iter().take(at).filter(|(other, _)| *other == frame).count();
            let mut order: Vec<(usize, (FrameId, Vec<u8>))> =
                frames.iter().enumerate().map(|(at, (frame, bytes))| (earlier(at, *frame), (*frame, bytes.clone()))).collect();
            order.sort_by_key(|(turn, _)| *turn);
            times = order.iter().map(|(turn, _)| *turn as f64 * every.value as f64 / 1e6).collect();
            frames = order.into_iter().map(|(_, frame)| frame).collect();
        }
        let (mut set, mut supplied) = (Vec::new(), Vec::new());
        for (name, choice) in &example.set {
            let other = self.part.parameter(&name.value).is_ok() || self.part.quantity(&name.value).is_ok();
            if other {
                let (typed, span) = match choice {
                    tree::Choice::Code(code) => (code.value.to_string(), code.span),
                    tree::Choice::Name(text) => (text.value.clone(), text.span),
                };
                supplied.push((format!("{}={typed}", name.value), span));
            } else {
                set.extend(self.choice(name, choice));
            }
        }
        let writes =
            example.writes.iter().filter_map(|(name, value)| Some((self.register_named(&name.value, name.span)?, value.value, value.span)));
        let writes = writes.collect();
        let mut sends = None;
        if let Some(typed) = &example.sends {
            let mut all = Vec::new();
            for text in &typed.value {
                match parse_hex(&text.value) {
                    Ok(bytes) => all.push(bytes),
                    Err(error) => {
                        let span = text.locate(error.at..error.at + error.piece.len().max(1));
                        self.report(Diagnostic::error("bad-hex", span, error.to_string()).label("not hex"));
                    }
                }
            }
            sends = Some((all, typed.span));
        }
        let says = !example.writes.is_empty() || sends.is_some();
        if says && example.set.is_empty() {
            let problem = Diagnostic::error("missing-key", example.span, "`writes` and `sends` need `set`");
            self.report(problem.label("needs `set`").help("such as set = { GAIN = \"single\" }"));
        }
        let mut gives = Vec::new();
        for (name, text) in &example.gives {
            let reading = self.part.readings.position(|reading| reading.name == name.value);
            let in_frames = |code: &Code| frames.iter().any(|(frame, _)| *frame == code.frame);
            let code = self.part.codes.position(|code| code.name == name.value && in_frames(code));
            // `pressure.span` is a variable on the way; a shared value is one too.
            let (base, variable) =
                name.value.split_once('.').map_or((name.value.as_str(), None), |(base, variable)| (base, Some(variable)));
            let on_the_way = self.part.readings.position(|reading| reading.name == base && (variable.is_some() || reading.is_shared()));
            if let Some(index) = on_the_way {
                let known = |formula: &crate::formula::typed::Formula| {
                    variable.is_none_or(|variable| formula.vars.iter().any(|var| var.name == variable))
                };
                if self.part.readings.get(index).is_some_and(|reading| known(&reading.formula)) {
                    gives.push((Subject::Step(index, variable.map(str::to_owned)), expected_code(text), text.span));
                    continue;
                }
            }
            let quantity = self.part.quantities.entries().find(|(_, quantity)| quantity.name == name.value);
            let found = match (reading, code) {
                (None, None) if quantity.is_some() => {
                    let (id, unit) = quantity.map_or((QuantityId::new(0), ""), |(id, quantity)| (id, quantity.unit.as_str()));
                    expected(text, unit).map(|expected| (Subject::Quantity(id), expected))
                }
                (Some(index), _) => {
                    let unit = self.part.readings.get(index).map_or("", |reading| reading.unit.as_str());
                    expected(text, unit).map(|expected| (Subject::Reading(index), expected))
                }
                (None, Some(index)) => Ok((Subject::Code(index), expected_code(text))),
                (None, None) => {
                    let readings = self.part.readings.iter().map(|reading| reading.name.as_str());
                    let codes = self.part.codes.iter().filter(|code| in_frames(code)).map(|code| code.name.as_str());
                    Err(Diagnostic::error("unknown-name", name.span, format!("there is no reading and no code `{}`", name.value))
                        .label("not a reading of this sheet")
                        .known(&name.value, "readings and codes", readings.chain(codes).collect::<Vec<_>>()))
                }
            };
            if let Some((subject, expected)) = self.take(found) {
                gives.push((subject, expected, text.span));
            }
        }
        if gives.is_empty() && example.refused.is_none() && !says && !self.has_errors() {
            self.report(
                Diagnostic::error("missing-key", example.span, "missing expected results of the example")
                    .label("needs `gives`, `refused`, `writes` or `sends`"),
            );
        }
        let datasheet = example.source.as_ref().map(|text| text.value.clone());
        let refused = example.refused.map(|at| at.value);
        self.part.examples.push(Example { span: example.span, datasheet, set, supplied, writes, sends, frames, times, gives, refused });
    }
}

/// Expected code: a number as typed, or a text.
fn expected_code(text: &Text) -> Expected {
    let trimmed = text.value.trim();
    let hex = trimmed.strip_prefix("0x").and_then(|digits| u64::from_str_radix(digits, 16).ok()).map(|value| value as f64);
    match hex.or_else(|| trimmed.parse().ok()).filter(|value: &f64| value.is_finite()) {
        Some(value) => Expected::Value { value, tolerance: value.abs() * 1e-6, text: trimmed.to_owned() },
        None => Expected::Text(trimmed.to_owned()),
    }
}

/// `"12.50 °C"`, or a status such as `"not ready"`.
fn expected(text: &Text, unit: &str) -> Result<Expected, Diagnostic> {
    let trimmed = text.value.trim();
    if let Some(status) = Status::from_name(trimmed) {
        return Ok(Expected::Status(status));
    }
    if let Some(kind) = FaultKind::ALL.into_iter().find(|kind| kind.describe() == trimmed) {
        return Ok(Expected::Fault(kind));
    }
    let end = trimmed.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | 'e' | 'E'))).unwrap_or(trimmed.len());
    let (number, rest) = trimmed.split_at(end);
    let Some(value) = number.parse::<f64>().ok().filter(|value| value.is_finite()) else {
        let words: Vec<&str> = Status::ALL.into_iter().map(Status::as_str).collect();
        return Err(Diagnostic::error("bad-value", text.span, format!("`{trimmed}` is neither a value nor a status"))
            .label("expected a number with its unit")
            .help(format!("such as \"{}\"; or one of {}", with_unit("12.50", unit), words.join(", "))));
    };
    // `991.50 ± 0.05 hPa` says how near is near enough.
    let (given, rest) = match rest.trim_start().strip_prefix('±').map(str::trim_start) {
        Some(behind) => {
            let end = behind.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(behind.len());
            let (digits, rest) = behind.split_at(end);
            let given = digits
                .parse::<f64>()
                .map_err(|_| Diagnostic::error("bad-value", text.span, "behind ± stands a number").label("expected 12.5 ± 0.1"))?;
            (Some(given), rest)
        }
        None => (None, rest),
    };
    // A ratio may be typed as it is shown, the number alone.
    let typed = rest.trim();
    if typed != unit && !(unit == "1" && typed.is_empty()) {
        let found = if typed.is_empty() { "none".to_owned() } else { format!("`{typed}`") };
        return Err(Diagnostic::error("unit-differs", text.span, format!("expected the unit `{unit}`, found {found}"))
            .label("the reading has another unit")
            .help(format!("write \"{}\"", with_unit(number, unit))));
    }
    let decimals = number.split(['e', 'E']).next().and_then(|digits| digits.split_once('.')).map_or(0, |(_, fraction)| fraction.len());
    let exponent: i32 = number.split(['e', 'E']).nth(1).and_then(|e| e.parse().ok()).unwrap_or(0);
    // Half a unit of the last digit, and a little for the rounding of the printed number itself.
    let tolerance = 0.500_001 * 10f64.powi(exponent - i32::try_from(decimals).unwrap_or(0));
    let tolerance = given.map_or(tolerance, |given| given * 1.000_001);
    Ok(Expected::Value { value, tolerance, text: trimmed.to_owned() })
}
