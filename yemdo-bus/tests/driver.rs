//! A small driver as one writes it by hand, tested against the datasheet: written well it earns no violation, and every mistake that is
//! planted in it is found. `docs/stand-ins.md` shows it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::path::Path;

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::InputPin;
use embedded_hal::i2c::I2c;
use embedded_hal::spi::SpiDevice;
use yemdo::Part;
use yemdo::stand_in::{Fault, Rule, Signal, StandIn};
use yemdo_bus::Rig;

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

// begin: the driver in docs/stand-ins.md
/// The air probe of the hall, by hand.
struct Probe<I, D> {
    i2c: I,
    delay: D,
}

impl<I: I2c, D: DelayNs> Probe<I, D> {
    /// The temperature in hundredths of a degree.
    fn temperature(&mut self) -> Result<i32, &'static str> {
        self.i2c.write(0x2C, &[0x5A, 0x10]).map_err(|_| "no answer")?;
        self.delay.delay_ms(16);
        let mut frame = [0; 7];
        self.i2c.read(0x2C, &mut frame).map_err(|_| "no answer")?;
        if crc(&frame[..6]) != frame[6] {
            return Err("check failed");
        }
        if frame[5] & 0b11 != 0b10 {
            return Err("not ready");
        }
        let code = (i32::from(frame[3] & 0x3F) << 26 | i32::from(frame[4]) << 18) >> 18;
        Ok(code * 3 / 2 + 2000)
    }
}

fn crc(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0x5A, |crc, byte| (0..8).fold(crc ^ byte, |crc, _| if crc & 0x80 != 0 { crc << 1 ^ 0x4D } else { crc << 1 }))
}
// end

fn rig(name: &str, world: &[(&str, &str)]) -> Rig {
    let part = sheet(name);
    let mut stand_in = StandIn::new(&part, 2).unwrap();
    for (reading, signal) in world {
        stand_in.set(part.reading(reading).unwrap(), Signal::parse(signal).unwrap()).unwrap();
    }
    let rig = Rig::new();
    rig.add(stand_in);
    rig
}

// begin: the test in docs/stand-ins.md
#[test]
fn the_driver_does_what_the_datasheet_says() {
    for celsius in ["-7.4", "0", "21.5", "83"] {
        let rig = rig("strake-20", &[("temperature", celsius)]);
        let mut probe = Probe { i2c: rig.i2c(), delay: rig.delay() };
        let wanted: f64 = celsius.parse().unwrap();
        let found = f64::from(probe.temperature().unwrap()) / 100.0;
        assert!((found - wanted).abs() < 0.02, "{found} °C, not {wanted} °C");
        assert_eq!(rig.verdict(), []);
    }
}
// end

/// What a driver of the light sensor can do wrong; none of it is none.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Slip {
    None,
    /// A reserved bit is set along with the start bit.
    Reserved,
    /// It takes the time of another setting.
    ShortWait,
    /// The status is never read.
    NoStatus,
    /// It never starts a conversion.
    NoStart,
    /// It writes the gain's code of an older part.
    OldGain,
    /// It reads the low byte alone.
    HalfRegister,
    /// It counts addresses by bytes.
    ByteAddresses,
    /// It writes a limit into the register that only identifies.
    WrongRegister,
}

/// Reads the light at a gain of 5 and 54 ms.
fn light(i2c: &mut impl I2c, delay: &mut impl DelayNs, slip: Slip) -> u16 {
    let gain = if slip == Slip::OldGain { 3 } else { 2 };
    let reserved = if slip == Slip::Reserved { 0x0100 } else { 0 };
    let config: u16 = 1 << 9 | gain << 1 | reserved;
    i2c.write(0x4E, &[&[0x12], &config.to_be_bytes()[..]].concat()).unwrap();
    delay.delay_ms(7);
    let limit = if slip == Slip::WrongRegister { 0x30 } else { 0x1A };
    i2c.write(0x4E, &[limit, 0xFF, 0xF8]).unwrap();
    if slip != Slip::NoStart {
        i2c.write(0x4E, &[&[0x12], &(config | 1 << 12).to_be_bytes()[..]].concat()).unwrap();
    }
    delay.delay_ms(if slip == Slip::ShortWait { 18 } else { 63 });
    if slip != Slip::NoStatus {
        i2c.write_read(0x4E, &[0x15], &mut [0; 2]).unwrap();
    }
    let mut level = [0; 2];
    match slip {
        Slip::HalfRegister => i2c.write_read(0x4E, &[0x21], &mut level[..1]).unwrap(),
        Slip::ByteAddresses => i2c.write_read(0x4E, &[0x42], &mut level).unwrap(),
        _ => i2c.write_read(0x4E, &[0x21], &mut level).unwrap(),
    }
    u16::from_be_bytes(level)
}

