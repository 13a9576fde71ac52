//! The guard against a stand-in of its sensor, which judges how it is talked to.

use frost_guard::{Guard, Warning};
use yemdo::Part;
use yemdo::stand_in::{Signal, StandIn};
use yemdo_bus::Rig;

fn bench(celsius: &str) -> Rig {
    let part = Part::parse("thole-9.toml", include_str!("../thole-9.toml")).unwrap();
    let mut stand_in = StandIn::new(&part, 1).unwrap();
    stand_in.set(part.reading("temperature").unwrap(), Signal::parse(celsius).unwrap()).unwrap();
    let rig = Rig::new();
    rig.add(stand_in);
    rig
}

#[test]
fn the_guard_tells_frost_from_warmth() {
    for (celsius, frost) in [("-3.1", true), ("12.4", false)] {
        let rig = bench(celsius);
        let mut guard = Guard::new(rig.i2c(), rig.delay());
        let warning = guard.look().unwrap();
        assert_eq!(matches!(warning, Warning::Frost(_)), frost, "{warning:?}");
        // The part has nothing to complain of.
        assert_eq!(rig.verdict(), []);
    }
}

#[test]
fn without_a_sensor_there_is_an_error() {
    let rig = Rig::new();
    let mut guard = Guard::new(rig.i2c(), rig.delay());
    assert!(guard.look().is_err());
}
