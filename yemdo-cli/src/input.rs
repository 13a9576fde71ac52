//! What comes in: sheets, dumps and logs from files, and settings as they are typed.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;

use yemdo::configure::{Configuration, ConfigureError, Wish, WriteScope, configure, registers_behind};
use yemdo::record::{LogReader, Record, parse_dump};
use yemdo::{Decoder, Part, RegisterId, State, UnknownName, parse_integer};

use crate::failure::Failure;

/// Largest dump or table that is read, in bytes.
pub(crate) const MAX_TEXT: u64 = 1 << 20;

/// Text of a file, or of standard input where the path is `-`, of no more than so many bytes.
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
        return Err(Failure::told(format!("cannot read {what} {}: it has more than {most} bytes", path.display())));
    }
    String::from_utf8(bytes).map_err(|error| {
        let valid = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(valid).filter(|byte| **byte == b'\n').count() + 1;
        Failure::told(format!("cannot read {what} {}: line {line} is not UTF-8", path.display())).help("save the file as UTF-8")
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
    let address = address.ok_or_else(|| Failure::told(format!("`{typed}` is not a 7-bit address")).help("write it as 0x4E"))?;
    part.with_address(address).map_err(|error| {
        let known: Vec<String> = error.known.iter().map(|known| format!("0x{known:02X}")).collect();
        let help = if known.is_empty() { "it is not reached over I2C".to_owned() } else { format!("its addresses: {}", known.join(", ")) };
        Failure::told(error.to_string()).help(help)
    })
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

/// What is wished, worked out from the registers as they are; those too.
pub(crate) fn worked_out(part: &Part, dump: Option<&Path>, typed: &[String], scope: WriteScope) -> Result<(State, Configuration), Failure> {
    let start = present(part, dump)?;
    let wishes = wishes(part, typed)?;
    let done = configure(part, &start, &wishes, scope).map_err(impossible)?;
    Ok((start, done))
}

/// Refuses settings that are impossible whatever the part holds.
pub(crate) fn possible(part: &Part, dump: Option<&Path>, typed: &[String], scope: WriteScope) -> Result<(), Failure> {
    let start = present(part, dump)?;
    let wishes = wishes(part, typed)?;
    let behind = registers_behind(part, &wishes);
    let unknown = part.registers().of(&behind).any(|register| start.known_register(register).is_none());
    match configure(part, &start, &wishes, scope) {
        Err(error) if !unknown => Err(impossible(error)),
        _ => Ok(()),
    }
}

fn impossible(error: ConfigureError) -> Failure {
    let failure = Failure::refused(error.to_string());
    match error.help() {
        Some(help) => failure.help(help),
        None => failure,
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
    let mut wrong = wrong.into_iter().map(Failure::wish);
    let Some(first) = wrong.next() else { return Ok(wishes) };
    // The last one is told by the command itself.
    let last = wrong.try_fold(first, |told, next| writeln!(anstream::stderr(), "{told}").map(|()| next))?;
    Err(last)
}

/// Sets fields, parameters and quantities of a decoder as `NAME=VALUE` says they are.
pub(crate) fn apply(decoder: &mut Decoder, typed: &[String]) -> Result<(), Failure> {
    let part = decoder.part().clone();
    let mut set: Vec<(yemdo::FieldId, i128, &str)> = Vec::new();
    let mut others: Vec<Wish> = Vec::new();
    for typed in typed {
        let wish = Wish::present(&part, typed).map_err(Failure::wish)?;
        match &wish {
            Wish::Field { field, code, .. } => {
                if let Some((.., first)) = set.iter().find(|(known, other, _)| known == field && other != code) {
                    return Err(Failure::told(format!("`{first}` and `{typed}` set the same field to different values")));
                }
                set.push((*field, *code, typed));
                part.fields().get(*field).into_iter().for_each(|field| decoder.state_mut().set_field(field, *code));
            }
            Wish::Parameter { parameter, value, .. } => {
                decoder.set_parameter(*parameter, *value).map_err(|error| Failure::told(error.to_string()))?;
                others.push(wish);
            }
            _ => others.push(wish),
        }
    }
    // What follows from them is as it would be after `configure`.
    if !others.is_empty() {
        let done = configure(&part, decoder.state(), &others, WriteScope::Changed);
        *decoder.state_mut() = done.map_err(impossible)?.state;
    }
    Ok(())
}

/// Sets what a log says was set, and then what is typed, which goes before it; everything else is as in `before`.
pub(crate) fn apply_logged(decoder: &mut Decoder, before: &State, logged: &[(String, String)], typed: &[String]) -> Result<(), Failure> {
    *decoder.state_mut() = before.clone();
    let logged: Vec<String> = logged.iter().map(|(name, value)| format!("{name}={value}")).collect();
    apply(decoder, &logged)?;
    apply(decoder, typed)
}

/// Opens a log; its length in bytes, too.
pub(crate) fn open_log(path: &Path) -> Result<(BufReader<File>, u64), Failure> {
    let failed = |error: io::Error| Failure::file("read the log", path, &error);
    let file = File::open(path).map_err(failed)?;
    let meta = file.metadata().map_err(failed)?;
    if meta.is_dir() {
        return Err(Failure::told(format!("cannot read the log {}: it is a folder", path.display())));
    }
    Ok((BufReader::with_capacity(1 << 16, file), meta.len()))
}

/// Of a line that is too long, so many bytes are passed over.
const MAX_SKIPPED: u64 = 1 << 24;

/// A log, record by record, in constant memory.
pub(crate) struct Log<R> {
    input: R,
    reader: LogReader,
    buffer: Vec<u8>,
    ready: std::vec::IntoIter<Record>,
    /// Bytes of input taken so far, for progress.
    pub(crate) taken: u64,
}

impl<R: BufRead> Log<R> {
    pub(crate) fn new(input: R, reader: LogReader) -> Self {
        Self { input, reader, buffer: Vec::new(), ready: Vec::new().into_iter(), taken: 0 }
    }

    /// The next frame; `None` at the end of the log.
    pub(crate) fn next(&mut self) -> Result<Option<Record>, Failure> {
        loop {
            if let Some(record) = self.ready.next() {
                return Ok(Some(record));
            }
            self.buffer.clear();
            let mut limited = Read::take(&mut self.input, yemdo::record::MAX_LINE as u64 + 2);
            let read = limited.read_until(b'\n', &mut self.buffer);
            let read = read.map_err(|error| Failure::told(format!("cannot read the log: {error}")))?;
            // Of a line that is too long the rest is passed over.
            let mut skipped = 0;
            if read > yemdo::record::MAX_LINE && !self.buffer.ends_with(b"\n") {
                skipped = self.skip_line()?;
            }
            let records = match read {
                0 => self.reader.end(),
                _ => self.reader.line_bytes(&self.buffer).map_err(|error| Failure::helped(error.message, error.help))?,
            };
            if read == 0 && records.is_empty() {
                return Ok(None);
            }
            self.taken += read as u64 + skipped;
            self.ready = records.into_iter();
        }
    }

    /// Passes over the rest of a line; what goes on without end is no log.
    fn skip_line(&mut self) -> Result<u64, Failure> {
        let mut limited = Read::take(&mut self.input, MAX_SKIPPED);
        let skipped = limited.skip_until(b'\n').map_err(|error| Failure::told(format!("cannot read the log: {error}")))? as u64;
        if skipped == MAX_SKIPPED {
            return Err(Failure::refused(format!("a line of the log has more than {MAX_SKIPPED} bytes")).help("a log has one frame a line"));
        }
        Ok(skipped)
    }
}

impl From<UnknownName> for Failure {
    fn from(error: UnknownName) -> Self {
        Failure::told(error.message()).help(error.help())
    }
}
