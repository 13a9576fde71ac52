//! Register tables that were copied from a datasheet, to the text of a sheet.
//!
//! Two shapes are read. *Wide*: a register a row, with columns for address, name, access, reset and each bit
//! (`bit 7` … `bit 0`); cells such as `pace[2:0]`, `T13`, `-`, `0`, `Reserved`, and empty ones where cells were
//! merged. *Long*: a field a row, with columns for register, address, field, bits, access and reset.
//!
//! Cells come as rows; where a PDF viewer gave columns apart by blanks, [`rows_apart_by_blanks`] makes them. An address may be
//! a run (`0x10-0x13`), or have a comment (`0x06 (MSB)`); bare digits of a column of addresses or of resets are hex where one
//! of them can be nothing else; a description that lists values (`0 = sleep, 1 = forced`) becomes the field's table; constant
//! bits of what is only read become its reset value, and an identity that a routine expects.

mod blanks;
mod cells;
mod values;
mod write;

pub use blanks::rows_apart_by_blanks;

use std::fmt;

use cells::{Cell, cell};

/// The sheet that came out, and what could not be read.
#[derive(Clone, Debug)]
pub struct Import {
    /// The sheet's text; `check` accepts it.
    pub sheet: String,
    /// Registers in it.
    pub registers: usize,
    /// Fields in it.
    pub fields: usize,
    /// What could not be read, or was guessed.
    pub notes: Vec<Note>,
}

/// Something that the reader of the table should look at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// Row of the table, from 1.
    pub line: usize,
    /// What it is.
    pub text: String,
}

/// Why a table is no register table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ImportError {
    missing: String,
}

impl fmt::Display for ImportError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "this is not a register table: {}", self.missing)
    }
}

impl std::error::Error for ImportError {}

/// A register, as far as the table tells.
#[derive(Clone, Debug, Default)]
struct Register {
    line: usize,
    name: String,
    at: u64,
    /// Registers of one kind that follow one another.
    count: u64,
    access: Option<&'static str>,
    reset: Option<u64>,
    bits: u32,
    /// For each run of bits: high, low, and what stands there.
    cells: Vec<(u32, u32, Cell)>,
    means: String,
}

/// Where the columns are.
#[derive(Clone, Debug, Default)]
struct Columns {
    address: Option<usize>,
    name: Option<usize>,
    access: Option<usize>,
    reset: Option<usize>,
    /// Column and bit, the most significant first.
    bits: Vec<(usize, u32)>,
    field: Option<usize>,
    range: Option<usize>,
    means: Option<usize>,
}

