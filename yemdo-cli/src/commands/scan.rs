//! `yemdo scan`: devices on a bus and matching sheets.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use yemdo::Part;
use yemdo::view::{CandidateView, FoundView, PlaceView};
use yemdo_bus::linux::{self, ListedBus, open_serial};
use yemdo_bus::modbus::{Patience, RtuPort, connect};
use yemdo_bus::place::Place;
use yemdo_bus::scan::{Answered, Candidate, Evidence, Found, I2C_ADDRESSES, I2C_PROBE, probe_i2c, probe_modbus, scan_i2c};
use yemdo_bus::{BusError, Port};

use crate::args::{CheckFormat, Scan};
use crate::failure::Failure;
use crate::input;
use crate::link::{AnyPort, Link, Stop};
use crate::output::json_line;
use crate::show::grid::{Align, Cell, Grid};

pub(crate) fn run(args: &Scan) -> Result<u8, Failure> {
    if args.wait {
        return wait(args);
    }
    let Some(typed) = &args.place else {
        return listed(args, &linux::list(Path::new("/")));
    };
    let place = Place::parse(typed).map_err(|error| Failure::error(error.message).help(error.help))?;
    let parts = sheets(args)?;
    let stop = Stop::on_interrupt();
    match &place {
        Place::I2c { path, .. } => {
            let mut bus = linux::I2cBus::open(path).map_err(error)?;
            // The first transfer shows the capabilities of the adapter.
            let _ = probe_i2c(&mut bus, *I2C_ADDRESSES.start());
            let smbus = bus.is_smbus_only();
            let found = i2c(&mut *recorded(args, Box::new(bus), typed)?, &parts, &stop)?;
            if smbus {
                let _ = writeln!(anstream::stderr(), "{path} has SMBus transfers only: frames that do not fit them cannot be read here");
            }
            shown(args, &found, "I2C", None)
        }
        Place::StandIn { options, .. } => {
            let rig = yemdo_bus::Rig::new();
            let mut first = None;
            for part in parts.iter().filter(|part| part.buses().i2c.is_some()) {
                let (stand_in, faults) =
                    linux::stand_in(part, if parts.len() == 1 { options } else { &[] }).map_err(crate::link::opening)?;
                let at = rig.add(stand_in);
                rig.set_faults(at, faults);
                first.get_or_insert(at);
            }
            let Some(first) = first else { return Err(Failure::error("no sheet with I2C").help("add sheets with --sheet")) };
            let bus = rig.port(first, yemdo::bus::Bus::I2c);
            shown(args, &i2c(&mut *recorded(args, Box::new(bus), typed)?, &parts, &stop)?, "I2C", None)
        }
        Place::Tcp { host, port, .. } => {
            let patience = Patience { response: Duration::from_micros(args.timeout), ..Patience::default() };
            let units = units(args.units.as_deref(), 247)?;
            let client = connect(host, *port, patience).map_err(error)?;
            let found = modbus(&mut *recorded(args, Box::new(client), typed)?, &parts, &units, &stop)?;
            shown(args, &found, "Modbus", None)
        }
        Place::Rtu { path, baud, parity, stop: bits, rs485, .. } => serial(args, path, (*baud, *parity, *bits, *rs485), &parts, &stop),
        _ => Err(Failure::error("this place cannot be scanned").help("scan an I2C bus, a serial line or a TCP host")),
    }
}

/// The port with its recorder, where one is asked for.
fn recorded(args: &Scan, port: AnyPort, place: &str) -> Result<AnyPort, Failure> {
    Link { record: args.record.clone(), ..Link::default() }.recorded(port, &format!("a scan of {place}"))
}

fn error(error: BusError) -> Failure {
    let help = error.to_try().map(str::to_owned);
    Failure::helped(error.to_string(), help)
}

/// The sheets that parts are held against; in the folder `sheets` those that are none are passed over.
fn sheets(args: &Scan) -> Result<Vec<Part>, Failure> {
    if !args.sheet.is_empty() {
        return args.sheet.iter().map(|path| input::load(path, None)).collect();
    }
    let mut paths: Vec<PathBuf> = fs::read_dir("sheets").into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.extension().is_some_and(|extension| extension == "toml"));
    paths.sort();
    Ok(paths.iter().filter_map(|path| input::load(path, None).ok()).collect())
}

