//! Registers of the part: access, self-clearing bits, forced bits.

use super::judge::Rule;
use super::state::StandIn;
use crate::ground::hex::to_hex;
use crate::model::ids::{FieldId, RegisterId};
use crate::model::registers::{Access, Numbering, Register};
use crate::plan::heard::{holds, register_at, taken_by};

impl StandIn {
    /// Register at an address in the selected bank; otherwise one in another bank.
    pub(super) fn register_at(&self, address: u32) -> (Option<RegisterId>, Option<RegisterId>) {
        register_at(&self.part, &self.state, address)
    }

    /// The register that an address is inside of, and from which of its bytes on.
    pub(super) fn within_at(&self, address: u32) -> Option<(RegisterId, usize)> {
        let numbering = Numbering::of(&self.part);
        let inside = self.part.registers.entries().filter(|(_, register)| self.holds(&register.bank));
        let mut inside = inside.filter_map(|(id, register)| Some((id, numbering.byte_at(register, address)?)));
        self.register_at(address).0.map(|id| (id, 0)).or_else(|| inside.next())
    }

    fn holds(&self, conditions: &[(FieldId, i128)]) -> bool {
        holds(&self.part, &self.state, conditions)
    }

    /// Fields that do not have the codes they must have, in words.
    pub(super) fn missing(&self, conditions: &[(FieldId, i128)]) -> String {
        let wrong = conditions.iter().filter(|condition| !self.holds(std::slice::from_ref(condition)));
        wrong.filter_map(|(field, code)| self.part.setting_text(*field, *code)).collect::<Vec<_>>().join(", ")
    }

    fn unknown_register(&mut self, now: u64, address: u32, any: Option<RegisterId>, what: &str) {
        let part = self.part.clone();
        let text = match any.and_then(|id| part.registers.get(id)) {
            Some(register) => {
                format!("{what} 0x{address:02X}, which is {} only while {}", register.name, self.missing(&register.bank))
            }
            None => format!("{what} 0x{address:02X}, where the sheet has no register"),
        };
        let line = any.and_then(|id| part.registers.get(id)).and_then(|register| self.line_of(register.span.start));
        self.report(now, Rule::UnknownRegister, text, line);
    }

    /// Writes bytes to a register address and the following ones. `false` if a register is missing.
    pub(super) fn write_registers(&mut self, now: u64, address: u32, data: &[u8]) -> bool {
        let part = self.part.clone();
        let numbering = Numbering::of(&part);
        let (mut at, mut rest, mut whole) = (address, data, true);
        while !rest.is_empty() {
            let (open, any) = self.register_at(at);
            let Some(register) = open.and_then(|id| part.registers.get(id)) else {
                self.unknown_register(now, at, any, "wrote");
                return false;
            };
            let Some((own, behind_it)) = rest.split_at_checked(register.bytes) else {
                let what = format!("wrote {} of the {} bytes of {}", rest.len(), register.bytes, register.name);
                self.report(now, Rule::PartOfRegister, what, self.line_of(register.span.start));
                return false;
            };
            whole &= self.write_register(now, register, register.value_of(own));
            at = numbering.behind(register);
            rest = behind_it;
        }
        whole
    }

