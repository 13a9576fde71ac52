//! Configuring and routines, against a part that takes bytes as a part does.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

mod common;

use common::shipped;
use proptest::prelude::*;
use yemdo::FieldId;
use yemdo::FrameId;
use yemdo::RegisterId;
use yemdo::RoutineId;
use yemdo::bus::{Bus, Received, Transfer};
use yemdo::configure::{Configuration, ConfigureError, Difference, Method, Wish, WriteReason, WriteScope, configure, read_back};
use yemdo::configure::{LastReading, Limits, choose, next_range};
use yemdo::configure::{read_frame, read_registers, write_register};
use yemdo::emit::Paste;
use yemdo::explain::explain;
use yemdo::part::Access;
use yemdo::part::Id;
use yemdo::routine::{Answer, Failure, Operation, Request, RoutineError, Runner};
use yemdo::{Part, State};

/// Operations in words.
fn sent(operations: &[Operation]) -> Vec<String> {
    let words = |operation: &Operation| match operation {
        Operation::Transfer(transfer) => transfer.text(),
        Operation::Wait(micros) => format!("wait {micros} µs"),
        other => format!("{other:?}"),
    };
    operations.iter().map(words).collect()
}

fn part(name: &str) -> Part {
    let (path, text) = shipped().into_iter().find(|(known, _)| known == name).unwrap();
    Part::parse(&path, &text).unwrap()
}

fn wish(part: &Part, typed: &[&str]) -> Vec<Wish> {
    typed.iter().map(|typed| Wish::parse(part, typed).unwrap_or_else(|error| panic!("{typed}: {error}"))).collect()
}

/// A part at the other end of the bus: it finds the register by the bytes alone, and takes the value only where its
/// bank is open and it may be written.
struct FarEnd<'p> {
    part: &'p Part,
    image: State,
    /// The bits of every write, as they came.
    taken: Vec<(RegisterId, u64)>,
}

impl FarEnd<'_> {
    fn take(&mut self, transfer: &Transfer) {
        let wire = self.part.buses().wire(transfer.bus).unwrap();
        let Ok(Received::Write { address, data }) = wire.received(&transfer.send, transfer.receive) else { panic!("{}", transfer.text()) };
        let holds = |(field, code): &(FieldId, i128)| self.image.field(self.part.fields().get(*field).unwrap()) == *code;
        let (id, register) = self
            .part
            .registers()
            .entries()
            .find(|(_, register)| register.address() == address && register.bank().iter().all(holds))
            .expect("a register that can be reached");
        assert!(register.writable_while().iter().all(holds), "{} may not be written now", register.name());
        assert_eq!(data.len(), register.bytes());
        let value = register.value_of(&data);
        self.taken.push((id, value));
        // What acts and clears itself is not kept.
        let keeps = |access: Access| !matches!(access, Access::SelfClearing | Access::WriteOneToClear);
        let fields = self.part.fields().of(register.fields());
        let acting = fields.filter(|field| !keeps(field.access())).fold(0, |mask, field| mask | field.mask_in(register));
        self.image.set_register(register, value & !acting);
    }
}

/// Sends a configuration to a far end that is as `start` says.
fn send<'p>(part: &'p Part, bus: Bus, start: &State, done: &Configuration) -> FarEnd<'p> {
    let mut far = FarEnd { part, image: start.clone(), taken: Vec::new() };
    for write in &done.writes {
        let transfer = write_register(part, bus, part.registers().get(write.register).unwrap(), write.value).unwrap();
        far.take(&transfer);
    }
    far
}

#[test]
fn every_field_arrives_with_the_code_that_was_asked_for() {
    let mut set = 0;
    for (name, text) in shipped() {
        let part = Part::parse(&name, &text).unwrap();
        let start = State::reset(&part);
        for (index, field) in part.fields().entries().filter(|(_, field)| field.access().is_writable()) {
            let (low, high) = field.bounds();
            let mut codes: Vec<i128> = field.values().iter().map(|row| row.code).collect();
            if codes.is_empty() {
                codes = vec![low, low + 1, (low + high) / 2, high - 1, high];
            }
            for (bus, code) in part.buses().all().flat_map(|bus| codes.iter().map(move |code| (bus, *code))) {
                let typed = format!("{}={code}", field.name());
                // Limits that belong together are not looked at here, only the bits.
                let done = match configure(&part, &start, &wish(&part, &[&typed]), WriteScope::All) {
                    Ok(done) => done,
                    Err(ConfigureError::NotAUnit { code, .. }) => {
                        assert!(!(1..=247).contains(&code), "{name} {typed}");
                        continue;
                    }
                    Err(error) => {
                        assert!(part.quantities().iter().any(|quantity| quantity.moves().contains(&index)), "{name} {typed}: {error}");
                        continue;
                    }
                };
                let far = send(&part, bus, &start, &done);
                let home = done.writes.iter().find(|write| write.reason.is_none()).unwrap();
                let mut sent = start.clone();
                sent.set_register(part.registers().get(home.register).unwrap(), home.value);
                assert_eq!(sent.field(field), code, "{name} {typed} on the wire");
                if field.access() == Access::ReadWrite {
                    assert_eq!(far.image.field(field), code, "{name} {typed} at the far end");
                    assert_eq!(done.state, far.image, "{name} {typed}: expected state");
                }
                for (register, value) in far.taken {
                    assert!(explain(&part, register, value, &mut start.clone()).unwrap().wrong.is_empty(), "{name} {typed}: reserved bits");
                }
                set += 1;
            }
        }
    }
    assert!(set >= 100, "{set} settings");
}

