//! Decoding many frames against the emitted Rust of the same sheet, by instructions (callgrind).

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::Command;

use yemdo::emit::{FirmwareOptions, Hal, Language, firmware};
use yemdo::{Columns, Decoder, FrameId, Part};

use crate::choices::{Choices, bytes_of};
use crate::{SHEET_BYTES, cases, sheet};

/// Frames that are decoded at a time.
const FRAMES: usize = 1000;

/// Instructions a frame of a sheet.
pub struct Measured {
    seed: u64,
    own: f64,
    emitted: f64,
}

impl Measured {
    /// Speed relative to the emitted code.
    fn ratio(&self) -> f64 {
        self.emitted / self.own
    }
}

fn part(seed: u64) -> Part {
    let text = sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES)));
    Part::parse("sheet.toml", &text.replacen("hulk-1", &format!("hulk-{seed}"), 1)).unwrap()
}

/// A function that decodes a frame from its bytes alone, or with settings and parameters.
struct Decode<'t> {
    frame: FrameId,
    ty: &'t str,
    arguments: String,
}

fn decode_of<'t>(part: &Part, text: &'t str) -> Option<Decode<'t>> {
    text.match_indices("pub fn decode(").find_map(|(at, call)| {
        let (_, after) = text[..at].rsplit_once("\nimpl ")?;
        let ty = after.split_whitespace().next()?;
        let (takes, _) = text[at + call.len()..].split_once(") ->")?;
        let takes: Vec<&str> = takes.split(',').map(str::trim).filter(|param| !param.is_empty()).collect();
        let argument = |param: &&str| match param.rsplit_once(": ")?.1 {
            "&Settings" => Some("&settings"),
            "&Parameters" => Some("&parameters"),
            _ => None,
        };
        let arguments: Option<Vec<&str>> = takes.iter().skip(1).map(argument).collect();
        let plain = |name: &str| name.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_lowercase();
        let mut same = part.frames().entries().filter(|(_, frame)| plain(ty) == plain(frame.name()) + "readings");
        let (frame, _) = same.next().filter(|_| same.next().is_none())?;
        Some(Decode { frame, ty, arguments: arguments?.join(", ") })
    })
}

/// Measures `count` sheets, starting at a seed.
pub fn measured(from: u64, count: u64) -> Vec<Measured> {
    let folder = std::env::temp_dir().join(format!("yemdo-agree-speed-{from}"));
    fs::create_dir_all(&folder).unwrap();
    let (mut modules, mut ways, mut seeds) = (String::new(), String::new(), Vec::new());
    for seed in from.. {
        if seeds.len() as u64 == count {
            break;
        }
        let part = part(seed);
        let Ok(emitted) = firmware(&part, Language::Rust, &FirmwareOptions::default().hal(Hal::None)) else { continue };
        let Some(Decode { frame, ty, arguments }) = decode_of(&part, &emitted[0].text) else { continue };
        let frames = frames(&part, frame, seed);
        if !part.frames()[frame].derived().is_empty() || !mostly_good(&part, frame, &frames) {
            continue;
        }
        let length = frames.len() / FRAMES;
        let module = emitted[0].name.trim_end_matches(".rs");
        fs::write(folder.join(&emitted[0].name), &emitted[0].text).unwrap();
        fs::write(folder.join(seed.to_string()), &frames).unwrap();
        let _ = writeln!(modules, "mod {module};");
        let mut own = String::new();
        for (name, ty) in [("settings", "Settings::RESET"), ("parameters", "Parameters::DEFAULT")] {
            if arguments.contains(name) {
                let _ = write!(own, "let {name} = {module}::{ty}; ");
            }
        }
        let _ = writeln!(
            ways,
            "        {seed} => {{ {own}for _ in 0..times {{ for frame in frames.chunks_exact({length}) {{ let bytes: &[u8; {length}] = frame.try_into().unwrap(); black_box({module}::{ty}::decode(black_box(bytes), {arguments})); }} }} }}"
        );
        seeds.push((seed, part.frames().ids().position(|id| id == frame).unwrap()));
    }
    compile(&folder, &modules, &ways);
    let all = seeds.into_iter().map(|(seed, frame)| Measured {
        seed,
        own: instructions(&std::env::current_exe().unwrap(), &["--decode", &frame.to_string()], seed, &folder),
        emitted: instructions(&folder.join("all"), &[], seed, &folder),
    });
    all.collect()
}

