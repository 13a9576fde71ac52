//! What would go wrong silently: wrong bytes sent, stale bytes compared, invented values shown. Each is refused, or said.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use yemdo::bus::Bus;
use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::review::{Proof, predict};
use yemdo::routine::{Answer, Failure, NotRunnable, Operation, RoutineError, Runner};
use yemdo::{Columns, Decoder, FaultKind, FrameValues, Number, Part, Refusal, State, Status};

fn part(text: &str) -> Part {
    Part::parse("p.toml", &format!("part = \"p\"\n{text}")).unwrap_or_else(|error| panic!("{error}"))
}

fn complaint(text: &str) -> String {
    Part::parse("p.toml", &format!("part = \"p\"\n{text}")).expect_err(text).to_string()
}

/// Runs a routine with answers: what was asked, and how it ended.
fn run(part: &Part, bus: Bus, answers: &[&[u8]]) -> (Vec<String>, Result<Runner, RoutineError>) {
    let mut runner = Runner::new(part, part.routine("r").unwrap(), State::reset(part)).unwrap().on_bus(bus, None).unwrap();
    let (mut asked, mut answers) = (Vec::new(), answers.iter());
    let mut next = runner.start();
    loop {
        next = match next {
            Err(error) => return (asked, Err(error)),
            Ok(None) => return (asked, Ok(runner)),
            Ok(Some(request)) => match request.operation {
                Operation::Transfer(transfer) => {
                    asked.push(transfer.text());
                    runner.answer(if transfer.receive > 0 { Answer::Bytes(answers.next().expect("enough answers")) } else { Answer::Done })
                }
                _ => runner.answer(Answer::Done),
            },
        };
    }
}

#[test]
fn the_whole_range_of_a_64_bit_code() {
    let sheet = part(
        r#"
[frame.F]
read = 8
code = { wide = { layout = "b0..b7", range = [0, 0xFFFF_FFFF_FFFF_FFFE] } }
[reading]
own  = { unit = "1", formula = "wide" }
half = { unit = "1", formula = "wide >> 1" }
"#,
    );
    let mut decoder = Decoder::new(&sheet);
    let frame = sheet.frame("F").unwrap();
    let mut kept = FrameValues::new();
    for (bytes, value) in [
        ([0u8; 8], Some(0i128)),
        ([0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFE], Some(0xFFFF_FFFF_FFFF_FFFE)),
        ([0xFF; 8], None),
        ([0x80, 0, 0, 0, 0, 0, 0, 1], Some(0x8000_0000_0000_0001)),
    ] {
        let mut columns = Columns::new();
        decoder.decode_many(frame, &[bytes, bytes].concat(), &mut columns).unwrap();
        decoder.decode_into(frame, &bytes, &mut kept).unwrap();
        let decoded = decoder.decode(frame, &bytes).unwrap();
        match value {
            // All its digits, where a double has 53 bits.
            Some(value) => {
                assert!(matches!(columns.number(0, 1), Some(Number::Int(found, _)) if found == value), "{bytes:02X?}");
                assert_eq!((columns.status(0, 0), kept.status(0), decoded.readings[0].status), (Status::Ok, Status::Ok, Status::Ok));
                assert_eq!(kept.value(1), Some((value >> 1) as f64));
            }
            None => {
                assert_eq!(decoded.readings[0].fault.as_ref().unwrap().kind, FaultKind::NoValue);
                assert_eq!((columns.status(0, 1), kept.status(0)), (Status::FormulaFault, Status::FormulaFault));
            }
        }
    }
    // The same of 32 bits, whose numbers are kept as signed ones.
    let sheet = part(
        "frame.F = { read = 4, code = { w = { layout = \"b0..b3\", range = [5, 0xFFFF_FFF0] } } }\nreading.r = { unit = \"1\", formula = \"w\" }\n",
    );
    let mut decoder = Decoder::new(&sheet);
    for (code, good) in [(4u32, false), (5, true), (0x8000_0000, true), (0xFFFF_FFF0, true), (0xFFFF_FFF1, false)] {
        let decoded = decoder.decode(sheet.frame("F").unwrap(), &code.to_be_bytes()).unwrap();
        assert_eq!(decoded.readings[0].value, good.then_some(f64::from(code)), "{code:X}");
    }
}

