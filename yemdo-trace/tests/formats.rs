//! Captures in every format: waveforms are read as they were written, and damaged captures are refused with the likely reason.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::io::Cursor;

use etherparse::PacketBuilder;
use yemdo::bus::modbus::with_crc;
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo::stand_in::Random;
use yemdo::to_hex;
use yemdo_trace::edges::Parity;
use yemdo_trace::wave::{WaveOptions, WaveWriter};
use yemdo_trace::{Capture, CaptureError, CaptureOptions, Item, Role, Serial, parse_duration};

/// All items of a capture.
fn items(bytes: &[u8], options: &CaptureOptions) -> Result<Vec<Item>, CaptureError> {
    let mut capture = Capture::open(Cursor::new(bytes.to_vec()), options.clone())?;
    let mut found = Vec::new();
    while let Some(item) = capture.next_item()? {
        found.push(item);
    }
    Ok(found)
}

/// All transfers, as lines of a recording without their times.
fn lines(bytes: &[u8], options: &CaptureOptions) -> Vec<String> {
    let all = items(bytes, options).unwrap_or_else(|error| panic!("{error}; {:?}", error.help));
    let text = |item: &Item| match item {
        Item::Transfer(captured) => captured.transaction.traffic.to_string().split_once(' ').unwrap().1.to_owned(),
        Item::Damaged { why, bytes, .. } => format!("damaged: {why}: {}", to_hex(bytes)),
        Item::Frame { at, names, bytes, .. } => format!("{at} {}: {}", names.join(" "), to_hex(bytes)),
        other => panic!("{other:?}"),
    };
    all.iter().map(text).collect()
}

fn some_bytes(random: &mut Random, most: usize) -> Vec<u8> {
    (0..random.below(most) + 1).map(|_| random.below(256) as u8).collect()
}

fn traffic(at: u64, bus: Bus, address: Option<u8>, send: Vec<u8>, receive: usize, outcome: Result<Vec<u8>, String>) -> Traffic {
    Traffic { at, transfer: Transfer { bus, address, send, receive, restart: true, discard: false }, outcome }
}

/// Random transfers of a bus, and the lines that a capture of them has.
fn random_transfers(bus: Bus, random: &mut Random) -> (Vec<Traffic>, Vec<String>) {
    let mut all = Vec::new();
    for at in 0..40 {
        let at = at * 20_000;
        all.push(match bus {
            Bus::I2c => {
                let address = Some(random.below(0x78) as u8);
                let (send, came) = (some_bytes(random, 5), some_bytes(random, 9));
                match random.below(4) {
                    0 => traffic(at, bus, address, send, 0, Ok(Vec::new())),
                    1 => traffic(at, bus, address, Vec::new(), came.len(), Ok(came)),
                    2 => traffic(at, bus, address, Vec::new(), 1, Err("address not acknowledged".into())),
                    _ => traffic(at, bus, address, send, came.len(), Ok(came)),
                }
            }
            Bus::Spi => {
                let send = some_bytes(random, 9);
                let came = send.iter().map(|_| random.below(256) as u8).collect();
                traffic(at, bus, None, send, 0, Ok(came))
            }
            _ => {
                let (unit, count) = (random.below(247) as u8 + 1, random.below(4) as u8 + 1);
                let request = with_crc(vec![unit, 3, 0, random.below(90) as u8, 0, count]);
                let data: Vec<u8> = (0..count * 2).map(|_| random.below(256) as u8).collect();
                let response = with_crc([vec![unit, 3, count * 2], data].concat());
                let receive = response.len();
                traffic(at, bus, Some(unit), request, receive, Ok(response))
            }
        });
    }
    let text = |traffic: &Traffic| traffic.to_string().split_once(' ').unwrap().1.to_owned();
    let lines = all.iter().map(text).collect();
    (all, lines)
}

fn waveform(all: &[Traffic], bus: Bus, options: WaveOptions) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut writer = WaveWriter::new(&mut bytes, bus, options).unwrap();
    all.iter().for_each(|traffic| writer.transfer(traffic).unwrap());
    writer.finish().unwrap();
    drop(writer);
    bytes
}

