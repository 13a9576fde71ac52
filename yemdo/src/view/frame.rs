//! A decoded frame of a batch: time, bytes, codes and readings.

use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};

use super::named::{Content, Integer, Named, real};
use super::units::ShownUnits;
use crate::decode::{Columns, Decoder};
use crate::ground::hex::to_hex;
use crate::ground::number::Number;
use crate::model::frame::{Code, CodeContent, Frame};
use crate::model::ids::{CodeId, FrameId, ReadingId};
use crate::model::part::Part;
use crate::model::reading::Reading;

/// One frame of a batch, as one object.
#[derive(Clone, Copy, Debug)]
pub struct FrameView<'a> {
    /// The part.
    pub part: &'a Part,
    /// The frame.
    pub frame: FrameId,
    /// Its bytes, those included that do not count.
    pub bytes: &'a [u8],
    /// How many of them count.
    pub given: usize,
    /// The readings of the batch.
    pub columns: &'a Columns,
    /// Which of the batch it is.
    pub index: usize,
    /// Who decoded it, for the reasons of statuses.
    pub decoder: &'a Decoder,
    /// The units that readings are shown in.
    pub units: &'a ShownUnits,
    /// The time as the log has it.
    pub time: Option<&'a str>,
    /// The line of the log.
    pub line: Option<u64>,
    /// Other frames that its readings use; none is not told.
    pub uses: &'a [UseView],
    /// Good frames of the batch before this one.
    pub before: u64,
}

/// A frame of a log that readings of others use.
#[derive(Clone, Debug)]
pub struct UseView {
    /// The frame.
    pub frame: FrameId,
    /// The line that it stands in.
    pub line: u64,
    /// Its time.
    pub time: Option<String>,
    /// Good frames behind it.
    pub age: u64,
}

impl<'a> FrameView<'a> {
    fn model(&self) -> Option<&'a Frame> {
        self.part.frames.get(self.frame)
    }

    /// Its codes, those left out whose bytes did not come.
    pub fn codes(&self) -> impl Iterator<Item = (CodeId, &'a Code)> + use<'a> {
        let (part, given) = (self.part, self.given);
        let all = self.model().into_iter().flat_map(|frame| &frame.codes);
        all.filter_map(move |id| Some((*id, part.codes.get(*id)?))).filter(move |(_, code)| code.last_byte() < given)
    }

    /// A code of a reading, from this frame or from the other as it came last; `None` where it has not come, or is kept (a
    /// calibration word).
    pub fn code_content(&self, code: &Code) -> Option<CodeContent> {
        if code.frame() == self.frame {
            return (code.last_byte() < self.given).then(|| code.value(self.bytes));
        }
        let other = self.part.frames.get(code.frame()).filter(|frame| !frame.keep);
        other.and_then(|_| self.decoder.last_bytes(code.frame())).map(|bytes| code.value(bytes))
    }

    /// Its readings and derived quantities, with their place among them.
    pub fn readings(&self) -> impl Iterator<Item = (usize, ReadingId, &'a Reading)> + use<'a> {
        let part = self.part;
        let all = self.model().into_iter().flat_map(Frame::shown).enumerate();
        all.filter_map(move |(at, id)| Some((at, id, part.readings.get(id)?)))
    }

    /// Why a reading, by its place, has its status; nothing where all is well.
    pub fn reason(&self, at: usize, id: ReadingId) -> Option<String> {
        if self.part.readings.get(id).is_some_and(Reading::is_derived) {
            return self.columns.reason(at, self.index).map(str::to_owned);
        }
        self.decoder.reason(self.frame, self.bytes, id, self.columns.status(at, self.index))
    }

    /// The reasons of all its readings in a line: each once, with the names of those that it is about unless it is about
    /// all.
    pub fn reasons(&self) -> String {
        let mut found: Vec<(String, Vec<&str>)> = Vec::new();
        let mut all = 0;
        for (at, id, reading) in self.readings() {
            all += 1;
            let Some(reason) = self.reason(at, id) else { continue };
            match found.iter_mut().find(|(known, _)| *known == reason) {
                Some((_, names)) => names.push(&reading.name),
                None => found.push((reason, vec![&reading.name])),
            }
        }
        let one =
            |(reason, names): (String, Vec<&str>)| if names.len() == all { reason } else { format!("{}: {reason}", names.join(", ")) };
        found.into_iter().map(one).collect::<Vec<_>>().join("; ")
    }

    /// The value of a reading, by its place, in the unit that it is shown in; an integer keeps all its digits.
    pub fn value(&self, at: usize, id: ReadingId) -> Option<Number> {
        let number = self.columns.number(at, self.index).filter(|_| self.columns.status(at, self.index).has_value())?;
        if self.units.is_plain(id) {
            return Some(number);
        }
        Some(Number::Real(self.units.value(id, number.to_f64()), number.ty()))
    }
}

impl Serialize for FrameView<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        if let Some(time) = self.time {
            map.serialize_entry("time", time)?;
        }
        if let Some(line) = self.line {
            map.serialize_entry("line", &line)?;
        }
        map.serialize_entry("part", &self.part.name)?;
        map.serialize_entry("frame", self.model().map_or("", |frame| &frame.name))?;
        map.serialize_entry("bytes", &to_hex(self.bytes))?;
        if self.model().is_some_and(|frame| frame.is_suspect(self.bytes)) && self.columns.has_value(self.index) {
            map.serialize_entry("suspect", "blank")?;
        }
        map.serialize_entry("codes", &Codes(self))?;
        map.serialize_entry("readings", &Readings(self))?;
        if !self.uses.is_empty() {
            let one = |used: &UseView| {
                let place = Place { line: used.line, frames_back: used.age + self.before + 1, time: used.time.clone() };
                Some((self.part.frames.get(used.frame)?.name.clone(), place))
            };
            map.serialize_entry("uses", &self.uses.iter().filter_map(one).collect::<Named<Place>>())?;
        }
        map.end()
    }
}

#[derive(Serialize)]
struct Place {
    line: u64,
    frames_back: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    time: Option<String>,
}

struct Codes<'v, 'a>(&'v FrameView<'a>);

impl Serialize for Codes<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.codes().map(|(_, code)| (&code.name, Content(code.value(self.0.bytes)))))
    }
}

struct Readings<'v, 'a>(&'v FrameView<'a>);

impl Serialize for Readings<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let view = self.0;
        serializer.collect_map(view.readings().map(|(at, id, reading)| {
            let unit = view.units.unit(id);
            let value = ReadingView {
                value: view.value(at, id).map(Value),
                unit: view.units.symbol(id, reading),
                ucum: unit.map(|unit| unit.ucum),
                senml: unit.and_then(|unit| unit.senml),
                status: view.columns.status(at, view.index).as_str(),
                why: view.reason(at, id),
            };
            (&reading.name, value)
        }))
    }
}

#[derive(Serialize)]
struct ReadingView<'a> {
    value: Option<Value>,
    unit: &'a str,
    ucum: Option<&'static str>,
    senml: Option<&'static str>,
    status: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<String>,
}

/// A value: an integer of 64 bits with all its digits, else a real.
struct Value(Number);

impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Number::Int(value, _) => Integer(value).serialize(serializer),
            Number::Real(value, ty) => real(value, ty, serializer),
        }
    }
}