    fn write_register(&mut self, now: u64, register: &Register, value: u64) -> bool {
        let part = self.part.clone();
        let (line, digits) = (self.line_of(register.span.start), register.bytes * 2);
        let wrote = format!("wrote 0x{value:0digits$X} to {}", register.name);
        if !register.access.is_writable()
            && !register.fields.iter().any(|field| part.fields.get(*field).is_some_and(|f| f.access.is_writable()))
        {
            self.report(now, Rule::ReadOnly, wrote, line);
            return false;
        }
        if !self.holds(&register.writable) {
            let what = format!("{wrote}, which can only be written while {}", self.missing(&register.writable));
            self.report(now, Rule::Locked, what, line);
            return false;
        }
        let before = self.state.register(register);
        let (after, clears) = taken_by(&part, register, before, value);
        for reserved in &register.reserved {
            if let Some(wanted) = reserved.write.filter(|wanted| value & reserved.mask != *wanted) {
                let what = format!(
                    "{wrote}: reserved bits 0x{:0digits$X} hold 0x{:0digits$X}, and 0x{wanted:0digits$X} must be written there",
                    reserved.mask,
                    value & reserved.mask
                );
                self.report(now, Rule::ReservedBits, what, self.line_of(reserved.span.start));
            }
        }
        for field in register.fields.iter().filter_map(|id| part.fields.get(*id)) {
            let mask = field.mask_in(register);
            let (was, written) = (before & mask, value & mask);
            let reports = matches!(field.access, Access::ReadOnly | Access::ClearOnRead | Access::Reserved);
            if reports && written != was && written != 0 {
                let what = format!("{wrote}: {} only reports, and keeps 0x{was:0digits$X}", field.name);
                self.report(now, Rule::ForcedBits, what, self.line_of(field.span.start));
            }
        }
        self.state.set_register(register, after);
        // Codes outside a table are stored, too. Fields that only the part sets are not the client's.
        let own = register.fields.iter().filter_map(|id| part.fields.get(*id)).filter(|field| field.access.is_writable());
        for field in own.filter(|field| !field.values.is_empty()) {
            let code = self.state.field(field);
            if field.value(code).is_none() {
                let what = format!("{wrote}: {} has the code {code}, which its table does not have", field.name);
                self.report(now, Rule::UndefinedValue, what, self.line_of(field.span.start));
            }
        }
        self.start_fields(now, &register.fields, after != before);
        if clears != 0 {
            let held = self.state.register(register);
            self.state.set_register(register, held & !clears);
        }
        true
    }

    /// Reads bytes from a register address on. `moves_on` is whether the address goes up from register to register.
    pub(super) fn read_registers(&mut self, now: u64, address: u32, bytes: usize, moves_on: bool) -> Option<Vec<u8>> {
        let part = self.part.clone();
        let numbering = Numbering::of(&part);
        let (mut at, mut data) = (address, Vec::with_capacity(bytes));
        let mut read: Vec<RegisterId> = Vec::new();
        while data.len() < bytes {
            let within = self.within_at(at);
            let Some((id, from, register)) = within.and_then(|(id, from)| Some((id, from, part.registers.get(id)?))) else {
                self.unknown_register(now, at, self.register_at(at).1, "read");
                if data.is_empty() {
                    return None;
                }
                data.resize(bytes, 0xFF);
                break;
            };
            let line = self.line_of(register.span.start);
            if !register.access.is_readable() {
                self.report(now, Rule::WriteOnly, format!("read {}, which can only be written", register.name), line);
            }
            let mut held = self.state.register(register);
            for field in register.fields.iter().filter_map(|field| part.fields.get(*field)).filter(|field| !field.access.is_readable()) {
                held &= !field.mask_in(register);
            }
            let left = bytes - data.len();
            data.extend(register.wire_bytes(held).iter().skip(from).take(left));
            if left < register.bytes - from {
                let what = format!("read {left} of the {} bytes of {}", register.bytes, register.name);
                self.report(now, Rule::PartOfRegister, what, line);
            }
            read.push(id);
            if moves_on {
                at = numbering.behind(register);
            } else if data.len() < bytes {
                let what = format!("read {bytes} bytes from {} without the bit for auto-increment", register.name);
                self.report(now, Rule::NoAutoIncrement, what, line);
            }
        }
        self.were_read(now, &read);
        Some(data)
    }

    /// Registers were read: what that clears, and which frames were looked at.
    fn were_read(&mut self, now: u64, read: &[RegisterId]) {
        let part = self.part.clone();
        for id in read {
            self.read_registers.get_mut(*id).into_iter().for_each(|seen| *seen = true);
        }
        self.judge_reads(now, read);
        for register in part.registers.of(read) {
            let reset = register.reset.unwrap_or(0);
            let clears = |access: Access| access == Access::ClearOnRead;
            let of_fields = part.fields.of(&register.fields).filter(|field| clears(field.access));
            let mask =
                if clears(register.access) { register.mask() } else { of_fields.fold(0, |mask, field| mask | field.mask_in(register)) };
            if mask != 0 {
                let held = self.state.register(register);
                self.state.set_register(register, (held & !mask) | (reset & mask));
            }
        }
    }

    /// Text of a write without a register.
    pub(super) fn bytes_text(sent: &[u8]) -> String {
        if sent.is_empty() { "nothing".into() } else { to_hex(sent) }
    }
}