/// Reads a table, given as rows of cells, and writes a sheet for the part.
///
/// ```
/// let rows = [["Addr", "Name", "R/W", "Reset", "bit 7", "bit 6", "bit 5", "bit 4", "bit 3", "bit 2", "bit 1", "bit 0"],
///             ["10h", "MODE", "RW", "02h", "en", "pace[2:0]", "", "", "-", "-", "0", "1"]];
/// let rows: Vec<Vec<String>> = rows.iter().map(|row| row.iter().map(|cell| cell.to_string()).collect()).collect();
/// let import = yemdo::import::import("lamp-1", &rows).unwrap();
/// assert!(import.sheet.contains("pace = { bits = \"[6:4]\" }"));
/// assert!(yemdo::Part::parse("lamp-1", &import.sheet).is_ok());
/// ```
///
/// # Errors
/// [`ImportError`] where no row of headings or no register is found.
pub fn import(part: &str, rows: &[Vec<String>]) -> Result<Import, ImportError> {
    let missing = |what: &str| ImportError { missing: what.to_owned() };
    let (head, columns) = rows.iter().enumerate().find_map(|(at, row)| Some((at, headings(row)?))).ok_or_else(|| {
        missing("no row has headings for the address and the bits (`Address`, `Name`, `bit 7` … `bit 0`; or `Register`, `Field`, `Bits`)")
    })?;
    let mut notes = Vec::new();
    let body: Vec<(usize, &Vec<String>)> = rows.iter().enumerate().skip(head + 1).map(|(at, row)| (at + 1, row)).collect();
    let get = |row: &[String], column: Option<usize>| column.and_then(|at| row.get(at)).map_or("", |cell| cell.trim()).to_owned();
    let hexish = body.iter().any(|(_, row)| looks_hex(&get(row, columns.address)));
    // One base for a column: 48 beside B3 is 0x48.
    let hex_resets = body.iter().any(|(_, row)| looks_hex(&get(row, columns.reset)));
    let mut registers: Vec<Register> = Vec::new();
    for (line, row) in body {
        if row.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        // A description may go on in the next line.
        let means = get(row, columns.means);
        if !means.is_empty() && row.iter().filter(|cell| !cell.trim().is_empty()).count() == 1 {
            registers.last_mut().into_iter().for_each(|register| register.add_to_description(&means, columns.field.is_some()));
            continue;
        }
        let (name, address) = (get(row, columns.name), get(row, columns.address));
        let continues = columns.bits.is_empty()
            && address.is_empty()
            && (name.is_empty() || registers.last().is_some_and(|r| r.name == identifier(&name)));
        if !continues {
            let typed = run(&address, hexish);
            let Some((at, count)) = typed.filter(|(at, count)| *at <= 0xFFFF && *count <= 256) else {
                let what = match typed {
                    Some((at, _)) if at <= 0xFFFF => format!("has the address `{address}`, a run of more than 256"),
                    Some(_) => format!("has the address `{address}`, which is beyond 16 bits"),
                    None if address.is_empty() => "has no address".to_owned(),
                    None => format!("has the address `{address}`, which is not a number"),
                };
                notes.push(Note { line, text: format!("row left out: it {what}") });
                continue;
            };
            let at_known = registers.iter().position(|register| register.at == at && columns.bits.is_empty());
            match at_known {
                Some(known) => {
                    let moved = registers.remove(known);
                    registers.push(moved);
                }
                None => {
                    let mut register = new_register(line, row, &columns, (name, at), &registers, hex_resets, &mut notes);
                    // The bits of a long table say whether it is one wide register.
                    if columns.bits.is_empty() && (2..=8).contains(&count) {
                        register.bits = 8 * count as u32;
                    } else {
                        register.count = count;
                    }
                    registers.push(register);
                }
            }
        }
        let Some(register) = registers.last_mut() else { continue };
        if columns.bits.is_empty() {
            long_row(register, line, row, &columns, hex_resets, &mut notes)
        } else {
            wide_row(register, line, row, &columns, &mut notes)
        }
    }
    if registers.is_empty() {
        return Err(missing("below the headings there is no register with an address"));
    }
    Ok(write::write(part, &registers, notes))
}

fn new_register(
    line: usize,
    row: &[String],
    columns: &Columns,
    (name, at): (String, u64),
    known: &[Register],
    hex_resets: bool,
    notes: &mut Vec<Note>,
) -> Register {
    let get = |column: Option<usize>| column.and_then(|at| row.get(at)).map_or("", |cell| cell.trim());
    let mut fixed = if name.is_empty() { format!("REG_{at:02X}") } else { identifier(&name) };
    if fixed != name {
        notes.push(Note { line, text: format!("the name `{name}` is written {fixed}") });
    }
    if known.iter().any(|register| register.name == fixed) {
        fixed = format!("{fixed}_{at:02X}");
        notes.push(Note { line, text: format!("the name `{name}` is there twice; this one is written {fixed}") });
    }
    let typed = get(columns.access);
    let access = cells::access(typed);
    if access.is_none() && !typed.is_empty() && columns.field.is_none() {
        notes.push(Note { line, text: format!("the access `{typed}` of {fixed} is not understood") });
    }
    let reset = get(columns.reset);
    let value = if columns.field.is_none() { number(reset, hex_resets) } else { None };
    if value.is_none() && !matches!(reset, "" | "-" | "–" | "—" | "N/A" | "n/a") && columns.field.is_none() {
        notes.push(Note { line, text: format!("the reset value `{reset}` of {fixed} is not understood") });
    }
    let means = if columns.field.is_none() { get(columns.means).to_owned() } else { String::new() };
    let bits = columns.bits.first().map_or(8, |(_, bit)| (bit + 1).div_ceil(8) * 8);
    let access = access.filter(|_| columns.field.is_none());
    Register { line, name: fixed, at, count: 1, access, reset: value, bits, cells: Vec::new(), means }
}

