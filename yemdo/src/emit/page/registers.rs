//! Registers as rows of bits, and their fields with tables of values.

use std::collections::BTreeSet;

use maud::{Markup, html};

use super::formula::linked;
use super::{anchor, broken, cited, runs};
use crate::model::ids::FieldId;
use crate::model::part::Part;
use crate::model::registers::{Field, Register};

/// Number of bits per row.
const ROW: u32 = 16;

pub(super) fn section(part: &Part) -> Markup {
    if part.registers.is_empty() {
        return html! {};
    }
    let registers = by_address(part);
    html! {
        div .scroll { table .map {
            thead { tr { th { "address" } th { "register" } th { "width" } th { "access" } th { "reset value" } th { "means" } } }
            tbody {
                @for register in &registers {
                    tr {
                        td .code title=(register.address()) { (format!("0x{:02X}", register.address())) @if part.buses().modbus.is_some() { " (" (register.address()) ")" } }
                        td { a href=(format!("#{}", anchor("register", register.name()))) { (register.name()) } }
                        td .number { (register.width()) }
                        td { (register.access().as_str()) }
                        td .code { (reset_text(register)) }
                        td { (register.means().unwrap_or("")) }
                    }
                }
            }
        } }
        @for (register, fields) in fields_of(part, &registers) { (one(part, register, &fields)) }
    }
}

pub(super) fn by_address(part: &Part) -> Vec<&Register> {
    let mut list: Vec<&Register> = part.registers.iter().collect();
    list.sort_by_key(|register| register.address());
    list
}

/// Fields of each register; a field of several registers is listed with the first.
fn fields_of<'p>(part: &'p Part, registers: &[&'p Register]) -> Vec<(&'p Register, Vec<&'p Field>)> {
    let mut told: BTreeSet<FieldId> = BTreeSet::new();
    let mut own = |register: &Register| {
        let fresh = register.fields().iter().filter(|id| told.insert(**id));
        fresh.filter_map(|id| part.fields.get(*id)).collect()
    };
    registers.iter().map(|register| (*register, own(register))).collect()
}

pub(super) fn reset_text(register: &Register) -> String {
    register.reset().map_or(String::new(), |value| format!("0x{value:0width$X}", width = register.bytes() * 2))
}

fn one(part: &Part, register: &Register, fields: &[&Field]) -> Markup {
    html! {
        article id=(anchor("register", register.name())) {
            h3 { (register.name()) " " span .at { (format!("0x{:02X}", register.address())) } (cited(register.source())) }
            @if let Some(means) = register.means() { p { (means) } }
            @for row in rows(register.width()) { (bits(part, register, row)) }
            @if register.low_first() { p .note { "The low byte comes first on the bus." } }
            @if !register.bank().is_empty() {
                p .note { "Accessible only while " (part.settings_text(register.bank())) "." }
            }
            @if !register.writable_while().is_empty() {
                p .note { "Writable only while " (part.settings_text(register.writable_while())) "." }
            }
            @if !fields.is_empty() { div .fields { @for field in fields { (values(part, register, field)) } } }
        }
    }
}

/// The rows of a register: the highest bit of each, and the lowest.
fn rows(width: u32) -> impl Iterator<Item = (u32, u32)> {
    (0..width.div_ceil(ROW)).rev().map(move |row| ((row * ROW + ROW).min(width) - 1, row * ROW))
}

/// Meaning of a bit: its field, and true for reserved bits.
#[derive(Clone, Copy)]
struct Bit<'p> {
    field: Option<&'p Field>,
    reserved: bool,
}

impl PartialEq for Bit<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.field.map(Field::name) == other.field.map(Field::name) && self.reserved == other.reserved
    }
}

fn bits(part: &Part, register: &Register, row: (u32, u32)) -> Markup {
    let fields: Vec<&Field> = part.fields.of(register.fields()).filter(|field| !field.joined).collect();
    let owner = |bit: u32| Bit {
        field: fields.iter().find(|field| field.mask_in(register) >> bit & 1 == 1).copied(),
        reserved: register.reserved().iter().any(|reserved| reserved.mask >> bit & 1 == 1),
    };
    let runs = runs(row.0, row.1, owner);
    html! {
        div .scroll { table .bits {
            caption { "Bits " (row.0) " to " (row.1) " of " (register.name()) }
            tr .numbers { @for bit in (row.1..=row.0).rev() { th scope="col" { (bit) } } }
            tr {
                @for (high, low, bit) in &runs {
                    @if let Some(field) = bit.field {
                        td .field .narrow[high == low && row.0 - row.1 > 8] colspan=(high - low + 1) {
                            a href=(format!("#{}", anchor("field", field.name()))) { (broken(field.name())) }
                        }
                    } @else {
                        td .reserved colspan=(high - low + 1) { (if bit.reserved { "reserved" } else if register.fields().is_empty() { "value" } else { "–" }) }
                    }
                }
            }
            @if let Some(value) = register.reset() {
                tr .reset { @for bit in (row.1..=row.0).rev() { td { (value >> bit & 1) } } }
            }
        } }
    }
}

fn values(part: &Part, register: &Register, field: &Field) -> Markup {
    let columns: Vec<&str> = field.columns().iter().map(|column| column.name.as_str()).collect();
    let said = field.values().iter().any(|row| row.means.is_some());
    let (low, high) = field.bounds();
    html! {
        div .fieldof id=(anchor("field", field.name())) {
            h4 { (field.name()) " " span .at { (register.name()) (field.bits_text(register)) } (cited(field.source())) }
            @let said_of = field.means().is_some() || field.values().is_empty() || field.access() != register.access() || field.computed().is_some();
            @if said_of {
                p {
                @if let Some(means) = field.means() { (means) ". " }
                @if field.values().is_empty() { (low) " to " (high) "." }
                @if field.access() != register.access() { " It is " (field.access().as_str()) "." }
                @if let Some(formula) = field.computed() { " Computed: " code { (linked(part, &part.typed(formula))) } }
                }
            }
            @if !field.values().is_empty() {
                div .scroll { table .values {
                    thead { tr { th { "code" } th { "bits" } th { "value" } @for column in &columns { th { (column) } } @if said { th { "means" } } } }
                    tbody {
                        @for row in field.values() {
                            tr {
                                td .number { (row.code) }
                                td .code { (format!("{:0width$b}", row.code & ((1i128 << field.width()) - 1), width = field.width() as usize)) }
                                td { (row.name.as_deref().unwrap_or("")) }
                                @for value in row.columns.iter() { td .number { @if let Some(value) = value { (value) } } }
                                @if said { td { (row.means.as_deref().unwrap_or("")) } }
                            }
                        }
                    }
                } }
            }
        }
    }
}
