//! What follows from settings: those that no register holds, commands and times by formulas, arrays with names, fields put
//! together from others, quantities in readings, ranges that move; and worked examples of settings.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::bus::Bus;
use yemdo::configure::{Limits, NotReadable, Wish, WriteScope, choose, configure, read_frame};
use yemdo::review::{predict, run_examples};
use yemdo::routine::Operation;
use yemdo::routine::{Answer, Runner};
use yemdo::stand_in::{Reaction, Rule, StandIn};
use yemdo::{Columns, Decoder, FrameValues, Part, State, Status};

/// The sheet of the reference, so that what is tested here is what is documented.
fn documented() -> Part {
    let reference = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../docs/sheet.md")).unwrap();
    let (_, rest) = reference.split_once("file=channels.toml\n").unwrap();
    Part::parse("channels.toml", rest.split_once("\n```").unwrap().0).unwrap_or_else(|error| panic!("{error}"))
}

fn part(text: &str) -> Part {
    Part::parse("p.toml", &format!("part = \"p\"\ni2c.address = 0x2B\n{text}")).unwrap_or_else(|error| panic!("{error}"))
}

fn complaint(text: &str) -> String {
    Part::parse("p.toml", &format!("part = \"p\"\ni2c.address = 0x2B\n{text}")).expect_err(text).to_string()
}

fn settings(part: &Part, typed: &[&str]) -> State {
    let mut settings = State::reset(part);
    for typed in typed {
        let Ok(Wish::Field { field, code, .. }) = Wish::present(part, typed) else { panic!("{typed}") };
        settings.set_field(part.fields().get(field).unwrap(), code);
    }
    settings
}

fn words(operations: &[Operation]) -> Vec<String> {
    let one = |operation: &Operation| match operation {
        Operation::Transfer(transfer) => transfer.text(),
        Operation::Wait(micros) => format!("wait {micros}"),
        other => panic!("{other:?}"),
    };
    operations.iter().map(one).collect()
}

/// The bytes that configuring sends, or what is wrong with it and what to try.
fn sends(part: &Part, typed: &[&str]) -> Result<Vec<String>, (String, Option<String>)> {
    let wishes: Vec<Wish> =
        typed.iter().map(|typed| Wish::parse(part, typed).map_err(|error| (error.message, error.help))).collect::<Result<_, _>>()?;
    let done = configure(part, &State::reset(part), &wishes, WriteScope::Changed).map_err(|error| (error.to_string(), error.help()))?;
    let send = |write: &yemdo::configure::Write| {
        let register = part.registers().get(write.register).unwrap();
        yemdo::to_hex(&yemdo::configure::write_register(part, Bus::I2c, register, write.value).unwrap().send)
    };
    Ok(done.writes.iter().map(send).collect())
}

#[test]
fn commands_and_times_follow_from_settings() {
    let part = documented();
    let frame = |name: &str| part.frames().get(part.frame(name).unwrap()).unwrap();
    let read = |name: &str, set: &[&str]| read_frame(&part, Bus::I2c, frame(name), &settings(&part, set)).map(|list| words(&list));
    assert_eq!(read("PULL", &[]).unwrap(), ["0x3B W 4C 03", "wait 48000", "0x3B R 5 bytes"]);
    assert_eq!(read("PULL", &["RATE=brisk"]).unwrap(), ["0x3B W 4C 23", "wait 11500", "0x3B R 5 bytes"]);
    assert_eq!(read("BOTH", &[]).unwrap(), ["0x3B W 4D", "wait 2000", "0x3B R 1 byte", "0x3B W 4E R 1 byte"]);
    assert_eq!(read_frame(&part, Bus::Modbus, frame("PULL"), &State::reset(&part)).unwrap_err(), NotReadable::OtherBus(Bus::Modbus));
    // What no byte holds is not cut.
    let wide = self::part(
        "parameter.N = { default = 3, range = [0, 1000] }\nframe.F = { command = [\"N * 100\"], read = 1, code = { c = \"b0\" } }\n",
    );
    let error = read_frame(&wide, Bus::I2c, wide.frames().first().unwrap(), &State::reset(&wide)).unwrap_err();
    assert_eq!(error.to_string(), "`N * 100` gives nothing that can be sent or waited for, with these settings");
    assert!(complaint("frame.F = { read = 1, wait = \"1 ms\", code = { c = \"b0\" } }").contains("no `command`"));
    assert!(complaint("frame.F = { command = [\"c\"], read = 1, code = { c = \"b0\" } }").contains("not known"));
}

