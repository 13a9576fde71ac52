//! Figures: panels below one another with lines, marks and bars over one axis of time or of numbers, as SVG and as PNG.

use std::path::Path;

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use tiny_skia::Pixmap;
use ttf_parser::Face;

use super::axis::{Ticks, number_ticks};
use super::canvas::Canvas;
use crate::failure::Failure;

const WIDTH: u32 = 1280;
const HEIGHT: u32 = 800;
/// Between the axes.
const LEFT: i32 = 96;
const RIGHT: i32 = 36;
const TOP: i32 = 58;
/// The least height of a panel.
const PANEL: u32 = 94;
const LEGEND: i32 = 24;
const STRIP: i32 = 36;
/// A subset of DejaVu Sans; see `assets/plot-font.txt`.
const FONT: &[u8] = include_bytes!("../../assets/plot-font.ttf");
const FAMILY: &str = "DejaVu Sans";
pub(crate) const INK: RGBColor = RGBColor(0x2b, 0x33, 0x3d);
pub(super) const FAINT: RGBColor = RGBColor(0xd9, 0xde, 0xe4);
/// Blue or yellow, light or dark: told apart with any kind of colour vision, and in grey by pairs.
pub(super) const LINES: [RGBColor; 4] =
    [RGBColor(0x14, 0x47, 0x7a), RGBColor(0xdd, 0x7a, 0x00), RGBColor(0x55, 0xa8, 0xd8), RGBColor(0x85, 0x27, 0x12)];

/// Content of a figure.
#[derive(Debug, Default)]
pub(crate) struct Figure {
    pub(crate) title: String,
    /// Text below the title.
    pub(crate) about: String,
    pub(crate) x: Axis,
    pub(crate) panels: Vec<Panel>,
    /// Rows of ticks below the panels.
    pub(crate) strips: Vec<Strip>,
}

/// The axis that all panels have in common.
#[derive(Debug, Default)]
pub(crate) struct Axis {
    pub(crate) low: f64,
    pub(crate) high: f64,
    pub(crate) ticks: Ticks,
    pub(crate) label: String,
}

#[derive(Debug, Default)]
pub(crate) struct Panel {
    /// Text above the panel's left edge: a unit or a description.
    pub(crate) title: String,
    pub(crate) lines: Vec<Line>,
    /// Values with a line from edge to edge, and their labels.
    pub(crate) levels: Vec<(f64, String)>,
    /// Its share of the height.
    pub(crate) share: u32,
    /// Values that are in sight, whatever the lines need.
    pub(crate) at_least: Option<(f64, f64)>,
}

#[derive(Debug, Default)]
pub(crate) struct Line {
    pub(crate) label: String,
    /// Which of the line styles.
    pub(crate) style: usize,
    pub(crate) form: Form,
    /// Points of pieces that hang together.
    pub(crate) pieces: Vec<Vec<(f64, f64)>>,
    pub(crate) marks: Vec<Marks>,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Form {
    #[default]
    Line,
    /// Points alone.
    Dots,
    /// Rectangles from 0 up: each piece is the left and the right end of one.
    Bars,
}

/// Single points that are not as the others.
#[derive(Debug)]
pub(crate) struct Marks {
    pub(crate) label: String,
    pub(crate) shape: Shape,
    /// Marks without a value are at the upper edge.
    pub(crate) points: Vec<(f64, Option<f64>)>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Shape {
    Triangle,
    Ring,
    Cross,
}

#[derive(Debug)]
pub(crate) struct Strip {
    pub(crate) label: String,
    pub(crate) ticks: Vec<f64>,
}

/// Something that is drawn as SVG or PNG.
pub(crate) trait Picture {
    /// Width and height in pixels.
    fn size(&self) -> (u32, u32);

    /// Draws it.
    fn draw<B: DrawingBackend>(&self, backend: B) -> Drawn<B>;
}

impl Picture for Figure {
    fn size(&self) -> (u32, u32) {
        size(self)
    }

