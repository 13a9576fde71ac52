//! `yemdo trace`: a capture of a bus, as transfers with their meaning, readings, and a verdict on the client.

mod options;
mod parts;
mod shown;
mod wire;

use std::fs::File;
use std::io::{self, BufReader, IsTerminal, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use indicatif::{ProgressBar, ProgressStyle};
use yemdo::trace::FrameSeen;
use yemdo::view::ShownUnits;
use yemdo_log::{Clocks, Entry, LogFile, Moment};
use yemdo_trace::{Capture, CaptureError, Counted, Item, Tell};

use crate::args::{Format, Trace};
use crate::failure::Failure;
use crate::link::Stop;
pub(super) use options::wave_options;
use parts::{Parts, Taken};
use shown::Shown;
use wire::Waves;

type Input = BufReader<Counted<Box<dyn Read + Send>>>;

/// Size of the buffer of the capture: its beginning decides about the format.
const BUFFER: usize = 1 << 16;

/// Number of items that are printed at once.
const AT_ONCE: u64 = 64;

/// Number of items between updates of the progress.
const EVERY: u64 = 4096;

pub(crate) fn run(args: &Trace) -> Result<u8, Failure> {
    let parts = Parts::new(args)?;
    let options = options::of(args, &parts)?;
    let (input, taken, size) = open(&args.capture)?;
    let mut capture = Capture::open(input, options.clone()).map_err(|error| failure(args, error))?;
    tell_kind(&capture, args);
    let log = args.log.as_deref().map(|path| Log::open(path, capture.epoch(), &parts)).transpose()?;
    let shown = Shown::new(args, &parts);
    let mut session = Session { shown, log, waves: Waves::new(args, &options)?, parts, end: 0, items: 0 };
    let (stop, progress) = (Stop::on_interrupt(), progress(size));
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
        if session.items.is_multiple_of(EVERY) {
            progress.set_position(taken.load(Ordering::Relaxed));
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
                parts.what = "frame";
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

/// The capture, the bytes taken of it, and its size; 0 if that is unknown.
fn open(path: &Path) -> Result<(Input, Arc<AtomicU64>, u64), Failure> {
    let (input, size): (Box<dyn Read + Send>, u64) = if path == Path::new("-") {
        (Box::new(io::stdin()), 0)
    } else {
        let file = File::open(path).map_err(|error| Failure::file("read", path, &error))?;
        let meta = file.metadata().map_err(|error| Failure::file("read", path, &error))?;
        if meta.is_dir() {
            return Err(Failure::error(format!("{} is a folder", path.display())));
        }
        let size = meta.len();
        (Box::new(file), size)
    };
    let (counted, taken) = Counted::new(input);
    Ok((BufReader::with_capacity(BUFFER, counted), taken, size))
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

fn progress(size: u64) -> ProgressBar {
    if size < 1 << 20 || !io::stderr().is_terminal() || io::stdout().is_terminal() {
        return ProgressBar::hidden();
    }
    let style = ProgressStyle::with_template("reading {bar:40} {percent:>3} %  {bytes} of {total_bytes}, {eta} left");
    let bar = ProgressBar::new(size);
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar
}

/// The log of readings.
struct Log {
    file: LogFile,
    units: Vec<ShownUnits>,
}

impl Log {
    fn open(path: &Path, epoch: Option<f64>, parts: &Parts) -> Result<Self, Failure> {
        // Without the time of the day, times count from the beginning of the capture.
        let clocks = Clocks::new(epoch.is_none());
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
