//! Who answers on a bus, and which sheet it could be.

use yemdo::bus::modbus::{AddressRange, ModbusTable, ResponseError, read_request, read_response};
use yemdo::bus::{Bus, Transfer};
use yemdo::part::Origin;
use yemdo::routine::Operation;
use yemdo::routine::{Answer, Failure, Runner};
use yemdo::{Decoder, Part, State};

use crate::error::Cause;
use crate::port::Port;

/// The 7-bit addresses that parts can have; the others are reserved (I2C-bus specification UM10204, section 3.1.12).
pub const I2C_ADDRESSES: std::ops::RangeInclusive<u8> = 0x08..=0x77;

/// Why the probe of an I2C scan is harmless, for people.
pub const I2C_PROBE: &str = "reads one byte from each address; nothing is written";

/// Somebody answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// The 7-bit I2C address, or the Modbus unit.
    pub address: u8,
    /// How it answered.
    pub answered: Answered,
    /// The sheets that it could be.
    pub candidates: Vec<Candidate>,
}

/// How a scan was answered.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Answered {
    /// It acknowledged.
    Acknowledged,
    /// A driver of the kernel has the address.
    TakenByDriver,
    /// A good Modbus response.
    Response,
    /// A Modbus exception, which is an answer, too.
    Exception(u8),
}

/// A sheet that a part could be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Candidate {
    /// Name of the part.
    pub part: String,
    /// What speaks for it, or against it.
    pub evidence: Evidence,
}

/// What is known of a candidate.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Evidence {
    /// Its identity is as the sheet expects.
    Identity(String),
    /// A frame of it was read, and its check fits.
    Check(String),
    /// It answers to a register of the sheet.
    Register,
    /// The address fits; the sheet has nothing to tell it by without writing.
    Address,
    /// It is not this part.
    Not(String),
}

/// Whether somebody is at an I2C address.
pub fn probe_i2c(port: &mut dyn Port, address: u8) -> Result<Option<Answered>, crate::error::BusError> {
    let read = Transfer { bus: Bus::I2c, address: Some(address), send: Vec::new(), receive: 1, restart: true, discard: false };
    match port.transfer(&read) {
        Ok(_) => Ok(Some(Answered::Acknowledged)),
        Err(error) => match error.cause {
            Cause::InUse => Ok(Some(Answered::TakenByDriver)),
            Cause::NakAddress | Cause::Nak | Cause::NakData => Ok(None),
            _ => Err(error),
        },
    }
}

/// Everybody who acknowledges an I2C address, with the sheets that it could be; `goes_on` is asked before each address.
///
/// # Errors
/// The bus itself failed.
pub fn scan_i2c(port: &mut dyn Port, parts: &[Part], goes_on: &mut dyn FnMut() -> bool) -> Result<Vec<Found>, crate::error::BusError> {
    let mut found = Vec::new();
    for address in I2C_ADDRESSES {
        if !goes_on() {
            break;
        }
        let Some(answered) = probe_i2c(port, address)? else { continue };
        let candidates = if answered == Answered::Acknowledged { candidates_i2c(port, address, parts) } else { Vec::new() };
        found.push(Found { address, answered, candidates });
    }
    Ok(found)
}

/// The sheets that an I2C part at an address could be, each looked at by what can be read without writing.
pub fn candidates_i2c(port: &mut dyn Port, address: u8, parts: &[Part]) -> Vec<Candidate> {
    let mut found = Vec::new();
    for part in parts {
        let at_home = part.buses().i2c.as_ref().is_some_and(|i2c| i2c.addresses().contains(&address));
        let Ok(part) = part.clone().with_address(address).map_err(|_| ()) else { continue };
        if at_home {
            let evidence = evidence(port, &part, Bus::I2c);
            found.push(Candidate { part: part.name().to_owned(), evidence });
        }
    }
    sorted(found)
}

/// Those that are confirmed first, those that it is not last.
fn sorted(mut found: Vec<Candidate>) -> Vec<Candidate> {
    found.sort_by_key(|candidate| match candidate.evidence {
        Evidence::Identity(_) => 0,
        Evidence::Check(_) => 1,
        Evidence::Register => 2,
        Evidence::Address => 3,
        Evidence::Not(_) => 4,
    });
    found
}

