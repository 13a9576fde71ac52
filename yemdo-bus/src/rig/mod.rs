//! Stand-ins on a bench: behind embedded-hal with a virtual clock, as Modbus server, or as a port of their own.

mod hal;
mod port;
mod server;
#[cfg(all(target_os = "linux", feature = "linux"))]
mod terminal;
mod worker;

use std::sync::{Arc, Mutex, MutexGuard};

use yemdo::bus::Bus;
use yemdo::stand_in::{Fault, Faults, Miss, Reaction, StandIn, Violation};

pub use hal::{RigAlert, RigDelay, RigI2c, RigI2cError, RigLine, RigSpi};
pub use port::RigPort;
pub use server::{Server, serve_tcp};
#[cfg(all(target_os = "linux", feature = "linux"))]
pub use terminal::{Terminal, serve_rtu};

/// Parts that are not there, on one bench with one clock. Clones are the same bench.
///
/// The clock is virtual: it goes on by the bits of transfers and by the waits of the [delay](Self::delay), and so every run is the same.
///
/// ```
/// use embedded_hal::i2c::I2c;
/// use yemdo::{Part, stand_in::{Rule, StandIn}};
/// use yemdo_bus::Rig;
///
/// let part = Part::parse("probe.toml", r#"
/// part = "probe-1"
/// i2c.address = 0x33
/// frame.AIR = { read = 3, check = { xor = 0x21, over = "b0 b1", in = "b2" }, code = { t = "b0 b1" } }
/// reading.temperature = { unit = "°C", formula = "t * 0.01" }
/// routine.measure = [{ write = [0x44] }, { wait = "12 ms" }, { read = "AIR" }]
/// "#)?;
/// let rig = Rig::new();
/// rig.add(StandIn::new(&part, 1)?);
/// // A driver that reads at once, and leaves the check byte on the bus.
/// let mut i2c = rig.i2c();
/// i2c.write(0x33, &[0x44]).unwrap();
/// i2c.read(0x33, &mut [0; 2]).unwrap();
/// let rules: Vec<Rule> = rig.verdict().iter().map(|(_, violation)| violation.rule).collect();
/// assert_eq!(rules, [Rule::ReadTooEarly, Rule::CheckNotRead]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Rig {
    inner: Arc<Mutex<Inner>>,
}

#[derive(Debug)]
struct Inner {
    now: u64,
    /// Nanoseconds below a microsecond.
    nanos: u64,
    hertz: [u32; 2],
    parts: Vec<Slot>,
}

#[derive(Debug)]
struct Slot {
    stand_in: StandIn,
    faults: Faults,
    /// It is unplugged.
    away: bool,
}

/// Bits a second of I2C and SPI, where nobody says otherwise.
const RATES: [u32; 2] = [400_000, 1_000_000];
/// What a client waits for a part that holds the bus, in microseconds.
const HELD: u64 = 25_000;

impl Default for Rig {
    fn default() -> Self {
        Self::new()
    }
}