#[test]
fn a_routine_sets_what_no_register_holds_and_writes_what_is_computed() {
    let part = documented();
    let mut state = State::reset(&part);
    state.set_parameter(&part, part.parameter("length").unwrap(), 30.0).unwrap();
    let mut runner = Runner::new(&part, part.routine("measure").unwrap(), state).unwrap();
    let (mut asked, mut next) = (Vec::new(), runner.start().unwrap());
    while let Some(request) = next {
        asked.extend(words(std::slice::from_ref(&request.operation)));
        let bytes = matches!(&request.operation, Operation::Transfer(transfer) if transfer.receive > 0);
        next = runner.answer(if bytes { Answer::Bytes(&[0x14, 0x02, 0xF0, 0xFF, 0x00]) } else { Answer::Done }).unwrap();
    }
    assert_eq!(asked, ["0x3B W 0C 4B", "0x3B W 4C 23", "wait 11500", "0x3B R 5 bytes"]);
    assert_eq!(runner.frame(part.frame("PULL").unwrap()), Some(&[0x14, 0x02, 0xF0, 0xFF, 0x00][..]));
    let field = |name: &str| part.fields().get(part.field(name).unwrap()).unwrap();
    assert_eq!((runner.state().field(field("RATE")), runner.state().field(field("SAG"))), (2, 75));
    // Conditions of parameters read nothing; those of quantities read their registers.
    let part = self::part(
        "parameter.length = { default = 4 }\nregister.A = { at = 5, field.A = { bits = \"[7:0]\" } }\nquantity.a = { unit = \"m\", formula = \"A * 2\" }\n\
         routine.r = [{ expect = \"length > 3\" }, { expect = \"a > 3\" }, { write = \"A\" }, { write = \"2B 1C\" }]\n",
    );
    let (list, _) = Runner::new(&part, part.routine("r").unwrap(), State::reset(&part)).unwrap().dry_run().unwrap();
    let list: Vec<String> = list.iter().flat_map(|request| words(std::slice::from_ref(&request.operation))).collect();
    assert_eq!(list, ["0x2B W 05 R 1 byte", "0x2B W 05 00", "0x2B W 2B 1C"]);
}

