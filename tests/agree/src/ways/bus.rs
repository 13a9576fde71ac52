//! The operations on a bus: dry run, blocking and async, also when a transfer fails; and the state the part ends in.

use std::pin::pin;
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll, Waker};

use yemdo::bus::{Bus, Transfer};
use yemdo::part::{Access, Action, Origin, Register};
use yemdo::routine::{Operation, Runner};
use yemdo::stand_in::{Rule, StandIn};
use yemdo::{Part, RoutineId};
use yemdo_bus::{AsyncDevice, AsyncPort, BusError, Cause, Device, Port, Rig, RigPort};

use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Things done one after another.
const STEPS: usize = 6;

/// A bench with one part, and what goes over its bus.
#[derive(Clone)]
struct Logged {
    port: RigPort,
    log: Arc<Mutex<Vec<String>>>,
    /// The transfer that fails.
    fails: Option<u64>,
    count: u64,
}

impl Logged {
    fn new(part: &Part, bus: Bus, fails: Option<u64>) -> Option<(Self, Rig)> {
        let rig = Rig::new();
        let place = rig.add(StandIn::new(part, 1).ok()?);
        Some((Self { port: rig.port(place, bus), log: Arc::default(), fails, count: 0 }, rig))
    }

    fn note(&self, text: String) {
        self.log.lock().unwrap().push(text);
    }

    fn done(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        self.note(transfer.text());
        self.count += 1;
        if self.fails == Some(self.count) {
            return Err(BusError::new(Cause::NakAddress, "made to fail"));
        }
        self.port.transfer(transfer)
    }
}

impl Port for Logged {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        self.done(transfer)
    }

    fn wait(&mut self, micros: u64) {
        self.note(format!("wait {micros}"));
        self.port.wait(micros);
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        self.note(format!("line {high} {within}"));
        self.port.line(high, within)
    }

    fn now(&mut self) -> u64 {
        self.port.now()
    }

    fn supply(&mut self, state: &yemdo::State) {
        self.port.supply(state);
    }
}

/// The same port for those who await: it is ready at once.
struct Awaited(Logged);

impl AsyncPort for Awaited {
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        self.0.done(transfer)
    }

    async fn wait(&mut self, micros: u64) {
        Port::wait(&mut self.0, micros);
    }

    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        Port::line(&mut self.0, high, within)
    }

    fn supply(&mut self, state: &yemdo::State) {
        Port::supply(&mut self.0, state);
    }
}

fn now<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(value) => value,
        Poll::Pending => panic!("a port that is ready at once"),
    }
}

/// Something that is done with a part.
#[derive(Clone, Debug)]
enum Deed {
    Set(Vec<String>),
    Run(String),
    Measure,
    Register(String),
}

/// Random things done at a stand-in, over each bus.
pub fn operations(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    for bus in part.buses().all() {
        for (id, _) in part.routines().entries() {
            dry(part, bus, id, tally);
        }
        let deeds: Vec<Deed> = (0..STEPS).map(|_| deed(part, c)).collect();
        state(part, bus, &deeds, tally);
        let fails = c.chance(70).then(|| 1 + c.below(12) as u64);
        both(part, bus, &deeds, fails, tally);
    }
}

fn deed(part: &Part, c: &mut Choices<'_>) -> Deed {
    let routines: Vec<&str> = part.routines().iter().map(|routine| routine.name()).collect();
    let registers: Vec<&str> = part.registers().iter().filter(|register| register.access().is_readable()).map(|r| r.name()).collect();
    match c.below(5) {
        0 | 1 => Deed::Set(cases::wishes(c, part, 3)),
        2 => c.any(&routines).map_or(Deed::Measure, |name| Deed::Run((*name).to_owned())),
        3 => c.any(&registers).map_or(Deed::Measure, |name| Deed::Register((*name).to_owned())),
        _ => Deed::Measure,
    }
}

/// A routine that does not depend on answers does exactly as its dry run says. (Values read earlier can change later writes.)
fn dry(part: &Part, bus: Bus, routine: RoutineId, tally: &mut Tally) {
    let Some(model) = part.routines().get(routine).filter(|_| steady(part, routine, 0)) else { return };
    // A read shows locks and reserved bits that a dry run does not know.
    let shows = |register: &Register| {
        part.fields().of(register.fields()).any(|field| matches!(field.access(), Access::SetUntilReset | Access::Reserved))
    };
    if part.registers().iter().any(|register| register.reset().is_none() && shows(register)) {
        return;
    }
    let Ok(runner) = Runner::new(part, routine, yemdo::State::reset(part)).and_then(|runner| runner.on_bus(bus, None)) else { return };
    let Ok((requests, _)) = runner.dry_run() else { return };
    let Some((port, _)) = Logged::new(part, bus, None) else { return };
    let log = Arc::clone(&port.log);
    let Ok(mut device) = Device::new(port, part.clone(), bus) else { return };
    if device.run(model.name()).is_err() {
        return;
    }
    let planned: Vec<String> = requests
        .iter()
        .filter_map(|request| match &request.operation {
            Operation::Transfer(transfer) => Some(transfer.text()),
            Operation::Wait(micros) => Some(format!("wait {micros}")),
            Operation::Line { high, within } => Some(format!("line {high} {within}")),
            _ => None,
        })
        .collect();
    let done = log.lock().unwrap().clone();
    tally.hold(Row::Bus, "dry run and run", planned == done, || format!("{} over {}: {planned:?}\n  {done:?}", model.name(), bus.key()));
}

