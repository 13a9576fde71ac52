//! Firmware: what is emitted of the shipped parts is compiled by a C compiler and held against the decoder, in all forms; integer
//! readings keep their bound; names and texts stay where they belong. Rust and microcontrollers: `tools/firmware`.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

#[path = "common/cc.rs"]
mod cc;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::emit::{EmitError, Emitted, FirmwareOptions, Language, Only, Reals, as_computed, error_bound, firmware, rust_module, vectors};
use yemdo::part::Id;
use yemdo::{Decoder, Part, ReadingId, State};

use cc::CAREFUL;

fn sheets() -> Vec<Part> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets");
    let mut paths: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    paths.iter().map(|path| Part::parse(&path.display().to_string(), &fs::read_to_string(path).unwrap()).unwrap()).collect()
}

fn part(text: &str) -> Part {
    Part::parse("p.toml", text).unwrap_or_else(|error| panic!("{error}"))
}

/// Options for all of a part that can be computed so.
fn all_that_can(part: &Part, reals: Reals) -> FirmwareOptions {
    let options = FirmwareOptions::default().reals(reals);
    let shown: Vec<ReadingId> = part.readings().ids().filter(|id| part.readings().get(*id).unwrap().is_measured()).collect();
    let only = |readings: Vec<ReadingId>| Only::These { readings, routines: part.routines().ids().collect() };
    let can = |id: &ReadingId| firmware(part, Language::C, &options.clone().only(only(vec![*id]))).is_ok();
    if firmware(part, Language::C, &options).is_ok() {
        return options;
    }
    let readings = shown.into_iter().filter(can).collect();
    options.only(only(readings))
}

/// Compiles C with every warning an error and undefined behaviour caught, and runs it; gives what it prints.
fn compile_and_run(folder: &Path, files: &[String]) -> String {
    let mut cc = Command::new("cc");
    cc.current_dir(folder).args(CAREFUL).args(["-O1", "-o", "test"]).args(files).arg("-lm");
    let done = cc.output().expect("a C compiler is needed");
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let done = Command::new(folder.join("test")).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap()
}

/// Emits parts with their tests into one program, and runs it: a line a part.
fn agree(name: &str, parts: &[(Part, FirmwareOptions)], frames: usize) {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(name);
    fs::create_dir_all(&folder).unwrap();
    let (mut files, mut head, mut body) = (Vec::new(), String::from("#include <stdio.h>\n"), String::new());
    for (part, options) in parts {
        let emitted = firmware(part, Language::C, options).unwrap_or_else(|error| panic!("{error}"));
        let tests = vectors(part, Language::C, options, 3, frames).unwrap();
        let prefix = emitted[0].name.trim_end_matches(".h").to_owned();
        for Emitted { name, text } in emitted.into_iter().chain(tests) {
            fs::write(folder.join(&name), text).unwrap();
            files.extend(name.ends_with(".c").then_some(name));
        }
        head += &format!("#include \"{prefix}_vectors.h\"\n");
        body += &format!(
            "    count = {prefix}_vectors(&wrong);\n    printf(\"{prefix} %lu %s\\n\", (unsigned long)count, wrong == UINT32_MAX ? \"agree\" : \"differ\");\n"
        );
    }
    fs::write(folder.join("main.c"), format!("{head}int main(void)\n{{\n    uint32_t wrong, count;\n\n{body}    return 0;\n}}\n")).unwrap();
    files.push("main.c".into());
    let told = compile_and_run(&folder, &files);
    assert_eq!(told.lines().count(), parts.len(), "{told}");
    for line in told.lines() {
        let count: usize = line.split(' ').nth(1).unwrap().parse().unwrap();
        assert!(line.ends_with(" agree") && count >= frames, "{name}: {line}");
    }
}

#[test]
fn c_of_the_shipped_parts_is_the_decoder() {
    let parts = sheets();
    for (name, reals) in [("double", Reals::Double), ("single", Reals::Single), ("integer", Reals::Integer)] {
        let all: Vec<(Part, FirmwareOptions)> = parts.iter().map(|part| (part.clone(), all_that_can(part, reals))).collect();
        agree(name, &all, 300);
    }
}