#[test]
fn arrays_have_names_and_share_their_tables() {
    let part = documented();
    let names: Vec<&str> = part.fields().iter().map(|field| field.name()).collect();
    assert_eq!(
        names,
        ["GAIN_fore", "TRIM_fore", "GAIN_main", "TRIM_main", "QUIET", "FAST", "SAG", "PACE_fore", "PACE_main", "MODE", "RATE"]
    );
    let readings: Vec<&str> = part.readings().iter().map(|reading| reading.name()).collect();
    assert_eq!(readings, ["pull_fore", "pull_main", "height"]);
    // Each element with its own settings: (133 - 4) / 4, and (-4 - 4) * 0.05.
    let mut decoder = Decoder::new(&part);
    *decoder.state_mut() = settings(&part, &["GAIN_main=tenth"]);
    let decoded = decoder.decode(part.frame("PULL").unwrap(), &[0x14, 0x02, 0xF0, 0xFF, 0x00]).unwrap();
    assert_eq!(decoded.readings.iter().map(|reading| reading.value).collect::<Vec<_>>(), [Some(32.25), Some(-0.4)]);
    let shared = self::part(
        "register.A = { at = 1, field.ONE = { bits = \"[1:0]\", values = [{ code = 0, name = \"off\" }, { code = 3, name = \"on\", ms = 7 }] } }\n\
         register.B = { at = 2, field.TWO = { bits = \"[3:2]\", values = \"ONE\" } }\n",
    );
    assert_eq!(sends(&shared, &["TWO=on"]).unwrap(), ["02 0C"]);
    // Anywhere, with one table and one formula.
    let spread = self::part(
        "register.A = { at = 1, reset = 0x18, field.GAIN = { bits = [\"[5:4]\", \"[3:2]\", \"[1:0]\"], names = [\"x\", \"y\", \"z\"], values = [{ code = 0, name = \"low\", k = 1 }, { code = 1, name = \"mid\", k = 4 }, { code = 2, name = \"high\", k = 16 }] } }\n\
         frame.F = { command = [1], read = 5, code.a = { layout = [\"signed b0\", \"signed b4\", \"signed b2\"], names = [\"x\", \"y\", \"z\"] }, code.t = [\"b1\", \"b3\"] }\n\
         reading.a = { unit = \"g\", formula = \"a / 4.0 / GAIN.k\" }\nreading.t = { unit = \"K\", formula = \"t\" }\n",
    );
    let decoded = Decoder::new(&spread).decode(spread.frame("F").unwrap(), &[16, 1, 0xF0, 2, 64]).unwrap();
    let values: Vec<(&str, Option<f64>)> = decoded.readings.iter().map(|reading| (reading.name.as_str(), reading.value)).collect();
    assert_eq!(values, [("a_x", Some(1.0)), ("a_y", Some(1.0)), ("a_z", Some(-4.0)), ("t_0", Some(1.0)), ("t_1", Some(2.0))]);
    assert_eq!(sends(&spread, &["GAIN_z=high", "GAIN_x=low"]).unwrap(), ["01 0A"]);
    assert!(
        complaint("register.A = { at = 1, field.G = { bits = [\"[1]\", \"[0]\"], names = [\"x\"] } }").contains("1 name for 2 elements")
    );
    assert!(complaint("register.A = { at = 1, field.G = { bits = \"[1]\", names = [\"x\"] } }").contains("`bits` is no list"));
    assert!(complaint("frame.F = { read = 2, code.q = { layout = [\"b0\", \"b1\"], names = [\"x\"] } }").contains("1 name for 2 elements"));
    assert!(
        complaint("register.A = { at = 1, field.ONE = { bits = \"[1:0]\", values = \"TOW\" } }")
            .contains("no field `TOW` has a table of values")
    );
    assert!(complaint("register.A = { at = 1, count = 2, names = [\"x\", \"y\"] }").contains("both say how many"));
    assert!(complaint("register.A = { at = 1, names = [\"x\", \"x\"] }").contains("is there twice"));
    assert!(complaint("frame.F = { read = 4, code.q = { layout = \"2 x b0 b1\", names = [\"x\"] } }").contains("1 name for 2 elements"));
}

#[test]
fn a_field_of_fields_keeps_their_names() {
    let part = documented();
    assert_eq!(sends(&part, &["MODE=race"]).unwrap(), ["31 88"]);
    assert_eq!(sends(&part, &["FAST=1"]).unwrap(), ["31 88"]);
    assert_eq!(sends(&part, &["MODE=steady"]).unwrap(), ["31 00"]);
    assert_eq!(sends(&part, &["MODE=race", "QUIET=0"]).unwrap_err().0, "`MODE=race` and `QUIET=0` want different codes of QUIET");
    assert_eq!(sends(&part, &["MODE=race", "QUIET=1"]).unwrap(), ["31 88"]);
    // Bits that act when a one is written get it through either name.
    let acting = self::part(
        "register.A = { at = 1, field.GO = { bits = \"[0]\", access = \"self-clearing\" }, field.HOW = { bits = \"[7]\" } }\nfield.START = { bits = \"HOW GO\" }\n",
    );
    assert_eq!(sends(&acting, &["START=3"]).unwrap(), ["01 81"]);
    assert_eq!(sends(&acting, &["HOW=1"]).unwrap(), ["01 80"]);
}

