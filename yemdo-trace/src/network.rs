//! Network captures (pcap, pcapng) of Modbus TCP.

use std::collections::{BTreeMap, VecDeque};
use std::io::BufRead;
use std::net::IpAddr;

use etherparse::{NetSlice, SlicedPacket, TransportSlice};
use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{Block, Linktype, PcapBlockOwned, PcapError, create_reader};

use yemdo::bus::modbus::with_crc;

use crate::capture::Item;
use crate::error::CaptureError;
use crate::rtu::pair;

/// One end of a connection.
type End = (IpAddr, u16);

/// Packets, and the Modbus messages in their connections.
pub(crate) struct Packets<R> {
    reader: Box<dyn PcapReaderIterator + Send>,
    port: u16,
    /// For each interface: link type, and units of time per second with their offset.
    interfaces: Vec<(Linktype, u64, i64)>,
    nanos: bool,
    streams: BTreeMap<(End, End), Stream>,
    /// Requests without a response, by client and server.
    pending: BTreeMap<(End, End), VecDeque<Request>>,
    origin: Option<f64>,
    packet: u64,
    ready: VecDeque<Item>,
    over: bool,
    other: u64,
    repeated: u64,
    lost: u64,
    last: u64,
    kind: std::marker::PhantomData<R>,
}

/// One direction of a connection.
#[derive(Debug, Default)]
struct Stream {
    next: Option<u32>,
    bytes: Vec<u8>,
    /// Segments that came too early.
    early: BTreeMap<u32, Vec<u8>>,
}

#[derive(Debug)]
struct Request {
    at: u64,
    transaction: u16,
    frame: Vec<u8>,
    packet: u64,
}

/// The most bytes of a direction that wait for a missing segment.
const MOST_EARLY: usize = 1 << 16;

/// Largest packet that is read.
const LARGEST: usize = 1 << 20;

/// The most requests of a connection without a response.
const MOST_PENDING: usize = 64;

/// Length of the header of a message (Modbus Messaging on TCP/IP V1.0b, section 3.1.3).
const HEADER: usize = 7;

impl<R: BufRead + Send> Packets<R> {
    pub(crate) fn open(input: R, port: u16) -> Result<Self, CaptureError>
    where
        R: 'static,
    {
        let reader = create_reader(LARGEST, input).map_err(|error| unreadable(&error))?;
        Ok(Self {
            reader,
            port,
            interfaces: Vec::new(),
            nanos: false,
            streams: BTreeMap::new(),
            pending: BTreeMap::new(),
            origin: None,
            packet: 0,
            ready: VecDeque::new(),
            over: false,
            other: 0,
            repeated: 0,
            lost: 0,
            last: 0,
            kind: std::marker::PhantomData,
        })
    }