proptest! {
    // Every case tries tens of thousands of codes.
    #![proptest_config(ProptestConfig::with_cases(ProptestConfig::default().cases / 4))]

    /// Any settings from any settings: the far end has what was asked, and everything else as it was.
    #[test]
    fn random_settings_arrive_in_an_order_that_the_part_allows(seed in proptest::collection::vec((any::<u16>(), any::<u32>()), 1..6), dump in any::<u64>()) {
        for name in ["keelson-6", "lantern-16"] {
            let part = part(name);
            let mut start = State::reset(&part);
            for (index, field) in part.fields().iter().enumerate().filter(|(_, field)| !field.values().is_empty()) {
                start.set_field(field, field.values()[(dump >> (index * 3)) as usize % field.values().len()].code);
            }
            let able: Vec<_> = part.fields().entries().filter(|(_, field)| field.access() == Access::ReadWrite).collect();
            let mut asked: Vec<(FieldId, i128)> = Vec::new();
            for (which, code) in &seed {
                let (index, field) = able[usize::from(*which) % able.len()];
                let (low, high) = field.bounds();
                let row = |code: u32| field.values()[code as usize % field.values().len()].code;
                let code = if field.values().is_empty() { low + i128::from(*code) % (high - low + 1) } else { row(*code) };
                asked.retain(|(known, _)| *known != index);
                asked.push((index, code));
            }
            let wishes: Vec<Wish> =
                asked.iter().map(|(field, code)| Wish::Field { field: *field, code: *code, typed: String::new() }).collect();
            let done = configure(&part, &start, &wishes, WriteScope::Changed).unwrap();
            let far = send(&part, part.buses().all().next().unwrap(), &start, &done);
            for (index, field) in part.fields().entries() {
                match asked.iter().find(|(known, _)| *known == index) {
                    Some((_, code)) => prop_assert_eq!(far.image.field(field), *code, "{} {}", name, field.name()),
                    None if field.access() == Access::ReadWrite => {
                        prop_assert_eq!(far.image.field(field), start.field(field), "{} {} was not asked for", name, field.name());
                    }
                    None => {}
                }
            }
            // The same again is nothing to do.
            prop_assert_eq!(configure(&part, &done.state, &wishes, WriteScope::Changed).unwrap().writes, vec![]);
        }
    }

    /// What is used is as near as can be, and a value that can be held is held exactly.
    #[test]
    fn quantities_come_as_near_as_their_fields_allow(share in 0.0f64..1.0, gain in 0usize..3, time in 0usize..4) {
        let lantern = part("lantern-16");
        let gain_time = [["fifth", "single", "fivefold"][gain].to_owned(), ["18 ms", "54 ms", "162 ms", "486 ms"][time].to_owned()];
        let scale = 8.1 / ([0.2, 1.0, 5.0][gain] * [18.0, 54.0, 162.0, 486.0][time]);
        let asked = (share * 27.0).exp2() * scale;
        let typed = [format!("GAIN={}", gain_time[0]), format!("TIME={}", gain_time[1]), format!("upper_limit={asked}")];
        let typed: Vec<&str> = typed.iter().map(String::as_str).collect();
        let done = configure(&lantern, &State::reset(&lantern), &wish(&lantern, &typed), WriteScope::Changed).unwrap();
        let met = &done.quantities[0];
        // Worked out here without a search: a mantissa of at most 13 bits that is as large as can be.
        let counts = asked / scale;
        let nearest = (0..8).map(|exponent| {
            let unit = f64::from(1 << (2 * exponent));
            (counts / unit).round().clamp(0.0, 8191.0) * unit
        }).min_by(|a, b| (a - counts).abs().total_cmp(&(b - counts).abs())).unwrap();
        prop_assert!((met.value - asked).abs() <= (nearest * scale - asked).abs() * (1.0 + 1e-9) + 1e-9, "{} for {asked}", met.value);
        let again = format!("upper_limit={}", met.value);
        let again = configure(&lantern, &done.state, &wish(&lantern, &[&again]), WriteScope::Changed).unwrap();
        prop_assert_eq!(again.writes, vec![]);
    }

    /// Whatever is read, auto-range stays within the table, and comes to rest.
    #[test]
    fn auto_range_comes_to_rest(scales in proptest::collection::vec(1.0f64..1e6, 1..8), value in 0.0f64..2e6, start in 0usize..8) {
        let said = |now: usize| if value > scales[now] { LastReading::Saturated } else { LastReading::Value(value) };
        let mut now = start % scales.len();
        for _ in 0..scales.len() + 1 {
            now = next_range(&scales, now, said(now));
        }
        prop_assert_eq!(scales[next_range(&scales, now, said(now))], scales[now]);
        let most = scales.iter().copied().fold(0.0, f64::max);
        prop_assert!(value <= scales[now] || scales[now] == most);
    }
}

