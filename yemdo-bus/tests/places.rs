//! Places, times, bench files and the machine's buses, as they are typed and as they are refused.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use proptest::prelude::*;
use yemdo::Part;
use yemdo::bus::{Bus, Transfer};
use yemdo::record::Traffic;
use yemdo_bus::bench::{self, BenchError, clashes, duration};
use yemdo_bus::linux::{OpenError, PlaceOptions, list, new_ones, open};
use yemdo_bus::place::Place;
use yemdo_bus::{Cause, Rig};

fn sheets() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../sheets")
}

fn sheet(name: &str) -> Part {
    Part::parse(name, &fs::read_to_string(sheets().join(format!("{name}.toml"))).unwrap()).unwrap()
}

#[test]
fn places_are_read_and_shown() {
    for (typed, shown) in [
        ("i2c:1", "i2c:1"),
        ("i2c:/dev/i2c-7@0x2D", "i2c:7@0x2D"),
        ("i2c:/dev/i2c/hall@45", "i2c:/dev/i2c/hall@0x2D"),
        ("spi:0.1", "spi:0.1"),
        ("spi:0.1,2MHz", "spi:0.1,2000kHz"),
        ("spi:/dev/spidev1.0,500kHz", "spi:1.0,500kHz"),
        ("rtu:/dev/ttyUSB0", "rtu:/dev/ttyUSB0"),
        ("rtu:/dev/ttyUSB0,even,9600,2@17", "rtu:/dev/ttyUSB0,9600,even,2@17"),
        ("rtu:/dev/ttyS1,rs485@3", "rtu:/dev/ttyS1,rs485@3"),
        ("rtu:/dev/ttyS1,echo,9600", "rtu:/dev/ttyS1,9600,echo"),
        ("tcp:hall.example", "tcp:hall.example:502"),
        ("tcp:192.0.2.7:1502@3", "tcp:192.0.2.7:1502@3"),
        ("tcp:[::1]:1502", "tcp:[::1]:1502"),
        ("stand-in", "stand-in"),
        ("stand-in:spi; temperature = 20 + t ;seed=3", "stand-in:spi;temperature=20 + t;seed=3"),
        ("recording:day one.txt", "recording:day one.txt"),
    ] {
        let place = Place::parse(typed).unwrap_or_else(|error| panic!("{typed}: {error}"));
        assert_eq!(place.to_string(), shown);
        assert_eq!(Place::parse(shown).unwrap(), place, "{typed}");
    }
}

#[test]
fn what_names_no_place_is_told_with_what_to_write() {
    for (typed, message, help) in [
        ("", "`` does not say where the part is", "write i2c:1"),
        ("i2c", "`i2c` does not say where the part is", "write i2c:1"),
        ("usb:3", "`usb:3` does not say where the part is", "write i2c:1"),
        ("i2c:1@0x58x", "`0x58x` behind @ is not an address", "write a 7-bit address as 0x2C"),
        ("i2c:1@0xAC", "0xAC is not a 7-bit address", "write 0x56"),
        ("spi:0.0,fast", "`fast` is not a clock", "write 500kHz"),
        ("spi:0.0,0Hz", "`0Hz` is not a clock", "write 500kHz"),
        ("rtu:/dev/ttyUSB0,9601x", "`9601x` is neither baud nor parity nor stop bits", "none, even, odd"),
        ("rtu:/dev/ttyUSB0@0", "0 is not a unit id", "units are 1 to 247"),
        ("tcp:hall:99999", "`99999` is not a port", "usually 502"),
        ("stand-in:temperature", "`temperature` is not an option of a stand-in", "READING=VALUE"),
    ] {
        let error = Place::parse(typed).unwrap_err();
        assert_eq!(error.message, message);
        assert!(error.help.contains(help), "{typed}: {}", error.help);
    }
}

