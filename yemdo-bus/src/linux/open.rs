//! A place becomes a port.

use std::fmt;
use std::fs;

use yemdo::bus::Bus;
use yemdo::part::NotAnAddress;
use yemdo::stand_in::{Fault, Faults, NoSignal, NoStandIn, Signal, SignalError, StandIn};
use yemdo::{Part, UnknownName};

use super::{DataReady, I2cBus, SpiBus, open_serial};
use crate::error::BusError;
use crate::modbus::{Patience, RtuPort, connect};
use crate::place::Place;
use crate::port::Port;
use crate::recording::Playback;
use crate::rig::Rig;

/// How places are opened.
#[derive(Clone, Debug, Default)]
pub struct PlaceOptions {
    patience: Patience,
    line: Option<String>,
}

impl PlaceOptions {
    /// How Modbus clients wait.
    pub fn patience(self, patience: Patience) -> Self {
        Self { patience, ..self }
    }

    /// The part's data-ready line on a GPIO: `gpiochip0:17`.
    pub fn line(self, line: &str) -> Self {
        Self { line: Some(line.to_owned()), ..self }
    }
}

/// A port that is open, the part as it is there, and the bus.
pub struct Opened {
    /// The port.
    pub port: Box<dyn Port + Send>,
    /// The part, with the address of the place.
    pub part: Part,
    /// The bus.
    pub bus: Bus,
    /// The bench, where the part is a stand-in.
    pub rig: Option<Rig>,
}

impl fmt::Debug for Opened {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Opened").field("part", &self.part.name()).field("bus", &self.bus).finish_non_exhaustive()
    }
}

/// Why a place cannot be opened.
#[derive(Debug)]
#[non_exhaustive]
pub enum OpenError {
    /// The part is not reached over this bus.
    OtherBus {
        /// The part.
        part: String,
        /// The bus of the place.
        bus: Bus,
        /// Those of the part.
        known: Vec<Bus>,
    },
    /// The part can never have this address.
    Address(NotAnAddress),
    /// The device, the host.
    Bus(BusError),
    /// A stand-in's reading.
    Unknown(UnknownName),
    /// A stand-in's signal.
    Signal(SignalError),
    /// A reading that no signal can be given.
    NoSignal(NoSignal),
    /// A stand-in's option.
    Option(String),
    /// A stand-in of a sheet without a bus.
    NoStandIn(NoStandIn),
    /// A recording cannot be read: the file, the line, why.
    Recording {
        /// The file.
        path: String,
        /// The line, from 1; 0 where the file itself cannot be read.
        line: usize,
        /// Why.
        why: String,
    },
}

impl OpenError {
    /// What to try; `None` where nothing is known.
    pub fn help(&self) -> Option<String> {
        match self {
            OpenError::OtherBus { known, .. } if known.is_empty() => Some("give the sheet [i2c], [spi] or [modbus]".into()),
            OpenError::OtherBus { known, .. } => {
                Some(format!("but over {}", known.iter().map(|bus| bus.name()).collect::<Vec<_>>().join(", ")))
            }
            OpenError::Address(error) => {
                let known: Vec<String> = error.known.iter().map(|known| format!("0x{known:02X}")).collect();
                Some(format!("its addresses: {}", known.join(", ")))
            }
            OpenError::Bus(error) => error.to_try().map(str::to_owned),
            OpenError::Unknown(error) => Some(error.help()),
            _ => None,
        }
    }
}

impl fmt::Display for OpenError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            OpenError::OtherBus { part, bus, .. } => write!(f, "{part} is not reached over {}", bus.name()),
            OpenError::Address(error) => error.fmt(f),
            OpenError::Bus(error) => error.fmt(f),
            OpenError::Unknown(error) => f.write_str(&error.message()),
            OpenError::Signal(error) => error.fmt(f),
            OpenError::Option(what) => f.write_str(what),
            OpenError::NoStandIn(error) => error.fmt(f),
            OpenError::NoSignal(error) => error.fmt(f),
            OpenError::Recording { path, line: 0, why } => write!(f, "cannot read {path}: {why}"),
            OpenError::Recording { path, line, why } => write!(f, "{path}, line {line}: {why}"),
        }
    }
}

impl std::error::Error for OpenError {}

