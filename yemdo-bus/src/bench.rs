//! The bench file: several parts, where they are, how they are set, how often they are read.
//!
//! ```toml
//! [part.hall]
//! sheet = "strake-20.toml"
//! at    = "i2c:1@0x2C"
//! every = "2 s"
//!
//! [part.lamp]
//! sheet = "lantern-16.toml"
//! at    = "i2c:1"
//! set   = ["GAIN=fivefold"]
//! ```

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};

use serde::Deserialize;
use yemdo::Part;

use crate::place::{Place, PlaceError};

/// A bench file, read.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    part: BTreeMap<String, Entry>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    sheet: toml::Spanned<PathBuf>,
    at: toml::Spanned<String>,
    #[serde(default)]
    set: Vec<String>,
    every: Option<toml::Spanned<String>>,
    variant: Option<String>,
}

/// A part of a bench.
#[derive(Clone, Debug)]
pub struct BenchPart {
    /// What it is called here.
    pub name: String,
    /// Its sheet.
    pub sheet: PathBuf,
    /// A variant of the sheet.
    pub variant: Option<String>,
    /// Where it is.
    pub place: Place,
    /// What is set before it is read.
    pub set: Vec<String>,
    /// From one reading to the next, in microseconds.
    pub every: Option<u64>,
    /// Line in the file, from 1.
    pub line: usize,
}

/// A bench file that cannot be used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BenchError {
    /// The line, from 1; 0 where it is about the whole.
    pub line: usize,
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for BenchError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.line > 0 {
            write!(f, "line {}: ", self.line)?;
        }
        f.write_str(&self.message)
    }
}

impl std::error::Error for BenchError {}

fn line_of(text: &str, offset: usize) -> usize {
    text.get(..offset).unwrap_or("").matches('\n').count() + 1
}

/// A time as it is typed: `500 ms`, `2 s`, `1 min`; in microseconds. A number alone is seconds.
///
/// ```
/// assert_eq!(yemdo_bus::bench::duration("1.5 s"), Some(1_500_000));
/// ```
pub fn duration(text: &str) -> Option<u64> {
    let text = text.trim();
    let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let (number, unit) = text.split_at(split);
    let factor = match unit.trim() {
        "us" | "µs" => 1.0,
        "ms" => 1e3,
        "" | "s" => 1e6,
        "min" => 60e6,
        "h" => 3600e6,
        _ => return None,
    };
    let micros = number.parse::<f64>().ok()? * factor;
    (1.0..=86_400e6).contains(&micros).then_some(micros as u64)
}

/// Reads a bench file; sheets stand relative to `folder`.
///
/// # Errors
/// [`BenchError`]: the first that is wrong.
pub fn parse(text: &str, folder: &Path) -> Result<Vec<BenchPart>, BenchError> {
    let file: File = toml::from_str(text).map_err(|error| BenchError {
        line: error.span().map_or(0, |span| line_of(text, span.start)),
        message: error.message().to_owned(),
        help: Some("a bench has [part.NAME] with `sheet` and `at`, and may have `set`, `every` and `variant`".into()),
    })?;
    let mut parts = Vec::new();
    for (name, entry) in file.part {
        let line = line_of(text, entry.at.span().start);
        let place = Place::parse(entry.at.get_ref());
        let place = place.map_err(|PlaceError { message, help }| BenchError { line, message, help: Some(help) })?;
        let every = match &entry.every {
            None => None,
            Some(typed) => Some(duration(typed.get_ref()).ok_or_else(|| BenchError {
                line: line_of(text, typed.span().start),
                message: format!("`{}` is not a time", typed.get_ref()),
                help: Some("write 500 ms, 2 s or 1 min".into()),
            })?),
        };
        let line = line_of(text, entry.sheet.span().start);
        let shown = yemdo::visible(&name);
        if name.is_empty() || shown != name {
            let help = "it stands in tables, logs and plots: give it printable characters".to_owned();
            return Err(BenchError { line, message: format!("`{shown}` is no name for a part"), help: Some(help) });
        }
        let sheet = folder.join(entry.sheet.get_ref());
        parts.push(BenchPart { name, sheet, variant: entry.variant, place, set: entry.set, every, line });
    }
    parts.sort_by_key(|part| part.line);
    if parts.is_empty() {
        return Err(BenchError { line: 0, message: "there is no part on this bench".into(), help: Some("begin with [part.NAME]".into()) });
    }
    Ok(parts)
}

/// Parts that cannot be told apart: on one bus with one address, or on one line with different speeds.
///
/// # Errors
/// [`BenchError`], with both parts.
pub fn clashes(bench: &[(BenchPart, Part)]) -> Result<(), BenchError> {
    for (at, (one, one_part)) in bench.iter().enumerate() {
        for (other, other_part) in bench.iter().take(at) {
            if one.place.shared() != other.place.shared() || matches!(one.place, Place::StandIn { .. }) {
                continue;
            }
            let told = |message: String, help: &str| Err(BenchError { line: one.line, message, help: Some(help.to_owned()) });
            let address = |part: &Part| {
                let buses = part.buses();
                match one.place {
                    Place::I2c { .. } => buses.i2c.as_ref().map(|i2c| format!("I2C address 0x{:02X}", i2c.address)),
                    Place::Rtu { .. } | Place::Tcp { .. } => buses.modbus.as_ref().map(|modbus| format!("unit {}", modbus.unit_or_first())),
                    _ => Some("the only part there".to_owned()),
                }
            };
            let (first, second) = (address(other_part), address(one_part));
            if first == second
                && let Some(address) = first
            {
                let message = format!("{} and {} are both {address} on {}", other.name, one.name, one.place.shared());
                return told(message, "give one of them another address, by its pins or behind @");
            }
            if let (Place::Rtu { baud, parity, .. }, Place::Rtu { baud: other_baud, parity: other_parity, .. }) = (&one.place, &other.place)
            {
                let of = |baud: &Option<u32>, part: &Part| baud.or(part.buses().modbus.as_ref().and_then(|modbus| modbus.baud));
                let said =
                    |parity: &Option<&'static str>, part: &Part| parity.or(part.buses().modbus.as_ref().and_then(|modbus| modbus.parity));
                if of(baud, one_part) != of(other_baud, other_part) || said(parity, one_part) != said(other_parity, other_part) {
                    let message = format!("{} and {} are on one line with different speeds or parities", other.name, one.name);
                    return told(message, "a line has one: set the parts alike, and say it in `at`");
                }
            }
        }
    }
    Ok(())
}
