//! Everything a datasheet may say of registers, bits, bytes and checks, from sheet to value.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

mod common;

use common::shipped;
use proptest::prelude::*;
use yemdo::FrameId;
use yemdo::bus::modbus::{AddressRange, ModbusTable, Numbering, ResponseError, read_request, read_response};
use yemdo::explain::explain;
use yemdo::import::import;
use yemdo::layout::Form;
use yemdo::parse_hex;
use yemdo::part::Id;
use yemdo::part::Origin;
use yemdo::review::run_examples;
use yemdo::routine::Runner;
use yemdo::{Decoder, Part, Severity, State, Status};

fn sheet(name: &str) -> Part {
    let (path, text) = shipped().into_iter().find(|(known, _)| known == name).unwrap();
    Part::parse(&path, &text).unwrap_or_else(|error| panic!("{error}"))
}

#[test]
fn the_nine_parts_are_clean_and_their_examples_agree() {
    let all = shipped();
    assert_eq!(all.len(), 9);
    for (name, text) in all {
        let base = Part::parse(&name, &text).unwrap_or_else(|error| panic!("{error}"));
        let variants = base.variants().to_vec();
        let others = variants.iter().map(|variant| Part::parse_variant(&name, &text, variant).unwrap_or_else(|error| panic!("{error}")));
        for part in others.chain([base.clone()]) {
            assert!(yemdo::review::warnings(&part).is_empty(), "{name}: {:?}", yemdo::review::warnings(&part));
            assert!(part.examples().len() >= 3, "{name}");
            for run in run_examples(&part) {
                assert!(run.mismatches.is_empty(), "{name}: {:?}", run.mismatches);
            }
        }
    }
}

/// Form, bits as hex of two bytes, value.
#[test]
fn every_number_form_reads_as_its_standard_says() {
    let cases: &[(&str, &str, &str)] = &[
        ("ones-complement b0 b1", "FF FE", "-1"),
        ("ones-complement b0 b1", "FF FF", "0"),
        ("ones-complement b0 b1", "80 00", "-32767"),
        ("sign-magnitude b0 b1", "80 05", "-5"),
        ("sign-magnitude b0 b1", "80 00", "0"),
        ("sign-magnitude b0 b1", "7F FF", "32767"),
        ("offset-binary b0 b1", "80 00", "0"),
        ("offset-binary b0 b1", "00 00", "-32768"),
        ("bcd b0 b1", "12 34", "1234"),
        ("bcd b0[5:0]", "39 00", "39"),
        ("bcd b0 b1", "12 3A", "invalid"),
        ("float b0 b1", "3C 00", "1.0"),
        ("float b0 b1", "C1 00", "-2.5"),
        ("float b0 b1", "00 01", "5.9604645e-8"),
        ("float b0 b1", "7C 00", "inf"),
        ("float b0 b1 b2 b3", "42 F6 E9 79", "123.456"),
        ("float b2 b3 b0 b1", "E9 79 42 F6", "123.456"),
        ("float b0..b7", "40 5E DD 2F 1A 9F BE 77", "123.456"),
        ("q7.8 b0 b1", "FE 80", "-1.5"),
        ("uq8.8 b0 b1", "FE 80", "254.5"),
        ("q0.15 b0 b1", "80 00", "-1.0"),
        ("text b0..b3", "4F 4B 20 00", "\"OK\""),
        ("text b0..b3", "4F 1B 5B 41", "\"O\\x1B[A\""),
        ("b0..b7", "FF FF FF FF FF FF FF FF", "18446744073709551615"),
        // A float with a check byte in the middle of it.
        ("float b0 b1 b3 b4", "42 F6 00 E9 79", "123.456"),
    ];
    for (layout, hex, shown) in cases {
        let bytes = parse_hex(hex).unwrap();
        let text = format!("part = \"p\"\nframe.F = {{ read = {}, code = {{ c = \"{layout}\" }} }}\n", bytes.len());
        let part = Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"));
        let decoded = Decoder::new(&part).decode(FrameId::new(0), &bytes).unwrap();
        assert_eq!(decoded.codes[0].value.to_string(), *shown, "{layout} of {hex}");
    }
}

