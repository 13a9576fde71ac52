//! The live view of all parts.

use std::time::Instant;

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use unicode_width::UnicodeWidthStr;
use yemdo::units::Unit;
use yemdo::{Status, visible};

use super::detail;
use super::keys::KEYS;
use super::state::{Look, PartView, ReadingView, View};

/// Rising blocks, and their ASCII replacements.
const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
const ASCII: [char; 8] = ['_', '_', '.', '-', '=', '+', '*', '#'];

impl Look {
    pub(super) fn colour(self, colour: Color) -> Style {
        if self.colours { Style::new().fg(colour) } else { Style::new() }
    }

    pub(super) fn dim(self) -> Style {
        if self.colours { Style::new().fg(Color::DarkGray) } else { Style::new().add_modifier(Modifier::DIM) }
    }

    /// A unit's symbol, in signs that the terminal has.
    pub(super) fn unit(self, symbol: &str) -> &str {
        if self.signs || symbol.is_ascii() {
            return symbol;
        }
        Unit::find(symbol).and_then(|unit| unit.also.iter().find(|other| other.is_ascii())).map_or(symbol, |other| *other)
    }

    /// A status that is not ok.
    pub(super) fn status(self, status: Status) -> Style {
        match status {
            Status::Ok => Style::new(),
            Status::Alert | Status::OutOfRange | Status::Saturated => self.colour(Color::Yellow).add_modifier(Modifier::BOLD),
            Status::NotReady | Status::Waiting => self.dim(),
            _ => self.colour(Color::LightRed).add_modifier(Modifier::BOLD),
        }
    }
}

/// Draws everything.
pub(super) fn draw(frame: &mut Frame<'_>, view: &View, now: Instant) {
    let areas = Layout::vertical([Constraint::Length(1), Constraint::Min(1), Constraint::Length(1)]).split(frame.area());
    let &[top, middle, bottom] = &*areas else { return };
    frame.render_widget(Paragraph::new(title(view, usize::from(top.width))), top);
    match (view.help, view.large) {
        (true, _) => frame.render_widget(Paragraph::new(help()), middle),
        (_, true) => detail::draw(frame, middle, view),
        _ => overview(frame, middle, view, now),
    }
    frame.render_widget(Paragraph::new(foot(view, usize::from(bottom.width))), bottom);
}

/// A time as it is typed.
pub(super) fn duration(micros: u64) -> String {
    match micros {
        0..1_000 => format!("{micros} µs"),
        1_000..1_000_000 => format!("{} ms", micros / 1000),
        1_000_000..60_000_000 => format!("{} s", micros as f64 / 1e6),
        _ => format!("{} min", micros as f64 / 60e6),
    }
}

fn title(view: &View, width: usize) -> Line<'static> {
    let bar = if view.look.colours { Style::new().fg(Color::Black).bg(Color::Cyan) } else { Style::new().add_modifier(Modifier::REVERSED) };
    let time = view.now.map_or_else(String::new, |now| view.clocks.text(now));
    let clock =
        if width < 70 { time.get(11..19).unwrap_or("").to_owned() } else { time.chars().take(19).collect::<String>().replace('T', " ") };
    let every = view.every.map_or("as fast as possible".to_owned(), |every| format!("every {}", duration(every)));
    let state = match (&view.ended, view.paused) {
        (Some(_), _) => "  ENDED",
        (_, true) => "  PAUSED",
        _ => "",
    };
    let text = format!(" {clock}  {every}{state}");
    Line::styled(format!("{text:<width$}"), bar)
}

fn foot(view: &View, width: usize) -> Line<'static> {
    if let Some(text) = view.note.clone().or_else(|| view.ended.clone().flatten()) {
        return Line::styled(format!(" {}", visible(&text)), view.look.colour(Color::Yellow));
    }
    let keys = match width {
        0..60 => " q quit  ? keys",
        60..100 => " q quit  space pause  + - interval  enter large  ? keys",
        _ => " q quit  space pause  + - interval  up down select  enter large  u unit  m mark  r reset  ? keys",
    };
    Line::styled(keys, view.look.dim())
}

