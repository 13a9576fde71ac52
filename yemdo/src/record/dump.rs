//! Registers and their values, as people type or paste them.

use std::fmt;

use crate::ground::hex::parse_integer;
use crate::model::ids::RegisterId;
use crate::model::name::UnknownName;
use crate::model::part::Sheet;
use crate::model::registers::{Numbering, Register};

/// Why a text is not register values.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DumpError {
    /// Line of the dump, from 1; `None` where it is a single text.
    pub line: Option<usize>,
    /// What is wrong.
    pub message: String,
    /// What to try.
    pub help: Option<String>,
}

impl fmt::Display for DumpError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.line.iter().try_for_each(|line| write!(f, "line {line}: "))?;
        f.write_str(&self.message)
    }
}

impl std::error::Error for DumpError {}

fn error(message: String, help: impl Into<Option<String>>) -> DumpError {
    DumpError { line: None, message, help: help.into() }
}

/// The registers of a dump and their values: one register a line, its name or address, and its value in hex, with blanks,
/// `:`, `=` or `,` between; or an address and the values of registers that follow one another. `#` begins a comment.
///
/// ```
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// register.MODE = { at = 1 }
/// register.LIMIT = { at = 2, width = 16 }
/// "#)?;
/// let values = yemdo::record::parse_dump(&part, "# as found\n0x01: 2A 1F40\n")?;
/// assert_eq!(values, [(part.register("MODE")?, 0x2A), (part.register("LIMIT")?, 0x1F40)]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// [`DumpError`], with the line; also where there is no register in it at all.
pub fn parse_dump(part: &Sheet, text: &str) -> Result<Vec<(RegisterId, u64)>, DumpError> {
    let mut values: Vec<(RegisterId, u64)> = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.split('#').next().unwrap_or("").trim();
        if line.is_empty() {
            continue;
        }
        let in_line = |error| DumpError { line: Some(index + 1), ..error };
        for (id, value) in read(part, line, true).map_err(in_line)? {
            if let Some((_, first)) = values.iter().find(|(known, first)| *known == id && *first != value) {
                let name = part.registers[id].name.as_str();
                let help = "a dump has each register once; which of them is it?".to_owned();
                return Err(in_line(error(format!("{name} is 0x{value:X} here, and 0x{first:X} above"), help)));
            }
            values.push((id, value));
        }
    }
    if values.is_empty() {
        return Err(error("there is no register in the dump".into(), "write one a line, such as CONFIG=0x2A".to_owned()));
    }
    Ok(values)
}

/// `REGISTER=VALUE`, with the value as people type whole numbers: `0x2A`, `0b0010_1010` or `42`.
///
/// # Errors
/// [`DumpError`].
pub fn parse_register(part: &Sheet, typed: &str) -> Result<Vec<(RegisterId, u64)>, DumpError> {
    read(part, typed, false)
}

/// The register of a name or an address as it is typed.
///
/// # Errors
/// [`DumpError`]: there is none, with the names that there are.
pub fn find_register(part: &Sheet, typed: &str) -> Result<RegisterId, DumpError> {
    find(part, typed, false)
}

fn read(part: &Sheet, typed: &str, hex: bool) -> Result<Vec<(RegisterId, u64)>, DumpError> {
    let mut words = typed.split(|c: char| c.is_whitespace() || matches!(c, '=' | ':' | ',' | ';')).filter(|word| !word.is_empty());
    let mut next = Some(find(part, words.next().unwrap_or(""), hex)?);
    let mut found = Vec::new();
    for word in words {
        let id = next.ok_or_else(|| error(format!("`{word}`: no register follows there"), None))?;
        let Some(register) = part.registers.get(id) else { continue };
        let number = |word: &str| parse_integer(word).and_then(|number| u64::try_from(number).ok());
        let value = if hex { u64::from_str_radix(word.trim_start_matches("0x"), 16).ok() } else { number(word) };
        let value = value.ok_or_else(|| {
            error(format!("`{word}` is not a value of {}", register.name), "write it as 0x2A, 0b0010_1010 or 42".to_owned())
        })?;
        if value & !register.mask() != 0 {
            return Err(error(format!("{word} does not fit in {}, which has {} bits", register.name, register.width()), None));
        }
        found.push((id, value));
        next = behind(part, register);
    }
    if found.is_empty() {
        return Err(error(format!("`{typed}` has no value"), "write REGISTER=VALUE, such as CONFIG=0x2A".to_owned()));
    }
    Ok(found)
}

/// The register that follows another.
fn behind(part: &Sheet, register: &Register) -> Option<RegisterId> {
    let next = Numbering::of(part).behind(register);
    part.registers.position(|other| other.at == next && other.bank == register.bank)
}

/// A register by name or address; of several at one address in different banks the first. Where values are hex, addresses
/// are too; those of Modbus, 40001 and up, are decimal everywhere.
fn find(part: &Sheet, name: &str, hex: bool) -> Result<RegisterId, DumpError> {
    let unknown = match part.register(name) {
        Ok(id) => return Ok(id),
        Err(unknown) => unknown,
    };
    let bare = if hex && name.len() < 5 { i128::from_str_radix(name, 16).ok() } else { None };
    let Some(address) = bare.or_else(|| parse_integer(name)) else { return Err(told(&unknown)) };
    let there = part.registers.position(|register| i128::from(register.at) == address);
    there.ok_or_else(|| told(&unknown))
}

fn told(unknown: &UnknownName) -> DumpError {
    error(unknown.message(), unknown.help())
}