#[test]
fn every_planted_mistake_is_found_and_nothing_else() {
    let cases: [(Slip, &[Rule]); 9] = [
        (Slip::None, &[]),
        (Slip::Reserved, &[Rule::ReservedBits]),
        (Slip::ShortWait, &[Rule::ReadTooEarly]),
        (Slip::NoStatus, &[Rule::StatusNotRead]),
        (Slip::NoStart, &[Rule::NotStarted]),
        (Slip::OldGain, &[Rule::UndefinedValue]),
        (Slip::HalfRegister, &[Rule::PartOfRegister]),
        (Slip::ByteAddresses, &[Rule::UnknownRegister]),
        (Slip::WrongRegister, &[Rule::ReadOnly]),
    ];
    for (slip, rules) in cases {
        let rig = rig("lantern-16", &[("illuminance", "30")]);
        let level = light(&mut rig.i2c(), &mut rig.delay(), slip);
        let verdict = rig.verdict();
        let mut found: Vec<Rule> = verdict.iter().map(|(_, violation)| violation.rule).collect();
        found.dedup();
        assert_eq!(found, rules, "{slip:?}: {verdict:#?}");
        if slip == Slip::None {
            // 30 lx · 5 · 54 ms / 8.1
            assert_eq!(level, 1000);
        }
        // Each says where in the sheet the rule stands, but for addresses that are not in it.
        let places = verdict.iter().all(|(_, violation)| violation.line.is_some() || violation.rule == Rule::UnknownRegister);
        assert!(places, "{slip:?}: {verdict:#?}");
    }
}

/// The cradle's motion over SPI, with its data-ready line.
#[test]
fn a_driver_on_spi_with_a_line() {
    for early in [false, true] {
        let rig = rig("keelson-6", &[("acceleration_z", "0.5")]);
        let (mut spi, mut line, mut delay) = (rig.spi(0), rig.line(0), rig.delay());
        // Off, the line on, then 68 Hz at 6 g; addresses are shifted by two, 1 reads, 2 counts up.
        spi.write(&[0x2C << 2, 0x01]).unwrap();
        spi.write(&[0x29 << 2, 0x10]).unwrap();
        spi.write(&[0x2C << 2, 0x41]).unwrap();
        if early {
            // Written while it runs.
            spi.write(&[0x29 << 2, 0x00]).unwrap();
        }
        let mut waited = 0;
        while line.is_low().unwrap() {
            delay.delay_us(100);
            waited += 100;
            assert!(waited < 50_000, "the line never comes");
        }
        let mut frame = [0; 15];
        frame[0] = 0x30 << 2 | 0x03;
        spi.transfer_in_place(&mut frame).unwrap();
        assert_eq!(i16::from_le_bytes([frame[13], frame[14]]), 2500);
        // Once it is read, the line falls until the next sample.
        assert!(line.is_low().unwrap());
        let rules: Vec<Rule> = rig.verdict().iter().map(|(_, violation)| violation.rule).collect();
        assert_eq!(rules, if early { vec![Rule::Locked] } else { vec![] });
    }
}

/// What the document shows is what is tested here.
#[test]
fn the_document_shows_this_driver() {
    let own = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/driver.rs")).unwrap();
    let document = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/stand-ins.md")).unwrap();
    let shown: Vec<&str> =
        own.split("// begin: ").skip(1).map(|rest| rest.split_once('\n').unwrap().1.split("// end").next().unwrap()).collect();
    // The last one is this line's own.
    for part in &shown[..2] {
        assert!(document.contains(part.trim()), "docs/stand-ins.md does not show:\n{part}");
    }
}

/// Alerts come out on a pin, and faults are only noticed by those who look.
#[test]
fn an_alert_comes_out_on_its_pin() {
    let rig = rig("thole-9", &[("temperature", "10 - t")]);
    let (mut i2c, mut pin, mut delay) = (rig.i2c(), rig.alert(0), rig.delay());
    // The lower threshold at 4.16 °C, the upper one at 5.12 °C.
    i2c.write(0x51, &[0x26, 0x03, 0x40]).unwrap();
    i2c.write(0x51, &[0x22, 0x04, 0x00]).unwrap();
    let mut seconds = 0;
    while pin.is_low().unwrap() {
        delay.delay_ms(500);
        seconds += 1;
        assert!(seconds < 40, "it never comes");
    }
    assert!((10..14).contains(&seconds), "{seconds}");
    // Nobody has read the frame that tells of it.
    assert_eq!(rig.verdict().iter().map(|(_, violation)| violation.rule).collect::<Vec<_>>(), [Rule::AlertNotCleared]);
    i2c.write_read(0x51, &[0x31], &mut [0; 3]).unwrap();
    assert_eq!(rig.verdict(), []);
}

/// The document's tables are the library's own words.
#[test]
fn the_document_has_every_rule_and_every_fault() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../docs/stand-ins.md");
    let rules = Rule::ALL.iter().map(|rule| format!("| {} | {} |", rule.as_str(), rule.effect()));
    let rules = format!("| violation | possible effect |\n|---|---|\n{}", rules.collect::<Vec<_>>().join("\n"));
    let faults = Fault::ALL.iter().map(|fault| format!("| `{}` | {} | {} |", fault.as_str(), fault.what(), fault.client()));
    let faults = format!("| fault | effect | response of the client |\n|---|---|---|\n{}", faults.collect::<Vec<_>>().join("\n"));
    let document = fs::read_to_string(&path).unwrap();
    if std::env::var_os("UPDATE").is_some() {
        fs::write(&path, document.replace("\nRULES\n", &format!("\n{rules}\n")).replace("\nFAULTS\n", &format!("\n{faults}\n"))).unwrap();
        return;
    }
    assert!(document.contains(&rules) && document.contains(&faults), "put RULES and FAULTS in place of the tables, and run with UPDATE=1");
}