#[test]
fn waveforms_are_read_as_they_were_written_in_all_modes() {
    let random = &mut Random::new(7);
    for hertz in [9_600, 100_000, 400_000, 3_400_000] {
        let (all, expected) = random_transfers(Bus::I2c, random);
        let bytes = waveform(&all, Bus::I2c, WaveOptions::new(hertz));
        assert_eq!(lines(&bytes, &CaptureOptions::default()), expected);
    }
    for (mode, lsb_first) in (0..4).flat_map(|mode| [(mode, false), (mode, true)]) {
        let (all, expected) = random_transfers(Bus::Spi, random);
        let mut options = WaveOptions::new(1_000_000);
        (options.mode, options.lsb_first) = (mode, lsb_first);
        let mut reading = CaptureOptions::default();
        (reading.mode, reading.lsb_first) = (mode, lsb_first);
        let bytes = waveform(&all, Bus::Spi, options);
        assert_eq!(lines(&bytes, &reading), expected, "mode {mode}, lsb first: {lsb_first}");
        // Wrong mode, other bytes.
        (reading.mode, reading.lsb_first) = (mode, !lsb_first);
        assert_ne!(lines(&bytes, &reading), expected);
    }
    for (baud, parity, stop_bits) in [(9_600, Parity::Even, 1), (19_200, Parity::None, 2), (115_200, Parity::Odd, 1)] {
        let (all, expected) = random_transfers(Bus::Modbus, random);
        let mut options = WaveOptions::new(1);
        options.serial = Serial::new(baud, parity, stop_bits);
        let mut reading = CaptureOptions::default();
        reading.serial = options.serial;
        assert_eq!(lines(&waveform(&all, Bus::Modbus, options), &reading), expected, "{baud} {parity:?}");
    }
}

#[test]
fn the_clock_is_measured_and_glitches_are_dropped() {
    let one = [traffic(0, Bus::I2c, Some(0x2C), vec![0x5A, 0x10], 0, Ok(Vec::new()))];
    let bytes = waveform(&one, Bus::I2c, WaveOptions::new(250_000));
    let found = items(&bytes, &CaptureOptions::default()).unwrap();
    let Item::Transfer(captured) = &found[0] else { panic!() };
    assert_eq!(captured.transaction.hertz, Some(250_000));
    assert_eq!((captured.transaction.traffic.at, captured.transaction.end), (1, 1 + 27 * 4 + 4));
    // A pulse on SCL between the bits, of 30 ns.
    let text = String::from_utf8(bytes).unwrap();
    let code = text.lines().find(|line| line.contains(" scl ")).unwrap().split_whitespace().nth(3).unwrap().to_owned();
    let (at, rest) = text.rsplit_once(&format!("\n1{code}\n")).unwrap();
    let time: u64 = at.rsplit('#').next().unwrap().lines().next().unwrap().parse().unwrap();
    let head = at.rsplit_once('#').unwrap().0;
    let glitch = format!("{head}#{}\n1{code}\n#{}\n0{code}\n#{time}\n1{code}\n{rest}", time - 300, time - 270);
    let mut options = CaptureOptions::default();
    assert_ne!(lines(glitch.as_bytes(), &options), lines(text.as_bytes(), &options));
    options.glitch = parse_duration("50 ns").unwrap();
    assert_eq!(lines(glitch.as_bytes(), &options), lines(text.as_bytes(), &options));
    let mut capture = Capture::open(Cursor::new(glitch.into_bytes()), options).unwrap();
    while capture.next_item().unwrap().is_some() {}
    assert_eq!(capture.notes(), ["1 glitch dropped"]);
}

