//! Decoding against hand-written Rust for the same bytes, in one run: `cargo bench -p yemdo`.
//!
//! Each pair decodes the same frames in memory to the same `f64` columns. Divan prints the time for all frames
//! and the throughput; the ratio of two lines is what the README quotes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

use divan::counter::ItemsCount;
use divan::{Bencher, black_box};
use yemdo::decode::Columns;
use yemdo::{Decoder, Part};

const FRAMES: usize = 200_000;

fn main() {
    divan::main();
}

fn part(name: &str) -> Part {
    let path = format!("{}/../sheets/{name}.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("the sheet is there");
    Part::parse(&path, &text).expect("the sheet is sound")
}

/// A generator good enough for made-up frames.
fn scramble(state: &mut u64) -> u64 {
    *state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
    *state >> 33
}

/// strake-20 as a firmware developer would write it.
mod strake_by_hand {
    const TABLE: [u8; 256] = table();

    const fn table() -> [u8; 256] {
        let mut table = [0u8; 256];
        let mut index = 0;
        while index < 256 {
            let mut register = index as u8;
            let mut bit = 0;
            while bit < 8 {
                register = if register & 0x80 != 0 { (register << 1) ^ 0x4D } else { register << 1 };
                bit += 1;
            }
            table[index] = register;
            index += 1;
        }
        table
    }

    pub(super) fn crc(bytes: &[u8]) -> u8 {
        bytes.iter().fold(0x5A, |register, byte| TABLE[usize::from(register ^ byte)])
    }

    #[inline]
    pub(super) fn decode(frame: &[u8; 7]) -> Option<(f64, f64, f64)> {
        if crc(&frame[..6]) != frame[6] || frame[0] & 0x80 != 0 || frame[0] & 0x40 == 0 {
            return None;
        }
        let temperature = (i16::from_be_bytes([frame[1], frame[2]])) >> 2;
        let humidity = (u32::from(frame[2] & 3) << 12) | (u32::from(frame[3]) << 4) | u32::from(frame[4] >> 4);
        let supply = (u32::from(frame[4] & 15) << 8) | u32::from(frame[5]);
        if temperature == -8192 {
            return Some((f64::NAN, f64::from(humidity) * 0.0075 - 6.0, f64::from(supply) * 1.5e-3));
        }
        Some((f64::from(temperature) * 0.015 + 20.0, f64::from(humidity) * 0.0075 - 6.0, f64::from(supply) * 1.5e-3))
    }
}

fn strake_frames() -> Vec<u8> {
    let mut state = 7;
    let mut bytes = Vec::with_capacity(FRAMES * 7);
    for _ in 0..FRAMES {
        // From -20 to 40 °C, 10 to 90 %, 3.0 to 3.6 V, as a part in use sends.
        let temperature = (scramble(&mut state) % 4000) as i64 - 2667;
        let humidity = scramble(&mut state) % 10_600 + 2134;
        let supply = scramble(&mut state) % 400 + 2000;
        let word = ((temperature as u64 & 0x3FFF) << 26 | humidity << 12 | supply).to_be_bytes();
        let mut frame = [0x40 | (scramble(&mut state) & 15) as u8, word[3], word[4], word[5], word[6], word[7], 0];
        frame[6] = strake_by_hand::crc(&frame[..6]);
        bytes.extend_from_slice(&frame);
    }
    bytes
}

mod thole_by_hand {
    #[inline]
    pub(super) fn decode(frame: &[u8; 3]) -> Option<f64> {
        if !frame[0].wrapping_add(frame[1]) != frame[2] || frame[1] & 1 != 0 {
            return None;
        }
        Some(f64::from(i16::from_be_bytes([frame[0], frame[1]]) >> 2) * 0.02)
    }
}

fn thole_frames() -> Vec<u8> {
    let mut state = 9;
    let mut bytes = Vec::with_capacity(FRAMES * 3);
    for _ in 0..FRAMES {
        // From -50 to 50 °C, as a part in use sends.
        let word = ((scramble(&mut state) % 5000) as i16 - 2500) as u16 & 0x3FFF;
        let word = word << 2;
        let [high, low] = word.to_be_bytes();
        bytes.extend_from_slice(&[high, low, !high.wrapping_add(low)]);
    }
    bytes
}

fn many(bencher: Bencher<'_, '_>, name: &str, bytes: Vec<u8>) {
    let part = part(name);
    let mut decoder = Decoder::new(&part);
    let mut columns = Columns::new();
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        decoder.decode_many(0, black_box(&bytes), &mut columns).expect("whole frames");
        black_box(&columns).len()
    });
}

fn single(bencher: Bencher<'_, '_>, name: &str, bytes: &[u8], length: usize) {
    let part = part(name);
    let mut decoder = Decoder::new(&part);
    bencher
        .counter(ItemsCount::new(1usize))
        .bench_local(|| decoder.decode(0, black_box(&bytes[..length])).expect("a good frame").readings.len());
}

#[divan::bench]
fn strake_many_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = strake_frames();
    let mut out = vec![vec![0.0; FRAMES]; 3];
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        let [a, b, c] = out.as_mut_slice() else { unreachable!() };
        for ((frame, a), (b, c)) in black_box(&bytes).chunks_exact(7).zip(a).zip(b.iter_mut().zip(c)) {
            let frame: &[u8; 7] = frame.try_into().expect("seven bytes");
            (*a, *b, *c) = strake_by_hand::decode(frame).unwrap_or((f64::NAN, f64::NAN, f64::NAN));
        }
        black_box(&out).len()
    });
}

#[divan::bench]
fn strake_many_yemdo(bencher: Bencher<'_, '_>) {
    many(bencher, "strake-20", strake_frames());
}

