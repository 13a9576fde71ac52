//! Modbus with an implementation that nobody here wrote: our client against its server, its client against our servers, over TCP and
//! over a pseudo-terminal; and what a client does on a bad line.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::future;
use std::io::{self, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use tokio_modbus::prelude::*;
use tokio_modbus::server::Service;
use yemdo::bus::Bus;
use yemdo::bus::modbus::with_crc;
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo::{Part, Status};
use yemdo_bus::modbus::{Brisk, ModbusUnit, Patience, RtuPort, Stream, TcpPort, connect};
use yemdo_bus::{Cause, Device, DeviceError, Rig, serve_rtu, serve_tcp};

fn sheet() -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets/garboard-rs.toml");
    Part::parse("garboard-rs", &fs::read_to_string(path).unwrap()).unwrap()
}

fn rig() -> Rig {
    let part = sheet();
    let mut stand_in = StandIn::new(&part, 1).unwrap();
    stand_in.set(part.reading("supply").unwrap(), Signal::constant(19.5)).unwrap();
    stand_in.set(part.reading("flow").unwrap(), Signal::constant(812.5)).unwrap();
    let rig = Rig::new();
    rig.add(stand_in);
    rig
}

const LOOPBACK: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(Ipv4Addr::LOCALHOST), 0);

fn brief(retries: u32) -> Patience {
    Patience { response: Duration::from_millis(150), retries, ..Patience::default() }
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap()
}

/// Their server: input registers as the point list's example has them, holding registers that remember.
struct Theirs {
    holding: std::sync::Mutex<[u16; 8]>,
}

impl Service for Theirs {
    type Request = SlaveRequest<'static>;
    type Response = Response;
    type Exception = ExceptionCode;
    type Future = future::Ready<Result<Response, ExceptionCode>>;

    fn call(&self, request: SlaveRequest<'static>) -> Self::Future {
        let input = [0x0003, 0x00D7, 0xFFDA, 0x11A0, 0x5000, 0x449A, 0x0074, 0xCBB1];
        let mut holding = self.holding.lock().unwrap();
        future::ready(match request.request {
            Request::ReadInputRegisters(10, 8) => Ok(Response::ReadInputRegisters(input.to_vec())),
            Request::ReadHoldingRegisters(start @ 100..108, count) => {
                Ok(Response::ReadHoldingRegisters(holding[usize::from(start - 100)..][..usize::from(count)].to_vec()))
            }
            Request::WriteSingleRegister(at @ 100..108, value) => {
                holding[usize::from(at - 100)] = value;
                Ok(Response::WriteSingleRegister(at, value))
            }
            Request::ReadInputRegisters(..) | Request::ReadHoldingRegisters(..) => Err(ExceptionCode::IllegalDataAddress),
            _ => Err(ExceptionCode::IllegalFunction),
        })
    }
}

#[test]
fn our_client_and_their_server() {
    let (told, address) = std::sync::mpsc::channel();
    thread::spawn(move || {
        runtime().block_on(async {
            let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
            told.send(listener.local_addr().unwrap()).unwrap();
            let server = tokio_modbus::server::tcp::Server::new(listener);
            let service = |stream, _| async {
                Ok(Some((std::sync::Arc::new(Theirs { holding: std::sync::Mutex::new([180, 0xFFCE, 0, 0, 0, 0, 0, 0]) }), stream)))
            };
            server.serve(&service, |error| panic!("{error}")).await.unwrap();
        });
    });
    let port = connect("127.0.0.1", address.recv().unwrap().port(), Patience::default()).unwrap();
    let mut device = Device::new(port, sheet(), Bus::Modbus).unwrap();
    let air = device.measure().unwrap();
    let shown = |name: &str| air.reading(name).unwrap().to_string();
    assert_eq!((shown("supply").as_str(), shown("outside").as_str()), ("21.5 °C", "-3.8 °C"));
    assert_eq!((air.reading("flow").unwrap().status, shown("operated").as_str()), (Status::Alert, "127572.02 h"));
    let done = device.configure(&["wanted_supply=21.5 °C"]).unwrap();
    assert_eq!((done.writes.len(), device.read_register("WANTED").unwrap()), (1, 215));
    // What it does not have is an exception, by its name.
    let error = device.read_frame("ALARMS").unwrap_err();
    assert_eq!(error.to_string(), "the part answered with exception 1: ILLEGAL FUNCTION");
}

