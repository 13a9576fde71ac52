//! The shipped sheets, bent in every way: an answer always, and one that points into the text.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

mod common;

use std::sync::OnceLock;

use common::shipped;
use proptest::prelude::*;
use yemdo::Columns;
use yemdo::bus::modbus::{ModbusTable, Numbering};
use yemdo::configure::{Limits, Wish, WriteScope, choose, configure, read_frame};
use yemdo::parse_hex;
use yemdo::part::Id;
use yemdo::routine::{Answer, Operation, Runner};
use yemdo::units::{UNITS, Unit};
use yemdo::{Decoder, Part, Refusal, Status};

/// Parses, and looks that every complaint points into the text and can be shown.
fn parse(text: &str) -> Option<Part> {
    match Part::parse("bent.toml", text) {
        Ok(part) => Some(part),
        Err(error) => {
            assert!(!error.diagnostics().is_empty());
            for diagnostic in error.diagnostics() {
                assert!(diagnostic.span.start <= text.len() && diagnostic.span.end <= text.len(), "{diagnostic:?}");
                assert!(!diagnostic.message.is_empty() && !diagnostic.name.is_empty());
            }
            assert!(error.to_string().contains("bent.toml"));
            None
        }
    }
}

/// The shipped sheets, and those of the reference, which have every key there is.
fn sheets() -> &'static [String] {
    static ALL: OnceLock<Vec<String>> = OnceLock::new();
    ALL.get_or_init(read_sheets)
}

fn read_sheets() -> Vec<String> {
    let reference = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../docs/sheet.md")).unwrap();
    let blocks = reference.split("\n```toml file=").skip(1);
    let blocks = blocks.map(|block| block.split_once('\n').unwrap().1.split("\n```").next().unwrap().to_owned());
    let all: Vec<String> = shipped().into_iter().map(|(_, text)| text).chain(blocks).collect();
    assert!(all.len() > 14, "{}", all.len());
    all
}

/// Everything a part can be asked, with bytes that mean nothing.
fn use_it(part: &Part, bytes: &[u8]) {
    let reset = yemdo::State::reset(part);
    for (id, quantity) in part.quantities().entries().take(2) {
        let now = yemdo::configure::quantity_value(part, id, &reset).unwrap_or(1.0);
        let wishes = Wish::parse(part, &format!("{}={}", quantity.name(), now * 0.7 + 1.0)).into_iter().collect::<Vec<_>>();
        let _ = configure(part, &reset, &wishes, WriteScope::All);
    }
    for field in part.fields() {
        let wishes = Wish::parse(part, &format!("{}=1", field.name())).into_iter().collect::<Vec<_>>();
        let _ = configure(part, &reset, &wishes, WriteScope::All);
    }
    for routine in part.routines().ids() {
        // Assumed, and with an answer that means nothing.
        for answer in [Answer::Assumed, Answer::Bytes(bytes), Answer::Nak] {
            let Ok(runner) = Runner::new(part, routine, reset.clone()) else { continue };
            let mut runner = if answer == Answer::Assumed { runner.dry() } else { runner };
            let mut next = runner.start();
            for _ in 0..200 {
                let Ok(Some(asked)) = next else { break };
                next = runner.answer(if matches!(asked.operation, Operation::Wait(_)) { Answer::Done } else { answer });
            }
        }
    }
    let mut decoder = Decoder::new(part);
    for frame in part.frames().ids() {
        let length = part.frames().get(frame).unwrap().length();
        let whole: Vec<u8> = bytes.iter().copied().cycle().take(length).collect();
        let _ = decoder.decode(frame, &whole);
        let _ = decoder.steps(frame, &whole);
        let _ = decoder.decode(frame, bytes);
        let _ = decoder.decode_many(frame, &whole.repeat(3), &mut Columns::new());
    }
    for reading in part.readings().ids() {
        let _ = yemdo::review::predict(part, reading);
        let _ = choose(part, Some(reading), &reset, &Limits::default());
        let _ = decoder.reason(part.frames().ids().next().unwrap_or(yemdo::FrameId::new(0)), bytes, reading, Status::FormulaFault);
    }
    let _ = choose(part, None, &reset, &Limits::default());
    for (bus, frame) in part.buses().all().flat_map(|bus| part.frames().iter().map(move |frame| (bus, frame))) {
        let _ = read_frame(part, bus, frame, &reset);
    }
    let _ = yemdo::review::warnings(part);
    let _ = yemdo::review::run_examples(part);
    let mut settings = yemdo::State::reset(part);
    for register in part.registers().ids() {
        let _ = yemdo::explain::explain(part, register, 0x5A5A_5A5A_5A5A_5A5A, &mut settings);
    }
}

#[test]
fn a_sheet_without_any_one_of_its_lines_gets_an_answer() {
    for text in sheets() {
        let lines: Vec<&str> = text.lines().collect();
        for left_out in (0..lines.len()).filter(|index| !lines[*index].trim().is_empty()) {
            let bent: Vec<&str> = lines.iter().enumerate().filter(|(index, _)| *index != left_out).map(|(_, line)| *line).collect();
            parse(&bent.join("\n"));
        }
    }
}

