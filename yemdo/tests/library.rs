//! The library as an engineer uses it: handles, names, ways to decode, logs and dumps, errors with their causes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

mod common;

use std::error::Error;
use std::thread;

use common::shipped;
use proptest::prelude::*;
use yemdo::configure::ConfigureError;
use yemdo::part::Id;
use yemdo::record::{LogReader, parse_dump, parse_register};
use yemdo::routine::{RoutineError, Runner};
use yemdo::{Columns, Decoded, Decoder, FrameId, FrameValues, Part, ReadingId, Refusal, SheetError, State, Status, UnknownName, parse_hex};

fn shipped_part(name: &str) -> Part {
    let (path, text) = shipped().into_iter().find(|(known, _)| known == name).unwrap();
    Part::parse(&path, &text).unwrap()
}

/// Everything that is handed out can go to another thread, and live as long as it likes.
#[test]
fn all_of_it_is_send_sync_and_owned() {
    fn all<T: Send + Sync + 'static>() {}
    all::<Part>();
    all::<Decoder>();
    all::<Runner>();
    all::<Decoded>();
    all::<Columns>();
    all::<FrameValues>();
    all::<State>();
    all::<LogReader>();
    fn errors<T: Error + Send + Sync + 'static>() {}
    errors::<SheetError>();
    errors::<UnknownName>();
    errors::<Refusal>();
    errors::<RoutineError>();
    errors::<ConfigureError>();
    // A decoder outlives the handle that it was made with, and several share one part.
    let decoder = {
        let part = shipped_part("strake-20");
        Decoder::new(&part)
    };
    let bytes = parse_hex("89 87 1C 3E 0C 12 24").unwrap();
    let decoders: Vec<Decoder> = (0..4).map(|_| decoder.clone()).collect();
    let values: Vec<Option<f64>> = thread::scope(|scope| {
        let running: Vec<_> = decoders
            .into_iter()
            .map(|mut decoder| {
                let bytes = &bytes;
                scope.spawn(move || {
                    let air = decoder.part().frame("AIR").unwrap();
                    decoder.decode(air, bytes).unwrap().reading("temperature").unwrap().value
                })
            })
            .collect();
        running.into_iter().map(|thread| thread.join().unwrap()).collect()
    });
    assert!(values[0].is_some() && values.iter().all(|value| *value == values[0]));
}

#[test]
fn a_wrong_name_says_what_it_may_have_meant() {
    let part = shipped_part("lantern-16");
    assert_eq!(part.field("GAINN").unwrap_err().to_string(), "lantern-16 has no field `GAINN`; did you mean `GAIN`?");
    let unknown = part.routine("mesure").unwrap_err();
    assert_eq!(
        (unknown.message(), unknown.help()),
        ("lantern-16 has no routine `mesure`".to_owned(), "did you mean `measure`?".to_owned())
    );
    assert!(unknown.known.contains(&"measure".to_owned()));
    for error in [
        part.frame("nowhere").unwrap_err(),
        part.reading("nowhere").unwrap_err(),
        part.register("nowhere").unwrap_err(),
        part.quantity("nowhere").unwrap_err(),
        part.parameter("nowhere").unwrap_err(),
    ] {
        let (one, several) = error.kind.words();
        assert_eq!(error.message(), format!("lantern-16 has no {one} `nowhere`"));
        assert!(error.help().contains(several), "{}", error.help());
    }
    // Every name that there is leads to its own.
    for (name, text) in shipped() {
        let part = Part::parse(&name, &text).unwrap();
        assert!(part.frames().entries().all(|(id, frame)| part.frame(frame.name()).unwrap() == id), "{name}");
        for id in part.frames().iter().flat_map(|frame| frame.readings()) {
            assert_eq!(part.reading(part.readings().get(*id).unwrap().name()), Ok(*id), "{name}");
        }
        assert!(part.registers().entries().all(|(id, register)| part.register(register.name()).unwrap() == id), "{name}");
    }
}

