//! Decoding against hand-written Rust for the same bytes, in one run: `cargo bench -p yemdo`, or `tools/ratios`, which
//! prints the ratios.
//!
//! Of each pair both do the same work: the same frames, in memory, to the same `f64` columns, with the same checks and
//! nothing else. `many` is ten million frames at once, on one thread and on two; `one` is a frame at a time, with state
//! and buffers kept. The last pair is a whole part with conditions, ranges and a status for every reading.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

mod by_hand;

use by_hand::{Calibration, compensated, curve, floats, linear, straddled, strake};
use divan::counter::ItemsCount;
use divan::{Bencher, black_box};
use yemdo::FrameId;
use yemdo::part::Id;
use yemdo::{Columns, FrameValues};
use yemdo::{Decoder, Part};

const FRAMES: usize = 10_000_000;
/// Each measurement of ten million frames takes up to a fifth of a second.
const SAMPLES: u32 = 15;

fn main() {
    divan::main();
}

fn shipped(name: &str) -> String {
    let path = format!("{}/../sheets/{name}.toml", env!("CARGO_MANIFEST_DIR"));
    std::fs::read_to_string(&path).expect("the sheet is there")
}

const LINEAR: &str = r#"
part = "linear-1"
frame.F = { read = 2, code = { c = "signed b0 b1" } }
reading.r = { unit = "K", formula = "c * 0.0625 + 3.5" }
"#;

/// The codes of strake-20 and their CRC, without its conditions and ranges.
const STRADDLED: &str = r#"
part = "straddled-1"
[frame.F]
read  = 7
check = { crc = { width = 8, poly = 0x4D, init = 0x5A }, over = "b0..b5", in = "b6" }
code  = { t = "signed b3[5:0] b4", h = "b1[3:0] b2 b3[7:6]", v = "b0 b1[7:4]" }
[reading]
temperature = { unit = "°C", formula = "t * 0.015 + 20" }
humidity    = { unit = "%", formula = "h * 0.008 - 11" }
supply      = { unit = "V", formula = "v * 0.0015" }
"#;

/// binnacle-24 with the integer pressure only.
fn compensation() -> String {
    let text = shipped("binnacle-24");
    let head = text.split_once("# The same in floating point").expect("the integer part").0;
    head.replace("range   = [300, 1200]\n", "")
        .replace("status  = [{ when = \"raw_pressure == 0\", is = \"not ready\", means = \"no conversion was started\" }]\n", "")
}

const FLOATS: &str = r#"
part = "floats-1"
frame.F = { read = 8, code = { a = "float b0..b3", b = "float b4..b7" } }
[reading]
a = { unit = "K", formula = "F.a * 0.5" }
b = { unit = "K", formula = "F.b - 3" }
"#;

const CURVED: &str = r#"
part = "curved-1"
frame.F = { read = 2, code = { c = "b0 b1[7:3]" } }
table.CURVE = { points = [[512, 60.0], [1024, 42.5], [2048, 24.0], [3072, 17.2], [4096, 12.6], [6144, 8.1], [7936, 6.0]], outside = "fault" }
reading.r = { unit = "%", formula = "CURVE(c)" }
"#;

/// What came before the frames that are measured.
fn prepare(decoder: &mut Decoder) {
    if decoder.part().name() == "binnacle-24" {
        let hex = |text: &str| yemdo::parse_hex(text).expect("hex");
        decoder.decode(FrameId::new(0), &hex("7A B4 3B 45 B0 98 8C 1F B5 C2 08 A6 E0 40 E7 AE")).expect("a good calibration");
        decoder.decode(FrameId::new(1), &hex("7F 5C 38")).expect("a good temperature");
    }
}

const CALIBRATION: Calibration = Calibration { p1: 45208, p2: 35871, p3: 46530, p4: 2214, k8: 231, drift: 552 };

/// A generator good enough for made-up frames.
fn scramble(state: &mut u64) -> u64 {
    *state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    *state >> 33
}

fn linear_frames() -> Vec<u8> {
    let mut state = 5;
    (0..FRAMES).flat_map(|_| (scramble(&mut state) as u16).to_be_bytes()).collect()
}

/// From -20 to 40 °C, 10 to 90 %, 3.0 to 3.6 V, as a part in use sends.
fn strake_frames() -> Vec<u8> {
    let mut state = 7;
    let mut bytes = Vec::with_capacity(FRAMES * 7);
    for _ in 0..FRAMES {
        let temperature = (scramble(&mut state) % 4000) as i64 - 2667;
        let humidity = scramble(&mut state) % 10_000 + 2625;
        let supply = scramble(&mut state) % 400 + 2000;
        let word = (supply << 28 | humidity << 14 | (temperature as u64 & 0x3FFF)).to_be_bytes();
        let mut frame = [word[3], word[4], word[5], word[6], word[7], 2 | ((scramble(&mut state) & 15) as u8 * 16), 0];
        frame[6] = by_hand::crc(&frame[..6]);
        bytes.extend_from_slice(&frame);
    }
    bytes
}

fn pressure_frames() -> Vec<u8> {
    let mut state = 3;
    (0..FRAMES).flat_map(|_| ((9_500_000 + scramble(&mut state) % 900_000) as u32).to_be_bytes().into_iter().skip(1)).collect()
}

fn float_frames() -> Vec<u8> {
    let mut state = 11;
    (0..FRAMES * 2).flat_map(|_| (scramble(&mut state) as f32 / 7.0).to_be_bytes()).collect()
}

