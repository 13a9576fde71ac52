//! Modbus, the client's side: RTU over anything that reads and writes, and TCP.
//!
//! After the Modbus over Serial Line Specification V1.02 (framing, silence between frames: section 2.5.1) and the Modbus Messaging on
//! TCP/IP Implementation Guide V1.0b (the header: section 3.1.3). A damaged frame never becomes an answer: RTU frames are taken only where
//! unit, function, length and CRC fit, TCP frames only where the transaction does.

mod client;
mod rtu;
mod tcp;

use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use yemdo::bus::modbus::ResponseError;

use crate::error::{BusError, Cause};

pub use client::ModbusUnit;
pub use rtu::RtuPort;
pub use tcp::{TcpPort, connect};

/// Longest function and data of a request or response (Application Protocol V1.1b3, section 4.1).
pub const MAX_PDU: usize = 253;

/// A stream of bytes whose reads can be given a time.
pub trait Stream: Read + Write {
    /// Reads that follow give up after this time, with [`io::ErrorKind::TimedOut`] or [`io::ErrorKind::WouldBlock`].
    ///
    /// # Errors
    /// The stream cannot.
    fn set_time(&mut self, time: Duration) -> io::Result<()>;

    /// Another speed, where the stream is a line that has one.
    ///
    /// # Errors
    /// The line does not have it.
    fn set_speed(&mut self, baud: u32) -> io::Result<()> {
        let _ = baud;
        Ok(())
    }
}

impl Stream for TcpStream {
    fn set_time(&mut self, time: Duration) -> io::Result<()> {
        self.set_read_timeout(Some(time.max(Duration::from_millis(1))))
    }
}

impl<S: Stream + ?Sized> Stream for Box<S> {
    fn set_time(&mut self, time: Duration) -> io::Result<()> {
        (**self).set_time(time)
    }

    fn set_speed(&mut self, baud: u32) -> io::Result<()> {
        (**self).set_speed(baud)
    }
}

/// Any reader and writer whose reads never block for long: they give what is there, or an error that says there is nothing.
#[derive(Debug)]
pub struct Brisk<S>(pub S);

impl<S: Read> Read for Brisk<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.0.read(buffer)
    }
}

impl<S: Write> Write for Brisk<S> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl<S: Read + Write> Stream for Brisk<S> {
    fn set_time(&mut self, _time: Duration) -> io::Result<()> {
        Ok(())
    }
}

/// How a client waits and tries again.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// The longest time until a response is complete.
    pub response: Duration,
    /// How often a request is sent again where no good response came.
    pub retries: u32,
    /// The line gives back what is sent, as a two-wire line whose receiver is always on does.
    pub echo: bool,
}

impl Default for Patience {
    fn default() -> Self {
        Self { response: Duration::from_millis(1000), retries: 0, echo: false }
    }
}

/// What a client has seen so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Requests, those that were sent again included.
    pub requests: u64,
    /// Requests that were sent again.
    pub retries: u64,
    /// Requests without any response.
    pub time_outs: u64,
    /// Bytes that were thrown away: garbage, and answers that came too late.
    pub discarded: u64,
}

/// Whether a request is sent again: it failed for a moment, and there are tries left.
fn again(done: &Result<Vec<u8>, BusError>, left: &mut u32, counts: &mut Counts) -> bool {
    let wanted = *left > 0 && done.as_ref().is_err_and(|error| error.cause.is_transient());
    if wanted {
        *left -= 1;
        counts.retries += 1;
    }
    wanted
}

/// Whether nothing came in time.
fn nothing_came(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted)
}

/// An error of the stream.
fn stream_error(what: &str, error: io::Error) -> BusError {
    let cause = match error.kind() {
        io::ErrorKind::NotFound
        | io::ErrorKind::BrokenPipe
        | io::ErrorKind::ConnectionReset
        | io::ErrorKind::ConnectionAborted
        | io::ErrorKind::ConnectionRefused
        | io::ErrorKind::NotConnected
        | io::ErrorKind::UnexpectedEof => Cause::Gone,
        io::ErrorKind::PermissionDenied => Cause::NotPermitted,
        io::ErrorKind::TimedOut => Cause::TimeOut,
        _ => Cause::Other,
    };
    // What serial ports say once their device is unplugged.
    let cause = if matches!(error.raw_os_error(), Some(5 | 6 | 19)) { Cause::Gone } else { cause };
    BusError::new(cause, format!("{what}: {error}")).because(error)
}

/// How long a response with function and data is, by its first bytes; `None` where that cannot be said yet.
fn response_length(pdu: &[u8]) -> Option<usize> {
    let (function, rest) = pdu.split_first()?;
    match function {
        function if function & 0x80 != 0 => Some(2),
        1..=4 | 23 => rest.first().map(|count| usize::from(*count) + 2),
        5 | 6 | 15 | 16 => Some(5),
        22 => Some(7),
        _ => None,
    }
}

/// Whether a response repeats the request of a write: as it does, too, where the part has another unit id by then.
fn is_echo(request: &[u8], response: &[u8]) -> bool {
    let repeats = match request.first() {
        Some(5 | 6 | 15 | 16) => 5,
        Some(22) => 7,
        _ => return false,
    };
    request.get(..repeats).is_some_and(|head| head == response)
}

/// What a broken response is to us.
fn response_error(unit: u8, error: ResponseError) -> BusError {
    let cause = match error {
        ResponseError::Exception { code } => Cause::Exception(code),
        ResponseError::Crc { .. } => Cause::Check,
        _ => Cause::Garbage,
    };
    BusError::new(cause, format!("unit {unit}: {error}")).because(error)
}