#[test]
fn readings_use_quantities_and_ranges_follow_settings() {
    let part = part(
        r#"
register.SPAN = { at = 0x33, reset = 1, field.SPAN = { bits = "[2:0]", values = [{ code = 1, name = "5 m", full = 5 }, { code = 3, name = "20 m", full = 20 }] } }
register.SHIFT = { at = 0x35, reset = 0x10, field.SHIFT = { bits = "signed [7:0]" } }
quantity.shift = { unit = "m", formula = "SHIFT * 0.01" }
frame.D = { command = [0x6A], read = 2, code = { d = "signed b0 b1" } }
reading.depth = { unit = "m", formula = "d * SPAN.full / 32000.0 + shift", range = ["-SPAN.full", "SPAN.full * 1.01"] }
"#,
    );
    let frame = part.frame("D").unwrap();
    let value = |set: &[&str], code: i16| {
        let mut decoder = Decoder::new(&part);
        *decoder.state_mut() = settings(&part, set);
        let (mut row, mut columns) = (FrameValues::new(), Columns::new());
        let alone = decoder.decode(frame, &code.to_be_bytes()).unwrap();
        (0..2).for_each(|_| decoder.decode_into(frame, &code.to_be_bytes(), &mut row).unwrap());
        decoder.decode_many(frame, &code.to_be_bytes().repeat(700), &mut columns).unwrap();
        let found = (alone.readings[0].value, alone.readings[0].status);
        assert_eq!((found, found), ((row.value(0), row.status(0)), (Some(columns.values(0)[699]), columns.status(0, 699))));
        let why = decoder.reason(frame, &code.to_be_bytes(), part.reading("depth").unwrap(), found.1);
        (found, why)
    };
    assert_eq!(value(&[], 25600), ((Some(25600.0 * 5.0 / 32000.0 + 0.16), Status::Ok), None));
    assert_eq!(value(&[], 32000), ((Some(5.16), Status::OutOfRange), Some("stated -5 to 5.05 m".into())));
    assert_eq!(value(&["SHIFT=-2"], 32000).0, (Some(4.98), Status::Ok));
    assert_eq!(value(&["SPAN=20 m"], 32000).0, (Some(20.16), Status::Ok));
    let names: Vec<String> = Decoder::new(&part).in_use(&[frame]).into_iter().map(|used| used.name).collect();
    assert_eq!(names, ["SPAN", "SHIFT"]);
    let found = choose(&part, part.reading("depth").ok(), &State::reset(&part), &Limits::default()).unwrap();
    assert_eq!(found.iter().map(|choice| choice.range.unwrap().1).collect::<Vec<_>>(), [5.05, 20.2]);
    let predicted = predict(&part, part.reading("depth").unwrap()).unwrap();
    assert_eq!((predicted.settings.len(), predicted.over_settings.unwrap().0), (1, -20.32));
    assert!(
        complaint("frame.D = { read = 1, code = { d = \"b0\" } }\nreading.r = { unit = \"m\", formula = \"d\", range = [0, \"d\"] }")
            .contains("uses a code")
    );
}

const THRESHOLDS: &str = r#"
register.RANGE = { at = 0x42, reset = 0, field.GAIN = { bits = "[5:4]", values = [{ code = 0, name = "1", factor = 1 }, { code = 1, name = "2", factor = 2 }, { code = 2, name = "8", factor = 8 }] } }
register.LIMIT = { at = 0x44, width = 16, reset = 0x2000, field.MANT = { bits = "[11:0]" }, field.EXP = { bits = "[15:12]" } }
register.FLOOR = { at = 0x46, width = 16, reset = 0, field.FLOOR = { bits = "signed [15:4]", values = [{ code = 0xFFF, name = "least" }, { code = 0, name = "off" }] } }
register.LAST = { at = 0x48, width = 16, access = "read-only", field.LAST = { bits = "[15:0]" } }
register.STAGE = { at = 0x4A, width = 16, reset = 0, field.STAGE = { bits = "[15:0]" } }
frame.NOW = { registers = "LAST" }
reading.flow = { unit = "l/min", formula = "LAST * 0.02 / GAIN.factor", range = [0, "1000.0 / GAIN.factor"] }
quantity.limit = { unit = "l/min", formula = "MANT * 0.01 * (1 << EXP) / GAIN.factor" }
quantity.stage = { unit = "l/min", reading = "flow", code = "STAGE" }
"#;

