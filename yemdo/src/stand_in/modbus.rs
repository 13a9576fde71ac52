//! Modbus requests: functions 1 to 6, 15, 16, 22 and 23 (Modbus Application Protocol V1.1b3, section 6).

use super::judge::Rule;
use super::state::StandIn;
use crate::bus::modbus::{AddressRange, ModbusRequest, ModbusTable, is_unit, parse_pdu, with_crc, without_crc};
use crate::model::frame::Origin;

/// Exception codes (section 7).
const ILLEGAL_FUNCTION: u8 = 1;
const ILLEGAL_ADDRESS: u8 = 2;
const ILLEGAL_VALUE: u8 = 3;

impl StandIn {
    /// An RTU frame that came over the line, and the response; `None` where there is none: another unit, a broadcast, or a frame
    /// whose CRC does not fit.
    pub fn modbus_rtu(&mut self, now: u64, frame: &[u8]) -> Option<Vec<u8>> {
        let (unit, pdu) = without_crc(frame, 4).ok()?.split_first()?;
        let response = self.modbus(now, *unit, pdu)?;
        Some(with_crc([&[*unit], response.as_slice()].concat()))
    }

    /// Response to function and data for a unit; `None` for another unit or a broadcast.
    pub fn modbus(&mut self, now: u64, unit: u8, pdu: &[u8]) -> Option<Vec<u8>> {
        let part = self.part.clone();
        part.buses.modbus.as_ref()?;
        if unit != 0 && self.unit().is_some_and(|own| own != unit) {
            return None;
        }
        self.advance(now);
        self.silent = false;
        let function = *pdu.first()?;
        let response = match parse_pdu(pdu) {
            Ok(request) => self.modbus_request(now, function, request),
            Err(_) if matches!(function, 1..=6 | 15 | 16 | 22 | 23) => Err(ILLEGAL_VALUE),
            Err(_) => {
                self.report(now, Rule::UnknownFunction, format!("function {function} was asked for"), None);
                Err(ILLEGAL_FUNCTION)
            }
        };
        let response = response.unwrap_or_else(|code| vec![function | 0x80, code]);
        (unit != 0 && !self.silent).then_some(response)
    }

    /// The unit that it is: as delivered, or as it was set since.
    pub fn unit(&self) -> Option<u8> {
        let field = self.part.unit_field.and_then(|field| self.part.fields.get(field));
        let set = field.and_then(|field| u8::try_from(self.state.field(field)).ok()).filter(|unit| is_unit(i128::from(*unit)));
        set.or(self.part.buses.modbus.as_ref()?.unit)
    }

    fn modbus_request(&mut self, now: u64, function: u8, request: ModbusRequest) -> Result<Vec<u8>, u8> {
        let echo = |start: u16, value: u16| [&[function][..], &start.to_be_bytes(), &value.to_be_bytes()].concat();
        match request {
            ModbusRequest::Read(range) => self.modbus_read(now, function, &range),
            ModbusRequest::WriteRegisters { start, words } => {
                self.modbus_write(now, start, &words)?;
                let value = if function == 6 { words.first().copied().unwrap_or(0) } else { u16::try_from(words.len()).unwrap_or(0) };
                Ok(echo(start, value))
            }
            ModbusRequest::WriteCoils { start, coils } => {
                let range = AddressRange { table: ModbusTable::Coils, start, count: u16::try_from(coils.len()).unwrap_or(0) };
                self.modbus_read(now, 1, &range)?;
                for (at, on) in coils.iter().enumerate() {
                    let address = start.wrapping_add(at as u16);
                    self.coils.retain(|(known, _)| *known != address);
                    self.coils.push((address, *on));
                }
                let value = if function == 5 { u16::from(coils.first() == Some(&true)) * 0xFF00 } else { range.count };
                Ok(echo(start, value))
            }
            ModbusRequest::MaskWrite { address, and, or } => {
                let range = AddressRange { table: ModbusTable::Holding, start: address, count: 1 };
                let held = self.modbus_read(now, 3, &range)?;
                let word = held.get(2..4).map_or(0, |word| word.iter().fold(0, |value, byte| (value << 8) | u16::from(*byte)));
                self.modbus_write(now, address, &[(word & and) | (or & !and)])?;
                Ok([&[function][..], &address.to_be_bytes(), &and.to_be_bytes(), &or.to_be_bytes()].concat())
            }
            // The write comes first (section 6.17).
            ModbusRequest::ReadWrite { read, start, words } => {
                self.modbus_write(now, start, &words)?;
                self.modbus_read(now, function, &read)
            }
        }
    }