    pub(crate) fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        loop {
            if let Some(item) = self.ready.pop_front() {
                return Ok(Some(item));
            }
            if self.over {
                return Ok(None);
            }
            self.next_block()?;
        }
    }

    fn next_block(&mut self) -> Result<(), CaptureError> {
        let (offset, packet) = match self.reader.next() {
            Ok((offset, block)) => {
                let packet = block_packet(&block, &mut self.interfaces, &mut self.nanos);
                (offset, packet)
            }
            Err(PcapError::Eof) => {
                self.over = true;
                self.abandon();
                return Ok(());
            }
            Err(PcapError::Incomplete(_)) => {
                return self.reader.refill().map_err(|error| unreadable(&error).at(self.packet + 1));
            }
            Err(error) => return Err(unreadable(&error).at(self.packet + 1)),
        };
        self.reader.consume(offset);
        if let Some((time, link, data)) = packet {
            self.packet += 1;
            let origin = *self.origin.get_or_insert(time);
            let at = ((time - origin) * 1e6).round().max(0.0) as u64;
            self.last = self.last.max(at);
            self.take(at, link, &data);
        }
        Ok(())
    }

    /// Requests that never got a response.
    fn abandon(&mut self) {
        for request in std::mem::take(&mut self.pending).into_values().flatten() {
            let (at, packet) = (request.at, request.packet);
            self.ready.push_back(Item::Transfer(pair(at, at, at, request.frame, Err("no response".into()), packet)));
        }
    }

    fn take(&mut self, at: u64, link: Linktype, data: &[u8]) {
        let sliced = match link {
            Linktype::ETHERNET => SlicedPacket::from_ethernet(data).ok(),
            Linktype::RAW | Linktype::IPV4 | Linktype::IPV6 => SlicedPacket::from_ip(data).ok(),
            Linktype::LINUX_SLL => SlicedPacket::from_linux_sll(data).ok(),
            // Loopback of BSD systems: the family before the packet.
            Linktype::NULL | Linktype::LOOP => data.get(4..).and_then(|data| SlicedPacket::from_ip(data).ok()),
            _ => None,
        };
        let addresses = sliced.as_ref().and_then(|sliced| match &sliced.net {
            Some(NetSlice::Ipv4(ip)) => Some((IpAddr::V4(ip.header().source_addr()), IpAddr::V4(ip.header().destination_addr()))),
            Some(NetSlice::Ipv6(ip)) => Some((IpAddr::V6(ip.header().source_addr()), IpAddr::V6(ip.header().destination_addr()))),
            _ => None,
        });
        let tcp = sliced.as_ref().and_then(|sliced| match &sliced.transport {
            Some(TransportSlice::Tcp(tcp)) => Some(tcp),
            _ => None,
        });
        let (Some((from, to)), Some(tcp)) = (addresses, tcp) else {
            self.other += 1;
            return;
        };
        let (from, to) = ((from, tcp.source_port()), (to, tcp.destination_port()));
        if from.1 != self.port && to.1 != self.port {
            self.other += 1;
            return;
        }
        let stream = self.streams.entry((from, to)).or_default();
        if tcp.syn() {
            *stream = Stream { next: Some(tcp.sequence_number().wrapping_add(1)), ..Stream::default() };
            return;
        }
        let fresh = stream.take(tcp.sequence_number(), tcp.payload());
        self.repeated += u64::from(!fresh && !tcp.payload().is_empty());
        self.lost += u64::from(stream.skip_lost());
        let mut messages = Vec::new();
        while let Some(message) = stream.message() {
            messages.push(message);
        }
        for message in messages {
            self.message(at, from, to, &message);
        }
    }

    /// A whole message: a request to the server's port, or a response from it.
    fn message(&mut self, at: u64, from: End, to: End, message: &[u8]) {
        let Some((header, pdu)) = message.split_at_checked(HEADER) else { return };
        let transaction = header.first_chunk::<2>().map_or(0, |bytes| u16::from_be_bytes(*bytes));
        let unit = header.last().copied().unwrap_or(0);
        let frame = with_crc([&[unit], pdu].concat());
        if to.1 == self.port {
            let queue = self.pending.entry((from, to)).or_default();
            // A new request before the response: the client gave up, or it is a retransmission of the application.
            queue.push_back(Request { at, transaction, frame, packet: self.packet });
            if queue.len() > MOST_PENDING {
                queue.pop_front();
            }
            return;
        }
        let queue = self.pending.entry((to, from)).or_default();
        let place = queue.iter().position(|request| request.transaction == transaction);
        match place.and_then(|place| queue.remove(place)) {
            Some(request) => {
                self.ready.push_back(Item::Transfer(pair(request.at, at, at, request.frame, Ok(frame), request.packet)));
            }
            None => self.ready.push_back(Item::damaged(at, "a response without its request".into(), message.to_vec(), self.packet)),
        }
    }

    pub(crate) fn understood(&self) -> String {
        format!("Modbus TCP on port {}", self.port)
    }

    pub(crate) fn notes(&self) -> Vec<String> {
        let text = |count: u64, what: &str| (count > 0).then(|| format!("{} {what}", yemdo::counted(count, "packet")));
        let others = text(self.other, &format!("of other traffic than TCP port {}", self.port));
        [others, text(self.repeated, "retransmitted"), text(self.lost, "missing")].into_iter().flatten().collect()
    }

    pub(crate) fn epoch(&self) -> Option<f64> {
        self.origin
    }
}

