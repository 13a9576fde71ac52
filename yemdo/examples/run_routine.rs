//! Sets a part up and runs its routine: `cargo run --example run_routine`.
//!
//! The routine asks, and whoever has the bus answers. Here that is a lamp that is made up of a few lines; a program on
//! Linux or in a test answers in the same way from its own bus.

#![allow(clippy::print_stdout, unreachable_pub, missing_docs)] // an example prints; a test runs it

use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::routine::{Answer, Operation, Runner};
use yemdo::{Decoder, Part, State};

pub fn main() -> Result<(), Box<dyn std::error::Error>> {
    let part = Part::parse("lantern-16.toml", include_str!("../../sheets/lantern-16.toml"))?;

    // What is wished, in the datasheet's words, becomes register values, and what the part will really use.
    let wishes = [Wish::parse(&part, "GAIN=fivefold")?, Wish::parse(&part, "TIME=54 ms")?, Wish::parse(&part, "upper_limit=750 lx")?];
    let done = configure(&part, &State::reset(&part), &wishes, WriteScope::Changed)?;
    for write in &done.writes {
        let name = part.registers().get(write.register).map_or("", |register| register.name());
        println!("write {name} = 0x{:04X}", write.value);
    }

    // The routine is a list of operations that depends on the answers.
    let mut runner = Runner::new(&part, part.routine("measure")?, done.state)?;
    let mut lamp = Lamp { config: 0x8204, looks: 0 };
    let mut asked = runner.start()?;
    while let Some(next) = asked {
        asked = match &next.operation {
            Operation::Transfer(transfer) => {
                println!("{:>8.3} ms  {:24} {}", next.at.0 as f64 / 1000.0, transfer.text(), next.meaning);
                match lamp.transfer(&transfer.send) {
                    Some(bytes) => runner.answer(Answer::Bytes(&bytes))?,
                    None => runner.answer(Answer::Done)?,
                }
            }
            // A program would wait here.
            _ => runner.answer(Answer::Done)?,
        };
    }

    // What came is decoded with the settings as they are now.
    let mut decoder = Decoder::new(&part);
    *decoder.state_mut() = runner.state().clone();
    let light = part.frame("LIGHT")?;
    let bytes = runner.frame(light).ok_or("no frame came")?;
    for reading in decoder.decode(light, bytes)?.readings {
        println!("{}: {reading}", reading.name);
    }
    Ok(())
}

/// A lamp that takes a while.
struct Lamp {
    config: u16,
    looks: u32,
}

impl Lamp {
    /// What comes back, if anything does.
    fn transfer(&mut self, send: &[u8]) -> Option<Vec<u8>> {
        match *send {
            [0x12, high, low] => {
                self.config = u16::from_be_bytes([high, low]);
                None
            }
            [0x30] => Some(vec![0x4C, 0x61]),
            [0x12] => Some((self.config & !0x1000).to_be_bytes().to_vec()),
            [0x15] => {
                self.looks += 1;
                Some(vec![0, u8::from(self.looks > 2) << 5])
            }
            _ => Some(vec![0x17, 0x70, 0x0D, 0xAC]),
        }
    }
}
