//! Every bus in both directions: what fits, what is sent, what the far end makes of it, how long it takes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::Part;
use yemdo::bus::modbus::{
    AddressRange, ModbusRequest, ModbusTable, ResponseError, exception_response, parse_request, read_request, read_response, response,
    write_request,
};
use yemdo::bus::{AnswerError, Bus, Received, Transfer, Wire, share_bus};

/// A part on all buses. Registers are addressed in any way that a sheet can say.
fn on(buses: &str) -> Part {
    Part::parse("p.toml", &format!("part = \"p\"\n{buses}\n")).unwrap_or_else(|error| panic!("{buses}: {error}"))
}

fn complaint(sheet: &str) -> String {
    Part::parse("p.toml", &format!("part = \"p\"\n{sheet}")).expect_err(sheet).to_string()
}

/// What makes the far end of the bytes of the last transfer, which is the one that is answered.
fn far(wire: &dyn Wire, transfers: &[Transfer]) -> Received {
    let (last, before) = transfers.split_last().unwrap();
    assert!(before.iter().all(|transfer| transfer.discard) && !last.discard);
    wire.received(&last.send, last.receive).unwrap()
}

const SHAPES: [(&str, Bus, u32, u32); 8] = [
    // The bus as typed, and the largest address, and in what steps they come.
    ("i2c = { address = 0x2B }", Bus::I2c, 0xFF, 1),
    ("i2c = { address = 0x2B, increment = 0x40 }", Bus::I2c, 0x3F, 1),
    ("i2c = { address = 0x2B, pointer = 16, restart = false }", Bus::I2c, 0xFFFF, 1),
    ("spi = { mode = 1, read = 0x80 }", Bus::Spi, 0x7F, 1),
    ("spi = { mode = 2, shift = 2, read = 0x02, write = 0x01, dummy = 2 }", Bus::Spi, 0x3F, 1),
    ("spi = { mode = 3, pointer = 16, write = 0x4000, read = 0x8000, increment = 0x2000 }", Bus::Spi, 0x1FFF, 1),
    ("spi = { mode = 0, read = 0x80, late = true }", Bus::Spi, 0x7F, 1),
    ("modbus = { unit = 44, numbering = \"from 0\" }", Bus::Modbus, 0xFFFF, 1),
];