#[test]
fn thresholds_are_rounded_to_what_the_part_holds() {
    let thole = part("thole-9");
    let reset = State::reset(&thole);
    let done = configure(&thole, &reset, &wish(&thole, &["upper_threshold=31 °C", "hysteresis=2 °C"]), WriteScope::Changed).unwrap();
    let used: Vec<(f64, Method)> = done.quantities.iter().map(|met| ((met.value * 100.0).round() / 100.0, met.method)).collect();
    assert_eq!(used, [(31.04, Method::Linear), (1.92, Method::Linear)]);
    // 31.04 °C are 1552 steps of 0.02, left-justified; the low six bits are zeros.
    let values: Vec<u64> = done.writes.iter().map(|write| write.value).collect();
    assert_eq!(values, [(1456 << 2) as u64, 1552 << 2]);
    assert!(values.iter().all(|value| value & 0x3F == 0));
    let range = |typed: &str| configure(&thole, &reset, &wish(&thole, &[typed]), WriteScope::Changed).unwrap_err();
    assert!(matches!(range("upper_threshold=131"), ConfigureError::OutOfRange { range: (low, high), .. } if (low, high) == (-50.0, 90.0)));
    assert!(matches!(range("lower_threshold=20"), ConfigureError::Below { .. }));
    // Of what nobody knows, nothing is said.
    let garboard = part("garboard-rs");
    let unknown = State::reset(&garboard);
    assert!(configure(&garboard, &unknown, &wish(&garboard, &["lowest_supply=19 °C"]), WriteScope::Changed).is_ok());
    let both = configure(&garboard, &unknown, &wish(&garboard, &["lowest_supply=19 °C", "wanted_supply=18 °C"]), WriteScope::Changed);
    assert_eq!(both.unwrap_err().to_string(), "wanted_supply would be 18 °C, below lowest_supply with 19 °C");
    // A field larger than can be tried is halved, and a formula without a way back is refused.
    let wide = |formula: &str| {
        let sheet = format!(
            "part = \"p\"\ni2c.address = 0x20\nregister.R = {{ at = 1, width = 32, field.F = {{ bits = \"[31:0]\" }} }}\nquantity.q = {{ unit = \"V\", formula = \"{formula}\" }}"
        );
        let part = Part::parse("p", &sheet).unwrap();
        let wishes = wish(&part, &["q=1000"]);
        configure(&part, &State::reset(&part), &wishes, WriteScope::Changed)
            .map(|done| (done.quantities[0].codes[0].1, done.quantities[0].method))
    };
    assert_eq!(wide("sqrt(F)").unwrap(), (1_000_000, Method::Monotonic));
    assert_eq!(wide("5000 - F * 0.001").unwrap(), (4_000_000, Method::Linear));
    assert!(matches!(wide("sin(F)").unwrap_err(), ConfigureError::NoWayBack { .. }));
    // A code that follows from a parameter.
    let ember = part("ember-14");
    let done = configure(&ember, &State::reset(&ember), &wish(&ember, &["emissivity=0.9"]), WriteScope::Changed).unwrap();
    assert_eq!((done.computed[0].1, done.writes[0].value), (3600, 3600));
}

#[test]
fn what_comes_back_is_compared_and_the_likely_cause_named() {
    let lantern = part("lantern-16");
    let config = lantern.register("CONFIG").unwrap();
    let compare = |found: u64| read_back(&lantern, config, Some(0x8402), 0x0604, found).unwrap().differences;
    assert_eq!(compare(0x0604), []);
    assert_eq!(compare(0xFFFF), [Difference::AllOnes]);
    assert_eq!(compare(0x0000), [Difference::AllZeros]);
    assert_eq!(compare(0x0406), [Difference::BytesSwapped]);
    assert_eq!(compare(0x8402), [Difference::NotTaken]);
    let gain = lantern.field("GAIN").ok();
    assert_eq!(compare(0x0600), [Difference::ForcedToZero { mask: 0x0004, field: gain }]);
    assert_eq!(compare(0x060C), [Difference::ForcedToOne { mask: 0x0008, field: None }]);
    // START clears itself: that it reads zero is no fault.
    assert_eq!(read_back(&lantern, config, None, 0x1604, 0x0604).unwrap().differences, []);
    let status = lantern.register("STATUS").unwrap();
    assert_eq!(read_back(&lantern, status, None, 0, 0x0220).unwrap().differences, [], "nobody can expect anything of it");
}

#[test]
fn the_best_setting_comes_first() {
    let lantern = part("lantern-16");
    let index = lantern.reading("illuminance").unwrap();
    let want = Limits { up_to: Some(6000.0), within_ms: Some(100.0), ..Limits::default() };
    let found = choose(&lantern, Some(index), &State::reset(&lantern), &want).unwrap();
    assert_eq!(found.len(), 12);
    let best = &found[0];
    assert!(best.fails.is_empty());
    let named = |code: &(FieldId, i128)| (lantern.fields().get(code.0).unwrap().name(), code.1);
    let codes: Vec<(&str, i128)> = best.codes.iter().map(named).collect();
    assert_eq!((codes, best.ms), (vec![("GAIN", 1), ("TIME", 1)], Some(54.0)), "single, 54 ms");
    assert!((best.step.unwrap() - 0.15).abs() < 1e-9 && (best.range.unwrap().1 - 41999.0 * 0.15).abs() < 1e-9);
    assert_eq!(found.iter().filter(|choice| choice.in_use).count(), 1);
    // Those that fulfil come before those that do not, and of those the finer come first.
    let good = found.iter().position(|choice| !choice.fails.is_empty()).unwrap();
    assert!(found[good..].iter().all(|choice| !choice.fails.is_empty()));
    assert!(found[..good].windows(2).all(|pair| pair[0].step <= pair[1].step));
}

#[test]
fn the_bytes_can_be_pasted() {
    assert_eq!(Paste::C.text("thole-9_HIGH", &[3, 0x18]), "static const uint8_t thole_9_high[2] = { 0x03, 0x18 };");
    assert_eq!(Paste::Rust.text("thole-9_HIGH", &[3, 0x18]), "const THOLE_9_HIGH: [u8; 2] = [0x03, 0x18];");
    assert_eq!(Paste::Hex.text("thole-9_HIGH", &[3, 0x18]), "03 18");
    // Two words of a Modbus part go with function 16; its bytes and CRC were worked out by hand.
    let request = yemdo::bus::modbus::write_request(17, 100, &[215, 65486]).unwrap();
    assert_eq!(yemdo::to_hex(&request.bytes), "11 10 00 64 00 02 04 00 D7 FF CE D0 E8");
    assert_eq!(request.meaning.iter().map(|(bytes, _)| bytes).sum::<usize>(), request.bytes.len());
}

