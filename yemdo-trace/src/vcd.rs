//! Value change dumps (IEEE 1364-2005, section 18).

use std::io::BufRead;

use vcd::{Command, IdCode, Parser, Scope, ScopeItem, TimescaleUnit, Value};

use crate::capture::Item;
use crate::edges::Probes;
use crate::error::CaptureError;
use crate::options::CaptureOptions;

/// A waveform, read change by change.
pub(crate) struct Waves<R: BufRead> {
    parser: Parser<R>,
    probes: Probes,
    lines: Vec<(IdCode, usize)>,
    /// Picoseconds of a step of time, as a fraction.
    scale: (u64, u64),
    now: u64,
    over: bool,
    used: Vec<String>,
}

impl<R: BufRead> Waves<R> {
    pub(crate) fn open(input: R, options: &CaptureOptions) -> Result<Self, CaptureError> {
        let mut parser = Parser::new(input);
        let header = parser.parse_header().map_err(|error| unreadable(&error))?;
        let (count, unit) = header.timescale.unwrap_or((1, TimescaleUnit::NS));
        let (multiply, divide) = match unit {
            TimescaleUnit::S => (1_000_000_000_000, 1),
            TimescaleUnit::MS => (1_000_000_000, 1),
            TimescaleUnit::US => (1_000_000, 1),
            TimescaleUnit::NS => (1000, 1),
            TimescaleUnit::PS => (1, 1),
            TimescaleUnit::FS => (1, 1000),
        };
        let mut found = Vec::new();
        scalars("", &header.items, &mut found);
        // One signal may have several names.
        let mut lines: Vec<(IdCode, usize)> = Vec::new();
        let mut names: Vec<String> = Vec::new();
        for (name, code) in found {
            let known = lines.iter().find(|(own, _)| *own == code).and_then(|(_, line)| names.get_mut(*line));
            match known {
                // Prefer the name of a bus line.
                Some(name_of) if options.role_of(name_of).is_none() => *name_of = name,
                Some(_) => {}
                None => {
                    lines.push((code, names.len()));
                    names.push(name);
                }
            }
        }
        let probes = Probes::new(&names, options)?;
        let used = probes.used(options);
        Ok(Self { parser, probes, lines, scale: (multiply * u64::from(count), divide), now: 0, over: false, used })
    }

    pub(crate) fn next_item(&mut self) -> Result<Option<Item>, CaptureError> {
        loop {
            if let Some(item) = self.probes.ready() {
                return Ok(Some(item));
            }
            if self.over {
                return Ok(None);
            }
            match self.parser.next() {
                None => {
                    self.over = true;
                    self.probes.end(self.now)?;
                }
                Some(Err(error)) => return Err(unreadable(&error)),
                Some(Ok(Command::Timestamp(steps))) => {
                    let at = steps.checked_mul(self.scale.0).map(|time| time / self.scale.1);
                    let at = at.ok_or_else(|| CaptureError::new("the time is too large").at(self.parser.line()))?;
                    if at < self.now {
                        return Err(CaptureError::new("the time goes back").at(self.parser.line()));
                    }
                    self.now = at;
                }
                Some(Ok(Command::ChangeScalar(code, value))) => {
                    // An undriven line is pulled up.
                    let level = !matches!(value, Value::V0);
                    if let Some((_, line)) = self.lines.iter().find(|(own, _)| *own == code) {
                        self.probes.edge(self.now, *line, level);
                    }
                }
                Some(Ok(_)) => {}
            }
        }
    }

    pub(crate) fn notes(&self) -> Vec<String> {
        self.probes.notes()
    }

    pub(crate) fn understood(&self) -> String {
        self.used.join(", ")
    }
}

/// The names and codes of all lines of one bit.
fn scalars(scope: &str, items: &[ScopeItem], found: &mut Vec<(String, IdCode)>) {
    for item in items {
        match item {
            ScopeItem::Var(var) if var.size == 1 => found.push((format!("{scope}{}", var.reference), var.code)),
            ScopeItem::Scope(Scope { identifier, items, .. }) => scalars(&format!("{scope}{identifier}."), items, found),
            _ => {}
        }
    }
}

fn unreadable(error: &std::io::Error) -> CaptureError {
    CaptureError::new(format!("the waveform cannot be read: {error}")).help("it may be cut off; expected VCD (IEEE 1364)")
}