#[test]
fn a_reading_prints_as_people_write_it() {
    let part = shipped_part("strake-20");
    let mut decoder = Decoder::new(&part);
    let air = part.frame("AIR").unwrap();
    let decoded = decoder.decode(air, &parse_hex("89 87 1C 3E 0C 12 24").unwrap()).unwrap();
    for reading in &decoded.readings {
        assert_eq!(Some(reading.to_string()), reading.value_text(), "all is well, so nothing is added");
        assert!(reading.to_string().ends_with(&reading.unit));
    }
    assert_eq!(decoded.reading("humidty").unwrap_err().help(), "did you mean `humidity`?");
    // No value, and why.
    let text = "part = \"p\"\nframe.F = { read = 1, code = { c = \"b0\" }, status = [{ when = \"c == 255\", is = \"not ready\", means = \"still converting\" }] }\nreading.r = { unit = \"V\", formula = \"10 / c\", range = [1, 5] }\n";
    let part = Part::parse("p", text).unwrap();
    let mut decoder = Decoder::new(&part);
    let mut shown = |byte: u8| decoder.decode(part.frame("F").unwrap(), &[byte]).unwrap().readings[0].to_string();
    assert_eq!(shown(0), "no value: formula fault: division by zero in line 3 of the sheet: 10 / 0");
    assert_eq!(shown(255), "no value: not ready: still converting");
    assert_eq!((shown(5), shown(1)), ("2 V".to_owned(), "10 V (out of range)".to_owned()));
}

#[test]
fn an_id_of_another_part_is_refused() {
    let (small, large) = (shipped_part("thole-9"), shipped_part("binnacle-24"));
    let foreign = large.frames().ids().last().unwrap();
    let mut decoder = Decoder::new(&small);
    assert!(small.frames().get(foreign).is_none());
    assert_eq!(decoder.decode(foreign, &[0; 3]).unwrap_err(), Refusal::UnknownFrame);
    assert_eq!(decoder.decode_into(foreign, &[0; 3], &mut FrameValues::new()).unwrap_err(), Refusal::UnknownFrame);
    assert_eq!(decoder.decode_many(foreign, &[0; 3], &mut Columns::new()).unwrap_err(), Refusal::UnknownFrame);
    assert!(decoder.steps(foreign, &[0; 3]).is_err() && decoder.age(foreign).is_none());
    assert_eq!(Refusal::UnknownFrame.to_string(), "there is no such frame");
}

proptest! {
    /// One frame at a time, many, and those of a log that are cut short: the same values and statuses.
    #[test]
    fn the_ways_to_decode_agree(which in 0usize..9, noise in prop::collection::vec(any::<u8>(), 80)) {
        let (name, text) = shipped().swap_remove(which);
        let part = Part::parse(&name, &text).unwrap();
        for (id, frame) in part.frames().entries() {
            let length = frame.length();
            let frames: Vec<u8> = noise.iter().copied().cycle().take(length * 3).collect();
            let mut columns = Columns::new();
            let many = Decoder::new(&part).decode_many(id, &frames, &mut columns);
            let (mut decoder, mut kept) = (Decoder::new(&part), FrameValues::new());
            // Frames of which not all bytes count, and those that are refused alone, are never decoded among many.
            let whole = frames.chunks_exact(length).all(|bytes| decoder.frame_bytes(id, bytes).is_ok_and(|(_, given)| given == length));
            prop_assert_eq!(many.is_ok(), whole, "{} {} {:?}", &name, frame.name(), many);
            if !whole {
                continue;
            }
            prop_assert!(columns.len() == 3 && columns.readings() == frame.shown().count());
            for (at, bytes) in frames.chunks_exact(length).enumerate() {
                match decoder.decode_into(id, bytes, &mut kept) {
                    Ok(()) => {
                        for reading in 0..kept.len() {
                            let (one, all) = (kept.value(reading), Some(columns.values(reading)[at]).filter(|value| !value.is_nan()));
                            prop_assert_eq!(one.map(f64::to_bits), all.map(f64::to_bits), "{} {}", name, frame.name());
                            prop_assert_eq!(kept.status(reading), columns.status(reading, at));
                        }
                    }
                    Err(Refusal::Check { .. }) => prop_assert!(columns.failed_check(at).is_some()),
                    Err(other) => prop_assert!(false, "{other}"),
                }
            }
        }
    }

    /// Any text is a log, or is told why not; a frame that comes out has its line.
    #[test]
    fn any_text_may_be_a_log(lines in prop::collection::vec("[0-9A-Fa-fx ,;{}\"#a-z]{0,30}", 0..12)) {
        let part = shipped_part("strake-20");
        let mut log = LogReader::new(&part, None);
        for (at, line) in lines.iter().enumerate() {
            let Ok(records) = log.line(line) else { return Ok(()) };
            prop_assert!(records.iter().all(|record| record.line <= at as u64 + 1 && record.line > 0));
        }
        prop_assert!(log.end().len() <= 1);
    }
}