/// Formulas that nothing is proved of, and everything that codes can be.
#[test]
fn faults_forms_and_curves_are_the_decoder_s() {
    let one = part(
        r#"
part = "odd-1"
i2c.address = 0x61
parameter.slope = { default = 2.5, range = [-1000, 1000] }
register.SET = { at = 3, width = 16, reset = 0x0102, field.LEVEL = { bits = "signed [9:2]" }, field.MODE = { bits = "[12:10]", values = [{ code = 0, name = "slow", factor = 0.25, whole = 3 }, { code = 5, name = "fast", factor = 12.5, whole = 70000 }] } }
table.BEND = { points = [[-300, 4.5], [0, 1], [12, -7.25], [900, 80]], outside = "hold" }
table.LINE = { points = [[0, 0], [100, 3]], outside = "extend" }
table.INNER = { points = [[10, 0], [200, 3]], outside = "fault" }
[frame.ALL]
read = 24
check = [{ crc = "CRC-16/MODBUS", over = "b0..b5 0x33", in = "b7 b6" }, { sum = { width = 8, then = "negate" }, over = "b8..b10", in = "b11" }]
code = { a = "signed b0 b1", b = "b2 b3", c = "sign-magnitude b4", d = "bcd b5", e = "ones-complement b8", f = "offset-binary b9 b10[7:3]", g = "float b12..b15", h = "q3.12 b16 b17", i = "float b18 b19", j = "uq4.4 b20", k = "signed b23 b22 b21", t = "text b12..b15" }
status = [{ when = "a / (b - 7) > 3000", is = "alert" }, { when = "d == 42 && c > 0", is = "not ready" }]
[shared]
ratio = { formula = "a / (b - 100)" }
big = { formula = "return (long long)a * b * k;" }
[reading]
sum = { unit = "1", formula = "a * b + ratio" }
narrow = { unit = "1", formula = "(int8_t)(a + b) + (uint16_t)k + (int16_t)b" }
moved = { unit = "1", formula = "(k << (c & 31)) + (k >> (b & 15)) + (a >> 3)" }
real = { unit = "1", range = [-20, "slope * 9"], formula = "g * slope / (h - 1.5) + i" }
cut = { unit = "1", formula = "(int32_t)(g * 1000.0) + (uint8_t)j" }
chosen = { unit = "1", formula = "MODE.factor * LEVEL + (d > 50 ? ratio : MODE.whole)" }
bent = { unit = "1", formula = "BEND(a) + LINE(c) + (b > 3000 ? INNER(d) : 0.0)" }
huge = { unit = "1", formula = "big % (e + 1) + abs(f) - abs(-3) - -k" }
lazy = { unit = "1", range = [-5, 5], formula = "b != 0 && a / b > 2 || (k == 0 ? 0 : 7 / k) ? e : f * 0.5" }
maths = { unit = "1", formula = "sqrt(fabs(g)) + floor(h) + fmin(a, fmod(b, 7.0))" }
steps = { unit = "1", formula = """
  int x = a; double y;
  if (x < 0) { x = -x; y = x * 0.1; } else { if (x > 30000) return -1; y = 2.0; }
  x += c; x ^= 0x55; unsigned u = x; u *= 2654435761u;
  return y + (u >> 7) + (x ? ~x : 3);
""" }
"#,
    );
    let options = |reals| FirmwareOptions::default().reals(reals);
    agree("odd_double", &[(one.clone(), options(Reals::Double))], 20_000);
    agree("odd_single", &[(one, options(Reals::Single))], 20_000);
}