fn steady(part: &Part, routine: RoutineId, depth: usize) -> bool {
    depth < 9
        && part.routines().get(routine).is_some_and(|model| {
            model.steps().iter().all(|step| {
                step.when.is_none()
                    && step.retry == 0
                    && match &step.action {
                        Action::Poll { .. } | Action::ReadRegisters(_) | Action::Expect(_) => false,
                        Action::ReadFrame(frame) => {
                            let origin = part.frames().get(*frame).map(|frame| frame.origin());
                            !matches!(origin, Some(Origin::Registers(_)))
                        }
                        Action::Run(other) => steady(part, *other, depth + 1),
                        _ => true,
                    }
            })
        })
}

/// The registers as a device knows them match the stand-in, for those that only a client changes.
fn state(part: &Part, bus: Bus, deeds: &[Deed], tally: &mut Tally) {
    let Some((port, rig)) = Logged::new(part, bus, None) else { return };
    let Ok(mut device) = Device::new(port, part.clone(), bus) else { return };
    for deed in deeds {
        let _ = blocking(&mut device, deed);
        for register in part.registers().iter() {
            let steady = register.access() == Access::ReadWrite
                && part.fields().of(register.fields()).all(|field| field.access() == Access::ReadWrite);
            let Some(known) = device.state().known_register(register).filter(|_| steady) else { continue };
            let held = rig.with_part(0, |part| part.state().register(register));
            tally.hold(Row::State, "the state known to a device", held == Some(known), || {
                format!("{deed:?} over {}: {} is {held:?}, known as {known}; {deeds:?}", bus.key(), register.name())
            });
        }
        let wrong =
            |rule: Rule| matches!(rule, Rule::Locked | Rule::ReadOnly | Rule::UnknownRegister | Rule::ReservedBits | Rule::WriteOnly);
        let violation = rig.verdict().into_iter().map(|(_, violation)| violation).find(|violation| wrong(violation.rule));
        tally.hold(Row::Bus, "writes the part refuses", violation.is_none() || matches!(deed, Deed::Run(_)), || {
            format!("{deed:?} over {}: {violation:?}; {deeds:?}", bus.key())
        });
        rig.forget_violations();
    }
}

/// Blocking and async ask for the same, whatever fails.
fn both(part: &Part, bus: Bus, deeds: &[Deed], fails: Option<u64>, tally: &mut Tally) {
    let (Some((port, _)), Some((other, _))) = (Logged::new(part, bus, fails), Logged::new(part, bus, fails)) else { return };
    let (log, other_log) = (Arc::clone(&port.log), Arc::clone(&other.log));
    let (Ok(mut device), Ok(mut awaited)) = (Device::new(port, part.clone(), bus), AsyncDevice::new(Awaited(other), part.clone(), bus))
    else {
        return;
    };
    for deed in deeds {
        let one = blocking(&mut device, deed);
        let two = match deed {
            Deed::Set(wishes) => now(awaited.configure(&wishes.iter().map(String::as_str).collect::<Vec<_>>())).map(drop),
            Deed::Run(name) => now(awaited.run(name)).map(drop),
            Deed::Measure => now(awaited.measure()).map(drop),
            Deed::Register(name) => {
                let id = part.register(name).unwrap();
                now(awaited.read_registers(&[id])).map(drop)
            }
        }
        .map_err(|error| error.to_string());
        let same = *log.lock().unwrap() == *other_log.lock().unwrap() && one == two;
        tally.hold(Row::Bus, "blocking and async", same, || {
            format!(
                "{deed:?} over {} with {fails:?}: {one:?} {two:?}\n  {:?}\n  {:?}",
                bus.key(),
                log.lock().unwrap(),
                other_log.lock().unwrap()
            )
        });
        let same = device.state().has_same_settings(awaited.state());
        tally.hold(Row::State, "blocking and async", same, || format!("{deed:?} over {} with {fails:?}", bus.key()));
    }
}

fn blocking(device: &mut Device<Logged>, deed: &Deed) -> Result<(), String> {
    match deed {
        Deed::Set(wishes) => device.configure(&wishes.iter().map(String::as_str).collect::<Vec<_>>()).map(drop),
        Deed::Run(name) => device.run(name).map(drop),
        Deed::Measure => device.measure().map(drop),
        Deed::Register(name) => device.read_register(name).map(drop),
    }
    .map_err(|error| error.to_string())
}
