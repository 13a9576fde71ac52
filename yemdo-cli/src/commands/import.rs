//! `yemdo import`: a register table as CSV, with tabs or blanks, to a sheet.

use std::io::Write;

use anstyle::AnsiColor;
use yemdo::Part;
use yemdo::import::rows_apart_by_blanks;

use crate::args::Import;
use crate::failure::Failure;
use crate::input;
use crate::output::write_to;

pub(crate) fn run(args: &Import) -> Result<u8, Failure> {
    let text = input::text("the table", &args.table, input::MAX_TEXT)?;
    let stem = args.table.file_stem().map(|stem| stem.to_string_lossy().into_owned()).filter(|stem| stem != "-");
    let name = args.part.clone().or(stem).unwrap_or_else(|| "part".to_owned());
    let import = yemdo::import::import(&name, &rows(&text)).map_err(|error| Failure::refused(error.to_string()))?;
    // The written sheet must be valid for `check`.
    Part::parse(&name, &import.sheet).map_err(|error| Failure::Sheet(Box::new(error)))?;
    write_to(args.out.as_deref(), &import.sheet, args.overwrite)?;
    let mut err = anstream::stderr();
    let _ = writeln!(err, "{} registers and {} fields read", import.registers, import.fields);
    let yellow = AnsiColor::Yellow.on_default();
    for note in &import.notes {
        let _ = writeln!(err, "{yellow}line {}{yellow:#}: {}", note.line, note.text);
    }
    Ok(0)
}

/// The cells of the table; what separates them is what its lines have most of, or blanks where hardly a line has any of it.
fn rows(text: &str) -> Vec<Vec<String>> {
    let separated = |delimiter: char| text.lines().filter(|line| line.matches(delimiter).count() > 1).count();
    let lines = text.lines().filter(|line| !line.trim().is_empty()).count();
    if !['\t', ',', ';'].into_iter().any(|delimiter| separated(delimiter) * 2 > lines) {
        let rows = rows_apart_by_blanks(text);
        if !rows.is_empty() {
            return rows;
        }
    }
    let count = |delimiter: char| text.lines().take(20).map(|line| line.matches(delimiter).count()).sum::<usize>();
    let delimiter = [('\t', b'\t'), (',', b','), (';', b';')].into_iter().max_by_key(|(c, _)| count(*c)).map_or(b',', |(_, byte)| byte);
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).delimiter(delimiter).from_reader(text.as_bytes());
    reader.records().filter_map(Result::ok).map(|record| record.iter().map(str::to_owned).collect()).collect()
}
