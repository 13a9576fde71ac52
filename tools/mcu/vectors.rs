//! Goes through the vectors of three parts on a Cortex-M; `main` gives 0 where all agree.
#![no_std]
#![allow(dead_code, clippy::all)]

mod binnacle_24;
mod binnacle_24_vectors;
mod strake_20;
mod strake_20_vectors;
mod thole_9;
mod thole_9_vectors;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    loop {}
}

#[unsafe(no_mangle)]
pub extern "C" fn main() -> i32 {
    let all = [
        thole_9_vectors::check(thole_9_vectors::RECORDS),
        strake_20_vectors::check(strake_20_vectors::RECORDS),
        binnacle_24_vectors::check(binnacle_24_vectors::RECORDS),
    ];
    i32::from(!all.iter().all(|one| one.is_ok_and(|count| count > 0)))
}