#[test]
fn a_digit_that_is_none_is_a_fault_of_what_uses_it() {
    let text = "part = \"p\"\nframe.F = { read = 2, code = { c = \"bcd b0\", d = \"b1\" } }\nreading.r = { unit = \"1\", formula = \"c\" }\nreading.s = { unit = \"V\", formula = \"d + 0.5\" }\n";
    let part = Part::parse("p", text).unwrap();
    let decoded = Decoder::new(&part).decode(FrameId::new(0), &[0x1A, 3]).unwrap();
    assert_eq!((decoded.readings[0].status, decoded.readings[1].value), (Status::FormulaFault, Some(3.5)));
    assert_eq!(decoded.readings[0].fault.clone().unwrap().to_string(), "c: 0x1A is not BCD: digit A in b0[3:0]");
}

#[test]
fn checks_cover_words_nibbles_addresses_and_parity() {
    let f = |check: &str| format!("part = \"p\"\ni2c.address = 0x35\nframe.F = {{ read = 6, code = {{ c = \"b0\" }}, check = {check} }}\n");
    let cases = [
        // Two words, each with a CRC of its own.
        (
            "{ crc = { width = 8, poly = 0x4D, init = 0x5A }, over = \"2 x b0 b1 every 3\", in = \"2 x b2 every 3\" }",
            "C3 5E CF 01 02 CA",
            Some(()),
        ),
        (
            "{ crc = { width = 8, poly = 0x4D, init = 0x5A }, over = \"2 x b0 b1 every 3\", in = \"2 x b2 every 3\" }",
            "C3 5E CF 01 02 CB",
            None,
        ),
        ("{ sum = { width = 8, then = \"negate\" }, over = \"b0..b4\", in = \"b5\" }", "01 02 03 04 05 F1", Some(())),
        ("{ sum = { width = 16, init = 0x10, modulo = 255 }, over = \"b0..b3\", in = \"b4 b5\" }", "FF FF 01 02 00 13", Some(())),
        ("{ xor = 0, over = \"b0..b4\", in = \"b5\" }", "01 02 04 08 10 1F", Some(())),
        ("{ parity = \"odd\", over = \"b0..b4 b5[7:1]\", in = \"b5[0]\" }", "01 00 00 00 00 00", Some(())),
        ("{ parity = \"even\", over = \"b0..b4 b5[7:1]\", in = \"b5[0]\" }", "01 00 00 00 00 00", None),
        ("{ crc = \"crc-8/smbus\", over = \"addr:w 0x1B addr:r b0 b1\", in = \"b2\" }", "1C 86 85 00 00 00", Some(())),
    ];
    for (check, hex, passes) in cases {
        let part = Part::parse("p", &f(check)).unwrap_or_else(|error| panic!("{error}"));
        let result = Decoder::new(&part).decode(FrameId::new(0), &parse_hex(hex).unwrap());
        assert_eq!(result.is_ok(), passes.is_some(), "{check} of {hex}: {result:?}");
    }
}