/// An operation in a line.
fn line(asked: &Request) -> String {
    let condition = asked.only_if.as_ref().map_or(String::new(), |condition| format!("if {condition}: "));
    match &asked.operation {
        Operation::Transfer(transfer) => format!("{condition}{}", transfer.text()),
        Operation::Wait(micros) => format!("{condition}wait {micros}"),
        Operation::Line { high, within } => format!("{condition}line {} within {within}", if *high { "high" } else { "low" }),
        other => panic!("{other:?}"),
    }
}

/// Every routine of every part, worked out by hand from the sheets.
const ROUTINES: &[(&str, &str, &[&str], &[&str])] = &[
    ("strake-20", "measure", &[], &["0x2C W 5A 10", "wait 15400", "0x2C R 7 bytes"]),
    ("thole-9", "measure", &[], &["0x51 W 14 86", "wait 129800", "0x51 W 31 R 3 bytes"]),
    ("thole-9", "measure", &["RESOLUTION=10 bits", "RUN=stopped"], &["0x51 W 14 80", "wait 7700", "0x51 W 31 R 3 bytes"]),
    ("thole-9", "sleep", &[], &["0x51 W 14 06", "0x51 W 14 R 1 byte"]),
    ("lantern-16", "wake", &[], &["0x4E W 30 R 2 bytes", "0x4E W 12 04 02", "0x4E W 12 R 2 bytes", "wait 7000"]),
    (
        "lantern-16",
        "measure",
        &["GAIN=fivefold", "TIME=486 ms"],
        &[
            "0x4E W 30 R 2 bytes",
            "0x4E W 12 06 04",
            "0x4E W 12 R 2 bytes",
            "wait 7000",
            "0x4E W 12 16 04",
            "wait 558900",
            "0x4E W 15 R 2 bytes",
            "0x4E W 21 R 4 bytes",
        ],
    ),
    ("lantern-16", "measure", &["SLEEP=awake"], &["0x4E W 12 14 02", "wait 186300", "0x4E W 15 R 2 bytes", "0x4E W 21 R 4 bytes"]),
    ("lantern-16", "sleep", &["SLEEP=awake"], &["0x4E W 12 84 02"]),
    ("keelson-6", "start", &[], &["0x55 W 2C 01", "0x55 W 29 10", "0x55 W 29 R 1 byte", "0x55 W 2C 41", "0x55 W 2C 41", "wait 18000"]),
    ("keelson-6", "measure", &[], &["line high within 50000", "0x55 W 30 R 14 bytes"]),
    (
        "keelson-6",
        "settle",
        &[],
        &[
            "line high within 50000",
            "0x55 W 30 R 14 bytes",
            "line high within 50000",
            "0x55 W 30 R 14 bytes",
            "line high within 50000",
            "0x55 W 30 R 14 bytes",
        ],
    ),
    ("keelson-6", "clear_dropped", &[], &["0x55 W 30 R 1 byte", "if DROPPED: 0x55 W 30 01"]),
    (
        "binnacle-24",
        "read_calibration",
        &[],
        &[
            "0x34 W 9B",
            "wait 4500",
            "0x34 W 05 R 2 bytes",
            "0x34 W 15 R 2 bytes",
            "0x34 W 25 R 2 bytes",
            "0x34 W 35 R 2 bytes",
            "0x34 W 45 R 2 bytes",
            "0x34 W 55 R 2 bytes",
            "0x34 W 65 R 2 bytes",
            "0x34 W 75 R 2 bytes",
        ],
    ),
    ("binnacle-24", "measure", &[], &["0x34 W 7A", "wait 13650", "0x34 W 31 R 3 bytes", "0x34 W 7D", "wait 13650", "0x34 W 32 R 3 bytes"]),
    ("ember-14", "identify", &[], &["0x35 W 40 R 13 bytes"]),
    ("ember-14", "measure", &[], &["0x35 W 1B R 3 bytes"]),
    ("plumb-2", "measure", &[], &["0x39 W 2B", "wait 25000", "0x39 R 5 bytes"]),
    ("garboard-rs", "measure", &[], &["11 04 00 0A 00 08 D3 5E, 21 bytes in"]),
    ("caulk-1", "measure", &[], &["4 bytes in", "4 bytes in"]),
];

#[test]
fn every_routine_asks_for_what_its_datasheet_says() {
    for (name, routine, wishes, expected) in ROUTINES {
        let part = part(name);
        let done = configure(&part, &State::reset(&part), &wish(&part, wishes), WriteScope::Changed).unwrap();
        let index = part.routine(routine).unwrap();
        let mut runner = Runner::new(&part, index, done.state).unwrap().dry();
        let (mut lines, mut next, mut before) = (Vec::new(), runner.start().unwrap(), (0, 0));
        while let Some(asked) = next {
            assert!(asked.at.0 >= before.0 && asked.at.1 >= before.1 && asked.at.0 <= asked.at.1, "times run on");
            before = asked.at;
            lines.push(line(&asked));
            next = runner.answer(Answer::Assumed).unwrap();
        }
        assert_eq!(&lines, expected, "{name} {routine}");
    }
    let named: Vec<(&str, &str)> = ROUTINES.iter().map(|(name, routine, ..)| (*name, *routine)).collect();
    for (name, text) in shipped() {
        for routine in Part::parse(&name, &text).unwrap().routines() {
            assert!(named.contains(&(name.as_str(), routine.name())), "{name} {} is not in the table", routine.name());
        }
    }
}

