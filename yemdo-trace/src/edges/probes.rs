//! The lines of a capture: which are buses, and their transfers.

use std::collections::VecDeque;

use super::{Glitches, I2cLines, SpiLines, SpiOptions, UartLine};
use crate::capture::{Captured, Item};
use crate::error::{CaptureError, Tell};
use crate::options::{CaptureOptions, Role};
use crate::rtu::Frames;

/// The lines of a capture, by their index.
#[derive(Clone, Debug)]
pub(crate) struct Probes {
    levels: Vec<bool>,
    names: Vec<String>,
    /// `None` if no pulse is too short.
    glitches: Option<Glitches>,
    i2c: Option<I2c>,
    spi: Option<Spi>,
    serial: Vec<(usize, UartLine)>,
    frames: Frames,
    /// Edges of one time act together.
    now: u64,
    changed: bool,
    ready: VecDeque<Item>,
    baud: u32,
}

#[derive(Clone, Debug)]
struct I2c {
    scl: usize,
    sda: usize,
    lines: I2cLines,
    /// The same with SCL and SDA exchanged, until the bus is known to be right.
    exchanged: I2cLines,
}

#[derive(Clone, Debug)]
struct Spi {
    clk: usize,
    mosi: Option<usize>,
    miso: Option<usize>,
    /// Each chip select, and its bus.
    selects: Vec<(Option<usize>, SpiLines)>,
}

impl Probes {
    /// Lines of these names.
    ///
    /// # Errors
    /// [`CaptureError`]: they are no bus, or two lines have one role.
    pub(crate) fn new(names: &[String], options: &CaptureOptions) -> Result<Self, CaptureError> {
        let roles: Vec<Option<Role>> = names.iter().map(|name| options.role_of(name)).collect();
        if let Some((_, name)) = options.lines.iter().find(|(_, name)| !names.iter().any(|own| ends_with(own, name))) {
            let error = CaptureError::new(format!("there is no line `{name}` in the capture"));
            return Err(error.help(format!("it has {}", names.join(", "))));
        }
        let all = |role: Role| roles.iter().enumerate().filter(move |(_, own)| **own == Some(role)).map(|(at, _)| at);
        for role in Role::ALL.into_iter().filter(|role| *role != Role::Cs) {
            let same: Vec<&str> = all(role).filter_map(|at| names.get(at)).map(String::as_str).collect();
            if same.len() > 1 {
                let error = CaptureError::new(format!("several lines could be {}: {}", role.as_str(), same.join(", ")));
                return Err(error.tell(Tell::Lines(same.first().map(|name| (role, (*name).to_owned())).into_iter().collect())));
            }
        }
        let one = |role: Role| all(role).next();
        let i2c = one(Role::Scl).zip(one(Role::Sda));
        let i2c = i2c.map(|(scl, sda)| I2c { scl, sda, lines: I2cLines::new(), exchanged: I2cLines::new() });
        let spi = one(Role::Clk).filter(|_| one(Role::Mosi).or(one(Role::Miso)).is_some()).map(|clk| {
            let how = SpiOptions { mode: options.mode, lsb_first: options.lsb_first };
            let mut selects: Vec<(Option<usize>, SpiLines)> = all(Role::Cs).map(|cs| (Some(cs), SpiLines::new(how, true))).collect();
            if selects.is_empty() {
                selects.push((None, SpiLines::new(how, false)));
            }
            Spi { clk, mosi: one(Role::Mosi), miso: one(Role::Miso), selects }
        });
        let serial: Vec<_> = [Role::Tx, Role::Rx].into_iter().filter_map(one).map(|at| (at, UartLine::new(options.serial))).collect();
        if i2c.is_none() && spi.is_none() && serial.is_empty() {
            let error = CaptureError::new(format!("these lines are no bus: {}", names.join(", ")));
            return Err(error.tell(Tell::Lines(Vec::new())));
        }
        Ok(Self {
            levels: vec![true; names.len()],
            names: names.to_vec(),
            glitches: (options.glitch > 0).then(|| Glitches::new(options.glitch)),
            i2c,
            spi,
            serial,
            frames: Frames::new(options.serial),
            now: 0,
            changed: false,
            ready: VecDeque::new(),
            baud: options.serial.baud,
        })
    }

    /// The names of the lines that are used, with their roles.
    pub(crate) fn used(&self, options: &CaptureOptions) -> Vec<String> {
        let used = self.names.iter().filter_map(|name| Some((name, options.role_of(name)?)));
        used.map(|(name, role)| format!("{} is {}", name, role.as_str())).collect()
    }

    /// A line changes its level.
    pub(crate) fn edge(&mut self, at: u64, line: usize, level: bool) {
        let Some(glitches) = &mut self.glitches else { return self.take(at, line, level) };
        for (at, line, level) in glitches.edge(at, line, level) {
            self.take(at, line, level);
        }
    }

    fn take(&mut self, at: u64, line: usize, level: bool) {
        if at > self.now {
            self.settle();
            self.now = at;
        }
        if let Some(place) = self.levels.get_mut(line).filter(|place| **place != level) {
            *place = level;
            self.changed = true;
        }
    }

