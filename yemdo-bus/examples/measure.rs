//! A part is configured and measured with, over any I2C of embedded-hal; here the bench of a stand-in.
//!
//! `cargo run -p yemdo-bus --example measure`

use std::error::Error;
use std::io::Write as _;

use yemdo::Part;
use yemdo::stand_in::{Signal, StandIn};
use yemdo_bus::{Device, Rig};

fn main() -> Result<(), Box<dyn Error>> {
    let part = Part::parse("lantern-16.toml", include_str!("../../sheets/lantern-16.toml"))?;

    // On a Linux board this is `yemdo_bus::linux::I2cBus`, on a microcontroller the HAL's own I2C and timer.
    let rig = Rig::new();
    let mut stand_in = StandIn::new(&part, 1)?;
    stand_in.set(part.reading("illuminance")?, Signal::parse("120 + 40 * sin(t)")?)?;
    rig.add(stand_in);
    let mut lantern = Device::i2c(rig.i2c(), part)?.with_delay(rig.delay());

    lantern.configure(&["GAIN=fivefold", "TIME=54 ms", "upper_limit=150 lx"])?;
    let mut out = std::io::stdout().lock();
    for _ in 0..4 {
        let light = lantern.measure()?;
        writeln!(out, "{:.3} s  {}", rig.now() as f64 / 1e6, light.reading("illuminance")?)?;
        rig.pass(1_000_000);
    }
    // What the client did against the datasheet: nothing.
    assert!(rig.verdict().is_empty());
    Ok(())
}