#[test]
fn how_many_bytes_count_is_a_number_that_can_be() {
    let fifo = |length: &str| {
        part(&format!(
            "frame.F = {{ read = 4, length = \"{length}\", code = {{ n = \"signed b0\", d = \"b1\", last = \"b3\" }} }}\nreading.r = {{ unit = \"1\", formula = \"last\" }}\n"
        ))
    };
    let cases = [
        ("n", [0x05u8, 0, 0, 9], "the length formula of F gives 5 bytes; expected 0 to 4"),
        ("n", [0xFF, 0, 0, 9], "the length formula of F gives -1 bytes; expected 0 to 4"),
        ("4 / d", [0x02, 0, 0, 9], "the length formula of F gives no value: division by zero"),
    ];
    for (length, bytes, said) in cases {
        let sheet = fifo(length);
        let frame = sheet.frame("F").unwrap();
        let mut decoder = Decoder::new(&sheet);
        let refused = decoder.decode(frame, &bytes).unwrap_err();
        assert_eq!((refused.to_string().as_str(), refused.cause()), (said, "bad length"));
        assert!(matches!(decoder.decode_into(frame, &bytes, &mut FrameValues::new()), Err(Refusal::Count { .. })));
        assert!(decoder.steps(frame, &bytes).is_err());
        assert_eq!(decoder.decode_many(frame, &bytes, &mut Columns::new()), Err(refused));
    }
    // What lies behind those that count is neither shown nor used.
    let sheet = fifo("n");
    let decoded = Decoder::new(&sheet).decode(sheet.frame("F").unwrap(), &[2, 7, 0xAA, 0xBB]).unwrap();
    let names: Vec<&str> = decoded.codes.iter().map(|code| code.name.as_str()).collect();
    assert_eq!((names, decoded.readings[0].status), (vec!["n", "d"], Status::Absent));
    // Of frames at once all bytes count, or none is decoded; shorter ones are decoded with those of their length.
    let (frame, mut decoder, mut columns) = (sheet.frame("F").unwrap(), Decoder::new(&sheet), Columns::new());
    let refused = decoder.decode_many(frame, &[4, 7, 0xAA, 0xBB, 2, 7, 0xAA, 0xBB], &mut columns).unwrap_err();
    assert_eq!(refused.to_string(), "F is too short: expected 4 bytes, got 2");
    decoder.decode_many(frame, &[4, 7, 0xAA, 0xBB, 4, 7, 0xAA, 0xCC], &mut columns).unwrap();
    assert_eq!(columns.values(0), [f64::from(0xBB), f64::from(0xCC)]);
    decoder.decode_many_partial(frame, &[2, 7, 0xAA, 0xBB], 2, &mut columns).unwrap();
    assert_eq!(columns.status(0, 0), Status::Absent);
}

#[test]
fn a_poll_over_a_column_reads_the_field() {
    let sheet = part(
        r#"
i2c.address = 0x2B
[register.STATE]
at = 0x31
field.PHASE = { bits = "[1:0]", values = [{ code = 0, name = "idle", left = 0 }, { code = 1, name = "half", left = 50 }, { code = 2, name = "full", left = 100 }] }
[routine]
r = [{ poll = "PHASE.left == 100", every = "1 ms", within = "10 ms" }, { expect = "PHASE.left > 60" }]
"#,
    );
    let (asked, done) = run(&sheet, Bus::I2c, &[&[0], &[1], &[2], &[2]]);
    assert_eq!(asked, ["0x2B W 31 R 1 byte"; 4]);
    assert!(done.is_ok());
    let wrong = run(&sheet, Bus::I2c, &[&[2], &[1]]).1.unwrap_err();
    assert!(matches!(&wrong.failure, Failure::Unexpected { condition, .. } if condition == "PHASE.left > 60"), "{wrong}");
}

#[test]
fn a_late_answer_is_verified_against_its_own_read() {
    let sheet = part(
        "spi = { mode = 0, read = 0x80, late = true }\nregister.A = { at = 0x15, reset = 0, field.LEVEL = { bits = \"[7:0]\" } }\nroutine.r = [{ set.LEVEL = 0x5A, verify = true }]\n",
    );
    let (asked, done) = run(&sheet, Bus::Spi, &[&[0xEE], &[0x5A]]);
    assert_eq!(asked, ["15 5A", "95, 1 byte in", "95, 1 byte in"]);
    assert!(done.is_ok(), "what came with the first is thrown away");
    let stale = run(&sheet, Bus::Spi, &[&[0x5A], &[0x00]]).1.unwrap_err();
    assert!(matches!(stale.failure, Failure::NotTaken { values: (0x5A, 0x00), .. }), "{stale}");
}