async fn their_client(mut client: tokio_modbus::client::Context) {
    assert_eq!(client.read_input_registers(10, 2).await.unwrap().unwrap(), [0x0001, 195]);
    client.write_single_register(100, 205).await.unwrap().unwrap();
    client.write_multiple_registers(100, &[206, 0xFFF6]).await.unwrap().unwrap();
    assert_eq!(client.read_holding_registers(100, 2).await.unwrap().unwrap(), [206, 0xFFF6]);
    client.masked_write_register(100, 0xFF00, 0x0012).await.unwrap().unwrap();
    assert_eq!(client.read_write_multiple_registers(100, 1, 101, &[7]).await.unwrap().unwrap(), [0x0012]);
    assert_eq!(client.read_coils(0, 10).await.unwrap().unwrap()[..4], [true, false, true, false]);
    client.write_single_coil(1, true).await.unwrap().unwrap();
    client.write_multiple_coils(2, &[false, true]).await.unwrap().unwrap();
    assert_eq!(client.read_coils(0, 4).await.unwrap().unwrap(), [true, true, false, true]);
    assert_eq!(client.read_discrete_inputs(0, 4).await.unwrap().unwrap().len(), 4);
    assert_eq!(client.read_input_registers(500, 1).await.unwrap(), Err(ExceptionCode::IllegalDataAddress));
    assert_eq!(client.write_single_register(105, 1).await.unwrap(), Err(ExceptionCode::IllegalDataAddress));
}

#[test]
fn their_client_and_our_tcp_server() {
    let server = serve_tcp(&rig(), LOOPBACK).unwrap();
    runtime().block_on(async {
        their_client(tcp::connect_slave(server.address(), Slave(17)).await.unwrap()).await;
    });
    assert!(server.requests() >= 13);
}

/// Copies between a serial port and a socket, for software that knows only sockets.
fn bridged(path: &Path) -> tokio::net::UnixStream {
    let (near, far) = std::os::unix::net::UnixStream::pair().unwrap();
    let open = || fs::OpenOptions::new().read(true).write(true).open(path).unwrap();
    let (mut to, mut from, mut far_in, mut far_out) = (open(), open(), far.try_clone().unwrap(), far);
    thread::spawn(move || io::copy(&mut far_in, &mut to));
    thread::spawn(move || {
        let mut room = [0; 256];
        while let Ok(count) = from.read(&mut room) {
            if far_out.write_all(&room[..count]).is_err() {
                return;
            }
        }
    });
    near.set_nonblocking(true).unwrap();
    tokio::net::UnixStream::from_std(near).unwrap()
}

#[test]
fn their_client_and_our_rtu_server_on_a_terminal() {
    let terminal = serve_rtu(&rig()).unwrap();
    runtime().block_on(async {
        their_client(tokio_modbus::client::rtu::attach_slave(bridged(terminal.path()), Slave(17))).await;
    });
    // Our own client, through a serial port.
    let terminal = serve_rtu(&rig()).unwrap();
    let line = yemdo_bus::linux::open_serial(&terminal.path().display().to_string(), 19_200, "none", 1, false).unwrap();
    let mut device = Device::new(RtuPort::new(line, 19_200, Patience::default()), sheet(), Bus::Modbus).unwrap();
    assert_eq!(device.measure().unwrap().reading("supply").unwrap().to_string(), "19.5 °C");
    // Another unit is nobody.
    let mut foreign = Device::new(RtuPort::new(Brisk(Line::default()), 19_200, brief(0)), sheet().with_unit(3), Bus::Modbus).unwrap();
    assert_eq!(foreign.measure().unwrap_err().cause(), "time-out");
}