    fn draw<B: DrawingBackend>(&self, backend: B) -> Drawn<B> {
        draw(self, backend)
    }
}

/// Checks that the name of a picture's file ends in `.svg` or `.png`.
pub(crate) fn check_ending(path: &Path) -> Result<(), Failure> {
    let ending = path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase());
    match ending.as_deref() {
        Some("svg" | "png") => Ok(()),
        _ => Err(Failure::error(format!("{}: expected a .svg or .png file", path.display()))),
    }
}

/// The bytes of a picture, in the form of its file's extension.
pub(crate) fn bytes_for(path: &Path, picture: &impl Picture) -> Result<Vec<u8>, Failure> {
    check_ending(path)?;
    if path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("svg")) {
        let mut text = String::new();
        picture.draw(SVGBackend::with_string(&mut text, picture.size())).map_err(failed)?;
        // The drawing library writes a generic family; the font that goes with the command is named here.
        return Ok(text.replace("font-family=\"sans-serif\"", &format!("font-family=\"{FAMILY}, sans-serif\"")).into_bytes());
    }
    let (width, height) = picture.size();
    let mut pixels = Pixmap::new(width, height).ok_or_else(|| failed("no room"))?;
    let font = Face::parse(FONT, 0).map_err(failed)?;
    picture.draw(Canvas::new(&mut pixels, font)).map_err(failed)?;
    pixels.encode_png().map_err(failed)
}

fn failed(what: impl std::fmt::Display) -> Failure {
    Failure::error(format!("cannot draw the plot: {what}"))
}

fn size(figure: &Figure) -> (u32, u32) {
    let panels: u32 = figure.panels.iter().map(|panel| PANEL + (legend_rows(panel) * LEGEND) as u32).sum();
    (WIDTH, HEIGHT.max(panels + foot(figure) as u32 + TOP as u32))
}

/// Height of the content below the panels.
fn foot(figure: &Figure) -> i32 {
    30 + if figure.x.label.is_empty() { 0 } else { 20 } + STRIP * i32::try_from(figure.strips.len()).unwrap_or(0)
}

/// About the width of a text of that size, in pixels.
fn width(text: &str, size: i32) -> i32 {
    i32::try_from(text.chars().count()).unwrap_or(0) * size * 52 / 100
}

pub(crate) type Drawn<B> = Result<(), DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;
type Area<B> = DrawingArea<B, Shift>;

pub(super) fn text_style(size: i32) -> TextStyle<'static> {
    ("sans-serif", size).into_font().color(&INK)
}

/// A style at an anchor.
pub(super) fn anchored(size: i32, h: HPos, v: VPos) -> TextStyle<'static> {
    text_style(size).pos(Pos::new(h, v))
}

fn draw<B: DrawingBackend>(figure: &Figure, backend: B) -> Drawn<B> {
    let root = backend.into_drawing_area();
    root.fill(&WHITE)?;
    root.draw(&Text::new(figure.title.clone(), (36, 16), text_style(22)))?;
    root.draw(&Text::new(figure.about.clone(), (WIDTH as i32 - RIGHT, 20), anchored(14, HPos::Right, VPos::Top)))?;
    let (_, height) = size(figure);
    // Legends have their rows; the panels share the rest.
    let room = height as i32 - TOP - foot(figure) - figure.panels.iter().map(|panel| legend_rows(panel) * LEGEND).sum::<i32>();
    let whole: u32 = figure.panels.iter().map(|panel| panel.share.max(1)).sum::<u32>().max(1);
    let mut top = TOP;
    for (at, panel) in figure.panels.iter().enumerate() {
        let high = legend_rows(panel) * LEGEND + room * panel.share.max(1) as i32 / whole as i32;
        let last = at + 1 == figure.panels.len();
        draw_panel(&root, figure, panel, (top, top + high), last)?;
        top += high;
    }
    let foot_top = top + 26;
    if !figure.x.label.is_empty() {
        let middle = (LEFT + WIDTH as i32 - RIGHT) / 2;
        root.draw(&Text::new(figure.x.label.clone(), (middle, foot_top), anchored(14, HPos::Center, VPos::Top)))?;
    }
    let strips_top = foot_top + if figure.x.label.is_empty() { 0 } else { 20 };
    for (row, strip) in figure.strips.iter().enumerate() {
        let y = strips_top + STRIP * i32::try_from(row).unwrap_or(0);
        root.draw(&Text::new(strip.label.clone(), (LEFT, y), text_style(14)))?;
        for x in strip.ticks.iter().map(|x| place(*x, (figure.x.low, figure.x.high), (LEFT, WIDTH as i32 - RIGHT))) {
            root.draw(&PathElement::new(vec![(x, y + 18), (x, y + 31)], INK.mix(0.8).stroke_width(1)))?;
        }
    }
    root.present()?;
    Ok(())
}