#[test]
fn thresholds_take_the_finest_way_and_hold_what_is_given() {
    let part = part(THRESHOLDS);
    // 2500 << 2 is the finest of the ways to 12.5; an exponent that is given is held.
    assert_eq!(sends(&part, &["GAIN=8", "limit=12.5"]).unwrap(), ["42 20", "44 29 C4"]);
    assert_eq!(sends(&part, &["limit=12.5", "EXP=3"]).unwrap(), ["44 30 9C"]);
    let both = sends(&part, &["limit=12.5", "EXP=3", "MANT=7"]).unwrap_err().0;
    assert_eq!(both, "limit cannot be set: all fields that hold it are given themselves, and make it 0.56 l/min");
    // Through a reading whose code is a register's field, with the range that goes with the gain.
    assert_eq!(sends(&part, &["stage=7"]).unwrap(), ["4A 01 5E"]);
    let mut narrow = part.clone();
    assert_eq!(sends(&narrow, &["GAIN=8", "stage=700"]).unwrap_err(), ("stage cannot be 700 l/min: it can be 0 to 125 l/min".into(), None));
    narrow = self::part(&THRESHOLDS.replace("reset = 0, field.GAIN", "reset = 0x20, field.GAIN"));
    let (why, help) = sends(&narrow, &["stage=400"]).unwrap_err();
    assert_eq!(
        (why.as_str(), help.as_deref()),
        ("stage cannot be 400 l/min: it can be 0 to 125 l/min", Some("it would fit with GAIN=\"1\" or GAIN=\"2\""))
    );
    // Codes as datasheets print them, and names before codes.
    assert_eq!(sends(&part, &["FLOOR=0xFFF"]).unwrap(), ["46 FF F0"]);
    assert_eq!(sends(&part, &["FLOOR=least"]).unwrap(), ["46 FF F0"]);
    assert_eq!(sends(&part, &["GAIN=2"]).unwrap(), ["42 10"]);
    assert_eq!(sends(&part, &["GAIN=0x2"]).unwrap(), ["42 20"]);
    let example = |gain: &str| format!("{THRESHOLDS}example = [{{ set = {{ GAIN = {gain} }}, writes = {{ RANGE = 0x10 }} }}]\n");
    assert!(complaint(&example("2")).contains("write \"2\" for the name, or 0x2 for the code"));
    for gain in ["\"2\"", "0x1", "\"0x1\""] {
        assert!(run_examples(&self::part(&example(gain)))[0].mismatches.is_empty(), "{gain}");
    }
}

/// A dry run does not know what fields hold that were read, nor the quantities that they hold.
#[test]
fn conditions_about_quantities_are_about_their_fields() {
    let sheet = format!(
        "{THRESHOLDS}[[routine.check]]\nread = \"LIMIT\"\n[[routine.check]]\nwait = \"1 ms\"\nwhen = \"limit > 20\"\n[[routine.check]]\nexpect = \"limit < 20\"\n"
    );
    let part = part(&sheet);
    let runner = || Runner::new(&part, part.routine("check").unwrap(), State::reset(&part)).unwrap();
    let (requests, _) = runner().dry_run().unwrap();
    let asked: Vec<(&str, Option<&str>)> = requests.iter().map(|one| (one.meaning.as_str(), one.only_if.as_deref())).collect();
    let expect = ("expect limit < 20", None);
    assert_eq!(asked, [("read LIMIT", None), ("wait", Some("limit > 20")), expect, expect]);
    // What was expected in vain is told with what the fields hold.
    let mut runner = runner();
    let mut next = runner.start();
    let failed = loop {
        next = match next {
            Ok(Some(request)) => match request.operation {
                Operation::Transfer(transfer) => runner.answer(Answer::Bytes(&[0x1F, 0xFF][..transfer.receive])),
                _ => runner.answer(Answer::Done),
            },
            Ok(None) => panic!("it ends well"),
            Err(error) => break error.to_string(),
        };
    };
    assert!(failed.contains("MANT = 0xFFF") && failed.contains("EXP = 0x1"), "{failed}");
}

