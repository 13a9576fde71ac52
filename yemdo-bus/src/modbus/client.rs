//! The functions of Modbus as methods, for what no sheet describes (Application Protocol V1.1b3, section 6).

use yemdo::bus::modbus::{
    AddressRange, ModbusTable, ResponseError, mask_write_request, read_request, read_write_request, unwrap_rtu, write_coils_request,
    write_request,
};
use yemdo::bus::{Bus, Transfer};

use super::response_error;
use crate::error::{BusError, Cause};
use crate::port::Port;

/// A unit behind a port: RTU, TCP, or a stand-in.
///
/// ```
/// use yemdo::{Part, bus::Bus, stand_in::StandIn};
/// use yemdo_bus::{Rig, modbus::ModbusUnit};
/// let part = Part::parse("fan.toml", r#"
/// part = "fan-2"
/// modbus = { unit = 9, numbering = "from 0" }
/// register.SPEED = { at = 40, width = 16, reset = 700, field.SPEED = { bits = "[15:0]" } }
/// "#)?;
/// let rig = Rig::new();
/// let place = rig.add(StandIn::new(&part, 1)?);
/// let mut fan = ModbusUnit::new(rig.port(place, Bus::Modbus), 9);
/// fan.write_registers(40, &[850])?;
/// assert_eq!(fan.read_holding(40, 1)?, [850]);
/// assert_eq!(fan.read_holding(41, 1).unwrap_err().to_string(), "unit 9: exception 2, ILLEGAL DATA ADDRESS");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct ModbusUnit<P> {
    port: P,
    unit: u8,
}

impl<P: Port> ModbusUnit<P> {
    /// A unit, 1 to 247; 0 is all of them: what is written goes to everybody, and nobody answers.
    pub fn new(port: P, unit: u8) -> Self {
        Self { port, unit }
    }

    /// The port.
    pub fn into_port(self) -> P {
        self.port
    }

    /// Sends a request; gives the function and data of the response, none to a broadcast.
    fn ask(&mut self, send: Vec<u8>, receive: usize) -> Result<Vec<u8>, BusError> {
        let asked = send.get(1).copied().unwrap_or(0);
        let transfer = Transfer { bus: Bus::Modbus, address: Some(self.unit), send, receive, restart: false, discard: false };
        let response = self.port.transfer(&transfer)?;
        if self.unit == 0 {
            return Ok(Vec::new());
        }
        let (unit, pdu) = unwrap_rtu(&response).map_err(|error| response_error(self.unit, error))?;
        match *pdu {
            _ if unit != self.unit => Err(response_error(self.unit, ResponseError::Unit { expected: self.unit, found: unit })),
            [function, code, ..] if function == asked | 0x80 => {
                Err(BusError::new(Cause::Exception(code), format!("unit {unit}")).because(ResponseError::Exception { code }))
            }
            [function, ..] if function == asked => Ok(pdu.to_vec()),
            _ => {
                let found = pdu.first().copied().unwrap_or(0);
                Err(response_error(self.unit, ResponseError::Function { expected: asked, found }))
            }
        }
    }

    fn read(&mut self, range: &AddressRange) -> Result<Vec<u8>, BusError> {
        if range.count == 0 || u32::from(range.count) > range.table.most() {
            let what = format!("one request reads 1 to {} {}, not {}", range.table.most(), range.table.name(), range.count);
            return Err(BusError::new(Cause::Unsupported, what));
        }
        let pdu = self.ask(read_request(self.unit, range).bytes, range.bytes() + 5)?;
        self.data(&pdu, range.bytes())
    }

    /// The data behind the number of its bytes.
    fn data(&self, pdu: &[u8], expected: usize) -> Result<Vec<u8>, BusError> {
        match pdu {
            [_, count, data @ ..] if usize::from(*count) == expected && data.len() == expected => Ok(data.to_vec()),
            _ => Err(response_error(self.unit, ResponseError::Count { expected, found: pdu.len().saturating_sub(2) })),
        }
    }

    fn bits(&mut self, table: ModbusTable, start: u16, count: u16) -> Result<Vec<bool>, BusError> {
        let data = self.read(&AddressRange { table, start, count })?;
        Ok((0..usize::from(count)).map(|at| data.get(at / 8).is_some_and(|byte| byte >> (at % 8) & 1 == 1)).collect())
    }

    /// Function 1.
    ///
    /// # Errors
    /// [`BusError`]; an exception by its code.
    pub fn read_coils(&mut self, start: u16, count: u16) -> Result<Vec<bool>, BusError> {
        self.bits(ModbusTable::Coils, start, count)
    }

    /// Function 2.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn read_discrete(&mut self, start: u16, count: u16) -> Result<Vec<bool>, BusError> {
        self.bits(ModbusTable::Discrete, start, count)
    }

    /// Function 3.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn read_holding(&mut self, start: u16, count: u16) -> Result<Vec<u16>, BusError> {
        Ok(words(&self.read(&AddressRange { table: ModbusTable::Holding, start, count })?))
    }

    /// Function 4.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn read_input(&mut self, start: u16, count: u16) -> Result<Vec<u16>, BusError> {
        Ok(words(&self.read(&AddressRange { table: ModbusTable::Input, start, count })?))
    }

    /// What a write has to repeat: address, and value or quantity.
    fn written(&mut self, send: Option<Vec<u8>>, what: &str, repeats: usize) -> Result<(), BusError> {
        let send = send.ok_or_else(|| BusError::new(Cause::Unsupported, format!("one request writes {what}")))?;
        let wanted = send.get(1..1 + repeats).unwrap_or(&[]).to_vec();
        let pdu = self.ask(send, repeats + 3)?;
        if self.unit == 0 || pdu == wanted { Ok(()) } else { Err(response_error(self.unit, ResponseError::Echo)) }
    }

    /// Function 5 for one, 15 for several.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn write_coils(&mut self, start: u16, coils: &[bool]) -> Result<(), BusError> {
        self.written(write_coils_request(self.unit, start, coils), "1 to 1968 coils", 5)
    }

    /// Function 6 for one, 16 for several.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn write_registers(&mut self, start: u16, words: &[u16]) -> Result<(), BusError> {
        self.written(write_request(self.unit, start, words).map(|request| request.bytes), "1 to 123 registers", 5)
    }

    /// Function 22: the bits of `and` stay, those of `or` that are not in it are set.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn mask_write(&mut self, address: u16, and: u16, or: u16) -> Result<(), BusError> {
        self.written(Some(mask_write_request(self.unit, address, and, or)), "one register", 7)
    }

    /// Function 23: writes registers, then reads others.
    ///
    /// # Errors
    /// As [`read_coils`](Self::read_coils).
    pub fn read_write(&mut self, read: u16, count: u16, start: u16, values: &[u16]) -> Result<Vec<u16>, BusError> {
        let range = AddressRange { table: ModbusTable::Holding, start: read, count };
        let send = read_write_request(self.unit, &range, start, values);
        let send = send.ok_or_else(|| BusError::new(Cause::Unsupported, "one request writes 1 to 121 registers and reads 1 to 125"))?;
        let pdu = self.ask(send, range.bytes() + 5)?;
        Ok(words(&self.data(&pdu, range.bytes())?))
    }
}

fn words(data: &[u8]) -> Vec<u16> {
    data.chunks_exact(2).map(|pair| pair.iter().fold(0, |word, byte| (word << 8) | u16::from(*byte))).collect()
}
