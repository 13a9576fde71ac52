//! Which bytes are a frame, and why others are refused. Decoders and routines ask here.

use std::borrow::Cow;
use std::fmt;

use crate::bits::check::Check;
use crate::bits::form::Form;
use crate::bits::layout::{Layout, Slice};
use crate::bus::modbus::{AddressRange, ResponseError, is_unit, read_response};
use crate::formula::fault::FaultKind;
use crate::model::frame::{Blank, Code, Frame, Origin, is_blank};
use crate::model::part::Sheet;

/// Why a frame was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// The part has no such frame: the id is of another part.
    UnknownFrame,
    /// The formula that says how many bytes count gives no such number.
    Count {
        /// Name of the frame.
        frame: String,
        /// The number; `None` where the formula is at fault.
        count: Option<i64>,
        /// The fault.
        fault: Option<FaultKind>,
        /// The most that there can be.
        most: usize,
    },
    /// The frame has too few or too many bytes.
    Length {
        /// Name of the frame.
        frame: String,
        /// Bytes that it has by the sheet.
        expected: usize,
        /// Bytes that came.
        found: usize,
    },
    /// The bytes are no good response to the Modbus request that the frame is.
    Response(ResponseError),
    /// All bytes of a frame that is kept are zeros, or all are ones: nobody answered.
    Blank {
        /// Name of the frame.
        frame: String,
        /// The byte.
        byte: u8,
    },
    /// A check failed.
    Check {
        /// Name of the frame.
        frame: String,
        /// The method, such as `CRC-8`.
        method: String,
        /// Bits of the check value.
        width: u32,
        /// What the bytes call for.
        expected: u64,
        /// What came.
        found: u64,
        /// What is covered: bytes, and the names of the codes in them where the frame has several checks.
        over: String,
        /// Where the check value stands.
        place: String,
    },
}

impl Refusal {
    /// The cause in one or two words, for counting.
    pub fn cause(&self) -> &'static str {
        match self {
            Refusal::UnknownFrame => "unknown frame",
            Refusal::Length { expected, found, .. } if found < expected => "too short",
            Refusal::Length { .. } => "too long",
            Refusal::Check { .. } => "check failed",
            Refusal::Response(error) => error.cause(),
            Refusal::Blank { .. } => "blank",
            Refusal::Count { .. } => "bad length",
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Refusal::UnknownFrame => f.write_str("there is no such frame"),
            Refusal::Length { frame, expected, found } => {
                let what = if found < expected { "too short" } else { "too long" };
                write!(f, "{frame} is {what}: expected {expected} bytes, got {found}")
            }
            Refusal::Check { frame, method, width, expected, found, over, place } => {
                let digits = usize::try_from(width.div_ceil(4)).unwrap_or(2);
                write!(
                    f,
                    "{method} mismatch in {frame}: computed 0x{expected:0digits$X} over {over}, received 0x{found:0digits$X} in {place}"
                )
            }
            Refusal::Response(error) => error.fmt(f),
            Refusal::Blank { frame, byte } => {
                write!(f, "all bytes of {frame} are 0x{byte:02X}: the part did not answer, or was never calibrated")
            }
            Refusal::Count { frame, count: Some(count), most, .. } => {
                write!(f, "the length formula of {frame} gives {count} bytes; expected 0 to {most}")
            }
            Refusal::Count { frame, fault, .. } => {
                let why = fault.map_or("no value", FaultKind::describe);
                write!(f, "the length formula of {frame} gives no value: {why}")
            }
        }
    }
}

impl std::error::Error for Refusal {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        if let Refusal::Response(error) = self { Some(error) } else { None }
    }
}

/// The bytes of the frame itself: of a Modbus response those behind its header.
pub(crate) fn unwrapped<'b>(part: &Sheet, frame: &Frame, bytes: &'b [u8]) -> Result<Cow<'b, [u8]>, Refusal> {
    let Origin::Modbus(range) = &frame.origin else { return Ok(Cow::Borrowed(bytes)) };
    let unit = part.unit();
    if bytes.len() == frame.length && !says_it_is_a_response(bytes, range, unit) {
        return Ok(Cow::Borrowed(bytes));
    }
    read_response(bytes, range, unit).map(|response| Cow::Borrowed(response.data)).map_err(Refusal::Response)
}

/// Bytes of just the data's length may be a response all the same: an exception, or one with fewer data. They are taken
/// for one where unit, function and length all say so.
fn says_it_is_a_response(bytes: &[u8], range: &AddressRange, unit: Option<u8>) -> bool {
    let of_unit = |found: u8| unit.map_or(is_unit(i128::from(found)), |unit| unit == found);
    let function = range.table.read_function();
    let says = |pdu: &[u8]| match *pdu {
        [found, code, _] if code == function | 0x80 => of_unit(found),
        [found, code, count, ref data @ ..] if code == function => of_unit(found) && usize::from(count) == data.len(),
        _ => false,
    };
    let rtu = bytes.split_last_chunk::<2>().is_some_and(|(body, _)| says(body));
    let tcp = match bytes.split_first_chunk::<6>() {
        Some(([_, _, 0, 0, high, low], body)) => usize::from(u16::from_be_bytes([*high, *low])) == body.len() && says(body),
        _ => false,
    };
    rtu || tcp
}

/// Refuses bytes that are too few or too many.
pub(crate) fn length(frame: &Frame, found: usize, expected: usize) -> Result<(), Refusal> {
    if found == expected { Ok(()) } else { Err(Refusal::Length { frame: frame.name.clone(), expected, found }) }
}

/// Refuses a frame of only zeros or only ones if its sheet requires that.
pub(crate) fn not_blank(frame: &Frame, bytes: &[u8]) -> Result<(), Refusal> {
    match bytes.first().copied().filter(|_| frame.blank == Blank::Refused && is_blank(bytes)) {
        Some(byte) => Err(Refusal::Blank { frame: frame.name.clone(), byte }),
        None => Ok(()),
    }
}

/// Refuses a frame that fails a check.
pub(crate) fn checked(part: &Sheet, frame: &Frame, bytes: &[u8]) -> Result<(), Refusal> {
    frame.checks.iter().find(|check| !check.passes(bytes)).map_or(Ok(()), |check| Err(failed(part, frame, check, bytes)))
}

/// That a check failed, with its values.
pub(crate) fn failed(part: &Sheet, frame: &Frame, check: &Check, bytes: &[u8]) -> Refusal {
    let covered = check.covered();
    let notation = |slices: &[Slice]| Layout { form: Form::Unsigned, slices: slices.to_vec() }.notation();
    let within = |code: &&Code| code.layout.slices.iter().all(|slice| covered.iter().any(|other| slice.overlaps(*other)));
    let mut names: Vec<&str> = part.codes.of(&frame.codes).filter(within).map(|code| code.name.as_str()).collect();
    names.truncate(if frame.checks.len() > 1 { 4 } else { 0 });
    let names = if names.is_empty() { String::new() } else { format!(" ({})", names.join(", ")) };
    let outside = check.outside();
    let with = if outside.is_empty() { String::new() } else { format!(" with {}", outside.join(", ")) };
    Refusal::Check {
        frame: frame.name.clone(),
        method: check.method(),
        width: check.width(),
        expected: check.expected(bytes),
        found: check.found(bytes),
        over: format!("{}{with}{names}", notation(&covered)),
        place: notation(&check.place),
    }
}