#[test]
fn a_blank_calibration_is_refused_everywhere() {
    let sheet = part(
        "i2c.address = 0x2B\nframe.CAL = { read = 3, command = [0x77], keep = true, code = { k = \"b0 b1 b2\" } }\nroutine.r = [{ read = \"CAL\" }]\n",
    );
    let frame = sheet.frame("CAL").unwrap();
    for byte in [0x00, 0xFF] {
        let refused = Decoder::new(&sheet).decode(frame, &[byte; 3]).unwrap_err();
        let in_routine = run(&sheet, Bus::I2c, &[&[byte; 3]]).1.unwrap_err();
        assert_eq!(in_routine.failure, Failure::Refused(refused.clone()));
        assert_eq!(refused.to_string(), format!("all bytes of CAL are 0x{byte:02X}: the part did not answer, or was never calibrated"));
    }
    assert_eq!(run(&sheet, Bus::I2c, &[&[0, 0, 1]]).1.unwrap().frame(frame), Some(&[0, 0, 1][..]));
}

#[test]
fn a_bus_that_the_part_lacks_gets_nothing() {
    let sheet =
        part("i2c.address = 0x2B\nregister.A = { at = 1, reset = 0, field.L = { bits = \"[7:0]\" } }\nroutine.r = [{ set.L = 1 }]\n");
    let register = sheet.registers().first().unwrap();
    for bus in [Bus::Spi, Bus::Modbus] {
        assert_eq!(yemdo::configure::write_register(&sheet, bus, register, 1), None);
        assert_eq!(yemdo::configure::read_registers(&sheet, bus, &[register]), None);
        let runner = Runner::new(&sheet, sheet.routine("r").unwrap(), State::reset(&sheet)).unwrap();
        assert_eq!(runner.on_bus(bus, None).unwrap_err(), NotRunnable::OtherBus(bus));
    }
    let none = part("routine.r = [{ wait = \"1 ms\" }]\n");
    assert_eq!(Runner::new(&none, none.routine("r").unwrap(), State::reset(&none)).unwrap_err(), NotRunnable::NoBus);
}

#[test]
fn names_and_values_that_differ_in_case() {
    let sheet = part(
        r#"
i2c.address = 0x2B
[register.A]
at = 1
reset = 0
field.SPAN = { bits = "[1:0]", values = [{ code = 0, name = "1 mV" }, { code = 1, name = "1 MV" }, { code = 2, name = "10 V" }] }
"#,
    );
    let code = |typed: &str| match Wish::parse(&sheet, typed) {
        Ok(Wish::Field { code, .. }) => Ok(code),
        Ok(other) => panic!("{other:?}"),
        Err(error) => Err(error.to_string()),
    };
    assert_eq!((code("SPAN=1 mV"), code("SPAN=1 MV"), code("SPAN=10 v")), (Ok(0), Ok(1), Ok(2)));
    assert!(code("SPAN=1 mv").is_err(), "both could be meant");
    assert!(code("SPAN=3").is_err());
}

#[test]
fn a_field_is_given_once() {
    let registers = "i2c.address = 0x2B\nregister.A = { at = 1, reset = 0, field.L = { bits = \"[3:0]\" }, reserved = { bits = \"[7:4]\", write = 2 } }\n";
    let sheet = part(registers);
    let wishes = [Wish::parse(&sheet, "L=1").unwrap(), Wish::parse(&sheet, "L=2").unwrap()];
    let error = configure(&sheet, &State::reset(&sheet), &wishes, WriteScope::Changed).unwrap_err();
    assert!(error.to_string().contains("different codes"), "{error}");
    // Where both say the same, nothing is lost.
    assert!(configure(&sheet, &State::reset(&sheet), &[wishes[0].clone(), wishes[0].clone()], WriteScope::Changed).is_ok());
    // What is reserved has its bits, and no more.
    let error = complaint(&registers.replace("write = 2", "write = 0x12"));
    assert!(error.contains("0x12 does not fit in these reserved bits"), "{error}");
}

#[test]
fn a_tolerance_is_a_share() {
    for tolerance in ["-5", "1001", "1e300"] {
        let error = complaint(&format!("i2c.address = 0x2B\nroutine.r = [{{ wait = \"10 ms\", tolerance = {tolerance} }}]\n"));
        assert!(error.contains("tolerance"), "{error}");
    }
    let sheet = part("i2c.address = 0x2B\nroutine.r = [{ wait = \"10 ms\", tolerance = 25 }]\n");
    assert_eq!(run(&sheet, Bus::I2c, &[]).1.unwrap().elapsed(), (12_500, 12_500));
}