#[test]
fn tables_of_levels_and_of_transfers() {
    let options = CaptureOptions::default();
    let levels = "Time [s],CLK,MOSI,MISO,CS\n0.0,0,0,0,1\n1e-6,0,1,0,0\n2e-6,1,1,0,0\n3e-6,0,0,1,0\n4e-6,1,0,1,0\n5e-6,0,0,0,0\n6e-6,1,0,0,0\n7e-6,0,0,0,0\n\
                  8e-6,1,0,0,0\n9e-6,0,0,0,0\n10e-6,1,0,0,0\n11e-6,0,0,0,0\n12e-6,1,0,0,0\n13e-6,0,0,0,0\n14e-6,1,0,0,0\n15e-6,0,1,1,0\n16e-6,1,1,1,0\n17e-6,0,0,0,0\n18e-6,0,0,0,1\n";
    assert_eq!(lines(levels.as_bytes(), &options), ["spi W 81 = 41"]);
    let hex = "time_ms;direction;address;data;ack\n0.1;write;0x2C;0x5A 0x10;ack\n15.9;Read;0x2C;89 87 1C;ack\n16;write;0x2D;00;nak\n";
    assert_eq!(lines(hex.as_bytes(), &options), ["i2c 0x2C W 5A 10", "i2c 0x2C R 3 = 89 87 1C", "i2c 0x2D W 00 ! not acknowledged"]);
    let grouped = "t/us,packet,addr,rw,byte\n1,0,0x2C,w,0x5A\n2,0,0x2C,w,0x10\n9,1,0x2C,r,0x89\n10,1,,r,0x87\n";
    assert_eq!(lines(grouped.as_bytes(), &options), ["i2c 0x2C W 5A 10", "i2c 0x2C R 2 = 89 87"]);
    let decimal = "time (s),dir,address,data\n0,w,0x2C,90 16\n0.1,r,0x2C,137 135\n";
    assert_eq!(lines(decimal.as_bytes(), &options), ["i2c 0x2C W 5A 10", "i2c 0x2C R 2 = 89 87"]);
    let exchanges = "time [s],mosi,miso,cs\n0,0x81 0x00,0x00 0x41,cs1\n0.5,01A2,,cs1\n";
    assert_eq!(lines(exchanges.as_bytes(), &options), ["spi W 81 00 = 00 41", "spi W 01 A2 = 00 00"]);
    let open = "time (s),dir,address,data\n0,w,0x2C,25 16\n";
    assert_eq!(complaint(open.as_bytes(), &options), "the numbers in `data` can be hex or decimal; say whether numbers are hex or decimal");
    let mut told = options.clone();
    told.columns.hex = Some(false);
    assert_eq!(lines(open.as_bytes(), &told), ["i2c 0x2C W 19 10"]);
    told.columns.named = vec![("data".into(), "what".into()), ("address".into(), "who".into())];
    told.columns.hex = Some(true);
    assert_eq!(lines(b"time (s),dir,who,what\n0,w,2c,1910\n", &told), ["i2c 0x2C W 19 10"]);
}