#[test]
fn registers_make_frames_in_as_few_transfers_as_they_can() {
    let transfers = |name: &str, frame: &str| {
        let part = sheet(name);
        let frame = &part.frames().get(part.frame(frame).unwrap()).unwrap();
        match frame.origin() {
            Origin::Registers(runs) => runs
                .iter()
                .map(|run| run.iter().map(|r| part.registers().get(*r).unwrap().name().to_owned()).collect::<Vec<_>>().join(" "))
                .collect::<Vec<_>>(),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(transfers("keelson-6", "MOTION"), ["STATUS GYR_0 GYR_1 GYR_2 TEMP ACC_0 ACC_1 ACC_2"]);
    assert_eq!(transfers("lantern-16", "LIGHT"), ["STATUS", "LEVEL WARM"]);
}

#[test]
fn the_scale_follows_the_settings() {
    let part = sheet("lantern-16");
    let (gain, time) = (part.field("GAIN").unwrap(), part.field("time").unwrap());
    let mut decoder = Decoder::new(&part);
    let bytes = parse_hex("00 20 17 70 0D AC").unwrap();
    let mut lux = |gain_code: i128, time_code: i128| {
        decoder.state_mut().set_field(part.fields().get(gain).unwrap(), gain_code);
        decoder.state_mut().set_field(part.fields().get(time).unwrap(), time_code);
        let decoded = decoder.decode(FrameId::new(0), &bytes).unwrap();
        (decoded.readings[0].value, decoded.readings[0].status)
    };
    assert_eq!(lux(1, 2), (Some(300.0), Status::Ok));
    assert_eq!(lux(2, 3), (Some(20.0), Status::Ok));
    assert_eq!(lux(0, 0), (Some(13500.0), Status::Ok));
    // A code that the table does not have: said, never guessed.
    assert_eq!(lux(3, 3), (None, Status::FormulaFault));
}

/// A scale that several axes share follows from settings and parameters alone.
#[test]
fn shared_values_need_no_code() {
    let text = r#"
part = "p"
i2c.address = 0x2B
register.R = { at = 1, reset = 1, field.G = { bits = "[7:0]", values = [{ code = 0, k = 1 }, { code = 1, k = 0.5 }] } }
parameter.load = { default = 4, unit = "Ω" }
shared.scale = { formula = "G.k * 0.25 / load" }
frame.F = { read = 2, code = { x = "b0", y = "b1" } }
reading.x = { unit = "V", formula = "F.x * scale" }
reading.y = { unit = "V", formula = "F.y * scale" }
example = [{ F = "02 04", gives = { x = "0.0625 V", scale = 0.03125 } }]
"#;
    let part = Part::parse("p", text).unwrap();
    assert!(run_examples(&part).iter().all(|run| run.mismatches.is_empty()));
    let mut decoder = Decoder::new(&part);
    decoder.state_mut().set_field(part.fields().get(part.field("G").unwrap()).unwrap(), 0);
    decoder.set_parameter(yemdo::ParameterId::new(0), 2.0).unwrap();
    let decoded = decoder.decode(FrameId::new(0), &[2, 4]).unwrap();
    assert_eq!(decoded.readings.iter().map(|reading| reading.value).collect::<Vec<_>>(), [Some(0.25), Some(0.5)]);
    let mut state = State::reset(&part);
    state.set_parameter(&part, yemdo::ParameterId::new(0), 4.0).unwrap();
    let found = yemdo::configure::choose(&part, part.reading("x").ok(), &state, &Default::default()).unwrap();
    assert_eq!(found.iter().map(|choice| choice.range.unwrap().1).collect::<Vec<_>>(), [255.0 * 0.03125, 255.0 * 0.0625]);
    // A reading comes from a frame, though.
    for without in ["scale", "load * 2"] {
        assert!(Part::parse("p", &text.replace("F.y * scale", without)).unwrap_err().to_string().contains("uses no code"));
    }
}

#[test]
fn frames_wait_for_one_another_and_keep_what_is_read_once() {
    let part = sheet("binnacle-24");
    let mut decoder = Decoder::new(&part);
    let hex = |text: &str| parse_hex(text).unwrap();
    let at = |name: &str| part.frame(name).unwrap();
    let pressure = hex("84 6B 40");
    let waiting = decoder.decode(at("PRESSURE"), &pressure).unwrap();
    assert_eq!(waiting.readings[0].status, Status::Waiting);
    assert_eq!(waiting.readings[0].waits_for, ["CALIBRATION", "TEMPERATURE"]);
    decoder.decode(at("CALIBRATION"), &hex("7A B4 3B 45 B0 98 8C 1F B5 C2 08 A6 E0 40 E7 AE")).unwrap();
    let temperature = decoder.decode(at("TEMPERATURE"), &hex("7F 5C 38")).unwrap();
    assert_eq!(temperature.reading("temperature").unwrap().value, Some(20.52));
    assert_eq!(temperature.reading("pressure").unwrap().value, Some(994.34), "the pressure that came before is in use");
    decoder.clear_frames();
    assert_eq!(decoder.decode(at("PRESSURE"), &pressure).unwrap().readings[0].status, Status::Waiting);
}

#[test]
fn modbus_addresses_requests_and_responses() {
    let wire = |numbering: Numbering, printed, table| numbering.wire(printed, table);
    assert_eq!(wire(Numbering::FromZero, 10, ModbusTable::Holding), Ok(10));
    assert_eq!(wire(Numbering::FromOne, 10, ModbusTable::Holding), Ok(9));
    assert_eq!(wire(Numbering::FiveDigits, 40011, ModbusTable::Holding), Ok(10));
    assert_eq!(wire(Numbering::FiveDigits, 30001, ModbusTable::Input), Ok(0));
    assert_eq!(wire(Numbering::SixDigits, 465536, ModbusTable::Holding), Ok(65535));
    assert!(wire(Numbering::FiveDigits, 30011, ModbusTable::Holding).unwrap_err().contains("40001 to 49999"));
    let range = AddressRange { table: ModbusTable::Holding, start: 10, count: 2 };
    assert_eq!(read_request(17, &range).over_tcp(7).bytes, [0, 7, 0, 0, 0, 6, 17, 3, 0, 10, 0, 2]);
    let good = [0x11, 0x03, 0x04, 0x12, 0x34, 0x00, 0x07, 0xEE, 0x86];
    assert_eq!(read_response(&good, &range, Some(17)).unwrap().data, [0x12, 0x34, 0x00, 0x07]);
    let cause = |bytes: &[u8], unit| read_response(bytes, &range, unit).unwrap_err();
    assert_eq!(cause(&good, Some(18)), ResponseError::Unit { expected: 18, found: 17 });
    assert_eq!(cause(&good[..6], None).cause(), "too short");
    assert_eq!(cause(&[], None).cause(), "too short");
    let mut swapped = good;
    swapped.swap(7, 8);
    assert!(cause(&swapped, None).to_string().contains("its bytes are swapped"));
    assert_eq!(cause(&[0, 7, 0, 0, 0, 3, 17, 0x83, 6], None).to_string(), "the part answered with exception 6: SERVER DEVICE BUSY");
    let wide = AddressRange { count: 3, ..range.clone() };
    assert_eq!(read_response(&good, &wide, None).unwrap_err(), ResponseError::Count { expected: 6, found: 4 });
    let other = AddressRange { table: ModbusTable::Input, ..range };
    assert_eq!(read_response(&good, &other, None).unwrap_err(), ResponseError::Function { expected: 4, found: 3 });
}

#[test]
fn a_magic_constant_is_taken_apart() {
    let part = sheet("keelson-6");
    let setup = part.register("SETUP").unwrap();
    let mut settings = State::reset(&part);
    let explained = explain(&part, setup, 0xAE, &mut settings).unwrap();
    let seen: Vec<(String, String, Option<&str>)> =
        explained.fields.iter().map(|f| (f.field.name().to_owned(), f.bits_text(), f.value.and_then(|row| row.name.as_deref()))).collect();
    let expected = [("RATE", "[6:5]", Some("17 Hz")), ("TURN", "[4:3]", Some("640 °/s")), ("SPAN", "[1:0]", Some("12 g"))];
    assert_eq!(seen, expected.map(|(a, b, c)| (a.to_owned(), b.to_owned(), c)));
    assert_eq!(explained.wrong, [(0x80, 0x80, 0), (0x04, 0x04, 0)]);
    assert_eq!(explained.changed(), Some(0xAE ^ 0x41));
}

fn rows(text: &str) -> Vec<Vec<String>> {
    text.lines().map(|line| line.split('|').map(|cell| cell.trim().to_owned()).collect()).collect()
}

#[test]
fn tables_from_the_pdf_become_sheets_that_are_sound() {
    let wide = "page 12\nAddr|Register|Type|Default|D7|D6|D5|D4|D3|D2|D1|D0\n\
        00h|ID|RO|5Ah|id<7:0>|||||||\n10h|MODE|R/W|0100 1000b|pace[2:0]|||-|en|rate[1:0]||0\n\
        11h|L_H|R|00h|Reserved||||L11|L10|L9|L8\n12h|L_L|R|00h|L7|L6|L5|L4|L3|L2|L1|L0\n\
        |||\nfoot||\n13h|MODE|W1C|1FFh|a[3:0]||x|y|||1|1\n";
    let import = import("demo-1", &rows(wide)).unwrap();
    let part = Part::parse("demo-1", &import.sheet).unwrap_or_else(|error| panic!("{error}\n{}", import.sheet));
    assert!(yemdo::review::warnings(&part).iter().all(|w| w.severity == Severity::Warning));
    let t = &part.fields().get(part.field("L").unwrap()).unwrap();
    assert_eq!(t.width(), 12);
    let mut settings = State::reset(&part);
    settings.set_register(part.registers().get(part.register("L_H").unwrap()).unwrap(), 0x0A);
    settings.set_register(part.registers().get(part.register("L_L").unwrap()).unwrap(), 0xBC);
    assert_eq!(settings.field(t), 0xABC);
    let mode = &part.registers().get(part.register("MODE").unwrap()).unwrap();
    assert_eq!((mode.address(), mode.reset()), (0x10, Some(0x48)));
    let notes: Vec<(usize, &str)> = import.notes.iter().map(|note| (note.line, note.text.as_str())).collect();
    assert_eq!(notes.len(), 4, "{notes:?}");
    assert_eq!(notes[0], (8, "row left out: it has the address `foot`, which is not a number"));
    assert!(notes.iter().any(|(line, text)| *line == 9 && text.contains("written MODE_13")));

    let long = "Register|Address|Field|Bits|Access|Reset|Description\nCTRL|0x20|GAIN|[7:6]|R/W|2|amplification\n||SPEED|5:3|R/W|1|\n||BUSY|0|R|0|at work\nCTRL|0x20|LATE|x|R|0|\nWIDE|0x21|LEVEL|15:0|R|0|\n";
    let import = yemdo::import::import("demo-2", &rows(long)).unwrap();
    let part = Part::parse("demo-2", &import.sheet).unwrap_or_else(|error| panic!("{error}\n{}", import.sheet));
    assert_eq!(
        part.registers().iter().map(|r| (r.name(), r.width(), r.reset())).collect::<Vec<_>>(),
        [("CTRL", 8, Some(0x88)), ("WIDE", 16, Some(0))]
    );
    assert_eq!(part.fields().get(part.field("BUSY").unwrap()).unwrap().means(), Some("at work"));
    assert_eq!(import.notes.len(), 1);
    assert!(yemdo::import::import("x", &rows("a|b\n1|2")).unwrap_err().to_string().contains("no row has headings"));
}

#[test]
fn tables_as_viewers_paste_them() {
    let sheet = |text: &str| {
        let import = import("halyard-4", &yemdo::import::rows_apart_by_blanks(text)).unwrap();
        let part = Part::parse("halyard-4", &import.sheet).unwrap_or_else(|error| panic!("{error}\n{}", import.sheet));
        (part, import.notes.into_iter().map(|note| note.text).collect::<Vec<_>>())
    };
    let wide = "\
Table 7. Registers of the halyard-4\n\
        \n\
        Addr     Name     R/W   Reset   bit 7   bit 6   bit 5   bit 4   bit 3   bit 2   bit 1   bit 0\n\
        0x14     MODE     RW    48      en      pace[2:0]               -       -       fast    0\n\
        0x0B     KIND     RO    C9      1       1       0       0       1       0       0       1\n\
        0x51 (MSB) LVL_H  RO    00      V15     V14     V13     V12     V11     V10     V9      V8\n\
        0x52 (LSB) LVL_L  RO    00      V7      V6      V5      V4      V3      V2      V1      V0\n\
        0x6A-0x6D TAG     RW    00                      tag<7:0>\n";
    let (part, notes) = sheet(wide);
    let resets: Vec<(&str, u32, Option<u64>)> = part.registers().iter().map(|r| (r.name(), r.address(), r.reset())).collect();
    // One base for the column of resets, runs of addresses, and comments after them.
    assert_eq!(
        resets,
        [
            ("MODE", 0x14, Some(0x48)),
            ("KIND", 0x0B, Some(0xC9)),
            ("LVL_H", 0x51, Some(0)),
            ("LVL_L", 0x52, Some(0)),
            ("TAG_0", 0x6A, Some(0)),
            ("TAG_1", 0x6B, Some(0)),
            ("TAG_2", 0x6C, Some(0)),
            ("TAG_3", 0x6D, Some(0))
        ]
    );
    let bits = |name: &str| {
        let field = part.fields().get(part.field(name).unwrap()).unwrap();
        part.registers().iter().map(|register| field.bits_text(register)).collect::<String>()
    };
    assert_eq!((bits("pace"), bits("V"), bits("tag_2")), ("[6:4]".into(), "[7:0][7:0]".into(), "[7:0]".into()));
    assert_eq!(notes, ["TAG is a run of 4 registers, written as an array"]);
    // What is only read and constant is an identity, and nothing to be written.
    let (list, _) = Runner::new(&with_bus(&part), part.routine("identify").unwrap(), State::reset(&part)).unwrap().dry_run().unwrap();
    assert_eq!(list.first().map(|request| request.meaning.as_str()), Some("expect KIND == 0xC9"));
    assert!(
        part.registers()
            .iter()
            .all(|register| register.reserved().iter().all(|reserved| register.name() == "MODE" || reserved.write.is_none()))
    );
    let long = "\
Register Address Field Bits Access Reset Description\n\
        CTRL 0x41 RATE [6:4] R/W 2 sampling: 000: x1; 001: x2; 010: x4\n\
        CTRL 0x41 SLEEP 3 R/W 0 0 = awake, 1 = asleep\n\
        CTRL 0x41 RES <2:0> R 0 nobody's\n\
        WIDE 0x44-0x45 LEVEL 15:0 R 0 the level that was measured last\n";
    let (part, _) = sheet(long);
    let values = |name: &str| {
        let field = part.fields().get(part.field(name).unwrap()).unwrap();
        field.values().iter().map(|row| (row.code, row.name.clone().unwrap())).collect::<Vec<_>>()
    };
    assert_eq!(values("RATE"), [(0, "x1".into()), (1, "x2".into()), (2, "x4".into())]);
    assert_eq!(values("SLEEP"), [(0, "awake".into()), (1, "asleep".into())]);
    assert_eq!(part.fields().get(part.field("LEVEL").unwrap()).unwrap().means(), Some("the level that was measured last"));
    assert_eq!(part.registers().iter().map(|register| register.width()).collect::<Vec<_>>(), [8, 16]);
}

/// The same part, with a bus to be reached over.
fn with_bus(part: &Part) -> Part {
    Part::parse("p", &format!("i2c = {{ address = 0x2B }}\n{}", part.source().text())).unwrap()
}

#[test]
fn the_reviewer_names_what_practitioners_get_wrong() {
    let frame = "part = \"p\"\nframe.F = { read = 4, code = { c = \"b0 b1\", d = \"b2 b3\" } }\n";
    let example = "example = [{ F = \"00 00 00 00\", gives = { r = \"0 K\" } }]\n";
    let cases = [
        ("sign-missing", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c + d\" }}\nreading.s = {{ unit = \"°C\", formula = \"c / 100.0\", range = [-40, 85] }}\n{example}")),
        ("formula-repeated", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c * 0.5 + d\" }}\nreading.s = {{ unit = \"V\", formula = \"c*0.5 + d\" }}\n{example}")),
        ("same-address", "part = \"p\"\ni2c.address = 0x2B\nregister.A = { at = 1 }\nregister.B = { at = 1 }\n".to_owned()),
        ("never-used", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c\" }}\n{example}")),
        ("no-example", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c + d\" }}\n")),
        ("integer-division", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c / 100 * 1.5 + d\" }}\n{example}")),
        ("sign-lost", format!("{frame}reading.r = {{ unit = \"K\", formula = \"int x = c - d; return x > 1u ? x : 0;\" }}\n{example}")),
        ("range-never-reached", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c + d\", range = [-9, -1] }}\n{example}")),
        ("not-checked", "part = \"p\"\nframe.F = { read = 3, code = { c = \"b0 b1\" } }\nreading.r = { unit = \"K\", formula = \"c\" }\nexample = [{ F = \"00 00 00\", gives = { r = \"0 K\" } }]\n".to_owned()),
        ("byte-order-differs", "part = \"p\"\nframe.F = { read = 8, code = { a = \"b0 b1\", b = \"b2 b3\", c = \"b5 b4\", d = \"b6 b7\" } }\nreading.r = { unit = \"K\", formula = \"a + b + c + d\" }\nexample = [{ F = \"00 00 00 00 00 00 00 00\", gives = { r = \"0 K\" } }]\n".to_owned()),
        ("reserved-address", "part = \"p\"\ni2c.address = 0x7C\n".to_owned()),
        ("reset-sets-reserved", "part = \"p\"\nregister.R = { at = 1, reset = 0x81, field.A = { bits = \"[7:1]\" }, reserved = { bits = \"[0]\", write = 0 } }\n".to_owned()),
        ("gap", "part = \"p\"\nregister.A = { at = 1, field.X = { bits = \"[7:0]\" } }\nregister.B = { at = 4 }\nframe.F = { registers = \"A..B\" }\n".to_owned()),
        ("never-holds", "part = \"p\"\ni2c.address = 0x2B\nregister.ID = { at = 1, field.ID = { bits = \"[7:0]\" } }\nroutine.r = [{ expect = \"ID == 0x1C5\" }]\n".to_owned()),
        ("command-twice", "part = \"p\"\ni2c.address = 0x2B\nframe.F = { command = [0x4C, 2], read = 1, code = { c = \"b0\" } }\nroutine.r = [{ write = [0x4C, 2] }, { wait = \"1 ms\" }, { read = \"F\" }]\n".to_owned()),
        ("no-command", "part = \"p\"\nspi.mode = 0\nregister.R = { at = 1, field.A = { bits = \"[7:0]\" } }\nframe.F = { read = 1, code = { c = \"b0\" } }\nreading.r = { unit = \"K\", formula = \"c\" }\nexample = [{ F = \"00\", gives = { r = \"0 K\" } }]\n".to_owned()),
        ("range-ratio", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c * 0.001 + d * 0.0\", range = [0, 96] }}\n{example}")),
        ("comparison-never", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c == 0x10000 ? 0 : c + d\" }}\n{example}")),
        ("comparison-always", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c + d\", status = [{{ when = \"c >= 0\", is = \"alert\" }}] }}\n{example}")),
        ("frame-bits", "part = \"p\"\nframe.F = { read = 2, code = { c = \"b0 b1[7:2]\" } }\nreading.r = { unit = \"K\", formula = \"c\" }\nexample = [{ F = \"00 00\", gives = { r = \"0 K\" } }]\n".to_owned()),
        ("no-wait", "part = \"p\"\ni2c.address = 0x2B\nframe.F = { read = 1, code = { c = \"b0\" } }\nreading.r = { unit = \"K\", formula = \"c\" }\nexample = [{ F = \"00\", gives = { r = \"0 K\" } }]\nroutine.r = [{ write = [0x4C] }, { read = \"F\" }]\n".to_owned()),
        ("unit-symbol", format!("{frame}reading.r = {{ unit = \"degC\", formula = \"c + d\" }}\n{}", example.replace("0 K", "0 degC"))),
        ("address-strap", "part = \"p\"\ni2c = { address = 0x2B, strap = { A = { low = 0x2C, high = 0x2D } } }\n".to_owned()),
        ("status-bit", format!("{frame}reading.r = {{ unit = \"K\", formula = \"c + d\" }}\n{example}").replace("b2 b3\"", "b2 b3[7:1]\", data_ready = \"b3[0]\"")),
        ("column-missing", format!("{frame}register.M = {{ at = 1, reset = 0, field.G = {{ bits = \"[7:0]\", values = [{{ code = 0, k = 2.0 }}, {{ code = 1 }}] }} }}\nreading.r = {{ unit = \"K\", formula = \"(c + d) * G.k\" }}\n{example}")),
        ("no-saturation", format!("{frame}register.M = {{ at = 1, reset = 0, field.G = {{ bits = \"[7:0]\", values = [{{ code = 0, k = 2.0 }}] }} }}\nreading.r = {{ unit = \"K\", formula = \"c * G.k\" }}\nreading.s = {{ unit = \"V\", formula = \"d * 0.5\" }}\n{example}")),
        ("never-read", format!("{frame}register.M = {{ at = 1, access = \"read-only\", reset = 0, field.G = {{ bits = \"[7:0]\" }} }}\nreading.r = {{ unit = \"K\", formula = \"(c - G) * 0.1 + d\" }}\n{example}")),
        ("bits-unaccounted", "part = \"p\"\nregister.R = { at = 1, field.A = { bits = \"[7:4] [1]\" } }\n".to_owned()),
    ];
    let names: Vec<&str> = yemdo::review::WARNINGS.iter().map(|(name, _)| *name).collect();
    assert_eq!(cases.len(), names.len());
    for (name, text) in cases {
        assert!(names.contains(&name));
        let part = Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"));
        let found: Vec<&str> = yemdo::review::warnings(&part).iter().map(|w| w.name).collect();
        assert_eq!(found, [name], "{text}\n{:?}", yemdo::review::warnings(&part));
        // And it can be switched off.
        let quiet = Part::parse("p", &text.replacen("part = \"p\"", &format!("part = \"p\"\nallow = [\"{name}\"]"), 1)).unwrap();
        assert!(yemdo::review::warnings(&quiet).is_empty());
    }
}