/// Valid frames, concatenated.
fn frames(part: &Part, frame: FrameId, seed: u64) -> Vec<u8> {
    let choices = bytes_of(!seed, 1 << 19);
    let mut choices = Choices::new(&choices);
    let length = part.frames()[frame].length();
    (0..FRAMES)
        .flat_map(|_| {
            let mut bytes = cases::frame(&mut choices, part, frame);
            bytes.resize(length, 0);
            bytes
        })
        .collect()
}

/// True if most frames have values: emitted code returns early otherwise.
fn mostly_good(part: &Part, frame: FrameId, frames: &[u8]) -> bool {
    let mut columns = Columns::new();
    if Decoder::new(part).decode_many(frame, frames, &mut columns).is_err() {
        return false;
    }
    let good =
        |at: &usize| columns.failed_check(*at).is_none() && (0..columns.readings()).all(|reading| !columns.values(reading)[*at].is_nan());
    columns.readings() > 0 && (0..columns.len()).filter(good).count() * 10 > columns.len() * 9
}

fn compile(folder: &Path, modules: &str, ways: &str) {
    let main = format!(
        "#![allow(dead_code, unused)]\nuse std::hint::black_box;\n{modules}fn main() {{\n    let args: Vec<String> = std::env::args().collect();\n    let frames = std::fs::read(&args[2]).unwrap();\n    let times: u32 = args[3].parse().unwrap();\n    match args[1].parse::<u64>().unwrap() {{\n{ways}        _ => panic!(),\n    }}\n}}\n"
    );
    fs::write(folder.join("main.rs"), main).unwrap();
    super::firmware::library(folder);
    let done = Command::new("rustc")
        .current_dir(folder)
        .args(["--extern", "libm=liblibm.rlib", "--edition", "2024", "-C", "opt-level=3", "-C", "panic=abort", "-o", "all", "main.rs"])
        .output()
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}

/// Instructions a frame: what decoding twice more takes.
fn instructions(program: &Path, args: &[&str], seed: u64, folder: &Path) -> f64 {
    let counted = |times: &str| {
        let done = Command::new("valgrind")
            .args(["--tool=callgrind", "--callgrind-out-file=/dev/null"])
            .arg(program)
            .args(args)
            .arg(seed.to_string())
            .arg(folder.join(seed.to_string()))
            .arg(times)
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        let count = said.lines().find_map(|line| line.split_once("Collected : ")).map(|(_, count)| count.trim().parse::<f64>().unwrap());
        count.unwrap_or_else(|| panic!("valgrind says: {said}"))
    };
    (counted("3") - counted("1")) / 2.0 / FRAMES as f64
}

/// Decodes a file of frames `times` times: the measured process.
pub fn decode(frame: usize, seed: u64, file: &str, times: usize) {
    let part = part(seed);
    let frame = cases::frame_at(frame);
    let frames = fs::read(file).unwrap();
    let mut decoder = Decoder::new(&part);
    let mut columns = Columns::new();
    for _ in 0..times {
        decoder.decode_many(frame, &frames, &mut columns).unwrap();
        std::hint::black_box(&columns);
    }
}

/// The ratios in order, and the slowest sheets.
pub fn distribution(all: &mut [Measured]) -> String {
    all.sort_by(|one, other| one.ratio().total_cmp(&other.ratio()));
    let at = |share: f64| all[((all.len() - 1) as f64 * share) as usize].ratio();
    let mut text = format!(
        "{} sheets, instructions of the emitted code to those of decode_many: lowest {:.2}, a tenth below {:.2}, median {:.2}, highest {:.2}\n",
        all.len(),
        at(0.0),
        at(0.1),
        at(0.5),
        at(1.0)
    );
    for Measured { seed, own, emitted } in all.iter().take(12) {
        let _ = writeln!(text, "  seed {seed}: {own:.0} a frame, emitted {emitted:.0}");
    }
    text
}
