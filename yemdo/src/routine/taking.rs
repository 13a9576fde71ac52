//! What is done with the answers of transfers.

use super::failure::{Failure, RoutineError};
use super::runner::{Runner, Then};
use crate::configure::read_back;
use crate::configure::wire::{Bus, Transfer};
use crate::modbus::{Range, ResponseError, Table, read_response};
use crate::model::part::Origin;

impl Runner<'_> {
    /// Takes the answer of a transfer.
    pub(super) fn take(&mut self, transfer: &Transfer, then: Then, bytes: &[u8], hoped: bool) -> Result<(), RoutineError> {
        // What is read goes through all of the response's checks below; of a write the exception is what counts.
        if let (Bus::Modbus, Then::Wrote { .. } | Then::Nothing, [_, function, code, ..]) = (self.bus, &then, bytes)
            && function & 0x80 != 0
        {
            return Err(self.error(Failure::Response(ResponseError::Exception { code: *code })));
        }
        if let Then::Wrote { register, after } = then {
            if let Some(model) = self.part.registers.get(register) {
                self.settings.set_register(model, after);
            }
            return Ok(());
        }
        if hoped {
            match then {
                Then::Register(register) => self.unread.push(register),
                Then::Frame { frame, .. } => {
                    if let Some(Origin::Registers(runs)) = self.part.frames.get(frame).map(|frame| &frame.origin) {
                        self.unread.extend(runs.iter().flatten());
                    }
                }
                _ => {}
            }
        }
        if hoped || matches!(then, Then::Nothing) {
            return Ok(());
        }
        let data = self.data(transfer, &then, bytes)?;
        match then {
            Then::Register(register) => {
                if let Some(model) = self.part.registers.get(register) {
                    self.settings.set_register(model, model.value_of(&data));
                }
            }
            Then::Compare { register, before, written } => {
                let Some(model) = self.part.registers.get(register) else { return Ok(()) };
                let found = model.value_of(&data);
                let compared = read_back(self.part, register, before, written, found);
                if let Some(difference) = compared.and_then(|compared| compared.differences.into_iter().next()) {
                    return Err(self.error(Failure::NotTaken { register: model.name.clone(), values: (written, found), difference }));
                }
            }
            Then::Frame { frame, first, last, skip } => {
                if skip {
                    return Ok(());
                }
                if first {
                    self.gathered.clear();
                }
                self.gathered.extend_from_slice(&data);
                if last {
                    self.keep_frame(frame)?;
                }
            }
            Then::Nothing | Then::Wrote { .. } => {}
        }
        Ok(())
    }

    /// The data of an answer: all of it, or what stands in a Modbus response.
    fn data(&self, transfer: &Transfer, then: &Then, bytes: &[u8]) -> Result<Vec<u8>, RoutineError> {
        if self.bus == Bus::Modbus {
            let range = match then {
                Then::Frame { frame, .. } => match self.part.frames.get(*frame).map(|frame| &frame.origin) {
                    Some(Origin::Modbus(range)) => Some(range.clone()),
                    _ => None,
                },
                Then::Register(register) | Then::Compare { register, .. } => self.part.registers.get(*register).map(|register| Range {
                    table: Table::Holding,
                    start: register.at as u16,
                    count: (register.bytes / 2) as u16,
                }),
                _ => None,
            };
            if let Some(range) = range {
                let unit = self.part.modbus.as_ref().and_then(|modbus| modbus.unit);
                let response = read_response(bytes, &range, unit).map_err(|error| self.error(Failure::Response(error)))?;
                return Ok(bytes.get(response.at..response.at + response.data.len()).unwrap_or(&[]).to_vec());
            }
        }
        if bytes.len() != transfer.receive {
            return Err(self.error(Failure::Short { expected: transfer.receive, found: bytes.len() }));
        }
        Ok(bytes.to_vec())
    }

    fn keep_frame(&mut self, frame: usize) -> Result<(), RoutineError> {
        let Some(model) = self.part.frames.get(frame) else { return Ok(()) };
        if !model.checks.iter().all(|check| check.passes(&self.gathered)) {
            return Err(self.error(Failure::CheckFailed { frame: model.name.clone() }));
        }
        // Fields that stand in the frame are known now too.
        for (field, gather) in &model.fields {
            if let (Some(field), Some(code)) = (self.part.fields.get(*field), gather.code(&self.gathered)) {
                self.settings.set_field(field, i128::from(code));
            }
        }
        let bytes = self.gathered.clone();
        self.last.get_mut(frame).into_iter().for_each(|place| *place = Some(bytes.clone()));
        Ok(())
    }
}