/// Where a value stands between two pixels.
fn place(value: f64, (low, high): (f64, f64), (from, to): (i32, i32)) -> i32 {
    let share = if high > low { (value - low) / (high - low) } else { 0.5 };
    (f64::from(from) + share.clamp(-1.0, 2.0) * f64::from(to - from)).round() as i32
}

/// The values that a panel has to show.
fn limits(panel: &Panel) -> (f64, f64) {
    let points = panel.lines.iter().flat_map(|line| line.pieces.iter().flatten().map(|(_, y)| *y));
    let marks = panel.lines.iter().flat_map(|line| &line.marks).flat_map(|marks| marks.points.iter().filter_map(|(_, y)| *y));
    let levels = panel.levels.iter().map(|(y, _)| *y);
    let more = panel.at_least.into_iter().flat_map(|(low, high)| [low, high]);
    let bars = panel.lines.iter().any(|line| line.form == Form::Bars).then_some(0.0);
    let all = points.chain(marks).chain(levels).chain(more).chain(bars).filter(|y| y.is_finite());
    let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), y| (low.min(y), high.max(y)));
    if low > high {
        return (0.0, 1.0);
    }
    // Constant values are in the middle.
    let room = if high > low { (high - low) * 0.06 } else { (high.abs() * 0.01).max(1e-9) };
    (if bars.is_some() { low } else { low - room }, high + room)
}

fn draw_panel<B: DrawingBackend>(root: &Area<B>, figure: &Figure, panel: &Panel, (top, bottom): (i32, i32), last: bool) -> Drawn<B> {
    let rows = legend_rows(panel);
    let (top, bottom) = (top + LEGEND * rows + 4, bottom - 10);
    let (left, right) = (LEFT, WIDTH as i32 - RIGHT);
    let (low, high) = limits(panel);
    let x = |value: f64| place(value, (figure.x.low, figure.x.high), (left, right));
    let y = |value: f64| place(value, (low, high), (bottom, top));
    for (value, label) in &figure.x.ticks.0 {
        let at = x(*value);
        root.draw(&PathElement::new(vec![(at, top), (at, bottom)], FAINT.stroke_width(1)))?;
        if last {
            root.draw(&Text::new(label.clone(), (at, bottom + 6), anchored(14, HPos::Center, VPos::Top)))?;
        }
    }
    for (value, label) in number_ticks(low, high, ((bottom - top) / 30).clamp(3, 10) as usize).0 {
        let at = y(value);
        root.draw(&PathElement::new(vec![(left, at), (right, at)], FAINT.stroke_width(1)))?;
        root.draw(&Text::new(label, (left - 8, at), anchored(14, HPos::Right, VPos::Center)))?;
    }
    root.draw(&PathElement::new(vec![(left, top), (left, bottom), (right, bottom)], INK.mix(0.6).stroke_width(1)))?;
    for (value, label) in panel.levels.iter().filter(|(value, _)| (low..=high).contains(value)) {
        let at = y(*value);
        for from in (left..right).step_by(10) {
            root.draw(&PathElement::new(vec![(from, at), ((from + 5).min(right), at)], INK.mix(0.7).stroke_width(1)))?;
        }
        root.draw(&Text::new(label.clone(), (right - 4, at - 2), anchored(13, HPos::Right, VPos::Bottom)))?;
    }
    for line in &panel.lines {
        draw_line(root, line, (&x, &y), bottom)?;
        for marks in &line.marks {
            for (at, value) in &marks.points {
                draw_mark(root, marks.shape, (x(*at), value.map_or(top + 5, y)), color(line.style))?;
            }
        }
    }
    draw_legend(root, panel, top - LEGEND * rows)
}

/// What has no style of its own.
pub(crate) const NO_STYLE: usize = usize::MAX;

fn color(style: usize) -> RGBColor {
    if style == NO_STYLE {
        return RGBColor(0xa8, 0xb0, 0xb8);
    }
    LINES.get(style % LINES.len()).copied().unwrap_or(INK)
}

