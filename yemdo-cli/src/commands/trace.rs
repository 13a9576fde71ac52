//! `yemdo trace`: a capture of a bus, as transfers with their meaning, readings, and a verdict on the client.

mod options;
mod parts;
mod shown;
mod wire;

use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::path::Path;

use indicatif::ProgressBarIter;
use yemdo::trace::FrameSeen;
use yemdo::view::ShownUnits;
use yemdo_log::{Clocks, Entry, LogFile, Moment};
use yemdo_trace::{Capture, CaptureError, Item, Tell};

use crate::args::{Format, Trace};
use crate::failure::Failure;
use crate::link::Stop;
use crate::output::progress;
use parts::{Parts, Taken};
use shown::Shown;
use wire::Waves;

type Input = BufReader<ProgressBarIter<Box<dyn Read + Send>>>;

/// Size of the buffer of the capture: its beginning decides about the format.
const BUFFER: usize = 1 << 16;

/// Number of items that are printed at once.
const AT_ONCE: u64 = 64;

pub(crate) fn run(args: &Trace) -> Result<u8, Failure> {
    let parts = Parts::new(args)?;
    let options = options::of(args, &parts)?;
    let (input, size) = open(&args.capture)?;
    let progress = progress("reading", size);
    let input = BufReader::with_capacity(BUFFER, progress.wrap_read(input));
    let mut capture = Capture::open(input, options.clone()).map_err(|error| failure(args, error))?;
    tell_kind(&capture, args);
    let log = args.log.as_deref().map(|path| Log::open(path, &parts)).transpose()?;
    let shown = Shown::new(args, &parts);
    let mut session = Session { shown, log, waves: Waves::new(args, &options)?, parts, end: 0, items: 0 };
    let stop = Stop::on_interrupt();
    // An error at the end of a capture: earlier items count.
    let broken = loop {
        let item = match capture.next_item() {
            Ok(Some(item)) if !stop.is_asked() => item,
            Ok(_) => break None,
            Err(error) => break Some(failure(args, error)),
        };
        session.take(item, capture.epoch())?;
        // The first lines are printed at once, and so are all of a live input.
        if size == 0 || session.items <= AT_ONCE {
            session.shown.flush()?;
        }
    };
    progress.finish_and_clear();
    for note in capture.notes() {
        let _ = writeln!(anstream::stderr(), "{note}");
    }
    let Session { mut shown, waves, parts, end, .. } = session;
    let found = shown.verdict(&parts, end)?;
    parts.hints(args, &options)?;
    waves.finish()?;
    broken.map_or(Ok(()), Err)?;
    parts.refuse_nothing()?;
    Ok(u8::from(found))
}

/// A capture that is being read.
struct Session<'a> {
    parts: Parts,
    shown: Shown<'a>,
    log: Option<Log>,
    waves: Waves<'a>,
    /// Time of the last transfer.
    end: u64,
    items: u64,
}

impl Session<'_> {
    fn take(&mut self, item: Item, epoch: Option<f64>) -> Result<(), Failure> {
        self.items += 1;
        let (number, parts) = (self.items, &mut self.parts);
        match item {
            Item::Transfer(captured) => {
                self.end = self.end.max(captured.transaction.end);
                let taken = parts.take(&captured);
                self.log.as_mut().map_or(Ok(()), |log| log.add(parts, &taken, epoch))?;
                self.waves.add(number, &captured, &taken, parts)?;
                self.shown.transfer(number, &captured, &taken, parts)
            }
            Item::Frame { at, names, bytes, line } => {
                parts.printed = true;
                let Some((place, seen)) = parts.take_printed(at, &names, &bytes) else {
                    parts.damaged += 1;
                    return self.shown.damaged(number, (at, line), "bytes of no frame", &bytes);
                };
                self.log.as_mut().map_or(Ok(()), |log| log.frame(parts, place, at, &seen, epoch))?;
                parts.get(place).map_or(Ok(()), |part| self.shown.printed(number, (at, line), part, &seen))
            }
            Item::Damaged { at, why, bytes, line } => {
                parts.damaged += 1;
                self.shown.damaged(number, (at, line), &why, &bytes)
            }
            _ => Ok(()),
        }
    }
}

