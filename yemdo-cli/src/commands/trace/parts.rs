//! The parts on the bus of a capture, and which transfer is whose.

use std::collections::BTreeMap;
use std::fmt;
use std::fs::File;
use std::io::{BufReader, Read, Write};
use std::path::Path;

use yemdo::bus::Bus;
use yemdo::configure::assume;
use yemdo::trace::{Followed, Follower, FrameSeen, Meaning, Start};
use yemdo::{FaultKind, FrameId, Part, State, counted, parse_integer, visible};
use yemdo_bus::bench::BenchPart;
use yemdo_bus::place::Place;
use yemdo_trace::{Capture, CaptureOptions, Captured, Item};

use crate::args::Trace;
use crate::failure::Failure;
use crate::input;

/// A part on the bus.
pub(super) struct OnBus {
    pub(super) name: String,
    /// SPI: its chip select; `None`: any.
    select: Option<String>,
    pub(super) follower: Follower,
    pub(super) transfers: u64,
    unknown: u64,
    /// Transfers whose meaning or readings depend on a setting that is unknown.
    unsettled: u64,
}

/// The parts on the bus.
pub(super) struct Parts {
    list: Vec<OnBus>,
    /// Transfers to addresses of no part.
    strangers: BTreeMap<Address, u64>,
    pub(super) damaged: u64,
    /// The capture has frames instead of transfers.
    pub(super) printed: bool,
}

/// An address on a bus.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Address {
    bus: Bus,
    /// I2C address or Modbus unit.
    number: Option<u8>,
    /// SPI chip select.
    select: Option<String>,
}

impl Address {
    fn of_i2c(address: u8) -> Self {
        Self { bus: Bus::I2c, number: Some(address), select: None }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.bus, self.number, &self.select) {
            (Bus::I2c, Some(address), _) => write!(f, "I2C address 0x{address:02X}"),
            (Bus::Modbus, Some(unit), _) => write!(f, "Modbus unit {unit}"),
            (bus, _, Some(select)) => write!(f, "{} at {}", bus.name(), visible(select)),
            (bus, ..) => f.write_str(bus.name()),
        }
    }
}

/// A transfer that was taken.
pub(super) enum Taken {
    Followed {
        part: usize,
        followed: Box<Followed>,
    },
    /// No part has this address.
    Stranger,
}

impl OnBus {
    /// Whether a chip select is its own: by its name, with or without its scope.
    fn is_selected(&self, select: Option<&str>) -> bool {
        let Some(own) = &self.select else { return true };
        select.is_some_and(|select| select == own || select.strip_suffix(own.as_str()).is_some_and(|scope| scope.ends_with('.')))
    }
}

/// The most addresses of no part that are counted.
const MOST_STRANGERS: usize = 256;

impl Parts {
    pub(super) fn new(args: &Trace) -> Result<Self, Failure> {
        let mut list = Vec::new();
        let mut set = vec![false; args.set.len()];
        for (name, part, select, own) in asked(args)? {
            let start = start(args, &part, &own, &mut set)?;
            let follower = Follower::new(&part, &start).map_err(|error| Failure::error(error.to_string()))?;
            list.push(OnBus { name, select, follower, transfers: 0, unknown: 0, unsettled: 0 });
        }
        if let Some((typed, _)) = args.set.iter().zip(&set).find(|(_, taken)| !**taken) {
            return Err(Failure::error(format!("no sheet has the setting or parameter in `{typed}`")));
        }
        let parts = Self { list, strangers: BTreeMap::new(), damaged: 0, printed: false };
        parts.refuse_clashes()?;
        Ok(parts)
    }

    pub(super) fn all(&self) -> impl Iterator<Item = &OnBus> {
        self.list.iter()
    }

    pub(super) fn get(&self, at: usize) -> Option<&OnBus> {
        self.list.get(at)
    }

