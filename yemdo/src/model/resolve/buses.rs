//! `[i2c]`, `[spi]` and `[modbus]`.

use super::Resolver;
use crate::bus::modbus::{Numbering, is_unit};
use crate::bus::{I2c, Modbus, Spi};
use crate::ground::diagnostic::Diagnostic;
use crate::ground::text::Span;
use crate::model::ids::FieldId;
use crate::model::state::State;
use crate::sheet::reader::At;
use crate::sheet::tree;

impl Resolver {
    pub(super) fn buses(&mut self, tree: &tree::Sheet) {
        if let Some(i2c) = &tree.i2c {
            self.i2c(i2c);
        }
        if let Some(spi) = &tree.spi {
            self.part.buses.spi = Some(Spi {
                mode: spi.mode,
                lsb_first: spi.lsb_first,
                pointer: self.pointer(spi.pointer),
                shift: spi.shift,
                read: spi.read,
                write: spi.write,
                increment: spi.increment,
                auto_increment: spi.auto_increment,
                dummy: spi.dummy,
                late: spi.late,
                max_khz: spi.max_khz,
            });
        }
        if let Some(modbus) = &tree.modbus {
            let numbering = match modbus.numbering {
                "from 1" => Numbering::FromOne,
                "40001" => Numbering::FiveDigits,
                "400001" => Numbering::SixDigits,
                _ => Numbering::FromZero,
            };
            self.part.buses.modbus =
                Some(Modbus { unit: modbus.unit, numbering, baud: modbus.baud, parity: modbus.parity, stop: modbus.stop });
        }
    }

    /// Unit id and speed after a reset: those of the sheet and those of the registers must be the same.
    pub(super) fn as_delivered(&mut self, tree: &tree::Modbus) {
        let reset = State::reset(&self.part);
        let code = |field: Option<FieldId>| field.and_then(|field| reset.known_field(&self.part.fields[field]));
        let unit = code(self.part.unit_field).filter(|code| is_unit(*code)).and_then(|code| u32::try_from(code).ok());
        let baud = code(self.part.baud_field).and_then(|code| self.part.baud_of(code));
        let Some(modbus) = &mut self.part.buses.modbus else { return };
        let stated = (modbus.unit.map(u32::from), modbus.baud);
        modbus.unit = modbus.unit.or(unit.and_then(|unit| u8::try_from(unit).ok()));
        modbus.baud = modbus.baud.or(baud);
        for (key, field, stated, held) in [("unit", &tree.unit_field, stated.0, unit), ("baud", &tree.baud_field, stated.1, baud)] {
            let (Some(field), Some((stated, held))) = (field, stated.zip(held).filter(|(stated, held)| stated != held)) else { continue };
            let text = format!("`{key}` is {stated}, but `{}` holds {held} after a reset", field.value);
            let problem = Diagnostic::error("delivered-otherwise", field.span, text).label("its reset value differs");
            self.report(problem.help(format!("correct one of them, or remove `{key}`: the reset value says it too")));
        }
    }

    /// The width of the address that is sent first: 0, 8 or 16 bits.
    fn pointer(&mut self, typed: Option<At<u32>>) -> u32 {
        match typed.map(|at| at.value) {
            None => 8,
            Some(bits @ (0 | 8 | 16)) => bits,
            Some(bits) => {
                let span = typed.map(|at| at.span).unwrap_or_default();
                self.report(
                    Diagnostic::error("out-of-range", span, format!("an address of {bits} bits is not sent")).label("expected 0, 8 or 16"),
                );
                8
            }
        }
    }

    fn i2c(&mut self, i2c: &tree::I2c) {
        let address = self.address(i2c.address);
        let mut straps = Vec::new();
        for (pin, levels) in &i2c.straps {
            for (level, address) in levels {
                if let Some(address) = self.address(*address) {
                    straps.push((pin.value.clone(), level.value.clone(), address));
                }
            }
        }
        let pointer = self.pointer(i2c.pointer);
        if let Some(address) = address {
            self.among_straps(address, i2c.address.value.span, &straps);
            self.part.buses.i2c = Some(I2c {
                address,
                typed_8_bit: i2c.address.eight_bit,
                straps,
                pointer,
                restart: i2c.restart,
                increment: i2c.increment,
                auto_increment: i2c.auto_increment,
                pec: i2c.pec,
                max_khz: i2c.max_khz,
            });
        }
    }

    /// An address is one of those that its straps choose, and none of them is the 8-bit form of another.
    fn among_straps(&mut self, address: u8, span: Span, straps: &[(String, String, u8)]) {
        let all = || straps.iter().map(|(_, _, strap)| *strap);
        let text = if let Some(doubled) = all().find(|strap| *strap == address << 1 || address == strap << 1) {
            let low = address.min(doubled);
            format!("0x{address:02X} and the strap's 0x{doubled:02X} are one address: 0x{:02X} is its 8-bit form", low << 1)
        } else if !straps.is_empty() && !all().any(|strap| strap == address) {
            format!("0x{address:02X} is not among the strap addresses")
        } else {
            return;
        };
        let problem = Diagnostic::warning("address-strap", span, text).label("the address");
        self.report(problem.help("an address has 7 bits: half of the byte that is on the wire to write"));
    }

    /// A 7-bit address. An 8-bit form is halved; values above 0x7F are unmarked 8-bit forms.
    fn address(&mut self, typed: tree::Address) -> Option<u8> {
        let At { value, span } = typed.value;
        let seven = if typed.eight_bit { value >> 1 } else { value };
        match seven {
            _ if typed.eight_bit && value & 1 == 1 => self.report(
                Diagnostic::error("bad-address", span, format!("{value:#04X} is the 8-bit form for reading"))
                    .label("its last bit is the read bit")
                    .help(format!("write \"{:#04X} 8-bit\"", value & !1)),
            ),
            0x08..=0x77 => return u8::try_from(seven).ok(),
            0x00..=0x7F => self.report(
                Diagnostic::warning(
                    "reserved-address",
                    span,
                    format!("{seven:#04X} is among the addresses that the I2C specification reserves"),
                )
                .label("parts have 0x08 to 0x77")
                .help(format!("if the datasheet prints the 8-bit form, with the read/write bit, write \"{seven:#04X} 8-bit\"")),
            ),
            0x80..=0xFF => self.report(
                Diagnostic::error("eight-bit-address", span, format!("{seven:#04X} is not a 7-bit address"))
                    .label("an address has 7 bits, 0x08 to 0x77")
                    .help(format!(
                        "if the datasheet prints the 8-bit form, with the read/write bit, write \"{seven:#04X} 8-bit\", or {:#04X}",
                        seven >> 1
                    )),
            ),
            _ => self.report(
                Diagnostic::error("bad-address", span, format!("{value} is not an I2C address"))
                    .label("an address has 7 bits, 0x08 to 0x77"),
            ),
        }
        u8::try_from(seven).ok().filter(|address| *address < 0x80)
    }
}
