//! What is done with the answers of transfers.

use super::failure::{Failure, RoutineError};
use super::queue::{Moves, Then};
use super::runner::Runner;
use crate::bus::modbus::ResponseError;
use crate::bus::{AnswerError, Transfer};
use crate::model::frame::Origin;
use crate::model::ids::{FrameId, RegisterId};
use crate::plan::accept;
use crate::plan::heard::Left;
use crate::plan::read_back::read_back;

impl Runner {
    /// Takes the answer of a transfer; with `assumed`, nobody was asked.
    pub(super) fn take(&mut self, transfer: &Transfer, then: Then, bytes: &[u8], assumed: bool) -> Result<(), RoutineError> {
        if assumed {
            match then {
                Then::Wrote { register, left, moves } => self.wrote(register, left, moves),
                // A dry run cannot predict the value.
                Then::Register(register) => self.forget(&[register]),
                Then::Registers(registers) => self.forget(&registers),
                Then::Frame { frame, .. } => {
                    let part = self.part.clone();
                    if let Some(Origin::Registers(runs)) = part.frames.get(frame).map(|frame| &frame.origin) {
                        runs.iter().for_each(|run| self.forget(run));
                    }
                }
                Then::Nothing | Then::Discard | Then::Compare { .. } => {}
            }
            return Ok(());
        }
        let data = self.data(transfer, &then, bytes)?;
        match then {
            Then::Nothing | Then::Discard => {}
            Then::Wrote { register, left, moves } => self.wrote(register, left, moves),
            Then::Register(register) => {
                if let Some(model) = self.part.registers.get(register) {
                    self.state.read_register(model, model.value_of(&data));
                }
            }
            Then::Registers(registers) => {
                let part = self.part.clone();
                let mut rest = data.as_slice();
                for register in part.registers.of(&registers) {
                    let Some((own, behind)) = rest.split_at_checked(register.bytes) else { break };
                    self.state.read_register(register, register.value_of(own));
                    rest = behind;
                }
            }
            Then::Compare { register, before, written, .. } => {
                let part = self.part.clone();
                let Some(model) = part.registers.get(register) else { return Ok(()) };
                let found = model.value_of(&data);
                let compared = read_back(&part, register, before, written, found);
                let difference = compared.and_then(|compared| compared.differences.into_iter().next());
                // After a failed or unacknowledged write, the read value counts.
                if difference.is_some() || self.state.known_register(model).is_none() {
                    self.state.read_register(model, found);
                }
                if let Some(difference) = difference {
                    return Err(self.error(Failure::NotTaken { register: model.name.clone(), values: (written, found), difference }));
                }
            }
            Then::Frame { frame, first, last } => {
                if first {
                    self.gathered.clear();
                }
                self.gathered.extend_from_slice(&data);
                if last {
                    self.keep_frame(frame)?;
                }
            }
        }
        Ok(())
    }

    /// Marks registers as unknown.
    fn forget(&mut self, registers: &[RegisterId]) {
        for register in self.part.clone().registers.of(registers) {
            self.state.forget_register(register);
        }
    }

    /// A register holds what was written, and the part is where that moves it.
    pub(super) fn wrote(&mut self, register: RegisterId, left: Left, moves: Option<Moves>) {
        let part = self.part.clone();
        self.unsure = None;
        part.registers.get(register).into_iter().for_each(|model| self.state.write_register(model, left.value, left.known));
        if let Some(unit) = moves.and_then(|moves| moves.unit) {
            self.part = part.with_unit(unit);
        }
    }

    /// The data of an answer. Of writes, only an exception counts; whoever drives the bus knows whether it was acknowledged.
    fn data(&mut self, transfer: &Transfer, then: &Then, bytes: &[u8]) -> Result<Vec<u8>, RoutineError> {
        let writes = matches!(then, Then::Nothing | Then::Wrote { .. });
        let data = match self.part.buses.wire(self.bus) {
            Some(wire) => wire.data(transfer, bytes),
            None => Ok(bytes),
        };
        match data {
            Ok(data) => Ok(data.to_vec()),
            // A part that was given another unit id may answer as that one already.
            Err(AnswerError::Response(ResponseError::Unit { found, .. })) if matches!(then, Then::Wrote { moves: Some(Moves { unit: Some(unit), .. }), .. } if *unit == found) => {
                Ok(Vec::new())
            }
            Err(AnswerError::Length { .. }) if writes => Ok(Vec::new()),
            Err(AnswerError::Length { expected, found }) => Err(self.error(Failure::Short { expected, found })),
            Err(AnswerError::Response(error)) => {
                // An exception means that the register is unchanged.
                let refused = matches!(error, ResponseError::Exception { .. });
                self.unsure.take().filter(|_| refused).into_iter().for_each(|before| self.state = before);
                Err(self.error(Failure::Response(error)))
            }
        }
    }

    fn keep_frame(&mut self, frame: FrameId) -> Result<(), RoutineError> {
        let Some(model) = self.part.frames.get(frame) else { return Ok(()) };
        // What a decoder would refuse is not kept here either.
        let refused = accept::not_blank(model, &self.gathered).and_then(|()| accept::checked(&self.part, model, &self.gathered));
        refused.map_err(|refusal| self.error(Failure::Refused(refusal)))?;
        self.came(frame);
        Ok(())
    }
}
