//! What comes from parts on a bus: operations, measurements, who was found.

use serde::Serialize;

use crate::bus::Operation;
use crate::ground::hex::to_hex;

/// A bus operation as it was done.
#[derive(Clone, Debug, Serialize)]
pub struct SeenView<'a> {
    /// Microseconds since the beginning.
    pub at_us: u64,
    /// What was done, as in a dry run.
    pub operation: OperationView,
    /// The bytes that came, in hex.
    pub answer: Option<String>,
    /// What went wrong.
    pub error: Option<String>,
    /// What it was for.
    pub meaning: &'a str,
}

/// A bus operation, done or to be done.
#[derive(Clone, Debug, Serialize)]
#[serde(untagged)]
pub enum OperationView {
    /// A transfer.
    Transfer {
        /// The bus.
        transfer: &'static str,
        /// The address or unit.
        address: Option<u8>,
        /// The bytes, in hex.
        send: String,
        /// Bytes that come back.
        receive: usize,
    },
    /// Another speed of the line.
    Baud {
        /// Bits a second.
        baud: u32,
    },
    /// A wait.
    Wait {
        /// How long.
        wait_us: u64,
    },
    /// The data-ready line.
    Line {
        /// The level.
        line: &'static str,
        /// The longest time.
        within_us: u64,
    },
}

impl From<&Operation> for OperationView {
    fn from(operation: &Operation) -> Self {
        match operation {
            Operation::Transfer(transfer) => OperationView::Transfer {
                transfer: transfer.bus.name(),
                address: transfer.address,
                send: to_hex(&transfer.send),
                receive: transfer.receive,
            },
            Operation::Wait(micros) => OperationView::Wait { wait_us: *micros },
            Operation::Baud(baud) => OperationView::Baud { baud: *baud },
            Operation::Line { high, within } => OperationView::Line { line: if *high { "high" } else { "low" }, within_us: *within },
        }
    }
}

/// A reading.
#[derive(Clone, Debug, Serialize)]
pub struct ReadingView<'a> {
    /// Its name.
    pub reading: &'a str,
    /// Its value; `null` where the status has none.
    pub value: Option<f64>,
    /// Its unit.
    pub unit: &'a str,
    /// Its status.
    pub status: &'static str,
}

impl<'a> From<&'a crate::ReadingValue> for ReadingView<'a> {
    fn from(reading: &'a crate::ReadingValue) -> Self {
        Self { reading: &reading.name, value: reading.value, unit: &reading.unit, status: reading.status.as_str() }
    }
}

/// Somebody who answers on a bus.
#[derive(Clone, Debug, Serialize)]
pub struct FoundView<'a> {
    /// The bus.
    pub bus: &'a str,
    /// The 7-bit I2C address, or the Modbus unit.
    pub address: u8,
    /// How it answered.
    pub answered: String,
    /// The speed of the line, where several are tried.
    pub baud: Option<u32>,
    /// Its parity.
    pub parity: Option<&'a str>,
    /// The sheets that it could be.
    pub candidates: Vec<CandidateView<'a>>,
}

/// A sheet that a part could be.
#[derive(Clone, Debug, Serialize)]
pub struct CandidateView<'a> {
    /// The part.
    pub part: &'a str,
    /// Whether it is; `null` where nobody knows.
    pub confirmed: Option<bool>,
    /// What speaks for it, or against.
    pub evidence: String,
}

/// A bus or port of the machine.
#[derive(Clone, Debug, Serialize)]
pub struct PlaceView<'a> {
    /// How it is written.
    pub place: &'a str,
    /// The device.
    pub device: &'a str,
    /// What it says of itself.
    pub about: &'a str,
}
