//! Registers of a table, written as a sheet.

use std::fmt::Write;

use super::cells::Cell;
use super::values::values;
use super::{Import, Note, Register};
use crate::ground::words::toml_text;

/// Bits of a field: register, high, low, and which of its own bits they are.
type Piece = (usize, u32, u32, Option<(u32, u32)>);

struct Field<'a> {
    name: String,
    pieces: Vec<Piece>,
    access: Option<&'static str>,
    means: &'a str,
}

pub(super) fn write(part: &str, registers: &[Register], mut notes: Vec<Note>) -> Import {
    let fields = fields(registers, &mut notes);
    let mut sheet = format!("part   = {}\ntitle  = \"\"\nsource = \"\"\n", toml_text(part));
    let mut identities: Vec<(String, u64, u32)> = Vec::new();
    for (index, register) in registers.iter().enumerate() {
        let _ = write!(sheet, "\n[register.{}]\nat = 0x{:02X}\n", register.name, register.at);
        if register.bits != 8 {
            let _ = writeln!(sheet, "width = {}", register.bits);
        }
        if let Some(access) = register.access {
            let _ = writeln!(sheet, "access = {}", toml_text(access));
        }
        if register.count > 1 {
            let _ = writeln!(sheet, "count = {}", register.count);
            notes.push(Note {
                line: register.line,
                text: format!("{} is a run of {} registers, written as an array", register.name, register.count),
            });
        }
        // What is only read is never written: constant bits are what it holds.
        let constant = register.constant();
        let fits = |value: &u64| register.bits >= 64 || value >> register.bits == 0;
        let identity = constant.filter(|(_, mask)| *mask == full(register.bits));
        identities.extend(identity.map(|(value, _)| (register.name.clone(), value, register.bits)));
        match constant.map(|(bits, mask)| register.reset.unwrap_or(0) & !mask | bits).or(register.reset) {
            Some(reset) if fits(&reset) => {
                let _ = writeln!(sheet, "reset = 0x{reset:0digits$X}", digits = register.bits as usize / 4);
            }
            Some(reset) => {
                notes.push(Note { line: register.line, text: format!("the reset value 0x{reset:X} does not fit in {}", register.name) })
            }
            None => {}
        }
        if !register.means.is_empty() {
            let _ = writeln!(sheet, "means = {}", toml_text(&register.means));
        }
        let reserved: Vec<String> = if identity.is_some() {
            Vec::new()
        } else {
            merged(&register.cells, constant.is_some()).into_iter().map(reserved_row).collect()
        };
        if !reserved.is_empty() && !fields.is_empty() {
            let _ = writeln!(sheet, "reserved = [{}]", reserved.join(", "));
        }
        let own: Vec<&Field<'_>> = fields.iter().filter(|field| field.pieces.iter().all(|piece| piece.0 == index)).collect();
        if !own.is_empty() || identity.is_some() {
            let _ = writeln!(sheet, "[register.{}.field]", register.name);
        }
        if identity.is_some() {
            let _ = writeln!(sheet, "{} = {{ bits = \"[{}:0]\" }}", register.name, register.bits - 1);
        }
        for field in own {
            let bits: Vec<String> = field.pieces.iter().map(|(_, high, low, _)| bits(*high, *low)).collect();
            let _ = writeln!(sheet, "{} = {{ bits = \"{}\"{} }}", field.name, bits.join(" "), extras(field));
        }
    }
    let wide: Vec<&Field<'_>> =
        fields.iter().filter(|field| field.pieces.iter().any(|piece| Some(piece.0) != field.pieces.first().map(|p| p.0))).collect();
    if !wide.is_empty() {
        sheet.push_str("\n# Fields that are put together from several registers.\n[field]\n");
    }
    for field in wide {
        let name_of = |index: usize| registers.get(index).map_or("", |register| register.name.as_str());
        let pieces: Vec<String> =
            field.pieces.iter().map(|(register, high, low, _)| format!("{}{}", name_of(*register), bits(*high, *low))).collect();
        let _ = writeln!(sheet, "{} = {{ bits = \"{}\"{} }}", field.name, pieces.join(" "), extras(field));
    }
    for (at, (name, value, width)) in identities.iter().enumerate() {
        if at == 0 {
            sheet.push_str("\n# What is only read and always the same tells the part from others.\n");
        }
        let _ = writeln!(sheet, "[[routine.identify]]\nexpect = \"{name} == 0x{value:0digits$X}\"", digits = *width as usize / 4);
    }
    notes.sort_by_key(|note| note.line);
    Import { sheet, registers: registers.len(), fields: fields.len(), notes }
}