/// Runs a routine with these answers; the operations, and how it ended.
fn run(part: &Part, routine: &str, bus: Bus, answers: &[Answer<'_>]) -> (Vec<String>, Result<Option<Vec<u8>>, RoutineError>) {
    let index = part.routine(routine).unwrap();
    let mut runner = Runner::new(part, index, State::reset(part)).unwrap().on_bus(bus, None).unwrap();
    let (mut lines, mut answers) = (Vec::new(), answers.iter());
    let mut next = runner.start();
    loop {
        match next {
            Ok(Some(asked)) => {
                lines.push(line(&asked));
                let waits = matches!(asked.operation, Operation::Wait(_));
                next = runner.answer(if waits { Answer::Done } else { *answers.next().expect("an answer for every operation") });
            }
            Ok(None) => return (lines, Ok(part.frames().ids().rev().find_map(|frame| runner.frame(frame)).map(<[u8]>::to_vec))),
            Err(error) => return (lines, Err(error)),
        }
    }
}

#[test]
fn answers_drive_the_routines() {
    use Answer::{Bytes, Done, Nak, TimedOut};
    // Busy three times, then the frame; busy for ever; a frame with a bad CRC.
    let strake = part("strake-20");
    let air = [0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24];
    let (lines, done) = run(&strake, "measure", Bus::I2c, &[Done, Nak, Nak, Nak, Bytes(&air)]);
    assert_eq!((lines.iter().filter(|line| *line == "wait 2000").count(), done), (3, Ok(Some(air.to_vec()))));
    let busy = run(&strake, "measure", Bus::I2c, &[Done, Nak, Nak, Nak, Nak, Nak, Nak]).1.unwrap_err();
    assert_eq!((busy.failure, busy.line), (Failure::NoAnswer { tries: 6 }, 63));
    let mut bent = air;
    bent[3] ^= 1;
    assert_eq!(
        run(&strake, "measure", Bus::I2c, &[Done, Bytes(&bent)]).1.unwrap_err().failure,
        Failure::Refused(yemdo::Refusal::Check {
            frame: "AIR".into(),
            method: "CRC-8".into(),
            width: 8,
            expected: 0x22,
            found: 0x24,
            over: "b0..b5".into(),
            place: "b6".into()
        })
    );
    assert_eq!(
        run(&strake, "measure", Bus::I2c, &[Done, Bytes(&air[..6])]).1.unwrap_err().failure,
        Failure::Short { expected: 7, found: 6 }
    );
    assert_eq!(
        run(&strake, "measure", Bus::I2c, &[Nak]).1.unwrap_err().to_string(),
        "measure, step in line 57: the part does not acknowledge"
    );

    // Polls a code of a frame until the echo is there, or until the time is up: 60 ms, every 5.
    let plumb = part("plumb-2");
    let (early, echo) = ([0x00, 0x00, 0x00, 0x00, 0x5A], [0x01, 0x12, 0x34, 0x0C, 0x71]);
    let (lines, done) = run(&plumb, "measure", Bus::I2c, &[Done, Bytes(&early), Bytes(&early), Bytes(&echo)]);
    assert_eq!(lines.iter().filter(|line| *line == "wait 5000").count(), 2);
    assert_eq!(done, Ok(Some(echo.to_vec())));
    let never: Vec<Answer<'_>> = [Done].into_iter().chain([Bytes(&early); 13]).collect();
    let (lines, done) = run(&plumb, "measure", Bus::I2c, &never);
    assert_eq!(done.unwrap_err().failure, Failure::TimedOut { waited_for: "fresh".into(), micros: 60_000 });
    assert_eq!(lines.iter().filter(|line| *line == "wait 5000").count(), 12);

    // Wakes only where the part sleeps, looks who is there, verifies, and reads a frame of two transfers.
    let lantern = part("lantern-16");
    let good = [
        Bytes(&[0x4C, 0x61]),
        Done,
        Bytes(&[0x04, 0x02]),
        Done,
        Bytes(&[0x00, 0x00]),
        Bytes(&[0x00, 0x00, 0x00, 0x00]),
        Bytes(&[0x00, 0x20]),
        Bytes(&[0x17, 0x70, 0x0D, 0xAC]),
    ];
    assert_eq!(run(&lantern, "measure", Bus::I2c, &good).1, Ok(Some(vec![0x00, 0x20, 0x17, 0x70, 0x0D, 0xAC])));
    let foreign = run(&lantern, "measure", Bus::I2c, &[Bytes(&[0x4C, 0x62])]).1.unwrap_err();
    assert_eq!(foreign.to_string(), "wake, step in line 112: expected IDENTITY == 0x4C61, found IDENTITY = 0x4C62");
    let asleep = run(&lantern, "measure", Bus::I2c, &[Bytes(&[0x4C, 0x61]), Done, Bytes(&[0x84, 0x02])]).1.unwrap_err();
    assert!(matches!(asleep.failure, Failure::NotTaken { difference: Difference::NotTaken, values: (0x0402, 0x8402), .. }), "{asleep}");

    // The data-ready line, over both buses; what reads back wrong; a branch that is not taken.
    let keelson = part("keelson-6");
    let motion = [0x28, 0x83, 0, 0xFA, 0xFE, 0, 0, 0xFB, 0x10, 0, 0xF8, 0xDF, 0xFF, 0x0F];
    let (lines, done) = run(&keelson, "measure", Bus::Spi, &[Done, Bytes(&motion)]);
    assert_eq!((lines[1].as_str(), done), ("C3, 14 bytes in", Ok(Some(motion.to_vec()))));
    assert!(matches!(run(&keelson, "measure", Bus::I2c, &[TimedOut]).1.unwrap_err().failure, Failure::TimedOut { micros: 50_000, .. }));
    let forced = run(&keelson, "start", Bus::I2c, &[Done, Done, Bytes(&[0x14])]).1.unwrap_err();
    assert!(matches!(forced.failure, Failure::NotTaken { difference: Difference::ForcedToOne { mask: 4, .. }, .. }), "{forced}");
    assert_eq!(run(&keelson, "clear_dropped", Bus::I2c, &[Bytes(&[0x08])]).0.len(), 1);
    assert_eq!(run(&keelson, "clear_dropped", Bus::I2c, &[Bytes(&[0x09]), Done]).0[1], "0x55 W 30 01");

    // Modbus answers are taken apart and their CRC looked at; SPI that answers late is asked twice.
    let garboard = part("garboard-rs");
    let response = yemdo::parse_hex("11 04 10 00 03 00 D7 FF DA 11 A0 50 00 44 9A 00 74 CB B1 15 5B").unwrap();
    assert_eq!(run(&garboard, "measure", Bus::Modbus, &[Bytes(&response)]).1.unwrap().unwrap(), response[3..19]);
    assert!(matches!(run(&garboard, "measure", Bus::Modbus, &[Bytes(&response[..20])]).1.unwrap_err().failure, Failure::Response(_)));
    let caulk = part("caulk-1");
    let pin = [0x83, 0x55, 0x1F, 0x96];
    assert_eq!(run(&caulk, "measure", Bus::Spi, &[Bytes(&[0xFF; 4]), Bytes(&pin)]).1, Ok(Some(pin.to_vec())));
}

#[test]
fn no_run_takes_longer_than_the_dry_run_says() {
    // The worst that still ends well: every try but the last is in vain, every look but the last too early.
    let (early, echo) = ([0x00, 0x00, 0x00, 0x00, 0x5A], [0x01, 0x12, 0x34, 0x0C, 0x71]);
    let air = [0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24];
    let worst: [(&str, Vec<Answer<'_>>); 2] = [
        ("strake-20", [Answer::Done].into_iter().chain([Answer::Nak; 5]).chain([Answer::Bytes(&air)]).collect()),
        ("plumb-2", [Answer::Done].into_iter().chain([Answer::Bytes(&early); 12]).chain([Answer::Bytes(&echo)]).collect()),
    ];
    for (name, answers) in worst {
        let part = part(name);
        let index = part.routine("measure").unwrap();
        let mut dry = Runner::new(&part, index, State::reset(&part)).unwrap().dry();
        let mut next = dry.start().unwrap();
        while next.is_some() {
            next = dry.answer(Answer::Assumed).unwrap();
        }
        let mut real = Runner::new(&part, index, State::reset(&part)).unwrap();
        let (mut answers, mut next) = (answers.into_iter(), real.start().unwrap());
        while let Some(asked) = next {
            let waits = matches!(asked.operation, Operation::Wait(_));
            next = real.answer(if waits { Answer::Done } else { answers.next().unwrap() }).unwrap();
        }
        assert_eq!((answers.next(), real.elapsed().0), (None, dry.elapsed().1), "{name}");
    }
}

#[test]
fn a_modbus_part_that_refuses_says_why() {
    let sheet = "part = \"p\"\nmodbus = { unit = 17, numbering = \"from 0\", baud = 9600 }\nspi.mode = 0\nroutine.on = [{ write = [0x05, 0x00, 0xAC, 0xFF, 0x00] }]\n";
    let part = Part::parse("p", sheet).unwrap();
    let refused = run(&part, "on", Bus::Modbus, &[Answer::Bytes(&[0x11, 0x85, 0x02, 0x83, 0x54])]).1.unwrap_err();
    assert_eq!(refused.to_string(), "on, step in line 4: the part answered with exception 2: ILLEGAL DATA ADDRESS");
    // Over a bus that is not the first one too, it has its own rate: 8 and 8 bytes and silence around, at 9600 baud.
    let mut runner = Runner::new(&part, RoutineId::new(0), State::reset(&part)).unwrap().on_bus(Bus::Modbus, None).unwrap();
    runner.start().unwrap();
    assert_eq!(runner.elapsed(), (26_355, 26_355));
}

#[test]
fn steps_repeat_and_settings_are_checked_before_anything_is_sent() {
    let part = Part::parse(
        "p",
        r#"
part = "p"
i2c.address = 0x20
register.MODE = { at = 1, reset = 0, field.KEY = { bits = "[3:0]" } }
register.LIMIT = { at = 2, reset = 0, while = { KEY = 5 }, field.TOP = { bits = "[7:0]" } }
register.LOCKED = { at = 3, reset = 0, bank = { LOCK = 1 }, field.LOCK = { bits = "[0]" }, field.DEEP = { bits = "[7:1]" } }
routine.twice = [{ write = [0x10], repeat = 2 }, { do = "once", repeat = 2 }]
routine.once = [{ write = [0x20] }, { wait = "1 ms" }]
"#,
    )
    .unwrap();
    use Answer::Done;
    let (lines, _) = run(&part, "twice", Bus::I2c, &[Done; 4]);
    assert_eq!(lines, ["0x20 W 10", "0x20 W 10", "0x20 W 20", "wait 1000", "0x20 W 20", "wait 1000"]);
    let reset = State::reset(&part);
    let done = configure(&part, &reset, &wish(&part, &["TOP=9"]), WriteScope::Changed).unwrap();
    let order: Vec<(usize, u64, Option<WriteReason>)> =
        done.writes.iter().map(|write| (write.register.index(), write.value, write.reason)).collect();
    assert_eq!(order, [(0, 5, Some(WriteReason::Unlocks)), (1, 9, None), (0, 0, Some(WriteReason::Restores))]);
    // A zero clears nothing, so there is nothing to write.
    let keelson = crate::part("keelson-6");
    for (typed, writes) in [("DROPPED=0", 0), ("DROPPED=1", 1)] {
        let done = configure(&keelson, &State::reset(&keelson), &wish(&keelson, &[typed]), WriteScope::Changed).unwrap();
        assert_eq!(done.writes.len(), writes, "{typed}");
    }
    // Where the key is asked for as well, it is turned once.
    let done = configure(&part, &reset, &wish(&part, &["KEY=5", "TOP=9"]), WriteScope::Changed).unwrap();
    assert_eq!(done.writes.iter().map(|write| write.register.index()).collect::<Vec<_>>(), [0, 1]);
    // Real numbers, and fields of two registers.
    let sheet = r#"
part = "p"
i2c.address = 0x20
register.SET = { at = 8, width = 32, reset = 0, field.LEVEL = { bits = "float [31:0]" } }
register.FIX = { at = 9, width = 16, reset = 0, field.SLOPE = { bits = "q7.8 [15:0]" } }
register.HALF = { at = 10, width = 16, reset = 0, field.SMALL = { bits = "float [15:0]" } }
register.TOP = { at = 16, reset = 0 }
register.LOW = { at = 17, reset = 0 }
field.WIDE = { bits = "TOP[3:0] LOW" }
quantity.q = { unit = "V", formula = "SLOPE * 2" }
quantity.w = { unit = "V", formula = "WIDE * 0.5" }
frame.F = { command = [1], read = 1, code = { c = "b0" } }
reading.r = { unit = "V", formula = "c * LEVEL + SLOPE" }
example = { F = "02", gives = { r = "0.0 V" } }
"#;
    let real = Part::parse("p", sheet).unwrap();
    let done = configure(&real, &State::reset(&real), &wish(&real, &["LEVEL=21.5", "q=-3.5", "SMALL=0.1", "w=1000"]), WriteScope::Changed)
        .unwrap();
    let values: Vec<u64> = done.writes.iter().map(|write| write.value).collect();
    assert_eq!(values, [0x41AC_0000, 0xFE40, 0x2E66, 0x07, 0xD0]);
    let mut decoder = yemdo::Decoder::new(&real);
    *decoder.state_mut() = done.state;
    assert_eq!(decoder.decode(FrameId::new(0), &[2]).unwrap().readings[0].value, Some(2.0 * 21.5 - 1.75));
    assert!(
        Wish::parse(&real, "LEVEL=1e39").is_err() && Wish::parse(&real, "SLOPE=128").is_err() && Wish::parse(&real, "SMALL=70000").is_err()
    );
    let locked = configure(&part, &reset, &wish(&part, &["DEEP=9"]), WriteScope::Changed).unwrap_err();
    assert_eq!(locked.to_string(), "LOCKED cannot be written: it needs LOCK = 1");
    let twice = configure(&part, &reset, &wish(&part, &["TOP=9", "TOP=8"]), WriteScope::Changed).unwrap_err();
    assert_eq!(twice.to_string(), "`TOP=9` and `TOP=8` want different codes of TOP");
}

#[test]
fn registers_on_every_kind_of_bus() {
    // The bus as typed, then what a write of 0x1234 to WIDE, a read of it, and a read of both registers look like.
    let cases = [
        ("i2c = { address = 0x20 }", "0x20 W 05 34 12", "0x20 W 05 R 2 bytes", "0x20 W 05 R 3 bytes"),
        (
            "i2c = { address = \"0x42 8-bit\", pointer = 16, restart = false, increment = 0x8000 }",
            "0x21 W 00 05 34 12",
            "0x21 W 00 05 stop, R 2 bytes",
            "0x21 W 80 05 stop, R 3 bytes",
        ),
        ("spi = { mode = 0, read = 0x80, increment = 0x40 }", "05 34 12", "85, 2 bytes in", "C5, 3 bytes in"),
        ("spi = { mode = 3, shift = 1, read = 0x01, write = 0x80, dummy = 1 }", "8A 34 12", "0B 00, 2 bytes in", "0B 00, 3 bytes in"),
        ("spi = { mode = 3, pointer = 16, write = 0x4000, read = 0x8000 }", "40 05 34 12", "80 05, 2 bytes in", "80 05, 3 bytes in"),
    ];
    for (bus, write, read, both) in cases {
        let sheet = format!(
            "part = \"p\"\n{bus}\nregister.WIDE = {{ at = 5, width = 16, order = \"low first\" }}\nregister.NEXT = {{ at = 7 }}\nframe.F = {{ registers = \"WIDE NEXT\", code = {{ a = \"WIDE\", b = \"NEXT\" }} }}\n"
        );
        let part = Part::parse("p", &sheet).unwrap();
        let (bus, wide) = (part.buses().all().next().unwrap(), part.registers().first().unwrap());
        assert_eq!(write_register(&part, bus, wide, 0x1234).unwrap().text(), write);
        assert_eq!(read_registers(&part, bus, &[wide]).unwrap()[0].text(), read);
        let settings = State::reset(&part);
        let frame: Vec<String> = sent(&read_frame(&part, bus, part.frames().first().unwrap(), &settings).unwrap());
        assert_eq!(frame, [both]);
    }
    // A register of two words goes with function 16; the words in the order of the sheet, high byte first in each.
    let sheet = "part = \"p\"\nmodbus = { unit = 3, numbering = \"from 1\" }\nregister.LONG = { at = 8, width = 32 }\n";
    let part = Part::parse("p", sheet).unwrap();
    let long = part.registers().first().unwrap();
    let sent = write_register(&part, Bus::Modbus, long, 0x0001_8000).unwrap().send;
    assert_eq!(sent[..11], [3, 16, 0, 7, 0, 2, 4, 0, 1, 0x80, 0]);
    assert_eq!(read_registers(&part, Bus::Modbus, &[long]).unwrap()[0].send[..6], [3, 3, 0, 7, 0, 2]);
    // Bytes of a step are a request's function and data: a coil is switched on. The CRC is from elsewhere.
    let sheet = "part = \"p\"\nmodbus = { unit = 43, numbering = \"from 0\" }\nroutine.on = [{ write = [0x05, 0x00, 0x3E, 0xFF, 0x00] }]\n";
    let part = Part::parse("p", sheet).unwrap();
    assert_eq!(
        run(&part, "on", Bus::Modbus, &[Answer::Bytes(&[0x2B, 0x05, 0, 0x3E, 0xFF, 0, 0xEA, 0x3C])]).0,
        ["2B 05 00 3E FF 00 EA 3C, 8 bytes in"]
    );
    // Times: nine bits a byte on I2C with both address bytes, eight on SPI, eleven on the serial line and silence around.
    let time = |bus: Bus, send: usize, receive: usize, rate: u32| {
        Transfer { bus, address: None, send: vec![0; send], receive, restart: true, discard: false }.micros(rate)
    };
    assert_eq!(time(Bus::I2c, 1, 2, 100_000), 470);
    assert_eq!(time(Bus::I2c, 0, 7, 400_000), 185);
    assert_eq!(time(Bus::Spi, 1, 14, 1_000_000), 120);
    assert_eq!(time(Bus::Modbus, 8, 21, 19_200), 20_625);
}

#[test]
fn wishes_are_read_as_people_type_them() {
    let keelson = part("keelson-6");
    let field = |typed: &str| match Wish::parse(&keelson, typed) {
        Ok(Wish::Field { field, code, .. }) => (keelson.fields().get(field).unwrap().name().to_owned(), code),
        other => panic!("{typed}: {other:?}"),
    };
    for (typed, name, code) in [
        ("SPAN=12 g", "SPAN", 2),
        ("span = 12 G", "SPAN", 2),
        ("SPAN=0x2", "SPAN", 2),
        ("SPAN=0b10", "SPAN", 2),
        ("SETUP.SPAN=1", "SPAN", 1),
        ("OFFSET_2=-128", "OFFSET_2", -128),
        ("OFFSET_2=-0x10", "OFFSET_2", -16),
    ] {
        assert_eq!(field(typed), (name.to_owned(), code), "{typed}");
    }
    for (typed, message, help) in [
        ("SPAN", "`SPAN` sets nothing", "write NAME=VALUE"),
        ("SPAN=", "`` is not a value of SPAN", "its values are 3 g, 6 g or 12 g"),
        ("SPAN=3", "`3` is not a value of SPAN", "its values are 3 g, 6 g or 12 g"),
        ("SPAN=50 g", "`50 g` is not a value of SPAN", "its values are 3 g, 6 g or 12 g"),
        ("OFFSET_0=200", "`200` is not a value of OFFSET_0", "its codes are -128 to 127"),
        ("OFFSET_0=1.5", "`1.5` is not a value of OFFSET_0", "its codes are -128 to 127"),
        ("SPAM=1", "keelson-6 has no field, quantity or parameter `SPAM`", "did you mean `SPAN`?"),
        ("FRESH=1", "FRESH is read-only and cannot be set", ""),
    ] {
        let error = Wish::parse(&keelson, typed).unwrap_err();
        assert_eq!((error.message.as_str(), error.help.as_deref().unwrap_or("")), (message, help), "{typed}");
    }
    // The part's own bits may be told, though not asked for.
    assert!(Wish::present(&keelson, "FRESH=1").is_ok());
    let thole = part("thole-9");
    let quantity = |typed: &str| match Wish::parse(&thole, typed) {
        Ok(Wish::Quantity { value, .. }) => value,
        other => panic!("{typed}: {other:?}"),
    };
    assert_eq!(quantity("upper_threshold=31"), 31.0);
    assert_eq!(quantity("upper_threshold=-1.5e1 °C"), -15.0);
    assert!((quantity("upper_threshold=300 K") - 26.85).abs() < 1e-9);
    assert!((quantity("Upper_Threshold=90degF") - 32.2222).abs() < 1e-3);
    for typed in ["upper_threshold=warm", "upper_threshold=12 lx", "upper_threshold=inf", "upper_threshold=1e999"] {
        assert!(Wish::parse(&thole, typed).is_err(), "{typed}");
    }
}

#[test]
fn a_strapped_address_is_the_one_that_is_sent_and_checked() {
    let sheet = r#"
part = "p"
i2c = { address = 0x20, strap = { A0 = { low = 0x20, high = 0x21 } } }
register.MODE = { at = 1, reset = 0 }
frame.F = { command = [0x10], read = 2, check = { crc = "CRC-8/SMBUS", over = "addr:w 0x10 addr:r b0", in = "b1" }, code = { a = "b0" } }
reading.a = { unit = "V", formula = "a" }
"#;
    let model = yemdo::layout::MODELS.iter().find(|(name, _)| *name == "CRC-8/SMBUS").unwrap().1;
    let pec = |address: u8, byte: u8| yemdo::layout::Crc::new(model).of(&[address << 1, 0x10, address << 1 | 1, byte]) as u8;
    for (address, other) in [(0x20u8, 0x21u8), (0x21, 0x20)] {
        let part = Part::parse("p", sheet).unwrap().with_address(address).unwrap();
        let mut decoder = yemdo::Decoder::new(&part);
        assert_eq!(decoder.decode(FrameId::new(0), &[7, pec(address, 7)]).unwrap().readings[0].value, Some(7.0));
        assert!(decoder.decode(FrameId::new(0), &[7, pec(other, 7)]).is_err());
        let sent = write_register(&part, Bus::I2c, part.registers().first().unwrap(), 3).unwrap().text();
        assert_eq!(sent, format!("0x{address:02X} W 01 03"));
    }
    assert_eq!(Part::parse("p", sheet).unwrap().with_address(0x22).unwrap_err().known, [0x20, 0x21]);
    // Differences have no zero of their own.
    let thole = part("thole-9");
    for typed in ["hysteresis=2 K", "hysteresis=3.6 °F", "hysteresis=2"] {
        assert!(matches!(Wish::parse(&thole, typed), Ok(Wish::Quantity { value, .. }) if (value - 2.0).abs() < 1e-12), "{typed}");
    }
}

#[path = "../examples/run_routine.rs"]
mod run_routine;

#[test]
fn the_example_runs() {
    run_routine::main().unwrap();
}
