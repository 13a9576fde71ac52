//! So many frames through a decoder, by hand or emitted, for callgrind to count: `measured thole|strake|binnacle hand|emitted COUNT`.

// Frames come by reference on both sides, as emitted decoders take them.
#![allow(clippy::trivially_copy_pass_by_ref)]

use std::hint::black_box;

use firmware_tests::double::{binnacle_24, strake_20, thole_9};

#[path = "../by_hand.rs"]
mod by_hand;
use by_hand::{Words, binnacle_by_hand, strake_by_hand, thole_by_hand};

fn main() {
    let args: Vec<String> = std::env::args().collect();
    let (hand, count) = (args[2] == "hand", args[3].parse::<u32>().unwrap());
    let words = [0x7A, 0xB4, 0x3B, 0x45, 0xB0, 0x98, 0x8C, 0x1F, 0xB5, 0xC2, 0x08, 0xA6, 0xE0, 0x40, 0xE7, 0xAE];
    let calibration = binnacle_24::CalibrationFrame::unpack(&words).unwrap();
    let own = Words { t0: 31412, t1: 15173, p1: 45208, p2: 35871, p3: 46530, p4: 2214, k7: -128, k8: 231 };
    let before = binnacle_24::TemperatureFrame { raw_temperature: 8_346_680 };
    for _ in 0..count {
        match (args[1].as_str(), hand) {
            ("thole", true) => {
                let _ = black_box(thole_by_hand(black_box(&[0x10, 0xAC, 0x43])));
            }
            ("thole", false) => {
                let _ = black_box(thole_9::FrostFrame::unpack(black_box(&[0x10, 0xAC, 0x43])).map(|frame| frame.readings()));
            }
            ("strake", true) => {
                let _ = black_box(strake_by_hand(black_box(&[0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24])));
            }
            ("strake", false) => {
                let _ = black_box(
                    strake_20::AirFrame::unpack(black_box(&[0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24])).map(|frame| frame.readings()),
                );
            }
            (_, true) => {
                let _ = black_box(binnacle_by_hand(black_box(&own), black_box(8_346_680), black_box(&[0x84, 0x6B, 0x40])));
            }
            (_, false) => {
                let frame = binnacle_24::PressureFrame::unpack(black_box(&[0x84, 0x6B, 0x40])).unwrap();
                let _ = black_box(frame.pressure(black_box(&calibration), black_box(&before)));
            }
        }
    }
}