/// The fields of all registers; pieces of one name that say which bits of it they are become one field.
fn fields<'a>(registers: &'a [Register], notes: &mut Vec<Note>) -> Vec<Field<'a>> {
    let mut fields: Vec<Field<'a>> = Vec::new();
    for (index, register) in registers.iter().enumerate() {
        for (high, low, cell) in &register.cells {
            let Cell::Field { name, own, access, means } = cell else { continue };
            let piece = (index, *high, *low, *own);
            let same_name = fields.iter_mut().find(|field| field.name == *name);
            match same_name {
                Some(field)
                    if own.is_some()
                        && field.pieces.iter().all(|p| p.3.is_some_and(|p| own.is_none_or(|own| p.1 > own.0 || own.1 > p.0))) =>
                {
                    field.pieces.push(piece)
                }
                Some(field) if field.pieces.iter().any(|p| p.0 == index) => {
                    let fresh = format!("{name}_{low}");
                    notes.push(Note {
                        line: register.line,
                        text: format!("{} has two fields `{name}`; the second is written {fresh}", register.name),
                    });
                    fields.push(Field { name: fresh, pieces: vec![piece], access: *access, means });
                }
                _ => fields.push(Field { name: name.clone(), pieces: vec![piece], access: *access, means }),
            }
        }
    }
    for field in &mut fields {
        field.pieces.sort_by_key(|piece| std::cmp::Reverse(piece.3));
        // Bits that follow one another in a register are one run.
        let mut runs: Vec<Piece> = Vec::new();
        for piece in field.pieces.drain(..) {
            match runs.last_mut() {
                Some(last) if last.0 == piece.0 && last.2 == piece.1 + 1 => {
                    last.2 = piece.2;
                    last.3 = last.3.zip(piece.3).map(|(a, b)| (a.0, b.1));
                }
                _ => runs.push(piece),
            }
        }
        field.pieces = runs;
    }
    fields
}

/// So many bits, all set.
fn full(bits: u32) -> u64 {
    u64::MAX >> (64 - bits.clamp(1, 64))
}

impl Register {
    /// Of a register that is only read: the bits that are always the same, and which they are; `None` where none is.
    fn constant(&self) -> Option<(u64, u64)> {
        if self.access != Some("read-only") {
            return None;
        }
        let mut found = (0, 0);
        for (high, low, cell) in &self.cells {
            if let Cell::Reserved(Some(bits)) = cell {
                let mask = full(high - low + 1) << low;
                found = (found.0 | bits << low, found.1 | mask);
            }
        }
        (found.1 != 0).then_some(found)
    }
}

/// Reserved bits, neighbours of one kind put together; without what is to be written there, of what is only read.
fn merged(cells: &[(u32, u32, Cell)], only_read: bool) -> Vec<(u32, u32, Option<u64>)> {
    let mut runs: Vec<(u32, u32, Option<u64>)> = Vec::new();
    for (high, low, cell) in cells {
        let Cell::Reserved(write) = cell else { continue };
        let write = write.filter(|_| !only_read);
        match runs.last_mut() {
            Some((_, last, before)) if *last == high + 1 && before.is_some() == write.is_some() => {
                *before = before.zip(write).map(|(before, write)| (before << (high - low + 1)) | write);
                *last = *low;
            }
            _ => runs.push((*high, *low, write)),
        }
    }
    runs
}

fn reserved_row((high, low, write): (u32, u32, Option<u64>)) -> String {
    let write = write.map_or(String::new(), |write| format!(", write = 0b{write:0width$b}", width = (high - low + 1) as usize));
    format!("{{ bits = \"{}\"{write} }}", bits(high, low))
}

fn bits(high: u32, low: u32) -> String {
    if high == low { format!("[{high}]") } else { format!("[{high}:{low}]") }
}

fn extras(field: &Field<'_>) -> String {
    let access = field.access.map_or(String::new(), |access| format!(", access = {}", toml_text(access)));
    let width = field.pieces.iter().map(|(_, high, low, _)| high - low + 1).sum();
    let (means, values) = match values(field.means, width) {
        Some((means, values)) => {
            let rows: Vec<String> = values.iter().map(|(code, name)| format!("{{ code = {code}, name = {} }}", toml_text(name))).collect();
            (means, format!(", values = [{}]", rows.join(", ")))
        }
        None => (field.means.to_owned(), String::new()),
    };
    let means = if means.is_empty() { String::new() } else { format!(", means = {}", toml_text(&means)) };
    access + &means + &values
}