/// The functions as methods: against our server over TCP and against a stand-in, and what it says of responses that do not fit.
#[test]
fn every_function_is_a_method() {
    let server = serve_tcp(&rig(), LOOPBACK).unwrap();
    let over_tcp = connect("127.0.0.1", server.address().port(), Patience::default()).unwrap();
    let ports: [Box<dyn yemdo_bus::Port>; 2] = [Box::new(over_tcp), Box::new(rig().port(0, Bus::Modbus))];
    for port in ports {
        let mut unit = ModbusUnit::new(port, 17);
        assert_eq!(unit.read_input(10, 2).unwrap(), [1, 195]);
        unit.write_registers(100, &[205]).unwrap();
        unit.write_registers(100, &[206, 0xFFF6]).unwrap();
        assert_eq!(unit.read_holding(100, 2).unwrap(), [206, 0xFFF6]);
        unit.mask_write(100, 0xFF00, 0x0012).unwrap();
        assert_eq!(unit.read_write(100, 1, 101, &[7]).unwrap(), [0x0012]);
        unit.write_coils(1, &[true]).unwrap();
        unit.write_coils(2, &[false, true]).unwrap();
        assert_eq!(unit.read_coils(0, 4).unwrap(), [true, true, false, true]);
        assert_eq!(unit.read_discrete(0, 4).unwrap(), [false; 4]);
        assert_eq!(unit.read_input(500, 1).unwrap_err().cause, Cause::Exception(2));
        // What no request can hold is never sent.
        for error in [
            unit.read_holding(0, 126).unwrap_err(),
            unit.read_coils(0, 0).unwrap_err(),
            unit.write_registers(0, &[]).unwrap_err(),
            unit.write_coils(0, &[true; 1969]).unwrap_err(),
            unit.read_write(0, 1, 0, &[0; 122]).unwrap_err(),
        ] {
            assert_eq!(error.cause, Cause::Unsupported, "{error}");
        }
        // All units at once: nobody answers.
        let mut all = ModbusUnit::new(unit.into_port(), 0);
        all.write_registers(100, &[99]).unwrap();
        assert_eq!(ModbusUnit::new(all.into_port(), 17).read_holding(100, 1).unwrap(), [99]);
    }
    for (answer, cause) in [
        (with_crc(vec![17, 3, 4, 0, 1, 0, 2]), Cause::Garbage),
        (with_crc(vec![17, 3, 2, 0]), Cause::TimeOut),
        (with_crc(vec![17, 0x83, 4]), Cause::Exception(4)),
    ] {
        let mut unit = ModbusUnit::new(RtuPort::new(Line::with(&[&answer]), 115_200, brief(0)), 17);
        let found = unit.read_holding(100, 1).unwrap_err();
        assert!(found.cause == cause || cause == Cause::TimeOut && found.cause == Cause::Garbage, "{answer:02X?}: {found}");
    }
    // A write that is echoed otherwise is none.
    let echo = with_crc(vec![17, 6, 0, 100, 0, 9]);
    let mut unit = ModbusUnit::new(RtuPort::new(Line::with(&[&echo]), 115_200, brief(0)), 17);
    assert_eq!(unit.write_registers(100, &[8]).unwrap_err().cause, Cause::Garbage);
}

/// A line whose answers are given beforehand: what comes after each request.
#[derive(Debug, Default)]
struct Line {
    speeds: Vec<u32>,
    answers: std::collections::VecDeque<Vec<u8>>,
    pending: Vec<u8>,
    sent: Vec<Vec<u8>>,
}

impl Line {
    fn with(answers: &[&[u8]]) -> Self {
        Self { answers: answers.iter().map(|answer| answer.to_vec()).collect(), ..Self::default() }
    }
}

impl Read for Line {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.pending.is_empty() {
            return Err(io::ErrorKind::WouldBlock.into());
        }
        // It trickles.
        let count = self.pending.len().min(3).min(buffer.len());
        buffer[..count].copy_from_slice(&self.pending[..count]);
        self.pending.drain(..count);
        Ok(count)
    }
}

