//! SenML (RFC 8428): a pack for each measurement, in JSON (section 5) or CBOR (section 6), and packs read back.
//!
//! A reading is a record of its name with its unit's code and value; a status that is not ok, the bytes of a frame, what was set and what
//! failed are records of their own, `temperature/status`, `AIR/bytes`, `settings`, `error`.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use minicbor::data::Type;
use minicbor::{Decoder, Encoder};
use serde::{Deserialize, Serialize};
use yemdo::units::{UNITS, Unit};

use crate::entry::{Entry, EntryError, EntryFrame, EntryReading};
use crate::time::Moment;
use crate::write::{settings_of, settings_text};

/// Times from here on are Unix times; smaller times are relative to now (RFC 8428, section 4.5.3).
const ABSOLUTE: f64 = (1u64 << 28) as f64;

/// A record of a pack (section 4).
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Record {
    #[serde(skip_serializing_if = "Option::is_none")]
    bn: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    bt: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    bu: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    bv: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    n: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    u: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    v: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    vs: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    vd: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    t: Option<f64>,
}

/// A name as SenML allows it (section 4.5.1): letters, digits and `-:./_`; what else there is becomes `_`.
fn name(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_alphanumeric() || "-:./_".contains(c) { c } else { '_' }).collect()
}

/// The first part of a name: it begins with a letter or a digit.
fn base(text: &str) -> String {
    let text = name(text);
    if text.starts_with(|c: char| c.is_ascii_alphanumeric()) { text } else { format!("x{text}") }
}

/// A value in a unit that SenML knows: where its own has no code, in one of the same dimension that has.
fn in_senml(value: f64, symbol: &str) -> (f64, Option<String>) {
    let Some(unit) = Unit::find(symbol) else { return (value, None) };
    if let Some(code) = unit.senml {
        return (value, Some(code.to_owned()));
    }
    let other = UNITS.iter().find_map(|other| Some((unit.to(other, value)?, other.senml?)));
    other.map_or((value, None), |(value, code)| (value, Some(code.to_owned())))
}

/// The pack of a measurement.
pub(crate) fn pack(entry: &Entry) -> Vec<Record> {
    let mut pack = Vec::new();
    let named = |n: String| Record { n: Some(name(&n)), ..Record::default() };
    for reading in &entry.readings {
        if let Some(value) = reading.value.filter(|value| value.is_finite()) {
            let (v, u) = in_senml(value, &reading.unit);
            pack.push(Record { v: Some(v), u, ..named(reading.reading.clone()) });
        }
        if reading.status != "ok" {
            pack.push(Record { vs: Some(reading.status.clone()), ..named(format!("{}/status", reading.reading)) });
        }
    }
    for frame in &entry.frames {
        pack.push(Record { vd: Some(URL_SAFE_NO_PAD.encode(&frame.bytes)), ..named(format!("{}/bytes", frame.name)) });
        if let Some(settings) = &frame.settings {
            pack.push(Record { vs: Some(settings_text(settings)), ..named(format!("{}/settings", frame.name)) });
        }
    }
    if !entry.settings.is_empty() {
        pack.push(Record { vs: Some(settings_text(&entry.settings)), ..named("settings".into()) });
    }
    if let Some(error) = &entry.error {
        pack.push(Record { vs: Some(format!("{}: {}", error.cause, error.message)), ..named("error".into()) });
    }
    if pack.is_empty() {
        pack.push(Record { vs: Some("nothing came".into()), ..named("error".into()) });
    }
    if let Some(first) = pack.first_mut() {
        (first.bn, first.bt) = (Some(format!("{}/", base(&entry.part))), Some(entry.time.seconds()));
    }
    pack
}