    /// Refuses two parts with one address.
    fn refuse_clashes(&self) -> Result<(), Failure> {
        for (at, one) in self.list.iter().enumerate() {
            for other in self.list.iter().skip(at + 1) {
                let (first, second) = (one.follower.part().buses(), other.follower.part().buses());
                let i2c = first.i2c.as_ref().zip(second.i2c.as_ref()).filter(|(a, b)| a.address == b.address);
                let unit = first.modbus.as_ref().zip(second.modbus.as_ref()).filter(|(a, b)| a.unit_or_first() == b.unit_or_first());
                let select = first.spi.is_some()
                    && second.spi.is_some()
                    && first.i2c.is_none()
                    && second.i2c.is_none()
                    && one.select == other.select;
                let what = match (i2c, unit, select) {
                    (Some((i2c, _)), ..) => format!("the I2C address 0x{:02X}", i2c.address),
                    (_, Some((modbus, _)), _) => format!("unit {}", modbus.unit_or_first()),
                    (.., true) => "the same chip select".to_owned(),
                    _ => continue,
                };
                let failure = Failure::error(format!("{} and {} both have {what}", one.name, other.name));
                return Err(failure.help("give one of them another after @: SHEET@0x2D, SHEET@18, SHEET@cs1"));
            }
        }
        Ok(())
    }

    /// Gives a transfer to its part.
    pub(super) fn take(&mut self, captured: &Captured) -> Taken {
        for (at, part) in self.list.iter_mut().enumerate() {
            let selected = captured.transaction.traffic.transfer.bus != Bus::Spi || part.is_selected(captured.select.as_deref());
            if !selected {
                continue;
            }
            if let Some(followed) = part.follower.take(&captured.transaction) {
                part.transfers += 1;
                part.unknown += u64::from(followed.meanings.contains(&Meaning::Unknown));
                part.unsettled += u64::from(is_unsettled(&followed));
                return Taken::Followed { part: at, followed: Box::new(followed) };
            }
        }
        let transfer = &captured.transaction.traffic.transfer;
        let address = Address { bus: transfer.bus, number: transfer.address, select: captured.select.clone() };
        if self.strangers.contains_key(&address) || self.strangers.len() < MOST_STRANGERS {
            *self.strangers.entry(address).or_default() += 1;
        }
        Taken::Stranger
    }

    /// Gives printed bytes to the frame that one of the words names, otherwise to the only one of that length.
    pub(super) fn take_printed(&mut self, at: u64, names: &[String], bytes: &[u8]) -> Option<(usize, FrameSeen)> {
        let (place, frame) = self.frame_of(names, bytes)?;
        let part = self.list.get_mut(place)?;
        part.transfers += 1;
        Some((place, part.follower.take_frame(at, frame, bytes)))
    }

    fn frame_of(&self, names: &[String], bytes: &[u8]) -> Option<(usize, FrameId)> {
        let all = || {
            let parts = self.list.iter().enumerate();
            parts.flat_map(|(at, part)| part.follower.part().frames().entries().map(move |(id, frame)| (at, id, frame)))
        };
        let named = all().find(|(_, _, frame)| names.iter().any(|name| name.eq_ignore_ascii_case(frame.name())));
        let mut fitting = all().filter(|(_, _, frame)| frame.length() == bytes.len());
        let only = fitting.next().filter(|_| fitting.next().is_none());
        named.or(only).map(|(at, id, _)| (at, id))
    }

    /// Transfers by part, in words.
    pub(super) fn summary(&self) -> String {
        let own = self.list.iter().map(|part| format!("{} of {}", counted(part.transfers, self.what()), part.name));
        let unknown = if self.list.is_empty() { "" } else { ", which no sheet has" };
        let strangers = self.strangers.iter().map(|(name, count)| format!("{} of {name}{unknown}", counted(*count, "transfer")));
        let damaged = (self.damaged > 0).then(|| format!("{} damaged", self.damaged));
        own.chain(strangers).chain(damaged).collect::<Vec<_>>().join(", ")
    }