/// Dash patterns: the second round of colours is dashed, the third dotted.
fn dash(style: usize) -> Option<(f64, f64)> {
    match (style / LINES.len()) % 3 {
        _ if style == NO_STYLE => None,
        0 => None,
        1 => Some((9.0, 5.0)),
        _ => Some((2.0, 4.0)),
    }
}

type Scale<'a> = (&'a dyn Fn(f64) -> i32, &'a dyn Fn(f64) -> i32);

fn draw_line<B: DrawingBackend>(root: &Area<B>, line: &Line, (x, y): Scale<'_>, bottom: i32) -> Drawn<B> {
    let color = color(line.style);
    for piece in &line.pieces {
        let points: Vec<(i32, i32)> =
            if line.form == Form::Line { simple(piece, x, y) } else { piece.iter().map(|at| (x(at.0), y(at.1))).collect() };
        match (line.form, points.as_slice()) {
            (Form::Bars, &[(from, height), (to, _)]) => {
                root.draw(&Rectangle::new([(from, height), ((to - 1).max(from + 1), bottom)], color.mix(0.75).filled()))?;
            }
            (Form::Line, many) if many.len() > 1 => {
                if let Some(lengths) = dash(line.style) {
                    for dash in dashes(many, lengths) {
                        root.draw(&PathElement::new(dash.to_vec(), color.stroke_width(2)))?;
                    }
                } else {
                    root.draw(&PathElement::new(many.to_vec(), color.stroke_width(2)))?;
                }
            }
            (_, points) => {
                for point in points {
                    root.draw(&Circle::new(*point, if line.form == Form::Dots { 2 } else { 3 }, color.filled()))?;
                }
            }
        }
    }
    Ok(())
}

/// A line's points without those that lie on the way between others, within half a pixel: straight lines are drawn straight, though pixels
/// are whole.
fn simple(piece: &[(f64, f64)], x: &dyn Fn(f64) -> i32, y: &dyn Fn(f64) -> i32) -> Vec<(i32, i32)> {
    let points: Vec<(i32, i32)> = piece.iter().map(|(px, py)| (x(*px), y(*py))).collect();
    let mut keep = vec![false; points.len()];
    let mut open = vec![(0, points.len().saturating_sub(1))];
    while let Some((from, to)) = open.pop() {
        [from, to].into_iter().for_each(|at| keep.iter_mut().skip(at).take(1).for_each(|kept| *kept = true));
        let (Some(&(x0, y0)), Some(&(x1, y1))) = (points.get(from), points.get(to)) else { continue };
        let (dx, dy) = (f64::from(x1 - x0), f64::from(y1 - y0));
        let length = dx.hypot(dy);
        let off = |&(px, py): &(i32, i32)| {
            let (ox, oy) = (f64::from(px - x0), f64::from(py - y0));
            // Behind either end, it is as far as that end.
            let along = if length > 0.0 { (ox * dx + oy * dy) / length } else { -1.0 };
            if along < 0.0 || along > length { ox.hypot(oy).min((ox - dx).hypot(oy - dy)) } else { (ox * dy - oy * dx).abs() / length }
        };
        let inner = points.iter().enumerate().take(to).skip(from + 1).map(|(at, point)| (at, off(point)));
        if let Some((at, far)) = inner.max_by(|one, other| one.1.total_cmp(&other.1))
            && far > 0.75
        {
            open.extend([(from, at), (at, to)]);
        }
    }
    points.into_iter().zip(keep).filter(|(_, kept)| *kept).map(|(point, _)| point).collect()
}

/// Pieces of a line that are seen, and those between them left out.
fn dashes(points: &[(i32, i32)], (dash, blank): (f64, f64)) -> Vec<[(i32, i32); 2]> {
    let (mut out, mut walked) = (Vec::new(), 0.0);
    for pair in points.windows(2) {
        let &[(x0, y0), (x1, y1)] = pair else { continue };
        let length = f64::from(x1 - x0).hypot(f64::from(y1 - y0));
        let at = |way: f64| {
            let share = if length > 0.0 { way / length } else { 0.0 };
            ((f64::from(x0) + f64::from(x1 - x0) * share).round() as i32, (f64::from(y0) + f64::from(y1 - y0) * share).round() as i32)
        };
        let mut way = 0.0;
        while way < length {
            let within = (walked + way) % (dash + blank);
            let step = (if within < dash { dash } else { dash + blank } - within).max(0.5).min(length - way);
            if within < dash {
                out.push([at(way), at(way + step)]);
            }
            way += step;
        }
        walked += length;
    }
    out
}