#[test]
fn events_of_the_kernel() {
    let text = "# tracer: nop\n#\n\
        yemdo-77  [000] .....  12.000100: i2c_write: i2c-1 #0 a=04e f=0000 l=1 [30]\n\
        yemdo-77  [000] .....  12.000100: i2c_read: i2c-1 #1 a=04e f=0001 l=2\n\
        yemdo-77  [000] .....  12.000400: i2c_reply: i2c-1 #1 a=04e f=0001 l=2 [4c-61]\n\
        yemdo-77  [000] .....  12.000400: i2c_result: i2c-1 n=2 ret=2\n\
        yemdo-77  [000] .....  12.001000: i2c_write: i2c-1 #0 a=02c f=0000 l=2 [5a-10]\n\
        yemdo-77  [000] .....  12.001200: i2c_result: i2c-1 n=1 ret=-6\n\
        yemdo-77  [000] .....  12.002000: smbus_read: i2c-2 a=035 f=0000 c=1b WORD_DATA\n\
        yemdo-77  [000] .....  12.002300: smbus_reply: i2c-2 a=035 f=0000 c=1b WORD_DATA l=2 [1c-86]\n\
        yemdo-77  [000] .....  12.002300: smbus_result: i2c-2 a=035 f=0000 c=1b WORD_DATA rd res=0\n\
        yemdo-77  [000] .....  12.003000: smbus_write: i2c-2 a=035 f=0000 c=22 BYTE_DATA l=1 [07]\n\
        yemdo-77  [000] .....  12.003100: i2c_write: i2c-2 #0 a=035 f=0000 l=2 [22-07]\n\
        yemdo-77  [000] .....  12.003200: i2c_result: i2c-2 n=1 ret=1\n\
        yemdo-77  [000] .....  12.003300: smbus_result: i2c-2 a=035 f=0000 c=22 BYTE_DATA wr res=0\n\
        yemdo-77  [000] .....  12.004000: spi_message_start: spi0.1 00000000c0ffee00\n\
        yemdo-77  [000] .....  12.004010: spi_transfer_start: spi0.1 00000000c0ffee00 len=1 tx=[b1] rx=[]\n\
        yemdo-77  [000] .....  12.004020: spi_transfer_stop: spi0.1 00000000c0ffee00 len=1 tx=[b1] rx=[]\n\
        yemdo-77  [000] .....  12.004030: spi_transfer_start: spi0.1 00000000c0ffee08 len=2 tx=[] rx=[00-00]\n\
        yemdo-77  [000] .....  12.004040: spi_transfer_stop: spi0.1 00000000c0ffee08 len=2 tx=[] rx=[12-34]\n\
        yemdo-77  [000] .....  12.004050: spi_message_done: spi0.1 00000000c0ffee00 len=3/3\n";
    let expected = [
        "i2c 0x4E W 30 R 2 = 4C 61",
        "i2c 0x2C W 5A 10 ! not acknowledged",
        "i2c 0x35 W 1B R 2 = 1C 86",
        "i2c 0x35 W 22 07",
        "spi W B1 00 00 = 00 12 34",
    ];
    assert_eq!(lines(text.as_bytes(), &CaptureOptions::default()), expected);
    let found = items(text.as_bytes(), &CaptureOptions::default()).unwrap();
    let Item::Transfer(last) = found.last().unwrap() else { panic!() };
    assert_eq!((last.transaction.traffic.at, last.select.as_deref()), (3_900, Some("spi0.1")));
}

#[test]
fn lines_that_a_board_prints() {
    let options = CaptureOptions::default();
    for (text, expected) in [
        ("[12.5] AIR -> 0x19 0xC0\nhello\n[13.75] AIR -> 0x1A 0xC0\n", vec!["0 AIR: 19 C0", "1250000 AIR: 1A C0"]),
        ("19C0\n1AC0\n", vec!["0 : 19 C0", "0 : 1A C0"]),
        (r"air: b'\x19\xc0A'", vec!["0 air: 19 C0 41"]),
        ("temp 25, 192\ntemp 26, 7\n", vec!["0 temp: 19 C0", "0 temp: 1A 07"]),
        ("08:00:01.5 probe [25, 192]\n08:00:02 probe [26, 193]\n", vec!["0 probe: 19 C0", "500000 probe: 1A C1"]),
        ("w 6592 104\nw 6593 40000\n", vec!["0 w: 19 C0 00 68", "0 w: 19 C1 9C 40"]),
        ("w 0x19C0 0x0068\n", vec!["0 w: 19 C0 00 68"]),
        ("a 19 C0\na 20 10\n", vec!["0 a: 19 C0", "0 a: 20 10"]),
    ] {
        assert_eq!(lines(text.as_bytes(), &options), expected, "{text}");
    }
    let either = "a 65 92\na 20 10\n";
    let asks = "the numbers can be hex or decimal; say whether numbers are hex or decimal";
    assert_eq!(complaint(either.as_bytes(), &options), asks);
    let mut told = options.clone();
    told.columns.hex = Some(false);
    assert_eq!(lines(either.as_bytes(), &told), ["0 a: 41 5C", "0 a: 14 0A"]);
    told.columns.hex = Some(true);
    assert_eq!(lines(either.as_bytes(), &told), ["0 a: 65 92", "0 a: 20 10"]);
    let mut modbus = CaptureOptions::default();
    modbus.modbus = true;
    let response = to_hex(&with_crc(vec![17, 4, 2, 0, 0xD7]));
    let frames = format!("TX 11 04 00 0A 00 01 13 58\nTX 11 04 00 0A 00 01 13 58\nRX {response}\n")
        + "TX 00 07 00 00 00 06 11 04 00 0A 00 01\nRX 00 07 00 00 00 03 11 84 02\nAIR 00 D7\n";
    assert_eq!(
        lines(frames.as_bytes(), &modbus),
        [
            "modbus 17 W 11 04 00 0A 00 01 13 58 R 1 ! no response".to_owned(),
            format!("modbus 17 W 11 04 00 0A 00 01 13 58 R 7 = {response}"),
            "modbus 17 W 11 04 00 0A 00 01 13 58 R 5 = 11 84 02 C3 04".to_owned(),
            "0 AIR: 00 D7".to_owned(),
        ]
    );
    let both = "some numbers can only be hex, and others only decimal; say whether numbers are hex or decimal";
    assert_eq!(complaint(b"a 125 192\na 19 C0\n", &options), both);
    // A later line does not fit.
    let later = format!("{}a 19 C0\n", "a 125 192\n".repeat(9000));
    let input = std::io::BufReader::with_capacity(1 << 16, Cursor::new(later.into_bytes()));
    let mut capture = Capture::open(input, options).unwrap();
    let error = loop {
        if let Err(error) = capture.next_item() {
            break error;
        }
    };
    assert_eq!(error.to_string(), "line 9001: `C0` is no byte here");
}