#[test]
fn opening_says_what_is_wrong() {
    let open = |typed: &str, part: &str| open(&Place::parse(typed).unwrap(), sheet(part), &PlaceOptions::default(), None).map(drop);
    let told = |typed: &str, part: &str| {
        let error = open(typed, part).unwrap_err();
        (error.to_string(), error.help().unwrap_or_default())
    };
    assert_eq!(told("spi:0.0", "strake-20"), ("strake-20 is not reached over SPI".into(), "but over I2C".into()));
    assert_eq!(told("i2c:1@0x30", "thole-9"), ("thole-9 is never at I2C address 0x30".into(), "its addresses: 0x51".into()));
    assert_eq!(told("i2c:99", "thole-9").0, "cannot open /dev/i2c-99: there is no such device");
    assert_eq!(told("spi:9.9", "keelson-6").0, "cannot open /dev/spidev9.9: there is no such device");
    assert_eq!(told("rtu:/dev/ttyNO7", "garboard-rs").0, "cannot open /dev/ttyNO7: there is no such device");
    assert!(matches!(open("tcp:127.0.0.1:9", "garboard-rs"), Err(OpenError::Bus(error)) if error.cause == Cause::Gone));
    assert_eq!(told("stand-in:heat=3", "thole-9"), ("thole-9 has no reading `heat`".into(), "its readings: temperature".into()));
    assert_eq!(told("stand-in:seed=x", "thole-9").0, "seed=x: expected a number");
    assert!(told("stand-in:temperature=5 +", "thole-9").0.starts_with("`5 +` is not a number, `A to B in N s`, or a formula"));
    assert!(told("recording:/no/such/file", "thole-9").0.starts_with("cannot read /no/such/file: "));
    assert!(told("stand-in:temperature=@/no/such.csv", "thole-9").0.starts_with("cannot read /no/such.csv: "));
    // Several stand-ins share a bench.
    let rig = Rig::new();
    for _ in 0..2 {
        yemdo_bus::linux::open(
            &Place::parse("stand-in:temperature=5;faults=0.5;noise=on").unwrap(),
            sheet("thole-9"),
            &PlaceOptions::default(),
            Some(&rig),
        )
        .unwrap();
    }
    assert!(rig.with_part(1, |_| ()).is_some() && rig.with_part(2, |_| ()).is_none());
}