/// Looks at a part by what its sheet expects of it, and at frames that have a check; nothing is ever written but register addresses and
/// the commands that read.
fn evidence(port: &mut dyn Port, part: &Part, bus: Bus) -> Evidence {
    for routine in part.routines().ids() {
        let expects = part.routines().get(routine).and_then(|routine| routine.steps().first());
        if !expects.is_some_and(|step| matches!(step.action, yemdo::part::Action::Expect(_))) {
            continue;
        }
        let runner = Runner::new(part, routine, State::reset(part)).and_then(|runner| runner.on_bus(bus, None));
        let Ok(mut runner) = runner else { continue };
        let mut next = runner.start();
        let name = part.routines().get(routine).map_or("", |routine| routine.name());
        let mut reads = 0;
        loop {
            match next {
                Ok(Some(request)) => {
                    let Operation::Transfer(transfer) = &request.operation else { return Evidence::Identity(name.to_owned()) };
                    // What comes now would write: the expectation has been met.
                    if transfer.receive == 0 {
                        return Evidence::Identity(name.to_owned());
                    }
                    next = match port.transfer(transfer) {
                        Ok(bytes) => {
                            reads += 1;
                            runner.answer(Answer::Bytes(&bytes))
                        }
                        Err(error) => return Evidence::Not(error.to_string()),
                    };
                }
                Ok(None) if reads > 0 => return Evidence::Identity(name.to_owned()),
                Ok(None) => break,
                Err(error) => {
                    let why = match &error.failure {
                        Failure::Unexpected { condition, found } => {
                            let found: Vec<String> = found.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                            format!("expected {condition}, found {}", found.join(", "))
                        }
                        _ => error.to_string(),
                    };
                    return Evidence::Not(why);
                }
            }
        }
    }
    by_check(port, part, bus)
}

/// A frame with a check that is read without being started first.
fn by_check(port: &mut dyn Port, part: &Part, bus: Bus) -> Evidence {
    for (id, frame) in part.frames().entries().filter(|(_, frame)| !frame.checks().is_empty()) {
        if !matches!(frame.origin(), Origin::Read(_) | Origin::Registers(_)) {
            continue;
        }
        let Ok(operations) = yemdo::configure::read_frame(part, bus, frame, &State::reset(part)) else { continue };
        let [Operation::Transfer(transfer)] = operations.as_slice() else { continue };
        let Ok(bytes) = port.transfer(transfer) else { continue };
        if Decoder::new(part).decode(id, &bytes).is_ok() {
            let method = frame.checks().first().map_or(String::new(), |check| check.method());
            return Evidence::Check(format!("{method} of {}", frame.name()));
        }
    }
    // A frame that was never measured need not have a good check.
    Evidence::Address
}

/// Whether a Modbus unit answers: a register that a sheet has, else the first holding register, is read.
///
/// # Errors
/// The bus itself failed: the connection is gone, the port cannot be opened.
pub fn probe_modbus(port: &mut dyn Port, unit: u8, parts: &[Part]) -> Result<Option<Found>, crate::error::BusError> {
    let mut ranges: Vec<(Option<&Part>, AddressRange)> = Vec::new();
    for part in parts {
        let of_frame = part.frames().iter().find_map(|frame| match frame.origin() {
            Origin::Modbus(range) => Some(range.clone()),
            _ => None,
        });
        let fits = part.buses().modbus.is_some();
        ranges.extend(of_frame.filter(|_| fits).map(|range| (Some(part), range)));
    }
    if ranges.is_empty() {
        ranges.push((None, AddressRange { table: ModbusTable::Holding, start: 0, count: 1 }));
    }
    let mut found: Option<Found> = None;
    for (part, range) in ranges {
        let send = read_request(unit, &range).bytes;
        let transfer = Transfer { bus: Bus::Modbus, address: Some(unit), send, receive: range.bytes() + 5, restart: false, discard: false };
        let bytes = match port.transfer(&transfer) {
            Ok(bytes) => bytes,
            Err(error) if error.cause.is_transient() => {
                // Nobody there for one question, nobody there for the next.
                if found.is_none() {
                    return Ok(None);
                }
                continue;
            }
            Err(error) => return Err(error),
        };
        let answered = match read_response(&bytes, &range, Some(unit)) {
            Ok(_) => Answered::Response,
            Err(ResponseError::Exception { code }) => Answered::Exception(code),
            Err(_) => continue,
        };
        let evidence = match answered {
            Answered::Response => Evidence::Register,
            _ => Evidence::Not(format!("it has no {range}")),
        };
        let known = found.get_or_insert(Found { address: unit, answered: answered.clone(), candidates: Vec::new() });
        if answered == Answered::Response {
            known.answered = answered;
        }
        known.candidates.extend(part.map(|part| Candidate { part: part.name().to_owned(), evidence }));
    }
    if let Some(found) = &mut found {
        found.candidates = sorted(std::mem::take(&mut found.candidates));
    }
    Ok(found)
}