fn draw_mark<B: DrawingBackend>(root: &Area<B>, shape: Shape, at: (i32, i32), color: RGBColor) -> Drawn<B> {
    let (cx, cy) = at;
    match shape {
        // Upright, so that it says "beyond", not "here".
        Shape::Triangle => {
            let corners = vec![(cx, cy - 5), (cx + 5, cy + 4), (cx - 5, cy + 4)];
            root.draw(&Polygon::new(corners, color.filled()))
        }
        Shape::Ring => root.draw(&Circle::new(at, 4, color.stroke_width(2))),
        Shape::Cross => {
            root.draw(&PathElement::new(vec![(cx - 4, cy - 4), (cx + 4, cy + 4)], color.stroke_width(2)))?;
            root.draw(&PathElement::new(vec![(cx - 4, cy + 4), (cx + 4, cy - 4)], color.stroke_width(2)))
        }
    }
}

/// Entries of a legend, with their widths.
fn legend(panel: &Panel) -> Vec<(&Line, Option<&Marks>, i32)> {
    let mut entries = Vec::new();
    for line in &panel.lines {
        if !line.label.is_empty() {
            entries.push((line, None, 34 + width(&line.label, 15) + 24));
        }
        for marks in line.marks.iter().filter(|marks| !marks.points.is_empty() && !marks.label.is_empty()) {
            entries.push((line, Some(marks), 14 + width(&marks.label, 15) + 22));
        }
    }
    entries
}

/// Where the entries of a legend stand: row and left edge.
fn legend_places(panel: &Panel) -> Vec<(i32, i32)> {
    let begin = LEFT.max(36 + width(&panel.title, 16) + 28);
    let (mut row, mut at) = (0, begin);
    let mut places = Vec::new();
    for (.., wide) in legend(panel) {
        if at + wide > WIDTH as i32 - RIGHT && at > begin {
            (row, at) = (row + 1, begin);
        }
        places.push((row, at));
        at += wide;
    }
    places
}

fn legend_rows(panel: &Panel) -> i32 {
    legend_places(panel).last().map_or(0, |(row, _)| *row) + 1
}

fn draw_legend<B: DrawingBackend>(root: &Area<B>, panel: &Panel, top: i32) -> Drawn<B> {
    let bold = ("sans-serif", 16).into_font().style(FontStyle::Bold).color(&INK);
    root.draw(&Text::new(panel.title.clone(), (36, top - 2), bold))?;
    for ((line, marks, _), (row, x)) in legend(panel).into_iter().zip(legend_places(panel)) {
        let y = top + LEGEND * row + 7;
        let text = match marks {
            None => {
                let sample = Line { style: line.style, form: line.form, pieces: Vec::new(), ..Line::default() };
                draw_sample(root, &sample, (x, y))?;
                (line.label.clone(), x + 34)
            }
            Some(marks) => {
                draw_mark(root, marks.shape, (x + 4, y), color(line.style))?;
                (marks.label.clone(), x + 14)
            }
        };
        root.draw(&Text::new(text.0, (text.1, y - 9), text_style(15)))?;
    }
    Ok(())
}

fn draw_sample<B: DrawingBackend>(root: &Area<B>, line: &Line, (x, y): (i32, i32)) -> Drawn<B> {
    let color = color(line.style);
    match line.form {
        Form::Line => {
            let whole = [(x, y), (x + 26, y)];
            let pieces = dash(line.style).map_or_else(|| vec![whole], |lengths| dashes(&whole, lengths));
            pieces.into_iter().try_for_each(|piece| root.draw(&PathElement::new(piece.to_vec(), color.stroke_width(3))))
        }
        Form::Dots => root.draw(&Circle::new((x + 18, y), 3, color.filled())),
        Form::Bars => root.draw(&Rectangle::new([(x + 12, y - 6), (x + 26, y + 6)], color.mix(0.75).filled())),
    }
}