fn help() -> Vec<Line<'static>> {
    let key = |(key, what): &(&'static str, &'static str)| {
        Line::from(vec![Span::styled(format!("  {key:>8}  "), Modifier::BOLD), Span::raw(*what)])
    };
    std::iter::once(Line::raw("")).chain(KEYS.iter().map(key)).collect()
}

/// Columns, as many as the terminal is wide enough for.
struct Columns {
    name: usize,
    codes: usize,
    extremes: bool,
    status: usize,
    history: usize,
}

const VALUE: usize = 10;
const UNIT: usize = 5;
const EXTREME: usize = 10;

impl Columns {
    fn new(view: &View, width: usize) -> Self {
        let readings = || view.parts.iter().flat_map(|part| &part.readings);
        let longest = |most: usize, of: fn(&ReadingView) -> usize| readings().map(of).max().unwrap_or(0).min(most);
        let name = longest(if width < 70 { 14 } else { 24 }, |reading| reading.name.width());
        let mut left = width.saturating_sub(2 + name + 1 + VALUE + 1 + UNIT);
        let mut take = |wanted: usize, least: usize| {
            let taken = if left >= wanted + least { wanted } else { 0 };
            left -= taken;
            taken
        };
        let status = take(15, 8);
        let codes = take(longest(20, |reading| reading.codes.width()).max(6) + 2, 14);
        let extremes = take(3 * (EXTREME + 1), 16) > 0;
        Self { name, codes, extremes, status, history: left.saturating_sub(1).min(super::state::KEPT) }
    }
}

fn overview(frame: &mut Frame<'_>, area: Rect, view: &View, now: Instant) {
    let width = usize::from(area.width);
    let columns = Columns::new(view, width);
    let mut lines = Vec::new();
    // Where the selected reading stands, so that it is in sight.
    let mut at = 0;
    if columns.extremes {
        lines.push(titles(&columns, view.look));
    }
    for (index, part) in view.parts.iter().enumerate() {
        lines.extend(part_lines(part, view.look, width, now));
        for (place, reading) in part.known() {
            let selected = (index, place) == view.selected;
            at = if selected { lines.len() } else { at };
            lines.push(reading_line(reading, &columns, view.look, selected));
        }
        if lines.len() < 200 {
            lines.push(Line::raw(""));
        }
    }
    let height = usize::from(area.height);
    let from = if lines.len() <= height { 0 } else { (at + 2).saturating_sub(height).min(lines.len() - height) };
    let shown: Vec<Line<'_>> = lines.into_iter().skip(from).take(height).collect();
    frame.render_widget(Paragraph::new(shown), area);
}

fn titles(columns: &Columns, look: Look) -> Line<'static> {
    let Columns { name, codes, status, .. } = columns;
    let before = format!("  {:<name$} {:>VALUE$} {:<UNIT$}", "", "value", "");
    let code = if *codes > 0 { format!("{:>codes$}", "code") } else { String::new() };
    let extremes = format!(" {:>EXTREME$} {:>EXTREME$} {:>EXTREME$}", "minimum", "mean", "maximum");
    let history = if columns.history > 20 { "history, oldest first" } else { "" };
    Line::styled(format!("{before}{code}{extremes} {history:<history_width$}{:<status$}", "", history_width = columns.history), look.dim())
}

