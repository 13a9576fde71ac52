//! A part on the bench as a port.

use yemdo::State;
use yemdo::bus::{Bus, Transfer};
use yemdo::stand_in::Reaction;

use super::Rig;
use crate::error::{BusError, Cause};
use crate::port::Port;

/// A part on the bench, over one of its buses.
#[derive(Clone, Debug)]
pub struct RigPort {
    pub(super) rig: Rig,
    pub(super) part: usize,
    pub(super) bus: Bus,
}

/// How long a Modbus client waits for a response, in microseconds.
const RESPONSE: u64 = 200_000;

impl Port for RigPort {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        let mut inner = self.rig.lock();
        let rate = match self.bus {
            Bus::I2c => inner.hertz[0],
            Bus::Spi => inner.hertz[1],
            _ => inner
                .parts
                .get(self.part)
                .and_then(|slot| slot.stand_in.part().buses().wire(self.bus))
                .map_or(19_200, |wire| wire.usual_rate()),
        };
        inner.now += transfer.micros(rate);
        let place = match transfer.address.filter(|_| self.bus == Bus::I2c) {
            // Several stand-ins may have one address: each port has its own.
            Some(address) => Some(self.part).filter(|part| inner.is_at(*part, address)).or_else(|| inner.at_address(address)),
            None => Some(self.part),
        };
        let at = transfer.address.map_or(String::new(), |address| match self.bus {
            Bus::I2c => format!("I2C 0x{address:02X}: "),
            _ => format!("unit {address}: "),
        });
        let missing = || match self.bus {
            Bus::Modbus => Err(BusError::new(Cause::TimeOut, format!("{at}no response"))),
            _ => Err(BusError::new(Cause::NakAddress, format!("{at}the address is not acknowledged"))),
        };
        let Some(place) = place else { return missing() };
        let reaction = inner.react(place, |stand_in, now| stand_in.transfer(now, transfer));
        match reaction {
            // Nobody answers a broadcast.
            Reaction::Silence if self.bus == Bus::Modbus && transfer.address == Some(0) => Ok(Vec::new()),
            // A response over Modbus says itself how long it is.
            Reaction::Answer(bytes) if self.bus == Bus::Modbus || bytes.len() == transfer.receive => Ok(bytes),
            Reaction::Answer(bytes) => {
                Err(BusError::new(Cause::Stuck, format!("{at}received {} of {} bytes", bytes.len(), transfer.receive)))
            }
            Reaction::NakAddress if self.bus == Bus::Spi => Ok(vec![0xFF; transfer.receive]),
            Reaction::NakAddress => {
                if self.bus == Bus::Modbus {
                    inner.now += RESPONSE;
                }
                missing()
            }
            Reaction::NakData => Err(BusError::new(Cause::NakData, format!("{at}a byte is not acknowledged"))),
            Reaction::Stuck => Err(BusError::new(Cause::Stuck, format!("{at}the bus is held"))),
            _ => {
                inner.now += RESPONSE;
                Err(BusError::new(Cause::TimeOut, format!("{at}no response")))
            }
        }
    }

    fn wait(&mut self, micros: u64) {
        self.rig.pass(micros);
    }

    fn supply(&mut self, state: &State) {
        self.rig.with_part(self.part, |stand_in| stand_in.supply(state));
    }

    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError> {
        let mut inner = self.rig.lock();
        let now = inner.now;
        let Some(slot) = inner.parts.get_mut(self.part).filter(|slot| !slot.away) else { return Ok(false) };
        if slot.stand_in.line_is_active_high() != high {
            return Ok(false);
        }
        let due = slot.stand_in.line_due(now).filter(|due| *due <= now + within);
        let came = due.is_some_and(|due| slot.stand_in.line(due.max(now)));
        inner.now = if came { due.unwrap_or(now).max(now) } else { now + within };
        Ok(came)
    }

    fn now(&mut self) -> u64 {
        self.rig.now()
    }
}
