//! `yemdo explain`: what a register's value means, bit by bit.

use std::io::{Read, Write};
use std::path::Path;

use anstyle::{AnsiColor, Style};
use serde_json::json;
use yemdo::explain::{Explained, explain};
use yemdo::model::registers::Register;
use yemdo::{Part, Settings};

use crate::args::{CheckFormat, Explain};
use crate::failure::Failure;
use crate::grid::{Align, Cell, Grid};
use crate::{diagram, sheets};

pub(crate) fn run(args: &Explain) -> Result<u8, Failure> {
    let part = sheets::load(&args.sheet, args.variant.as_deref())?;
    let mut values = Vec::new();
    for typed in &args.values {
        values.extend(assignment(&part, typed, false)?);
    }
    if let Some(path) = &args.dump {
        values.extend(read_dump(&part, path)?);
    }
    // Every value is known before the first is explained: a field of several registers needs them all.
    let mut settings = Settings::reset(&part);
    for (register, value) in &values {
        if let Some(register) = part.registers().get(*register) {
            settings.set_register(register, *value);
        }
    }
    let mut out = anstream::stdout().lock();
    let mut wrong = false;
    for (index, (register, value)) in values.iter().enumerate() {
        let Some(explained) = explain(&part, *register, *value, &mut settings) else { continue };
        wrong |= !explained.wrong.is_empty();
        match args.format {
            CheckFormat::Table => {
                if index > 0 {
                    writeln!(out)?;
                }
                table(&mut out, &part, &explained)?;
            }
            CheckFormat::Json => json_line(&mut out, &explained)?,
        }
    }
    Ok(u8::from(wrong))
}

/// The registers of a dump and their values.
pub(crate) fn read_dump(part: &Part, path: &Path) -> Result<Vec<(usize, u64)>, Failure> {
    let mut values = Vec::new();
    for (index, line) in read(path)?.lines().enumerate() {
        let line = line.split('#').next().unwrap_or("").trim();
        if !line.is_empty() {
            values.extend(assignment(part, line, true).map_err(|failure| failure.at_line(index + 1))?);
        }
    }
    Ok(values)
}

fn read(path: &Path) -> Result<String, Failure> {
    let mut text = String::new();
    let told = |error: &std::io::Error| Failure::file("read the dump", path, error);
    if path == Path::new("-") {
        std::io::stdin().lock().take(1 << 20).read_to_string(&mut text).map_err(|error| told(&error))?;
    } else {
        text = std::fs::read_to_string(path).map_err(|error| told(&error))?;
    }
    Ok(text)
}

/// `REGISTER=VALUE`, or an address with the values of registers that follow one another. In a dump, values are hex
/// with or without `0x`.
fn assignment(part: &Part, typed: &str, dump: bool) -> Result<Vec<(usize, u64)>, Failure> {
    let mut words = typed.split(|c: char| c.is_whitespace() || matches!(c, '=' | ':' | ',' | ';')).filter(|word| !word.is_empty());
    let name = words.next().unwrap_or("");
    let first = find(part, name)?;
    let mut found = Vec::new();
    let mut next = Some(first);
    for word in words {
        let index = next.ok_or_else(|| Failure::told(format!("`{word}`: no register follows there")))?;
        let Some(register) = part.registers().get(index) else { continue };
        let value = if dump { u64::from_str_radix(word.trim_start_matches("0x"), 16).ok() } else { sheets::number(word) };
        let value = value.ok_or_else(|| {
            Failure::told(format!("`{word}` is no value of {}", register.name())).help("write it as 0x2A, 0b0010_1010 or 42")
        })?;
        if value & !register.mask() != 0 {
            return Err(Failure::told(format!("{word} does not fit in {}, which has {} bits", register.name(), register.width())));
        }
        found.push((index, value));
        let behind = register.address() + register.bytes() as u32;
        next = part.registers().iter().position(|other| other.address() == behind && other.bank() == register.bank());
    }
    if found.is_empty() {
        return Err(Failure::told(format!("`{typed}` has no value")).help("write REGISTER=VALUE, such as CONFIG=0x2A"));
    }
    Ok(found)
}

fn find(part: &Part, name: &str) -> Result<usize, Failure> {
    let by_address = || {
        let address = sheets::number(name)?;
        part.registers().iter().position(|register| u64::from(register.address()) == address)
    };
    part.register_index(name).or_else(by_address).ok_or_else(|| {
        let failure = Failure::told(format!("{} has no register `{name}`", part.name()));
        match yemdo::sheet::suggest::nearest(name, part.registers().iter().map(Register::name)) {
            Some(near) => failure.help(format!("did you mean `{near}`?")),
            None if part.registers().is_empty() => failure.help("the sheet describes no registers"),
            None => failure.help(format!("its registers: {}", yemdo::sheet::suggest::one_of(part.registers().iter().map(Register::name)))),
        }
    })
}

