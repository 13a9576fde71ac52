//! The command as a process: pipes that close, signals, memory, folders, files that are no files.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().to_owned()
}

fn yemdo(args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_yemdo"));
    command.args(args).current_dir(root());
    command
}

fn run(args: &[&str]) -> (i32, String, String) {
    let Output { status, stdout, stderr } = yemdo(args).stdin(Stdio::null()).output().unwrap();
    (status.code().unwrap_or(-1), String::from_utf8(stdout).unwrap(), String::from_utf8(stderr).unwrap())
}

/// A folder of its own for a test.
fn folder(name: &str) -> PathBuf {
    let folder = std::env::temp_dir().join(format!("yemdo-process-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).unwrap();
    folder
}

/// A log of so many good frames.
fn long_log(path: &Path, frames: usize) {
    let mut file = std::io::BufWriter::new(fs::File::create(path).unwrap());
    file.write_all(b"time,frame\n").unwrap();
    for index in 0..frames {
        writeln!(file, "{index},89 87 1C 3E 0C 12 24").unwrap();
    }
    file.flush().unwrap();
}

/// The most memory that a process has had, in KiB.
fn peak_memory(child: &Child) -> Option<u64> {
    let status = fs::read_to_string(format!("/proc/{}/status", child.id())).ok()?;
    let line = status.lines().find(|line| line.starts_with("VmHWM:"))?;
    line.split_whitespace().nth(1)?.parse().ok()
}

#[test]
fn a_closed_pipe_ends_it_quietly() {
    let folder = folder("pipe");
    let log = folder.join("long.csv");
    long_log(&log, 50_000);
    for format in ["table", "csv", "json"] {
        let mut child = yemdo(&["decode", "sheets/strake-20.toml", "--format", format, "--log", log.to_str().unwrap()])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut reader = BufReader::new(child.stdout.take().unwrap());
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        drop(reader);
        let mut complaints = String::new();
        child.stderr.take().unwrap().read_to_string(&mut complaints).unwrap();
        assert_eq!((child.wait().unwrap().code(), complaints.as_str()), (Some(0), ""), "{format}");
    }
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn memory_does_not_grow_with_the_log() {
    let folder = folder("memory");
    let mut peaks = Vec::new();
    for frames in [2_000, 200_000] {
        let log = folder.join(format!("{frames}.csv"));
        long_log(&log, frames);
        let mut child = yemdo(&["decode", "sheets/strake-20.toml", "--format", "csv", "--log", log.to_str().unwrap()])
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut reader = BufReader::new(child.stdout.take().unwrap());
        let (mut lines, mut peak, mut line) = (0, 0, String::new());
        while reader.read_line(&mut line).unwrap() > 0 {
            lines += 1;
            line.clear();
            if lines % 1000 == 0 {
                peak = peak.max(peak_memory(&child).unwrap_or(0));
            }
        }
        assert_eq!((lines, child.wait().unwrap().code()), (frames + 1, Some(0)));
        peaks.push(peak);
    }
    assert!(peaks[1] < 50_000 && peaks[1] < peaks[0] + 8_000, "{peaks:?} KiB");
    fs::remove_dir_all(folder).unwrap();
}

#[test]
#[cfg(unix)]
fn ctrl_c_stops_it_with_whole_lines() {
    let mut child = yemdo(&["decode", "sheets/thole-9.toml", "--format", "json"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(b"FC 7E 85\n10 AC 43\n").unwrap();
    input.flush().unwrap();
    // What comes in live is shown at once.
    let mut reader = BufReader::new(child.stdout.take().unwrap());
    let mut lines = String::new();
    reader.read_line(&mut lines).unwrap();
    reader.read_line(&mut lines).unwrap();
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    // It waits for a line that never comes, and stops all the same.
    reader.read_to_string(&mut lines).unwrap();
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130), "{said}");
    assert!(said.contains("stopped after 2 frames"), "{said}");
    drop(input);
    assert!(lines.ends_with("}\n") && lines.lines().all(|line| line.starts_with('{') && line.ends_with('}')), "{lines}");
}

#[test]
fn one_frame_is_quick() {
    // Not a measurement; a guard against work that grows at start. The README has the figure.
    let start = Instant::now();
    let (code, out, _) = run(&["decode", "sheets/strake-20.toml", "89 87 1C 3E 0C 12 24"]);
    assert_eq!(code, 0);
    assert!(out.contains("12.500  °C"), "{out}");
    assert!(start.elapsed() < Duration::from_secs(5));
}

#[test]
fn the_demo_runs_from_anywhere_and_leaves_nothing_half_written() {
    let folder = folder("demo");
    let output = Command::new(env!("CARGO_BIN_EXE_yemdo")).arg("demo").current_dir(&folder).output().unwrap();
    assert!(output.status.success());
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(text.contains("2880 frames") && text.contains("frames refused") && text.contains("wrote to yemdo-demo:"), "{text}");
    let files: Vec<String> =
        fs::read_dir(folder.join("yemdo-demo")).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    let mut files = files;
    files.sort();
    assert_eq!(files, ["day.png", "day.svg", "firmware", "hall.toml", "lantern-16.html", "sheets"]);
    // What it says to try works where it says so.
    let tried: Vec<&str> =
        text.lines().filter_map(|line| line.trim().strip_prefix("yemdo ")).filter(|line| !line.contains("--live")).collect();
    assert!(tried.len() >= 4, "{text}");
    for line in tried {
        let command = format!("'{}' {line}", env!("CARGO_BIN_EXE_yemdo"));
        let done = Command::new("sh").args(["-c", &command]).current_dir(&folder).output().unwrap();
        assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
    }
    let png = fs::read(folder.join("yemdo-demo/day.png")).unwrap();
    let size = |at: usize| u32::from_be_bytes(png[at..at + 4].try_into().unwrap());
    assert_eq!((&png[1..4], size(16), size(20)), (b"PNG".as_slice(), 1280, 800));
    let svg = fs::read_to_string(folder.join("yemdo-demo/day.svg")).unwrap();
    for part in ["strake-20/temperature", "thole-9/temperature", "strake-20/humidity", "28 × check failed"] {
        assert!(svg.contains(part), "{part}");
    }
    // The picture is not blank: it has far more than a few colours' worth of data.
    assert!(png.len() > 20_000, "{}", png.len());
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn colour_is_for_terminals_and_for_those_who_ask() {
    let escapes = |args: &[&str]| {
        let (_, out, err) = run(args);
        (out.contains('\u{1b}'), err.contains('\u{1b}'))
    };
    let steps = ["decode", "sheets/strake-20.toml", "89 87 1C 3E 0C 12 24", "--steps"];
    assert_eq!(escapes(&steps), (false, false));
    assert!(escapes(&[&steps[..], &["--color", "always"]].concat()).0);
    assert_eq!(escapes(&["check", "no-such.toml"]), (false, false));
    assert!(escapes(&["check", "no-such.toml", "--color", "always"]).1);
}

#[test]
fn what_is_no_sheet_and_no_log_is_told() {
    let folder = folder("junk");
    let write = |name: &str, bytes: &[u8]| {
        let path = folder.join(name);
        fs::write(&path, bytes).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let sheet = "sheets/strake-20.toml";
    let cases: Vec<(Vec<String>, i32, &str)> = vec![
        (vec!["check".into(), write("utf8.toml", b"part = \"\xFF\"\n")], 2, "line 1 is not UTF-8"),
        (vec!["check".into(), write("large.toml", &vec![b'#'; 2_000_000])], 2, "it has more than 1048576 bytes"),
        (vec!["check".into(), write("empty.toml", b"")], 2, "`part` is needed here"),
        (vec!["check".into(), folder.to_str().unwrap().into()], 2, "it is a folder"),
        (vec!["decode".into(), sheet.into(), "--log".into(), write("line.csv", &vec![b'4'; 100_000])], 1, "1 refused: 1 not a frame"),
        (vec!["decode".into(), sheet.into(), "--log".into(), write("wide.csv", b"\xFF\xFEt\0i\0m\0e\0")], 2, "the log is text in UTF-16"),
        (
            vec![
                "check".into(),
                write(
                    "steer.toml",
                    br#"part = "p"
title = "\u001b[2J"
"#,
                ),
            ],
            2,
            r"\u{1b} is a control character",
        ),
        (
            vec![
                "check".into(),
                write(
                    "key.toml",
                    br#"part = "p"
"\u009b31m" = 1
"#,
                ),
            ],
            2,
            r"unknown key `\u{9b}31m`",
        ),
        (vec!["decode".into(), sheet.into(), "--log".into(), write("empty.csv", b"\n\n# nothing\n")], 2, "no frame in the input"),
        (vec!["decode".into(), sheet.into(), "--log".into(), write("binary.csv", &[0, 159, 146, 150, 10])], 1, "1 refused: 1 not a frame"),
        (vec!["decode".into(), sheet.into(), "--steps".into(), "--log".into(), "x".into()], 2, "--steps applies to single frames"),
        (
            vec!["decode".into(), sheet.into(), "--variant".into(), "strake-21".into(), "41".into()],
            2,
            "the sheet has no variant `strake-21`",
        ),
        (vec!["explain".into(), sheet.into(), "MODE=1".into()], 2, "the sheet describes no registers"),
        (vec!["import".into(), write("prose.csv", b"This is\nno table\n")], 1, "this is not a register table"),
        (vec!["import".into(), "no-such.csv".into()], 2, "there is no such file"),
    ];
    for (args, code, says) in cases {
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        let (found, out, err) = run(&args);
        assert_eq!(found, code, "{args:?}\n{out}{err}");
        assert!(format!("{out}{err}").contains(says), "{args:?} says\n{out}{err}");
    }
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn nothing_of_a_log_steers_the_terminal() {
    let folder = folder("control");
    let log = folder.join("bus.csv");
    fs::write(&log, "\u{FEFF}time,frame\n\u{1b}[2J\u{202e}\u{9b}08:00,89 87 1C 3E 0C 12 24\n08:01,\u{1b}[31m41\n").unwrap();
    let (_, out, err) = run(&["decode", "sheets/strake-20.toml", "--refused", "--log", log.to_str().unwrap()]);
    assert!(!out.contains(['\u{1b}', '\u{202e}', '\u{9b}']) && !err.contains('\u{1b}'), "{out}{err}");
    assert!(out.contains(r"\u{1b}[2J\u{202e}\u{9b}08:00"), "{out}");
    let (_, out, _) = run(&["decode", "sheets/ember-14.toml", "--frame", "LABEL", "0B 45 1B 5B 32 4A 07 41 20 26 04 17 BD"]);
    assert!(!out.contains('\u{1b}') && !out.contains('\u{7}'), "{out}");
    fs::remove_dir_all(folder).unwrap();
}

/// An existing file stays as it is unless that is asked for, and only regular files that may be written are replaced.
#[test]
#[cfg(unix)]
fn nothing_is_overwritten_unasked() {
    use std::os::unix::fs::{PermissionsExt, symlink};
    let folder = folder("overwrite");
    let path = |name: &str| folder.join(name).to_str().unwrap().to_owned();
    let schema = |out: &str, more: &[&str]| run(&[&["emit", "schema", "--out", out], more].concat());
    fs::write(path("sheet.toml"), "part = \"p\"\n").unwrap();
    fs::create_dir(path("folder")).unwrap();
    fs::write(path("locked"), "x").unwrap();
    fs::set_permissions(path("locked"), fs::Permissions::from_mode(0o444)).unwrap();
    symlink(path("target"), path("dangling")).unwrap();
    for (name, more, says) in [
        ("sheet.toml", &[][..], "already exists"),
        ("folder", &["--overwrite"], "it is a folder"),
        ("locked", &["--overwrite"], "it is read-only"),
        ("dangling", &["--overwrite"], "broken link"),
        ("/dev/null", &["--overwrite"], "it is not a regular file"),
    ] {
        let out = if name.starts_with('/') { name.to_owned() } else { path(name) };
        let (code, _, err) = schema(&out, more);
        assert!(code == 2 && err.contains(says), "{name}: {err}");
    }
    assert_eq!(fs::read_to_string(path("sheet.toml")).unwrap(), "part = \"p\"\n");
    // Asked for, it is replaced, through a link too; the same again is nothing to refuse; and nothing is left beside it.
    symlink(path("sheet.toml"), path("link")).unwrap();
    assert_eq!(schema(&path("link"), &["--overwrite"]).0, 0);
    assert!(fs::read_to_string(path("sheet.toml")).unwrap().contains("$schema") && fs::read_link(path("link")).is_ok());
    assert_eq!(schema(&path("sheet.toml"), &[]).0, 0);
    assert!(fs::read_dir(&folder).unwrap().all(|entry| !entry.unwrap().file_name().to_string_lossy().contains("part")));
    fs::remove_dir_all(folder).unwrap();
}

/// What `--help` shows as an example is run, and is no mistake in the call.
#[test]
fn the_examples_of_the_help_work_as_printed() {
    let folder = folder("help");
    for shared in ["sheets", "demo"] {
        std::os::unix::fs::symlink(root().join(shared), folder.join(shared)).unwrap();
    }
    fs::write(folder.join("dump.txt"), "SETUP = 52\n").unwrap();
    fs::write(folder.join("back.txt"), "CONFIG = 0402\n").unwrap();
    let mut ran = 0;
    for command in
        ["check", "decode", "explain", "configure", "choose", "routine", "read", "talk", "stand-in", "scan", "import", "emit", "demo"]
    {
        let (code, help, _) = run(&[command, "--help"]);
        assert_eq!(code, 0, "{command}");
        let wide = help.lines().find(|line| line.chars().count() > 100);
        assert_eq!(wide, None, "{command}: a line of the help is wider than 100 columns");
        // An example that goes on in the next line ends in a backslash; those that wait for input are left out.
        // Those that need hardware, or go on until they are stopped, are tried elsewhere.
        let elsewhere = ["<", "i2c:", "rtu:", "tcp:", "--wait", "stand-in sheets", "--bench", "--script"];
        let examples = help.lines().filter_map(|line| line.trim().strip_prefix("yemdo "));
        for line in examples.filter(|line| !elsewhere.iter().any(|word| line.contains(word))) {
            let script = format!("{} {line}", env!("CARGO_BIN_EXE_yemdo"));
            let done = std::process::Command::new("sh").args(["-c", &script]).current_dir(&folder).output().unwrap();
            let (out, err) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
            assert!(done.status.code().is_some_and(|code| code < 2), "yemdo {line}\n{out}{err}");
            ran += 1;
        }
    }
    assert!(ran >= 10, "{ran} examples");
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn json_lines_are_json_and_agree_with_csv() {
    let args = ["decode", "sheets/strake-20.toml", "--log", "demo/strake-20.csv", "--format"];
    let (_, json, _) = run(&[&args[..], &["json"]].concat());
    let (_, csv, _) = run(&[&args[..], &["csv"]].concat());
    let objects: Vec<serde_json::Value> = json.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let mut rows = csv::Reader::from_reader(csv.as_bytes());
    let titles = rows.headers().unwrap().clone();
    let column = |name: &str| titles.iter().position(|title| title == name).unwrap();
    let (time, value, status) = (column("time"), column("humidity [%]"), column("humidity status"));
    let mut count = 0;
    for (object, row) in objects.iter().zip(rows.records().map(Result::unwrap)) {
        let humidity = &object["readings"]["humidity"];
        assert_eq!(object["time"].as_str().unwrap(), &row[time]);
        assert_eq!(humidity["status"].as_str().unwrap(), &row[status]);
        // The JSON reader of this test rounds the last digit its own way.
        let (one, other) = (humidity["value"].as_f64(), row[value].parse::<f64>().ok());
        assert!(one.is_some() == other.is_some() && (one.unwrap_or(0.0) - other.unwrap_or(0.0)).abs() < 1e-9, "{one:?} {other:?}");
        count += 1;
    }
    assert_eq!((count, objects.len()), (2847, 2847));
}

/// From every command and option, whether all is well or not; a sheet that cannot be read has its line too.
#[test]
fn json_is_json_from_every_command() {
    let (strake, lantern, keelson) = ("sheets/strake-20.toml", "sheets/lantern-16.toml", "sheets/keelson-6.toml");
    let frame: Vec<&str> = "89 87 1C 3E 0C 12 24".split(' ').collect();
    let with = |args: &[&'static str]| [&["decode", strake], frame.as_slice(), args].concat();
    let cases: Vec<(Vec<&str>, i32, usize)> = vec![
        (vec!["check", strake, "README.md", "no-such.toml", keelson], 2, 4),
        (vec!["check", "--one-bus", "sheets/thole-9.toml", lantern], 0, 4),
        (vec!["check", "--one-bus", "sheets/plumb-2.toml", "sheets/plumb-2.toml"], 1, 3),
        (with(&[]), 0, 1),
        (with(&["--steps"]), 0, 1),
        (vec!["decode", strake, "--steps", "--example", "1"], 0, 1),
        (vec!["configure", lantern, "GAIN=fivefold", "upper_limit=250 lx"], 0, 1),
        (vec!["choose", lantern, "illuminance", "--up-to", "3 klx", "--after", "saturated"], 0, 8),
        (vec!["choose", lantern], 0, 4),
        (vec!["routine", lantern], 0, 3),
        (vec!["routine", lantern, "measure"], 0, 8),
        (vec!["explain", keelson, "SETUP=0xD2"], 1, 1),
    ];
    for (args, code, lines) in cases {
        let (found, out, err) = run(&[args.as_slice(), &["--format", "json"]].concat());
        let values: Vec<Result<serde_json::Value, _>> = out.lines().map(serde_json::from_str).collect();
        assert!(values.iter().all(|value| value.as_ref().is_ok_and(serde_json::Value::is_object)), "{args:?}: {out}");
        assert_eq!((found, values.len()), (code, lines), "{args:?}: {out}{err}");
    }
    let (_, out, _) = run(&["check", "no-such.toml", "--format", "json"]);
    assert_eq!(
        out,
        "{\"sheet\":\"no-such.toml\",\"sound\":false,\"error\":\"cannot read the sheet no-such.toml: there is no such file\",\"problems\":[]}\n"
    );
}

/// The steps of every worked example, for programs, end in what decoding gives, and name the same codes.
#[test]
fn steps_for_programs_agree_with_decoding() {
    let json = |text: &str| text.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap()).collect::<Vec<_>>();
    let mut compared = 0;
    for sheet in fs::read_dir(root().join("sheets")).unwrap().map(|entry| entry.unwrap().path()) {
        let sheet = sheet.to_str().unwrap().to_owned();
        for number in 1..=3 {
            let number = number.to_string();
            let args = ["decode", sheet.as_str(), "--example", number.as_str(), "--format", "json"];
            let (code, plain, _) = run(&args);
            let (_, steps, _) = run(&[args.as_slice(), &["--steps"]].concat());
            // A refused example has steps, but nothing is decoded.
            for (plain, steps) in json(&plain).iter().zip(json(&steps)).filter(|_| code == 0) {
                for reading in steps["readings"].as_array().unwrap() {
                    let of = &plain["readings"][reading["name"].as_str().unwrap()];
                    if of.is_object() {
                        assert_eq!(
                            (&reading["status"], &reading["why"]),
                            (&of["status"], of.get("why").unwrap_or(&serde_json::Value::Null)),
                            "{args:?}"
                        );
                        assert_eq!(reading["value"].as_f64(), of["value"].as_f64(), "{args:?}");
                        compared += 1;
                    }
                }
                for code in steps["codes"].as_array().unwrap() {
                    assert_eq!(code["value"], plain["codes"][code["name"].as_str().unwrap()], "{args:?}");
                }
                assert!(steps["checks"].as_array().unwrap().iter().all(|check| check["passed"] == true));
            }
        }
    }
    assert!(compared > 30, "{compared}");
}

/// A text that would begin a formula in a spreadsheet stands behind an apostrophe; numbers stay numbers.
#[test]
fn no_text_of_a_log_is_a_formula_in_a_spreadsheet() {
    let folder = folder("formulas");
    let log = folder.join("log.csv");
    fs::write(
        &log,
        "time,frame\n\"=HYPERLINK(1)\",89 87 1C 3E 0C 12 24\n-3.5,89 87 1C 3E 0C 12 24\n+a,89 87 1C 3E 0C 12 24\n@b,89 87 1C 3E 0C 12 24\n",
    )
    .unwrap();
    let (code, out, err) = run(&["decode", "sheets/strake-20.toml", "--log", log.to_str().unwrap(), "--format", "csv"]);
    let times: Vec<&str> = out.lines().skip(1).map(|line| line.split(',').next().unwrap()).collect();
    assert_eq!((code, times), (0, vec!["'=HYPERLINK(1)", "-3.5", "'+a", "'@b"]), "{err}");
    fs::remove_dir_all(&folder).unwrap();
}

#[test]
fn import_never_overwrites_without_being_told() {
    let folder = folder("import");
    let table = folder.join("table.tsv");
    fs::write(&table, "Address\tName\t7\t6\t5\t4\t3\t2\t1\t0\n1\tMODE\ton\t-\t-\t-\t-\t-\t-\t-\n").unwrap();
    let out = folder.join("sheet.toml");
    fs::write(&out, "mine").unwrap();
    let (table, out) = (table.to_str().unwrap(), out.to_str().unwrap());
    let (code, _, err) = run(&["import", table, "--out", out]);
    assert_eq!((code, fs::read_to_string(out).unwrap().as_str()), (2, "mine"), "{err}");
    assert_eq!(run(&["import", table, "--out", out, "--overwrite"]).0, 0);
    assert!(fs::read_to_string(out).unwrap().contains("[register.MODE]"));
    assert_eq!(run(&["check", out]).0, 0);
    fs::remove_dir_all(folder).unwrap();
}

#[test]
fn the_schema_is_json_with_every_definition_it_refers_to() {
    let (code, text, _) = run(&["emit", "schema"]);
    assert_eq!(code, 0);
    let schema: serde_json::Value = serde_json::from_str(&text).unwrap();
    let definitions = schema["$defs"].as_object().unwrap();
    for reference in text.split("\"$ref\": \"#/$defs/").skip(1).filter_map(|rest| rest.split('"').next()) {
        assert!(definitions.contains_key(reference), "{reference}");
    }
    let frame = definitions["frame"]["properties"].as_object().unwrap();
    assert!(frame.contains_key("registers") && frame["read"]["type"] == "integer");
}
