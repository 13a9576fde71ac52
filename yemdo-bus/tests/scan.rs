//! Who answers, and which sheet it could be: confirmed by what can be read, and never by writing.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::cell::RefCell;
use std::fs;
use std::path::Path;

use yemdo::Part;
use yemdo::bus::{Bus, Transfer};
use yemdo::stand_in::StandIn;
use yemdo_bus::scan::{Answered, Evidence, I2C_ADDRESSES, candidates_i2c, probe_i2c, probe_modbus};
use yemdo_bus::{BusError, Cause, Checked, Rig};

fn sheet(name: &str) -> Part {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets").join(format!("{name}.toml"));
    Part::parse(name, &fs::read_to_string(path).unwrap()).unwrap()
}

#[test]
fn parts_on_i2c_are_found_and_confirmed_without_writing() {
    let names = ["strake-20", "lantern-16", "ember-14", "thole-9", "keelson-6"];
    let parts: Vec<Part> = names.iter().map(|name| sheet(name)).collect();
    let rig = Rig::new();
    for part in &parts {
        // The lantern is another one than its sheet says; the probe's second address is taken, too.
        let text = part.source().text().replace("reset  = 0x4C61", "reset  = 0x4C62");
        rig.add(StandIn::new(&Part::parse(part.name(), &text).unwrap(), 1).unwrap());
    }
    rig.add(StandIn::new(&sheet("strake-20").with_address(0x2D).unwrap(), 1).unwrap());
    let sent = RefCell::new(Vec::new());
    let mut port = Checked::new(rig.port(0, Bus::I2c), |transfer: &Transfer| {
        sent.borrow_mut().push(transfer.clone());
        Ok(())
    });
    let mut found = Vec::new();
    for address in I2C_ADDRESSES {
        if probe_i2c(&mut port, address).unwrap() == Some(Answered::Acknowledged) {
            found.push((address, candidates_i2c(&mut port, address, &parts)));
        }
    }
    let told: Vec<(u8, &str, &Evidence)> = found.iter().map(|(at, list)| (*at, list[0].part.as_str(), &list[0].evidence)).collect();
    let check = |text: &str| Evidence::Check(text.into());
    assert_eq!(
        told,
        [
            (0x2C, "strake-20", &check("CRC-8 of AIR")),
            (0x2D, "strake-20", &check("CRC-8 of AIR")),
            (0x35, "ember-14", &Evidence::Identity("identify".into())),
            (0x4E, "lantern-16", &Evidence::Not("expected IDENTITY == 0x4C61, found IDENTITY = 0x4C62".into())),
            (0x51, "thole-9", &check("inverted 8-bit sum of FROST")),
            (0x55, "keelson-6", &Evidence::Address),
        ]
    );
    // Nothing but register addresses and commands that read was ever sent, and nothing to reserved addresses.
    assert!(sent.borrow().iter().all(|transfer| transfer.receive > 0 && transfer.send.len() <= 1));
    assert!(sent.borrow().iter().all(|transfer| I2C_ADDRESSES.contains(&transfer.address.unwrap())));
}

#[test]
fn modbus_units_are_found_by_a_register_or_an_exception() {
    let rig = Rig::new();
    let other = "part = \"other-1\"\nmodbus = { unit = 5, numbering = \"from 0\" }\nframe.X = { holding = \"4..5\", code = { x = \"w0\" } }\nreading.x = { unit = \"1\", formula = \"x\" }\n";
    let other = Part::parse("other-1", other).unwrap();
    let garboard = rig.add(StandIn::new(&sheet("garboard-rs"), 1).unwrap());
    let second = rig.add(StandIn::new(&other, 1).unwrap());
    let parts = [sheet("garboard-rs"), other];
    let found = probe_modbus(&mut rig.port(garboard, Bus::Modbus), 17, &parts).unwrap().unwrap();
    assert_eq!(found.answered, Answered::Response);
    let told: Vec<(&str, &Evidence)> = found.candidates.iter().map(|candidate| (candidate.part.as_str(), &candidate.evidence)).collect();
    assert_eq!(told[0], ("garboard-rs", &Evidence::Register));
    assert!(matches!(told[1], ("other-1", Evidence::Not(_))), "{told:?}");
    assert_eq!(probe_modbus(&mut rig.port(garboard, Bus::Modbus), 16, &parts).unwrap(), None);
    // Without a sheet, an exception is an answer.
    let found = probe_modbus(&mut rig.port(second, Bus::Modbus), 5, &[]).unwrap().unwrap();
    assert_eq!((found.answered, found.candidates.len()), (Answered::Exception(2), 0));
}

/// A bus that is gone, or held, is no bus without parts.
#[test]
fn a_bus_that_fails_is_told() {
    let failing = |cause: Cause| Checked::new(Rig::new().port(0, Bus::I2c), move |_: &Transfer| Err(BusError::new(cause, "it fails")));
    for (cause, found) in
        [(Cause::Nak, Some(None)), (Cause::InUse, Some(Some(Answered::TakenByDriver))), (Cause::Gone, None), (Cause::Stuck, None)]
    {
        assert_eq!(probe_i2c(&mut failing(cause), 0x20).ok(), found, "{cause:?}");
    }
    assert!(probe_modbus(&mut failing(Cause::Gone), 1, &[]).is_err());
    assert_eq!(probe_modbus(&mut failing(Cause::TimeOut), 1, &[]).unwrap(), None);
}
