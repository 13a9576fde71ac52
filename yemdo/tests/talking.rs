//! What whoever drives a bus asks of a part without a routine, and what is found in the traffic of a bus.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::Path;

use yemdo::bus::{Bus, Transfer};
use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::record::{LogReader, TRAFFIC_HEADER, Traffic, TrafficFrames};
use yemdo::routine::Operation;
use yemdo::routine::{Answer, Failure, NotRunnable, Runner};
use yemdo::{Part, State};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

/// What is asked for, with these answers; and how it ends.
fn asked(runner: &mut Runner, answers: &[Answer<'_>]) -> (Vec<String>, Result<(), Failure>) {
    let (mut lines, mut answers) = (Vec::new(), answers.iter());
    let mut next = runner.start();
    loop {
        match next {
            Ok(Some(request)) => {
                lines.push(match &request.operation {
                    Operation::Transfer(transfer) => transfer.text(),
                    Operation::Wait(micros) => format!("wait {micros}"),
                    other => format!("{other:?}"),
                });
                next = runner.answer(*answers.next().unwrap_or(&Answer::Assumed));
            }
            Ok(None) => return (lines, Ok(())),
            Err(error) => return (lines, Err(error.failure)),
        }
    }
}

#[test]
fn neighbouring_registers_come_in_one_transfer() {
    let lantern = sheet("lantern-16");
    let ids = |part: &Part, names: &[&str]| names.iter().map(|name| part.register(name).unwrap()).collect::<Vec<_>>();
    let mut runner = Runner::reading_registers(&lantern, State::reset(&lantern), &ids(&lantern, &["LEVEL", "WARM", "ID"])).unwrap();
    let answers = [Answer::Bytes(&[0x12, 0x34, 0x56, 0x78]), Answer::Bytes(&[0x4C, 0x61])];
    assert_eq!(asked(&mut runner, &answers), (vec!["0x4E W 21 R 4 bytes".into(), "0x4E W 30 R 2 bytes".into()], Ok(())));
    let value = |name: &str| runner.state().register(lantern.registers().get(lantern.register(name).unwrap()).unwrap());
    assert_eq!((value("LEVEL"), value("WARM"), value("ID")), (0x1234, 0x5678, 0x4C61));
    // Another order, another bank, and parts that do not count up: a transfer for each.
    let (lines, _) =
        asked(&mut Runner::reading_registers(&lantern, State::reset(&lantern), &ids(&lantern, &["WARM", "LEVEL"])).unwrap(), &[]);
    assert_eq!(lines, ["0x4E W 22 R 2 bytes", "0x4E W 21 R 2 bytes"]);
    let keelson = sheet("keelson-6");
    let some = ids(&keelson, &["STATUS", "GYR_0", "GYR_1", "GYR_2", "TEMP", "ACC_0", "TRIM_0", "TRIM_1"]);
    let (lines, _) = asked(&mut Runner::reading_registers(&keelson, State::reset(&keelson), &some).unwrap(), &[]);
    // The bank is selected before, and put back after.
    assert_eq!(lines, ["0x55 W 30 R 10 bytes", "0x55 W 0E 01", "0x55 W 2C R 2 bytes", "0x55 W 0E 00"]);
    let (lines, _) =
        asked(&mut Runner::reading_registers(&keelson, State::reset(&keelson), &some).unwrap().on_bus(Bus::Spi, None).unwrap(), &[]);
    assert_eq!(lines, ["C3, 10 bytes in", "38 01", "B3, 2 bytes in", "38 00"]);
    let single = part("part = \"p\"\ni2c = { address = 0x2B, auto_increment = false }\nregister.A = { at = 1 }\nregister.B = { at = 2 }\n");
    let (lines, _) = asked(&mut Runner::reading_registers(&single, State::reset(&single), &ids(&single, &["A", "B"])).unwrap(), &[]);
    assert_eq!(lines, ["0x2B W 01 R 1 byte", "0x2B W 02 R 1 byte"]);
    // So many that one Modbus response does not hold them.
    let rows: String = (0..40).map(|at| format!("register.R{at} = {{ at = {}, width = 16 }}\n", 100 + at)).collect();
    let long = part(&format!("part = \"p\"\nmodbus = {{ numbering = \"from 0\", unit = 4 }}\n{rows}"));
    let all: Vec<_> = long.registers().ids().collect();
    let mut runner = Runner::reading_registers(&long, State::reset(&long), &all).unwrap();
    let mut next = runner.start().unwrap();
    let mut sizes = Vec::new();
    while let Some(request) = next {
        let Operation::Transfer(transfer) = &request.operation else { panic!() };
        sizes.push(transfer.receive);
        next = runner.answer(Answer::Assumed).unwrap();
    }
    assert_eq!(sizes, [67, 23]);
}

#[test]
fn writes_are_compared_one_by_one() {
    let thole = sheet("thole-9");
    let start = State::reset(&thole);
    let wishes = ["RESOLUTION=11 bits", "lower_threshold=3.2 °C"].map(|typed| Wish::parse(&thole, typed).unwrap());
    let done = configure(&thole, &start, &wishes, WriteScope::Changed).unwrap();
    let good = [Answer::Done, Answer::Bytes(&[0x82]), Answer::Done, Answer::Bytes(&[0x02, 0x80])];
    let mut runner = Runner::writing(&thole, start.clone(), &done.writes, true).unwrap();
    let (lines, ended) = asked(&mut runner, &good);
    assert_eq!(
        (lines, ended),
        (["0x51 W 14 82", "0x51 W 14 R 1 byte", "0x51 W 26 02 80", "0x51 W 26 R 2 bytes"].map(String::from).to_vec(), Ok(()))
    );
    assert_eq!(runner.state(), &done.state);
    // Not compared: the writes alone.
    let (lines, _) = asked(&mut Runner::writing(&thole, start.clone(), &done.writes, false).unwrap(), &[]);
    assert_eq!(lines, ["0x51 W 14 82", "0x51 W 26 02 80"]);
    // What reads otherwise ends it, and nothing is written after it.
    let other = [Answer::Done, Answer::Bytes(&[0x86])];
    let mut runner = Runner::writing(&thole, start.clone(), &done.writes, true).unwrap();
    let (lines, ended) = asked(&mut runner, &other);
    assert!(matches!(ended, Err(Failure::NotTaken { values: (0x82, 0x86), .. })), "{ended:?}");
    assert_eq!(lines.len(), 2);
    let mut runner = Runner::writing(&thole, start, &done.writes, true).unwrap();
    assert_eq!(asked(&mut runner, &[Answer::Nak]).1, Err(Failure::NoAnswer { tries: 1 }));
    // Without a bus there is nobody to write to.
    let nowhere = part("part = \"p\"\nregister.A = { at = 1, field.F = { bits = \"[0]\" } }\n");
    assert_eq!(Runner::writing(&nowhere, State::reset(&nowhere), &[], true).unwrap_err(), NotRunnable::NoBus);
}

#[test]
fn a_routine_runs_again_as_it_ran() {
    let thole = sheet("thole-9");
    let first = Runner::new(&thole, thole.routine("measure").unwrap(), State::reset(&thole)).unwrap();
    let lines = asked(&mut first.clone(), &[]).0;
    assert_eq!(asked(&mut first.again(&State::reset(&thole)).unwrap(), &[]).0, lines);
    // From other registers it writes others.
    let mut stopped = State::reset(&thole);
    let mode = thole.registers().get(thole.register("MODE").unwrap()).unwrap();
    stopped.set_register(mode, 0x04);
    let again = first.again(&stopped).unwrap();
    assert_eq!(asked(&mut again.clone(), &[]).0[..2], ["0x51 W 14 84", "wait 34100"]);
    let frame = Runner::reading_frame(&thole, State::reset(&thole), thole.frame("FROST").unwrap()).unwrap();
    assert_eq!(asked(&mut frame.clone(), &[]).0, ["0x51 W 31 R 3 bytes"]);
    assert_eq!(frame.again(&stopped).unwrap_err(), NotRunnable::UnknownRoutine);
}

/// Lines of a recording, as they are read.
fn traffic(lines: &str) -> Vec<Traffic> {
    lines.lines().filter_map(|line| Traffic::parse(line.trim()).unwrap_or_else(|error| panic!("{line}: {error}"))).collect()
}

#[test]
fn frames_are_found_in_the_traffic_of_several_parts() {
    let binnacle = sheet("binnacle-24");
    let words = [0x7AB4, 0x3B45, 0xB098, 0x8C1F, 0xB5C2, 0x08A6, 0xE040, 0xE7AE];
    let commands = [0x05, 0x15, 0x25, 0x35, 0x45, 0x55, 0x65, 0x75];
    let line = |command: u8, word: u16| format!("0.1 i2c 0x34 W {command:02X} R 2 = {:02X} {:02X}\n", word >> 8, word & 0xFF);
    let mut text: String = commands.iter().zip(words).map(|(command, word)| line(*command, word)).collect();
    // The others on the bus, a command, and a read that failed, are none of its frames.
    text.push_str("0.2 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24\n0.3 i2c 0x34 W 7A\n0.4 i2c 0x34 W 31 R 3 ! address not acknowledged\n");
    text.push_str("0.5 i2c 0x34 W 31 R 3 = 7F 5C 38\n");
    let mut frames = TrafficFrames::new(&binnacle, &State::reset(&binnacle));
    let found: Vec<_> = traffic(&text).iter().flat_map(|one| frames.take(one)).collect();
    let names: Vec<&str> = found.iter().map(|(id, _)| binnacle.frames().get(*id).unwrap().name()).collect();
    assert_eq!((names, found[0].1.len(), found[1].1.as_slice()), (vec!["CALIBRATION", "TEMPERATURE"], 16, &[0x7F, 0x5C, 0x38][..]));
    // A frame that breaks off begins anew.
    let half: String = commands.iter().zip(words).take(5).map(|(command, word)| line(*command, word)).collect();
    let whole: String = commands.iter().zip(words).map(|(command, word)| line(*command, word)).collect();
    let mut frames = TrafficFrames::new(&binnacle, &State::reset(&binnacle));
    let found: Vec<_> = traffic(&(half + &whole)).iter().flat_map(|one| frames.take(one)).collect();
    assert_eq!((found.len(), found[0].1.len()), (1, 16));
    // Modbus: the response as it came, of the unit that was asked.
    let garboard = sheet("garboard-rs");
    let mut frames = TrafficFrames::new(&garboard, &State::reset(&garboard));
    let lines = "0.1 modbus 17 W 11 01 00 00 00 0A BE 9D R 7 = 11 01 02 05 02 FA AE\n0.2 modbus 18 W 12 01 00 00 00 0A BE AE R 7 = 12 01 02 05 02 FA EA\n";
    let found: Vec<_> = traffic(lines).iter().flat_map(|one| frames.take(one)).collect();
    assert_eq!((found.len(), garboard.frames().get(found[0].0).unwrap().name()), (1, "SWITCHES"));
}

#[test]
fn a_recording_is_a_log() {
    let strake = sheet("strake-20");
    let mut log = LogReader::new(&strake, None);
    let mut records = Vec::new();
    for line in [
        TRAFFIC_HEADER,
        "# strake-20 at i2c:1",
        "0.000000 i2c 0x2C W 5A 10",
        "0.015473 i2c 0x2C R 7 = 89 87 1C 3E 0C 12 24",
        "",
        "0.016 i2c 0x2C R seven",
        "yesterday",
        "0.020 i2c 0x2C R 7 ! address not acknowledged",
        "1.5 i2c 0x2C R 7 = 89 87 1C 20 00 42 AE",
    ] {
        records.extend(log.line(line).unwrap());
    }
    let told: Vec<(u64, Option<&str>, Option<&str>)> =
        records.iter().map(|record| (record.line, record.time.as_deref(), record.bytes.as_ref().err().map(String::as_str))).collect();
    assert_eq!(
        told,
        [
            (4, Some("0.015473"), None),
            (6, None, Some("expected the number of bytes behind R")),
            (7, None, Some("expected seconds first, such as 0.015412")),
            (9, Some("1.5"), None),
        ]
    );
    assert_eq!(records[3].bytes.as_ref().unwrap()[3], 0x20);
    // The header only counts in the first line: elsewhere it is a comment like others.
    let mut log = LogReader::new(&strake, None);
    assert!(log.line("89 87 1C 3E 0C 12 24").unwrap().len() == 1 && log.line(TRAFFIC_HEADER).unwrap().is_empty());
}

#[test]
fn lines_of_traffic_that_are_none_say_what_was_expected() {
    for (line, expected) in [
        ("soon i2c 0x2C R 7", "expected seconds first, such as 0.015412"),
        ("0.1234567 i2c 0x2C R 7", "expected seconds first, such as 0.015412"),
        ("0.1 can 0x2C R 7", "expected a bus: i2c, spi or modbus"),
        ("0.1 i2c", "expected an address"),
        ("0.1 i2c W 12", "`W` is not an address"),
        ("0.1 modbus 999 W 12", "`999` is not an address"),
        ("0.1 spi W 12 R", "expected the number of bytes behind R"),
        ("0.1 spi W 12 R 99999999", "expected the number of bytes behind R"),
        ("0.1 spi W 12 34 X", "expected W, R, = or !, not `X`"),
        ("0.1 spi R 2 = 1G", "`1G` at column 1 is not hex; write bytes as 1A 2B, 0x1A,0x2B or 1A2B"),
    ] {
        assert_eq!(Traffic::parse(line).unwrap_err(), expected, "{line}");
    }
    assert_eq!((Traffic::parse("# a comment"), Traffic::parse("  ")), (Ok(None), Ok(None)));
    let spi = Traffic::parse("12.5 spi W C3 R 2 = 01 02").unwrap().unwrap();
    let transfer = Transfer { bus: Bus::Spi, address: None, send: vec![0xC3], receive: 2, restart: false, discard: false };
    assert!(
        spi.is(&transfer) && !spi.is(&Transfer { receive: 3, ..transfer.clone() }) && !spi.is(&Transfer { send: vec![0xC2], ..transfer })
    );
}