#[test]
fn an_example_agrees_with_what_it_says_only() {
    let infinite = "frame.F = { read = 1, code = { c = \"b0\" } }\nreading.r = { unit = \"V\", formula = \"c * 0.5\" }\nexample = { F = \"08\", gives = { r = \"inf V\" } }\n";
    let text = match Part::parse("p.toml", &format!("part = \"p\"\n{infinite}")) {
        Ok(part) => format!("{:?}", yemdo::review::run_examples(&part)),
        Err(error) => error.to_string(),
    };
    assert!(!text.contains("agrees: true") && text.to_lowercase().contains("inf"), "{text}");
}

#[test]
fn proved_means_a_number_always() {
    let of = |formula: &str, code: &str| {
        let sheet =
            part(&format!("frame.F = {{ read = 2, code = {{ c = {code} }} }}\nreading.r = {{ unit = \"1\", formula = \"{formula}\" }}\n"));
        predict(&sheet, sheet.reading("r").unwrap()).unwrap()
    };
    assert_eq!(of("c * 0.25", "\"b0 b1\"").proof, Proof::Proved);
    for formula in ["sqrt(c - 4)", "log(c)", "1.0 / c", "asin(c * 0.5)"] {
        let found = of(formula, "\"b0 b1\"");
        assert!(found.proof == Proof::Tried && !found.faults.is_empty(), "{formula}: {found:?}");
    }
    // Bits that stand for nothing are told beside the proof of the arithmetic.
    for code in ["\"bcd b0 b1\"", "{ layout = \"b0 b1\", range = [3, 900] }"] {
        assert_eq!(of("c * 0.25", code).may_lack, ["c"], "{code}");
    }
    // What cannot be tried out code by code is bounded, or said to be in doubt.
    let sheet = part(
        "frame.F = { read = 8, code = { a = \"b0..b3\", b = \"b4..b7\" } }\nreading.r = { unit = \"1\", formula = \"(double)a / b\" }\n",
    );
    let found = predict(&sheet, sheet.reading("r").unwrap()).unwrap();
    assert!(
        matches!(found.proof, Proof::Doubted(1.., 1..))
            && found.faults.iter().any(|fault| fault.codes.iter().any(|(name, code)| name == "b" && *code == 0)),
        "{found:?}"
    );
}

#[test]
fn sheets_made_to_take_long_are_refused_with_the_limit() {
    let many = |line: &dyn Fn(usize) -> String, count: usize| (0..count).map(line).collect::<String>();
    let variants = many(&|at| format!("variant.v{at} = {{ title = \"{at}\" }}\n"), 65);
    assert!(complaint(&variants).contains("64"), "{}", complaint(&variants));
    assert!(Part::parse("p", &format!("part = \"p\"\n{}", variants.lines().take(64).collect::<Vec<_>>().join("\n"))).is_ok());
    // A sheet full of slips is told of the first few hundred, not of all of them.
    let slips = complaint(&many(&|at| format!("titel{at} = 1\n"), 3000));
    assert!(slips.contains("titel0") && slips.lines().count() < 20_000, "{} lines", slips.lines().count());
    // Chains of readings and of quantities are followed once each.
    let chain = many(
        &|at| {
            if at == 0 {
                "reading.r0 = { unit = \"1\", formula = \"c\" }\n".into()
            } else {
                format!("reading.r{at} = {{ unit = \"1\", formula = \"r{} + 1\" }}\n", at - 1)
            }
        },
        400,
    );
    let sheet = part(&format!("frame.F = {{ read = 1, code = {{ c = \"b0\" }} }}\n{chain}"));
    let decoded = Decoder::new(&sheet).decode(sheet.frame("F").unwrap(), &[7]).unwrap();
    assert_eq!(decoded.reading("r399").unwrap().value, Some(406.0));
    let doubled = many(
        &|at| {
            if at == 0 {
                "quantity.q0 = { unit = \"1\", formula = \"L * 1.0\" }\n".into()
            } else {
                format!("quantity.q{at} = {{ unit = \"1\", formula = \"q{0} + q{0}\", moves = [\"L\"] }}\n", at - 1)
            }
        },
        40,
    );
    let sheet = part(&format!("register.A = {{ at = 1, reset = 1, field.L = {{ bits = \"[7:0]\" }} }}\n{doubled}"));
    let last = sheet.quantity("q39").unwrap();
    let value = yemdo::configure::quantity_value(&sheet, last, &State::reset(&sheet));
    assert_eq!(value, Some((1u64 << 39) as f64));
}
