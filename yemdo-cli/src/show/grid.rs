//! Aligned columns.

use std::io::{self, Write};

use anstyle::Style;
use unicode_width::UnicodeWidthStr;

/// How a column is aligned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Align {
    Left,
    Right,
}

/// A cell: its text and its colour.
#[derive(Clone, Debug, Default)]
pub(crate) struct Cell {
    pub(crate) text: String,
    pub(crate) style: Style,
}

impl<T: Into<String>> From<T> for Cell {
    fn from(text: T) -> Self {
        Cell { text: text.into(), style: Style::new() }
    }
}

/// Rows that are printed with every column as wide as its widest cell so far.
///
/// The text of all cells stands in one buffer, which is kept from one [`Grid::write`] to the next: a log has millions
/// of cells.
#[derive(Debug)]
pub(crate) struct Grid {
    indent: usize,
    columns: Vec<(Align, usize)>,
    plain: bool,
    text: String,
    cells: Vec<Laid>,
    /// Where each row ends among the cells.
    ends: Vec<usize>,
}

/// A cell of a grid: where its text ends, how wide it is, its colour.
#[derive(Clone, Copy, Debug)]
struct Laid {
    end: usize,
    width: usize,
    style: Style,
}

impl Grid {
    pub(crate) fn new(indent: usize, columns: &[Align]) -> Self {
        let columns = columns.iter().map(|align| (*align, 0)).collect();
        Self { indent, columns, plain: false, text: String::new(), cells: Vec::new(), ends: Vec::new() }
    }

    /// The same without any colours.
    pub(crate) fn plain(mut self, plain: bool) -> Self {
        self.plain = plain;
        self
    }

    pub(crate) fn row(&mut self, cells: Vec<Cell>) {
        for cell in cells {
            self.cell(cell.style, |text| text.push_str(&cell.text));
        }
        self.end_row();
    }

    /// The next cell of the row that is being filled.
    pub(crate) fn cell(&mut self, style: Style, write: impl FnOnce(&mut String)) {
        let from = self.text.len();
        write(&mut self.text);
        let written = self.text.get(from..).unwrap_or("");
        let width = if written.is_ascii() { written.len() } else { written.width() };
        let column = self.cells.len() - self.ends.last().copied().unwrap_or(0);
        if let Some((_, widest)) = self.columns.get_mut(column) {
            *widest = (*widest).max(width);
        }
        let style = if self.plain { Style::new() } else { style };
        self.cells.push(Laid { end: self.text.len(), width, style });
    }

    /// Ends the row that is being filled.
    pub(crate) fn end_row(&mut self) {
        self.ends.push(self.cells.len());
    }

    /// Reserves width in a column for later rows.
    pub(crate) fn at_least(&mut self, column: usize, text: &str) {
        if let Some((_, width)) = self.columns.get_mut(column) {
            *width = (*width).max(text.width());
        }
    }

    /// A row of column titles.
    pub(crate) fn titles(&mut self, titles: &[&str]) {
        self.row(titles.iter().map(|title| Cell { text: (*title).to_owned(), style: Style::new().dimmed() }).collect());
    }

    /// Writes the rows and clears them; the widths stay for later rows.
    pub(crate) fn write(&mut self, out: &mut dyn Write) -> io::Result<()> {
        let (mut first, mut from, mut line) = (0, 0, Vec::new());
        for end in self.ends.drain(..) {
            let row = self.cells.get(first..end).unwrap_or(&[]);
            let start = |index: usize| if index == 0 { from } else { row.get(index - 1).map_or(from, |cell| cell.end) };
            let last = row.iter().enumerate().rposition(|(index, cell)| cell.end > start(index)).unwrap_or(0);
            let mut waiting = self.indent;
            line.clear();
            for (index, (cell, (align, width))) in row.iter().zip(&self.columns).enumerate().take(last + 1) {
                let pad = width.saturating_sub(cell.width);
                waiting += if index > 0 { 2 } else { 0 } + if *align == Align::Right { pad } else { 0 };
                let text = self.text.get(start(index)..cell.end).unwrap_or("");
                let blanks = std::mem::take(&mut waiting);
                line.extend(std::iter::repeat_n(b' ', blanks));
                if cell.style == Style::new() {
                    line.extend_from_slice(text.as_bytes());
                } else {
                    write!(line, "{}{text}{}", cell.style.render(), cell.style.render_reset())?;
                }
                waiting = if *align == Align::Left { pad } else { 0 };
            }
            line.push(b'\n');
            out.write_all(&line)?;
            (first, from) = (end, row.last().map_or(from, |cell| cell.end));
        }
        self.cells.clear();
        self.text.clear();
        Ok(())
    }
}
