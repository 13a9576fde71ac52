//! Transfers of a capture as lines, CSV or JSON, and the verdict.

use std::fmt::Write as _;
use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::bus::Bus;
use yemdo::record::Traffic;
use yemdo::stand_in::Violation;
use yemdo::trace::{Followed, FrameSeen, Meaning};
use yemdo::view::{FindingView, PrintedView, TransferView};
use yemdo::{Decoded, Status, to_hex, visible};
use yemdo_log::csv_text;
use yemdo_trace::Captured;

use super::parts::{OnBus, Parts, Taken};
use crate::args::{Format, Trace};
use crate::failure::Failure;
use crate::output::{json_line, many_lines};
use crate::show::number::{millis, short};
use crate::show::status::{note, push_told, status_style};

/// The most bytes of a transfer that are shown in a line.
const MOST_BYTES: usize = 12;

/// Width of the column of transfers.
const TRANSFER: usize = 28;

/// Heading of CSV.
const HEADING: [&str; 13] = [
    "number",
    "time_s",
    "part",
    "bus",
    "address",
    "sent",
    "came",
    "error",
    "meaning",
    "readings",
    "since_start_ms",
    "required_ms",
    "violations",
];

/// Where transfers go.
pub(super) struct Shown<'a> {
    args: &'a Trace,
    out: Box<dyn Write>,
    /// Width of the column of names; 0 for one part.
    names: usize,
    titled: bool,
    /// There are no sheets.
    alone: bool,
}

impl<'a> Shown<'a> {
    pub(super) fn new(args: &'a Trace, parts: &Parts) -> Self {
        let several = parts.all().count() > 1;
        let names = parts.all().map(|part| part.name.chars().count()).max().filter(|_| several).unwrap_or(0);
        let (out, plain) = many_lines(args.format);
        let out = if plain { Box::new(anstream::StripStream::new(out)) } else { out };
        Self { args, out, names, titled: false, alone: parts.all().next().is_none() }
    }

    /// Prints all lines so far.
    pub(super) fn flush(&mut self) -> Result<(), Failure> {
        Ok(self.out.flush()?)
    }

    /// Whether the filters let an item of a part pass. `is_about`: whether it has a name.
    fn passes(&self, at: u64, part: Option<&OnBus>, is_about: impl Fn(&str) -> bool, violates: bool) -> bool {
        let args = self.args;
        args.from.is_none_or(|from| at >= from)
            && args.to.is_none_or(|to| at <= to)
            && args.part.as_ref().is_none_or(|name| part.is_some_and(|part| part.name == *name))
            && args.of.as_deref().is_none_or(is_about)
            && (!args.violations || violates)
    }

    pub(super) fn transfer(&mut self, number: u64, captured: &Captured, taken: &Taken, parts: &Parts) -> Result<(), Failure> {
        let (part, followed) = match taken {
            Taken::Followed { part, followed } => (parts.get(*part), Some(followed.as_ref())),
            Taken::Stranger => (None, None),
        };
        let traffic = followed.map_or(&captured.transaction.traffic, |followed| &followed.traffic);
        let named = |name: &str| part.zip(followed).is_some_and(|(part, followed)| is_about(part, followed, name));
        if !self.passes(traffic.at, part, named, followed.is_some_and(|followed| !followed.violations.is_empty())) {
            return Ok(());
        }
        match self.args.format {
            Format::Table => self.line(number, traffic, part, followed),
            Format::Csv => self.row(number, traffic, part, followed),
            Format::Json => {
                let of = part.map(|part| (part.name.as_str(), &**part.follower.part()));
                json_line(&mut self.out, &TransferView::new(traffic, captured.line, of, followed))
            }
        }
    }

