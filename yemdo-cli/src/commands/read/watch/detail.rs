//! One reading, large: value, history with its scale, bits, steps.

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Paragraph};
use yemdo::{Status, visible};

use super::state::{Look, PartView, ReadingView, View};
use crate::show::number::digits;

/// Digits of five rows; a row is three cells, from the left.
const DIGITS: [(char, [u8; 5]); 14] = [
    ('0', [0b111, 0b101, 0b101, 0b101, 0b111]),
    ('1', [0b010, 0b110, 0b010, 0b010, 0b111]),
    ('2', [0b111, 0b001, 0b111, 0b100, 0b111]),
    ('3', [0b111, 0b001, 0b111, 0b001, 0b111]),
    ('4', [0b101, 0b101, 0b111, 0b001, 0b001]),
    ('5', [0b111, 0b100, 0b111, 0b001, 0b111]),
    ('6', [0b111, 0b100, 0b111, 0b101, 0b111]),
    ('7', [0b111, 0b001, 0b010, 0b010, 0b010]),
    ('8', [0b111, 0b101, 0b111, 0b101, 0b111]),
    ('9', [0b111, 0b101, 0b111, 0b001, 0b111]),
    ('-', [0b000, 0b000, 0b111, 0b000, 0b000]),
    ('–', [0b000, 0b000, 0b111, 0b000, 0b000]),
    ('+', [0b000, 0b010, 0b111, 0b010, 0b000]),
    ('e', [0b111, 0b101, 0b111, 0b100, 0b111]),
];

pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, view: &View) {
    let Some((part, reading)) = view.selected() else { return };
    let graph = if area.height >= 26 { Constraint::Length(area.height / 3) } else { Constraint::Length(0) };
    let areas = Layout::vertical([Constraint::Length(9), graph, Constraint::Min(0)]).split(area);
    let &[value, history, steps] = &*areas else { return };
    frame.render_widget(Paragraph::new(value_lines(part, reading, view.look, usize::from(value.width))), value);
    if history.height > 4 {
        chart(frame, history, reading, view.look);
    }
    let mut lines = bits(part, view.look);
    if let Some(text) = &part.steps {
        lines.extend(text.lines().skip(1).map(|line| Line::raw(visible(line).into_owned())));
    }
    let last = lines.len().saturating_sub(usize::from(steps.height));
    let from = u16::try_from(view.scroll.min(last)).unwrap_or(0);
    frame.render_widget(Paragraph::new(lines).scroll((from, 0)), steps);
}

fn value_lines<'a>(part: &PartView, reading: &'a ReadingView, look: Look, width: usize) -> Vec<Line<'a>> {
    let bold = Style::new().add_modifier(Modifier::BOLD);
    let status = reading.status.unwrap_or(Status::Waiting);
    let mut title = vec![Span::styled(format!(" {}/{}", part.name, reading.name), bold)];
    if reading.status.is_some() && status != Status::Ok {
        let why = reading.why.as_deref().map_or(String::new(), |why| format!(": {why}"));
        title.push(Span::styled(format!("  {}{}", status.as_str(), visible(&why)), look.status(status)));
    }
    if let Some(why) = &part.failing {
        title.push(Span::styled(format!("  {}", visible(why)), look.colour(Color::LightRed)));
    }
    let text = reading.value.map_or("–".to_owned(), |value| reading.shown(value));
    let mut lines = vec![Line::from(title), Line::raw("")];
    let style = look.status(status).add_modifier(Modifier::BOLD);
    let full = if look.signs { '█' } else { '#' };
    let wide = text.chars().filter(|c| *c != '.').count() * 8 + 4 * usize::from(text.contains('.')) + 8 <= width;
    for row in 0..5 {
        let mut line = String::from("  ");
        for c in text.chars() {
            if c == '.' {
                line.push_str(if row == 4 { " " } else { "   " });
                (row == 4).then(|| line.extend([full, full]));
                line.push(' ');
                continue;
            }
            let bits = DIGITS.iter().find(|(known, _)| *known == c).and_then(|(_, rows)| rows.get(row).copied()).unwrap_or(0);
            for bit in [0b100, 0b010, 0b001] {
                let cell = if bits & bit != 0 { full } else { ' ' };
                line.push(cell);
                wide.then(|| line.push(cell));
            }
            line.push_str(if wide { "  " } else { " " });
        }
        let unit = if row == 4 { look.unit(reading.symbol()) } else { "" };
        lines.push(Line::from(vec![Span::styled(line, style), Span::styled(format!(" {unit}"), bold)]));
    }
    if reading.all.count > 0 {
        let all = &reading.all;
        let factor = reading.other.and_then(|(from, to)| from.difference_to(to, 1.0)).unwrap_or(1.0).abs();
        let deviation = all.deviation().map_or("–".to_owned(), |deviation| digits(deviation * factor, 3, 9));
        let (least, mean, greatest) = (reading.shown(all.least), reading.shown(all.mean), reading.shown(all.greatest));
        let text = format!("  minimum {least}  mean {mean}  maximum {greatest}  deviation {deviation}  of {}", all.count);
        lines.extend([Line::raw(""), Line::styled(text, look.dim())]);
    }
    lines
}

fn chart(frame: &mut Frame<'_>, area: Rect, reading: &ReadingView, look: Look) {
    let Some(last) = reading.history.back() else { return };
    let points: Vec<(f64, f64)> = reading.history.iter().map(|sample| (sample.time - last.time, reading.convert(sample.value))).collect();
    let (mut low, mut high) = points.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), (_, y)| (low.min(*y), high.max(*y)));
    if low == high {
        (low, high) = (low - low.abs().max(1.0) * 0.01, high + high.abs().max(1.0) * 0.01);
    }
    let first = points.first().map_or(-1.0, |(x, _)| x.min(-1.0));
    let marker = if look.signs { Marker::Braille } else { Marker::Custom('*') };
    let line = Dataset::default().marker(marker).graph_type(GraphType::Line).style(look.colour(Color::Cyan)).data(&points);
    let short = |value: f64| digits(value, 5, 4);
    let x = Axis::default().style(look.dim()).bounds([first, 0.0]).labels([format!("{} s", short(first)), "now".into()]);
    let y = Axis::default().style(look.dim()).bounds([low, high]).labels([short(low), short((low + high) / 2.0), short(high)]);
    frame.render_widget(Chart::new(vec![line]).x_axis(x).y_axis(y), area);
}

/// The bytes of its frames, bit by bit.
fn bits(part: &PartView, look: Look) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    if part.steps.is_some() {
        return lines;
    }
    for (name, bytes) in &part.raw {
        let bits: Vec<String> = bytes.iter().take(16).map(|byte| format!("{byte:02X} {:04b} {:04b}", byte >> 4, byte & 0xF)).collect();
        lines.push(Line::styled(format!("  {name}  {}", bits.join("  ")), look.dim()));
    }
    lines
}
