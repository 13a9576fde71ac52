//! Input: sheets, dumps and logs from files, and typed settings.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

use yemdo::configure::{Configuration, Wish, WriteScope, assume, configure, registers_behind};
use yemdo::record::parse_dump;
use yemdo::{Decoder, Part, RegisterId, State, UnknownName, parse_integer};

use yemdo_bus::bench::{self, BenchError, BenchPart};

use crate::failure::Failure;
use yemdo::counted;

/// Largest dump or table that is read, in bytes.
pub(crate) const MAX_TEXT: u64 = 1 << 20;

/// Text of a file, or of standard input for the path `-`, of at most `most` bytes.
pub(crate) fn text(what: &str, path: &Path, most: u64) -> Result<String, Failure> {
    let told = |error: &io::Error| Failure::file(&format!("read {what}"), path, error);
    let mut bytes = Vec::new();
    if path == Path::new("-") {
        io::stdin().lock().take(most + 1).read_to_end(&mut bytes).map_err(|error| told(&error))?;
    } else {
        let file = File::open(path).map_err(|error| told(&error))?;
        file.take(most + 1).read_to_end(&mut bytes).map_err(|error| told(&error))?;
    }
    if bytes.len() as u64 > most {
        return Err(Failure::error(format!("cannot read {what} {}: it has more than {most} bytes", path.display())));
    }
    String::from_utf8(bytes).map_err(|error| {
        let valid = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(valid).filter(|byte| **byte == b'\n').count() + 1;
        Failure::error(format!("cannot read {what} {}: line {line} is not UTF-8", path.display())).help("save the file as UTF-8")
    })
}

/// Reads and resolves a sheet, or a variant of it.
pub(crate) fn load(path: &Path, variant: Option<&str>) -> Result<Part, Failure> {
    let (name, text) = (path.display().to_string(), text("the sheet", path, yemdo::MAX_SHEET as u64)?);
    let part = match variant {
        Some(variant) => Part::parse_variant(&name, &text, variant),
        None => Part::parse(&name, &text),
    };
    part.map_err(|error| Failure::Sheet(Box::new(error)))
}

/// The same at another of its addresses, where one is given.
pub(crate) fn load_at(path: &Path, variant: Option<&str>, address: Option<&str>) -> Result<Part, Failure> {
    let part = load(path, variant)?;
    let Some(typed) = address else { return Ok(part) };
    let address = parse_integer(typed).and_then(|address| u8::try_from(address).ok()).filter(|address| *address < 0x80);
    let address = address.ok_or_else(|| Failure::error(format!("`{typed}` is not a 7-bit address")).help("write it as 0x4E"))?;
    part.with_address(address).map_err(|error| {
        let known: Vec<String> = error.known.iter().map(|known| format!("0x{known:02X}")).collect();
        let help = if known.is_empty() { "it is not reached over I2C".to_owned() } else { format!("its addresses: {}", known.join(", ")) };
        Failure::error(error.to_string()).help(help)
    })
}

/// The parts of a bench file, at their addresses.
pub(crate) fn bench(path: &Path) -> Result<Vec<(BenchPart, Part)>, Failure> {
    let text = text("the bench", path, MAX_TEXT)?;
    let failure = |error: BenchError| bench_failure(path, error);
    let mut list = Vec::new();
    for one in bench::parse(&text, path.parent().unwrap_or(Path::new("."))).map_err(failure)? {
        let part = one.place.addressed(load(&one.sheet, one.variant.as_deref())?);
        let part = part.map_err(|error| failure(BenchError { line: one.line, message: error.to_string(), help: None }))?;
        list.push((one, part));
    }
    bench::clashes(&list).map_err(failure)?;
    Ok(list)
}

fn bench_failure(path: &Path, error: BenchError) -> Failure {
    Failure::helped(format!("{}: {error}", path.display()), error.help)
}

/// The registers of a dump and their values.
pub(crate) fn dump(part: &Part, path: &Path) -> Result<Vec<(RegisterId, u64)>, Failure> {
    let text = text("the dump", path, MAX_TEXT)?;
    parse_dump(part, &text).map_err(|error| Failure::helped(format!("{}: {error}", path.display()), error.help))
}

/// The registers as they are: after a reset, or as a dump has them.
pub(crate) fn present(part: &Part, path: Option<&Path>) -> Result<State, Failure> {
    let mut settings = State::reset(part);
    for (register, value) in path.map(|path| dump(part, path)).transpose()?.into_iter().flatten() {
        part.registers().get(register).into_iter().for_each(|register| settings.read_register(register, value));
    }
    Ok(settings)
}

/// Resolved settings, and the registers before them.
pub(crate) fn worked_out(part: &Part, dump: Option<&Path>, typed: &[String], scope: WriteScope) -> Result<(State, Configuration), Failure> {
    let start = present(part, dump)?;
    let wishes = wishes(part, typed)?;
    let done = configure(part, &start, &wishes, scope)?;
    Ok((start, done))
}

/// Refuses settings that are impossible whatever the part holds.
pub(crate) fn possible(part: &Part, dump: Option<&Path>, typed: &[String], scope: WriteScope) -> Result<(), Failure> {
    let start = present(part, dump)?;
    let wishes = wishes(part, typed)?;
    let behind = registers_behind(part, &wishes);
    let unknown = part.registers().of(&behind).any(|register| start.known_register(register).is_none());
    match configure(part, &start, &wishes, scope) {
        Err(error) if !unknown => Err(error.into()),
        _ => Ok(()),
    }
}

/// Wishes as typed. All of them are read before the first complaint, so that all can be mended at once.
fn wishes(part: &Part, typed: &[String]) -> Result<Vec<Wish>, Failure> {
    let (mut wishes, mut wrong) = (Vec::new(), Vec::new());
    for typed in typed {
        match Wish::parse(part, typed) {
            Ok(wish) => wishes.push(wish),
            Err(error) => wrong.push(error),
        }
    }
    if wrong.is_empty() { Ok(wishes) } else { Err(Failure::several(wrong.into_iter().map(Failure::wish))) }
}

/// Sets fields, quantities and parameters of a decoder as `NAME=VALUE` says they are.
pub(crate) fn apply(decoder: &mut Decoder, typed: &[String]) -> Result<(), Failure> {
    let state = assume(decoder.part(), decoder.state(), typed)?;
    decoder.adopt(&state);
    Ok(())
}

/// Says on standard error what had failed already when a log was written.
pub(crate) fn tell_failed(failed: &BTreeMap<String, u64>) {
    if failed.is_empty() {
        return;
    }
    let all: u64 = failed.values().sum();
    let causes: Vec<String> = failed.iter().map(|(cause, count)| format!("{count} {}", yemdo::visible(cause))).collect();
    let _ = writeln!(anstream::stderr(), "{} failed when the log was recorded: {}", counted(all, "measurement"), causes.join(", "));
}

impl From<UnknownName> for Failure {
    fn from(error: UnknownName) -> Self {
        Failure::error(error.message()).help(error.help())
    }
}
