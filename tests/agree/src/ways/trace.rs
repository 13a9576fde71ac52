//! Compares the verdict on a client, and the meaning of its transfers: of a stand-in that it talks to, of its recording, and of the waveform
//! of that.

use std::collections::BTreeSet;
use std::io::Cursor;

use yemdo::bus::Bus;
use yemdo::part::Action;
use yemdo::record::Traffic;
use yemdo::stand_in::{Rule, StandIn};
use yemdo::trace::{Followed, Follower, Start};
use yemdo::{FieldId, Part, Status};
use yemdo_bus::recording::Recorder;
use yemdo_bus::{Device, Rig};
use yemdo_trace::wave::{WaveOptions, WaveWriter};
use yemdo_trace::{Capture, CaptureOptions, Item};

use super::recording::{Kept, is_carried};
use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Measures at a stand-in, with settings in between, and judges its recording.
pub fn judged(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    for bus in part.buses().all() {
        let rig = Rig::new();
        let Ok(stand_in) = StandIn::new(part, 3) else { continue };
        let place = rig.add(stand_in);
        let kept = Kept::default();
        let Ok(port) = Recorder::new(rig.port(place, bus), kept.clone(), "a test") else { continue };
        let Ok(mut device) = Device::new(port, part.clone(), bus) else { continue };
        let typed: Vec<String> = cases::wishes(c, part, 6).into_iter().filter(|typed| is_carried(part, typed)).collect();
        for one in &typed {
            let _ = device.measure();
            let _ = device.configure(&[one.as_str()]);
        }
        let _ = device.measure();
        let text = kept.text();
        let traffic: Vec<Traffic> = text.lines().filter_map(|line| Traffic::parse(line).ok()?).collect();
        // A stand-in decides itself how long a polled measurement takes; a wait with a condition may not be due.
        let polls =
            part.routines().iter().flat_map(|routine| routine.steps()).any(|step| {
                matches!(step.action, Action::Poll { .. }) || matches!(step.action, Action::Wait { .. }) && step.when.is_some()
            });
        // No bus shows settings without a register.
        let stored = |field: &FieldId| part.registers().iter().any(|register| register.fields().contains(field));
        let shown = part.frames().iter().flat_map(|frame| frame.valid_while()).all(|(field, _)| stored(field));
        let mut steps = part.routines().iter().flat_map(|routine| routine.steps());
        let hidden = steps.any(|step| matches!(&step.action, Action::Set { fields, .. } if fields.iter().any(|(field, _)| !stored(field))));
        let counts = |rule: &Rule| match rule {
            Rule::ReadTooEarly => !polls && !hidden,
            Rule::NotValid => shown && !hidden,
            _ => true,
        };
        let rules = |rules: &mut dyn Iterator<Item = Rule>| rules.filter(counts).collect::<BTreeSet<Rule>>();
        let live = rules(&mut rig.verdict().into_iter().map(|(_, violation)| violation.rule));
        let Ok(mut follower) = Follower::new(part, &Start::PowerUp) else { continue };
        let followed: Vec<Followed> = traffic.iter().filter_map(|one| follower.take(&one.clone().into())).collect();
        let end = traffic.last().map_or(0, |last| last.at);
        let recorded = rules(&mut follower.finish(end).into_iter().map(|finding| finding.violation.rule));
        tally.hold(Row::Bus, "verdict of a stand-in, of its recording", live == recorded, || {
            format!("over {} with {typed:?}: {live:?} and {recorded:?}\n{text}", bus.key())
        });
        waveform(part, bus, &traffic, &followed, tally);
    }
}

/// The same transfers on the lines of the bus.
fn waveform(part: &Part, bus: Bus, traffic: &[Traffic], followed: &[Followed], tally: &mut Tally) {
    // Failed transfers all look alike on the lines.
    if traffic.iter().any(|one| one.outcome.is_err()) || traffic.is_empty() {
        return;
    }
    let reading = CaptureOptions::of([part]);
    let options = WaveOptions::as_read(400_000, &reading);
    let mut bytes = Vec::new();
    let Ok(mut writer) = WaveWriter::new(&mut bytes, bus, options) else { return };
    if traffic.iter().any(|one| writer.transfer(one).is_err()) || writer.finish().is_err() {
        return;
    }
    drop(writer);
    let Ok(mut follower) = Follower::new(part, &Start::PowerUp) else { return };
    let mut again = Vec::new();
    let found = Capture::open(Cursor::new(bytes), reading).and_then(|mut capture| {
        while let Some(item) = capture.next_item()? {
            if let Item::Transfer(captured) = item {
                again.extend(follower.take(&captured.transaction));
            }
        }
        Ok(())
    });
    // Times differ, so derived quantities do.
    let text = |followed: &Followed| {
        let meanings: Vec<String> = followed.meanings.iter().map(ToString::to_string).collect();
        let readings = followed.frames.iter().filter_map(|seen| seen.decoded.as_ref().ok()).flat_map(|decoded| &decoded.readings);
        let readings: Vec<(String, Option<u64>, Status)> = readings
            .filter(|reading| !part.readings()[reading.id].is_derived())
            .map(|reading| (reading.name.clone(), reading.value.map(f64::to_bits), reading.status))
            .collect();
        format!("{meanings:?} {readings:?}")
    };
    let (first, second): (Vec<String>, Vec<String>) = (followed.iter().map(text).collect(), again.iter().map(text).collect());
    tally.hold(Row::Bus, "transfers of a recording, of its waveform", found.is_ok() && first == second, || {
        let differs = first.iter().zip(&second).find(|(one, other)| one != other);
        format!("over {}: {} and {} transfers, {found:?}, {differs:?}", bus.key(), first.len(), second.len())
    });
}