impl Write for Line {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.sent.push(bytes.to_vec());
        self.pending.extend(self.answers.pop_front().unwrap_or_default());
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Stream for Line {
    fn set_time(&mut self, _: Duration) -> io::Result<()> {
        Ok(())
    }

    fn set_speed(&mut self, baud: u32) -> io::Result<()> {
        self.speeds.push(baud);
        Ok(())
    }
}

/// What the part does, its answers, and as which unit it is known then, or what failed.
type Moved<'a> = (&'a str, Vec<Vec<u8>>, Result<u8, &'a str>);

/// A part that is given another unit id answers as the old one, as the new one, or not at all; and it may not have taken it.
#[test]
fn a_part_is_found_after_its_unit_or_its_speed_has_changed() {
    let reads = |unit: u8, value: u8| with_crc(vec![unit, 3, 2, 0, value]);
    let repeats = |unit: u8, value: u8| with_crc(vec![unit, 6, 0, 130, 0, value]);
    let (was, old, new) = (reads(17, 17), repeats(17, 23), repeats(23, 23));
    let cases: [Moved<'_>; 5] = [
        ("answers as the old one", vec![was.clone(), old, reads(23, 23)], Ok(23)),
        ("answers as the new one", vec![was.clone(), new, reads(23, 23)], Ok(23)),
        ("does not answer", vec![was.clone(), vec![], reads(23, 23)], Ok(23)),
        ("takes it after a restart", vec![was.clone(), repeats(17, 23), vec![], reads(17, 23)], Ok(17)),
        ("did not take it", vec![was, vec![], vec![], reads(17, 17)], Err("write not taken")),
    ];
    for (what, answers, ends) in cases {
        let answers: Vec<&[u8]> = answers.iter().map(Vec::as_slice).collect();
        let mut device = Device::new(RtuPort::new(Line::with(&answers), 115_200, brief(0)), sheet(), Bus::Modbus).unwrap();
        let done = device.configure(&["UNIT=23"]);
        let unit = device.part().buses().modbus.as_ref().unwrap().unit;
        match (done, ends) {
            (Ok(_), Ok(expected)) => assert_eq!(unit, Some(expected), "{what}"),
            (Err(error), Err(cause)) => assert_eq!(error.cause(), cause, "{what}: {error}"),
            (done, ends) => panic!("{what}: {done:?}, not {ends:?}"),
        }
        let sent = &device.port_mut().stream_mut().sent;
        let asked: Vec<u8> = sent.iter().map(|request| request[0]).collect();
        assert_eq!(asked[..3], [17, 17, 23], "{what}");
    }
    // Another speed: it is compared there, and looked for at the old one.
    let speed = |unit: u8, value: u8| with_crc(vec![unit, 3, 2, 0, value]);
    let wrote = with_crc(vec![17, 6, 0, 132, 0, 6]);
    for (answers, speeds, good) in [
        (vec![speed(17, 4), wrote.clone(), speed(17, 6)], &[57_600][..], true),
        (vec![speed(17, 4), vec![], speed(17, 6)], &[57_600], true),
        (vec![speed(17, 4), wrote, vec![], speed(17, 4)], &[57_600, 19_200], false),
    ] {
        let answers: Vec<&[u8]> = answers.iter().map(Vec::as_slice).collect();
        let mut device = Device::new(RtuPort::new(Line::with(&answers), 19_200, brief(0)), sheet(), Bus::Modbus).unwrap();
        assert_eq!(device.configure(&["SPEED=57600"]).is_ok(), good);
        assert_eq!(device.port_mut().stream_mut().speeds, speeds);
    }
    // A stand-in is the new unit from then on; so is whoever talks to it.
    let rig = rig();
    let mut device = Device::new(rig.port(0, Bus::Modbus), sheet(), Bus::Modbus).unwrap();
    device.measure().unwrap();
    device.configure(&["UNIT=42"]).unwrap();
    assert_eq!(device.measure().unwrap().reading("supply").unwrap().to_string(), "19.5 °C");
    assert_eq!(rig.with_part(0, |part| part.unit()), Some(Some(42)));
    let mut late = Device::new(rig.port(0, Bus::Modbus), sheet(), Bus::Modbus).unwrap();
    assert_eq!(late.measure().unwrap_err().cause(), "time-out");
    assert_eq!(rig.verdict(), []);
}

/// What it is, what comes, how often it is tried again, and how it ends.
type Case<'a> = (&'a str, Vec<&'a [u8]>, Patience, Result<u64, &'a str>);

#[test]
fn a_bad_line_never_makes_a_reading() {
    let good = with_crc([&[17, 4, 16][..], &[0, 3, 0, 215, 0xFF, 0xDA, 0x11, 0xA0, 0x50, 0, 0x44, 0x9A, 0, 0x74, 0xCB, 0xB1]].concat());
    let request = with_crc(vec![17, 4, 0, 10, 0, 8]);
    let mut flipped = good.clone();
    flipped[5] ^= 4;
    let other_unit = with_crc([&[18, 4, 16][..], &[0; 16]].concat());
    let noisy = [&[0xFF, 0x11, 0x00][..], &good].concat();
    let echoed = [request.as_slice(), &good].concat();
    let cases: [Case<'_>; 9] = [
        ("good", vec![&good], brief(0), Ok(0)),
        ("nothing", vec![&[]], brief(0), Err("time-out")),
        ("nothing, then good", vec![&[], &good], brief(1), Ok(1)),
        ("a flipped bit", vec![&flipped], brief(0), Err("garbage")),
        ("a flipped bit, then good", vec![&flipped, &good], brief(2), Ok(1)),
        ("another unit", vec![&other_unit], brief(0), Err("garbage")),
        ("noise before it", vec![&noisy], brief(0), Ok(0)),
        ("cut off", vec![&good[..9]], brief(0), Err("garbage")),
        ("its own echo", vec![&echoed], Patience { echo: true, ..brief(0) }, Ok(0)),
    ];
    for (what, answers, patience, expected) in cases {
        let mut device = Device::new(RtuPort::new(Line::with(&answers), 115_200, patience), sheet(), Bus::Modbus).unwrap();
        let found = device.measure();
        let counts = device.port_mut().counts();
        match (found, expected) {
            (Ok(air), Ok(retries)) => {
                assert_eq!((air.reading("supply").unwrap().to_string().as_str(), counts.retries), ("21.5 °C", retries), "{what}");
            }
            (Err(error), Err(cause)) => assert_eq!(error.cause(), cause, "{what}: {error}"),
            (found, expected) => panic!("{what}: {found:?}, not {expected:?}"),
        }
    }
    // An answer that comes too late is thrown away before the next question.
    let mut late = Line::with(&[&[], &good]);
    late.pending.extend(&flipped);
    let mut device = Device::new(RtuPort::new(late, 115_200, brief(1)), sheet(), Bus::Modbus).unwrap();
    device.measure().unwrap();
    assert_eq!(device.port_mut().counts().discarded, flipped.len() as u64);
    // A broadcast waits for nobody.
    let mut device = Device::new(RtuPort::new(Line::default(), 115_200, brief(0)), sheet().with_unit(0), Bus::Modbus).unwrap();
    assert_eq!(device.raw(&[6, 0, 100, 0, 1], 0).unwrap(), []);
}