/// A row of a wide table: cells from the most significant bit down, empty ones belonging to the one before.
fn wide_row(register: &mut Register, line: usize, row: &[String], columns: &Columns, notes: &mut Vec<Note>) {
    let mut runs: Vec<(u32, u32, String)> = Vec::new();
    for (column, bit) in &columns.bits {
        let text = row.get(*column).map_or("", |cell| cell.trim());
        match runs.last_mut() {
            Some((_, low, before)) if (text.is_empty() || text == before) && !cells::is_single(before) && *low == bit + 1 => *low = *bit,
            _ => runs.push((*bit, *bit, text.to_owned())),
        }
    }
    for (high, low, text) in runs {
        match cell(&text, high, low) {
            Ok(found) => register.cells.extend(found),
            Err(why) => notes.push(Note { line, text: format!("{} [{high}:{low}]: `{text}` {why}; taken as reserved", register.name) }),
        }
    }
}

/// A row of a long table: one field.
fn long_row(register: &mut Register, line: usize, row: &[String], columns: &Columns, hex_resets: bool, notes: &mut Vec<Note>) {
    let get = |column: Option<usize>| column.and_then(|at| row.get(at)).map_or("", |cell| cell.trim());
    let (name, bits) = (get(columns.field), get(columns.range));
    let inside = bits.trim_start_matches(['[', '<', '(']).trim_end_matches([']', '>', ')']);
    let (high, low) = inside.split_once([':', '-', '–']).unwrap_or((inside, inside));
    let Some((high, low)) =
        high.trim().parse::<u32>().ok().zip(low.trim().parse::<u32>().ok()).filter(|(high, low)| *high < 64 && low <= high)
    else {
        notes.push(Note { line, text: format!("row left out: the bits `{bits}` of `{name}` are not understood") });
        return;
    };
    register.bits = register.bits.max((high + 1).div_ceil(8) * 8);
    let access = cells::access(get(columns.access));
    let reset = number(get(columns.reset), hex_resets);
    if let Some(reset) = reset {
        register.reset = Some(register.reset.unwrap_or(0) | reset.checked_shl(low).unwrap_or(0));
    }
    match cell(name, high, low) {
        Ok(found) => register.cells.extend(found.into_iter().map(|(high, low, mut cell)| {
            if let Cell::Field { access: place, means, .. } = &mut cell {
                *place = access;
                get(columns.means).clone_into(means);
            }
            (high, low, cell)
        })),
        Err(why) => notes.push(Note { line, text: format!("{} {bits}: `{name}` {why}; taken as reserved", register.name) }),
    }
}