#[test]
fn a_signal_is_recorded_in_a_file() {
    let folder = std::env::temp_dir().join(format!("yemdo-signal-{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    let path = folder.join("day.csv");
    fs::write(&path, "seconds,value\n0, 10\n\n10, 20\n").unwrap();
    let place = Place::parse(&format!("stand-in:temperature=@{}", path.display())).unwrap();
    let opened = open(&place, sheet("thole-9"), &PlaceOptions::default(), None).unwrap();
    let mut device = yemdo_bus::Device::new(opened.port, opened.part, opened.bus).unwrap();
    device.port_mut().wait(5_000_000);
    let value = device.measure().unwrap().value("temperature").unwrap();
    assert!((value - 15.0).abs() < 0.2, "{value}");
    fs::write(&path, "seconds,value\n0, 10\nlater, 20\n").unwrap();
    let error = open(&place, sheet("thole-9"), &PlaceOptions::default(), None).unwrap_err();
    assert!(error.to_string().ends_with("line 3: expected seconds and a value, with a comma between"), "{error}");
    fs::remove_dir_all(&folder).unwrap();
}

#[test]
fn times_are_read() {
    for (typed, micros) in [
        ("250us", Some(250)),
        ("5 ms", Some(5_000)),
        ("2", Some(2_000_000)),
        ("1.5 s", Some(1_500_000)),
        ("1 min", Some(60_000_000)),
        ("2h", Some(7_200_000_000)),
        ("0 s", None),
        ("25 h", None),
        ("fast", None),
        ("-1 s", None),
        ("1.2.3 s", None),
    ] {
        assert_eq!(duration(typed), micros, "{typed}");
    }
}

fn parsed(text: &str) -> Result<Vec<(bench::BenchPart, Part)>, BenchError> {
    let parts = bench::parse(text, &sheets())?;
    Ok(parts
        .into_iter()
        .map(|one| {
            let part = Part::parse("sheet", &fs::read_to_string(&one.sheet).unwrap()).unwrap();
            let part = one.place.addressed(part).unwrap();
            (one, part)
        })
        .collect())
}

const BENCH: &str = r#"
[part.air]
sheet = "strake-20.toml"
at    = "i2c:1@0x2C"
every = "2 s"

[part.outside]
sheet = "strake-20.toml"
at    = "i2c:1@0x2D"
set   = []

[part.frost]
sheet = "thole-9.toml"
at    = "i2c:1"
set   = ["RESOLUTION=12 bits"]
"#;

#[test]
fn a_bench_file_is_read_in_its_order() {
    let bench = parsed(BENCH).unwrap();
    let told: Vec<(&str, String, Option<u64>)> =
        bench.iter().map(|(one, _)| (one.name.as_str(), one.place.to_string(), one.every)).collect();
    assert_eq!(
        told,
        [("air", "i2c:1@0x2C".into(), Some(2_000_000)), ("outside", "i2c:1@0x2D".into(), None), ("frost", "i2c:1".into(), None)]
    );
    assert_eq!((bench[2].0.set.as_slice(), bench[2].0.line), (&["RESOLUTION=12 bits".to_owned()][..], 13));
    clashes(&bench).unwrap();
}

#[test]
fn a_bench_file_that_cannot_be_used_says_where_and_why() {
    for (text, line, message) in [
        ("[part.air]\nsheet = \"strake-20.toml\"\n", 1, "missing field `at`"),
        (
            "[part.air]\nsheet = \"a.toml\"\nat = \"i2c:1\"\nevry = \"2 s\"\n",
            4,
            "unknown field `evry`, expected one of `sheet`, `at`, `set`, `every`, `variant`",
        ),
        ("[part.air]\nsheet = \"a.toml\"\nat = \"bus 1\"\n", 3, "`bus 1` does not say where the part is"),
        ("[part.air]\nsheet = \"a.toml\"\nat = \"i2c:1\"\nevery = \"often\"\n", 4, "`often` is not a time"),
        ("part = {}\n", 0, "there is no part on this bench"),
        ("[part.air\n", 1, "unclosed table, expected `]`"),
    ] {
        let error = bench::parse(text, &sheets()).unwrap_err();
        assert_eq!((error.line, error.message.as_str()), (line, message), "{text}");
        assert!(error.help.is_some(), "{text}");
    }
}

#[test]
fn clashes_are_found_before_anything_is_sent() {
    let pair = |one: (&str, &str), other: (&str, &str)| {
        let part = |name: &str, (sheet, at): (&str, &str)| format!("[part.{name}]\nsheet = \"{sheet}.toml\"\nat = \"{at}\"\n");
        clashes(&parsed(&(part("one", one) + &part("two", other))).unwrap()).map_err(|error| error.message)
    };
    let told = |message: &str| Err(message.to_owned());
    assert_eq!(pair(("thole-9", "i2c:1"), ("thole-9", "i2c:1")), told("one and two are both I2C address 0x51 on i2c:/dev/i2c-1"));
    assert_eq!(pair(("thole-9", "i2c:1"), ("thole-9", "i2c:2")), Ok(()));
    assert_eq!(pair(("strake-20", "i2c:1@0x2C"), ("strake-20", "i2c:1@0x2D")), Ok(()));
    assert_eq!(
        pair(("keelson-6", "spi:0.0"), ("caulk-1", "spi:0.0")),
        told("one and two are both the only part there on spi:/dev/spidev0.0")
    );
    assert_eq!(pair(("garboard-rs", "tcp:hall"), ("garboard-rs", "tcp:hall@17")), told("one and two are both unit 17 on tcp:hall:502"));
    assert_eq!(pair(("garboard-rs", "tcp:hall"), ("garboard-rs", "tcp:hall@18")), Ok(()));
    assert_eq!(
        pair(("garboard-rs", "rtu:/dev/ttyUSB0"), ("garboard-rs", "rtu:/dev/ttyUSB0,9600@18")),
        told("one and two are on one line with different speeds or parities")
    );
    assert_eq!(pair(("thole-9", "stand-in"), ("thole-9", "stand-in")), Ok(()));
}

/// A made-up machine: two I2C buses, an SPI device, a serial adapter on USB, a port without hardware, a console.
#[test]
fn buses_and_ports_of_a_machine_are_listed() {
    let root = std::env::temp_dir().join(format!("yemdo-machine-{}", std::process::id()));
    let _ = fs::remove_dir_all(&root);
    let write = |path: &str, text: &str| {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    for device in ["i2c-10", "i2c-2", "spidev0.1", "null"] {
        write(&format!("dev/{device}"), "");
    }
    write("sys/class/i2c-dev/i2c-2/name", "Made-up adapter at 7\n");
    write("sys/devices/usb1/1-4/idVendor", "f00d\n");
    write("sys/devices/usb1/1-4/idProduct", "0001\n");
    write("sys/devices/usb1/1-4/manufacturer", "Lanternworks\n");
    write("sys/devices/usb1/1-4/product", "Two-wire\x1b[31m line\n");
    write("sys/devices/usb1/1-4/serial", "L-0042\n");
    write("sys/devices/usb1/1-4/1-4:1.0/ttyUSB3/port_number", "0\n");
    write("sys/class/tty/ttyS1/type", "0\n");
    write("sys/class/tty/tty1/dev", "4:1\n");
    fs::create_dir_all(root.join("sys/class/tty/ttyUSB3")).unwrap();
    symlink(root.join("sys/devices/usb1/1-4/1-4:1.0/ttyUSB3"), root.join("sys/class/tty/ttyUSB3/device")).unwrap();
    fs::create_dir_all(root.join("sys/devices/platform/serial8250")).unwrap();
    symlink(root.join("sys/devices/platform/serial8250"), root.join("sys/class/tty/ttyS1/device")).unwrap();
    let found = list(&root);
    let told: Vec<(&str, &str)> = found.iter().map(|bus| (bus.place.as_str(), bus.about.as_str())).collect();
    assert_eq!(
        told,
        [
            ("i2c:2", "Made-up adapter at 7"),
            ("i2c:10", ""),
            ("spi:0.1", "SPI device"),
            // What USB says of itself steers no terminal.
            ("rtu:/dev/ttyUSB3", "Lanternworks, Two-wire\\u{1b}[31m line, serial number L-0042, USB f00d:0001"),
        ]
    );
    write("dev/i2c-3", "");
    assert_eq!(new_ones(&found, &list(&root)).iter().map(|bus| bus.place.as_str()).collect::<Vec<_>>(), ["i2c:3"]);
    fs::remove_dir_all(&root).unwrap();
}

proptest! {
    /// Every operation of a recording is read as it was written.
    #[test]
    fn traffic_is_read_as_it_was_written(
        at in 0u64..1_000_000_000_000, bus in 0usize..3, address in 1u8..0x78, send in prop::collection::vec(any::<u8>(), 0..20), receive in 0usize..300,
        answer in prop::collection::vec(any::<u8>(), 0..20), error in prop::option::of("[a-z ]{1,20}"),
    ) {
        let bus = Bus::ALL[bus];
        let address = (bus != Bus::Spi).then_some(address);
        let transfer = Transfer { bus, address, send, receive, restart: true, discard: false };
        let outcome = match error {
            Some(error) => Err(error.trim().to_owned()),
            None => Ok(answer),
        };
        let traffic = Traffic { at, transfer, outcome };
        // An error without a word is none that a bus gives.
        prop_assume!(traffic.outcome.as_ref().err().is_none_or(|error| !error.is_empty()));
        prop_assert_eq!(Traffic::parse(&traffic.to_string()), Ok(Some(traffic)));
    }

    /// Whatever is typed for a place is one, or is refused with what to write.
    #[test]
    fn any_text_is_a_place_or_is_refused(text in "(i2c|spi|rtu|tcp|stand-in|recording|x)?:?[a-z0-9@,:/=;.\\[\\] ]{0,20}") {
        match Place::parse(&text) {
            Ok(place) => prop_assert_eq!(Place::parse(&place.to_string()), Ok(place)),
            Err(error) => prop_assert!(!error.message.is_empty() && !error.help.is_empty()),
        }
        let _ = bench::parse(&text, Path::new(".")).is_ok();
        let _ = yemdo_bus::recording::Playback::parse(&format!("# yemdo traffic 1\n{text}")).is_ok();
    }
}