proptest! {
    /// A write and a read of any register arrive at the far end as what they were.
    #[test]
    fn the_far_end_reads_what_was_meant(at in any::<u32>(), data in prop::collection::vec(any::<u8>(), 1..20), several: bool) {
        for (typed, bus, most, step) in SHAPES {
            let part = on(typed);
            let wire = part.buses().wire(bus).unwrap();
            let address = at % (most / step + 1) * step;
            prop_assert!(wire.fits(address).is_ok(), "{typed}: 0x{address:X} fits");
            // Modbus has words.
            let even = if bus == Bus::Modbus && data.len() % 2 == 1 { [&data[..], &[7]].concat() } else { data.clone() };
            let write = wire.write(address, &even);
            prop_assert_eq!(wire.received(&write.send, 0).unwrap(), Received::Write { address, data: even.clone() }, "{}", typed);
            let read = far(wire, &wire.read(address, even.len(), several));
            prop_assert_eq!(read, Received::Read { address, bytes: even.len() }, "{}", typed);
        }
    }

    /// Whatever comes to the far end is a request or is refused; nothing panics, and a Modbus frame that is taken is one
    /// that would have been sent so.
    #[test]
    fn any_bytes_at_the_far_end(bytes in prop::collection::vec(any::<u8>(), 0..24), receive in 0usize..6) {
        for (typed, bus, ..) in SHAPES {
            let part = on(typed);
            let wire = part.buses().wire(bus).unwrap();
            if let Ok(Received::Read { address, .. } | Received::Write { address, .. }) = wire.received(&bytes, receive) {
                prop_assert!(wire.fits(address).is_ok(), "{typed}: 0x{address:X}");
            }
        }
    }

    /// Requests and responses of Modbus go there and back for every table, and no flipped bit gets through.
    #[test]
    fn modbus_goes_there_and_back(unit in 1u8..=247, table in 0usize..4, start: u16, count in 1u16..=125, flip in any::<prop::sample::Index>(), seed: u8) {
        let table = [ModbusTable::Coils, ModbusTable::Discrete, ModbusTable::Holding, ModbusTable::Input][table];
        let range = AddressRange { table, start, count };
        let sent = read_request(unit, &range).bytes;
        prop_assert_eq!(parse_request(&sent), Ok((unit, ModbusRequest::Read(range.clone()))));
        let data: Vec<u8> = (0..range.bytes()).map(|at| (at as u8).wrapping_mul(29) ^ seed).collect();
        let good = response(unit, &range, &data);
        let read = read_response(&good, &range, Some(unit)).unwrap();
        prop_assert_eq!((read.data, read.unit), (&data[..], unit));
        for frame in [&sent, &good] {
            let mut bent = frame.clone();
            let bit = flip.index(bent.len() * 8);
            bent[bit / 8] ^= 1 << (bit % 8);
            prop_assert!(parse_request(&bent).is_err() && read_response(&bent, &range, Some(unit)).is_err());
        }
        let words: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).take(123).collect();
        if !words.is_empty() {
            let sent = write_request(unit, start, &words).unwrap().bytes;
            prop_assert_eq!(parse_request(&sent), Ok((unit, ModbusRequest::WriteRegisters { start, words })));
        }
    }

    /// Addresses are dealt out wherever that can be done at all, each part getting one of its own.
    #[test]
    fn addresses_are_dealt_out_where_they_can_be(pins in prop::collection::vec(prop::collection::btree_set(0x20u8..0x26, 1..4), 1..6)) {
        let names: Vec<String> = (0..pins.len()).map(|at| format!("part {at}")).collect();
        let parts: Vec<(&str, Vec<u8>)> = names.iter().map(String::as_str).zip(pins.iter().map(|set| set.iter().copied().collect())).collect();
        // Every choice of pins, tried one by one.
        fn can(parts: &[(&str, Vec<u8>)], taken: &mut Vec<u8>) -> bool {
            let Some(((_, addresses), rest)) = parts.split_first() else { return true };
            addresses.iter().any(|address| {
                if taken.contains(address) {
                    return false;
                }
                taken.push(*address);
                let done = can(rest, taken);
                taken.pop();
                done
            })
        }
        match share_bus(&parts) {
            Ok(dealt) => {
                let mut own = dealt.clone();
                own.sort_unstable();
                own.dedup();
                prop_assert_eq!(own.len(), parts.len());
                prop_assert!(dealt.iter().zip(&parts).all(|(address, (_, possible))| possible.contains(address)));
            }
            Err(clashes) => {
                prop_assert!(!can(&parts, &mut Vec::new()));
                prop_assert!(!clashes.is_empty() && clashes.iter().all(|clash| !clash.addresses.is_empty()));
            }
        }
    }
}