    /// All edges of one time have come.
    fn settle(&mut self) {
        if !std::mem::take(&mut self.changed) {
            return;
        }
        let at = self.now;
        let level = |line: usize| self.levels.get(line).copied().unwrap_or(true);
        if let Some(i2c) = &mut self.i2c {
            let (scl, sda) = (level(i2c.scl), level(i2c.sda));
            self.ready.extend(i2c.lines.levels(at, scl, sda).into_iter().map(Item::Transfer));
            if i2c.lines.bytes() < MANY {
                i2c.exchanged.levels(at, sda, scl);
            }
        }
        if let Some(spi) = &mut self.spi {
            let data = (spi.mosi.is_some_and(level), spi.miso.is_some_and(level));
            for (select, lines) in &mut spi.selects {
                let found = lines.levels(at, level(spi.clk), select.is_some_and(level), data);
                let name = select.and_then(|select| self.names.get(select).cloned());
                self.ready.extend(found.map(|found| Item::Transfer(Captured { select: name, ..found })));
            }
        }
        for at_line in 0..self.serial.len() {
            let Some((line, decoder)) = self.serial.get_mut(at_line) else { continue };
            if let Some(byte) = decoder.level(at, self.levels.get(*line).copied().unwrap_or(true)) {
                self.ready.extend(self.frames.byte(at_line, byte));
            }
        }
    }

    /// The next item that is complete.
    pub(crate) fn ready(&mut self) -> Option<Item> {
        self.ready.pop_front()
    }

    /// The end of the capture.
    ///
    /// # Errors
    /// [`CaptureError`]: the lines changed without decoded transfers; with the likely reason.
    pub(crate) fn end(&mut self, at: u64) -> Result<(), CaptureError> {
        for (at, line, level) in self.glitches.as_mut().map_or(Vec::new(), Glitches::end) {
            self.take(at, line, level);
        }
        self.settle();
        if let Some(i2c) = &mut self.i2c {
            self.ready.extend(i2c.lines.end(at.max(self.now)).into_iter().map(Item::Transfer));
        }
        for (select, lines) in self.spi.iter_mut().flat_map(|spi| &mut spi.selects) {
            let name = select.and_then(|select| self.names.get(select).cloned());
            self.ready.extend(lines.end().map(|found| Item::Transfer(Captured { select: name, ..found })));
        }
        for (line, (_, decoder)) in self.serial.iter_mut().enumerate() {
            let byte = decoder.advance(u64::MAX);
            self.ready.extend(byte.into_iter().flat_map(|byte| self.frames.byte(line, byte)));
        }
        self.ready.extend(self.frames.end());
        self.reason_for_nothing().map_or(Ok(()), Err)
    }

    /// Likely reason if lines changed without decoded transfers.
    fn reason_for_nothing(&self) -> Option<CaptureError> {
        if let Some(i2c) = &self.i2c
            && i2c.lines.bytes() * 4 < i2c.exchanged.bytes()
        {
            let name = |line: usize| self.names.get(line).cloned().unwrap_or_default();
            let error = CaptureError::new("SCL and SDA are exchanged");
            return Some(error.tell(Tell::Lines(vec![(Role::Scl, name(i2c.sda)), (Role::Sda, name(i2c.scl))])));
        }
        let (bad, good) = self.serial.iter().map(|(_, line)| line.counts()).fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
        if bad > good {
            let shortest = self.serial.iter().filter_map(|(_, line)| line.shortest()).min()?;
            let error = CaptureError::new(format!("{bad} of {} characters have a wrong parity or stop bit", bad + good));
            let measured = 1e12 / shortest as f64;
            let usual = BAUDS.into_iter().min_by(|a, b| distance(f64::from(*a), measured).total_cmp(&distance(f64::from(*b), measured)));
            return Some(match usual.filter(|usual| *usual != self.baud) {
                Some(usual) => error.tell(Tell::Baud(usual)),
                None => error.tell(Tell::Parity),
            });
        }
        None
    }

    /// Dropped or incomplete items, for the user.
    pub(crate) fn notes(&self) -> Vec<String> {
        let mut notes = Vec::new();
        let dropped = self.glitches.as_ref().map_or(0, Glitches::dropped);
        if dropped > 0 {
            notes.push(format!("{} dropped", yemdo::counted(dropped, "glitch")));
        }
        let cut = self.i2c.as_ref().map_or(0, |i2c| i2c.lines.cut())
            + self.spi.iter().flat_map(|spi| &spi.selects).map(|(_, lines)| lines.cut()).sum::<u64>();
        if cut > 0 {
            notes.push(format!("{} cut off", yemdo::counted(cut, "byte")));
        }
        let bad: u64 = self.serial.iter().map(|(_, line)| line.counts().0).sum();
        if bad > 0 {
            notes.push(format!("{} with a wrong parity or stop bit", yemdo::counted(bad, "character")));
        }
        notes
    }
}

/// Number of bytes after which the lines of I2C are known not to be exchanged.
const MANY: u64 = 1000;

/// Usual rates of serial lines.
const BAUDS: [u32; 11] = [1200, 2400, 4800, 9600, 19_200, 38_400, 57_600, 115_200, 230_400, 460_800, 921_600];

fn distance(a: f64, b: f64) -> f64 {
    (a / b).ln().abs()
}

/// Whether a name is that of a line, with or without its scope.
fn ends_with(full: &str, name: &str) -> bool {
    full == name || full.rsplit('.').next() == Some(name)
}