/// Of two fields with tables, one of which has gaps. (The command lets half a step beyond the ends pass, a setter found by search does not.)
#[test]
fn a_setter_that_searches_sets_what_the_command_would() {
    let one = part(
        r#"
part = "quoin-8"
i2c.address = 0x17
[register.RATE]
at = 39
width = 16
reset = 0x0040
field.PACE = { bits = "[7:5]", values = [{ code = 1, name = "slow", hz = 3 }, { code = 2, name = "walk", hz = 11 }, { code = 5, name = "run", hz = 47 }] }
field.FAST = { bits = "[9]", values = [{ code = 0, name = "single", by = 1 }, { code = 1, name = "twice", by = 2 }] }
field.WIDE = { bits = "[12]", values = [{ code = 0, full = 10 }, { code = 1, full = 80 }] }
[quantity.rate]
unit = "Hz"
formula = "PACE.hz * FAST.by"
moves = ["PACE", "FAST"]
[frame.ROPE]
read = 2
code = { wet = "b0 b1" }
[reading.wetness]
unit = "%"
formula = "wet * WIDE.full / 6553.5"
status = [{ when = "wet == 0xFFFF", is = "saturated" }]
"#,
    );
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("searched");
    fs::create_dir_all(&folder).unwrap();
    for Emitted { name, text } in firmware(&one, Language::C, &FirmwareOptions::default()).unwrap() {
        fs::write(folder.join(name), text).unwrap();
    }
    let wanted = [3.0, 7.2, 16.6, 21.9, 40.0, 94.0, 1.4, 121.0];
    let list = wanted.map(|value| value.to_string()).join(", ");
    let main = format!(
        "#include <stdio.h>\n#include \"quoin_8.h\"\nint main(void)\n{{\n    const double wanted[] = {{ {list} }};\n    for (int i = 0; i < {}; ++i) {{\n        \
         quoin_8_settings_t settings = quoin_8_settings_reset();\n        const bool set = quoin_8_set_rate(&settings, wanted[i]);\n        \
         printf(\"%d %u\\n\", set, (unsigned)settings.rate);\n    }}\n    quoin_8_settings_t settings = quoin_8_settings_reset();\n    \
         printf(\"%d\", quoin_8_next_range_wetness(&settings, 9.0, true));\n    printf(\" %d\\n\", quoin_8_get_wide(&settings));\n    return 0;\n}}\n",
        wanted.len()
    );
    fs::write(folder.join("main.c"), main).unwrap();
    let told = compile_and_run(&folder, &["quoin_8.c".into(), "main.c".into()]);
    let start = State::reset(&one);
    let known = wanted.map(|value| {
        let wish = Wish::parse(&one, &format!("rate={value}Hz")).unwrap();
        let done = configure(&one, &start, &[wish], WriteScope::Changed);
        let settings = done.as_ref().map_or(&start, |done| &done.state);
        format!("{} {}", u8::from(done.is_ok()), settings.register(one.registers().iter().next().unwrap()))
    });
    assert_eq!(told, format!("{}\n1 1\n", known.join("\n")));
}

#[test]
fn what_was_never_read_or_set_has_no_value() {
    let one = part(
        r#"
part = "cleat-5"
i2c.address = 0x2D
[register.HIGH]
at = 20
access = "read-only"
reset = 0xF0
field.TOP = { bits = "[7:2]" }
[register.LOW]
at = 24
access = "read-only"
field.REST = { bits = "[6:0]" }
[register.known]
at = 32
field.GAIN = { bits = "[2:0]" }
[field.TRIM]
bits = "TOP REST"
[frame.ROPE]
read = 2
code = { wet = "b0 b1" }
[reading.wetness]
unit = "%"
formula = "wet / 16.0 * (GAIN + 1) + TRIM"
[reading.dryness]
unit = "%"
formula = "wet > 9 ? wet : (double)TRIM"
[[routine.measure]]
read = "LOW"
[[routine.measure]]
read = "ROPE"
"#,
    );
    agree("unread", &[(one.clone(), all_that_can(&one, Reals::Double))], 600);
    // By hand: each value as it comes.
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("unread");
    let main = r#"#include <stdio.h>
#include "cleat_5.h"
static cleat_5_settings_t settings;
static const uint8_t BYTES[][2] = { { 0x00, 0x20 }, { 0x00, 0x08 } };
static void show(const char *what)
{
    printf("%s", what);
    for (int i = 0; i < 2; ++i) {
        cleat_5_rope_frame_t rope;
        (void)cleat_5_rope_unpack(&rope, BYTES[i]);
        const cleat_5_reading_t wetness = cleat_5_wetness(&rope, &settings), dryness = cleat_5_dryness(&rope, &settings);
        printf(" %d %g %d %g", wetness.status == CLEAT_5_FORMULA_FAULT, wetness.value, dryness.status == CLEAT_5_FORMULA_FAULT, dryness.value);
    }
    printf("\n");
}
int main(void)
{
    settings = cleat_5_settings_reset();
    show("reset");
    (void)cleat_5_set_gain(&settings, 1);
    show("set");
    settings.low = 0x05, settings.are_known |= 0x02;
    show("half");
    settings.high = 0x04, settings.are_known |= 0x01;
    show("read");
    return 0;
}
"#;
    fs::write(folder.join("main.c"), main).unwrap();
    let told = compile_and_run(&folder, &["cleat_5.c".into(), "main.c".into()]);
    assert_eq!(told, "reset 1 0 0 32 1 0 1 0\nset 1 0 0 32 1 0 1 0\nhalf 1 0 0 32 1 0 1 0\nread 0 137 0 32 0 134 0 133\n");
}