fn i2c(port: &mut dyn Port, parts: &[Part], stop: &Stop) -> Result<Vec<Found>, Failure> {
    let _ = writeln!(anstream::stderr(), "0x{:02X} to 0x{:02X}: {I2C_PROBE}", I2C_ADDRESSES.start(), I2C_ADDRESSES.end());
    scan_i2c(port, parts, &mut || !stop.is_asked()).map_err(error)
}

fn modbus(port: &mut dyn Port, parts: &[Part], units: &[u8], stop: &Stop) -> Result<Vec<Found>, Failure> {
    let mut found = Vec::new();
    for unit in units {
        if stop.is_asked() {
            break;
        }
        found.extend(probe_modbus(port, *unit, parts).map_err(error)?);
    }
    Ok(found)
}

/// Every baud and parity of a line, one after the other.
fn serial(
    args: &Scan,
    path: &str,
    (baud, parity, bits, rs485): (Option<u32>, Option<&'static str>, Option<u8>, bool),
    parts: &[Part],
    stop: &Stop,
) -> Result<u8, Failure> {
    let bauds = match (args.baud.as_slice(), baud) {
        ([], Some(baud)) => vec![baud],
        ([], None) => vec![19_200, 9_600, 38_400, 115_200, 4_800],
        (list, _) => list.to_vec(),
    };
    let parities: Vec<&str> = match (args.parity.as_slice(), parity) {
        ([], Some(parity)) => vec![parity],
        ([], None) => vec!["even", "none", "odd"],
        (list, _) => list.iter().map(String::as_str).collect(),
    };
    let units = units(args.units.as_deref(), 32)?;
    let seconds = units.len() as u64 * bauds.len() as u64 * parities.len() as u64 * args.timeout / 1_000_000;
    let _ = writeln!(anstream::stderr(), "{} units, {} bauds, {} parities: at most {seconds} s", units.len(), bauds.len(), parities.len());
    if args.record.is_some() {
        return Err(Failure::error("a scan over baud rates and parities cannot be recorded")
            .help("record with `yemdo read --record` at the right baud rate"));
    }
    let mut any = 0;
    for baud in &bauds {
        for parity in &parities {
            let stops = bits.unwrap_or(if *parity == "none" { 2 } else { 1 });
            let line = open_serial(path, *baud, parity, stops, rs485).map_err(error)?;
            let patience = Patience { response: Duration::from_micros(args.timeout), ..Patience::default() };
            let found = modbus(&mut RtuPort::new(line, *baud, patience), parts, &units, stop)?;
            if !found.is_empty() {
                any += found.len();
                shown(args, &found, "Modbus", Some((*baud, parity)))?;
            }
            if stop.is_asked() {
                return Ok(130);
            }
        }
    }
    if any == 0 {
        return shown(args, &[], "Modbus", None);
    }
    Ok(0)
}

/// Units as they are typed: `1-32`, `1,5,17`.
fn units(typed: Option<&str>, usual: u8) -> Result<Vec<u8>, Failure> {
    let Some(typed) = typed else { return Ok((1..=usual).collect()) };
    let mut units = Vec::new();
    for run in typed.split(',') {
        let (first, last) = run.split_once('-').unwrap_or((run, run));
        let unit = |text: &str| text.trim().parse::<u8>().ok().filter(|unit| (1..=247).contains(unit));
        match (unit(first), unit(last)) {
            (Some(first), Some(last)) if first <= last => units.extend(first..=last),
            _ => return Err(Failure::error(format!("`{run}` is not a range of units")).help("write 1-32, or 1,5,17; units are 1 to 247")),
        }
    }
    Ok(units)
}

/// What speaks for a candidate, in words.
fn evidence(candidate: &Candidate) -> String {
    match &candidate.evidence {
        Evidence::Identity(routine) => format!("{}, identity confirmed by {routine}", candidate.part),
        Evidence::Check(frame) => format!("{}, confirmed by the {frame}", candidate.part),
        Evidence::Register => format!("{}: it has the registers", candidate.part),
        Evidence::Address => format!("{}, by its address only", candidate.part),
        Evidence::Not(why) => format!("not {}: {why}", candidate.part),
        _ => candidate.part.clone(),
    }
}

fn shown(args: &Scan, found: &[Found], bus: &str, line: Option<(u32, &str)>) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    if args.format == CheckFormat::Json {
        for one in found {
            let candidates = one.candidates.iter().map(|candidate| CandidateView {
                part: &candidate.part,
                confirmed: match candidate.evidence {
                    Evidence::Identity(_) | Evidence::Check(_) => Some(true),
                    Evidence::Not(_) => Some(false),
                    _ => None,
                },
                evidence: evidence(candidate),
            });
            let (baud, parity) = line.map_or((None, None), |(baud, parity)| (Some(baud), Some(parity)));
            let (answered, candidates) = (answered(&one.answered), candidates.collect());
            let one = FoundView { bus, address: one.address, answered, baud, parity, candidates };
            json_line(&mut out, &one)?;
        }
        return Ok(u8::from(found.is_empty()));
    }
    if found.is_empty() {
        let _ = writeln!(anstream::stderr(), "no device responds on this bus");
        return Ok(1);
    }
    table(&mut out, found, bus, line)?;
    Ok(0)
}

