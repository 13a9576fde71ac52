//! From a sheet and one raw frame to readings.
//!
//! `cargo run -p yemdo --example decode_frame`

#![allow(clippy::print_stdout, unreachable_pub, missing_docs)] // an example prints; a test runs it

use yemdo::{Decoder, Part};

pub fn main() -> Result<(), Box<dyn std::error::Error>> {
    let text = include_str!("../../sheets/strake-20.toml");
    // As it came over the bus.
    let bytes = yemdo::parse_hex("41 F8 31 BB C8 98 61")?;

    let part = Part::parse("strake-20.toml", text)?;
    let mut decoder = Decoder::new(&part);
    let air = part.frame("AIR")?;
    let decoded = decoder.decode(air, &bytes)?;
    let temperature = decoded.reading("temperature")?;
    println!("{temperature}");

    // The others, with the codes that they come from.
    for reading in &decoded.readings {
        let codes: Vec<String> = reading.codes.iter().map(|code| format!("{} = {}", code.name, code.value)).collect();
        println!("{:12} {reading}, {}", reading.name, codes.join(", "));
    }

    // A flipped bit is seen; a wrong name says what it may have meant.
    let damaged = [0x41, 0xF8, 0x33, 0xBB, 0xC8, 0x98, 0x61];
    if let Err(refusal) = decoder.decode(air, &damaged) {
        println!("{refusal}");
    }
    if let Err(unknown) = part.frame("ARI") {
        println!("{unknown}");
    }
    Ok(())
}
