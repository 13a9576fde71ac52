//! The command with parts: readings that go on, servers, consoles, recordings, benches, and what goes wrong with each.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdout, Command, Output, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use serde_json::Value;

fn yemdo(args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_yemdo"));
    command.args(args).current_dir(Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap());
    command
}

fn run(args: &[&str]) -> (i32, String, String) {
    let Output { status, stdout, stderr } = yemdo(args).stdin(Stdio::null()).output().unwrap();
    (status.code().unwrap_or(-1), String::from_utf8(stdout).unwrap(), String::from_utf8(stderr).unwrap())
}

/// The same with something on standard input.
fn piped(args: &[&str], input: &str) -> (i32, String, String) {
    let mut child = yemdo(args).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let Output { status, stdout, stderr } = child.wait_with_output().unwrap();
    (status.code().unwrap_or(-1), String::from_utf8(stdout).unwrap(), String::from_utf8(stderr).unwrap())
}

/// A text with one blank where there are several.
fn squeezed(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A folder of its own for a test.
fn folder(name: &str) -> PathBuf {
    let folder = std::env::temp_dir().join(format!("yemdo-parts-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).unwrap();
    folder
}

/// Presses Ctrl-C.
fn interrupt(child: &Child) {
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
}

/// Waits for a process, and not for ever.
fn end(mut child: Child) -> (i32, String) {
    let until = Instant::now() + Duration::from_secs(20);
    while child.try_wait().unwrap().is_none() {
        assert!(Instant::now() < until, "it does not end");
        thread::sleep(Duration::from_millis(10));
    }
    let mut complaints = String::new();
    child.stderr.take().into_iter().for_each(|mut stderr| drop(stderr.read_to_string(&mut complaints)));
    (child.wait().unwrap().code().unwrap_or(-1), complaints)
}

/// Starts a command, and gives its first line.
fn started(args: &[&str]) -> (Child, BufReader<ChildStdout>, String) {
    let mut child = yemdo(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut out = BufReader::new(child.stdout.take().unwrap());
    let mut line = String::new();
    out.read_line(&mut line).unwrap();
    (child, out, line)
}

const STRAKE: &str = "sheets/strake-20.toml";
const LANTERN: &str = "sheets/lantern-16.toml";
const GARBOARD: &str = "sheets/garboard-rs.toml";

#[test]
fn readings_go_on_until_ctrl_c_and_each_is_out_at_once() {
    let (child, mut out, first) = started(&["read", STRAKE, "--at", "stand-in", "--every", "200 ms"]);
    assert!(squeezed(&first).contains("temperature 12.500 °C"), "{first}");
    // Without an end, waits for a stand-in take their time: the second one comes later.
    let begin = Instant::now();
    let mut second = String::new();
    out.read_line(&mut second).unwrap();
    assert!(begin.elapsed() > Duration::from_millis(50) && second.trim_start().starts_with("0.2"), "{second}");
    interrupt(&child);
    let (code, told) = end(child);
    assert_eq!(code, 0, "{told}");
    assert!(told.starts_with("strake-20: ") && told.contains("measurements read"), "{told}");
}

#[test]
fn a_closed_pipe_and_a_time_end_it() {
    let (child, out, _) = started(&["read", STRAKE, "--at", "stand-in", "--every", "50 ms"]);
    drop(out);
    let (code, told) = end(child);
    assert_eq!((code, told.as_str()), (0, ""));
    let (code, out, told) = run(&["read", STRAKE, "--at", "stand-in", "--every", "1 min", "--for", "1 h"]);
    assert_eq!((code, out.lines().count(), told.as_str()), (0, 60, "strake-20: 60 measurements read\n"));
    // An hour of a stand-in takes no time, and does not drift.
    assert!(out.lines().last().unwrap().trim_start().starts_with("3540.000  "), "{out}");
}

/// Every format has the same readings.
#[test]
fn formats_agree() {
    for (sheet, place) in [
        (STRAKE, "stand-in:temperature=-3.25"),
        ("sheets/binnacle-24.toml", "stand-in:pressure=1000"),
        ("sheets/binnacle-24.toml", "stand-in:spi;pressure=1000"),
        ("sheets/keelson-6.toml", "stand-in"),
        ("sheets/plumb-2.toml", "stand-in:distance=300"),
        (GARBOARD, "stand-in:flow=700"),
        ("sheets/caulk-1.toml", "stand-in"),
        ("sheets/ember-14.toml", "stand-in:surface=40 - t"),
    ] {
        let started: &[&str] = if sheet.contains("keelson") { &["--run", "start"] } else { &[] };
        let read = |format: &str| {
            let (code, out, told) =
                run(&[&["read", sheet, "--at", place, "--count", "2", "--every", "3 s", "--format", format], started].concat());
            assert_eq!(code, 0, "{sheet}: {told}");
            out
        };
        let lines: Vec<Value> = read("json").lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!(lines.len(), 2);
        let csv = read("csv");
        assert!(csv.starts_with("time,part,frame,bytes,settings,reading,value,unit,status,reason\n"), "{csv}");
        let table = read("table");
        for (line, shown) in lines.iter().zip(table.lines()) {
            assert!(line["error"].is_null() && line["time"].is_string());
            for frame in line["frames"].as_array().unwrap() {
                assert!(shown.contains(frame["bytes"].as_str().unwrap()), "{shown}");
            }
            for reading in line["readings"].as_array().unwrap() {
                let (name, status) = (reading["reading"].as_str().unwrap(), reading["status"].as_str().unwrap());
                assert!(shown.contains(name), "{shown}");
                let value = reading["value"].as_f64();
                let same = |row: &&str| {
                    let cells: Vec<&str> = row.split(',').collect();
                    let of_it = cells.contains(&name) && cells.contains(&status);
                    of_it && cells.iter().any(|cell| cell.parse::<f64>().ok() == value || value.is_none())
                };
                assert!(csv.lines().any(|row| same(&row)), "{name} {value:?} {status} in {csv}");
            }
        }
    }
}

#[test]
fn a_server_serves_judges_and_stops() {
    let (child, mut out, first) = started(&["stand-in", GARBOARD, "--listen", "127.0.0.1:0", "supply=18.5"]);
    let place = format!("{}@17", first.trim().split(" at ").nth(1).unwrap());
    let (code, shown, told) = run(&["read", GARBOARD, "--at", &place, "--format", "json"]);
    assert_eq!(code, 0, "{told}");
    let line: Value = serde_json::from_str(&shown).unwrap();
    assert_eq!((line["readings"][0]["reading"].as_str(), line["readings"][0]["value"].as_f64()), (Some("supply"), Some(18.5)));
    let (code, _, told) = run(&["configure", GARBOARD, "wanted_supply=19 °C", "--at", &place]);
    assert_eq!(code, 0, "{told}");
    // Somebody else's unit is nobody; a register that only reports is told.
    let (code, _, told) = run(&["read", GARBOARD, "--at", &place.replace("@17", "@18"), "--timeout", "200 ms"]);
    assert_eq!(code, 1);
    assert!(told.contains("18") || told.contains("time-out"), "{told}");
    let (code, shown, told) = piped(&["talk", GARBOARD, "--at", &place, "--quiet"], "read WANTED\nraw 06 00 68 00 01 read 8\n");
    assert_eq!(code, 0, "{told}");
    assert!(shown.contains("WANTED = 0x00BE") && shown.contains("11 86 02"), "{shown}");
    interrupt(&child);
    let mut rest = String::new();
    out.read_to_string(&mut rest).unwrap();
    let (code, _) = end(child);
    assert_eq!(code, 1, "{rest}");
    assert!(rest.contains(" requests\n") && rest.contains("read-only register: wrote to 1 holding register from 104"), "{rest}");
}

#[test]
fn a_terminal_is_a_serial_line_that_one_has_alone() {
    let (child, _out, first) = started(&["stand-in", GARBOARD, "--terminal", "supply=21", "--for", "20 s"]);
    let place = first.trim().split(" at ").nth(1).unwrap().to_owned();
    let (code, shown, told) = run(&["read", GARBOARD, "--at", &format!("{place},19200,none@17"), "--count", "3", "--every", "50 ms"]);
    assert_eq!((code, squeezed(&shown).matches("supply 21.0 °C").count()), (0, 3), "{shown}{told}");
    let (code, shown, _) = run(&["scan", &place, "--baud", "19200", "--parity", "none", "--units", "16-18", "--format", "json"]);
    let found: Value = serde_json::from_str(&shown).unwrap();
    assert_eq!(
        (code, found["address"].as_u64(), found["baud"].as_u64(), found["parity"].as_str()),
        (0, Some(17), Some(19_200), Some("none"))
    );
    // A second program on the same line is told who has it.
    let (reader, mut lines, _) = started(&["read", GARBOARD, "--at", &format!("{place},19200,none@17"), "--every", "100 ms"]);
    let (code, _, told) = run(&["read", GARBOARD, "--at", &format!("{place},19200,none@17")]);
    assert_eq!(code, 2, "{told}");
    assert!(told.contains("it is in use by yemdo (process "), "{told}");
    // The line goes away while it is read: it is shown, and nothing hangs.
    let mut child = child;
    child.kill().unwrap();
    child.wait().unwrap();
    let mut line = String::new();
    while lines.read_line(&mut line).unwrap() > 0 && !line.contains("serial line") && !line.contains("no response") {
        line.clear();
    }
    assert!(line.contains("serial line") || line.contains("no response"), "{line}");
    interrupt(&reader);
    drop(lines);
    assert!(matches!(end(reader).0, 0 | 1));
}

#[test]
fn a_console_does_what_a_script_says_and_stops_where_it_fails() {
    let folder = folder("script");
    let script = folder.join("setup.txt");
    fs::write(&script, "# the hull\n\nread ID\nset GAIN=fivefold TIME='54 ms'\nmeasure\nread FROST\nmeasure\n").unwrap();
    let (code, out, told) = run(&["talk", LANTERN, "--at", "stand-in:illuminance=90", "--script", script.to_str().unwrap()]);
    assert_eq!(code, 1);
    // What came before is done and shown, what comes after is not.
    assert!(out.contains("illuminance  90.00 lx") && out.matches("> measure").count() == 1, "{out}");
    assert!(told.contains(&format!("error: {}, line 6: lantern-16 has no register `FROST`", script.display())), "{told}");
    for (line, expected, code) in [
        ("read GAIN", "GAIN = single (code 1)", 0),
        ("raw 30 read 2", "4C 61", 0),
        ("raw read 70000", "expected a number of bytes after `read`", 1),
        ("raw xyz", "`xyz` at column 1 is not hex", 1),
        ("run wake", "", 0),
        ("run sleap", "lantern-16 has no routine `sleap`", 1),
        ("compare before", "no dump `before`", 1),
        ("write CONFIG=0x0402", "CONFIG = 0x0402  GAIN = single", 0),
        ("write CONFIG", "`CONFIG` has no value", 1),
        ("write", "nothing to write", 1),
        ("set GAIN=tenfold", "`tenfold` is not a value of GAIN", 1),
        ("set", "nothing to set", 1),
        ("set upper_limit=500 lx PERSIST=seven", "2 registers written and verified", 0),
        ("explain ID", "always 0x4C61", 0),
        ("help", "send bytes as they are", 0),
        ("quit\nmeasure", "> quit", 0),
        ("dump a\nset GAIN=fifth\ndump b\ncompare a b", "GAIN: single → fifth", 0),
    ] {
        let (found, out, told) = piped(&["talk", LANTERN, "--at", "stand-in", "--quiet"], line);
        assert_eq!(found, code, "{line}: {out}{told}");
        assert!(format!("{out}{told}").contains(expected), "{line}: {out}{told}");
        assert!(!out.contains("illuminance"), "{line}: {out}");
    }
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn a_recording_is_a_new_file_a_log_and_a_bus() {
    let folder = folder("record");
    let path = folder.join("day.txt");
    let file = path.to_str().unwrap();
    let (code, ..) =
        run(&["read", "sheets/binnacle-24.toml", "--at", "stand-in:pressure=990 + t", "--every", "1 s", "--count", "3", "--record", file]);
    assert_eq!(code, 0);
    let text = fs::read_to_string(&path).unwrap();
    assert!(text.starts_with("# yemdo traffic 1\n# binnacle-24 at stand-in:pressure=990 + t\n"), "{text}");
    let (code, _, told) = run(&["read", STRAKE, "--at", "stand-in", "--record", file]);
    assert_eq!(code, 2);
    assert!(told.contains("already exists") && told.contains("choose another name"), "{told}");
    assert_eq!(fs::read_to_string(&path).unwrap(), text);
    // All transfers of the calibration are one frame; the pressures are those that were read.
    let (code, out, told) = run(&["decode", "sheets/binnacle-24.toml", "--log", file, "--format", "json"]);
    assert_eq!(code, 0, "{told}");
    let frames: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let names: Vec<&str> = frames.iter().map(|frame| frame["frame"].as_str().unwrap()).collect();
    assert_eq!(names, ["CALIBRATION", "TEMPERATURE", "PRESSURE", "TEMPERATURE", "PRESSURE", "TEMPERATURE", "PRESSURE"]);
    let pressure = frames[6]["readings"]["pressure"]["value"].as_f64().unwrap();
    assert!((pressure - 992.0).abs() < 0.1, "{pressure}");
    let place = format!("recording:{file}");
    let (code, out, told) = run(&["read", "sheets/binnacle-24.toml", "--at", &place, "--count", "3", "--format", "json"]);
    assert_eq!(code, 0, "{told}");
    assert!(out.lines().last().unwrap().contains(&format!("\"value\":{pressure}")), "{out}");
    // It is over then, and another command is not what it holds.
    let (code, _, told) = run(&["read", "sheets/binnacle-24.toml", "--at", &place, "--count", "4"]);
    assert_eq!(code, 1);
    assert!(told.contains("the recording is over"), "{told}");
    let (code, _, told) = run(&["read", STRAKE, "--at", &place]);
    assert_eq!(code, 1);
    assert!(told.contains("the recording goes on with 0x34 W 9B in line 3"), "{told}");
    // A scan is recorded, too: what it asked of each address.
    let scanned = folder.join("scan.txt");
    let (code, ..) = run(&["scan", "stand-in", "--sheet", STRAKE, "--record", scanned.to_str().unwrap()]);
    let text = fs::read_to_string(&scanned).unwrap();
    assert_eq!((code, text.matches(" R 1 ! I2C 0x").count()), (0, 111), "{text}");
    fs::write(&path, "# yemdo traffic 1\n0.5 i2c 0x34 W 9B\nyesterday\n").unwrap();
    let (code, _, told) = run(&["read", "sheets/binnacle-24.toml", "--at", &place]);
    assert_eq!(code, 2);
    assert!(told.contains("line 3: expected seconds first, such as 0.015412"), "{told}");
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn a_bench_goes_on_without_a_part_that_is_not_there() {
    let folder = folder("bench");
    let path = folder.join("hall.toml");
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join("sheets");
    let part = |name: &str, sheet: &str, rest: &str| format!("[part.{name}]\nsheet = \"{}/{sheet}.toml\"\n{rest}\n", sheets.display());
    let text = part("air", "strake-20", "at = \"stand-in:temperature=20\"\nevery = \"1 s\"")
        + &part("gone", "thole-9", "at = \"i2c:99\"\nevery = \"1 s\"")
        + &part("damaged", "strake-20", "at = \"stand-in:faults=0.5;seed=3\"\nevery = \"1 s\"");
    fs::write(&path, text).unwrap();
    let bench = path.to_str().unwrap();
    let (code, out, told) = run(&["read", "--bench", bench, "--count", "6", "--format", "json"]);
    assert_eq!(code, 1, "{told}");
    let lines: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let of = |name: &str| lines.iter().filter(|line| line["part"] == name).collect::<Vec<_>>();
    assert_eq!(of("air").len(), 6);
    assert!(of("air").iter().all(|line| line["readings"][0]["value"].as_f64().is_some_and(|value| (value - 20.0).abs() < 0.01)));
    let damaged = of("damaged");
    assert!(damaged.iter().any(|line| !line["error"]["cause"].is_null()) && damaged.iter().any(|line| line["error"].is_null()), "{out}");
    assert!(
        told.contains("gone: cannot open /dev/i2c-99: there is no such device") && told.contains("air: 6 measurements read\n"),
        "{told}"
    );
    // A wish that cannot be is told before anything is opened.
    let wrong =
        part("air", "strake-20", "at = \"stand-in\"") + &part("frost", "thole-9", "at = \"i2c:99\"\nset = [\"lower_threshold=900 °C\"]");
    fs::write(&path, wrong).unwrap();
    let (code, out, told) = run(&["read", "--bench", bench]);
    assert_eq!((code, out.as_str()), (1, ""));
    assert!(told.contains("lower_threshold cannot be 900 °C") && !told.contains("/dev/i2c-99"), "{told}");
    fs::remove_dir_all(folder).unwrap();
}

/// Two units on one serial line: it is opened once, and the parts take turns.
#[test]
fn parts_share_a_line_and_a_bench_goes_on_as_its_file_says() {
    let folder = folder("line");
    let path = folder.join("line.toml");
    let (mut server, _served, first) = started(&["stand-in", GARBOARD, "--terminal", "supply=19", "--for", "30 s"]);
    let place = first.trim().split(" at ").nth(1).unwrap();
    let sheet = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join(GARBOARD);
    let part = |name: &str, unit: u8| {
        format!("[part.{name}]\nsheet = \"{}\"\nat = \"{place},19200,none@{unit}\"\nevery = \"100 ms\"\n", sheet.display())
    };
    fs::write(&path, part("handler", 17) + &part("nobody", 18)).unwrap();
    let bench = path.to_str().unwrap();
    let (code, out, told) = run(&["read", "--bench", bench, "--count", "2", "--timeout", "150 ms", "--format", "json"]);
    assert_eq!(code, 1, "{told}");
    let lines: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let good = lines.iter().filter(|line| line["part"] == "handler" && line["error"].is_null()).count();
    let failed = lines.iter().filter(|line| line["part"] == "nobody" && line["error"]["cause"] == "time-out").count();
    assert_eq!((good, failed), (2, 2), "{out}");
    assert!(told.contains("handler: 2 measurements read") && told.contains("nobody: 0 measurements read, 2 failed: 2 time-out"), "{told}");
    // Without an end it goes on, as often as the file says.
    fs::write(&path, part("handler", 17)).unwrap();
    let (reader, mut lines, _) = started(&["read", "--bench", bench]);
    let mut line = String::new();
    lines.read_line(&mut line).unwrap();
    lines.read_line(&mut line).unwrap();
    assert_eq!(squeezed(&line).matches("supply 19.0 °C").count(), 2, "{line}");
    interrupt(&reader);
    assert_eq!(end(reader).0, 0);
    server.kill().unwrap();
    server.wait().unwrap();
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn an_interrupted_configure_says_what_was_written() {
    // Of a quarter of the seeds, one comes through in part.
    let mut partly = 0;
    for seed in 0..24 {
        let place = format!("stand-in:faults=0.12;seed={seed}");
        let args = ["configure", "sheets/keelson-6.toml", "SPAN=12 g", "TURN=640 °/s", "DRDY_LINE=1", "--at", &place];
        let (code, out, told) = run(&args);
        match code {
            0 => assert!(out.contains("written and verified"), "{out}"),
            1 => {
                assert!(told.contains("nothing was written") || told.contains("written before it failed: SETUP"), "{told}");
                partly += u64::from(told.contains("written before it failed"));
                assert!(told.contains("error: "), "{told}");
            }
            code => panic!("exit {code}: {told}"),
        }
    }
    assert!(partly > 0);
}

/// What is asked of the wrong place, or in the wrong way.
#[test]
fn what_cannot_be_is_told_with_what_to_do() {
    for (args, code, message, help) in [
        (&["read", STRAKE][..], 2, "missing `--at PLACE`", "--at stand-in needs no hardware"),
        (&["read"], 2, "required arguments were not provided", "SHEET"),
        (&["read", STRAKE, "--at", "i2c:1", "--bench", "x.toml"], 2, "cannot be used with", "--bench"),
        (&["read", STRAKE, "--at", "stand-in", "--every", "soon"], 2, "write 500 ms, 2 s or 1 min", "--every"),
        (&["read", STRAKE, "--at", "stand-in", "--run", "walk"], 2, "strake-20 has no routine `walk`", "measure"),
        (&["read", STRAKE, "--at", "stand-in", "--set", "GAIN=1"], 2, "GAIN", ""),
        (&["talk", STRAKE], 2, "missing `--at PLACE`", "--at stand-in needs no hardware"),
        (&["talk", STRAKE, "--at", "stand-in", "--script", "/no/such"], 2, "cannot read the script /no/such", ""),
        (&["stand-in", STRAKE], 2, "strake-20 has no Modbus interface", "--at stand-in"),
        (&["stand-in", GARBOARD, "supply"], 2, "`supply` is not READING=SIGNAL", "supply=19.5"),
        (&["stand-in", GARBOARD, "heat=3"], 2, "garboard-rs has no reading `heat`", "supply"),
        (&["stand-in", GARBOARD, "--listen", "192.0.2.1:1502"], 2, "cannot listen on 192.0.2.1:1502", "choose another port"),
        (&["scan", "i2c:88"], 2, "cannot open /dev/i2c-88: there is no such device", "`yemdo scan` without a place"),
        (&["scan", "recording:x"], 2, "this place cannot be scanned", "scan an I2C bus"),
        (&["scan", "tcp:127.0.0.1:1", "--units", "0-3"], 2, "", ""),
        (&["scan", "stand-in", "--sheet", GARBOARD], 2, "no sheet with I2C", "--sheet"),
        (&["explain", LANTERN, "CONFIG=1", "--at", "stand-in"], 2, "`CONFIG=1` has a value", "name of the register alone"),
        (&["explain", LANTERN, "CONFUG", "--at", "stand-in"], 2, "lantern-16 has no register `CONFUG`", "did you mean `CONFIG`?"),
        (&["explain", STRAKE, "--at", "stand-in"], 2, "strake-20 has no registers", "`yemdo read` measures"),
        (&["configure", LANTERN, "GAIN=single", "--at", "stand-in", "--paste", "c"], 2, "--paste and --read-back", "remove --at"),
        (&["configure", LANTERN, "upper_limit=9e9 lx", "--at", "i2c:88"], 1, "upper_limit cannot be", ""),
        (&["decode", STRAKE, "--example", "1", "--at", "stand-in"], 2, "--example and --at exclude each other", ""),
        (&["routine", LANTERN, "measure", "--record", "/tmp/x"], 2, "missing place to record", "give --at"),
    ] {
        let (found, out, told) = run(args);
        let all = format!("{out}{told}");
        assert_eq!(found, code, "{args:?}: {all}");
        assert!(all.contains(message) && all.contains(help), "{args:?}: {all}");
        assert!(!all.contains("panicked"), "{args:?}: {all}");
    }
}

/// Devices that may not be opened, or are none.
#[test]
fn devices_that_cannot_be_had_are_told_with_their_group() {
    use std::os::unix::fs::{PermissionsExt, chown};
    let folder = folder("devices");
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join("sheets");
    let device = folder.join("i2c-1");
    fs::write(&device, "").unwrap();
    let place = format!("i2c:{}", device.display());
    let (code, out, told) = run(&["read", "sheets/thole-9.toml", "--at", &place]);
    assert!(code > 0 && format!("{out}{told}").contains("is not an I2C bus"), "{out}{told}");
    // Only root can be somebody else, and only somebody else is refused.
    let command = folder.join("yemdo");
    fs::copy(env!("CARGO_BIN_EXE_yemdo"), &command).unwrap();
    fs::copy(sheets.join("thole-9.toml"), folder.join("thole-9.toml")).unwrap();
    for open in [&folder, &command, &folder.join("thole-9.toml")] {
        fs::set_permissions(open, fs::Permissions::from_mode(0o755)).unwrap();
    }
    fs::set_permissions(&device, fs::Permissions::from_mode(0o600)).unwrap();
    let groups = fs::read_to_string("/etc/group").unwrap_or_default();
    let other =
        groups.lines().filter_map(|line| line.split(':').nth(2)?.parse::<u32>().ok().zip(line.split(':').next())).find(|(id, _)| *id > 1);
    for (group, message, help) in [
        (0, "permission denied; only root may open it".to_owned(), "KERNEL==\"i2c-1\", GROUP=\"i2c\"".to_owned()),
        other.map_or((0, String::new(), String::new()), |(id, name)| {
            (id, format!("it belongs to the group {name}"), format!("usermod -aG {name}"))
        }),
    ] {
        if chown(&device, None, Some(group)).is_err() {
            break;
        }
        let Ok(done) = Command::new("setpriv")
            .args(["--reuid", "65534", "--regid", "65534", "--clear-groups", command.to_str().unwrap()])
            .args(["read", folder.join("thole-9.toml").to_str().unwrap(), "--at", &place])
            .output()
        else {
            break;
        };
        let told = String::from_utf8_lossy(&done.stderr).into_owned();
        // Who is not root cannot become somebody else.
        if told.contains("setpriv") {
            break;
        }
        assert!(told.contains(&message) && told.contains(&help), "{told}");
    }
    fs::remove_dir_all(folder).unwrap();
}

/// JSON is JSON from every command that talks to a part.
#[test]
fn json_is_json_with_a_part() {
    for (args, lines) in [
        (&["scan", "stand-in"][..], 7),
        (&["routine", LANTERN, "measure", "--at", "stand-in"], 11),
        (&["configure", LANTERN, "GAIN=fivefold", "--at", "stand-in"], 4),
        (&["explain", LANTERN, "--at", "stand-in"], 6),
        (&["decode", "sheets/thole-9.toml", "--at", "stand-in"], 1),
        (&["decode", STRAKE, "--at", "stand-in", "--steps"], 1),
    ] {
        let (code, out, told) = run(&[args, &["--format", "json"]].concat());
        assert_eq!(code, 0, "{args:?}: {told}");
        let values: Vec<Value> =
            out.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|_| panic!("{args:?}: {line}"))).collect();
        assert_eq!(values.len(), lines, "{args:?}: {out}");
    }
}