#[test]
fn a_sheet_that_ends_anywhere_gets_an_answer() {
    for text in sheets() {
        for end in (0..text.len()).step_by(37).filter(|end| text.is_char_boundary(*end)) {
            parse(&text[..end]);
        }
    }
}

#[test]
fn a_slip_of_the_hand_gets_an_answer() {
    let swaps = [
        ("[7:0]", "[0:7]"),
        ("b0", "b9"),
        ("b1", "w1"),
        ("signed", "singed"),
        ("= 0x", "= -0x"),
        ("\"", "'"),
        ("code", "cdoe"),
        (" = ", " == "),
        ("formula", "fromula"),
        ("{", "["),
        ("1", "999999999999999999999"),
        ("2", "2.5"),
        ("frame", "fraem"),
        ("x", ""),
        ("°", "\u{1F321}"),
        ("true", "1"),
        ("read", "raed"),
        ("in = ", "on = "),
        ("* ", "** "),
        ("- ", "− "),
        ("when", "wehn"),
        ("float", "double"),
    ];
    for text in sheets() {
        for (from, to) in swaps {
            for (at, _) in text.match_indices(from).take(6) {
                let bent = format!("{}{to}{}", &text[..at], &text[at + from.len()..]);
                if let Some(part) = parse(&bent) {
                    use_it(&part, &[0x89, 0x87, 0x1C]);
                }
            }
        }
    }
}

#[test]
fn examples_are_vectors_for_every_way_to_decode() {
    let mut vectors = 0;
    for (name, text) in shipped() {
        let part = Part::parse(&name, &text).unwrap();
        for example in part.examples() {
            let (mut alone, mut many) = (Decoder::new(&part), Decoder::new(&part));
            for (frame, bytes) in example.frames() {
                let Ok((whole, given)) = alone.frame_bytes(*frame, bytes) else { continue };
                let whole = whole.into_owned();
                let mut columns = Columns::new();
                many.decode_many_partial(*frame, &whole.repeat(700), given, &mut columns).unwrap();
                match alone.decode(*frame, bytes) {
                    Ok(decoded) => {
                        for (at, reading) in decoded.readings.iter().enumerate() {
                            for lane in [0, 1, 511, 512, 699] {
                                assert_eq!(columns.status(at, lane), reading.status, "{name} {}", reading.name);
                                assert_eq!(
                                    columns.values(at)[lane].to_bits(),
                                    reading.value.unwrap_or(f64::NAN).to_bits(),
                                    "{name} {}",
                                    reading.name
                                );
                            }
                        }
                        vectors += 1;
                    }
                    Err(Refusal::Check { .. }) => assert!((0..columns.len()).all(|frame| columns.failed_check(frame).is_some()), "{name}"),
                    Err(other) => panic!("{name}: {other}"),
                }
            }
        }
    }
    assert!(vectors >= 30, "{vectors}");
}

#[test]
fn every_flipped_bit_under_a_check_is_seen() {
    for (name, text) in shipped() {
        let part = Part::parse(&name, &text).unwrap();
        for example in part.examples() {
            let mut decoder = Decoder::new(&part);
            for (frame, bytes) in example.frames() {
                let model = part.frames().get(*frame).unwrap();
                if model.checks().is_empty() || bytes.len() != model.length() || decoder.decode(*frame, bytes).is_err() {
                    continue;
                }
                for check in model.checks() {
                    for slice in check.covered().into_iter().chain(check.place.iter().copied()) {
                        for bit in slice.low..=slice.high {
                            let mut damaged = bytes.clone();
                            damaged[slice.byte] ^= 1 << bit;
                            assert!(decoder.decode(*frame, &damaged).is_err(), "{name}: bit {bit} of byte {}", slice.byte);
                        }
                    }
                }
            }
        }
    }
}

#[test]
fn units_go_there_and_back() {
    let convert = |value: f64, from: &str, to: &str| Unit::find(from).unwrap().to(Unit::find(to).unwrap(), value);
    let cases = [
        (100.0, "°C", "°F", 212.0),
        (-40.0, "°F", "°C", -40.0),
        (0.0, "°C", "K", 273.15),
        (1013.25, "hPa", "Pa", 101_325.0),
        (1.0, "bar", "hPa", 1000.0),
        (1.0, "psi", "kPa", 6.894_757_293),
        (1.0, "g", "m/s²", 9.80665),
        (1000.0, "mg", "g", 1.0),
        (50.0, "%", "1", 0.5),
        (3.3, "V", "mV", 3300.0),
        (1.0, "kWh", "J", 3.6e6),
        (800.122, "mm", "m", 0.800_122),
        (36.0, "km/h", "m/s", 10.0),
        (180.0, "°", "rad", std::f64::consts::PI),
    ];
    for (value, from, to, expected) in cases {
        let found = convert(value, from, to).unwrap();
        assert!((found - expected).abs() <= expected.abs() * 1e-9 + 1e-9, "{value} {from} is {found} {to}");
    }
    assert_eq!(convert(1.0, "°C", "hPa"), None);
    for unit in UNITS {
        assert_eq!(Unit::find(unit.symbol), Some(unit), "{}", unit.symbol);
        for other in UNITS.iter().filter(|other| other.dimension == unit.dimension) {
            let back = unit.to(other, 12.5).and_then(|value| other.to(unit, value)).unwrap();
            assert!((back - 12.5).abs() < 1e-9, "{} to {} and back", unit.symbol, other.symbol);
        }
    }
    // Every unit of the shipped sheets is one of them, so that machine-readable output has its code.
    for (name, text) in shipped() {
        let part = Part::parse(&name, &text).unwrap();
        for reading in part.readings().iter().filter(|reading| reading.is_measured()) {
            assert!(Unit::find(reading.unit()).is_some(), "{name}: {}", reading.unit());
        }
    }
}

