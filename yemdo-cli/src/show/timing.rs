//! A transfer on the lines of its bus: levels, bits, bytes, and their meaning.

use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, VPos};
use yemdo::bus::Bus;
use yemdo_trace::Role;
use yemdo_trace::wave::{Drawn, Mark, WaveOptions, lines_of};

use super::figure::{self, FAINT, INK, LINES, Picture, anchored, text_style};

/// Content of a drawing.
#[derive(Debug)]
pub(crate) struct Timing {
    pub(crate) title: String,
    pub(crate) about: String,
    pub(crate) bus: Bus,
    pub(crate) options: WaveOptions,
    pub(crate) drawn: Drawn,
    /// Meaning of each sent and each received byte.
    pub(crate) names: (Vec<String>, Vec<String>),
}

const WIDTH: i32 = 1280;
const LEFT: i32 = 72;
const RIGHT: i32 = 24;
const TOP: i32 = 76;
/// Height of a line, of the bytes below, and between rows.
const LANE: i32 = 44;
const BYTES: i32 = 46;
const BETWEEN: i32 = 26;
/// Pixels of a bit, at least.
const BIT: u64 = 11;

impl Timing {
    /// The rows: from and to, in nanoseconds. They end between bytes.
    fn rows(&self) -> Vec<(u64, u64)> {
        let bits = self.drawn.bits.iter().map(|(at, ..)| *at).collect::<Vec<_>>();
        let bit = bits.windows(2).map(|pair| pair[1].saturating_sub(pair[0])).filter(|step| *step > 0).min().unwrap_or(1);
        let room = (WIDTH - LEFT - RIGHT) as u64 / BIT * bit;
        let begin = self.drawn.edges.iter().map(|(at, ..)| *at).min().unwrap_or(0);
        let end = self.drawn.marks.iter().map(|mark| mark.to).max().unwrap_or(self.drawn.end) + 2 * bit;
        let (mut rows, mut from) = (Vec::new(), begin.saturating_sub(bit));
        while from < end {
            let limit = from + room;
            let last = self.drawn.marks.iter().map(|mark| mark.to).filter(|to| *to > from && *to <= limit).max();
            let to = if limit >= end { end } else { last.unwrap_or(limit) };
            rows.push((from, to));
            from = to;
        }
        // All rows have one scale.
        let longest = rows.iter().map(|(from, to)| to - from).max().unwrap_or(1);
        rows.into_iter().map(|(from, to)| (from, if rows_alone(from, begin, to, end) { to } else { from + longest })).collect()
    }

    fn row_height(&self) -> i32 {
        LANE * lines_of(self.bus).len() as i32 + BYTES + BETWEEN
    }
}

/// Whether a drawing has a single row.
fn rows_alone(from: u64, begin: u64, to: u64, end: u64) -> bool {
    from <= begin && to >= end
}

impl Picture for Timing {
    fn size(&self) -> (u32, u32) {
        let height = TOP + self.row_height() * self.rows().len() as i32;
        (WIDTH as u32, u32::try_from(height).unwrap_or(0).clamp(120, 8000))
    }

    fn draw<B: DrawingBackend>(&self, backend: B) -> figure::Drawn<B> {
        let root = backend.into_drawing_area();
        root.fill(&WHITE)?;
        root.draw(&Text::new(self.title.clone(), (24, 16), text_style(19)))?;
        root.draw(&Text::new(self.about.clone(), (24, 44), text_style(14)))?;
        for (row, (from, to)) in self.rows().into_iter().enumerate() {
            let top = TOP + self.row_height() * row as i32;
            let x = |at: u64| {
                let share = at.saturating_sub(from) as f64 / (to - from).max(1) as f64;
                LEFT + (share * f64::from(WIDTH - LEFT - RIGHT)).round() as i32
            };
            for (lane, line) in lines_of(self.bus).iter().enumerate() {
                let y = top + LANE * lane as i32;
                root.draw(&Text::new(line.as_str().to_uppercase(), (LEFT - 12, y + 20), anchored(14, HPos::Right, VPos::Center)))?;
                self.lane(&root, *line, (from, to), y, &x)?;
            }
            let y = top + LANE * lines_of(self.bus).len() as i32 + 6;
            for mark in self.drawn.marks.iter().filter(|mark| mark.from >= from && mark.to <= to && mark.from < to) {
                let names = if mark.from_part { &self.names.1 } else { &self.names.0 };
                let name = mark.byte.and_then(|place| names.get(place));
                self.mark(&root, mark, name, (x(mark.from), x(mark.to)), y)?;
            }
        }
        root.present()?;
        Ok(())
    }
}

