//! Text from outside that would steer a terminal, break a picture, or be run by a spreadsheet: none of it gets through.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Sets a terminal's title, rings, and turns the direction of writing.
const EVIL: &str = "\u{1b}]0;x\u{7}\u{202e}";

fn folder(name: &str) -> PathBuf {
    let folder = std::env::temp_dir().join(format!("yemdo-outside-{}-{name}", std::process::id()));
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).unwrap();
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap().join("sheets");
    for sheet in ["strake-20.toml", "lantern-16.toml", "garboard-rs.toml"] {
        fs::copy(sheets.join(sheet), folder.join(sheet)).unwrap();
    }
    folder
}

/// Everything that a command prints, in colour as on a terminal.
fn printed(folder: &Path, args: &[&str], input: &str) -> String {
    let mut command = Command::new(env!("CARGO_BIN_EXE_yemdo"));
    command.arg("--color").arg("always").args(args).current_dir(folder).env("TZ", "UTC");
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let _ = child.stdin.take().unwrap().write_all(input.as_bytes());
    let output = child.wait_with_output().unwrap();
    String::from_utf8(output.stdout).unwrap() + &String::from_utf8(output.stderr).unwrap()
}

#[test]
fn what_is_typed_cannot_steer_a_terminal() {
    let folder = folder("typed");
    let (name, file) = (format!("a{EVIL}"), format!("f{EVIL}.toml"));
    let set = format!("{name}=1");
    let place = format!("i2c:{EVIL}");
    let signal = format!("stand-in:{name}=3");
    let out = format!("o{EVIL}");
    let svg = format!("p{EVIL}.svg");
    let log = format!("l{EVIL}.csv");
    let csv = "time,frame\n0,89 87 1C 3E 0C 12 24\n";
    fs::write(folder.join(&log), csv).unwrap();
    let all: &[&[&str]] = &[
        &["check", &file],
        &["check", "strake-20.toml", "--variant", &name],
        &["decode", "strake-20.toml", EVIL],
        &["decode", "strake-20.toml", "89 87 1C 3E 0C 12 24", "--set", &set],
        &["decode", "strake-20.toml", "89 87 1C 3E 0C 12 24", "--unit", &name],
        &["decode", "strake-20.toml", "--frame", &name, "89"],
        &["decode", "strake-20.toml", "--log", &file],
        &["decode", "strake-20.toml", "--log", &log, "--part", &name],
        &["configure", "lantern-16.toml", &set],
        &["configure", "lantern-16.toml", "--dump", &file, "GAIN=fivefold"],
        &["choose", "lantern-16.toml", "--reading", &name],
        &["routine", "lantern-16.toml", &name],
        &["explain", "lantern-16.toml", &set],
        &["scan", &place],
        &["read", "strake-20.toml", "--at", &place],
        &["read", "strake-20.toml", "--at", &signal],
        &["read", "strake-20.toml", "--at", "stand-in", "--count", "1", "--log", &file],
        &["read", "strake-20.toml", "--at", "stand-in", "--count", "1", "--run", &name],
        &["read", "--bench", &file],
        &["plot", &log, "--sheet", "strake-20.toml", "--out", &svg],
        &["plot", &log, "--sheet", "strake-20.toml", "--reading", &name],
        &["emit", "c", "strake-20.toml", "--out", &out],
        &["emit", "c", "strake-20.toml", "--out", &out, "--reals", "float", "--verify"],
        &["demo", "--out", &out],
        &["import", &file],
        &["stand-in", "garboard-rs.toml", &set],
    ];
    for args in all {
        let text = printed(&folder, args, "");
        assert!(!text.contains("\u{1b}]") && !text.contains(['\u{7}', '\u{202e}']), "{args:?} prints {text:?}");
        assert!(!text.is_empty(), "{args:?} prints nothing");
    }
    for line in [
        "set NAME=1",
        "set GAIN=NAME",
        "read NAME",
        "write NAME 3",
        "dump NAME",
        "diff NAME NAME",
        "run NAME",
        "raw NAME",
        "NAME",
        "explain NAME",
    ] {
        let text = printed(&folder, &["talk", "lantern-16.toml", "--at", "stand-in"], &line.replace("NAME", &name));
        assert!(!text.contains("\u{1b}]") && !text.contains(['\u{7}', '\u{202e}']), "{line} prints {text:?}");
    }
    let _ = fs::remove_dir_all(folder);
}