/// The measurements of a pack; names and times are resolved as section 4.6 says.
pub(crate) fn entries(pack: &[Record]) -> Result<Vec<Entry>, String> {
    let mut found: Vec<Entry> = Vec::new();
    let (mut base_name, mut base_time, mut base_unit, mut base_value) = (String::new(), 0.0, None, 0.0);
    for record in pack {
        if let Some(bn) = &record.bn {
            base_name = bn.clone();
        }
        base_time = record.bt.unwrap_or(base_time);
        base_unit = record.bu.clone().or(base_unit);
        base_value = record.bv.unwrap_or(base_value);
        let whole = format!("{base_name}{}", record.n.as_deref().unwrap_or(""));
        if whole.is_empty() {
            return Err("a record has no name".into());
        }
        let seconds = base_time + record.t.unwrap_or(0.0);
        if seconds < ABSOLUTE {
            return Err(format!("the time of {whole} is relative to when it was read"));
        }
        let time = Moment::of_seconds(seconds);
        let (rest, kind) = match whole.rsplit_once('/') {
            // A reading may be called `status`: the kind of record depends on its value.
            Some((rest, kind @ "bytes")) if record.vd.is_some() => (rest, kind),
            Some((rest, kind @ "status")) if record.vs.is_some() => (rest, kind),
            // `PART/settings` is of all frames, `PART/FRAME/settings` of one.
            Some((rest, kind @ "settings")) if record.vs.is_some() && rest.contains('/') => (rest, kind),
            _ => (whole.as_str(), ""),
        };
        let (part, own) = rest.rsplit_once('/').unwrap_or(("", rest));
        if found.last().is_none_or(|last| last.part != part || last.time != time) {
            let part = part.to_owned();
            found.push(Entry { time, part, frames: Vec::new(), settings: Vec::new(), readings: Vec::new(), error: None });
        }
        let Some(entry) = found.last_mut() else { continue };
        take(entry, own, kind, record, (base_unit.as_deref(), base_value))?;
    }
    Ok(found)
}

/// Puts one record into its measurement.
fn take(entry: &mut Entry, own: &str, kind: &str, record: &Record, (base_unit, base_value): (Option<&str>, f64)) -> Result<(), String> {
    let text = || record.vs.clone().unwrap_or_default();
    match (kind, own) {
        ("bytes", _) => {
            let typed = record.vd.as_deref().unwrap_or("").trim_end_matches('=');
            let bytes = URL_SAFE_NO_PAD.decode(typed).map_err(|error| format!("the bytes of {own}: {error}"))?;
            entry.frames.push(EntryFrame::new(own, &bytes));
        }
        ("settings", _) => {
            let frame = entry.frames.iter_mut().find(|frame| frame.name == own);
            frame.into_iter().for_each(|frame| frame.settings = Some(settings_of(&text())));
        }
        ("status", _) => match entry.readings.iter_mut().find(|known| known.reading == own) {
            Some(known) => known.status = text(),
            None => entry.readings.push(EntryReading {
                frame: String::new(),
                reading: own.to_owned(),
                value: None,
                unit: String::new(),
                status: text(),
                reason: None,
            }),
        },
        (_, "settings") if record.vs.is_some() => entry.settings = settings_of(&text()),
        (_, "error") if record.vs.is_some() => {
            let text = text();
            let (cause, message) = text.split_once(": ").unwrap_or((&text, &text));
            entry.error = Some(EntryError { cause: cause.to_owned(), message: message.to_owned() });
        }
        _ => {
            // Texts and truths of others are no readings.
            let Some(value) = record.v.map(|value| value + base_value) else { return Ok(()) };
            let code = record.u.as_deref().or(base_unit);
            let unit = code.map_or("", |code| UNITS.iter().find(|unit| unit.senml == Some(code)).map_or(code, |unit| unit.symbol));
            entry.readings.push(EntryReading {
                frame: String::new(),
                reading: own.to_owned(),
                value: Some(value),
                unit: unit.to_owned(),
                status: "ok".to_owned(),
                reason: None,
            });
        }
    }
    Ok(())
}

// Labels of CBOR (section 6, table 4).
const BN: i8 = -2;
const BT: i8 = -3;
const BU: i8 = -4;
const BV: i8 = -5;
const N: i8 = 0;
const U: i8 = 1;
const V: i8 = 2;
const VS: i8 = 3;
const T: i8 = 6;
const VD: i8 = 8;