#[test]
fn a_late_answer_over_tcp_is_told_by_its_transaction() {
    let rig = rig();
    rig.set_faults(0, Faults::none().at(0, Fault::LateAnswer).at(3, Fault::LostAnswer));
    let server = serve_tcp(&rig, LOOPBACK).unwrap();
    let patience = Patience { response: Duration::from_millis(1000), retries: 1, echo: false };
    let port = connect("127.0.0.1", server.address().port(), patience).unwrap();
    let mut device = Device::new(port, sheet(), Bus::Modbus).unwrap();
    let begin = Instant::now();
    assert_eq!(device.measure().unwrap().reading("supply").unwrap().to_string(), "19.5 °C");
    let counts = device.port_mut().counts();
    assert_eq!((counts.retries, counts.time_outs, counts.discarded > 0), (1, 1, true));
    device.measure().unwrap();
    device.measure().unwrap();
    assert!(begin.elapsed() < Duration::from_secs(8));
}

/// Peers that send rubbish, trickle, or hang up.
#[test]
fn peers_that_misbehave() {
    for (bytes, cause) in [
        (&b"220 ready\r\n"[..], Cause::Garbage),
        (&[0, 1, 0, 0, 0xFF, 0xFF, 17][..], Cause::Garbage),
        (&[0, 1, 0, 0, 0, 3, 17, 0x84, 0x06][..], Cause::Exception(6)),
        (&[0, 1][..], Cause::Gone),
    ] {
        let listener = TcpListener::bind(LOOPBACK).unwrap();
        let address = listener.local_addr().unwrap();
        let bytes = bytes.to_vec();
        let peer = thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut request = [0; 12];
            stream.read_exact(&mut request).unwrap();
            stream.write_all(&bytes).unwrap();
        });
        let port = TcpPort::new(TcpStream::connect(address).unwrap(), brief(0));
        let mut device = Device::new(port, sheet(), Bus::Modbus).unwrap();
        let error = device.measure().unwrap_err();
        match (&error, cause) {
            (DeviceError::Bus { error, .. }, cause) => assert_eq!(error.cause, cause, "{error}"),
            (error, Cause::Exception(_)) => {
                assert_eq!(error.to_string(), "measure, step in line 113: the part answered with exception 6: SERVER DEVICE BUSY")
            }
            _ => panic!("{error}"),
        }
        peer.join().unwrap();
    }
    let error = connect("127.0.0.1", 1, brief(0)).unwrap_err();
    assert_eq!((error.cause, error.to_try()), (Cause::Gone, Some("nobody listens there: is the port right, usually 502?")));
    // What a server is sent that is no Modbus ends that connection alone.
    let server = serve_tcp(&rig(), LOOPBACK).unwrap();
    let mut rude = TcpStream::connect(server.address()).unwrap();
    rude.write_all(b"GET / HTTP/1.1\r\n\r\n").unwrap();
    assert_eq!(rude.read(&mut [0; 8]).unwrap(), 0);
    let mut device =
        Device::new(connect("127.0.0.1", server.address().port(), Patience::default()).unwrap(), sheet(), Bus::Modbus).unwrap();
    device.measure().unwrap();
}
