//! The syntax tree of a sheet: what is typed, with places, nothing bound yet.

use super::reader::At;
use super::text::{Span, Text};

pub(crate) type Named<T> = (At<String>, T);

#[derive(Debug, Default)]
pub(crate) struct Sheet {
    pub(crate) part: Text,
    pub(crate) title: Option<Text>,
    pub(crate) source: Option<Text>,
    pub(crate) i2c: Option<I2c>,
    pub(crate) frames: Vec<Named<Frame>>,
    pub(crate) readings: Vec<Named<Reading>>,
    pub(crate) examples: Vec<Example>,
}

#[derive(Debug)]
pub(crate) struct I2c {
    pub(crate) address: At<i128>,
    /// Pin, and for each of its levels the address.
    pub(crate) straps: Vec<Named<Vec<Named<At<i128>>>>>,
}

#[derive(Debug)]
pub(crate) struct Frame {
    pub(crate) read: At<i128>,
    pub(crate) checks: Vec<Check>,
    pub(crate) codes: Vec<Named<Text>>,
    pub(crate) status: Vec<Status>,
}

#[derive(Debug)]
pub(crate) struct Check {
    pub(crate) span: Span,
    pub(crate) method: Option<Method>,
    pub(crate) over: Text,
    pub(crate) place: Text,
}

#[derive(Debug)]
pub(crate) enum Method {
    Crc { width: At<i128>, poly: At<i128>, init: Option<At<i128>>, refin: bool, refout: bool, xorout: Option<At<i128>> },
    Sum { width: At<i128>, init: Option<At<i128>>, then: &'static str },
}

#[derive(Debug)]
pub(crate) struct Status {
    pub(crate) when: Text,
    pub(crate) is: At<&'static str>,
    pub(crate) means: Option<Text>,
}

#[derive(Debug)]
pub(crate) struct Reading {
    pub(crate) unit: Text,
    pub(crate) formula: Text,
    pub(crate) range: Option<At<(f64, f64)>>,
    pub(crate) status: Vec<Status>,
}

#[derive(Debug)]
pub(crate) struct Example {
    pub(crate) span: Span,
    pub(crate) source: Option<Text>,
    /// Frame and its bytes.
    pub(crate) frames: Vec<Named<Text>>,
    /// Reading and what it must give.
    pub(crate) gives: Vec<Named<Text>>,
}
