//! Options for the place of the part, and its device.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::{self, BufWriter, Write as _};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use yemdo::bus::{Bus, Transfer};
use yemdo::{Part, State, visible};
use yemdo_bus::linux::{OpenError, Opened, PlaceOptions, open};
use yemdo_bus::modbus::Patience;
use yemdo_bus::place::Place;
use yemdo_bus::recording::Recorder;
use yemdo_bus::{BusError, Cause, Device, Port, Rig, Shared};

use crate::failure::Failure;

/// Access to the part.
#[derive(Debug, Clone, Default, clap::Args)]
#[command(next_help_heading = "Access to the part")]
pub(crate) struct Link {
    /// Place: i2c:1@0x2C, spi:0.0, rtu:/dev/ttyUSB0@17, tcp:HOST@17, stand-in, recording:FILE
    #[arg(long, value_name = "PLACE")]
    pub(crate) at: Option<String>,
    /// GPIO of the data-ready line, for routines that wait for it: gpiochip0:17
    #[arg(long, value_name = "LINE")]
    pub(crate) line: Option<String>,
    /// Record the traffic to a new file
    #[arg(long, value_name = "FILE")]
    pub(crate) record: Option<PathBuf>,
    /// Number of retries after transient errors
    #[arg(long, value_name = "TIMES", default_value = "0")]
    pub(crate) retries: u32,
    /// Timeout of a Modbus response
    #[arg(long, value_name = "TIME", default_value = "1 s", value_parser = time)]
    pub(crate) timeout: u64,
}

/// A time as it is typed, in microseconds.
pub(crate) fn time(typed: &str) -> Result<u64, String> {
    yemdo_bus::bench::duration(typed).ok_or_else(|| "write 500 ms, 2 s or 1 min".into())
}

/// A port of any kind.
pub(crate) type AnyPort = Box<dyn Port + Send>;

/// A device, and the bench where it is a stand-in.
#[derive(Debug)]
pub(crate) struct Connected {
    pub(crate) device: Device<AnyPort>,
    pub(crate) rig: Option<Rig>,
    pub(crate) place: Place,
}

impl Link {
    /// The place, where one is given.
    pub(crate) fn place(&self) -> Result<Option<Place>, Failure> {
        self.at.as_deref().map(|typed| Place::parse(typed).map_err(|error| Failure::error(error.message).help(error.help))).transpose()
    }

    /// Whether there is something to be done with a part.
    pub(crate) fn is_given(&self) -> bool {
        self.at.is_some() || self.record.is_some()
    }

    /// The device, where a place is given.
    pub(crate) fn connect(&self, part: &Part, stop: &Stop) -> Result<Option<Connected>, Failure> {
        let Some(place) = self.place()? else {
            return match self.record {
                Some(_) => Err(Failure::error("missing place to record").help("give --at")),
                None => Ok(None),
            };
        };
        self.connect_to(&place, part, stop, None).map(Some)
    }

    /// The device at a place, where several parts may be on one line: that is opened once.
    pub(crate) fn connect_shared(
        &self,
        place: &Place,
        part: &Part,
        stop: &Stop,
        rig: Option<&Rig>,
        lines: &mut BTreeMap<String, Shared>,
    ) -> Result<Connected, Failure> {
        if !matches!(place, Place::Rtu { .. }) {
            return self.connect_to(place, part, stop, rig);
        }
        let part = place.addressed(part.clone()).map_err(|error| Failure::error(error.to_string()))?;
        let line = match lines.get(&place.shared()) {
            Some(line) => line.clone(),
            None => {
                let line = Shared::new(open(place, part.clone(), &self.options(), rig).map_err(opening)?.port);
                lines.insert(place.shared(), line.clone());
                line
            }
        };
        Ok(Connected { device: self.device(Box::new(line), part, Bus::Modbus, stop)?, rig: None, place: place.clone() })
    }

    /// The device at a place.
    pub(crate) fn connect_to(&self, place: &Place, part: &Part, stop: &Stop, rig: Option<&Rig>) -> Result<Connected, Failure> {
        let Opened { port, part, bus, rig } = open(place, part.clone(), &self.options(), rig).map_err(opening)?;
        let port = self.recorded(port, &format!("{} at {place}", part.name()))?;
        Ok(Connected { device: self.device(port, part, bus, stop)?, rig, place: place.clone() })
    }

