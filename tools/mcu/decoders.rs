//! The pure decoders of three parts, called from C on a Cortex-M: no standard library, no allocator, and, as the linker shows, no
//! way to a panic. With `--cfg vectors` the tests of the modules, too.
#![no_std]
#![allow(dead_code, clippy::all)]

mod binnacle_24;
mod strake_20;
mod thole_9;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    loop {}
}

macro_rules! decoder {
    ($name:ident, $module:ident, $frame:ident, $length:literal, $readings:ident) => {
        #[unsafe(no_mangle)]
        pub extern "C" fn $name(bytes: &[u8; $length], out: &mut $module::$readings) -> bool {
            let Some(frame) = $module::$frame::unpack(bytes) else { return false };
            *out = frame.readings();
            true
        }
    };
}

decoder!(thole_9_decode, thole_9, FrostFrame, 3, FrostReadings);
decoder!(strake_20_decode, strake_20, AirFrame, 7, AirReadings);

#[unsafe(no_mangle)]
pub extern "C" fn binnacle_24_decode(
    words: &[u8; 16],
    temperature: &[u8; 3],
    pressure: &[u8; 3],
    out: &mut binnacle_24::PressureReadings,
) -> bool {
    let Some(words) = binnacle_24::CalibrationFrame::unpack(words) else { return false };
    let Some(temperature) = binnacle_24::TemperatureFrame::unpack(temperature) else { return false };
    let Some(pressure) = binnacle_24::PressureFrame::unpack(pressure) else { return false };
    *out = pressure.readings(&words, &temperature);
    true
}
