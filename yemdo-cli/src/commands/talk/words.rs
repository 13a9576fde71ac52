//! The words of the console: its commands, and what completes them.

use std::io::{self, Write};

use rustyline::completion::Completer;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::validate::Validator;
use rustyline::{Context, Helper};
use yemdo::Part;

use crate::show::grid::{Align, Grid};

/// Commands with arguments and descriptions.
pub(super) const COMMANDS: [(&str, &str, &str); 12] = [
    ("measure", "", "measure, and show the readings"),
    ("read", "REGISTER, FIELD or FRAME ...", "read it; alone as measure"),
    ("write", "REGISTER=VALUE ...", "write registers as given, and read them back"),
    ("set", "NAME=VALUE ...", "set fields, quantities and parameters: work out, write, verify"),
    ("run", "ROUTINE", "run a routine of the sheet"),
    ("explain", "[REGISTER ...]", "read registers, and say what every bit means"),
    ("mend", "READING=VALUE ...", "find the mistake in the last measurement: mend temperature=24 ± 3 °C"),
    ("dump", "[NAME]", "read all registers; under a name they are kept"),
    ("compare", "NAME [NAME]", "what differs between two dumps, or a dump and now"),
    ("raw", "BYTES [read COUNT]", "send bytes as they are"),
    ("help", "", "this list"),
    ("quit", "", "end; Ctrl-D does, too"),
];

pub(super) fn helped(out: &mut dyn Write) -> io::Result<()> {
    let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Left]);
    for (name, takes, does) in COMMANDS {
        grid.row(vec![name.into(), takes.into(), does.into()]);
    }
    grid.write(out)
}

/// Settings typed in one line; a value extends to the next name.
pub(super) fn settings(text: &str) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match found.last_mut() {
            Some(last) if !word.contains('=') => {
                last.push(' ');
                last.push_str(word);
            }
            _ => found.push(word.trim_matches('\'').to_owned()),
        }
    }
    found.iter().map(|one| one.replace(['\'', '"'], "")).collect()
}

/// What completes a line.
pub(super) struct Words {
    registers: Vec<String>,
    fields: Vec<String>,
    frames: Vec<String>,
    routines: Vec<String>,
    quantities: Vec<String>,
    readings: Vec<String>,
    /// `FIELD=VALUE` for every value with a name.
    values: Vec<String>,
}

impl Words {
    pub(super) fn new(part: &Part) -> Self {
        let mut values = Vec::new();
        for field in part.fields() {
            values.extend(field.values().iter().filter_map(|value| Some(format!("{}={}", field.name(), value.name.as_ref()?))));
        }
        Self {
            registers: part.registers().iter().map(|register| register.name().to_owned()).collect(),
            fields: part.fields().iter().map(|field| field.name().to_owned()).collect(),
            frames: part.frames().iter().map(|frame| frame.name().to_owned()).collect(),
            routines: part.routines().iter().map(|routine| routine.name().to_owned()).collect(),
            readings: part
                .readings()
                .iter()
                .filter(|reading| reading.is_measured())
                .map(|reading| format!("{}=", reading.name()))
                .collect(),
            quantities: part.quantities().iter().map(|quantity| format!("{}=", quantity.name())).collect(),
            values,
        }
    }

    /// Completions of the present word.
    pub(super) fn completions(&self, line: &str) -> (usize, Vec<String>) {
        let start = line.rfind(char::is_whitespace).map_or(0, |at| at + 1);
        let begun = line.get(start..).unwrap_or("").to_lowercase();
        let known: Vec<String> = match (start, line.split_whitespace().next().unwrap_or("")) {
            // A blank follows words with arguments.
            (0, _) => {
                COMMANDS.iter().map(|(name, takes, _)| if takes.is_empty() { (*name).to_owned() } else { format!("{name} ") }).collect()
            }
            (_, "read") => [self.registers.clone(), self.fields.clone(), self.frames.clone()].concat(),
            (_, "write") => self.registers.iter().map(|name| format!("{name}=")).collect(),
            (_, "explain") => self.registers.clone(),
            (_, "mend") => self.readings.clone(),
            (_, "run") => self.routines.clone(),
            (_, "set") => {
                let names = self.fields.iter().map(|name| format!("{name}=")).chain(self.quantities.iter().cloned());
                // Once the name is there, its values.
                if begun.contains('=') { self.values.clone() } else { names.collect() }
            }
            _ => Vec::new(),
        };
        (start, known.into_iter().filter(|word| word.to_lowercase().starts_with(&begun)).collect())
    }
}

impl Completer for Words {
    type Candidate = String;

    fn complete(&self, line: &str, position: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<String>)> {
        Ok(self.completions(line.get(..position).unwrap_or(line)))
    }
}

impl Hinter for Words {
    type Hint = String;
}

impl Highlighter for Words {}

impl Validator for Words {}

impl Helper for Words {}

#[cfg(test)]
#[allow(clippy::panic)] // a test ends where something is wrong
mod tests {
    use super::*;

    #[test]
    fn words_complete_by_what_stands_before_them() {
        let part = Part::parse(
            "p.toml",
            r#"
part = "p"
i2c.address = 0x2B
register.MODE = { at = 1, field.RATE = { bits = "[1:0]", values = [{ code = 0, name = "off" }, { code = 1, name = "17 Hz" }] } }
register.LIMIT = { at = 2, field.LIMIT = { bits = "[7:0]" } }
quantity.limit = { unit = "V", formula = "LIMIT * 0.1" }
frame.DATA = { command = [0x21], read = 1, code = { c = "b0" } }
routine.measure = [{ read = "DATA" }]
"#,
        );
        let words = Words::new(&part.unwrap_or_else(|error| panic!("{error}")));
        for (line, start, found) in [
            ("m", 0, &["measure", "mend "][..]),
            ("re", 0, &["read "]),
            ("read m", 5, &["MODE"]),
            ("read MODE da", 10, &["DATA"]),
            ("write l", 6, &["LIMIT="]),
            ("run ", 4, &["measure"]),
            ("set l", 4, &["LIMIT=", "limit="]),
            ("set RATE=o", 4, &["RATE=off"]),
            ("set RATE=", 4, &["RATE=off", "RATE=17 Hz"]),
            ("explain x", 8, &[]),
            ("help ", 5, &[]),
        ] {
            let (at, words) = words.completions(line);
            assert_eq!((at, words.iter().map(String::as_str).collect::<Vec<_>>().as_slice()), (start, found), "{line}");
        }
        assert_eq!(settings("GAIN=fivefold TIME='54 ms' upper_limit=250 lx"), ["GAIN=fivefold", "TIME=54 ms", "upper_limit=250 lx"]);
    }
}