#[test]
fn logs_come_in_the_forms_people_have() {
    let part = shipped_part("binnacle-24");
    let pressure = part.frame("PRESSURE").unwrap();
    let read = |frame: Option<FrameId>, text: &str| {
        let mut log = LogReader::new(&part, frame);
        let mut all = Vec::new();
        for line in text.lines() {
            match log.line(line) {
                Ok(records) => all.extend(records),
                Err(error) => return Err(format!("{error}; {}", error.help.clone().unwrap_or_default())),
            }
        }
        all.extend(log.end());
        Ok(all.into_iter().map(|record| (record.line, record.time, record.frame, record.bytes.ok())).collect::<Vec<_>>())
    };
    let bytes = || Some(vec![0x84, 0x6B, 0x40]);
    for text in ["84 6B 40", "0x84,0x6B,0x40", "846B40", "uint8_t raw[] = {\n 0x84, 0x6b,\n 64 };", "# as found\n\n84:6b:40"] {
        let records = read(Some(pressure), text).unwrap();
        assert_eq!(records.iter().map(|(_, _, frame, bytes)| (*frame, bytes.clone())).collect::<Vec<_>>(), [(pressure, bytes())], "{text}");
    }
    // A time before bytes that cannot be bytes itself; a time of day alone could be.
    for (time, apart) in [("2031-02-07T08:00:01.5", ","), ("2031-02-07 08:00:01", " "), ("08:00:01.250", "; "), ("[08:00:01]", "\t")] {
        let records = read(Some(pressure), &format!("{time}{apart}84 6B 40")).unwrap();
        assert_eq!(records, [(1, Some(time.trim_matches(['[', ']']).to_owned()), pressure, bytes())]);
    }
    assert_eq!(read(Some(pressure), "08:00:01 84 6B 40").unwrap()[0].3, Some(vec![8, 0, 1, 0x84, 0x6B, 0x40]));
    // CSV, with a column a frame or one for all; quotes and other separators; a record need not have them all.
    let csv = read(None, "time;PRESSURE;TEMPERATURE\n12:00;84 6B 40;\n\"12;01\";;7F 5C 38\n").unwrap();
    assert_eq!(csv[0], (2, Some("12:00".to_owned()), pressure, bytes()));
    assert_eq!((csv.len(), csv[1].1.as_deref(), csv[1].2), (2, Some("12;01"), part.frame("TEMPERATURE").unwrap()));
    let one = read(Some(pressure), "frame,time\n846B40,7\n,8\n").unwrap();
    assert_eq!(one.iter().map(|record| record.3.clone()).collect::<Vec<_>>(), [bytes(), None]);
    assert!(read(None, "84 6B 40").unwrap_err().contains("binnacle-24 has several frames; choose one with --frame"));
    assert!(read(None, "time,value\n1,2\n").unwrap_err().contains("no column with frames"));
    // One line too long is one line refused.
    let long = format!("84 6B 40\n{}\n84 6B 40", "9A ".repeat(30_000));
    assert_eq!(read(Some(pressure), &long).unwrap().iter().map(|record| record.3.is_some()).collect::<Vec<_>>(), [true, false, true]);
    // Nothing of a log may steer a terminal.
    assert_eq!(read(None, "time,PRESSURE\n\u{1b}[2J,9A6B40").unwrap()[0].1.as_deref(), Some("\\u{1b}[2J"));
    // The frame's name before its bytes, or in a column of its own, as our own CSV has it; or told by its length alone.
    let calibration = part.frame("CALIBRATION").unwrap();
    let words = "7A B4 3B 45 B0 98 8C 1F B5 C2 08 A6 E0 40 E7 AE";
    let frames = |text: &str| read(None, text).unwrap().into_iter().map(|record| (record.2, record.3.is_some())).collect::<Vec<_>>();
    assert_eq!(
        frames(&format!("PRESSURE 84 6B 40\ncalibration: {words}\n{words}")),
        [(pressure, true), (calibration, true), (calibration, true)]
    );
    assert_eq!(
        frames("time,frame,bytes,note\n1,PRESSURE,84 6B 40,\"two\nlines\"\n2,PRESURE,84 6B 40,\n"),
        [(pressure, true), (FrameId::new(0), false)]
    );
    // A comma for the point of a time moves the cells; a minus is no separator.
    assert_eq!(frames("time,PRESSURE\n0,5,84 6B 40\n0.5,84-6B-40"), [(FrameId::new(0), false), (pressure, true)]);
    assert_eq!(read(Some(pressure), "84 6B 40\n84 6B -40").unwrap()[1].3, None);
    let mut marked = LogReader::new(&part, Some(pressure));
    assert_eq!(marked.line_bytes(b"\xEF\xBB\xBF84 6B 40\r\n").unwrap()[0].bytes, Ok(vec![0x84, 0x6B, 0x40]));
    assert!(marked.clone().line_bytes(b"84 6B 40").is_ok() && LogReader::new(&part, None).line_bytes(b"\xFF\xFE8\0").is_err());
}