/// Opens a place for a part. Stand-ins go onto `rig`, where one is given, so that several share a clock.
///
/// # Errors
/// [`OpenError`].
pub fn open(place: &Place, part: Part, options: &PlaceOptions, rig: Option<&Rig>) -> Result<Opened, OpenError> {
    let known: Vec<Bus> = part.buses().all().collect();
    let bus = place.bus(&part).filter(|bus| known.contains(bus));
    let asked = place.bus(&part).unwrap_or(Bus::I2c);
    let bus = bus.ok_or_else(|| OpenError::OtherBus { part: part.name().to_owned(), bus: asked, known })?;
    let part = place.addressed(part).map_err(OpenError::Address)?;
    let mut bench = None;
    let port: Box<dyn Port + Send> = match place {
        Place::I2c { path, .. } => {
            let bus = I2cBus::open(path).map_err(OpenError::Bus)?;
            Box::new(match line(options)? {
                Some(line) => bus.with_line(line),
                None => bus,
            })
        }
        Place::Spi { path, hertz } => match &part.buses().spi {
            Some(spi) => {
                let bus = SpiBus::open(path, spi, *hertz).map_err(OpenError::Bus)?;
                Box::new(match line(options)? {
                    Some(line) => bus.with_line(line),
                    None => bus,
                })
            }
            None => return Err(OpenError::OtherBus { part: part.name().to_owned(), bus, known: Vec::new() }),
        },
        Place::Rtu { path, baud, parity, stop, rs485, echo, .. } => {
            let modbus = part.buses().modbus.as_ref();
            let baud = baud.or(modbus.and_then(|modbus| modbus.baud)).unwrap_or(19_200);
            let parity = parity.or(modbus.and_then(|modbus| modbus.parity)).unwrap_or("even");
            // Without parity there are two stop bits (Serial Line V1.02, section 2.5.1).
            let usual = if parity == "none" { 2 } else { 1 };
            let stop = stop.or(modbus.and_then(|modbus| modbus.stop)).unwrap_or(usual);
            let line = open_serial(path, baud, parity, stop, *rs485).map_err(OpenError::Bus)?;
            let patience = Patience { echo: *echo, ..options.patience };
            Box::new(RtuPort::new(line, baud, patience))
        }
        Place::Tcp { host, port, .. } => Box::new(connect(host, *port, options.patience).map_err(OpenError::Bus)?),
        Place::StandIn { options, .. } => {
            let rig = rig.cloned().unwrap_or_default();
            let (stand_in, faults) = stand_in(&part, options)?;
            let place = rig.add(stand_in);
            rig.set_faults(place, faults);
            bench = Some(rig.clone());
            Box::new(rig.port(place, bus))
        }
        Place::Recording { path } => {
            let failed = |line, why: String| OpenError::Recording { path: path.clone(), line, why };
            let file = fs::File::open(path).map_err(|error| failed(0, error.to_string()))?;
            Box::new(Playback::read(file).map_err(|(line, why)| failed(line, why))?)
        }
    };
    Ok(Opened { port, part, bus, rig: bench })
}

/// The data-ready line, where one is given.
fn line(options: &PlaceOptions) -> Result<Option<DataReady>, OpenError> {
    options.line.as_deref().map(|typed| DataReady::open(typed).map_err(OpenError::Bus)).transpose()
}

/// A stand-in with its options: readings as signals, `seed`, `noise`, `faults`.
///
/// # Errors
/// [`OpenError`].
pub fn stand_in(part: &Part, options: &[(String, String)]) -> Result<(StandIn, Faults), OpenError> {
    let option = |name: &str| options.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str());
    let number = |name: &str| {
        option(name)
            .map(|typed| typed.parse::<f64>().map_err(|_| OpenError::Option(format!("{name}={typed}: expected a number"))))
            .transpose()
    };
    let seed = number("seed")?.unwrap_or(1.0) as u64;
    let mut stand_in = StandIn::new(part, seed).map_err(OpenError::NoStandIn)?;
    if option("noise") == Some("on") {
        stand_in = stand_in.with_noise();
    }
    // Every kind of fault that a bus has, this share of transfers.
    let faults = match number("faults")? {
        Some(share) => Faults::seeded(seed, share, &Fault::ALL),
        None => Faults::none(),
    };
    for (name, value) in options.iter().filter(|(name, _)| !matches!(name.as_str(), "seed" | "noise" | "faults")) {
        let reading = part.reading(name).map_err(OpenError::Unknown)?;
        stand_in.set(reading, signal(value)?).map_err(OpenError::NoSignal)?;
    }
    Ok((stand_in, faults))
}

/// A signal as typed, or recorded in a CSV file of seconds and values: `@day.csv`.
fn signal(typed: &str) -> Result<Signal, OpenError> {
    let Some(path) = typed.strip_prefix('@') else { return Signal::parse(typed).map_err(OpenError::Signal) };
    let failed = |line, why: String| OpenError::Recording { path: path.to_owned(), line, why };
    let text = fs::read_to_string(path).map_err(|error| failed(0, error.to_string()))?;
    let mut points = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let numbers: Option<Vec<f64>> = line.split(',').map(|cell| cell.trim().parse().ok()).collect();
        match numbers.as_deref() {
            Some([seconds, value]) => points.push((*seconds, *value)),
            // A header, and empty lines.
            _ if at == 0 || line.trim().is_empty() => {}
            _ => return Err(failed(at + 1, "expected seconds and a value, with a comma between".into())),
        }
    }
    Signal::recorded(points).map_err(OpenError::Signal)
}