#[test]
fn worked_examples_say_what_is_written() {
    let run = |example: &str| {
        let part = part(&format!("{THRESHOLDS}example = [{example}]\n"));
        let run = run_examples(&part).remove(0);
        run.mismatches
            .into_iter()
            .map(|mismatch| format!("{}: {} / {}", mismatch.name, mismatch.expected, mismatch.found))
            .collect::<Vec<_>>()
    };
    let set = "set = { GAIN = \"8\", limit = \"12.5 l/min\" }";
    assert_eq!(
        run(&format!(
            "{{ {set}, writes = {{ RANGE = 0x20, LIMIT = 0x29C4 }}, sends = [\"42 20\", \"44 29 C4\"], gives = {{ limit = \"12.50 l/min\" }} }}"
        )),
        [] as [&str; 0]
    );
    assert_eq!(
        run(&format!("{{ {set}, writes = {{ RANGE = 0x10, FLOOR = 1 }}, sends = [\"42 20\"], gives = {{ limit = \"12.7 l/min\" }} }}")),
        [
            "RANGE: 0x10 / 0x20",
            "FLOOR: 0x0001 / nothing: it is not written",
            "sends: 42 20 / 42 20, 44 29 C4",
            "limit: 12.7 l/min / 12.5 l/min"
        ]
    );
    assert_eq!(
        run("{ set = { stage = \"4000 l/min\" }, sends = [] }"),
        ["set: settings that can be written / stage cannot be 4000 l/min: it can be 0 to 1000 l/min"]
    );
    assert!(complaint(&format!("{THRESHOLDS}example = [{{ writes = {{ RANGE = 1 }}, NOW = \"00 00\" }}]\n")).contains("needs `set`"));
    // A ratio is typed as it is shown, the number alone, or with its unit; where it differs, that is shown so too.
    let ratio = "{ set = { GAIN = \"8\" }, gives = { part = \"0.125\" } }, { gives = { part = \"0.9 1\" }, set = { GAIN = \"1\" } }";
    let sheet = self::part(&format!(
        "{THRESHOLDS}quantity.part = {{ unit = \"1\", formula = \"(MANT + 1.0) / GAIN.factor\" }}\nexample = [{ratio}]\n"
    ));
    let found: Vec<Vec<String>> =
        run_examples(&sheet).into_iter().map(|run| run.mismatches.into_iter().map(|m| m.found).collect()).collect();
    assert_eq!(found, [vec![], vec!["1".to_owned()]]);
    assert!(complaint(&format!("{THRESHOLDS}example = [{{ NOW = \"00 00\", gives = {{ flow = \"0.0\" }} }}]\n")).contains("found none"));
    // They decode as after those settings.
    assert_eq!(run("{ set = { GAIN = \"2\" }, NOW = \"27 10\", gives = { flow = \"100.00 l/min\" } }"), [] as [&str; 0]);
    assert!(run_examples(&documented()).iter().all(|run| run.mismatches.is_empty()));
}

#[test]
fn choices_of_several_codes_and_of_times_alone() {
    let part = part(
        r#"
register.A = { at = 1, reset = 0, field.GAIN = { bits = "[0]", values = [{ code = 0, name = "low", k = 1 }, { code = 1, name = "high", k = 4 }] }, field.SLOW = { bits = "[1]", values = [{ code = 0, name = "no", ms = 2 }, { code = 1, name = "yes", ms = 30 }] } }
frame.F = { command = [1], read = 2, code = { x = "b0", y = "b1" } }
reading.sum = { unit = "V", formula = "(x + y) * 0.5 / GAIN.k" }
"#,
    );
    let reset = State::reset(&part);
    let limits = Limits { within_ms: Some(10.0), ..Limits::default() };
    let found = choose(&part, part.reading("sum").ok(), &reset, &limits).unwrap();
    let best = found.first().unwrap();
    assert_eq!((best.range, best.step, best.ms), (Some((0.0, 63.75)), Some(0.125), Some(2.0)));
    assert_eq!(found.iter().filter(|choice| choice.fails.is_empty()).count(), 2);
    let times = choose(&part, None, &reset, &limits).unwrap();
    assert_eq!(times.iter().map(|choice| (choice.ms, choice.range)).collect::<Vec<_>>(), [(Some(2.0), None), (Some(30.0), None)]);
}

#[test]
fn a_condition_may_be_about_the_reading_and_a_threshold() {
    let part = part(
        r#"
register.A = { at = 1, reset = 30, field.A = { bits = "[7:0]" } }
quantity.alarm = { unit = "W", formula = "A * 10" }
frame.F = { command = [1], read = 2, code = { u = "b0", i = "b1" } }
reading.power = { unit = "W", formula = "u * i / 1.0", status = { when = "power > alarm", is = "alert", means = "above the alarm" } }
"#,
    );
    let frame = part.frame("F").unwrap();
    let mut decoder = Decoder::new(&part);
    let (mut row, mut columns) = (FrameValues::new(), Columns::new());
    for (bytes, status) in [([10, 30], Status::Ok), ([10, 31], Status::Alert)] {
        let decoded = decoder.decode(frame, &bytes).unwrap();
        (0..2).for_each(|_| decoder.decode_into(frame, &bytes, &mut row).unwrap());
        decoder.decode_many(frame, &bytes, &mut columns).unwrap();
        assert_eq!((decoded.readings[0].status, row.status(0), columns.status(0, 0)), (status, status, status));
    }
    assert_eq!(decoder.reason(frame, &[10, 31], part.reading("power").unwrap(), Status::Alert).as_deref(), Some("above the alarm"));
}

