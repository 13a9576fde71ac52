//! What is known of a reading from elsewhere: a thermometer beside the part, common sense, a direction.

use std::fmt;

use crate::configure::{WishError, measured, measured_difference};
use crate::ground::words::with_unit;
use crate::model::ids::ReadingId;
use crate::model::part::Sheet;
use crate::units::Unit;

/// What a reading was about while the frames came.
#[derive(Clone, Debug, PartialEq)]
pub struct Truth {
    /// The reading.
    pub reading: ReadingId,
    /// What is known of it.
    pub known: Known,
}

/// What is known of a reading.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Known {
    /// It was between these values, in the reading's unit: one pair for all frames, or one for each.
    Within(Vec<(f64, f64)>),
    /// It went up from frame to frame.
    Rises,
    /// It went down from frame to frame.
    Falls,
}

/// Why a text says nothing of a reading.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TruthError {
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for TruthError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for TruthError {}

impl From<WishError> for TruthError {
    fn from(error: WishError) -> Self {
        TruthError { message: error.message, help: error.help }
    }
}

fn wrong(message: String, help: &str) -> TruthError {
    TruthError { message, help: Some(help.to_owned()) }
}

impl Truth {
    /// Reads `NAME=VALUE`. The value is `24 ± 3 °C` (also `24 +- 3 °C`, `24 +/- 3 °C`), `20 to 30 °C`, `rises` or `falls`; one for
    /// each frame where they are separated by semicolons: `21 ± 1 °C; 35 ± 2 °C`. Units are needed, unless the reading has none.
    ///
    /// ```
    /// use yemdo::mend::{Known, Truth};
    /// let part = yemdo::Part::parse("lamp.toml", r#"
    /// part = "lamp-1"
    /// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
    /// reading.light = { unit = "lx", formula = "light * 0.5" }
    /// "#).unwrap();
    /// let truth = Truth::parse(&part, "light=0.4 ± 0.1 klx").unwrap();
    /// assert_eq!(truth.known, Known::Within(vec![(300.0, 500.0)]));
    /// assert_eq!(Truth::parse(&part, "light=400").unwrap_err().to_string(), "`400` does not say how exact it is");
    /// ```
    ///
    /// # Errors
    /// [`TruthError`]: no reading of that name, no such form, no unit, a unit of another dimension.
    pub fn parse(part: &Sheet, typed: &str) -> Result<Truth, TruthError> {
        let (name, text) = typed
            .split_once('=')
            .ok_or_else(|| wrong(format!("`{typed}` says nothing of a reading"), "write NAME=VALUE: 'temperature=24 ± 3 °C'"))?;
        let (name, text) = (name.trim(), text.trim());
        let reading = part.reading(name).map_err(|unknown| TruthError { message: unknown.message(), help: Some(unknown.help()) })?;
        let unit = part.readings[reading].unit.as_str();
        let known = match text {
            "rises" => Known::Rises,
            "falls" => Known::Falls,
            _ => Known::Within(text.split(';').map(|text| within(name, text.trim(), unit)).collect::<Result<_, _>>()?),
        };
        Ok(Truth { reading, known })
    }

    /// Reads the value alone, without a reading: `21.5 ± 0.5`, `20 to 23`; several are separated by semicolons.
    ///
    /// # Errors
    /// As [`parse`](Self::parse), but for the name and the unit.
    pub fn parse_bare(typed: &str) -> Result<Vec<(f64, f64)>, TruthError> {
        let unit = typed.trim_start().rsplit(|c: char| c.is_ascii_digit() || c == '.').next().unwrap_or("").trim();
        typed.split(';').map(|text| within("the value", text.trim(), unit)).collect()
    }

    /// What is known at the frame of that number, from 0; `None` where it is a direction.
    pub(super) fn at(&self, frame: usize) -> Option<(f64, f64)> {
        match &self.known {
            Known::Within(one) if one.len() == 1 => one.first().copied(),
            Known::Within(list) => list.get(frame).copied(),
            Known::Rises | Known::Falls => None,
        }
    }

    /// It in words, with the reading's unit.
    pub fn text(&self, part: &Sheet) -> String {
        let unit = part.readings.get(self.reading).map_or("", |reading| reading.unit.as_str());
        match &self.known {
            Known::Rises => "rises".to_owned(),
            Known::Falls => "falls".to_owned(),
            Known::Within(list) => {
                let pairs: Vec<String> =
                    list.iter().map(|(low, high)| format!("{} to {}", tidy(*low), with_unit(tidy(*high), unit))).collect();
                pairs.join("; ")
            }
        }
    }
}

/// A number without the noise of its conversion.
fn tidy(value: f64) -> f64 {
    format!("{value:.9e}").parse().unwrap_or(value)
}

/// `24 ± 3 °C` or `20 to 30 °C` in `unit`.
fn within(name: &str, text: &str, unit: &str) -> Result<(f64, f64), TruthError> {
    let forms = "write how exact it is: `24 ± 3 °C`, or `20 to 30 °C`";
    if text.contains(',') {
        return Err(wrong(
            format!("`{text}` has a comma"),
            "write the decimal point as a point, and separate the values of several frames by semicolons",
        ));
    }
    let plain = text.replace("+/-", "±").replace("+-", "±");
    let (first, second, difference) = match (plain.split_once('±'), plain.split_once(" to ")) {
        (Some((middle, around)), _) => (middle, around, true),
        (None, Some((low, high))) => (low, high, false),
        (None, None) => return Err(wrong(format!("`{text}` does not say how exact it is"), forms)),
    };
    let (first, second) = (first.trim(), second.trim());
    let given = |text: &str| {
        text.trim_start_matches(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | 'e' | 'E' | '_')).trim().to_owned()
    };
    // `24 °C ± 3 °F` has two units; in `20 to 30 °C` the last one is that of both.
    let (own, last) = (given(first), given(second));
    let (own, last) = match (own.is_empty(), last.is_empty()) {
        (true, true) if !unitless(unit) => {
            return Err(wrong(
                format!("`{text}` has no unit"),
                &format!("the reading is in {unit}: write `{text} {unit}`, or what it was measured in"),
            ));
        }
        (true, _) => (last.clone(), last),
        (false, true) => (own.clone(), own),
        (false, false) => (own, last),
    };
    let number = |text: &str| text.trim_end_matches(given(text).as_str()).trim().to_owned();
    if number(first).is_empty() || number(second).is_empty() {
        return Err(wrong(format!("`{text}` has no number"), forms));
    }
    let first = measured(name, &with_unit(number(first), &own), unit)?;
    let second = with_unit(number(second), &last);
    let (low, high) = if difference {
        let around = measured_difference(name, &second, unit)?.abs();
        (first - around, first + around)
    } else {
        (first, measured(name, &second, unit)?)
    };
    if low > high {
        return Err(wrong(format!("`{text}` ends below its beginning"), "the lower value comes first"));
    }
    if low == high {
        return Err(wrong(format!("`{text}` is one exact value"), forms));
    }
    Ok((low, high))
}

fn unitless(unit: &str) -> bool {
    unit.is_empty() || Unit::find(unit).is_some_and(|unit| unit.symbol == "1")
}
