//! Time: that of stand-ins, or of the world.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use yemdo_bus::Rig;

use crate::time::Moment;

/// The longest wait in one piece, in microseconds.
const PIECE: u64 = 50_000;

/// The time by which a [`Logger`](crate::Logger) measures.
#[derive(Clone, Debug)]
pub struct Clock {
    rig: Option<Rig>,
    begin: Moment,
    real: bool,
    start: Instant,
}

impl Clock {
    /// The time of this machine. Recordings, which have times of their own, begin at `begin`.
    pub fn world(begin: Moment) -> Self {
        Self { rig: None, begin, real: false, start: Instant::now() }
    }

    /// The virtual time of stand-ins, which begins at `begin` and runs as fast as it can.
    pub fn of_rig(rig: &Rig, begin: Moment) -> Self {
        Self { rig: Some(rig.clone()), ..Self::world(begin) }
    }

    /// Waits for stand-ins take real time, too.
    pub fn in_real_time(self) -> Self {
        Self { real: true, ..self }
    }

    pub(super) fn start(&mut self) {
        self.start = Instant::now();
    }

    /// Microseconds since the beginning.
    pub(super) fn now(&self) -> u64 {
        match &self.rig {
            Some(rig) => rig.now(),
            None => self.start.elapsed().as_micros() as u64,
        }
    }

    /// The moment of a time; real time is read each time, since the clock may be set.
    pub(super) fn moment(&self, at: u64, own_clock: bool) -> Moment {
        if own_clock || self.rig.is_some() { self.begin.after(at) } else { Moment::now() }
    }

    pub(super) fn wait(&self, micros: u64, stop: &AtomicBool) {
        let end = self.now() + micros;
        while self.now() < end && !stop.load(Ordering::Relaxed) {
            let piece = (end - self.now()).min(PIECE);
            match &self.rig {
                Some(rig) => {
                    rig.pass(piece);
                    self.keep_pace(stop);
                }
                None => std::thread::sleep(Duration::from_micros(piece)),
            }
        }
    }

    /// What stand-ins took for measuring is over for them, and still to come in the world.
    pub(super) fn keep_pace(&self, stop: &AtomicBool) {
        let Some(rig) = self.rig.as_ref().filter(|_| self.real) else { return };
        let world = || Duration::from_micros(rig.now()).saturating_sub(self.start.elapsed());
        while !stop.load(Ordering::Relaxed) && !world().is_zero() {
            std::thread::sleep(world().min(Duration::from_micros(PIECE)));
        }
    }
}