#[test]
fn the_schema_has_every_key_and_is_balanced() {
    let schema = yemdo::emit::json_schema();
    assert_eq!(schema.matches('{').count(), schema.matches('}').count());
    assert_eq!(schema.matches('[').count(), schema.matches(']').count());
    for table in [&yemdo::keys::SHEET, &yemdo::keys::FRAME, &yemdo::keys::FIELD, &yemdo::keys::CRC] {
        for key in table.keys {
            assert!(schema.contains(&format!("\"{}\": {{", key.name)), "{}", key.name);
        }
    }
    assert!(schema.contains("\"required\": [\"part\"]"));
}

#[test]
fn a_frame_of_varying_length_counts_its_own_bytes() {
    let (name, text) = shipped().into_iter().find(|(name, _)| name == "keelson-6").unwrap();
    let part = Part::parse(&name, &text).unwrap();
    let queue = part.frame("QUEUE").unwrap();
    let mut decoder = Decoder::new(&part);
    let sample = [0x64, 0, 0x38, 0xFF, 0, 0x20];
    for held in 0..=8u8 {
        let mut bytes = vec![held, 0];
        (0..held).for_each(|_| bytes.extend(sample));
        let present = |decoder: &mut Decoder, bytes: &[u8]| {
            decoder.decode(queue, bytes).unwrap().readings.iter().filter(|reading| reading.status != Status::Absent).count()
        };
        assert_eq!(present(&mut decoder, &bytes), usize::from(held));
        // What lies behind is not counted, as where a host reads the whole queue always.
        bytes.resize(50, 0xEE);
        assert_eq!(present(&mut decoder, &bytes), usize::from(held));
    }
    assert_eq!(decoder.decode(queue, &[2, 0, 1, 2]).unwrap_err().to_string(), "QUEUE is too short: expected 14 bytes, got 4");
    assert_eq!(decoder.decode(queue, &[0; 51]).unwrap_err().cause(), "too long");
    let columns = decoder.steps(queue, &parse_hex("01 00 64 00 38 FF 00 20").unwrap()).unwrap();
    assert_eq!((columns.bytes.len(), columns.readings.len()), (8, 1));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(std::env::var("PROPTEST_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(120)))]

    /// Characters of a shipped sheet exchanged at random.
    #[test]
    fn bent_sheets_never_panic(which in any::<prop::sample::Index>(), places in prop::collection::vec((any::<prop::sample::Index>(), "[-\\[\\]{}\"'=.,:0-9a-z \n°]"), 1..6), bytes in prop::collection::vec(any::<u8>(), 1..20)) {
        let text = &sheets()[which.index(sheets().len())];
        let mut characters: Vec<char> = text.chars().collect();
        for (place, with) in places {
            let at = place.index(characters.len());
            characters[at] = with.chars().next().unwrap_or(' ');
        }
        let bent: String = characters.into_iter().collect();
        if let Some(part) = parse(&bent) {
            use_it(&part, &bytes);
        }
    }

    /// Any bytes for any frame of any sheet.
    #[test]
    fn any_bytes_never_panic(which in any::<prop::sample::Index>(), bytes in prop::collection::vec(any::<u8>(), 0..60)) {
        use_it(&Part::parse("any.toml", &sheets()[which.index(sheets().len())]).unwrap(), if bytes.is_empty() { &[0] } else { &bytes });
    }

    /// What is on the wire is what is printed, less the base; and never another's.
    #[test]
    fn modbus_addresses_go_there_and_back(wire: u16, table in 0usize..4) {
        let table = [ModbusTable::Coils, ModbusTable::Discrete, ModbusTable::Input, ModbusTable::Holding][table];
        prop_assert_eq!(Numbering::SixDigits.wire(table.digit() * 100_000 + u32::from(wire) + 1, table), Ok(wire));
        prop_assert_eq!(Numbering::FromOne.wire(u32::from(wire) + 1, table), Ok(wire));
        prop_assert_eq!(Numbering::FromZero.wire(u32::from(wire), table), Ok(wire));
        if wire < 9999 {
            prop_assert_eq!(Numbering::FiveDigits.wire(table.digit() * 10_000 + u32::from(wire) + 1, table), Ok(wire));
        }
        prop_assert!(Numbering::FiveDigits.wire(50_001, table).is_err());
    }
}
