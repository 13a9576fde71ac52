//! Why a frame was refused.

use std::fmt;

use crate::modbus::ResponseError;

/// Why a frame was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Refusal {
    /// There is no frame of that index.
    UnknownFrame,
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
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Refusal::UnknownFrame => f.write_str("there is no such frame"),
            Refusal::Length { frame, expected, found } => {
                let what = if found < expected { "too short" } else { "too long" };
                write!(f, "{what}: {frame} has {expected} bytes, {found} came")
            }
            Refusal::Check { frame, method, width, expected, found } => {
                let digits = usize::try_from(width.div_ceil(4)).unwrap_or(2);
                write!(f, "{method} of {frame} failed: its bytes call for 0x{expected:0digits$X}, but 0x{found:0digits$X} came")
            }
            Refusal::Response(error) => error.fmt(f),
            Refusal::Blank { frame, byte } => {
                write!(f, "all bytes of {frame} are 0x{byte:02X}: the part did not answer, or was never calibrated")
            }
        }
    }
}

impl std::error::Error for Refusal {}
