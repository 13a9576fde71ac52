//! A hand-written C driver on a bus that is driven bit by bit: its mistakes show in the capture alone.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;

use yemdo::Part;
use yemdo::stand_in::Rule;
use yemdo::trace::{Follower, Start, TraceFinding};
use yemdo_trace::{Capture, CaptureOptions, Item};

const FOLDER: &str = env!("CARGO_MANIFEST_DIR");

/// The driver, compiled once.
fn driver() -> &'static Path {
    static PROGRAM: OnceLock<PathBuf> = OnceLock::new();
    PROGRAM.get_or_init(compiled)
}

fn compiled() -> PathBuf {
    let program = Path::new(env!("CARGO_TARGET_TMPDIR")).join("lantern-driver");
    let source = Path::new(FOLDER).join("tests/driver/main.c");
    let status = Command::new("cc").args(["-std=c99", "-Wall", "-Wextra", "-Werror", "-O1", "-o"]).arg(&program).arg(source).status();
    assert!(status.expect("a C compiler").success());
    program
}

fn lantern() -> Part {
    let text = fs::read_to_string(Path::new(FOLDER).join("../sheets/lantern-16.toml")).unwrap();
    Part::parse("lantern-16.toml", &text).unwrap()
}

/// Findings in the driver with these mistakes, and the readings that came.
fn findings(program: &Path, mistakes: &[u32], start: &Start) -> (Vec<TraceFinding>, Vec<String>) {
    let output = Command::new(program).args(mistakes.iter().map(u32::to_string)).output().unwrap();
    let mut capture = Capture::open(std::io::Cursor::new(output.stdout), CaptureOptions::default()).unwrap();
    let (mut follower, mut readings, mut end) = (Follower::new(&lantern(), start).unwrap(), Vec::new(), 0);
    while let Some(item) = capture.next_item().unwrap() {
        let Item::Transfer(captured) = item else { panic!("no transfer: {item:?}") };
        assert_eq!(captured.transaction.hertz.map(|hertz| hertz / 1000), Some(400));
        end = captured.transaction.end;
        let followed = follower.take(&captured.transaction).unwrap();
        readings.extend(followed.frames.iter().map(|seen| seen.decoded.as_ref().unwrap().reading("illuminance").unwrap().to_string()));
    }
    assert!(capture.notes().is_empty());
    (follower.finish(end), readings)
}

/// The mistakes of `tests/driver/main.c`, by number.
const PLANTED: [(u32, Rule); 8] = [
    (1, Rule::ReadTooEarly),
    (2, Rule::ReservedBits),
    (3, Rule::ReadOnly),
    (4, Rule::UnknownRegister),
    (5, Rule::UndefinedValue),
    (6, Rule::PartOfRegister),
    (7, Rule::NotValid),
    (8, Rule::NotStarted),
];

#[test]
fn each_mistake_of_a_driver_shows_in_its_capture() {
    let program = driver();
    let rules = |findings: &[TraceFinding]| {
        let mut rules: Vec<Rule> = findings.iter().map(|finding| finding.violation.rule).collect();
        rules.sort_unstable();
        rules
    };
    let (none, readings) = findings(program, &[], &Start::PowerUp);
    assert_eq!(none, []);
    assert_eq!(readings, ["300.00 lx", "300.00 lx"]);
    for (number, rule) in PLANTED {
        let (found, _) = findings(program, &[number], &Start::PowerUp);
        assert_eq!(rules(&found), [rule], "mistake {number}");
    }
    let (all, _) = findings(program, &PLANTED.map(|(number, _)| number), &Start::PowerUp);
    let mut expected = PLANTED.map(|(_, rule)| rule);
    expected.sort_unstable();
    assert_eq!(rules(&all), expected);
    assert!(all.iter().all(|finding| !finding.depends_on_start));
}

#[test]
fn what_was_before_a_capture_is_not_held_against_the_client() {
    let program = driver();
    let (found, readings) = findings(program, &[7, 8], &Start::Unseen);
    let about: Vec<_> = found.iter().map(|finding| (finding.violation.rule, finding.depends_on_start)).collect();
    // Earlier transfers may have woken the part, or started a measurement.
    assert_eq!(about, [(Rule::NotValid, true), (Rule::NotStarted, true)]);
    // The settings are known from the first write on.
    assert_eq!(readings, ["no value: not ready", "no value: not ready", "300.00 lx", "300.00 lx"]);
}