/// The step of integer readings, where no other is asked for.
const STEP: f64 = 0.001;

/// Every code of every reading that has but one of them, and what is claimed of its error.
#[test]
fn integer_readings_are_within_their_bound_for_every_code() {
    let mut tried = 0;
    for part in sheets() {
        let options = all_that_can(&part, Reals::Integer);
        let Ok(derived) = as_computed(&part, &options) else { continue };
        for id in part.readings().ids() {
            let Ok(Some(bound)) = error_bound(&part, &options, id) else { continue };
            assert!(bound <= STEP, "{} {}: {bound}", part.name(), part.readings()[id].name());
            tried += every_code(&part, &derived, id, bound, STEP);
        }
    }
    assert!(tried > 300_000, "{tried}");
}

/// Decodes every code of a reading of one frame and up to 24 bits, in real numbers and in integers; gives how many there were.
fn every_code(part: &Part, derived: &Part, id: ReadingId, bound: f64, step: f64) -> usize {
    let reading = part.readings().get(id).unwrap();
    let ([code], [frame]) = (reading.codes(), reading.frames()) else { return 0 };
    let (code, model) = (part.codes().get(*code).unwrap(), part.frames().get(*frame).unwrap());
    let place = model.readings().iter().position(|other| *other == id);
    let (width, Some(place)) = (code.layout().width(), place) else { return 0 };
    if width > 24 {
        return 0;
    }
    let (mut real, mut whole) = (Decoder::new(part), Decoder::new(derived));
    let (mut of_real, mut of_whole) = (yemdo::FrameValues::new(), yemdo::FrameValues::new());
    let mut seen = 0;
    for raw in 0..1u64 << width {
        let mut bytes = vec![0u8; model.length()];
        let mut left = width;
        for slice in &code.layout().slices {
            left -= slice.width();
            bytes[slice.byte] |= (((raw >> left) & ((1 << slice.width()) - 1)) << slice.low) as u8;
        }
        // Whatever else the frame needs to be taken, both decoders need alike.
        let taken = real.decode_into(*frame, &bytes, &mut of_real).is_ok();
        assert_eq!(whole.decode_into(*frame, &bytes, &mut of_whole).is_ok(), taken);
        let pair = if taken { of_real.value(place).zip(of_whole.value(place)) } else { None };
        if let Some((value, steps)) = pair {
            assert!(
                (steps * step - value).abs() <= bound * (1.0 + 1e-9) + 1e-9,
                "{} {}: code {raw}: {steps} steps, {value}",
                part.name(),
                reading.name()
            );
            seen += 1;
        }
    }
    seen
}

#[test]
fn what_cannot_be_computed_in_integers_is_told_with_its_place() {
    let text = "part = \"p-1\"\nframe.F = { read = 6, code = { a = \"signed b0 b1\", r = \"float b2..b5\" } }\nparameter.k = { default = 1, range = [0, 2] }\n";
    let refused = |reading: &str| {
        let part = part(&format!("{text}[reading]\n{reading}\n"));
        let error = firmware(&part, Language::C, &FirmwareOptions::default().reals(Reals::Integer));
        error.map(|_| ()).map_err(|error| error.to_string())
    };
    let why = [
        ("x = { unit = \"1\", formula = \"log(a + 40000.0)\" }", "log needs real numbers"),
        ("x = { unit = \"1\", formula = \"a * k\" }", "the parameter k is a real number"),
        ("x = { unit = \"1\", formula = \"r * 2\" }", "the code is a floating-point number"),
        ("x = { unit = \"1\", formula = \"a * 1000.0\" }", "a step of 0.1 would do"),
        ("x = { unit = \"1\", formula = \"1.0 / a\" }", "it may be zero"),
        ("x = { unit = \"1\", formula = \"a * 0.3 > 2.05 ? 1.0 : (int)(a * 0.7)\" }", "it cuts a real number to an integer"),
    ];
    for (reading, told) in why {
        let error = refused(reading).unwrap_err();
        assert!(error.contains(told) && error.starts_with("p.toml:5: reading x cannot be computed in integers: "), "{reading}: {error}");
    }
    for good in
        ["x = { unit = \"1\", formula = \"fmax(a * 0.25, 3.0) / 7.0\" }", "x = { unit = \"1\", formula = \"a * 0.001 * (a * 0.001)\" }"]
    {
        assert_eq!(refused(good), Ok(()), "{good}");
    }
}