fn table(out: &mut dyn Write, part: &Part, explained: &Explained<'_>) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let register = explained.register;
    let (width, digits) = (register.width() as usize, register.bytes() * 2);
    let means = register.means().map_or(String::new(), |means| format!("  {means}"));
    writeln!(out, "{bold}{}{bold:#} at 0x{:02X} = 0x{:0digits$X}{means}", register.name(), register.address(), explained.value)?;
    for (field, code) in register.bank() {
        if let Some(field) = part.fields().get(*field) {
            writeln!(out, "  reached while {} = {code}", field.name())?;
        }
    }
    // The bits in groups of four, and below them, field by field, whose they are.
    let label = explained.fields.iter().map(|field| field.field.name().len()).max().unwrap_or(0).max(8);
    let row = |cell: &dyn Fn(usize) -> String| diagram::bits(width, cell);
    let numbers = diagram::numbers(width);
    for (at, text) in numbers.iter().enumerate() {
        writeln!(out, "  {dim}{:label$}  {text}{dim:#}", if at + 1 == numbers.len() { "bit" } else { "" })?;
    }
    writeln!(out, "  {:label$}  {}", "value", diagram::value(width, explained.value))?;
    if let Some(changed) = explained.changed().filter(|changed| *changed != 0) {
        let reset = register.reset().unwrap_or(0);
        let yellow = AnsiColor::Yellow.on_default();
        let cell = |bit: usize| {
            if changed >> bit & 1 == 1 { format!("{yellow}{}{yellow:#}", reset >> bit & 1) } else { format!("{dim}·{dim:#}") }
        };
        writeln!(out, "  {:label$}  {}", "reset", row(&cell))?;
    }
    let cyan = AnsiColor::Cyan.on_default();
    for field in &explained.fields {
        let mask = field.field.mask_in(register);
        let cell = |bit: usize| {
            if mask >> bit & 1 == 1 { format!("{cyan}{}{cyan:#}", explained.value >> bit & 1) } else { format!("{dim}·{dim:#}") }
        };
        writeln!(out, "  {:label$}  {}", field.field.name(), row(&cell))?;
    }
    if !explained.fields.is_empty() {
        writeln!(out)?;
        let mut grid = Grid::new(2, &[Align::Left, Align::Left, Align::Right, Align::Left, Align::Left]);
        grid.titles(&["field", "bits", "code", "value", "meaning"]);
        for field in &explained.fields {
            let name = match (field.row, field.field.rows().is_empty()) {
                (Some(row), _) => Cell::from(row.name.as_deref().unwrap_or("")),
                (None, true) => Cell::from(field.field.real(field.code).map_or(String::new(), crate::configure::short)),
                (None, false) => Cell { text: "not in its table".into(), style: AnsiColor::Yellow.on_default() },
            };
            let mut words: Vec<String> = field.row.and_then(|row| row.means.clone()).into_iter().collect();
            let columns = field.field.columns().iter().zip(field.row.map_or(&[] as &[_], |row| &row.columns));
            words.extend(columns.filter_map(|(column, number)| Some(format!("{} {}", column.name, (*number)?))));
            words.extend(field.field.means().map(str::to_owned));
            let access = field.field.access();
            if access != register.access() {
                words.push(access.word().to_owned());
            }
            if register.reset().is_some() && field.reset != field.code {
                words.push(format!("{} after a reset", field.reset));
            }
            grid.row(vec![
                field.field.name().into(),
                field.bits_text().into(),
                field.code.to_string().into(),
                name,
                words.join("; ").into(),
            ]);
        }
        grid.write(out)?;
    }
    let red = AnsiColor::Red.on_default();
    for (mask, stands, wanted) in &explained.wrong {
        writeln!(
            out,
            "  {red}reserved bits 0x{mask:0digits$X} hold 0x{stands:0digits$X}, but 0x{wanted:0digits$X} must be written there{red:#}"
        )?;
    }
    if explained.unknown != 0 {
        writeln!(out, "  {red}bits 0x{:0digits$X} are set, and the sheet does not know them{red:#}", explained.unknown)?;
    }
    match explained.changed() {
        Some(0) => writeln!(out, "  {dim}as after a reset{dim:#}")?,
        Some(_) => writeln!(out, "  {dim}after a reset it is 0x{:0digits$X}{dim:#}", register.reset().unwrap_or(0))?,
        None => {}
    }
    Ok(())
}

fn json_line(out: &mut dyn Write, explained: &Explained<'_>) -> Result<(), Failure> {
    let fields: Vec<_> = explained
        .fields
        .iter()
        .map(|field| {
            json!({
                "name": field.field.name(),
                "bits": field.bits_text(),
                "code": field.code as i64,
                "value": field.row.and_then(|row| row.name.clone()),
                "means": field.row.and_then(|row| row.means.clone()),
                "known": field.row.is_some() || field.field.rows().is_empty(),
                "reset": field.reset as i64,
            })
        })
        .collect();
    let line = json!({
        "register": explained.register.name(),
        "address": explained.register.address(),
        "value": explained.value,
        "reset": explained.register.reset(),
        "fields": fields,
        "reserved_wrong": explained.wrong.iter().map(|(mask, stands, wanted)| json!({ "mask": mask, "stands": stands, "must_be": wanted })).collect::<Vec<_>>(),
        "unknown_bits": explained.unknown,
    });
    Ok(writeln!(out, "{line}")?)
}
