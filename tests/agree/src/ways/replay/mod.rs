//! Emitted routines against the library's: the same operations on the bus in the same order, also when a transfer is not acknowledged.

use yemdo::bus::Bus;
use yemdo::routine::{Answer, Operation, Runner};
use yemdo::stand_in::StandIn;
use yemdo::{Part, RoutineId, State};
use yemdo_bus::{Port, Rig};

pub mod c;
pub mod python;
pub mod rust;

/// Operations after which a run is given up.
const MOST: usize = 120;

/// The longest chain of operations in which one is made to fail.
const FAILING: usize = 4;

/// A run of a routine at a stand-in: operations and answers as bytes for the compiled program. `None` if it is too long.
fn script(part: &Part, routine: RoutineId, bus: Bus, fails: Option<usize>) -> Option<(Vec<u8>, usize)> {
    let rig = Rig::new();
    let place = rig.add(StandIn::new(part, 1).ok()?);
    let mut port = rig.port(place, bus);
    let mut runner = Runner::new(part, routine, State::reset(part)).ok()?.on_bus(bus, None).ok()?;
    let mut script = Vec::new();
    let mut request = runner.start();
    let mut count = 0;
    while let Ok(Some(asked)) = &request {
        if count == MOST {
            return None;
        }
        let answered = Some(count) != fails;
        count += 1;
        let length = |bytes: &[u8]| u16::try_from(bytes.len()).unwrap().to_be_bytes();
        request = match &asked.operation {
            Operation::Transfer(transfer) if transfer.bus == Bus::Modbus => {
                let answer = if answered { port.transfer(transfer).ok() } else { None };
                script.extend(of_modbus(&transfer.send, answer.as_deref())?);
                runner.answer(answer.as_deref().map_or(Answer::Nak, Answer::Bytes))
            }
            Operation::Transfer(transfer) => {
                let answer = if answered { port.transfer(transfer).ok() } else { None };
                let came = answer.clone().unwrap_or_else(|| vec![0; transfer.receive]);
                let mut one = |send: &[u8], came: &[u8]| {
                    script.extend([0, u8::from(answer.is_some())]);
                    script.extend(length(send));
                    script.extend(send);
                    script.extend(length(came));
                    script.extend(came);
                };
                // With a stop between them, writing and reading are two transfers.
                if transfer.bus == Bus::I2c && !transfer.restart && !transfer.send.is_empty() && !came.is_empty() {
                    one(&transfer.send, &[]);
                    if answer.is_some() {
                        one(&[], &came);
                    }
                } else {
                    one(&transfer.send, &came);
                }
                runner.answer(answer.as_deref().map_or(Answer::Nak, Answer::Bytes))
            }
            Operation::Wait(micros) => {
                port.wait(*micros);
                script.extend([1, 1]);
                script.extend(u32::try_from(*micros).ok()?.to_be_bytes());
                runner.answer(Answer::Done)
            }
            Operation::Line { high, within } => {
                let came = answered && port.line(*high, *within).unwrap_or(false);
                script.extend([2 + u8::from(*high), u8::from(came)]);
                script.extend(u32::try_from(*within).ok()?.to_be_bytes());
                runner.answer(if came { Answer::Done } else { Answer::TimedOut })
            }
            _ => return None,
        };
    }
    script.extend([255, u8::from(request.is_ok())]);
    Some((script, count))
}

/// A Modbus request as emitted code asks for it: 4 or 5, whether it was answered, the function and the count of a read, the address, and the
/// data behind their length. `None` where the part refuses: emitted code leaves those answers to the caller.
fn of_modbus(send: &[u8], answer: Option<&[u8]>) -> Option<Vec<u8>> {
    let (function, address) = (send[1], &send[2..4]);
    if answer.is_some_and(|answer| answer[1] & 0x80 != 0) {
        return None;
    }
    let data = match (function, answer) {
        (1..=4, Some(answer)) => &answer[3..answer.len() - 2],
        (1..=4, None) => &[],
        (6, _) => &send[4..6],
        _ => &send[7..send.len() - 2],
    };
    let mut script = vec![if function <= 4 { 4 } else { 5 }, u8::from(answer.is_some())];
    script.extend(if function <= 4 { [function, 0, send[4], send[5]] } else { [0; 4] });
    script.extend(address);
    script.extend(u16::try_from(data.len()).unwrap().to_be_bytes());
    script.extend(data);
    Some(script)
}

/// A run of the library: the index of the routine in the sheet, a name for reports, and the script.
struct Replay {
    routine: usize,
    which: String,
    script: Vec<u8>,
}

/// Each routine from beginning to end, and with one of its first operations failing.
fn replays(part: &Part) -> Vec<Replay> {
    // Emitted code unlocks and restores registers whatever they hold, since the part may have been reset.
    let locked = part.registers().iter().any(|register| !register.bank().is_empty() || !register.writable_while().is_empty());
    let Some(bus) = part.buses().all().next().filter(|_| !locked) else { return Vec::new() };
    let mut all = Vec::new();
    for (at, (id, model)) in part.routines().entries().enumerate() {
        let Some((whole, count)) = script(part, id, bus, None) else { continue };
        let named = |which: String, script| Replay { routine: at, which: format!("{} {which}", model.name()), script };
        let failing = |at: usize| Some(named(format!("failing at {at}"), script(part, id, bus, Some(at))?.0));
        all.extend((0..count.min(FAILING)).filter_map(failing));
        all.push(named("whole".into(), whole));
    }
    all
}

fn listed(script: &[u8]) -> String {
    script.iter().map(u8::to_string).collect::<Vec<_>>().join(", ")
}