/// A pack in CBOR.
pub(crate) fn to_cbor(pack: &[Record]) -> Vec<u8> {
    let mut out = Vec::new();
    let mut encoder = Encoder::new(&mut out);
    // A vector takes whatever is written to it.
    let _ = encode(&mut encoder, pack);
    out
}

fn encode(encoder: &mut Encoder<&mut Vec<u8>>, pack: &[Record]) -> Result<(), minicbor::encode::Error<std::convert::Infallible>> {
    encoder.array(pack.len() as u64)?;
    for record in pack {
        let texts = [(BN, &record.bn), (BU, &record.bu), (N, &record.n), (U, &record.u), (VS, &record.vs)];
        let numbers = [(BT, record.bt), (BV, record.bv), (V, record.v), (T, record.t)];
        let bytes = record.vd.as_ref().and_then(|text| URL_SAFE_NO_PAD.decode(text).ok());
        let count = texts.iter().filter(|(_, text)| text.is_some()).count()
            + numbers.iter().filter(|(_, number)| number.is_some()).count()
            + usize::from(bytes.is_some());
        encoder.map(count as u64)?;
        for (label, text) in texts.iter().filter_map(|(label, text)| Some((label, text.as_ref()?))) {
            encoder.i8(*label)?.str(text)?;
        }
        for (label, number) in numbers.iter().filter_map(|(label, number)| Some((label, (*number)?))) {
            encoder.i8(*label)?.f64(number)?;
        }
        if let Some(bytes) = bytes {
            encoder.i8(VD)?.bytes(&bytes)?;
        }
    }
    Ok(())
}

/// The pack that stands at the beginning of bytes, and how many of them it takes; `None` where it goes on behind them.
pub(crate) fn from_cbor(bytes: &[u8]) -> Result<Option<(Vec<Record>, usize)>, String> {
    let mut decoder = Decoder::new(bytes);
    match decode(&mut decoder) {
        Ok(pack) => Ok(Some((pack, decoder.position()))),
        Err(error) if error.is_end_of_input() => Ok(None),
        Err(error) => Err(error.to_string()),
    }
}

fn decode(decoder: &mut Decoder<'_>) -> Result<Vec<Record>, minicbor::decode::Error> {
    let wrong = |message: &'static str| minicbor::decode::Error::message(message);
    let count = decoder.array()?.ok_or_else(|| wrong("an array of no stated length"))?;
    let mut pack = Vec::new();
    for _ in 0..count {
        let mut record = Record::default();
        let labels = decoder.map()?.ok_or_else(|| wrong("a map of no stated length"))?;
        for _ in 0..labels {
            // A label that is not known may be a text (section 6).
            let label = if decoder.datatype()? == Type::String { decoder.skip().map(|()| None)? } else { Some(decoder.i8()?) };
            match label {
                Some(BN) => record.bn = Some(decoder.str()?.to_owned()),
                Some(BU) => record.bu = Some(decoder.str()?.to_owned()),
                Some(N) => record.n = Some(decoder.str()?.to_owned()),
                Some(U) => record.u = Some(decoder.str()?.to_owned()),
                Some(VS) => record.vs = Some(decoder.str()?.to_owned()),
                Some(VD) => record.vd = Some(URL_SAFE_NO_PAD.encode(decoder.bytes()?)),
                Some(BT) => record.bt = Some(number(decoder)?),
                Some(BV) => record.bv = Some(number(decoder)?),
                Some(V) => record.v = Some(number(decoder)?),
                Some(T) => record.t = Some(number(decoder)?),
                _ => decoder.skip()?,
            }
        }
        pack.push(record);
    }
    Ok(pack)
}

/// A number as others may write it: an integer, or a real of any width.
fn number(decoder: &mut Decoder<'_>) -> Result<f64, minicbor::decode::Error> {
    Ok(match decoder.datatype()? {
        Type::F16 | Type::F32 => f64::from(decoder.f32()?),
        Type::F64 => decoder.f64()?,
        _ => i64::try_from(decoder.int()?).map_err(|_| minicbor::decode::Error::message("a number that is too large"))? as f64,
    })
}