#[test]
fn variants_differ_in_what_they_say() {
    let (name, text) = shipped().into_iter().find(|(name, _)| name == "thole-9").unwrap();
    let variant = Part::parse_variant(&name, &text, "thole-9w").unwrap();
    assert_eq!((variant.name(), variant.buses().i2c.as_ref().unwrap().address), ("thole-9w", 0x53));
    assert_eq!(variant.readings().first().unwrap().range(&variant, &State::reset(&variant)), Some((-65.0, 90.0)));
    assert_eq!(variant.readings().first().unwrap().unit(), "°C", "what is not said again stays");
    let error = Part::parse_variant(&name, &text, "thole-9v").unwrap_err();
    assert!(error.to_string().contains("did you mean `thole-9w`?"));
}

proptest! {
    /// What is written to a field is what is read from it, in every form, and nothing else changes.
    #[test]
    fn fields_come_back(form in 0usize..6, high in 0u32..16, low in 0u32..16, code: i64, before: u16) {
        let (high, low) = (high.max(low), high.min(low));
        let word = ["unsigned", "signed", "ones-complement", "sign-magnitude", "offset-binary", "bcd"][form];
        prop_assume!(Form::named(word).unwrap().accepts(high - low + 1).is_ok());
        let text = format!("part = \"p\"\nregister.R = {{ at = 1, width = 16, reset = {before}, field.A = {{ bits = \"{word} [{high}:{low}]\" }}, reserved = [{}] }}\n",
            [(15, high + 1), (low.wrapping_sub(1), 0)].iter().filter(|(h, l)| h >= l && *h < 16).map(|(h, l)| format!("{{ bits = \"[{h}:{l}]\" }}")).collect::<Vec<_>>().join(", "));
        let part = Part::parse("p", &text).unwrap();
        let field = part.fields().first().unwrap();
        let (least, most) = field.bounds();
        let code = least + i128::from(code).rem_euclid(most - least + 1);
        let mut settings = State::reset(&part);
        settings.set_field(field, code);
        prop_assert_eq!(settings.field(field), code);
        let register = part.registers().first().unwrap();
        let mask = field.mask_in(register);
        prop_assert_eq!(settings.register(register) & !mask, u64::from(before) & !mask);
    }

    /// Whatever is called a table: an answer, never a panic; and what is written is sound.
    #[test]
    fn import_never_panics(cells in prop::collection::vec(prop::collection::vec("[-A-Za-z0-9\\[\\]:<> ]{0,8}", 0..14), 0..8)) {
        let mut table = rows("Address|Name|Access|Reset|7|6|5|4|3|2|1|0");
        table.extend(cells);
        if let Ok(import) = yemdo::import::import("p", &table) {
            prop_assert!(Part::parse("p", &import.sheet).is_ok(), "{}", import.sheet);
        }
    }

    /// Any bytes in the place of a Modbus response.
    #[test]
    fn responses_never_panic(bytes in prop::collection::vec(any::<u8>(), 0..40)) {
        let _ = read_response(&bytes, &AddressRange { table: ModbusTable::Coils, start: 0, count: 9 }, None);
    }
}