/// Who was found, for people.
pub(crate) fn table(out: &mut dyn Write, found: &[Found], bus: &str, line: Option<(u32, &str)>) -> Result<(), Failure> {
    let i2c = bus == "I2C";
    let mut grid = Grid::new(0, &[Align::Right, Align::Left, Align::Left, Align::Left, Align::Left]);
    match (i2c, line) {
        (true, _) => grid.titles(&["decimal", "7-bit", "8-bit write/read", "", "matching sheet"]),
        (false, None) => grid.titles(&["unit", "hex", "", "", "matching sheet"]),
        (false, Some((baud, parity))) => grid.titles(&["unit", "hex", &format!("{baud} baud, {parity} parity"), "", "matching sheet"]),
    }
    let bold = Style::new().bold();
    for one in found {
        let eight = if i2c { format!("0x{:02X}/0x{:02X}", one.address << 1, one.address << 1 | 1) } else { String::new() };
        let first = one.candidates.first().map_or(Cell::from(""), told_candidate);
        grid.row(vec![
            Cell { text: one.address.to_string(), style: bold },
            Cell { text: format!("0x{:02X}", one.address), style: bold },
            eight.into(),
            answered(&one.answered).into(),
            first,
        ]);
        for candidate in one.candidates.iter().skip(1) {
            grid.row(vec!["".into(), "".into(), "".into(), "".into(), told_candidate(candidate)]);
        }
    }
    Ok(grid.write(out)?)
}

fn told_candidate(candidate: &Candidate) -> Cell {
    let style = match candidate.evidence {
        Evidence::Identity(_) | Evidence::Check(_) => AnsiColor::Green.on_default(),
        Evidence::Not(_) => Style::new().dimmed(),
        _ => AnsiColor::Yellow.on_default(),
    };
    Cell { text: evidence(candidate), style }
}

fn answered(answered: &Answered) -> String {
    match answered {
        Answered::Acknowledged => "acknowledges".into(),
        Answered::TakenByDriver => "taken by a driver of the kernel".into(),
        Answered::Response => "responds".into(),
        Answered::Exception(code) => format!("responds with exception {code}"),
        _ => String::new(),
    }
}

fn listed(args: &Scan, all: &[ListedBus]) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    if args.format == CheckFormat::Json {
        for bus in all {
            json_line(&mut out, &PlaceView { place: &bus.place, device: &bus.device, about: &bus.about })?;
        }
        return Ok(u8::from(all.is_empty()));
    }
    if all.is_empty() {
        let _ = writeln!(anstream::stderr(), "this machine has no I2C bus, no SPI device and no serial port");
        return Ok(1);
    }
    let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Left]);
    grid.titles(&["place", "device", "description"]);
    for bus in all {
        grid.row(vec![Cell { text: bus.place.clone(), style: Style::new().bold() }, bus.device.as_str().into(), bus.about.as_str().into()]);
    }
    grid.write(&mut out)?;
    Ok(0)
}

/// Waits until something is plugged in.
fn wait(args: &Scan) -> Result<u8, Failure> {
    let stop = Stop::on_interrupt();
    let before = linux::list(Path::new("/"));
    let _ = writeln!(anstream::stderr(), "plug it in now; Ctrl-C ends");
    while !stop.is_asked() {
        thread::sleep(Duration::from_millis(200));
        let new = linux::new_ones(&before, &linux::list(Path::new("/")));
        if !new.is_empty() {
            return listed(args, &new);
        }
    }
    Ok(130)
}
