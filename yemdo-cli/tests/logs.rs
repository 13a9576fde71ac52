//! Logs of readings in every form: written, appended to, cut, mixed, rotated, on a full disk, and read back; and what is drawn of them.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

const FORMS: [&str; 4] = ["csv", "jsonl", "senml", "senmlc"];

fn folder(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(name);
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(&folder).unwrap();
    folder
}

fn yemdo(folder: &Path, arguments: &[&str]) -> Output {
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets");
    let arguments = arguments.iter().map(|one| one.replace("SHEETS", &sheets.to_string_lossy()));
    Command::new(env!("CARGO_BIN_EXE_yemdo")).args(arguments).current_dir(folder).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Lantern-16 at two gains, one run behind the other; and what each run prints.
fn record(folder: &Path, log: &str) -> String {
    let at = ["--at", "stand-in:illuminance=120", "--every", "1 s", "--utc", "--format", "csv", "--log", log];
    let first = ["read", "SHEETS/lantern-16.toml", "--set", "GAIN=fivefold", "--count", "2", "--begin", "2031-02-07T08:00:00Z"];
    let second = ["read", "SHEETS/lantern-16.toml", "--count", "2", "--begin", "2031-02-07T09:00:00Z"];
    let printed = [&first[..], &second[..]].map(|run| {
        let done = yemdo(folder, &[run, &at[..]].concat());
        assert!(done.status.success(), "{}", text(&done.stderr));
        text(&done.stdout)
    });
    printed.concat()
}

/// Time, reading and value of everything that a log decodes to.
fn decoded(folder: &Path, log: &str) -> (Vec<String>, String) {
    let done = yemdo(folder, &["decode", "SHEETS/lantern-16.toml", "--log", log, "--utc", "--format", "json"]);
    let line = |line: &str| {
        let frame: serde_json::Value = serde_json::from_str(line).unwrap();
        let readings = frame["readings"].as_object().unwrap().iter().map(|(name, one)| format!(" {name} {}", one["value"]));
        format!("{}{}", frame["time"].as_str().unwrap(), readings.collect::<String>())
    };
    (text(&done.stdout).lines().map(line).collect(), text(&done.stderr))
}

#[test]
fn every_form_decodes_to_what_was_measured_with_what_was_set() {
    let folder = folder("forms");
    let mut all = Vec::new();
    for form in FORMS {
        let log = format!("light.{form}");
        let printed = record(&folder, &log);
        if form == "csv" {
            // What is printed is what is logged, but for the second header.
            let header = printed.lines().next().unwrap();
            let rows: Vec<&str> = printed.lines().filter(|line| *line != header).collect();
            assert_eq!(fs::read_to_string(folder.join(&log)).unwrap(), format!("{header}\n{}\n", rows.join("\n")));
            assert!(rows[0].contains(",GAIN=fivefold,illuminance,120,lx,ok,"), "{}", rows[0]);
        }
        all.push(decoded(&folder, &log).0);
    }
    assert_eq!(all[0].len(), 4);
    assert!(all[0][0].starts_with("2031-02-07T08:00:00.000Z dose 0.0 illuminance 120.0"), "{}", all[0][0]);
    // A second at 120 lx in each run, and nothing for the hour between them.
    assert!(all[0][3].starts_with("2031-02-07T09:00:01.000Z dose 0.0666666"), "{}", all[0][3]);
    assert!(all.iter().all(|one| *one == all[0]), "{all:?}");
    // SenML is what its standard says: names, units, absolute times.
    let pack: serde_json::Value =
        serde_json::from_str(fs::read_to_string(folder.join("light.senml")).unwrap().lines().next().unwrap()).unwrap();
    assert_eq!((&pack[0]["bn"], &pack[0]["bt"], &pack[0]["u"]), (&"lantern-16/".into(), &1_928_217_600.0.into(), &"lx".into()));
}

/// Cut anywhere: what was whole is decoded, the half is told, and the next start mends it.
#[test]
fn a_cut_log_loses_its_last_record_alone() {
    let folder = folder("cut");
    for form in FORMS {
        let whole_log = format!("whole.{form}");
        record(&folder, &whole_log);
        let (bytes, (frames, _)) = (fs::read(folder.join(&whole_log)).unwrap(), decoded(&folder, &whole_log));
        for cut in [1, 7, bytes.len() / 9, bytes.len() / 3, bytes.len() - 10] {
            let log = format!("cut-{cut}.{form}");
            fs::write(folder.join(&log), &bytes[..bytes.len() - cut]).unwrap();
            let (left, told) = decoded(&folder, &log);
            assert!(frames.starts_with(&left), "{log}: {left:?}");
            let again = ["read", "SHEETS/lantern-16.toml", "--count", "1", "--begin", "2031-02-07T10:00:00Z", "--utc", "--at"];
            let done = yemdo(&folder, &[&again[..], &["stand-in:illuminance=120", "--log", &log]].concat());
            assert!(done.status.success(), "{log}: {}", text(&done.stderr));
            let (mended, behind) = decoded(&folder, &log);
            let last = mended.last().unwrap();
            assert!(last.starts_with("2031-02-07T10:00:00.000Z") && last.contains("illuminance 120.0"), "{log}: {mended:?}");
            assert!(mended.len() > left.len() && !behind.contains("refused"), "{log}: {behind}");
            let cut_short = text(&done.stderr).contains("the last record was incomplete");
            assert!(cut_short || told.is_empty() || !told.contains("is incomplete"), "{log}: {told}");
        }
    }
}

/// What `plot --format json` says of the readings of a log.
fn plotted(folder: &Path, log: &str) -> (Vec<serde_json::Value>, String) {
    let done = yemdo(folder, &["plot", log, "--utc", "--format", "json", "--overwrite"]);
    (text(&done.stdout).lines().map(|line| serde_json::from_str(line).unwrap()).collect(), text(&done.stderr))
}

/// Packs as RFC 8428 lets others write them: base names, units and values, relative times, texts and truths, CBOR with short numbers.
#[test]
fn senml_of_others_is_read_as_its_standard_says() {
    let folder = folder("senml");
    let packs = [
        r#"[{"bn":"urn:dev:mast/","bt":1928217600,"bu":"Cel","bv":10,"n":"air","v":8.5},{"n":"air","v":9.5,"t":-5},{"n":"open","vb":true},{"n":"note","vs":"x"}]"#,
        r#"[{"n":"urn:dev:mast/pressure","u":"Pa","v":101300,"t":1928217601},{"n":"urn:dev:mast/light","u":"lx","v":7,"t":1928217601,"new":{"a":[1]}}]"#,
        // Relative to when it is read, without a name, no pack.
        r#"[{"n":"urn:dev:mast/air","u":"Cel","v":1,"t":-5}]"#,
        r#"[{"v":1,"t":1928217601}]"#,
        r#"{"n":"alone","v":1}"#,
    ];
    fs::write(folder.join("others.senml"), packs.join("\n") + "\n").unwrap();
    let (readings, told) = plotted(&folder, "others.senml");
    let found: Vec<_> =
        readings.iter().map(|one| (one["reading"].clone(), one["unit"].clone(), one["values"].clone(), one["greatest"].clone())).collect();
    let wanted = [("air", "°C", 2, 19.5), ("pressure", "Pa", 1, 101_300.0), ("light", "lx", 1, 7.0)];
    let wanted: Vec<_> =
        wanted.iter().map(|(name, unit, count, most)| ((*name).into(), (*unit).into(), (*count).into(), (*most).into())).collect();
    assert_eq!(found, wanted, "{told}");
    assert!(readings.iter().all(|one| one["part"] == "urn:dev:mast"), "{readings:?}");

    // [{-2: "m/", -3: 1928217600, 0: "x", 1: "V", 2: 1.5 (half), "new": [1], 5: 9}, {0: "x", 2: -3, 6: 2.0 (single)}], then half of another.
    let pack: &[u8] = &[
        0x82, 0xA7, 0x21, 0x62, b'm', b'/', 0x22, 0x1A, 0x72, 0xEE, 0x2A, 0x80, 0x00, 0x61, b'x', 0x01, 0x61, b'V', 0x02, 0xFA, 0x3F, 0xC0,
        0, 0, 0x63, b'n', b'e', b'w', 0x81, 0x01, 0x05, 0x09, 0xA3, 0x00, 0x61, b'x', 0x02, 0x22, 0x06, 0xFA, 0x40, 0x00, 0x00, 0x00,
    ];
    fs::write(folder.join("others.senmlc"), [pack, pack, &pack[..20]].concat()).unwrap();
    let (readings, told) = plotted(&folder, "others.senmlc");
    let summed: u64 = readings.iter().map(|one| one["values"].as_u64().unwrap()).sum();
    assert_eq!((summed, &readings[0]["greatest"], &readings[0]["unit"]), (4, &1.5.into(), &"V".into()), "{told} {readings:?}");
}

#[test]
fn what_is_no_log_of_ours_is_left_alone() {
    let folder = folder("others");
    fs::write(folder.join("letter.csv"), "Dear reader,\n").unwrap();
    fs::write(folder.join("table.csv"), "time,reading,value\n2031-02-07T08:00:00Z,a,1\n").unwrap();
    fs::write(folder.join("other.senmlc"), [0x83, 0xFF, 0xFF]).unwrap();
    let read = ["read", "SHEETS/thole-9.toml", "--at", "stand-in", "--count", "1", "--log"];
    for (log, told) in [
        ("letter.csv", "it is not a log in this format"),
        ("table.csv", "it is not a log in this format"),
        ("other.senmlc", "it is not a log in this format"),
        ("log.txt", "decides the format of a log: .csv, .jsonl"),
        (".", "decides the format of a log: .csv"),
        ("nowhere/log.csv", "there is no such file"),
    ] {
        let before = fs::read(folder.join(log)).ok();
        let done = yemdo(&folder, &[&read[..], &[log]].concat());
        assert!(done.status.code() == Some(2) && text(&done.stderr).contains(told), "{log}: {}", text(&done.stderr));
        assert_eq!(fs::read(folder.join(log)).ok(), before, "{log}");
    }
    for (options, told) in [
        (&["--rotate", "1 d"][..], "--log"),
        (&["--log", "a.csv", "--rotate", "0 MB"], "write a size such as 10 MB"),
        (&["--log", "a.csv", "--rotate", "1 fortnight"], "write a size such as 10 MB"),
        (&["--begin", "yesterday"], "write 2031-02-07T08:00:00Z"),
        (&["--begin", "2031-02-07T08:00:00"], "with an offset"),
        (&["--speed", "0"], "write a number from 0.001"),
        (&["--live"], "live view"),
    ] {
        let done = yemdo(&folder, &[&["read", "SHEETS/thole-9.toml", "--at", "stand-in"], options].concat());
        assert!(done.status.code() == Some(2) && text(&done.stderr).contains(told), "{options:?}: {}", text(&done.stderr));
    }
    // One that somebody else is writing.
    let file = fs::OpenOptions::new().create(true).append(true).open(folder.join("shared.csv")).unwrap();
    file.lock().unwrap();
    let done = yemdo(&folder, &[&read[..], &["shared.csv"]].concat());
    assert!(text(&done.stderr).contains("another program is writing it"), "{}", text(&done.stderr));
}

#[test]
fn lines_of_others_between_ours_are_told_and_passed_over() {
    let folder = folder("mixed");
    record(&folder, "light.jsonl");
    let mut lines: Vec<String> = fs::read_to_string(folder.join("light.jsonl")).unwrap().lines().map(str::to_owned).collect();
    lines.insert(1, "Traceback (most recent call last)".into());
    lines.insert(3, "\u{0}\u{0}\u{0}".into());
    let half = lines[0][..60].to_owned();
    lines.insert(4, half);
    fs::write(folder.join("light.jsonl"), lines.join("\n") + "\n").unwrap();
    let (frames, told) = decoded(&folder, "light.jsonl");
    assert!(frames.len() == 4 && told.contains("4 frames decoded, 3 refused: 3 not a frame"), "{told}");
    let done = yemdo(&folder, &["plot", "light.jsonl", "--utc"]);
    assert!(text(&done.stdout).contains("lantern-16/illuminance       4"), "{}", text(&done.stdout));
}

#[test]
fn a_new_file_begins_at_its_size_or_time_and_is_decoded_alone() {
    let folder = folder("rotated");
    let read = ["read", "SHEETS/binnacle-24.toml", "--at", "stand-in", "--every", "10 min", "--for", "5 h", "--utc"];
    let done = yemdo(&folder, &[&read[..], &["--begin", "2031-02-07T22:10:00Z", "--log", "hall.jsonl", "--rotate", "2 h"]].concat());
    assert!(done.status.success(), "{}", text(&done.stderr));
    let mut names: Vec<String> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    assert_eq!(names, ["hall.2031-02-07T22-10-00.jsonl", "hall.2031-02-08T00-00-00.jsonl", "hall.jsonl"]);
    for name in names {
        // Each has the calibration that its readings need.
        let done = yemdo(&folder, &["decode", "SHEETS/binnacle-24.toml", "--log", &name, "--format", "csv"]);
        let waiting = text(&done.stdout).lines().filter(|line| line.contains("waiting")).count();
        assert!(done.status.success() && waiting <= 3, "{name}: {}", text(&done.stdout));
    }
}

/// Light that rises evenly from 0 to 240 lx in two hours, with an hour of nothing behind it: half of it times the time.
#[test]
fn a_dose_is_what_light_has_added_up_to() {
    let folder = folder("dose");
    let read = ["read", "SHEETS/lantern-16.toml", "--every", "1 min", "--utc", "--log", "light.csv", "--set", "TIME=162 ms", "--at"];
    for (begin, signal) in [("2031-02-07T08:00:00Z", "stand-in:illuminance=t / 30"), ("2031-02-07T11:00:00Z", "stand-in:illuminance=60")] {
        let done = yemdo(&folder, &[&read[..], &[signal, "--count", "121", "--begin", begin]].concat());
        assert!(done.status.success(), "{}", text(&done.stderr));
    }
    let done = yemdo(&folder, &["plot", "light.csv", "--reading", "illuminance", "--integral", "--format", "json"]);
    let found: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!((&found["unit"], &found["values"]), (&"lx·h".into(), &242.into()));
    // Each reading is a code's worth off, at most.
    assert!((found["greatest"].as_f64().unwrap() - (240.0 + 120.0)).abs() < 0.3, "{found}");
}

/// Who reads the output and leaves does not stop the log.
#[test]
fn a_log_goes_on_where_nobody_reads_the_output() {
    let folder = folder("left");
    let yemdo = env!("CARGO_BIN_EXE_yemdo");
    let sheet = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets/thole-9.toml");
    let command = format!("'{yemdo}' read '{}' --at stand-in --every '1 s' --count 5000 --log all.csv | head -n 1", sheet.display());
    let done = Command::new("sh").args(["-c", &command]).current_dir(&folder).output().unwrap();
    assert!(text(&done.stdout).lines().count() == 1 && text(&done.stderr).contains("5000 measurements read"), "{}", text(&done.stderr));
    assert_eq!(fs::read_to_string(folder.join("all.csv")).unwrap().lines().count(), 5001);
}

/// Times are shown where one is, with the offset, or in UTC; a day for `--from` begins at that place's midnight.
#[test]
fn times_have_their_offset_and_raw_logs_any_clock() {
    let folder = folder("times");
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets");
    let local = |arguments: &[&str]| {
        let arguments = arguments.iter().map(|one| one.replace("SHEETS", &sheets.to_string_lossy()));
        let done = Command::new(env!("CARGO_BIN_EXE_yemdo")).args(arguments).current_dir(&folder).env("TZ", "HALL-5:45").output().unwrap();
        assert!(done.status.success(), "{}", text(&done.stderr));
        text(&done.stdout)
    };
    let read = ["read", "SHEETS/thole-9.toml", "--at", "stand-in", "--every", "6 h", "--count", "4", "--begin", "2031-02-07T08:00:00Z"];
    local(&[&read[..], &["--log", "cold.jsonl"]].concat());
    let log = fs::read_to_string(folder.join("cold.jsonl")).unwrap();
    assert!(log.starts_with(r#"{"time":"2031-02-07T13:45:00.000+05:45","part":"thole-9""#), "{log}");
    let decode = ["decode", "SHEETS/thole-9.toml", "--log", "cold.jsonl", "--format", "csv"];
    let lines = |out: String| out.lines().map(str::to_owned).collect::<Vec<_>>();
    assert!(lines(local(&decode))[1].starts_with("2031-02-07T13:45:00.000+05:45,"));
    assert!(lines(local(&[&decode[..], &["--utc"]].concat()))[1].starts_with("2031-02-07T08:00:00.000Z,"));
    // 13:45 and 19:45 are before midnight there, 01:45 and 07:45 behind it.
    let after = local(&["plot", "cold.jsonl", "--from", "2031-02-08", "--format", "json"]);
    assert!(after.contains("\"values\":2"), "{after}");

    // Raw frames with a date, a time of day, seconds, or nothing.
    for (name, times) in
        [("day", ["2031-02-07 08:00:00", "2031-02-07 08:00:30"]), ("clock", ["08:00:00", "08:00:30.5"]), ("seconds", ["0.5", "2"])]
    {
        let rows = times.map(|time| format!("{time},01 EC 12\n")).concat();
        fs::write(folder.join(format!("{name}.csv")), format!("time,frame\n{rows}")).unwrap();
    }
    fs::write(folder.join("none.txt"), "01 EC 12\n01 EC 13\n00 5E A1\n").unwrap();
    for (log, wanted) in [
        ("day.csv", "08:00:00 to 08:00:30, 2"),
        ("clock.csv", "08:00:00 to 08:00:30, 2"),
        ("seconds.csv", "seconds"),
        ("none.txt", "1 × check failed"),
    ] {
        local(&["plot", log, "--sheet", "SHEETS/thole-9.toml", "--out", "plot.svg", "--overwrite"]);
        let svg = fs::read_to_string(folder.join("plot.svg")).unwrap();
        assert!(svg.contains(wanted), "{log}: {wanted} in {svg}");
    }
}

/// A bench in other units: each part takes those that it has readings for, and some part has to.
#[test]
fn units_go_into_logs_too() {
    let folder = folder("units");
    let sheets = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets");
    let part = |name: &str, sheet: &str, at: &str| {
        format!("[part.{name}]\nsheet = \"{}\"\nat = \"stand-in:{at}\"\nevery = \"1 s\"\n", sheets.join(sheet).display())
    };
    let bench = part("air", "strake-20.toml", "temperature=20") + &part("light", "lantern-16.toml", "illuminance=1500");
    fs::write(folder.join("bench.toml"), bench).unwrap();
    let read = ["read", "--bench", "bench.toml", "--for", "1 s", "--log", "units.csv"];
    let done = yemdo(&folder, &[&read[..], &["--unit", "°F", "--unit", "illuminance=klx"]].concat());
    assert!(done.status.success(), "{}", text(&done.stderr));
    let log = fs::read_to_string(folder.join("units.csv")).unwrap();
    let row = log.lines().find(|line| line.contains(",temperature,")).unwrap();
    let cells: Vec<&str> = row.split(',').collect();
    assert!((cells[6].parse::<f64>().unwrap() - 68.0).abs() < 1e-9 && cells[7] == "°F", "{row}");
    for wanted in [",humidity,47.24,%,ok,", ",illuminance,1.5,klx,ok,"] {
        assert!(log.contains(wanted), "{wanted} in {log}");
    }
    assert!(text(&done.stdout).contains("68.000  °F"), "{}", text(&done.stdout));
    for (unit, told) in [("furlong", "the unit `furlong` is not known"), ("kPa", "kPa is a unit of pressure"), ("warmth=°F", "warmth")] {
        let done = yemdo(&folder, &[&read[..], &["--unit", unit]].concat());
        assert!(done.status.code() == Some(2) && text(&done.stderr).contains(told), "{unit}: {}", text(&done.stderr));
    }
}

/// Two made-up sensors of one temperature, of which one is off by a gain, an offset and a drift.
#[test]
fn a_comparison_finds_what_was_put_in() {
    let folder = folder("compared");
    let mut log = fs::File::create(folder.join("pair.csv")).unwrap();
    writeln!(log, "time,part,frame,bytes,settings,reading,value,unit,status,reason").unwrap();
    for second in 0..3600 {
        let time = format!("2031-02-07T08:{:02}:{:02}.000Z", second / 60, second % 60);
        let good = 20.0 + 5.0 * (f64::from(second) / 300.0).sin();
        writeln!(log, "{time},good,,,,temperature,{good},°C,ok,").unwrap();
        writeln!(log, "{time},cheap,,,,temperature,{},°C,ok,", ((good - 1.5) / 0.96) * 1.8 + 32.0).unwrap();
    }
    let run = ["plot", "pair.csv", "--reading", "cheap/temperature", "--against", "good/temperature", "--utc", "--format", "json"];
    let done = yemdo(&folder, &run);
    // The unit of the cheap one is wrong: it counts in °F, and the log says °C.
    let found: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!(found["pairs"], 3600);
    let near = |name: &str, wanted: f64| assert!((found[name].as_f64().unwrap() - wanted).abs() < 1e-6, "{name}: {found}");
    near("gain", 0.96 / 1.8);
    near("correction_offset", 1.5 - 32.0 * 0.96 / 1.8);
    near("remaining_greatest", 0.0);
    // The suggestion goes into the sheet as it is.
    let sheet = |formula: &str| {
        format!(
            "part = \"cheap\"\nframe.AIR = {{ read = 2, code = {{ t = \"b0 b1\" }} }}\n[reading.temperature]\nunit = \"°C\"\n{formula}\n"
        )
    };
    fs::write(folder.join("cheap.toml"), sheet("formula = \"t * 0.5\"")).unwrap();
    let done = yemdo(&folder, &[&run[..7], &["--overwrite", "--sheet", "cheap.toml"]].concat());
    let suggested = text(&done.stdout);
    let formula = suggested.lines().map(str::trim).find(|line| line.starts_with("formula = ")).unwrap();
    assert_eq!(formula, "formula = \"(t * 0.5) * 0.533333 - 15.5667\"");
    fs::write(folder.join("cheap.toml"), sheet(formula)).unwrap();
    let done = yemdo(&folder, &["decode", "cheap.toml", "00 C8", "--format", "csv"]);
    assert!(text(&done.stdout).contains(",37.76"), "{}", text(&done.stdout));
}

#[test]
fn odd_series_are_drawn_too_and_bad_questions_are_told() {
    let folder = folder("odd");
    let head = "time,part,frame,bytes,settings,reading,value,unit,status,reason\n";
    let row = |time: &str, value: &str, status: &str| format!("2031-02-07T{time}+02:00,a,,,,x,{value},°C,{status},\n");
    for (name, rows) in [
        ("one", row("08:00:00", "20", "ok")),
        ("none", row("08:00:00", "", "not ready")),
        ("constant", row("08:00:00", "20", "ok") + &row("08:00:01", "20", "ok")),
        ("back", row("08:00:05", "20", "ok") + &row("08:00:01", "21", "ok") + &row("08:00:02", "1e300", "saturated")),
        ("wide", row("08:00:00", "-1e308", "ok") + &row("23:00:00", "1e308", "ok")),
        ("strange", "2031-02-07T08:00:00Z,ß漢,,,,<x>&\"\"\"\",1,\u{1F600},ok,\n".replace("<x>&\"\"\"\"", "\"<x>&\"\"\"")),
    ] {
        fs::write(folder.join(format!("{name}.csv")), format!("{head}{rows}")).unwrap();
        for ending in ["svg", "png"] {
            let done = yemdo(&folder, &["plot", &format!("{name}.csv"), "--out", &format!("{name}.{ending}")]);
            assert!(done.status.success(), "{name}: {}", text(&done.stderr));
        }
        let svg = fs::read_to_string(folder.join(format!("{name}.svg"))).unwrap();
        assert!(svg.ends_with("</svg>\n") && !svg.contains("NaN") && !svg.contains("<x>"), "{svg}");
    }
    for (arguments, told) in [
        (&["plot", "one.csv", "--reading", "y"][..], "the log has no reading `y`"),
        (&["plot", "one.csv", "--unit", "lx"], "lx is a unit of illuminance"),
        (&["plot", "one.csv", "--noise"], "needs at least two"),
        (&["plot", "one.csv", "--against", "z"], "is not a reading of the log or a file"),
        (&["plot", "one.csv", "--out", "one.gif"], "expected a .svg or .png file"),
        (&["plot", "constant.csv", "--out", "one.png"], "already exists"),
        (&["plot", "SHEETS/garboard-rs.toml", "--reading", "flow"], "has no transfer curve"),
        (&["plot", "SHEETS/../demo/thole-9.csv"], "is not a log of readings"),
        (&["plot", "one.csv", "--from", "2032-01-01T00:00:00Z", "--out", "x.png"], "no values between these times"),
    ] {
        let done = yemdo(&folder, arguments);
        assert!(!done.status.success() && text(&done.stderr).contains(told), "{arguments:?}: {}", text(&done.stderr));
    }
}

/// A disk that is full (here a limit on the size of files) stops nothing: what is lost is told and counted, and what is in the file is whole; where
/// there is room again, the same file goes on.
#[cfg(unix)]
#[test]
fn a_full_disk_stops_nothing_and_leaves_whole_records() {
    let folder = folder("full");
    let sheet = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets/lantern-16.toml");
    for form in FORMS {
        let log = format!("full.{form}");
        // Blocks of 512 bytes; the signal would end the process otherwise.
        let shell = format!(
            "trap '' XFSZ; ulimit -f 4; exec '{}' read '{}' --at stand-in:illuminance=120 --every '1 s' --count 60 --utc --format csv --log {log}",
            env!("CARGO_BIN_EXE_yemdo"),
            sheet.display()
        );
        let done = Command::new("sh").args(["-c", &shell]).current_dir(&folder).output().unwrap();
        let told = text(&done.stderr);
        assert_eq!(done.status.code(), Some(1), "{form}: {told}");
        assert_eq!(text(&done.stdout).lines().filter(|line| line.contains(",illuminance,")).count(), 60, "{form}");
        let lost: usize =
            told.lines().find_map(|line| line.split_once(" records could not be written")?.0.rsplit(' ').next()?.parse().ok()).unwrap_or(0);
        assert!(fs::metadata(folder.join(&log)).unwrap().len() <= 2048 && lost > 0, "{form}: {told}");
        let (kept, about) = decoded(&folder, &log);
        assert_eq!((kept.len() + lost, about.contains("refused")), (60, false), "{form}: {told}{about}");
        let again = yemdo(&folder, &["read", "SHEETS/lantern-16.toml", "--at", "stand-in", "--count", "3", "--log", &log]);
        assert!(again.status.success(), "{form}: {}", text(&again.stderr));
        assert_eq!(decoded(&folder, &log).0.len(), kept.len() + 3, "{form}");
    }
}

/// What is derived over time goes on when a part was away: a bus that fails in between leaves a gap, and no new beginning.
#[test]
fn a_dose_goes_on_after_the_part_was_away() {
    let folder = folder("away");
    let at = "stand-in:illuminance=360;faults=0.4;seed=4";
    let told =
        yemdo(&folder, &["read", "SHEETS/lantern-16.toml", "--at", at, "--every", "10 s", "--count", "40", "--log", "hull.jsonl", "--utc"]);
    let failed = text(&told.stderr);
    assert!(told.status.code() == Some(1) && failed.contains("failed"), "{failed}");
    let entries: Vec<serde_json::Value> =
        fs::read_to_string(folder.join("hull.jsonl")).unwrap().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let dose = |entry: &serde_json::Value| {
        let all = entry["readings"].as_array().unwrap();
        all.iter().find(|reading| reading["reading"] == "dose").and_then(|reading| reading["value"].as_f64())
    };
    let doses: Vec<f64> = entries.iter().filter_map(dose).collect();
    assert!(doses.len() < entries.len() && doses.windows(2).all(|pair| pair[0] <= pair[1]), "{doses:?}");
    // From the first good measurement to the last, at 0.1 lx·h a second.
    let measured: Vec<&serde_json::Value> = entries.iter().filter(|entry| dose(entry).is_some()).collect();
    let seconds = |entry: &serde_json::Value| {
        let time = entry["time"].as_str().unwrap();
        let part = |range: std::ops::Range<usize>| time[range].parse::<f64>().unwrap();
        part(11..13) * 3600.0 + part(14..16) * 60.0 + part(17..23)
    };
    let over = (seconds(measured.last().unwrap()) - seconds(measured[0])).rem_euclid(86_400.0);
    assert!((doses.last().unwrap() - over * 0.1).abs() < 0.01, "{doses:?} over {over} s");
    // The same out of the bytes of the log.
    let anew = yemdo(&folder, &["decode", "SHEETS/lantern-16.toml", "--log", "hull.jsonl", "--format", "json"]);
    let last: serde_json::Value = serde_json::from_str(text(&anew.stdout).lines().last().unwrap()).unwrap();
    assert!((last["readings"]["dose"]["value"].as_f64().unwrap() - doses.last().unwrap()).abs() < 1e-9, "{last}");
}
