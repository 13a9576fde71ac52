//! Compares measurements of a device with their recording, decoded as a log.

use std::io::{self, Write};
use std::sync::{Arc, Mutex};

use yemdo::configure::Wish;
use yemdo::part::{Frame, Origin};
use yemdo::record::LogReader;
use yemdo::stand_in::StandIn;
use yemdo::{Decoded, Decoder, FieldId, Part, State, Status};
use yemdo_bus::recording::Recorder;
use yemdo_bus::{Device, DeviceError, Rig, RigPort};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Measurements of one recording.
const MEASUREMENTS: usize = 3;

/// Lines that are kept.
#[derive(Clone, Default)]
pub(super) struct Kept(Arc<Mutex<Vec<u8>>>);

impl Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap().write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Kept {
    pub(super) fn text(&self) -> String {
        String::from_utf8(self.0.lock().unwrap().clone()).unwrap()
    }
}

/// Measures at a stand-in over each bus, with settings in between, and reads the recording.
pub fn measured(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    // Frames with the same transfers arrive together in a recording.
    let origins: Vec<String> = part.frames().iter().map(|frame| format!("{:?}", frame.origin())).collect();
    if origins.iter().enumerate().any(|(at, origin)| origins[..at].contains(origin)) {
        return;
    }
    for bus in part.buses().all() {
        let rig = Rig::new();
        let Ok(stand_in) = StandIn::new(part, 2) else { continue };
        let place = rig.add(stand_in);
        let kept = Kept::default();
        let Ok(port) = Recorder::new(rig.port(place, bus), kept.clone(), "a test") else { continue };
        let Ok(mut device) = Device::new(port, part.clone(), bus) else { continue };
        // No bus carries these: they are set first, and passed to the reader of the recording.
        let (carried, told): (Vec<String>, Vec<String>) = cases::wishes(c, part, 6).into_iter().partition(|typed| is_carried(part, typed));
        let _ = configure(&mut device, &told);
        let mut log = Log::new(part, device.state());
        for round in 0..MEASUREMENTS {
            if c.chance(60) {
                let some: Vec<String> = carried.iter().skip(round).step_by(2).cloned().collect();
                let _ = configure(&mut device, &some);
            }
            log.take(&kept.text());
            let Ok(measurement) = device.measure() else { continue };
            let before = log.decoder.state().clone();
            let recorded = log.take(&kept.text());
            // A step of a routine set what no bus carries, or what only a later command carries.
            if [&before, log.decoder.state()].into_iter().any(|known| !same_without_register(part, device.state(), known)) {
                break;
            }
            for (decoded, bytes) in measurement.frames.iter().map(|frame| (frame.decoded(), frame.bytes())) {
                let name = part.frames()[decoded.frame].name();
                let about = || format!("{name} {} over {} with {told:?} and {carried:?}", yemdo::to_hex(bytes), bus.key());
                let found = recorded.iter().rev().find(|found| found.frame == decoded.frame);
                tally.hold(Row::Meaning, "measured frames are in the recording", found.is_some(), about);
                let Some(found) = found else { continue };
                // A recording takes every read of a frame's registers as the frame, so it may know more, or have read a kept frame again.
                let one = |(live, told): (&Outcome, &Outcome)| live == told || live.2 == Status::Waiting;
                let same = part.frames().iter().any(|frame| is_setting(part, frame))
                    || outcomes(part, decoded).iter().zip(&outcomes(part, found)).all(one);
                tally.hold(Row::Meaning, "measured, recorded", same, || {
                    format!("{}: {:?} and {:?}", about(), outcomes(part, decoded), outcomes(part, found))
                });
            }
        }
    }
}

/// True for kept frames of registers that the client writes.
fn is_setting(part: &Part, frame: &Frame) -> bool {
    let Origin::Registers(runs) = frame.origin() else { return false };
    frame.is_kept() && part.registers().of(runs.iter().flatten()).any(|register| register.access().is_writable())
}

fn configure(device: &mut Device<Recorder<RigPort, Kept>>, typed: &[String]) -> Result<(), DeviceError> {
    device.configure(&typed.iter().map(String::as_str).collect::<Vec<_>>()).map(drop)
}

/// Settings that no register holds are the same.
fn same_without_register(part: &Part, one: &State, other: &State) -> bool {
    let stored = |id: &FieldId| part.registers().iter().any(|register| register.fields().contains(id));
    part.fields().entries().filter(|(id, _)| !stored(id)).all(|(_, field)| one.known_field(field) == other.known_field(field))
}

/// True if a bus carries the requested setting.
pub(super) fn is_carried(part: &Part, typed: &str) -> bool {
    match Wish::parse(part, typed) {
        Ok(Wish::Field { field, .. }) => part.registers().iter().any(|register| register.fields().contains(&field)),
        _ => false,
    }
}

/// A recording that is read while it grows.
struct Log {
    reader: LogReader,
    decoder: Decoder,
    lines: usize,
}

impl Log {
    fn new(part: &Part, state: &State) -> Self {
        let mut decoder = Decoder::new(part);
        decoder.adopt(state);
        Self { reader: LogReader::new(part, None).with_state(state), decoder, lines: 0 }
    }

    /// The frames of new lines.
    fn take(&mut self, text: &str) -> Vec<Decoded> {
        let mut all = Vec::new();
        for line in text.lines().skip(self.lines) {
            self.lines += 1;
            for record in self.reader.line(line).unwrap() {
                record.state.iter().for_each(|state| self.decoder.adopt(state));
                all.extend(record.bytes.ok().and_then(|bytes| self.decoder.decode(record.frame, &bytes).ok()));
            }
        }
        all
    }
}

/// The name of a reading, its value, its status.
type Outcome = (String, Option<f64>, Status);

/// Values and statuses without derived quantities: a recording has other times.
fn outcomes(part: &Part, decoded: &Decoded) -> Vec<Outcome> {
    let measured = decoded.readings.iter().filter(|reading| part.readings().get(reading.id).is_some_and(|model| !model.is_derived()));
    measured.map(|reading| (reading.name.clone(), reading.value, reading.status)).collect()
}