/// The lines of a part: its name, how it fares, the bytes.
fn part_lines<'a>(part: &'a PartView, look: Look, width: usize, now: Instant) -> Vec<Line<'a>> {
    let mut spans = vec![Span::styled(part.name.as_str(), Style::new().add_modifier(Modifier::BOLD))];
    let mut fares = Vec::new();
    if let Some(rate) = part.rate() {
        fares.push(if rate < 0.1 { format!("{:.1} a minute", rate * 60.0) } else { format!("{rate:.1} a second") });
    }
    match part.age(now) {
        Some(age) if age >= 1.0 => fares.push(format!("{age:.0} s old")),
        None if part.failing.is_none() => fares.push("nothing yet".into()),
        _ => {}
    }
    spans.push(Span::styled(format!("  {}", fares.join(", ")), look.dim()));
    if !part.errors.is_empty() {
        let errors: Vec<String> = part.errors.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
        spans.push(Span::styled(format!("  {}", errors.join(", ")), look.colour(Color::LightRed)));
    }
    let mut lines = vec![Line::from(spans)];
    if let Some(message) = &part.failing {
        lines.push(Line::styled(format!("  {}", visible(message)), look.colour(Color::LightRed).add_modifier(Modifier::BOLD)));
    } else if !part.frames.is_empty() && width >= 60 {
        let bytes: Vec<String> = part.frames.iter().map(|(name, bytes)| format!("{name} {bytes}")).collect();
        lines.push(Line::styled(format!("  {}", bytes.join("  ")), look.dim()));
    }
    lines
}

fn reading_line<'a>(reading: &'a ReadingView, columns: &Columns, look: Look, selected: bool) -> Line<'a> {
    let show = |value: Option<f64>| value.map_or_else(|| if look.signs { "–".into() } else { "-".into() }, |value| reading.shown(value));
    let status = reading.status.unwrap_or(Status::Waiting);
    let style = look.status(status);
    let name: String = reading.name.chars().take(columns.name).collect();
    let mark = if selected { if look.signs { "› " } else { "> " } } else { "  " };
    let bold = if selected { Style::new().add_modifier(Modifier::BOLD) } else { Style::new() };
    let mut spans = vec![
        Span::styled(format!("{mark}{}", pad(&name, columns.name)), bold),
        Span::styled(format!(" {:>VALUE$}", show(reading.value)), style.add_modifier(Modifier::BOLD)),
        Span::raw(format!(" {}", pad(look.unit(reading.symbol()), UNIT))),
    ];
    if columns.codes > 0 {
        spans.push(Span::styled(format!("{:>width$}", cut(&reading.codes, columns.codes - 1), width = columns.codes), look.dim()));
    }
    if columns.extremes {
        let some = |value: f64| (reading.all.count > 0).then_some(value);
        for value in [reading.all.least, reading.all.mean, reading.all.greatest] {
            spans.push(Span::raw(format!(" {:>EXTREME$}", show(some(value)))));
        }
    }
    let well = status == Status::Ok || reading.status.is_none();
    // Without room for both, the status precedes the history.
    if columns.history > 3 && (well || columns.status > 0) {
        spans.push(Span::styled(format!(" {}", history(reading, columns.history, look)), look.colour(Color::Cyan)));
    }
    if !well {
        spans.push(Span::styled(format!(" {}", status.as_str()), style));
    }
    Line::from(spans)
}

/// A text filled up with blanks.
fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.width())))
}

fn cut(text: &str, width: usize) -> String {
    if text.width() <= width { text.to_owned() } else { text.chars().take(width.saturating_sub(2)).chain("..".chars()).collect() }
}

/// History of the last values, with minimum and maximum on both sides if there is room.
fn history(reading: &ReadingView, width: usize, look: Look) -> String {
    let labels = if width >= 40 { 20 } else { 0 };
    let room = width - labels;
    let samples = || reading.history.iter().map(|sample| sample.value).skip(reading.history.len().saturating_sub(room));
    let (low, high) = samples().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(value), high.max(value)));
    if low > high {
        return pad("", width);
    }
    let (before, behind) = match labels {
        0 => Default::default(),
        _ => (format!("{:>9} ", reading.shown(low)), format!(" {:<9}", reading.shown(high))),
    };
    let steps = if look.signs { BLOCKS } else { ASCII };
    let step = |value: f64| {
        let share = if high > low { (value - low) / (high - low) } else { 0.5 };
        steps.get(((share * 7.0).round() as usize).min(7)).copied().unwrap_or(' ')
    };
    let line: String = samples().map(step).collect();
    format!("{before}{}{behind}", pad(&line, room))
}
