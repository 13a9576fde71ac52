//! Violations of the client: at their time, and at the end.

use super::judge::{Judge, Rule, Violation};
use super::state::StandIn;
use crate::bus::Bus;
use crate::model::frame::Origin;
use crate::model::ids::{FrameId, ReadingId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::reading::Condition;
use crate::model::status::Status;

impl StandIn {
    /// Violations so far.
    pub fn violations(&self) -> &[Violation] {
        &self.judge.violations
    }

    /// Forgets the violations so far.
    pub fn forget_violations(&mut self) {
        self.judge = Judge::default();
    }

    /// All violations, with those that only show at the end: frames that were never read, and an alert that was never checked.
    pub fn verdict(&self, now: u64) -> Vec<Violation> {
        let mut judge = self.judge.clone();
        let part = &self.part;
        let took = |frame: FrameId| self.read_frames.get(frame).copied().unwrap_or(false);
        let unseen = self.began_unseen();
        for (id, frame) in part.frames.entries().filter(|(id, frame)| !unseen && frame.keep && !took(*id)) {
            let needs = |reading: &ReadingId| part.readings.get(*reading).is_some_and(|reading| reading.frames.contains(&id));
            let user = part.frames.entries().find(|(other, model)| took(*other) && model.readings.iter().any(needs));
            if let Some((_, user)) = user {
                let what = format!("{} was read, and never {}, which its readings need", user.name, frame.name);
                judge.report(now, Rule::CalibrationNotRead, what, self.line_of(frame.span.start));
            }
        }
        for measure in self.measures.iter().flatten() {
            if let Some((at, what)) = &measure.early {
                judge.report(*at, Rule::ReadTooEarly, what.clone(), self.line_of(measure.how.span.start));
            }
        }
        self.unread_status(now, &mut judge);
        if self.alert && !self.alert_seen {
            judge.report(now, Rule::AlertNotCleared, "the alert was raised and never read".into(), None);
        }
        judge.violations
    }

    /// Registers of status bits that were never read, although the data beside them were.
    fn unread_status(&self, now: u64, judge: &mut Judge) {
        let part = &self.part;
        let read = |register: RegisterId| self.read_registers.get(register).copied().unwrap_or(false);
        for frame in part.frames.iter() {
            let Origin::Registers(runs) = &frame.origin else { continue };
            if frame.readings.is_empty() || !runs.iter().flatten().any(|register| read(*register)) {
                continue;
            }
            // The client itself sets the fields that a frame needs.
            let looked_at = |condition: &&Condition| condition.needs.is_none() && condition.status != Status::Alert;
            for condition in frame.status.iter().filter(looked_at) {
                let fields = inputs(&condition.formula).filter_map(|input| match input {
                    Input::Code(code) => part.codes.get(code)?.field,
                    other => other.field(),
                });
                for home in fields.flat_map(|field| part.homes(field)) {
                    let used = frame.readings.iter().any(|reading| self.values_read(*reading, home));
                    if let Some(model) = part.registers.get(home).filter(|_| used && !read(home)) {
                        let what = format!("{} was never read, and says whether readings are {}", model.name, condition.status.as_str());
                        judge.report(now, Rule::StatusNotRead, what, self.line_of(condition.span().start));
                    }
                }
            }
        }
    }

    /// Whether a register that a reading needs was read, other than its status register.
    fn values_read(&self, reading: ReadingId, status: RegisterId) -> bool {
        let codes = self.part.readings.get(reading).map_or(&[] as &[_], |reading| &reading.codes);
        let homes = self.part.codes.of(codes).filter_map(|code| self.frame_registers(code.frame)).flatten();
        homes.into_iter().any(|home| home != status && self.read_registers.get(home).copied().unwrap_or(false))
    }

    fn frame_registers(&self, frame: FrameId) -> Option<Vec<RegisterId>> {
        match &self.part.frames.get(frame)?.origin {
            Origin::Registers(runs) => Some(runs.iter().flatten().copied().collect()),
            _ => None,
        }
    }

    pub(super) fn report(&mut self, now: u64, rule: Rule, what: String, line: Option<usize>) {
        self.judge.report(now, rule, what, line);
    }

    pub(super) fn line_of(&self, start: usize) -> Option<usize> {
        Some(self.part.source.line(start))
    }

    /// Sets the bus clock, for comparison with the maximum of the sheet.
    pub fn clocked(&mut self, now: u64, bus: Bus, hertz: u32) {
        let most = match bus {
            Bus::I2c => self.part.buses.i2c.as_ref().and_then(|i2c| i2c.max_khz),
            Bus::Spi => self.part.buses.spi.as_ref().and_then(|spi| spi.max_khz),
            Bus::Modbus => None,
        };
        if let Some(most) = most.filter(|most| u64::from(hertz) > u64::from(*most) * 1000) {
            let what = format!("{} at {} kHz, and the part allows {most} kHz", bus.name(), hertz / 1000);
            self.report(now, Rule::ClockTooFast, what, None);
        }
    }
}