    /// Whether there are transfers of a part to judge: printed lines have none.
    pub(super) fn is_judged(&self) -> bool {
        !self.printed && self.list.iter().any(|part| part.transfers > 0)
    }

    fn what(&self) -> &'static str {
        if self.printed { "frame" } else { "transfer" }
    }

    /// An error if the capture has no transfer of any of the parts.
    pub(super) fn refuse_nothing(&self) -> Result<(), Failure> {
        if self.list.is_empty() || self.list.iter().any(|part| part.transfers > 0) {
            return Ok(());
        }
        let names: Vec<&str> = self.list.iter().map(|part| part.name.as_str()).collect();
        let failure = Failure::error(format!("the capture has no {} of {}", self.what(), names.join(", ")));
        let seen: Vec<String> = self.strangers.keys().map(ToString::to_string).collect();
        Err(if seen.is_empty() { failure } else { failure.help(format!("it has transfers of {}", seen.join(", "))) })
    }

    /// Prints likely corrections if most of the capture has no meaning.
    pub(super) fn hints(&self, args: &Trace, options: &CaptureOptions) -> Result<(), Failure> {
        let mut err = anstream::stderr();
        for part in &self.list {
            let buses = part.follower.part().buses();
            if part.transfers == 0 {
                let wanted = buses.i2c.as_ref().map(|i2c| i2c.address);
                let shifted = wanted.filter(|address| *address < 0x40 && self.strangers.contains_key(&Address::of_i2c(address << 1)));
                if let Some(address) = shifted {
                    writeln!(err, "help: 0x{:02X} is the 8-bit form of the address 0x{address:02X} of {}", address << 1, part.name)?;
                }
            }
            if part.unsettled > 0 {
                let what = counted(part.unsettled, "transfer");
                writeln!(
                    err,
                    "help: settings that the capture does not show matter for {what} of {}; if they are known, give --assume-reset, --power-up or --set NAME=VALUE",
                    part.name
                )?;
            }
            let unclear = part.transfers > 3 && part.unknown * 2 > part.transfers;
            if unclear
                && buses.spi.is_some()
                && let Some(help) = better_mode(args, options, part.follower.part())
            {
                writeln!(err, "help: most transfers of {} are unknown; {help}", part.name)?;
            }
        }
        Ok(())
    }
}

/// Whether a transfer has no meaning, or no value, because a setting is unknown.
fn is_unsettled(followed: &Followed) -> bool {
    let undecided = followed.meanings.iter().any(|meaning| matches!(meaning, Meaning::Doubtful { .. })) && followed.violations.is_empty();
    let readings = followed.frames.iter().filter_map(|seen| seen.decoded.as_ref().ok()).flat_map(|decoded| &decoded.readings);
    undecided || readings.into_iter().any(|reading| reading.fault.as_ref().is_some_and(|fault| fault.kind == FaultKind::NoValue))
}

/// Number of transfers tried in another mode.
const TRIED: usize = 200;

