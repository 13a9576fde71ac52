//! The hall's bench on stand-ins: who answers, every part set up, a few seconds of readings.

use std::collections::BTreeMap;
use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::bus::Bus;
use yemdo::stand_in::{Fault, Faults, Signal, StandIn};
use yemdo::{Part, to_hex, visible};
use yemdo_bus::scan::scan_i2c;
use yemdo_bus::{Device, Rig, RigPort};

use crate::commands::scan;
use crate::failure::Failure;
use crate::show::grid::{Align, Cell, Grid};
use crate::show::status::status_style;
use yemdo::counted;

/// A part of the bench.
struct Place {
    sheet: (&'static str, &'static str),
    bus: Bus,
    /// Readings with their signals.
    world: &'static [(&'static str, &'static str)],
    set: &'static [&'static str],
    run: &'static [&'static str],
    /// The readings that are shown.
    shown: &'static [&'static str],
}

macro_rules! sheet {
    ($name:literal) => {
        ($name, include_str!(concat!("../../../sheets/", $name)))
    };
}

const PLACES: [Place; 9] = [
    Place {
        sheet: sheet!("strake-20.toml"),
        bus: Bus::I2c,
        world: &[("temperature", "18.2 + 0.05 * t"), ("humidity", "54 - 0.2 * t"), ("supply", "3.28")],
        set: &[],
        run: &[],
        shown: &["temperature", "humidity"],
    },
    Place {
        sheet: sheet!("lantern-16.toml"),
        bus: Bus::I2c,
        world: &[("illuminance", "140 + 60 * sin(t)"), ("warm", "0.06")],
        set: &["GAIN=fivefold", "TIME=54 ms", "upper_limit=190 lx"],
        run: &[],
        shown: &["illuminance"],
    },
    Place {
        sheet: sheet!("binnacle-24.toml"),
        bus: Bus::I2c,
        world: &[("temperature", "18.6"), ("pressure", "1008.4 + 0.1 * t")],
        set: &[],
        run: &[],
        shown: &["pressure", "temperature"],
    },
    Place {
        sheet: sheet!("keelson-6.toml"),
        bus: Bus::Spi,
        world: &[("acceleration_z", "1"), ("acceleration_x", "0.02 * sin(4 * t)"), ("turn_x", "1.5 * cos(4 * t)"), ("die", "22.2")],
        set: &["SPAN=3 g"],
        run: &["start"],
        shown: &["acceleration_x", "acceleration_z", "turn_x"],
    },
    Place {
        sheet: sheet!("ember-14.toml"),
        bus: Bus::I2c,
        world: &[("surface", "17.5 + 0.1 * t")],
        set: &["emissivity=0.9"],
        run: &["identify"],
        shown: &["surface"],
    },
    Place {
        sheet: sheet!("plumb-2.toml"),
        bus: Bus::I2c,
        world: &[("distance", "845 - 2 * t"), ("transducer", "16")],
        set: &[],
        run: &[],
        shown: &["distance"],
    },
    Place {
        sheet: sheet!("thole-9.toml"),
        bus: Bus::I2c,
        world: &[("temperature", "2.6 - 0.3 * t")],
        set: &["RESOLUTION=12 bits", "lower_threshold=1.6 °C", "upper_threshold=4.8 °C"],
        run: &[],
        shown: &["temperature"],
    },
    Place {
        sheet: sheet!("garboard-rs.toml"),
        bus: Bus::Modbus,
        world: &[("supply", "19.5"), ("outside", "-3.8"), ("flow", "820 + 15 * sin(t)")],
        set: &["wanted_supply=19.5 °C"],
        run: &[],
        shown: &["supply", "flow"],
    },
    Place {
        sheet: sheet!("caulk-1.toml"),
        bus: Bus::Spi,
        world: &[("moisture", "21.4"), ("timber", "17.3")],
        set: &[],
        run: &[],
        shown: &["moisture", "timber"],
    },
];