#[test]
fn names_and_texts_stay_in_their_place() {
    let hostile = r#"
part = "match"
title = "*/ #error out \\ ??/ // \u2028\npub fn pwned() {} // \r#define X"
source = "/* \" '"
i2c.address = 0x61
[register.template]
at = 1
means = "*/ int x; /*"
field.class = { bits = "[1:0]", means = "*/ }", values = [{ code = 0, name = "*/ #define X" }, { code = 1, name = "self" }, { code = 2, name = "%" }, { code = 3, name = "3 V" }] }
[frame.impl]
read = 2
code = { delete = "b0", match = "b1" }
status = [{ when = "match == 9", is = "invalid", means = "*/ return 1; /*\\" }]
[reading.virtual]
unit = "*/"
formula = "delete * 0.5 /* ``` \\*/"
[[routine.typename]]
set = { class = "self" }
means = "*/ } /* ```"
"#;
    let part = part(hostile);
    agree("hostile", &[(part.clone(), FirmwareOptions::default())], 50);
    let rust = rust_module("p.toml", hostile, &FirmwareOptions::default()).unwrap();
    for line in rust.lines().filter(|line| ["#error", "#define X", "return 1;", "pwned"].iter().any(|told| line.contains(told))) {
        assert!(line.trim_start().starts_with("//"), "{line}");
    }
    assert!(rust.contains("pub fn virtual_(&self) -> Reading"), "{rust}");
}

#[test]
fn two_names_that_become_one_are_told() {
    let clash =
        "part = \"p-1\"\nframe.F = { read = 2, code = { a-b = \"b0\", a_b = \"b1\" } }\nreading.x = { unit = \"1\", formula = \"a_b\" }\n";
    let same = "part = \"p-1\"\nframe.F = { read = 2, code = { a = \"b0\", A = \"b1\" } }\nreading.x = { unit = \"1\", formula = \"a\" }\n";
    for text in [clash, same] {
        let Ok(part) = Part::parse("p.toml", text) else { continue };
        let EmitError { reasons, .. } = firmware(&part, Language::C, &FirmwareOptions::default()).unwrap_err();
        assert_eq!(reasons.len(), 1);
        assert!(reasons[0].contains("both become `a") && reasons[0].ends_with("rename one of them"), "{reasons:?}");
    }
    assert_eq!(ReadingId::new(3).index(), 3);
}

#[test]
fn the_same_sheet_gives_the_same_bytes() {
    for part in sheets() {
        for language in [Language::C, Language::Rust] {
            let options = all_that_can(&part, Reals::Single);
            assert_eq!(firmware(&part, language, &options).unwrap(), firmware(&part, language, &options).unwrap());
        }
    }
}