    fn line(&mut self, number: u64, traffic: &Traffic, part: Option<&OnBus>, followed: Option<&Followed>) -> Result<(), Failure> {
        let (dim, red, yellow) = (Style::new().dimmed(), AnsiColor::BrightRed.on_default(), AnsiColor::Yellow.on_default());
        let at = millis(traffic.at);
        let names = self.names;
        let name = part.filter(|_| names > 0).map_or("", |part| part.name.as_str());
        let gap = if names > 0 { "  " } else { "" };
        let transfer = transfer_text(traffic);
        let pad = " ".repeat(TRANSFER.saturating_sub(transfer.chars().count()));
        write!(self.out, "{dim}{number:>5} {at:>14}{dim:#}  {name:<names$}{gap}{transfer}{pad}  ")?;
        if let Err(why) = &traffic.outcome {
            write!(self.out, "{red}{}{red:#}  ", visible(why))?;
        }
        let unknown = if self.alone { String::new() } else { format!("{dim}no sheet has this address{dim:#}") };
        let told = followed.map_or(unknown, meaning_text);
        writeln!(self.out, "{told}")?;
        let indent = " ".repeat(24 + names + gap.len());
        for (violation, depends) in followed.iter().flat_map(|followed| &followed.violations) {
            let (style, mark) = if *depends { (yellow, '?') } else { (red, '!') };
            let line = line_text(violation);
            let earlier = if violation.at < traffic.at { format!("at {}, ", millis(violation.at)) } else { String::new() };
            let rule = violation.rule.as_str();
            writeln!(self.out, "{indent}{style}{mark} {earlier}{rule}: {}{line}{style:#}", visible(&violation.what))?;
        }
        Ok(())
    }

    fn row(&mut self, number: u64, traffic: &Traffic, part: Option<&OnBus>, followed: Option<&Followed>) -> Result<(), Failure> {
        let mut rows = csv::WriterBuilder::new().from_writer(&mut self.out);
        if !std::mem::replace(&mut self.titled, true) {
            rows.write_record(HEADING).map_err(std::io::Error::from)?;
        }
        let transfer = &traffic.transfer;
        let came = traffic.outcome.as_ref().map_or_else(|_| String::new(), |bytes| to_hex(bytes));
        let error = traffic.outcome.as_ref().err().cloned().unwrap_or_default();
        let meanings: Vec<String> = followed.iter().flat_map(|followed| &followed.meanings).map(ToString::to_string).collect();
        let readings = followed.map_or(String::new(), |followed| all_readings(followed).join("; "));
        let gap = followed.and_then(|followed| followed.gap);
        let ms = |micros: u64| short(micros as f64 / 1000.0);
        let violations: Vec<String> = followed
            .iter()
            .flat_map(|followed| &followed.violations)
            .map(|(violation, depends)| format!("{}{}: {}", if *depends { "? " } else { "" }, violation.rule.as_str(), violation.what))
            .collect();
        let address = match (transfer.bus, transfer.address) {
            (Bus::I2c, Some(address)) => format!("0x{address:02X}"),
            (_, Some(unit)) => unit.to_string(),
            (_, None) => String::new(),
        };
        let cells = [
            number.to_string(),
            format!("{:.6}", traffic.at as f64 / 1e6),
            part.map_or(String::new(), |part| part.name.clone()),
            transfer.bus.key().to_owned(),
            address,
            to_hex(&transfer.send),
            came,
            error,
            meanings.join("; "),
            readings,
            gap.map_or(String::new(), |gap| ms(gap.elapsed)),
            gap.map_or(String::new(), |gap| ms(gap.required)),
            violations.join("; "),
        ];
        rows.write_record(cells.iter().map(|cell| csv_text(cell).into_owned())).map_err(std::io::Error::from)?;
        Ok(rows.flush()?)
    }

    /// A frame that was printed.
    pub(super) fn printed(&mut self, number: u64, (at, line): (u64, u64), part: &OnBus, seen: &FrameSeen) -> Result<(), Failure> {
        let sheet = part.follower.part();
        let name = sheet.frames().get(seen.frame).map_or("", |frame| frame.name());
        if !self.passes(at, Some(part), |own| own == name, false) {
            return Ok(());
        }
        match self.args.format {
            Format::Table => {
                let (dim, names) = (Style::new().dimmed(), self.names);
                let gap = if names > 0 { "  " } else { "" };
                let of = if names > 0 { part.name.as_str() } else { "" };
                let bytes = to_hex(&seen.bytes);
                let told = seen_text(seen);
                Ok(writeln!(self.out, "{dim}{number:>5} {:>14}{dim:#}  {of:<names$}{gap}{bytes:<TRANSFER$}  {name}: {told}", millis(at))?)
            }
            Format::Csv => {
                let error = Failure::error("printed lines have no transfers for a table of them");
                Err(error.help("use --log for the readings, or --format json"))
            }
            Format::Json => json_line(&mut self.out, &PrintedView::new((at, line), (&part.name, sheet), seen)),
        }
    }