impl Timing {
    /// One line of the bus: its level and the bits that are sampled on it.
    fn lane<B: DrawingBackend>(
        &self,
        root: &DrawingArea<B, plotters::coord::Shift>,
        line: Role,
        (from, to): (u64, u64),
        y: i32,
        x: &impl Fn(u64) -> i32,
    ) -> figure::Drawn<B> {
        let (high, low) = (y + 8, y + LANE - 12);
        let height = |level: bool| if level { high } else { low };
        let mut own: Vec<(u64, bool)> =
            self.drawn.edges.iter().filter(|(_, own, _)| *own == line).map(|(at, _, level)| (*at, *level)).collect();
        own.sort_by_key(|(at, _)| *at);
        let idle = self.options.idle(line);
        let mut level = own.iter().rev().find(|(at, _)| *at <= from).map_or(idle, |(_, level)| *level);
        let mut points = vec![(x(from), height(level))];
        let until = to;
        for (at, next) in own.into_iter().filter(|(at, _)| *at > from && *at <= until) {
            points.extend([(x(at), height(level)), (x(at), height(next))]);
            level = next;
        }
        points.push((x(until), height(level)));
        root.draw(&PathElement::new(points, LINES[0].stroke_width(2)))?;
        for (at, _, bit) in self.drawn.bits.iter().filter(|(at, own, _)| *own == line && *at > from && *at <= until) {
            let digit = if *bit { "1" } else { "0" };
            root.draw(&Text::new(digit, (x(*at) + 3, low + 9), anchored(11, HPos::Center, VPos::Center)))?;
        }
        Ok(())
    }

    /// A byte or a condition below the lines; those of the part are shaded.
    fn mark<B: DrawingBackend>(
        &self,
        root: &DrawingArea<B, plotters::coord::Shift>,
        mark: &Mark,
        name: Option<&String>,
        (left, right): (i32, i32),
        y: i32,
    ) -> figure::Drawn<B> {
        let edges = [(left + 1, y), (right - 1, y + 20)];
        if mark.from_part {
            root.draw(&Rectangle::new(edges, FAINT.filled()))?;
        }
        root.draw(&Rectangle::new(edges, INK.mix(0.5).stroke_width(1)))?;
        let middle = (left + right) / 2;
        let fits = |text: &str, size: i32| (text.chars().count() as i32) * size * 52 / 100 < right - left;
        // A condition is short: its name does not fit, its initial does.
        let text = if fits(&mark.text, 13) { mark.text.clone() } else { initials(&mark.text) };
        root.draw(&Text::new(text, (middle, y + 10), anchored(13, HPos::Center, VPos::Center)))?;
        if let Some(name) = name {
            let shown = if fits(name, 12) { name.clone() } else { name.chars().take(((right - left) / 7).max(1) as usize).collect() };
            root.draw(&Text::new(shown, (middle, y + 31), anchored(12, HPos::Center, VPos::Center)))?;
        }
        Ok(())
    }
}

/// `repeated start` as `Sr`, `start` as `S`, `stop` as `P` (UM10204, section 3.1).
fn initials(text: &str) -> String {
    match text {
        "start" => "S".into(),
        "repeated start" => "Sr".into(),
        "stop" => "P".into(),
        other => other.to_owned(),
    }
}
