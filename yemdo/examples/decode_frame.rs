//! From a sheet and one raw frame to readings.
//!
//! `cargo run -p yemdo --example decode_frame`

#![allow(clippy::print_stdout, unreachable_pub, missing_docs)] // an example prints; a test runs it

pub fn main() -> Result<(), Box<dyn std::error::Error>> {
    let text = include_str!("../../sheets/strake-20.toml");
    let part = yemdo::Part::parse("strake-20.toml", text)?;
    let mut decoder = yemdo::Decoder::new(&part);

    // As it came over the bus.
    let frame = yemdo::bits::hex::parse_hex("41 F8 31 BB C8 98 61")?;
    let decoded = decoder.decode(0, &frame)?;
    for reading in &decoded.readings {
        let code = reading.codes.first().map_or(String::new(), |code| code.value.to_string());
        match reading.value {
            Some(value) => println!("{:12} code {code:>6}  {value:8.3} {}  {}", reading.name, reading.unit, reading.status.word()),
            None => println!("{:12} code {code:>6}  {}", reading.name, reading.status.word()),
        }
    }

    // A flipped bit does not go unseen.
    let damaged = [0x41, 0xF8, 0x33, 0xBB, 0xC8, 0x98, 0x61];
    if let Err(refusal) = decoder.decode(0, &damaged) {
        println!("{refusal}");
    }
    Ok(())
}