    fn device(&self, port: AnyPort, part: Part, bus: Bus, stop: &Stop) -> Result<Device<AnyPort>, Failure> {
        let port: AnyPort = Box::new(Stoppable { port, stop: stop.clone() });
        Ok(Device::new(port, part, bus)?.with_retries(self.retries))
    }

    fn options(&self) -> PlaceOptions {
        // A request with retries needs no retries by the bus.
        let patience = Patience { response: Duration::from_micros(self.timeout), retries: 0, echo: false };
        let options = PlaceOptions::default().patience(patience);
        self.line.iter().fold(options, |options, line| options.line(line))
    }

    /// The port with its recorder, where one is asked for.
    pub(crate) fn recorded(&self, port: AnyPort, about: &str) -> Result<AnyPort, Failure> {
        let Some(path) = &self.record else { return Ok(port) };
        let file = OpenOptions::new().write(true).create_new(true).open(path);
        let file = file.map_err(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => {
                Failure::error(format!("{} already exists", path.display())).help("a recording is a new file: choose another name")
            }
            _ => Failure::file("write", path, &error),
        })?;
        let recorder = Recorder::new(port, BufWriter::new(file), about);
        Ok(Box::new(recorder.map_err(|error| Failure::file("write", path, &error))?))
    }
}

/// That somebody wants to stop.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stop(pub(crate) Arc<AtomicBool>);

impl Stop {
    /// Ctrl-C stops after the present operation.
    pub(crate) fn on_interrupt() -> Self {
        let stop = Self::default();
        let told = stop.clone();
        // Where no handler can be set, Ctrl-C ends the process as it always did.
        let _ = ctrlc::set_handler(move || {
            // Who asks twice means it.
            if told.0.swap(true, Ordering::Relaxed) {
                std::process::exit(130);
            }
        });
        stop
    }

    /// Being told to end is the same as Ctrl-C, where a terminal has to be put right first. (A hang-up is not: whoever runs this under `nohup` wants it
    /// to go on.)
    #[cfg(feature = "live")]
    pub(crate) fn on_termination(&self) {
        // Where it cannot be had, being ended is sudden, as it always is.
        let _ = signal_hook::flag::register(signal_hook::consts::SIGTERM, Arc::clone(&self.0));
    }

    /// The same as Ctrl-C.
    #[cfg(feature = "live")]
    pub(crate) fn ask(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    pub(crate) fn is_asked(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// A port that goes no further once somebody wants to stop.
struct Stoppable {
    port: AnyPort,
    stop: Stop,
}

/// The longest wait in one piece, in microseconds.
const PIECE: u64 = 50_000;

impl Port for Stoppable {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        if self.stop.is_asked() {
            return Err(BusError::new(Cause::Other, "stopped by Ctrl-C"));
        }
        self.port.transfer(transfer)
    }

    fn wait(&mut self, micros: u64) {
        let mut left = micros;
        while left > 0 && !self.stop.is_asked() {
            let now = left.min(PIECE);
            self.port.wait(now);
            left -= now;
        }
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.port.line(high, within)
    }

    fn now(&mut self) -> u64 {
        self.port.now()
    }

    fn set_baud(&mut self, baud: u32) -> Result<(), BusError> {
        self.port.set_baud(baud)
    }

    fn supply(&mut self, state: &State) {
        self.port.supply(state);
    }
}

pub(crate) fn opening(error: OpenError) -> Failure {
    let help = error.help();
    Failure::helped(error.to_string(), help)
}

/// Prints the violations and misses of a stand-in.
pub(crate) fn tell_verdict(rig: Option<&Rig>) {
    let Some(rig) = rig else { return };
    let mut err = anstream::stderr();
    for (_, violation) in rig.verdict() {
        let _ = writeln!(err, "stand-in: violation: {}; possible effect: {}", visible(&violation.to_string()), violation.rule.effect());
    }
    for (_, miss) in rig.misses() {
        let _ = writeln!(err, "stand-in: {}", visible(&miss.to_string()));
    }
}