#[test]
fn polls_as_often_as_a_setting_says_and_late_answers_are_read_once() {
    let part = Part::parse(
        "p",
        "part = \"p\"\nspi = { mode = 0, pointer = 0, late = true }\n\
         parameter.RATE = { default = \"slow\", values = [{ code = 0, name = \"slow\", ms = 40 }, { code = 1, name = \"quick\", ms = 2.5 }] }\n\
         frame.F = { command = [0x4C, \"RATE\"], wait = \"RATE.ms\", read = 2, code = { ready = \"b0[7]\", x = \"b1\" } }\n\
         routine.r = [{ set = { RATE = \"quick\" } }, { poll = \"ready\", every = \"RATE.ms\", within = \"10 ms\" }]\n",
    )
    .unwrap();
    let mut runner = Runner::new(&part, part.routine("r").unwrap(), State::reset(&part)).unwrap();
    let (mut asked, mut next, mut answers) = (Vec::new(), runner.start().unwrap(), [0x00u8, 0x80].into_iter());
    while let Some(request) = next {
        asked.extend(words(std::slice::from_ref(&request.operation)));
        let reads = matches!(&request.operation, Operation::Transfer(transfer) if transfer.receive > 0);
        let answer = [if reads { answers.next().unwrap() } else { 0 }, 7];
        next = runner.answer(if reads { Answer::Bytes(&answer) } else { Answer::Done }).unwrap();
    }
    let once = ["4C 01", "wait 2500", "2 bytes in"];
    assert_eq!(asked, [once.as_slice(), &["wait 2500"], once.as_slice()].concat());
}

#[test]
fn what_a_newcomer_types_first_is_understood_or_answered() {
    let one = |text: &str| complaint(text);
    assert!(
        one("frame.F = { read = 4, check = { parity = \"odd\", over = \"b0..b3[7:1]\", in = \"b3[0]\" }, code = { x = \"b0\" } }")
            .contains("write `b0..b2 b3[7:1]`")
    );
    let wide = "register.A = { at = 1, width = 32, field.A = { bits = \"[31:0]\" } }\nregister.B = { at = 9, field.B = { bits = \"[7:0]\" } }\nquantity.q = { unit = \"V\", formula = \"A * B\" }";
    assert!(one(wide).contains("two fields with too many codes together"));
    let log = "08:00:01 DEPTH 12 34\n[08:00:02] depth 12 35\nDEPTH 12 36\n";
    let part = part("frame.DEPTH = { read = 2, code = { d = \"b0 b1\" } }\nframe.HEAT = { read = 2, code = { t = \"b0 b1\" } }\n");
    let mut reader = yemdo::record::LogReader::new(&part, None);
    let mut records: Vec<_> = log.lines().flat_map(|line| reader.line(line).unwrap()).collect();
    records.extend(reader.end());
    let times: Vec<Option<&str>> = records.iter().map(|record| record.time.as_deref()).collect();
    assert_eq!(times, [Some("08:00:01"), Some("08:00:02"), None]);
    assert!(records.iter().all(|record| record.bytes.as_ref().is_ok_and(|bytes| bytes[0] == 0x12)));
    let raw =
        "register.R = { at = 2, reset = 7, field.GO = { bits = \"[0]\", access = \"self-clearing\" } }\nroutine.r = [{ write = \"R\" }]";
    assert!(one(raw).contains("`R` has no field that holds a value"));
    let idle = self::part(
        "parameter.RATE = { default = 0, values = [{ code = 0, name = \"slow\" }, { code = 1, name = \"quick\" }] }\nframe.F = { read = 1, code = { c = \"b0\" } }\nreading.r = { unit = \"V\", formula = \"c\" }\n",
    );
    assert!(yemdo::review::warnings(&idle).iter().any(|warning| warning.message == "the parameter `RATE` is never used"));
    // A variant without examples of its own runs those of the sheet, and says so.
    let sheet = "part = \"p\"\nframe.F = { read = 1, code = { c = \"b0\" } }\nreading.r = { unit = \"V\", formula = \"c * 2\" }\nexample = [{ F = \"03\", gives = { r = \"6 V\" } }]\n[variant.q]\nreading.r.formula = \"c * 3\"\n";
    let variant = Part::parse_variant("p", sheet, "q").unwrap();
    assert!(variant.inherits_examples() && !Part::parse("p", sheet).unwrap().inherits_examples());
    assert_eq!(run_examples(&variant)[0].mismatches[0].found, "9 V");
}

