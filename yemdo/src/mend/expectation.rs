//! Expected values of readings: from a reference instrument, from common sense, or a direction.

use std::fmt;

use crate::configure::{WishError, measured, measured_difference, number_and_unit};
use crate::ground::digits::rounded;
use crate::ground::words::with_unit;
use crate::model::ids::ReadingId;
use crate::model::part::Sheet;
use crate::units::Unit;

/// Maximum number of values in a text.
const MOST_VALUES: usize = 4;

/// Expected values of a reading.
#[derive(Clone, Debug, PartialEq)]
pub struct Expectation {
    /// Reading.
    pub reading: ReadingId,
    /// Its values.
    pub expected: Expected,
}

/// Expected values.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Expected {
    /// Minimum and maximum in the reading's unit: one pair for all frames, or one per frame.
    Within(Vec<(f64, f64)>),
    /// Rising from frame to frame.
    Rises,
    /// Falling from frame to frame.
    Falls,
}

/// Invalid expectation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectationError {
    /// Problem.
    pub message: String,
    /// Suggestion.
    pub help: Option<String>,
}

impl fmt::Display for ExpectationError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for ExpectationError {}

impl From<WishError> for ExpectationError {
    fn from(error: WishError) -> Self {
        ExpectationError { message: error.message, help: error.help }
    }
}

fn wrong(message: String, help: &str) -> ExpectationError {
    ExpectationError { message, help: Some(help.to_owned()) }
}

impl Expected {
    /// Number of value ranges.
    pub(super) fn len(&self) -> usize {
        if let Expected::Within(list) = self { list.len() } else { 0 }
    }
}

impl Expectation {
    /// Parses `NAME=VALUE`. The value is `24 ± 3 °C` (also `24 +- 3 °C`, `24 +/- 3 °C`), `20 to 30 °C`, `rises` or `falls`. A list
    /// with semicolons has a value per frame: `21 ± 1 °C; 35 ± 2 °C`. The unit is required unless the reading is dimensionless.
    ///
    /// ```
    /// use yemdo::mend::{Expected, Expectation};
    /// let part = yemdo::Part::parse("lamp.toml", r#"
    /// part = "lamp-1"
    /// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
    /// reading.light = { unit = "lx", formula = "light * 0.5" }
    /// "#).unwrap();
    /// let expectation = Expectation::parse(&part, "light=0.4 ± 0.1 klx").unwrap();
    /// assert_eq!(expectation.expected, Expected::Within(vec![(300.0, 500.0)]));
    /// assert_eq!(Expectation::parse(&part, "light=400").unwrap_err().to_string(), "`400` has no tolerance");
    /// ```
    ///
    /// # Errors
    /// [`ExpectationError`]: unknown reading, invalid form, missing unit, unit of another dimension.
    pub fn parse(part: &Sheet, typed: &str) -> Result<Expectation, ExpectationError> {
        let (name, text) =
            typed.split_once('=').ok_or_else(|| wrong(format!("`{typed}` has no reading"), "write NAME=VALUE: 'temperature=24 ± 3 °C'"))?;
        let (name, text) = (name.trim(), text.trim());
        let reading = part.reading(name).map_err(|unknown| ExpectationError { message: unknown.message(), help: Some(unknown.help()) })?;
        let unit = part.readings[reading].unit.as_str();
        let known = match text {
            "rises" => Expected::Rises,
            "falls" => Expected::Falls,
            _ => Expected::Within(text.split(';').map(|text| within(name, text.trim(), unit)).collect::<Result<_, _>>()?),
        };
        Ok(Expectation { reading, expected: known })
    }

    /// Parses values without a reading: `21.5 ± 0.5`, `20 to 23`, separated by semicolons.
    ///
    /// # Errors
    /// As [`parse`](Self::parse), except for name and unit.
    pub fn parse_bare(typed: &str) -> Result<Vec<(f64, f64)>, ExpectationError> {
        let unit = typed.trim_start().rsplit(|c: char| c.is_ascii_digit() || c == '.').next().unwrap_or("").trim();
        typed.split(';').map(|text| within("the value", text.trim(), unit)).collect()
    }

    /// Minimum and maximum for a frame, counted from 0; `None` for a direction.
    pub(super) fn at(&self, frame: usize) -> Option<(f64, f64)> {
        match &self.expected {
            Expected::Within(one) if one.len() == 1 => one.first().copied(),
            Expected::Within(list) => list.get(frame).copied(),
            Expected::Rises | Expected::Falls => None,
        }
    }

    /// Text with the reading's unit, with up to four values.
    pub fn text(&self, part: &Sheet) -> String {
        let unit = part.readings.get(self.reading).map_or("", |reading| reading.unit.as_str());
        match &self.expected {
            Expected::Rises => "rises".to_owned(),
            Expected::Falls => "falls".to_owned(),
            Expected::Within(list) => {
                let pair = |(low, high): &(f64, f64)| format!("{} to {}", rounded(*low, 7), with_unit(rounded(*high, 7), unit));
                let pairs: Vec<String> = list.iter().take(MOST_VALUES).map(pair).collect();
                format!("{}{}", pairs.join("; "), if list.len() > MOST_VALUES { "; …" } else { "" })
            }
        }
    }
}

/// Parses `24 ± 3 °C` or `20 to 30 °C` into `unit`.
fn within(name: &str, text: &str, unit: &str) -> Result<(f64, f64), ExpectationError> {
    let forms = "write `24 ± 3 °C` or `20 to 30 °C`";
    if text.contains(',') {
        return Err(wrong(format!("`{text}` has a comma"), "write decimals with a point, and separate values with semicolons"));
    }
    let plain = text.replace("+/-", "±").replace("+-", "±");
    let (first, second, difference) = match (plain.split_once('±'), plain.split_once(" to ")) {
        (Some((middle, around)), _) => (middle, around, true),
        (None, Some((low, high))) => (low, high, false),
        (None, None) => return Err(wrong(format!("`{text}` has no tolerance"), forms)),
    };
    let (first, second) = (first.trim(), second.trim());
    let ((first, own), (second, last)) = (number_and_unit(first), number_and_unit(second));
    // `24 °C ± 3 °F` has two units; in `20 to 30 °C` the last one applies to both.
    let (own, last) = match (own.is_empty(), last.is_empty()) {
        (true, true) if !unitless(unit) => {
            return Err(wrong(format!("`{text}` has no unit"), &format!("write `{text} {unit}`, or another unit of the same dimension")));
        }
        (true, _) => (last, last),
        (false, true) => (own, own),
        (false, false) => (own, last),
    };
    if first.is_empty() || second.is_empty() {
        return Err(wrong(format!("`{text}` has no number"), forms));
    }
    let first = measured(name, &with_unit(first, own), unit)?;
    let second = with_unit(second, last);
    let (low, high) = if difference {
        let around = measured_difference(name, &second, unit)?.abs();
        (first - around, first + around)
    } else {
        (first, measured(name, &second, unit)?)
    };
    if low > high {
        return Err(wrong(format!("`{text}` is reversed"), "write the lower value first"));
    }
    if low == high {
        return Err(wrong(format!("`{text}` has no tolerance"), forms));
    }
    Ok((low, high))
}

fn unitless(unit: &str) -> bool {
    unit.is_empty() || Unit::find(unit).is_some_and(|unit| unit.symbol == "1")
}
