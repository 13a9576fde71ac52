//! From a sheet and one raw frame to readings.
//!
//! `cargo run -p yemdo --example decode_frame`

#![allow(clippy::print_stdout, unreachable_pub, missing_docs)] // an example prints; a test runs it

use yemdo::{Decoder, Part};

pub fn main() -> Result<(), Box<dyn std::error::Error>> {
    let text = include_str!("../../sheets/strake-20.toml");
    // As it came over the bus.
    let bytes = yemdo::parse_hex("89 87 1C 3E 0C 12 24")?;

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
    let damaged = [0x89, 0x87, 0x1E, 0x3E, 0x0C, 0x12, 0x24];
    if let Err(refusal) = decoder.decode(air, &damaged) {
        println!("{refusal}");
    }
    if let Err(unknown) = part.frame("ARI") {
        println!("{unknown}");
    }
    Ok(())
}