#[test]
fn what_files_name_cannot_steer_a_terminal_or_break_a_picture() {
    let folder = folder("files");
    fs::write(folder.join("bench.toml"), "[part.\"a\\u001b]0;x\\u0007\"]\nsheet = \"strake-20.toml\"\nat = \"stand-in\"\n").unwrap();
    let text = printed(&folder, &["read", "--bench", "bench.toml", "--for", "1 s"], "");
    assert!(text.contains("bench.toml:") && text.contains("is no name for a part") && !text.contains("\u{1b}]"), "{text}");

    let logs = [
        ("a.csv", format!("time,part,frame,bytes,settings,reading,value,unit,status,reason\n2031-02-07T08:00:00Z,p{EVIL},F{EVIL},89,,r{EVIL},1,u{EVIL},s{EVIL},w{EVIL}\n2031-02-07T08:00:01Z,p{EVIL},F{EVIL},89,,r{EVIL},2,u{EVIL},ok,\n2031-02-07T08:00:02Z,p{EVIL},,,,,,,c{EVIL},m{EVIL}\n")),
        ("a.jsonl", "{\"time\":\"2031-02-07T08:00:00Z\",\"part\":\"p\\u001b]0;\\u0007\\u202e\",\"readings\":[{\"reading\":\"r\\u001b]0;\\u0007\",\"value\":1,\"unit\":\"u\\u0007\",\"status\":\"s\\u0007\"}],\"error\":null}\n".to_owned()),
        ("a.senml", "[{\"bn\":\"p\\u001b]0;\\u0007/\",\"bt\":1928217600,\"n\":\"r\\u0007\\u202e\",\"u\":\"\\u0007\",\"v\":1}]\n".to_owned()),
    ];
    for (name, content) in &logs {
        fs::write(folder.join(name), content).unwrap();
        let svg = format!("{name}.svg");
        for args in [vec!["plot", name, "--out", &svg, "--overwrite"], vec!["decode", "strake-20.toml", "--log", name]] {
            let text = printed(&folder, &args, "");
            assert!(!text.contains("\u{1b}]") && !text.contains(['\u{7}', '\u{202e}']), "{args:?} prints {text:?}");
        }
        let drawn = fs::read_to_string(folder.join(&svg)).unwrap();
        assert!(!drawn.contains(|c: char| c.is_control() && c != '\n'), "{name} draws control characters");
    }
    let _ = fs::remove_dir_all(folder);
}

#[test]
fn no_cell_is_a_formula_for_a_spreadsheet() {
    let folder = folder("cells");
    let bench = "[part.\"=cmd()\"]\nsheet = \"strake-20.toml\"\nat = \"stand-in\"\n[part.\"'quoted\"]\nsheet = \"strake-20.toml\"\nat = \"stand-in\"\n";
    fs::write(folder.join("bench.toml"), bench).unwrap();
    printed(&folder, &["read", "--bench", "bench.toml", "--for", "1 s", "--every", "1 s", "--log", "log.csv"], "");
    let csv = fs::read_to_string(folder.join("log.csv")).unwrap();
    assert!(csv.contains(",'=cmd(),AIR") && csv.contains(",''quoted,AIR"), "{csv}");
    // They are read back as they were.
    let text = printed(&folder, &["plot", "log.csv", "--out", "log.svg"], "");
    assert!(text.contains("\n=cmd()/temperature") && text.contains("\n'quoted/temperature"), "{text}");
    let _ = fs::remove_dir_all(folder);
}