#[test]
fn registers_that_do_not_fit_are_refused_at_the_sheet() {
    // The bus, a register that fits, one that does not, and what is said of it.
    let cases = [
        ("i2c = { address = 0x2B }", "0xFF", "0x100", "a register address over I2C has 8 bits (pointer = 8): 0x00 to 0xFF"),
        ("i2c = { address = 0x2B, pointer = 16 }", "0xFFFF", "0x1_0000", "a register's address is 0 to 65535"),
        ("i2c = { address = 0x2B, pointer = 0 }", "0", "1", "so there is only the register at 0"),
        ("i2c = { address = 0x2B, increment = 0x80 }", "0x7F", "0x80", "0x80 is the auto-increment bit of the register address over I2C"),
        ("spi = { mode = 0 }", "0x7F", "0x1FF", "a register address over SPI has 8 bits"),
        ("spi = { mode = 0, shift = 7, read = 0x01 }", "1", "2", "a register address over SPI has 8 bits, shifted by 7: 0x00 to 0x01"),
        ("spi = { mode = 0, read = 0x80 }", "0x7F", "0x81", "which over SPI means read, write or auto-increment"),
        ("spi = { mode = 0, write = 0x20 }", "0x1F", "0x3F", "which over SPI means read, write or auto-increment"),
    ];
    for (bus, fits, not, said) in cases {
        assert!(Part::parse("p", &format!("part = \"p\"\n{bus}\nregister.A = {{ at = {fits} }}\n")).is_ok(), "{bus} {fits}");
        let error = complaint(&format!("{bus}\nregister.A = {{ at = {not} }}\n"));
        assert!(error.contains(said) && error.contains("p.toml:3:"), "{bus} {not}: {error}");
    }
    // Where a part has both, a register has to fit on both.
    let both = "i2c = { address = 0x2B }\nspi = { mode = 0, read = 0x80 }\n";
    let error = complaint(&format!("{both}register.A = {{ at = 0x91 }}\n"));
    assert!(error.contains("over SPI"), "{error}");
    // Printed as holding registers are, on a bus that has none.
    let error = complaint("i2c = { address = 0x2B }\nregister.A = { at = 40001, width = 16 }\n");
    assert!(error.contains("40001 looks like a Modbus number, and would be sent as 0x9C41"), "{error}");
    // Bits that are outside of the byte that is sent.
    for (bus, said) in [
        ("i2c = { address = 0x2B, increment = 0x100 }", "increment is 0 to 255, not 256"),
        ("spi = { mode = 0, write = 0x1FF }", "write is 0 to 255, not 511"),
        ("spi = { mode = 0, pointer = 0, read = 0x80 }", "read is 0 to 0, not 128"),
    ] {
        let error = complaint(&format!("{bus}\n"));
        assert!(error.contains(said), "{bus}: {error}");
    }
    // A block read's count byte is a byte of the frame; nothing says so that does nothing.
    assert!(complaint("i2c = { address = 0x2B, block = true }\n").contains("unknown key `block`"));
}

#[test]
fn answers_are_looked_at() {
    let i2c = on("i2c = { address = 0x2B }");
    let wire = i2c.buses().wire(Bus::I2c).unwrap();
    let read = &wire.read(3, 2, false)[0];
    assert_eq!(wire.data(read, &[1, 2]), Ok(&[1, 2][..]));
    let short = wire.data(read, &[1]).unwrap_err();
    assert_eq!((short.to_string().as_str(), &short), ("expected 2 bytes, got 1", &AnswerError::Length { expected: 2, found: 1 }));
    assert!(i2c.buses().wire(Bus::Spi).is_none() && i2c.buses().wire(Bus::Modbus).is_none());

    // SPI that answers late is asked twice, and what comes first is thrown away.
    let late = on("spi = { mode = 0, read = 0x80, late = true, dummy = 1 }");
    let asked = late.buses().wire(Bus::Spi).unwrap().read(0x12, 3, false);
    assert_eq!(
        asked.iter().map(|transfer| (transfer.text(), transfer.discard)).collect::<Vec<_>>(),
        [("92 00, 3 bytes in".to_owned(), true), ("92 00, 3 bytes in".to_owned(), false)]
    );

    let modbus = on("modbus = { unit = 44, numbering = \"from 0\" }");
    let wire = modbus.buses().wire(Bus::Modbus).unwrap();
    let read = &wire.read(0x21, 4, true)[0];
    let range = AddressRange { table: ModbusTable::Holding, start: 0x21, count: 2 };
    assert_eq!(wire.data(read, &response(44, &range, &[9, 8, 7, 6])), Ok(&[9, 8, 7, 6][..]));
    let refused = wire.data(read, &exception_response(44, 3, 2)).unwrap_err();
    assert_eq!(refused.to_string(), "the part answered with exception 2: ILLEGAL DATA ADDRESS");
    assert_eq!(std::error::Error::source(&refused).unwrap().to_string(), refused.to_string());
    assert!(matches!(wire.data(read, &response(45, &range, &[9, 8, 7, 6])), Err(AnswerError::Response(ResponseError::Unit { .. }))));
    // A write is answered with its head again; anything else is not its answer.
    let write = wire.write(0x21, &[0x12, 0x34]);
    assert_eq!(wire.data(&write, &write.send), Ok(&[][..]));
    let mut other = write.send.clone();
    other[3] ^= 1;
    assert!(wire.data(&write, &other).is_err() && wire.data(&write, &write.send[..7]).is_err());
    let both = wire.write(0x21, &[0x12, 0x34, 0x56, 0x78]);
    let echo = read_request(44, &AddressRange { table: ModbusTable::Holding, start: 0x21, count: 2 }).bytes;
    assert!(wire.data(&both, &echo).is_err(), "the answer to a read is not that to a write");
    assert_eq!(
        wire.data(&both, &exception_response(44, 16, 4)).unwrap_err().to_string(),
        "the part answered with exception 4: SERVER DEVICE FAILURE"
    );

    assert!(write_request(44, 0, &[7; 123]).is_some() && write_request(44, 0, &[7; 124]).is_none() && write_request(44, 0, &[]).is_none());

    // Other units, other functions and quantities that there are not are no requests to this part.
    assert!(wire.received(&read_request(43, &range).bytes, 0).is_err());
    for body in [&[44u8, 3, 0, 0, 0, 0][..], &[44, 3, 0, 0, 0, 126], &[44, 9, 0, 0, 0, 1], &[44, 16, 0, 0, 0, 2, 4, 1, 2]] {
        let bytes = with_crc(body);
        assert!(parse_request(&bytes).is_err(), "{bytes:?}");
    }
    // Coils, one and several.
    assert!(
        matches!(parse_request(&with_crc(&[44, 5, 0, 9, 0xFF, 0])), Ok((44, ModbusRequest::WriteCoils { start: 9, coils })) if coils == [true])
    );
    let several = parse_request(&with_crc(&[44, 15, 0, 9, 0, 10, 2, 0b1010_0101, 0b10]));
    let coils = [true, false, true, false, false, true, false, true, false, true].to_vec();
    assert_eq!(several, Ok((44, ModbusRequest::WriteCoils { start: 9, coils })));
}