/// The columns, if the row is one of headings.
fn headings(row: &[String]) -> Option<Columns> {
    let mut columns = Columns::default();
    for (at, cell) in row.iter().enumerate() {
        let text = cell.trim().to_ascii_lowercase();
        let words: Vec<&str> = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '/').filter(|word| !word.is_empty()).collect();
        let has = |names: &[&str]| words.iter().any(|word| names.contains(word));
        let digits = text.trim_start_matches("bit").trim_start_matches(['b', 'd']).trim();
        if let Ok(bit) = digits.parse::<u32>()
            && bit < 64
        {
            columns.bits.push((at, bit));
        } else if has(&["address", "addr", "offset", "adr", "add"]) {
            columns.address = columns.address.or(Some(at));
        } else if has(&["field", "fields"]) || text == "bit name" {
            columns.field = Some(at);
        } else if has(&["bits", "bit", "range", "position"]) {
            columns.range = Some(at);
        } else if has(&["access", "type", "r/w", "rw", "mode"]) {
            columns.access = Some(at);
        } else if has(&["reset", "default", "initial", "por"]) {
            columns.reset = Some(at);
        } else if has(&["name", "register", "mnemonic", "symbol", "reg"]) {
            columns.name = columns.name.or(Some(at));
        } else if has(&["description", "function", "meaning", "comment"]) {
            columns.means = Some(at);
        }
    }
    columns.bits.sort_by_key(|(_, bit)| std::cmp::Reverse(*bit));
    let wide = columns.bits.len() >= 8;
    let long = columns.field.is_some() && columns.range.is_some();
    if !wide {
        columns.bits.clear();
    }
    (columns.address.is_some() && (wide || long)).then_some(columns)
}

fn looks_hex(text: &str) -> bool {
    let lower = text.to_ascii_lowercase();
    lower.starts_with("0x") || lower.ends_with('h') || lower.chars().any(|c| ('a'..='f').contains(&c))
}

impl Register {
    /// What a line says that has nothing but a description: it goes on with that of the last field, or of the register.
    fn add_to_description(&mut self, text: &str, of_fields: bool) {
        let field =
            self.cells.iter_mut().rev().find_map(|(.., cell)| if let Cell::Field { means, .. } = cell { Some(means) } else { None });
        let means = match field {
            Some(means) if of_fields => means,
            _ => &mut self.means,
        };
        means.extend((!means.is_empty()).then_some(' '));
        means.push_str(text);
    }
}

/// An address, or the first of a run and how many it has: `0x06 (MSB)`, `0x10-0x13`, `10h..13h`.
fn run(text: &str, hex: bool) -> Option<(u64, u64)> {
    let plain = text.split_once('(').map_or(text, |(before, _)| before).trim();
    if let Some(at) = number(plain, hex) {
        return Some((at, 1));
    }
    let (first, last) = ["..", "–", "-", "to", "/", ","].iter().find_map(|between| plain.split_once(between))?;
    let (first, last) = (number(first.trim(), hex)?, number(last.trim(), hex)?);
    Some((first, last.checked_sub(first)?.checked_add(1)?))
}

/// A number as datasheets print them: 0x12, 12h, 0b0001, 0001 0010b, 18; bare digits are hex where told.
fn number(text: &str, hex: bool) -> Option<u64> {
    let lower: String = text.to_ascii_lowercase().chars().filter(|c| !c.is_whitespace() && *c != '_').collect();
    if let Some(digits) = lower.strip_prefix("0x") {
        return u64::from_str_radix(digits, 16).ok();
    }
    if let Some(digits) = lower.strip_prefix("0b") {
        return u64::from_str_radix(digits, 2).ok();
    }
    if let Some(digits) = lower.strip_suffix('h') {
        return u64::from_str_radix(digits, 16).ok();
    }
    if let Some(digits) = lower.strip_suffix('b').filter(|digits| !digits.is_empty() && digits.chars().all(|c| matches!(c, '0' | '1'))) {
        return u64::from_str_radix(digits, 2).ok();
    }
    if lower.len() >= 8 && lower.chars().all(|c| matches!(c, '0' | '1')) {
        return u64::from_str_radix(&lower, 2).ok();
    }
    u64::from_str_radix(&lower, if hex { 16 } else { 10 }).ok()
}

/// A name as sheets have them.
fn identifier(text: &str) -> String {
    let mut name: String = text.trim().chars().take(60).map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
    while name.contains("__") {
        name = name.replace("__", "_");
    }
    let name = name.trim_matches('_').to_owned();
    match name.chars().next() {
        None => "unnamed".into(),
        Some(c) if c.is_ascii_digit() => format!("_{name}"),
        _ => name,
    }
}