/// The place that drops out, and when it goes and comes back, in microseconds.
const AWAY: (usize, u64, u64) = (6, 2_500_000, 4_500_000);
/// The place whose answers are damaged, and which of its transfers.
const DAMAGED: (usize, [u64; 2]) = (4, [1, 3]);
/// Interval and duration of the measurements, in microseconds.
const EVERY: u64 = 2_000_000;
const WHOLE: u64 = 8_000_000;
/// Bytes of a frame that are shown.
const MOST_BYTES: usize = 8;

/// The same bench as a file for `yemdo read --bench`, and the sheets that it names.
pub(super) fn files() -> Vec<(String, String)> {
    let mut bench =
        String::from("# The bench of the ship's hall, on stand-ins. Put `i2c:1` or another place in their stead, and it is real.\n");
    let mut files = Vec::new();
    for place in &PLACES {
        let (sheet, text) = place.sheet;
        let name = sheet.trim_end_matches(".toml");
        let world: Vec<String> = place.world.iter().map(|(reading, signal)| format!("{reading}={signal}")).collect();
        let at = if world.is_empty() { "stand-in".to_owned() } else { format!("stand-in:{}", world.join(";")) };
        let set: Vec<String> = place.set.iter().map(|set| format!("\"{set}\"")).collect();
        bench.push_str(&format!(
            "\n[part.{name}]\nsheet = \"sheets/{sheet}\"\nat    = \"{at}\"\nset   = [{}]\nevery = \"1 s\"\n",
            set.join(", ")
        ));
        files.push((format!("sheets/{sheet}"), text.to_owned()));
    }
    files.push(("hall.toml".to_owned(), bench));
    files
}