/// Codes from 512 to 7936, as the curve has them.
fn curve_frames() -> Vec<u8> {
    let mut state = 13;
    (0..FRAMES).flat_map(|_| (((512 + scramble(&mut state) % 7424) << 3) as u16).to_be_bytes()).collect()
}

/// Runs something over each of some frames that follow one another, on so many threads, into columns.
fn by_hand_many<const LENGTH: usize, const N: usize>(
    bencher: Bencher<'_, '_>,
    bytes: &[u8],
    threads: usize,
    decode: impl Fn(&[u8; LENGTH]) -> [f64; N] + Sync,
) {
    let share = FRAMES / threads;
    let mut out: Vec<Vec<Vec<f64>>> = vec![vec![vec![0.0; share]; N]; threads];
    let work = |bytes: &[u8], out: &mut Vec<Vec<f64>>| {
        let mut columns: [&mut [f64]; N] = out.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>().try_into().expect("as many columns");
        for (index, frame) in bytes.as_chunks::<LENGTH>().0.iter().enumerate() {
            for (column, value) in columns.iter_mut().zip(decode(frame)) {
                column[index] = value;
            }
        }
    };
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        let bytes = black_box(bytes);
        match out.as_mut_slice() {
            [alone] => work(bytes, alone),
            several => std::thread::scope(|scope| {
                for (bytes, out) in bytes.chunks(share * LENGTH).zip(several) {
                    scope.spawn(move || work(bytes, out));
                }
            }),
        }
    });
    black_box(&out);
}

fn yemdo_many(bencher: Bencher<'_, '_>, sheet: &str, frame: FrameId, bytes: &[u8], threads: usize) {
    let part = Part::parse("sheet", sheet).expect("the sheet is sound");
    let mut decoder = Decoder::new(&part);
    prepare(&mut decoder);
    let mut workers = vec![(decoder, Columns::new()); threads];
    let share = bytes.len() / threads;
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        let bytes = black_box(bytes);
        match workers.as_mut_slice() {
            [(decoder, columns)] => decoder.decode_many(frame, bytes, columns).expect("whole frames"),
            several => std::thread::scope(|scope| {
                for (bytes, (decoder, columns)) in bytes.chunks(share).zip(several) {
                    scope.spawn(|| decoder.decode_many(frame, bytes, columns).expect("whole frames"));
                }
            }),
        }
    });
    black_box(&workers);
}

/// A driver's decode function: takes what came, looks at its length, fills what the caller keeps.
#[inline(never)]
fn call<const LENGTH: usize, const N: usize>(
    bytes: &[u8],
    out: &mut [f64; N],
    decode: &impl Fn(&[u8; LENGTH]) -> [f64; N],
) -> Result<(), usize> {
    *out = decode(bytes.try_into().map_err(|_| bytes.len())?);
    Ok(())
}

fn by_hand_one<const LENGTH: usize, const N: usize>(bencher: Bencher<'_, '_>, bytes: &[u8], decode: impl Fn(&[u8; LENGTH]) -> [f64; N]) {
    let mut out = [0.0; N];
    bencher.counter(ItemsCount::new(1000usize)).bench_local(|| {
        for bytes in black_box(bytes).chunks_exact(LENGTH).take(1000) {
            call(black_box(bytes), &mut out, &decode).expect("a good frame");
            black_box(&out);
        }
    });
}

fn yemdo_one(bencher: Bencher<'_, '_>, sheet: &str, frame: FrameId, bytes: &[u8]) {
    let part = Part::parse("sheet", sheet).expect("the sheet is sound");
    let mut decoder = Decoder::new(&part);
    prepare(&mut decoder);
    let length = part.frames().get(frame).unwrap().length();
    let mut row = FrameValues::new();
    bencher.counter(ItemsCount::new(1000usize)).bench_local(|| {
        for bytes in black_box(bytes).chunks_exact(length).take(1000) {
            decoder.decode_into(frame, black_box(bytes), &mut row).expect("a good frame");
            black_box(&row);
        }
    });
}

macro_rules! pair {
    ($name:ident, $sheet:expr, $frame:expr, $frames:expr, $by_hand:expr) => {
        mod $name {
            use super::*;

            #[divan::bench(args = [1, 2], sample_count = SAMPLES, sample_size = 1)]
            fn many_by_hand(bencher: Bencher<'_, '_>, threads: usize) {
                by_hand_many(bencher, &$frames, threads, $by_hand);
            }

            #[divan::bench(args = [1, 2], sample_count = SAMPLES, sample_size = 1)]
            fn many_yemdo(bencher: Bencher<'_, '_>, threads: usize) {
                yemdo_many(bencher, &$sheet, FrameId::new($frame), &$frames, threads);
            }

            #[divan::bench]
            fn one_by_hand(bencher: Bencher<'_, '_>) {
                by_hand_one(bencher, &$frames, $by_hand);
            }

            #[divan::bench]
            fn one_yemdo(bencher: Bencher<'_, '_>) {
                yemdo_one(bencher, &$sheet, FrameId::new($frame), &$frames);
            }
        }
    };
}

pair!(linear_code, LINEAR, 0, linear_frames(), linear);
pair!(straddled_crc, STRADDLED, 0, strake_frames(), straddled);
pair!(integer_compensation, compensation(), 2, pressure_frames(), {
    let calibration = black_box(CALIBRATION);
    move |frame: &[u8; 3]| compensated(frame, &calibration)
});
pair!(two_floats, FLOATS, 0, float_frames(), floats);
pair!(through_a_curve, CURVED, 0, curve_frames(), curve);
pair!(whole_part, shipped("strake-20"), 0, strake_frames(), strake);