    pub(super) fn damaged(&mut self, number: u64, (at, line): (u64, u64), why: &str, bytes: &[u8]) -> Result<(), Failure> {
        if self.args.format != Format::Table || self.args.violations || self.args.part.is_some() || self.args.of.is_some() {
            return Ok(());
        }
        let (dim, red) = (Style::new().dimmed(), AnsiColor::BrightRed.on_default());
        let place = if line > 0 { format!(" (line {line})") } else { String::new() };
        let shown = to_hex(bytes.get(..MOST_BYTES.min(bytes.len())).unwrap_or(&[]));
        Ok(writeln!(self.out, "{dim}{number:>5} {:>14}{dim:#}  {red}{}{place}{red:#}  {shown}", millis(at), visible(why))?)
    }

    /// Prints the findings. Returns whether there are certain ones.
    pub(super) fn verdict(&mut self, parts: &Parts, end: u64) -> Result<bool, Failure> {
        let mut certain = false;
        let mut any = false;
        let mut text = String::new();
        for part in parts.all() {
            for finding in part.follower.finish(end) {
                any = true;
                certain |= !finding.depends_on_start;
                let view = FindingView::new(&part.name, &finding);
                if self.args.format == Format::Json {
                    json_line(&mut self.out, &view)?;
                    continue;
                }
                let (red, yellow) = (AnsiColor::BrightRed.on_default(), AnsiColor::Yellow.on_default());
                let (style, mark) = if finding.depends_on_start { (yellow, '?') } else { (red, '!') };
                let violation = &finding.violation;
                let times = if finding.count > 1 { format!(", {} times", finding.count) } else { String::new() };
                let line = line_text(violation);
                let (at, rule, what) = (millis(violation.at), violation.rule.as_str(), visible(&violation.what));
                let name = &part.name;
                let _ = writeln!(text, "{style}{mark} {name}: {rule}{style:#}, {at}{times}: {what}{line}");
                let _ = writeln!(text, "    possible effect: {}", violation.rule.effect());
            }
        }
        match self.args.format {
            Format::Json => {}
            Format::Table => {
                writeln!(self.out, "\n{}", parts.summary())?;
                self.out.write_all(text.as_bytes())?;
                if !parts.is_judged() {
                    self.out.flush()?;
                    return Ok(false);
                }
                let verdict = match (certain, any) {
                    (true, _) => "the client violates the sheet",
                    (false, true) => "no certain violation; those with ? depend on the time before the capture",
                    (false, false) => "no violations",
                };
                writeln!(self.out, "{verdict}")?;
            }
            // Talk, not data.
            Format::Csv => anstream::stderr().write_all(format!("{}\n{text}", parts.summary()).as_bytes())?,
        }
        self.out.flush()?;
        Ok(certain)
    }
}

/// Line of the sheet for a violation, in brackets.
fn line_text(violation: &Violation) -> String {
    violation.line.map_or(String::new(), |line| format!(" (line {line} of the sheet)"))
}

/// Whether a transfer is about a register, frame or command of this name.
fn is_about(part: &OnBus, followed: &Followed, name: &str) -> bool {
    let sheet = part.follower.part();
    let frame = |id| sheet.frames().get(id).is_some_and(|frame| frame.name() == name);
    let is_it = |meaning: &Meaning| match meaning {
        Meaning::Written { register, .. } | Meaning::Read { register, .. } => {
            sheet.registers().get(*register).is_some_and(|register| register.name() == name)
        }
        Meaning::Frame { frame: id, .. } => frame(*id),
        Meaning::Command { frame: id, text } => id.is_some_and(frame) || text.as_str() == name,
        _ => false,
    };
    followed.meanings.iter().any(is_it)
}