#[test]
fn dumps_are_registers_and_their_values() {
    let text = "part = \"p\"\nregister.MODE = { at = 0x11 }\nregister.LEVEL = { at = 0x12, width = 16 }\nregister.LAST = { at = 0x14 }\n";
    let part = Part::parse("p", text).unwrap();
    let [mode, level, last] = ["MODE", "LEVEL", "LAST"].map(|name| part.register(name).unwrap());
    for typed in ["MODE=2A", "0x11: 2A", "11,0x2A", "MODE 2a # as found\n\n"] {
        assert_eq!(parse_dump(&part, typed).unwrap(), [(mode, 0x2A)], "{typed}");
    }
    assert_eq!(parse_dump(&part, "0x11: 2A 1F40 07").unwrap(), [(mode, 0x2A), (level, 0x1F40), (last, 7)]);
    // In a dump values are hex; typed one by one they are as people type whole numbers.
    assert_eq!(parse_register(&part, "MODE=42").unwrap(), [(mode, 42)]);
    assert_eq!(parse_register(&part, "MODE=0b0010_1010").unwrap(), [(mode, 42)]);
    let refused = [
        ("", "there is no register in the dump"),
        ("# nothing\n", "there is no register in the dump"),
        ("MODE", "line 1: `MODE` has no value"),
        ("MODE=2A\nMODE=12A", "line 2: 12A does not fit in MODE, which has 8 bits"),
        ("LAST=1 2", "line 1: `2`: no register follows there"),
        ("MODE=zz", "line 1: `zz` is not a value of MODE"),
        ("MODE=2A\n0x12: 1F40\n0x11: 2B", "line 3: MODE is 0x2B here, and 0x2A above"),
        ("MOED=1", "line 1: p has no register `MOED`"),
    ];
    for (typed, said) in refused {
        assert_eq!(parse_dump(&part, typed).unwrap_err().to_string(), said);
    }
}

#[test]
fn ages_and_what_is_in_use_are_told() {
    let part = shipped_part("lantern-16");
    let decoder = Decoder::new(&part);
    let frames: Vec<FrameId> = part.frames().ids().collect();
    let in_use = decoder.in_use(&frames);
    assert!(in_use.iter().all(|used| used.as_reset) && in_use.iter().any(|used| used.name.contains("GAIN")), "{in_use:?}");
    let mut set = decoder.clone();
    set.state_mut().set_field(part.fields().get(part.field("GAIN").unwrap()).unwrap(), 2);
    assert!(set.in_use(&frames).iter().any(|used| !used.as_reset));
    let unknown: ReadingId = part.readings().ids().next().unwrap();
    assert_eq!(part.readings().get(unknown).map(|reading| reading.name().to_owned()), part.readings().first().map(|r| r.name().to_owned()));
    let binnacle = shipped_part("binnacle-24");
    let mut decoder = Decoder::new(&binnacle);
    let temperature = binnacle.frame("TEMPERATURE").unwrap();
    assert_eq!(decoder.age(temperature), None);
    decoder.decode(temperature, &parse_hex("7F 5C 38").unwrap()).unwrap();
    let before = decoder.age(temperature);
    let waiting = decoder.decode(binnacle.frame("PRESSURE").unwrap(), &parse_hex("84 6B 40").unwrap()).unwrap();
    assert_eq!(waiting.readings[0].status, Status::Waiting);
    assert!(before.is_some() && decoder.age(temperature) > before);
}
