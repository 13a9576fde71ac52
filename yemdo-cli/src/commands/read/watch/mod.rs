//! `yemdo read --live`: the full-screen view. One thread measures, the other draws and reads keys.

mod detail;
mod draw;
mod keys;
mod state;
#[cfg(test)]
mod tests;

use std::io::{IsTerminal, Write};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use anstream::{AutoStream, ColorChoice, StripStream};
use ratatui::crossterm::event;
use yemdo_log::{Audience, Clocks, Control, Entry, Logger};

use super::Connector;
use crate::failure::Failure;
use crate::link::AnyPort;
use crate::show::steps;
use state::{Happened, Look, Measured, Seen, View};

/// Never drawn more often: ten times a second is as quick as one reads.
const FRAME: Duration = Duration::from_millis(100);
/// Interval for redrawing ages without new readings.
const IDLE: Duration = Duration::from_secs(1);

/// Shows the session until somebody leaves.
pub(super) fn run(logger: &mut Logger<AnyPort>, connector: &mut Connector<'_>, clocks: &Clocks) -> Result<(), Failure> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(Failure::error("the live view needs a terminal").help("remove --live for line-by-line output"));
    }
    let look = Look { colours: AutoStream::choice(&std::io::stdout()) != ColorChoice::Never, signs: has_signs() };
    let parts = logger.stations().map(|(station, _)| (station.name(), station.part(), station.units()));
    let mut view = View::new(parts, clocks.clone(), look);
    view.every = logger.stations().filter_map(|(station, _)| station.interval()).min();
    let (stop, keys) = (connector.stop.clone(), Keys { control: logger.control(), ..Keys::default() });
    stop.on_termination();
    let (to, from) = channel();
    let terminal_to = Sender::clone(&to);
    let mut terminal = ratatui::try_init().map_err(|error| Failure::error(format!("cannot use the terminal: {error}")))?;
    // On its own: where the terminal goes away, reading from it does not come back, and this thread ends with the process.
    std::thread::spawn(move || {
        while let Ok(event) = event::read() {
            if terminal_to.send(Happened::Terminal(event)).is_err() {
                return;
            }
        }
    });
    let shown = std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut audience = Channel { to, keys: &keys };
            let ended = logger.run(connector, &mut audience).err().map(|failure| failure.message());
            let _ = audience.to.send(Happened::Ended(ended));
        });
        let shown = show(&mut terminal, &mut view, &from, &keys, &|| stop.is_asked());
        // Whatever ended it, the thread that measures ends too.
        stop.ask();
        shown
    });
    ratatui::restore();
    for mark in &view.marks {
        let _ = writeln!(anstream::stdout(), "{mark}");
    }
    match (shown, view.ended) {
        (Err(error), _) if error.kind() == std::io::ErrorKind::BrokenPipe => Err(Failure::Closed),
        (Err(error), _) => Err(Failure::error(format!("lost the terminal: {error}"))),
        (Ok(()), Some(Some(message))) => Err(Failure::refused(message)),
        (Ok(()), _) => Ok(()),
    }
}

/// Whether the locale has more than ASCII.
fn has_signs() -> bool {
    let set = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let locale = set("LC_ALL").or_else(|| set("LC_CTYPE")).or_else(|| set("LANG")).unwrap_or_default().to_ascii_uppercase();
    locale.contains("UTF-8") || locale.contains("UTF8")
}

fn show(
    terminal: &mut ratatui::DefaultTerminal,
    view: &mut View,
    from: &Receiver<Happened>,
    keys: &Keys,
    stopped: &dyn Fn() -> bool,
) -> std::io::Result<()> {
    let (mut drawn, mut new) = (Instant::now() - IDLE, true);
    while !stopped() {
        // Keys and measurements are taken as they come, and drawn with the next picture.
        let wait = if new { FRAME.saturating_sub(drawn.elapsed()) } else { FRAME };
        if let Ok(first) = from.recv_timeout(wait) {
            for happened in std::iter::once(first).chain(from.try_iter()) {
                new = true;
                match happened {
                    Happened::Terminal(event::Event::Key(key)) if key.kind != event::KeyEventKind::Release => {
                        if keys::press(view, key, keys) {
                            return Ok(());
                        }
                    }
                    Happened::Terminal(_) => {}
                    other => view.take(other, Instant::now()),
                }
            }
        }
        if (new && drawn.elapsed() >= FRAME) || drawn.elapsed() >= IDLE {
            terminal.draw(|frame| draw::draw(frame, view, Instant::now()))?;
            (drawn, new) = (Instant::now(), false);
        }
    }
    Ok(())
}

/// What keys change for the thread that measures.
#[derive(Debug, Default)]
struct Keys {
    control: Arc<Control>,
    /// The part and reading that somebody looks at in all detail.
    detail: Mutex<Option<(String, String)>>,
}

/// Sends measurements to the drawing thread.
struct Channel<'a> {
    to: Sender<Happened>,
    keys: &'a Keys,
}

impl Audience<AnyPort> for Channel<'_> {
    type Error = Failure;

    fn measured(&mut self, row: &yemdo_log::Measured<'_, AnyPort>) -> Result<(), Failure> {
        let wanted = self.keys.detail.lock().map(|detail| detail.clone()).unwrap_or_default();
        let steps = wanted.filter(|(part, _)| part == row.station.name()).and_then(|(_, reading)| {
            let mut frames = row.measurement.frames.iter().rev();
            let frame = frames.find(|frame| frame.decoded().readings.iter().any(|one| one.name == reading))?;
            let mut out = StripStream::new(Vec::new());
            steps::print(&mut out, &mut row.device.decoder().clone(), frame.decoded().frame, frame.bytes()).ok()?;
            String::from_utf8(out.into_inner()).ok()
        });
        let seen = row.measurement.readings().map(|reading| Seen {
            name: reading.name.clone(),
            value: reading.value,
            digits: reading.digits,
            status: reading.status,
            why: reading.why.clone(),
            codes: reading.codes.iter().map(|code| code.value.to_string()).collect::<Vec<_>>().join(" "),
        });
        let measured = Measured {
            part: row.station.name().to_owned(),
            time: row.entry.time,
            frames: row.entry.frames.iter().map(|frame| (frame.name.clone(), frame.bytes.clone())).collect(),
            readings: seen.collect(),
            steps,
        };
        // Who shows it may have left already.
        let _ = self.to.send(Happened::Measured(measured));
        Ok(())
    }

    fn failed(&mut self, _: u64, entry: &Entry) -> Result<(), Failure> {
        if let Some(error) = &entry.error {
            let _ = self.to.send(Happened::Failed { part: entry.part.clone(), cause: error.cause.clone(), message: error.message.clone() });
        }
        Ok(())
    }

    fn absent(&mut self, name: &str, why: &str) {
        let _ = self.to.send(Happened::Failed { part: name.to_owned(), cause: "not opened".into(), message: why.to_owned() });
    }

    fn back(&mut self, _: &str) {}

    fn note(&mut self, text: &str) {
        let _ = self.to.send(Happened::Note(text.to_owned()));
    }
}