    fn modbus_write(&mut self, now: u64, start: u16, words: &[u16]) -> Result<(), u8> {
        let address = u32::from(start);
        let (open, _) = self.register_at(address);
        if open.is_none() && self.modbus_word(ModbusTable::Holding, start).is_some() {
            let name = AddressRange { table: ModbusTable::Holding, start, count: 1 };
            self.report(now, Rule::ReadOnly, format!("wrote to {name}"), None);
            return Err(ILLEGAL_ADDRESS);
        }
        let data: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
        // A write is taken whole or not at all (sections 6.12 and 6.17). One word cannot be taken in part.
        if words.len() == 1 {
            return if self.write_registers(now, address, &data) { Ok(()) } else { Err(ILLEGAL_ADDRESS) };
        }
        let mut tried = self.clone();
        let whole = tried.write_registers(now, address, &data);
        if whole {
            *self = tried;
            return Ok(());
        }
        self.judge = tried.judge;
        Err(ILLEGAL_ADDRESS)
    }

    fn modbus_read(&mut self, now: u64, function: u8, range: &AddressRange) -> Result<Vec<u8>, u8> {
        let mut data = Vec::with_capacity(range.bytes());
        if range.table.has_bits() {
            data.resize(range.bytes(), 0);
        }
        for at in 0..range.count {
            let address = range.start.checked_add(at).ok_or(ILLEGAL_ADDRESS)?;
            let Some(word) = self.modbus_word(range.table, address) else {
                let what = format!("read {range}, and the sheet has nothing at {address}");
                self.report(now, Rule::UnknownRegister, what, None);
                return Err(ILLEGAL_ADDRESS);
            };
            if range.table.has_bits() {
                data.get_mut(usize::from(at / 8)).into_iter().for_each(|byte| *byte |= u8::from(word != 0) << (at % 8));
            } else {
                data.extend(word.to_be_bytes());
            }
        }
        let part = self.part.clone();
        let all = range.start..=range.start.saturating_add(range.count - 1);
        for (id, frame) in part.frames.entries() {
            if let Origin::Modbus(own) = &frame.origin
                && own.table == range.table
                && (all.contains(&own.start) || all.contains(&own.start.saturating_add(own.count - 1)))
            {
                self.judge_validity(now, id);
                self.seen(now, id);
            }
        }
        Ok([&[function, u8::try_from(data.len()).unwrap_or(u8::MAX)][..], &data].concat())
    }

    /// Value at an address of a table: a register, a written coil, or a word of a frame.
    fn modbus_word(&self, table: ModbusTable, address: u16) -> Option<u16> {
        if table == ModbusTable::Holding
            && let Some((id, from)) = self.within_at(u32::from(address))
        {
            let register = self.part.registers.get(id)?;
            let bytes = register.wire_bytes(self.state.register(register));
            return Some(bytes.iter().skip(from).take(2).fold(0, |word, byte| (word << 8) | u16::from(*byte)));
        }
        let written = self.coils.iter().find(|(known, _)| *known == address && table == ModbusTable::Coils);
        if let Some((_, on)) = written {
            return Some(u16::from(*on));
        }
        self.part.frames.entries().find_map(|(id, frame)| {
            let Origin::Modbus(range) = &frame.origin else { return None };
            let at = usize::from(address.checked_sub(range.start).filter(|at| range.table == table && *at < range.count)?);
            let bytes = self.state.frame(id)?;
            if table.has_bits() {
                return Some(u16::from(bytes.get(at / 8)? >> (at % 8) & 1));
            }
            bytes.get(at * 2..at * 2 + 2).map(|word| word.iter().fold(0, |value, byte| (value << 8) | u16::from(*byte)))
        })
    }
}