#[divan::bench]
fn strake_single_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = strake_frames();
    bencher.counter(ItemsCount::new(1usize)).bench_local(|| {
        let frame: &[u8; 7] = black_box(&bytes[..7]).try_into().expect("seven bytes");
        strake_by_hand::decode(frame)
    });
}

#[divan::bench]
fn strake_single_yemdo(bencher: Bencher<'_, '_>) {
    single(bencher, "strake-20", &strake_frames(), 7);
}

#[divan::bench]
fn thole_many_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = thole_frames();
    let mut out = vec![0.0; FRAMES];
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        for (frame, out) in black_box(&bytes).chunks_exact(3).zip(&mut out) {
            let frame: &[u8; 3] = frame.try_into().expect("three bytes");
            *out = thole_by_hand::decode(frame).unwrap_or(f64::NAN);
        }
        black_box(&out).len()
    });
}

#[divan::bench]
fn thole_many_yemdo(bencher: Bencher<'_, '_>) {
    many(bencher, "thole-9", thole_frames());
}

#[divan::bench]
fn thole_single_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = thole_frames();
    bencher.counter(ItemsCount::new(1usize)).bench_local(|| {
        let frame: &[u8; 3] = black_box(&bytes[..3]).try_into().expect("three bytes");
        thole_by_hand::decode(frame)
    });
}

#[divan::bench]
fn thole_single_yemdo(bencher: Bencher<'_, '_>) {
    single(bencher, "thole-9", &thole_frames(), 3);
}

/// A linear code of two bytes, and nothing else: no check, no condition, no range.
const LINEAR: &str = "part = \"linear-1\"\nframe.F = { read = 2, code = { c = \"signed b0 b1\" } }\nreading.r = { unit = \"K\", formula = \"c * 0.0625 + 3.5\" }\n";

fn linear_frames() -> Vec<u8> {
    let mut state = 5;
    (0..FRAMES).flat_map(|_| (scramble(&mut state) as u16).to_be_bytes()).collect()
}

#[divan::bench]
fn linear_many_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = linear_frames();
    let mut out = vec![0.0; FRAMES];
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        for (frame, out) in black_box(&bytes).chunks_exact(2).zip(&mut out) {
            *out = f64::from(i16::from_be_bytes([frame[0], frame[1]])) * 0.0625 + 3.5;
        }
        black_box(&out).len()
    });
}

#[divan::bench]
fn linear_many_yemdo(bencher: Bencher<'_, '_>) {
    let part = Part::parse("linear", LINEAR).expect("the sheet is sound");
    let (bytes, mut columns) = (linear_frames(), Columns::new());
    let mut decoder = Decoder::new(&part);
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        decoder.decode_many(0, black_box(&bytes), &mut columns).expect("whole frames");
        black_box(&columns).len()
    });
}

/// The integer compensation of binnacle-24, its calibration known.
mod binnacle_by_hand {
    #[derive(Clone, Copy)]
    pub(super) struct Calibration {
        pub(super) p1: i64,
        pub(super) p2: i64,
        pub(super) p3: i64,
        pub(super) p4: i64,
        pub(super) k8: i64,
        pub(super) fine: i64,
    }

    #[inline]
    pub(super) fn pressure(frame: &[u8; 3], c: &Calibration) -> f64 {
        let raw = i64::from(frame[0]) << 16 | i64::from(frame[1]) << 8 | i64::from(frame[2]);
        let span = (c.p1 << 10) + ((c.p2 * c.fine) >> 4);
        let offset = (c.p3 << 7) + ((c.p4 * c.fine) >> 6);
        if span <= 0 {
            return 0.0;
        }
        let mut p = ((raw - offset) << 20) / span;
        p += (((p * p) >> 20) * c.k8) >> 14;
        f64::from(p.max(0) as i32) / 100.0
    }
}

fn pressure_frames() -> Vec<u8> {
    let mut state = 3;
    (0..FRAMES).flat_map(|_| ((9_500_000 + scramble(&mut state) % 900_000) as u32).to_be_bytes().into_iter().skip(1)).collect()
}

#[divan::bench]
fn compensation_many_by_hand(bencher: Bencher<'_, '_>) {
    let bytes = pressure_frames();
    let mut out = vec![0.0; FRAMES];
    let c = black_box(binnacle_by_hand::Calibration { p1: 46372, p2: -3127, p3: 43981, p4: 2214, k8: 117, fine: 209 });
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        for (frame, out) in black_box(&bytes).chunks_exact(3).zip(&mut out) {
            *out = binnacle_by_hand::pressure(frame.try_into().expect("three bytes"), &c);
        }
        black_box(&out).len()
    });
}

#[divan::bench]
fn compensation_many_yemdo(bencher: Bencher<'_, '_>) {
    // The integer pressure alone, as the hand-written code has it.
    let path = format!("{}/../sheets/binnacle-24.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("the sheet is there");
    let head = text.split_once("# The same in floating point").map_or("", |(head, _)| head);
    let part = Part::parse("binnacle", head).expect("the sheet is sound");
    let mut decoder = Decoder::new(&part);
    let hex = |text: &str| yemdo::bits::hex::parse_hex(text).expect("hex");
    decoder.decode(0, &hex("79 E8 3A 19 B5 24 F3 C9 AB CD 08 A6 E7 F0 75 5A")).expect("a good calibration");
    decoder.decode(1, &hex("7A 5C 38")).expect("a good temperature");
    let (bytes, mut columns) = (pressure_frames(), Columns::new());
    bencher.counter(ItemsCount::new(FRAMES)).bench_local(|| {
        decoder.decode_many(2, black_box(&bytes), &mut columns).expect("whole frames");
        black_box(&columns).len()
    });
}