/// A transfer in a few words: `0x2C W 5A 10 R = 89 87`.
fn transfer_text(traffic: &Traffic) -> String {
    let transfer = &traffic.transfer;
    let bytes = |bytes: &[u8]| match bytes.split_at_checked(MOST_BYTES) {
        Some((head, rest)) if !rest.is_empty() => format!("{} … +{}", to_hex(head), rest.len()),
        _ => to_hex(bytes),
    };
    let mut text = match (transfer.bus, transfer.address) {
        (Bus::I2c, Some(address)) => format!("0x{address:02X}"),
        (_, Some(unit)) => format!("unit {unit}"),
        (bus, None) => bus.name().to_owned(),
    };
    if !transfer.send.is_empty() {
        let _ = write!(text, " W {}", bytes(&transfer.send));
    }
    if transfer.receive > 0 {
        let _ = match &traffic.outcome {
            Ok(came) => write!(text, " R {}", bytes(came)),
            Err(_) => write!(text, " R"),
        };
    }
    text
}

/// Meaning of a transfer, with its readings and the time since the start of the measurement.
fn meaning_text(followed: &Followed) -> String {
    let dim = Style::new().dimmed();
    let mut texts = Vec::new();
    for meaning in &followed.meanings {
        let mut text = visible(&meaning.to_string()).into_owned();
        if let Meaning::Frame { frame, .. } = meaning {
            let seen = followed.frames.iter().find(|seen| seen.frame == *frame);
            let told = seen.map(seen_text);
            if let Some(told) = told.filter(|told| !told.is_empty()) {
                text = format!("{text}: {told}");
            }
        }
        texts.push(text);
    }
    let mut text = texts.join("; ");
    if let Some(gap) = followed.gap.filter(|gap| gap.required > 0) {
        let ms = |micros: u64| short(micros as f64 / 1000.0);
        let _ = write!(text, "  {dim}after {} ms; sheet: {} ms{dim:#}", ms(gap.elapsed), ms(gap.required));
    }
    text
}

/// The readings of a frame, or why it was refused.
fn seen_text(seen: &FrameSeen) -> String {
    match &seen.decoded {
        Ok(decoded) => readings_text(decoded),
        Err(refusal) => {
            let red = AnsiColor::BrightRed.on_default();
            format!("{red}{}{red:#}", visible(&refusal.to_string()))
        }
    }
}

/// The readings of a frame: values first, then those that are not well, by reason. Readings that wait for other frames come with those.
fn readings_text(decoded: &Decoded) -> String {
    let came = || decoded.readings.iter().filter(|reading| reading.status != Status::Waiting);
    let values = came().filter_map(|reading| Some(format!("{} {}", reading.name, reading.value_text()?)));
    let mut text = values.collect::<Vec<_>>().join(", ");
    let mut told = Vec::new();
    for reading in came().filter(|reading| reading.status != Status::Ok) {
        note(&mut told, reading.status, reading.why.clone(), &reading.name);
    }
    let worst = came().map(|reading| reading.status).max().unwrap_or(Status::Ok);
    if !told.is_empty() {
        let (style, _) = status_style(worst);
        let mut statuses = String::new();
        push_told(&mut statuses, &told, came().count(), true);
        let between = if text.is_empty() { "" } else { "; " };
        let _ = write!(text, "{between}{style}{}{style:#}", visible(&statuses));
    }
    text
}

/// Readings of all frames that are complete, or why they were refused.
fn all_readings(followed: &Followed) -> Vec<String> {
    let mut texts = Vec::new();
    for seen in &followed.frames {
        match &seen.decoded {
            Ok(decoded) => texts.extend(decoded.readings.iter().map(|reading| format!("{} {reading}", reading.name))),
            Err(refusal) => texts.push(refusal.to_string()),
        }
    }
    texts
}