/// Packets of TCP between a client and a server, each with its time in microseconds.
fn packets(list: &[(u64, bool, u32, &[u8])]) -> Vec<(u64, Vec<u8>)> {
    let packet = |(at, to_server, sequence, payload): &(u64, bool, u32, &[u8])| {
        let (from, to) = if *to_server { ([10, 0, 0, 1], [10, 0, 0, 2]) } else { ([10, 0, 0, 2], [10, 0, 0, 1]) };
        let ports = if *to_server { (40_000, 502) } else { (502, 40_000) };
        let builder = PacketBuilder::ethernet2([2; 6], [4; 6]).ipv4(from, to, 64).tcp(ports.0, ports.1, *sequence, 1024).ack(1);
        let mut bytes = Vec::new();
        builder.write(&mut bytes, payload).unwrap();
        (*at, bytes)
    };
    list.iter().map(packet).collect()
}

/// pcap: magic, version 2.4, link type Ethernet.
fn pcap(packets: &[(u64, Vec<u8>)]) -> Vec<u8> {
    let mut file = Vec::new();
    file.extend(0xA1B2_C3D4u32.to_le_bytes());
    file.extend([2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    file.extend(65_535u32.to_le_bytes());
    file.extend(1u32.to_le_bytes());
    for (at, bytes) in packets {
        for word in [1_900_000_000 + (at / 1_000_000) as u32, (at % 1_000_000) as u32, bytes.len() as u32, bytes.len() as u32] {
            file.extend(word.to_le_bytes());
        }
        file.extend(bytes);
    }
    file
}

/// pcapng: section, interface with times in nanoseconds, enhanced packets.
fn pcapng(packets: &[(u64, Vec<u8>)]) -> Vec<u8> {
    let mut file = Vec::new();
    let mut block = |kind: u32, body: &[u8]| {
        let length = body.len() as u32 + 12;
        file.extend(kind.to_le_bytes());
        file.extend(length.to_le_bytes());
        file.extend(body);
        file.extend(length.to_le_bytes());
    };
    let section = [&0x1A2B_3C4Du32.to_le_bytes()[..], &[1, 0, 0, 0], &[0xFF; 8]].concat();
    block(0x0A0D_0D0A, &section);
    // Option 9, the resolution: 10^-9.
    let interface = [&[1, 0, 0, 0][..], &65_535u32.to_le_bytes(), &[9, 0, 1, 0, 9, 0, 0, 0], &[0; 4]].concat();
    block(1, &interface);
    for (at, bytes) in packets {
        let nanos = (1_900_000_000_000_000 + at) * 1000;
        let mut body = 0u32.to_le_bytes().to_vec();
        for word in [(nanos >> 32) as u32, nanos as u32, bytes.len() as u32, bytes.len() as u32] {
            body.extend(word.to_le_bytes());
        }
        body.extend(bytes);
        body.resize(body.len().next_multiple_of(4), 0);
        block(6, &body);
    }
    file
}

#[test]
fn modbus_in_network_captures() {
    let request: &[u8] = &[0, 7, 0, 0, 0, 6, 17, 4, 0, 10, 0, 2];
    let response: &[u8] = &[0, 7, 0, 0, 0, 7, 17, 4, 4, 0x12, 0x34, 0x56, 0x78];
    let late: &[u8] = &[0, 8, 0, 0, 0, 6, 17, 4, 0, 10, 0, 1];
    let lost: &[u8] = &[0, 9, 0, 0, 0, 6, 17, 4, 0, 10, 0, 1];
    let list = packets(&[
        (0, true, 100, &request[..5]),
        // The rest comes before it, and again after it.
        (1000, true, 108, &request[8..]),
        (1500, true, 105, &request[5..8]),
        (1600, true, 105, &request[5..8]),
        (5000, false, 500, response),
        (6000, true, 112, late),
        (7000, false, 500 + response.len() as u32, &[0, 8, 0, 0, 0, 3, 17, 0x84, 2]),
        (8000, true, 124, lost),
    ]);
    let rtu = |tcp: &[u8]| to_hex(&with_crc(tcp[6..].to_vec()));
    let expected = [
        format!("modbus 17 W {} R 9 = {}", rtu(request), rtu(response)),
        format!("modbus 17 W {} R 5 = 11 84 02 C3 04", rtu(late)),
        format!("modbus 17 W {} R 1 ! no response", rtu(lost)),
    ];
    for file in [pcap(&list), pcapng(&list)] {
        assert_eq!(lines(&file, &CaptureOptions::default()), expected);
        let mut capture = Capture::open(Cursor::new(file), CaptureOptions::default()).unwrap();
        let Some(Item::Transfer(first)) = capture.next_item().unwrap() else { panic!() };
        assert_eq!((first.transaction.traffic.at, first.transaction.end), (1500, 5000));
        assert_eq!(capture.epoch(), Some(1.9e9));
        while capture.next_item().unwrap().is_some() {}
        assert_eq!(capture.notes(), ["1 packet retransmitted"]);
    }
}

/// Message and help of a capture that cannot be read.
fn complaint(bytes: &[u8], options: &CaptureOptions) -> String {
    let error = items(bytes, options).expect_err("a capture that cannot be read");
    format!("{error}; {}", error.help.as_deref().unwrap_or_default())
}

#[test]
fn what_is_wrong_with_a_capture_is_said() {
    let options = CaptureOptions::default();
    let random = &mut Random::new(3);
    let (all, _) = random_transfers(Bus::I2c, random);
    let text = String::from_utf8(waveform(&all, Bus::I2c, WaveOptions::new(100_000))).unwrap();
    let exchanged = text.replace(" scl ", " x ").replace(" sda ", " scl ").replace(" x ", " sda ");
    assert_eq!(complaint(exchanged.as_bytes(), &options), "SCL and SDA are exchanged; say that scl is bus.sda and sda is bus.scl");
    let unnamed = text.replace(" scl ", " d0 ").replace(" sda ", " d1 ");
    let help = "name the lines: scl and sda, or clk, mosi, miso and cs, or tx and rx";
    assert_eq!(complaint(unnamed.as_bytes(), &options), format!("these lines are no bus: bus.d0, bus.d1; {help}"));
    let mut named = options.clone();
    named.lines = vec![(Role::Scl, "d0".into()), (Role::Sda, "d1".into())];
    assert_eq!(lines(unnamed.as_bytes(), &named), lines(text.as_bytes(), &options));
    named.lines = vec![(Role::Scl, "d7".into())];
    assert_eq!(complaint(unnamed.as_bytes(), &named), "there is no line `d7` in the capture; it has bus.d0, bus.d1");

    let (all, _) = random_transfers(Bus::Modbus, random);
    let serial = waveform(&all, Bus::Modbus, WaveOptions::new(1));
    let mut slow = options.clone();
    slow.serial = Serial::new(9_600, Parity::Even, 1);
    let told = complaint(&serial, &slow);
    assert!(told.ends_with("the shortest pulse is a bit at 19200 baud"), "{told}");

    for (bytes, expected) in [
        (&b""[..], "the capture is empty; "),
        (b"\x1f\x8b\x08rest", "this is no capture but a compressed file; decompress it first"),
        (b"\xff\xfea\0", "this is no capture but text in UTF-16; save it as UTF-8"),
        (b"time,scl,sda\n0,1,1\n", "the column `time` has no unit of time; give the unit of time, or put it into the heading: `time [s]`"),
        (b"time [s],scl,sda\n0,1,1\n1,0,x\n", "line 3: `x` is no level; expected 0 or 1"),
        (b"time [s],scl,sda\n1,1,1\n0.5,0,1\n", "line 3: the time goes back to 0.5; "),
        (b"time [s],dir,address,data\n0,w,0x58,0x01\n0,w,0x98,0x01\n", "line 3: `0x98` is no 7-bit address; its 7-bit form is 0x4C"),
        (b"# yemdo traffic 1\n0.1 i2c 0x2C X\n", "line 2: expected W, R, = or !, not `X`; "),
    ] {
        assert_eq!(complaint(bytes, &options), expected);
    }
}

#[test]
fn damaged_captures_end_with_an_error_or_fewer_transfers() {
    let random = &mut Random::new(11);
    let (all, _) = random_transfers(Bus::I2c, random);
    let wave = waveform(&all[..6], Bus::I2c, WaveOptions::new(100_000));
    let net = pcap(&packets(&[(0, true, 1, &[0, 7, 0, 0, 0, 6, 17, 4, 0, 10, 0, 2]), (9, false, 1, &[0, 7, 0, 0, 0, 3, 17, 0x84, 2])]));
    let table = b"time [s],dir,address,data\n0,w,0x2C,0x01\n1,r,0x2C,0x01 0x02\n".to_vec();
    let kernel = b"# tracer: nop\n yemdo-7 [000] ..... 12.000100: i2c_write: i2c-1 #0 a=04e f=0000 l=1 [30]\n yemdo-7 [000] ..... 12.000400: i2c_result: i2c-1 n=1 ret=1\n\
        yemdo-7 [000] ..... 12.002: spi_transfer_stop: spi0.1 c0 len=2 tx=[b1-00] rx=[]\n yemdo-7 [000] ..... 12.1: smbus_read: i2c-2 a=035 f=0000 c=1b WORD_DATA\n"
        .to_vec();
    let printed = b"[12.5] AIR -> 0x19 0xC0\n08:00:01 b'\\x19\\xc0' [25, 192] 6592\n".to_vec();
    let levels = b"Time [s],CLK,MOSI,MISO,CS,tx\n0.0,0,0,0,1,1\n1e-6,0,1,0,0,0\n2e-6,1,1,0,0,1\n".to_vec();
    // `CASES=100000` runs it at length.
    let cases = std::env::var("CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(400);
    for whole in [wave, net, table, kernel, printed, levels] {
        for _ in 0..cases {
            let mut bytes = whole.clone();
            bytes.truncate(random.below(whole.len() + 1));
            for _ in 0..random.below(4) {
                let length = bytes.len();
                if let Some(byte) = bytes.get_mut(random.below(length.max(1))) {
                    *byte = random.below(256) as u8;
                }
            }
            let _ = items(&bytes, &CaptureOptions::default());
        }
    }
}