/// The packet in a block: its time in seconds, link type, and data.
fn block_packet(
    block: &PcapBlockOwned<'_>,
    interfaces: &mut Vec<(Linktype, u64, i64)>,
    nanos: &mut bool,
) -> Option<(f64, Linktype, Vec<u8>)> {
    match block {
        PcapBlockOwned::LegacyHeader(header) => {
            *nanos = header.is_nanosecond_precision();
            interfaces.push((header.network, 1, 0));
            None
        }
        PcapBlockOwned::Legacy(packet) => {
            let fraction = f64::from(packet.ts_usec) / if *nanos { 1e9 } else { 1e6 };
            let link = interfaces.first()?.0;
            Some((f64::from(packet.ts_sec) + fraction, link, packet.data.to_vec()))
        }
        PcapBlockOwned::NG(Block::SectionHeader(_)) => {
            interfaces.clear();
            None
        }
        PcapBlockOwned::NG(Block::InterfaceDescription(interface)) => {
            interfaces.push((interface.linktype, interface.ts_resolution().unwrap_or(1_000_000), interface.ts_offset()));
            None
        }
        PcapBlockOwned::NG(Block::EnhancedPacket(packet)) => {
            let (link, resolution, offset) = *interfaces.get(usize::try_from(packet.if_id).ok()?)?;
            let ticks = (u64::from(packet.ts_high) << 32) | u64::from(packet.ts_low);
            let length = usize::try_from(packet.caplen).ok()?.min(packet.data.len());
            let time = ticks as f64 / resolution.max(1) as f64 + offset as f64;
            Some((time, link, packet.data.get(..length)?.to_vec()))
        }
        PcapBlockOwned::NG(_) => None,
    }
}

impl Stream {
    /// Takes a segment. `false` if all of it came before.
    fn take(&mut self, sequence: u32, payload: &[u8]) -> bool {
        if payload.is_empty() {
            return true;
        }
        let next = *self.next.get_or_insert(sequence);
        let ahead = sequence.wrapping_sub(next).cast_signed();
        if ahead > 0 {
            self.early.insert(sequence, payload.to_vec());
            return true;
        }
        let known = ahead.unsigned_abs() as usize;
        let Some(fresh) = payload.get(known..).filter(|fresh| !fresh.is_empty()) else { return false };
        self.push(fresh);
        self.join_early();
        true
    }

    fn push(&mut self, fresh: &[u8]) {
        self.bytes.extend_from_slice(fresh);
        self.next = self.next.map(|next| next.wrapping_add(fresh.len() as u32));
    }

    fn join_early(&mut self) {
        while let Some(next) = self.next
            && let Some((sequence, payload)) = self.early.iter().find(|(sequence, _)| next.wrapping_sub(**sequence).cast_signed() >= 0)
        {
            let (sequence, known) = (*sequence, next.wrapping_sub(*sequence) as usize);
            let fresh = payload.get(known..).unwrap_or(&[]).to_vec();
            self.early.remove(&sequence);
            self.push(&fresh);
        }
    }

    /// Skips a missing segment if too many bytes wait for it.
    fn skip_lost(&mut self) -> bool {
        let waiting: usize = self.early.values().map(Vec::len).sum();
        let Some(first) = self.early.keys().next().copied().filter(|_| waiting > MOST_EARLY || self.early.len() > 64) else { return false };
        self.bytes.clear();
        self.next = Some(first);
        self.join_early();
        true
    }

    /// The next whole message. Bytes that are no header are dropped.
    fn message(&mut self) -> Option<Vec<u8>> {
        loop {
            let header = self.bytes.get(..HEADER)?;
            let protocol = header.get(2..4)? == [0, 0];
            let length = usize::from(u16::from_be_bytes([*header.get(4)?, *header.get(5)?]));
            if !protocol || !(2..=254).contains(&length) {
                self.bytes.remove(0);
                continue;
            }
            let whole = 6 + length;
            if self.bytes.len() < whole {
                return None;
            }
            return Some(self.bytes.drain(..whole).collect());
        }
    }
}

fn unreadable<E: std::fmt::Debug>(error: &PcapError<E>) -> CaptureError {
    let what = match error {
        PcapError::UnexpectedEof | PcapError::Incomplete(_) => "it is cut off".to_owned(),
        PcapError::BufferTooSmall => format!("a packet has more than {LARGEST} bytes"),
        PcapError::ReadError => "the file cannot be read".to_owned(),
        _ => "a block is damaged".to_owned(),
    };
    CaptureError::new(format!("the network capture cannot be read: {what}"))
}