#[test]
fn a_lock_that_only_a_reset_clears() {
    let part = part(
        r#"
register.LIMIT = { at = 0x14, reset = 0, while = { LOCKED = 0 }, field.LIMIT = { bits = "[7:0]" } }
register.GUARD = { at = 0x15, reset = 0, field.LOCKED = { bits = "[4]", access = "set-until-reset" }, field.TRIP = { bits = "[3:0]" }, reserved = [{ bits = "[7:5]", write = 0 }] }
"#,
    );
    let writes = |state: &State, typed: &[&str]| {
        let wishes: Vec<Wish> = typed.iter().map(|typed| Wish::parse(&part, typed).unwrap()).collect();
        let done = configure(&part, state, &wishes, WriteScope::Changed).map_err(|error| error.to_string())?;
        Ok((done.writes.iter().map(|write| (part.registers()[write.register].address(), write.value)).collect::<Vec<_>>(), done.state))
    };
    let (first, locked) = writes(&State::reset(&part), &["LOCKED=1", "LIMIT=90"]).unwrap();
    assert_eq!(first, [(0x14, 90), (0x15, 0x10)], "the lock comes last");
    assert_eq!(writes(&locked, &["TRIP=5"]).unwrap().0, [(0x15, 0x15)]);
    let refused: Result<_, String> = writes(&locked, &["LIMIT=7"]);
    assert_eq!(refused.unwrap_err(), "LIMIT cannot be written: it needs LOCKED = 0, which requires a reset");
    assert_eq!(writes(&locked, &["LOCKED=0"]).unwrap_err(), "`LOCKED=0` is impossible: LOCKED is set, and only a reset clears it");
    assert!(writes(&State::reset(&part), &["LOCKED=0", "LIMIT=7"]).is_ok());

    let mut winch = StandIn::new(&part, 1).unwrap();
    for (send, held) in [(&[0x15, 0x12], 0x12), (&[0x15, 0x01], 0x11)] {
        winch.i2c(0, 0x2B, send, 0);
        assert_eq!(winch.i2c(1, 0x2B, &[0x15], 1), Reaction::Answer(vec![held]));
    }
    winch.i2c(2, 0x2B, &[0x14, 9], 0);
    assert_eq!(winch.i2c(3, 0x2B, &[0x14], 1), Reaction::Answer(vec![0]), "locked");
    assert_eq!(winch.violations().iter().map(|violation| violation.rule).collect::<Vec<_>>(), [Rule::Locked]);
    winch.power_up(4);
    assert_eq!(winch.i2c(5, 0x2B, &[0x15], 1), Reaction::Answer(vec![0]));
}

/// The range of `limit` depends on SPAN, which `width` sets.
#[test]
fn quantities_are_set_after_those_that_they_depend_on() {
    let part = part(
        "register.SPAN = { at = 1, reset = 1, field.SPAN = { bits = \"[1:0]\", values = [{ code = 1, mm = 10 }, { code = 2, mm = 40 }] } }\n\
         register.LIMIT = { at = 2, reset = 0, field.LIMIT = { bits = \"[7:0]\" } }\n\
         quantity.limit = { unit = \"mm\", formula = \"LIMIT * SPAN.mm / 200.0\" }\n\
         quantity.width = { unit = \"mm\", formula = \"SPAN.mm\", moves = [\"SPAN\"] }\n",
    );
    let wishes: Vec<Wish> = ["limit=30 mm", "width=40 mm"].iter().map(|typed| Wish::parse(&part, typed).unwrap()).collect();
    let done = configure(&part, &State::reset(&part), &wishes, WriteScope::Changed).unwrap();
    let written: Vec<u64> = done.writes.iter().map(|write| write.value).collect();
    assert_eq!(written, [2, 150]);
    let again = configure(&part, &done.state, &wishes, WriteScope::Changed).unwrap();
    assert!(again.writes.is_empty());
}
