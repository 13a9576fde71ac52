//! Records as bytes.

use serde::{Deserialize, Serialize};
use yemdo::to_hex;

use crate::entry::{Entry, Settings};
use crate::error::{LogError, LogErrorKind};
use crate::form::LogForm;
use crate::senml;
use crate::time::Clocks;
use crate::words::csv_text;

/// The columns of CSV.
pub(crate) const COLUMNS: [&str; 10] = ["time", "part", "frame", "bytes", "settings", "reading", "value", "unit", "status", "reason"];

/// The same by name, in that order.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Column {
    Time,
    Part,
    Frame,
    Bytes,
    State,
    Reading,
    Value,
    Unit,
    Status,
    Reason,
}

/// Makes bytes of records, in one form.
#[derive(Clone, Debug)]
pub struct Encoder {
    form: LogForm,
    clocks: Clocks,
}

/// Settings in JSON.
pub(crate) type Map = serde_json::Map<String, serde_json::Value>;

/// A record in JSON.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Line {
    pub(crate) time: String,
    pub(crate) part: String,
    #[serde(default)]
    pub(crate) frames: Vec<FrameLine>,
    #[serde(default)]
    pub(crate) settings: Map,
    #[serde(default)]
    pub(crate) readings: Vec<ReadingLine>,
    pub(crate) error: Option<ErrorLine>,
}

#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct FrameLine {
    pub(crate) frame: String,
    pub(crate) bytes: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) settings: Option<Map>,
}

#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct ReadingLine {
    pub(crate) reading: String,
    pub(crate) value: Option<f64>,
    pub(crate) unit: String,
    pub(crate) status: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) reason: Option<String>,
}

#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct ErrorLine {
    pub(crate) cause: String,
    pub(crate) message: String,
}

/// Settings as typed: `GAIN=fivefold; TIME=486 ms`.
pub(crate) fn settings_text(settings: &Settings) -> String {
    settings.iter().map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join("; ")
}

/// The same taken apart.
pub(crate) fn settings_of(text: &str) -> Settings {
    let each = text.split(';').filter_map(|typed| typed.trim().split_once('='));
    each.map(|(name, value)| (name.trim().to_owned(), value.trim().to_owned())).collect()
}

fn map(settings: &Settings) -> Map {
    settings.iter().map(|(name, value)| (name.clone(), value.as_str().into())).collect()
}

impl Encoder {
    /// Makes records in a form, with times as `clocks` shows them.
    pub fn new(form: LogForm, clocks: Clocks) -> Self {
        Self { form, clocks }
    }

    /// The line before the first record; empty in most forms.
    pub fn header(&self) -> String {
        if self.form == LogForm::Csv { COLUMNS.join(",") + "\n" } else { String::new() }
    }

    /// A record, whole: one or several lines, or a pack.
    ///
    /// # Errors
    /// It cannot be written in this form.
    pub fn record(&self, entry: &Entry) -> Result<Vec<u8>, LogError> {
        Ok(match self.form {
            LogForm::Csv => self.rows(entry)?,
            LogForm::JsonLines => json_line(&self.line(entry))?,
            LogForm::Senml => json_line(&senml::pack(entry))?,
            LogForm::SenmlCbor => senml::to_cbor(&senml::pack(entry)),
        })
    }

    fn line(&self, entry: &Entry) -> Line {
        let frames = entry.frames.iter().map(|frame| FrameLine {
            frame: frame.name.clone(),
            bytes: to_hex(&frame.bytes),
            settings: frame.settings.as_ref().map(map),
        });
        let readings = entry.readings.iter().map(|reading| ReadingLine {
            reading: reading.reading.clone(),
            value: reading.value,
            unit: reading.unit.clone(),
            status: reading.status.clone(),
            reason: reading.reason.clone(),
        });
        let error = entry.error.as_ref().map(|error| ErrorLine { cause: error.cause.clone(), message: error.message.clone() });
        Line {
            time: self.clocks.text(entry.time),
            part: entry.part.clone(),
            frames: frames.collect(),
            settings: map(&entry.settings),
            readings: readings.collect(),
            error,
        }
    }

    /// A row for each reading; for a frame without readings, and for what failed, one as well.
    fn rows(&self, entry: &Entry) -> Result<Vec<u8>, LogError> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let (time, part, settings) = (self.clocks.text(entry.time), csv_text(&entry.part), settings_text(&entry.settings));
        let settings = csv_text(&settings);
        for frame in &entry.frames {
            let (name, bytes) = (&frame.name, to_hex(&frame.bytes));
            let own = frame.settings.as_ref().map(settings_text);
            let own = own.as_deref().map(csv_text);
            let before = [&*time, &*part, name, &*bytes, own.as_deref().unwrap_or(&settings)];
            let mut any = false;
            for reading in entry.readings.iter().filter(|reading| reading.frame == *name) {
                any = true;
                let value = reading.value.map_or(String::new(), |value| value.to_string());
                let (unit, reason) = (csv_text(&reading.unit), csv_text(reading.reason.as_deref().unwrap_or("")));
                let own = [&*reading.reading, &*value, &*unit, &*reading.status, &*reason];
                writer.write_record(before.iter().chain(&own)).map_err(unwritable)?;
            }
            if !any {
                writer.write_record(before.iter().chain(&[""; 5])).map_err(unwritable)?;
            }
        }
        if let Some(error) = &entry.error {
            writer
                .write_record([&*time, &*part, "", "", &*settings, "", "", "", &*error.cause, &*csv_text(&error.message)])
                .map_err(unwritable)?;
        }
        writer.into_inner().map_err(unwritable)
    }
}

fn unwritable(error: impl std::error::Error) -> LogError {
    LogError::new(LogErrorKind::Format, format!("a record cannot be written: {error}"))
}

fn json_line(value: &impl Serialize) -> Result<Vec<u8>, LogError> {
    let mut line = serde_json::to_vec(value).map_err(unwritable)?;
    line.push(b'\n');
    Ok(line)
}