/// Options with which more transfers of an SPI part have a meaning.
fn better_mode(args: &Trace, options: &CaptureOptions, part: &Part) -> Option<String> {
    if args.capture == Path::new("-") {
        return None;
    }
    let known = |mode: u8, lsb_first: bool| -> Option<usize> {
        let file: Box<dyn Read + Send> = Box::new(File::open(&args.capture).ok()?);
        let mut trial = options.clone();
        (trial.mode, trial.lsb_first) = (mode, lsb_first);
        let mut capture = Capture::open(BufReader::with_capacity(1 << 16, file), trial).ok()?;
        let mut follower = Follower::new(part, &Start::Unseen).ok()?;
        let (mut known, mut tried) = (0, 0);
        while let Ok(Some(item)) = capture.next_item() {
            let Item::Transfer(captured) = item else { continue };
            let Some(followed) = follower.take(&captured.transaction) else { continue };
            known += usize::from(!followed.meanings.contains(&Meaning::Unknown));
            tried += 1;
            if tried == TRIED {
                break;
            }
        }
        Some(known)
    };
    let now = known(options.mode, options.lsb_first)?;
    // The last of the best counts: the usual order.
    let all = [1u8, 0].into_iter().flat_map(|mode| [(mode, true), (mode, false)]);
    let (best, mode, lsb_first) = all.filter_map(|(mode, lsb)| Some((known(mode, lsb)?, mode, lsb))).max_by_key(|(count, ..)| *count)?;
    let order = if lsb_first { "lsb" } else { "msb" };
    // Modes 0 and 3 sample at the same edge, and so do 1 and 2.
    let other = 3 - mode;
    (best > now.max(1) * 2).then(|| format!("they fit in mode {mode} or {other}, {order} first: give --mode {mode} --bit-order {order}"))
}

/// The state at the beginning, for one of the parts.
fn start(args: &Trace, part: &Part, own: &[String], set: &mut [bool]) -> Result<Start, Failure> {
    if args.power_up {
        return Ok(Start::PowerUp);
    }
    let mut typed = own.to_vec();
    let mut refused = None;
    for (one, taken) in args.set.iter().zip(set) {
        // A setting may be one of another part.
        match assume(part, &State::reset(part), [one.as_str()]) {
            Ok(_) => {
                *taken = true;
                typed.push(one.clone());
            }
            Err(error) => refused = Some(error),
        }
    }
    if let Some(error) = refused.filter(|_| args.sheets.len() == 1) {
        return Err(error.into());
    }
    let begin = if args.assume_reset { State::while_read(part) } else { State::unseen(part) };
    if typed.is_empty() && !args.assume_reset {
        return Ok(Start::Unseen);
    }
    Ok(Start::Known(Box::new(assume(part, &begin, &typed)?)))
}

type Asked = (String, Part, Option<String>, Vec<String>);

/// Parts of the command line: names, chip selects, and the settings of a bench.
fn asked(args: &Trace) -> Result<Vec<Asked>, Failure> {
    let Some(path) = &args.bench else { return args.sheets.iter().map(|typed| one(typed)).collect() };
    let named = |(one, part): (BenchPart, Part)| {
        // The kernel's trace names chip selects as places do: spi0.1.
        let select = match &one.place {
            Place::Spi { path, .. } => Some(format!("spi{}", path.strip_prefix("/dev/spidev").unwrap_or(path))),
            _ => None,
        };
        (one.name, part, select, one.set)
    };
    Ok(input::bench(path)?.into_iter().map(named).collect())
}

/// A sheet, with an address, unit or chip select after `@`.
fn one(typed: &str) -> Result<Asked, Failure> {
    let (path, behind) = match typed.rsplit_once('@') {
        Some((path, behind)) if !Path::new(typed).exists() => (path, Some(behind)),
        _ => (typed, None),
    };
    let part = input::load(Path::new(path), None)?;
    let Some(behind) = behind else { return Ok((part.name().to_owned(), part, None, Vec::new())) };
    let name = format!("{}@{behind}", part.name());
    let number = parse_integer(behind).and_then(|number| u8::try_from(number).ok());
    let (i2c, modbus) = (part.buses().i2c.is_some(), part.buses().modbus.is_some());
    match number {
        Some(_) if i2c => {
            let part = input::load_at(Path::new(path), None, Some(behind))?;
            Ok((name, part, None, Vec::new()))
        }
        Some(unit) if modbus => Ok((name, part.with_unit(unit), None, Vec::new())),
        _ if part.buses().spi.is_some() => Ok((name, part, Some(behind.to_owned()), Vec::new())),
        _ => Err(Failure::error(format!("`{behind}` is no address or unit of {}", part.name())).help("write SHEET@0x2D, or SHEET@17")),
    }
}
