//! One call of a decoder, or none, on a Cortex-M: what lies between is what the call costs. Built with `--cfg part="1"`, `"2"` or `"3"`, with
//! `--cfg hand` for what is written by hand, and with `--cfg calls`.
#![no_std]
#![allow(dead_code, unexpected_cfgs, clippy::all)]

mod binnacle_24;
mod by_hand;
mod strake_20;
mod thole_9;

use core::hint::black_box;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    loop {}
}

/// What is measured.
mod measured {
    use super::*;

    #[cfg(all(part = "1", hand))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> by_hand::Reading {
        by_hand::thole_by_hand(&[bytes[0], bytes[1], bytes[2]]).unwrap_or((0.0, by_hand::Status::Invalid))
    }

    #[cfg(all(part = "1", not(hand)))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> thole_9::Reading {
        let none = thole_9::Reading { value: 0.0, status: thole_9::Status::OutOfRange };
        thole_9::FrostFrame::unpack(&[bytes[0], bytes[1], bytes[2]]).map_or(none, |frame| frame.temperature())
    }

    #[cfg(all(part = "2", hand))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> [by_hand::Reading; 3] {
        by_hand::strake_by_hand(bytes).unwrap_or([(0.0, by_hand::Status::Invalid); 3])
    }

    #[cfg(all(part = "2", not(hand)))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> [strake_20::Reading; 3] {
        strake_20::AirFrame::unpack(bytes).map_or([strake_20::Reading { value: 0.0, status: strake_20::Status::Invalid }; 3], |frame| {
            [frame.temperature(), frame.humidity(), frame.supply()]
        })
    }

    #[cfg(all(part = "3", hand))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> by_hand::Reading {
        static WORDS: by_hand::Words =
            by_hand::Words { t0: 31412, t1: 15173, p1: 45208, p2: 35871, p3: 46530, p4: 2214, k7: -128, k8: 231 };
        by_hand::binnacle_by_hand(black_box(&WORDS), black_box(8_346_680), &[bytes[0], bytes[1], bytes[2]])
    }

    #[cfg(all(part = "3", not(hand)))]
    #[inline(never)]
    pub fn call(bytes: &[u8; 7]) -> binnacle_24::Reading {
        static WORDS: binnacle_24::CalibrationFrame =
            binnacle_24::CalibrationFrame { t0: 31412, t1: 15173, p1: 45208, p2: 35871, p3: 46530, p4: 2214, k7: -128, k8: 231 };
        let before = black_box(binnacle_24::TemperatureFrame { raw_temperature: 8_346_680 });
        let none = binnacle_24::Reading { value: 0.0, status: binnacle_24::Status::NotReady };
        let frame = binnacle_24::PressureFrame::unpack(&[bytes[0], bytes[1], bytes[2]]);
        frame.map_or(none, |frame| frame.pressure(black_box(&WORDS), &before))
    }
}

#[unsafe(no_mangle)]
pub extern "C" fn main() -> i32 {
    #[cfg(part = "1")]
    let bytes = [0x10, 0xAC, 0x43, 0, 0, 0, 0];
    #[cfg(part = "2")]
    let bytes = [0x89, 0x87, 0x1C, 0x3E, 0x0C, 0x12, 0x24];
    #[cfg(part = "3")]
    let bytes = [0x84, 0x6B, 0x40, 0, 0, 0, 0];
    let bytes = black_box(bytes);
    #[cfg(calls)]
    black_box(measured::call(&bytes));
    0
}