pub(super) fn run(out: &mut dyn Write) -> Result<(), Failure> {
    let (bold, dim, cyan) = (Style::new().bold(), Style::new().dimmed(), AnsiColor::Cyan.on_default().bold());
    writeln!(out, "{bold}The hall's bench{bold:#}  {dim}nine parts, simulated from their sheets with a virtual clock{dim:#}\n")?;
    let rig = Rig::new();
    let mut devices: Vec<Device<RigPort>> = Vec::new();
    let mut parts: Vec<Part> = Vec::new();
    for (at, place) in PLACES.iter().enumerate() {
        let (name, text) = place.sheet;
        let part = Part::parse(name, text).map_err(|error| Failure::Sheet(Box::new(error)))?;
        let mut stand_in = StandIn::new(&part, at as u64).map_err(|error| Failure::error(error.to_string()))?;
        for (reading, signal) in place.world {
            let signal = Signal::parse(signal).map_err(|error| Failure::error(error.message))?;
            stand_in.set(part.reading(reading)?, signal).map_err(|error| Failure::error(error.to_string()))?;
        }
        let slot = rig.add(stand_in);
        devices.push(Device::new(rig.port(slot, place.bus), part.clone(), place.bus)?);
        parts.push(part);
    }

    writeln!(out, "{cyan}devices on the I2C bus{cyan:#}")?;
    let found = scan_i2c(&mut rig.port(0, Bus::I2c), &parts, &mut || true).map_err(|error| Failure::refused(error.to_string()))?;
    scan::table(out, &found, "I2C", None)?;
    rig.forget_violations();

    writeln!(out, "\n{cyan}set up{cyan:#}")?;
    let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Left]);
    for (place, device) in PLACES.iter().zip(&mut devices) {
        let done = device.configure(place.set)?;
        place.run.iter().try_for_each(|routine| device.run(routine).map(drop))?;
        if place.set.is_empty() {
            continue;
        }
        let name = Cell { text: device.part().name().to_owned(), style: bold };
        grid.row(vec![
            name,
            place.set.join(", ").into(),
            format!("{} written and verified", counted(done.writes.len() as u64, "register")).into(),
        ]);
    }
    grid.write(out)?;

    writeln!(
        out,
        "\n{cyan}readings{cyan:#}  {dim}{} goes and comes back, answers of {} are damaged now and then{dim:#}",
        name(AWAY.0),
        name(DAMAGED.0)
    )?;
    rig.set_faults(DAMAGED.0, DAMAGED.1.iter().fold(Faults::none(), |faults, at| faults.at(*at, Fault::FlippedBit)));
    let begin = rig.now();
    let mut tally: BTreeMap<usize, (u64, BTreeMap<&'static str, u64>)> = BTreeMap::new();
    let mut grid = Grid::new(0, &[Align::Right, Align::Left, Align::Left, Align::Left]);
    let mut due: Vec<u64> = (0..devices.len() as u64).map(|at| at * EVERY / devices.len() as u64).collect();
    while let Some((at, next)) = due.iter().copied().enumerate().min_by_key(|(_, due)| *due) {
        if next >= WHOLE {
            break;
        }
        rig.pass((begin + next).saturating_sub(rig.now()));
        let now = rig.now() - begin;
        rig.plug(AWAY.0, !(AWAY.1..AWAY.2).contains(&now));
        let (Some(device), Some(place)) = (devices.get_mut(at), PLACES.get(at)) else { break };
        due.get_mut(at).into_iter().for_each(|due| *due += EVERY);
        let told = tally.entry(at).or_default();
        // A part that was away is set up again.
        let lost = !told.1.is_empty() && at == AWAY.0;
        let measured = if lost { device.configure(place.set).and_then(|_| device.measure()) } else { device.measure() };
        let time = Cell { text: format!("{:.3}", now as f64 / 1e6), style: dim };
        let part = Cell { text: name(at).to_owned(), style: bold };
        match measured {
            Ok(measured) => {
                told.0 += 1;
                let bytes = measured.frames.last().map_or(&[] as &[u8], |frame| frame.bytes());
                let more = if bytes.len() > MOST_BYTES { " …" } else { "" };
                let bytes = format!("{}{more}", to_hex(bytes.get(..MOST_BYTES).unwrap_or(bytes)));
                let mut style = Style::new();
                let readings: Vec<String> = measured
                    .readings()
                    .filter(|reading| place.shown.contains(&reading.name.as_str()))
                    .map(|reading| {
                        style = if reading.status == yemdo::Status::Ok { style } else { status_style(reading.status).0 };
                        format!("{} {reading}", reading.name)
                    })
                    .collect();
                grid.row(vec![time, part, bytes.into(), Cell { text: readings.join(", "), style }]);
            }
            Err(error) => {
                *told.1.entry(error.cause()).or_default() += 1;
                // Computed and received values do not fit on the line.
                let text = error.to_string();
                let text = visible(text.split(": computed").next().unwrap_or(&text)).into_owned();
                grid.row(vec![time, part, "".into(), Cell { text, style: AnsiColor::BrightRed.on_default() }]);
            }
        }
    }
    grid.write(out)?;

    let good: u64 = tally.values().map(|(good, _)| good).sum();
    let causes: Vec<String> = tally
        .iter()
        .flat_map(|(at, (_, causes))| causes.iter().map(move |(cause, times)| format!("{} {times} × {cause}", name(*at))))
        .collect();
    writeln!(out, "{good} measurements; failed: {}", causes.join(", "))?;
    let verdict = rig.verdict();
    for (at, violation) in &verdict {
        writeln!(out, "{}: {}", name(*at), visible(&violation.to_string()))?;
    }
    let green = AnsiColor::Green.on_default();
    if verdict.is_empty() {
        writeln!(out, "{green}no violations of the sheets{green:#}")?;
    }
    Ok(())
}

fn name(at: usize) -> &'static str {
    PLACES.get(at).map_or("", |place| place.sheet.0.trim_end_matches(".toml"))
}