/// Derived quantities in C: what is kept from one frame to the next stands in the program, by the rules in the header; the values are the decoder's,
/// bit for bit.
#[test]
fn what_is_derived_is_the_decoder_s() {
    let text = r##"
part = "well-3"
frame.LEVEL = { read = 2, code = { depth = "b1", count = "b0" }, status = [{ when = "depth < 8", is = "not ready" }] }
reading.level = { unit = "m", formula = "depth * 0.3" }
reading.pulses = { unit = "1", formula = "count" }
parameter.area = { default = 2.5 }
table.SHAPE = { points = [[0, 0], [100, 50]], outside = "extend" }
derived.volume = { unit = "m3", formula = "SHAPE(level) * area" }
derived.sum = { unit = "m·s", start = 0.1, gap = "60 s", formula = "before.sum + (level + before.level) / 2 * elapsed" }
derived.total = { unit = "1", start = 0, gap = "60 s", formula = "before.total + ((pulses - before.pulses) & 0xFF)" }
derived.mean = { unit = "m", start = "level", gap = "60 s", formula = "before.mean + (level - before.mean) * 0.3" }
derived.rate = { unit = "m/s", gap = "60 s", formula = "(level - before.level) / elapsed" }
"##;
    let part = part(text);
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("derived");
    fs::create_dir_all(&folder).unwrap();
    let emit = |options: &FirmwareOptions| {
        let emitted = firmware(&part, Language::C, options).unwrap();
        emitted.iter().for_each(|Emitted { name, text }| fs::write(folder.join(name), text).unwrap());
        emitted
    };
    // A walk through all that can happen, the same on every machine.
    let mut seed = 7u32;
    let mut next = |below: u32| {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (seed >> 8) % below
    };
    let mut time = 0.0;
    let frames: Vec<(f64, [u8; 2])> = (0..500)
        .map(|_| {
            time += [1.0, 2.5, 7.0, 61.0, -3.0, 0.1][next(6) as usize];
            (time, [next(256) as u8, next(256) as u8])
        })
        .collect();
    let rows: String = frames.iter().map(|(time, [count, depth])| format!("    {{ {time:?}, {{ {count}, {depth} }} }},\n")).collect();
    let main = format!(
        r##"#include "well_3.h"
#include <stdio.h>
#include <string.h>

static const struct {{ double time; uint8_t bytes[2]; }} frames[] = {{
{rows}}};

static void show(double value)
{{
    uint64_t bits;
    memcpy(&bits, &value, sizeof bits);
    printf("%016llx ", (unsigned long long)bits);
}}

int main(void)
{{
    const well_3_parameters_t parameters = well_3_parameters_default();
    bool begun = false;
    double time = 0.0, level = 0.0, sum = WELL_3_SUM_START, total = WELL_3_TOTAL_START, mean = 0.0;
    int32_t pulses = 0;

    for (size_t at = 0; at < sizeof frames / sizeof frames[0]; at++) {{
        well_3_level_frame_t frame;
        well_3_level_readings_t now;
        double volume, rate = 0.0;
        if (!well_3_level_unpack(&frame, frames[at].bytes)) {{
            return 1;
        }}
        now = well_3_level_readings(&frame);
        if (now.level.status != WELL_3_OK) {{
            printf("-\n");
            continue;
        }}
        const double elapsed = frames[at].time - time;
        const int32_t count = (int32_t)now.pulses.value;
        const bool goes_on = begun && elapsed > 0.0 && elapsed <= WELL_3_SUM_GAP;
        bool good = well_3_volume(&parameters, now.level.value, &volume);
        if (goes_on) {{
            good = good && well_3_sum(now.level.value, level, sum, elapsed, &sum);
            good = good && well_3_total(count, pulses, total, &total);
            good = good && well_3_mean(now.level.value, mean, &mean);
            good = good && well_3_rate(now.level.value, level, elapsed, &rate);
        }} else if (!begun) {{
            mean = now.level.value;
        }}
        show(volume), show(sum), show(total), show(mean);
        if (goes_on) {{
            show(rate);
        }}
        printf("%s\n", good ? "" : "fault");
        begun = true, time = frames[at].time, level = now.level.value, pulses = count;
    }}
    return 0;
}}
"##
    );
    fs::write(folder.join("main.c"), main).unwrap();
    emit(&FirmwareOptions::default());
    let told = compile_and_run(&folder, &["well_3.c".into(), "main.c".into()]);
    let mut decoder = Decoder::new(&part);
    let id = part.frame("LEVEL").unwrap();
    let mut went_on = 0;
    for ((time, bytes), line) in frames.iter().zip(told.lines()) {
        decoder.measured_at(&[*time]);
        let decoded = decoder.decode(id, bytes).unwrap();
        let derived = decoded.readings.iter().skip(2).filter_map(|reading| reading.value);
        let wanted: String = derived.map(|value| format!("{:016x} ", value.to_bits())).collect();
        assert_eq!(line, if wanted.is_empty() { "-" } else { &wanted }, "at {time}: {decoded:?}");
        went_on += usize::from(line.split(' ').count() > 5);
    }
    assert!(told.lines().count() == 500 && went_on > 100, "{went_on}");

    // In floats it compiles as it stands; without reals it is left out, and said so. One alone brings what is behind it.
    let single = emit(&FirmwareOptions::default().reals(Reals::Single));
    assert!(single[0].text.contains("bool well_3_sum(float level, float before_level, float before_sum, float elapsed, float *result);"));
    fs::write(folder.join("main.c"), "#include \"well_3.h\"\nint main(void)\n{\n    return 0;\n}\n").unwrap();
    compile_and_run(&folder, &["well_3.c".into(), "main.c".into()]);
    let none = firmware(&part, Language::Rust, &FirmwareOptions::default().reals(Reals::Integer));
    assert!(none.is_err() || none.unwrap()[0].text.contains("Left out: derived sum, which is a real number."));
    let only = Only::These { readings: vec![part.reading_or_derived("total").unwrap()], routines: Vec::new() };
    let only = firmware(&part, Language::Rust, &FirmwareOptions::default().only(only)).unwrap();
    assert!(only[0].text.contains("pub fn total(") && only[0].text.contains("pub fn pulses(") && !only[0].text.contains("pub fn level("));
}
