//! Modbus over TCP.

use std::io;
use std::net::{TcpStream, ToSocketAddrs};
use std::thread;
use std::time::{Duration, Instant};

use yemdo::bus::Transfer;
use yemdo::bus::modbus::{unwrap_rtu, with_crc};

use super::{Counts, MAX_PDU, Patience, Stream, again, is_echo, nothing_came, response_error, stream_error};
use crate::error::{BusError, Cause};
use crate::port::Port;

/// A Modbus TCP client. Requests come as RTU frames, as everywhere here, and answers go back so.
#[derive(Debug)]
pub struct TcpPort<S> {
    stream: S,
    transaction: u16,
    patience: Patience,
    counts: Counts,
    start: Instant,
    heard: Vec<u8>,
}

/// Connects to a Modbus TCP server.
///
/// # Errors
/// [`BusError`]: no such host, nobody listens, no answer in time.
pub fn connect(host: &str, port: u16, patience: Patience) -> Result<TcpPort<TcpStream>, BusError> {
    let what = format!("{host}:{port}");
    let addresses = (host, port)
        .to_socket_addrs()
        .map_err(|error| BusError::new(Cause::Gone, format!("there is no host `{host}`: {error}")).because(error))?;
    let mut last = None;
    for address in addresses {
        match TcpStream::connect_timeout(&address, patience.response.max(Duration::from_millis(200))) {
            Ok(stream) => {
                stream.set_nodelay(true).map_err(|error| stream_error(&what, error))?;
                return Ok(TcpPort::new(stream, patience));
            }
            Err(error) => last = Some(error),
        }
    }
    let error = last.unwrap_or_else(|| io::Error::from(io::ErrorKind::NotFound));
    let refused = error.kind() == io::ErrorKind::ConnectionRefused;
    let error = stream_error(&what, error);
    Err(if refused { error.help("nobody listens there: is the port right, usually 502?") } else { error })
}

impl<S: Stream> TcpPort<S> {
    /// A client over a connection.
    pub fn new(stream: S, patience: Patience) -> Self {
        Self { stream, transaction: 0, patience, counts: Counts::default(), start: Instant::now(), heard: Vec::new() }
    }

    /// What it has seen so far.
    pub fn counts(&self) -> Counts {
        self.counts
    }

    fn once(&mut self, send: &[u8]) -> Result<Vec<u8>, BusError> {
        self.counts.requests += 1;
        let failed = |error| stream_error("connection", error);
        let (unit, pdu) = unwrap_rtu(send).map_err(|error| response_error(0, error))?;
        self.transaction = self.transaction.wrapping_add(1);
        let length = u16::try_from(pdu.len() + 1).unwrap_or(u16::MAX).to_be_bytes();
        let [high, low] = self.transaction.to_be_bytes();
        let request = [&[high, low, 0, 0, length[0], length[1], unit], pdu].concat();
        self.stream.write_all(&request).and_then(|()| self.stream.flush()).map_err(failed)?;
        if unit == 0 {
            return Ok(Vec::new());
        }
        let end = Instant::now() + self.patience.response;
        let mut room = [0; 512];
        let asked = pdu.first().copied().unwrap_or(0);
        loop {
            while let Some(&[t1, t2, p1, p2, l1, l2, from]) = self.heard.first_chunk::<7>() {
                let length = usize::from(u16::from_be_bytes([l1, l2]));
                if [p1, p2] != [0, 0] || !(3..=MAX_PDU + 1).contains(&length) {
                    let count = self.heard.len();
                    self.heard.clear();
                    self.counts.discarded += count as u64;
                    return Err(BusError::new(Cause::Garbage, format!("{count} bytes came that are no Modbus TCP"))
                        .help("is this port a Modbus server, and not another service?"));
                }
                let Some(body) = self.heard.get(7..6 + length).map(<[u8]>::to_vec) else { break };
                self.heard.drain(..6 + length);
                // The answer to an earlier request, that came too late.
                if u16::from_be_bytes([t1, t2]) != self.transaction {
                    self.counts.discarded += (6 + length) as u64;
                    continue;
                }
                let function = body.first().copied().unwrap_or(0);
                if (from != unit && !is_echo(pdu, &body)) || function & 0x7F != asked {
                    self.counts.discarded += (6 + length) as u64;
                    return Err(BusError::new(
                        Cause::Garbage,
                        format!("unit {unit}, function {asked}: unit {from} answered function {function}"),
                    ));
                }
                return Ok(with_crc([&[from], body.as_slice()].concat()));
            }
            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                self.counts.time_outs += 1;
                return Err(BusError::new(
                    Cause::TimeOut,
                    format!("unit {unit}: no response in {} ms", self.patience.response.as_millis()),
                )
                .help("is the unit id right? Behind a gateway, is the unit there?"));
            }
            self.stream.set_time(left).map_err(failed)?;
            match self.stream.read(&mut room) {
                Ok(0) => return Err(BusError::new(Cause::Gone, "the server has closed the connection")),
                Ok(count) => self.heard.extend_from_slice(room.get(..count).unwrap_or(&[])),
                Err(error) if nothing_came(&error) => {}
                Err(error) => return Err(failed(error)),
            }
        }
    }
}

impl<S: Stream> Port for TcpPort<S> {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut left = self.patience.retries;
        loop {
            let done = self.once(&transfer.send);
            if !again(&done, &mut left, &mut self.counts) {
                return done;
            }
        }
    }

    fn wait(&mut self, micros: u64) {
        thread::sleep(Duration::from_micros(micros));
    }

    fn line(&mut self, _high: bool, _within: u64) -> Result<bool, BusError> {
        Err(BusError::new(Cause::Unsupported, "there is no data-ready line on Modbus"))
    }

    fn now(&mut self) -> u64 {
        self.start.elapsed().as_micros() as u64
    }
}