/// The capture, and its size; 0 if that is unknown.
fn open(path: &Path) -> Result<(Box<dyn Read + Send>, u64), Failure> {
    if path == Path::new("-") {
        return Ok((Box::new(io::stdin()), 0));
    }
    let file = File::open(path).map_err(|error| Failure::file("read", path, &error))?;
    let meta = file.metadata().map_err(|error| Failure::file("read", path, &error))?;
    if meta.is_dir() {
        return Err(Failure::error(format!("{} is a folder", path.display())));
    }
    Ok((Box::new(file), meta.len()))
}

fn failure(args: &Trace, error: CaptureError) -> Failure {
    let message = format!("{}: {error}", args.capture.display());
    let help = error.tell.map(option).map_or(error.help.clone(), |option| match error.help {
        Some(help) => Some(format!("{help}: {option}")),
        None => Some(option),
    });
    Failure::helped(message, help)
}

/// The option for a missing fact.
fn option(tell: Tell) -> String {
    match tell {
        Tell::Lines(lines) if lines.is_empty() => "--line scl=NAME --line sda=NAME".into(),
        Tell::Lines(lines) => lines.iter().map(|(role, name)| format!("--line {}={name}", role.as_str())).collect::<Vec<_>>().join(" "),
        Tell::Column(role, _) => format!("--column {role}=HEADING"),
        Tell::Unit => "--time-unit ms".into(),
        Tell::Numbers => "--numbers hex".into(),
        Tell::Baud(baud) => format!("--baud {baud}"),
        Tell::Parity => "--parity even".into(),
        other => other.to_string(),
    }
}

fn tell_kind(capture: &Capture<Input>, args: &Trace) {
    if args.format == Format::Table {
        let understood = capture.understood();
        let colon = if understood.is_empty() { "" } else { ": " };
        let _ = writeln!(anstream::stderr(), "{}{colon}{}", capture.kind().as_str(), yemdo::visible(&understood));
    }
}

/// The log of readings.
struct Log {
    file: LogFile,
    units: Vec<ShownUnits>,
}

impl Log {
    /// Times are in UTC: most captures have no time of the day, and count from their beginning.
    fn open(path: &Path, parts: &Parts) -> Result<Self, Failure> {
        let clocks = Clocks::new(true);
        if path.exists() {
            let failure = Failure::error(format!("{} already exists", path.display()));
            return Err(failure.help("the log of a capture is a new file: choose another name"));
        }
        let units = parts.all().map(|part| ShownUnits::new(part.follower.part(), part.follower.state(), &[]));
        let units = units.collect::<Result<Vec<_>, _>>().map_err(|error| Failure::helped(error.message, error.help))?;
        Ok(Self { file: LogFile::open(path, &clocks, None, false)?, units })
    }

    fn add(&mut self, parts: &Parts, taken: &Taken, epoch: Option<f64>) -> Result<(), Failure> {
        let Taken::Followed { part, followed } = taken else { return Ok(()) };
        followed.frames.iter().try_for_each(|seen| self.frame(parts, *part, followed.traffic.at, seen, epoch))
    }

    fn frame(&mut self, parts: &Parts, at: usize, time: u64, seen: &FrameSeen, epoch: Option<f64>) -> Result<(), Failure> {
        let (Some(part), Some(units), Ok(decoded)) = (parts.get(at), self.units.get(at), &seen.decoded) else { return Ok(()) };
        let time = Moment::of_seconds(epoch.unwrap_or(0.0)).after(time);
        let used = part.follower.decoder().in_use(&[seen.frame]);
        let entry = Entry::of_frame(time, &part.name, part.follower.part(), decoded, &seen.bytes, used, units);
        Ok(self.file.append(&entry)?)
    }
}