impl Rig {
    /// An empty bench, at time 0.
    pub fn new() -> Self {
        Self { inner: Arc::new(Mutex::new(Inner { now: 0, nanos: 0, hertz: RATES, parts: Vec::new() })) }
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        // Whoever panicked while it had the bench left it whole: all it holds is plain data.
        self.inner.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Puts a part on the bench; gives its place.
    pub fn add(&self, stand_in: StandIn) -> usize {
        let mut inner = self.lock();
        inner.parts.push(Slot { stand_in, faults: Faults::none(), away: false });
        inner.parts.len() - 1
    }

    /// Transfers to a part go wrong as `faults` says.
    pub fn set_faults(&self, part: usize, faults: Faults) {
        self.with_slot(part, |slot| slot.faults = faults);
    }

    /// The faults of a part that were injected so far: the number of the transfer, and the fault.
    pub fn injected(&self, part: usize) -> Vec<(u64, Fault)> {
        self.with_slot(part, |slot| slot.faults.injected.clone()).unwrap_or_default()
    }

    /// Transfers to a part so far, since its faults were set.
    pub fn transfers(&self, part: usize) -> u64 {
        self.with_slot(part, |slot| slot.faults.transfers()).unwrap_or(0)
    }

    /// Unplugs a part, or plugs it in again: it comes up as after a reset.
    pub fn plug(&self, part: usize, there: bool) {
        let now = self.now();
        self.with_slot(part, |slot| {
            if slot.away && there {
                slot.stand_in.reset_unseen(now);
            }
            slot.away = !there;
        });
    }

    /// The bus clock of I2C, or SPI: for the times, and held against what sheets allow.
    pub fn set_hertz(&self, bus: Bus, hertz: u32) {
        let mut inner = self.lock();
        let now = inner.now;
        match bus {
            Bus::I2c => inner.hertz[0] = hertz.max(1),
            Bus::Spi => inner.hertz[1] = hertz.max(1),
            _ => {}
        }
        inner.parts.iter_mut().for_each(|slot| slot.stand_in.clocked(now, bus, hertz));
    }

    /// Microseconds since the beginning.
    pub fn now(&self) -> u64 {
        self.lock().now
    }

    /// Time passes.
    pub fn pass(&self, micros: u64) {
        self.lock().now += micros;
    }

    /// Something done to a part on the bench; `None` where there is no such part.
    pub fn with_part<T>(&self, part: usize, what: impl FnOnce(&mut StandIn) -> T) -> Option<T> {
        self.with_slot(part, |slot| what(&mut slot.stand_in))
    }

    fn with_slot<T>(&self, part: usize, what: impl FnOnce(&mut Slot) -> T) -> Option<T> {
        self.lock().parts.get_mut(part).map(what)
    }

    /// Violations of the sheets by clients, each with the part's place; with those that only show at the end.
    pub fn verdict(&self) -> Vec<(usize, Violation)> {
        let inner = self.lock();
        let of = |(place, slot): (usize, &Slot)| {
            slot.stand_in.verdict(inner.now).into_iter().map(move |violation| (place, violation)).collect::<Vec<_>>()
        };
        inner.parts.iter().enumerate().flat_map(of).collect()
    }

    /// Signals that parts cannot say with their present settings: the part's place, and which.
    pub fn misses(&self) -> Vec<(usize, Miss)> {
        let inner = self.lock();
        let of = |(place, slot): (usize, &Slot)| slot.stand_in.misses().iter().map(move |miss| (place, miss.clone())).collect::<Vec<_>>();
        inner.parts.iter().enumerate().flat_map(of).collect()
    }

    /// What was done so far is not held against anybody: a scan that looks who is there, a first try.
    pub fn forget_violations(&self) {
        self.lock().parts.iter_mut().for_each(|slot| slot.stand_in.forget_violations());
    }

    /// The bench as an I2C bus of embedded-hal, blocking and async.
    pub fn i2c(&self) -> RigI2c {
        RigI2c { rig: self.clone() }
    }

    /// A part as an SPI device of embedded-hal.
    pub fn spi(&self, part: usize) -> RigSpi {
        RigSpi { rig: self.clone(), part }
    }

    /// The delay whose waits are the bench's time.
    pub fn delay(&self) -> RigDelay {
        RigDelay { rig: self.clone() }
    }

    /// The data-ready line of a part.
    pub fn line(&self, part: usize) -> RigLine {
        RigLine { rig: self.clone(), part }
    }

    /// The alert output of a part: high while it is active.
    pub fn alert(&self, part: usize) -> RigAlert {
        RigAlert { rig: self.clone(), part }
    }

    /// A part as a port, over one of its buses.
    pub fn port(&self, part: usize, bus: Bus) -> RigPort {
        RigPort { rig: self.clone(), part, bus }
    }
}

impl Inner {
    /// The place of the part at an I2C address.
    fn at_address(&self, address: u8) -> Option<usize> {
        (0..self.parts.len()).find(|part| self.is_at(*part, address) && self.parts.get(*part).is_some_and(|slot| !slot.away))
    }

    /// Whether a part has an I2C address.
    fn is_at(&self, part: usize, address: u8) -> bool {
        let i2c = self.parts.get(part).and_then(|slot| slot.stand_in.part().buses().i2c.as_ref());
        i2c.is_some_and(|i2c| i2c.address == address)
    }

    fn bits(&mut self, bits: u64, hertz: u32) {
        self.pass_nanos(bits * 1_000_000_000 / u64::from(hertz.max(1)));
    }

    fn pass_nanos(&mut self, nanos: u64) {
        self.nanos += nanos;
        self.now += self.nanos / 1000;
        self.nanos %= 1000;
    }

    /// One transfer, with what goes wrong with it.
    fn react(&mut self, part: usize, what: impl FnOnce(&mut StandIn, u64) -> Reaction) -> Reaction {
        let now = self.now;
        let Some(slot) = self.parts.get_mut(part).filter(|slot| !slot.away) else { return Reaction::NakAddress };
        let reaction = slot.faults.transfer(&mut slot.stand_in, now, |stand_in| what(stand_in, now));
        if reaction == Reaction::Stuck {
            self.now += HELD;
        }
        reaction
    }
}