/// Of Modbus frames, written down here once more.
fn with_crc(body: &[u8]) -> Vec<u8> {
    let crc = body.iter().fold(0xFFFFu16, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| if crc & 1 == 1 { (crc >> 1) ^ 0xA001 } else { crc >> 1 })
    });
    [body, &crc.to_le_bytes()].concat()
}

#[test]
fn a_response_as_long_as_its_data_is_still_a_response() {
    // 40 coils are five bytes, and an exception has five as well.
    let sheet =
        "part = \"p\"\nmodbus = { unit = 17, numbering = \"from 0\" }\nframe.C = { coils = \"0..39\", code = { first = \"b0[0]\" } }\n";
    let Ok(part) = Part::parse("p", sheet) else { panic!("{}", complaint(&sheet[11..])) };
    let mut decoder = yemdo::Decoder::new(&part);
    let coils = part.frame("C").unwrap();
    let exception = exception_response(17, 1, 2);
    assert_eq!(exception.len(), 5);
    assert_eq!(decoder.decode(coils, &exception).unwrap_err().to_string(), "the part answered with exception 2: ILLEGAL DATA ADDRESS");
    let mut damaged = exception.clone();
    damaged[4] ^= 0x10;
    assert!(matches!(decoder.decode(coils, &damaged), Err(yemdo::Refusal::Response(ResponseError::Crc { .. }))));
    assert!(decoder.decode(coils, &[1, 2, 3, 4, 5]).is_ok(), "the data alone");
    let range = AddressRange { table: ModbusTable::Coils, start: 0, count: 40 };
    assert!(decoder.decode(coils, &response(17, &range, &[1, 2, 3, 4, 5])).is_ok(), "the whole response");
    // Over TCP an exception has nine bytes: as many as 72 coils.
    let sheet = sheet.replace("0..39", "0..71");
    let part = Part::parse("p", &sheet).unwrap();
    let tcp = [0x00, 0x07, 0x00, 0x00, 0x00, 0x03, 17, 0x81, 0x06];
    let refused = yemdo::Decoder::new(&part).decode(part.frame("C").unwrap(), &tcp).unwrap_err();
    assert_eq!(refused.to_string(), "the part answered with exception 6: SERVER DEVICE BUSY");
}
