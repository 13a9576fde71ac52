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
#[derive(Debug)]
pub(crate) struct Grid {
    indent: usize,
    columns: Vec<(Align, usize)>,
    rows: Vec<Vec<Cell>>,
}

impl Grid {
    pub(crate) fn new(indent: usize, columns: &[Align]) -> Self {
        Self { indent, columns: columns.iter().map(|align| (*align, 0)).collect(), rows: Vec::new() }
    }

    pub(crate) fn row(&mut self, cells: Vec<Cell>) {
        for ((_, width), cell) in self.columns.iter_mut().zip(&cells) {
            *width = (*width).max(cell.text.width());
        }
        self.rows.push(cells);
    }

    /// A row of cells that are kept for the next.
    pub(crate) fn row_of(&mut self, cells: &[Cell]) {
        self.row(cells.to_vec());
    }

    /// Keeps room in a column for what is still to come.
    pub(crate) fn at_least(&mut self, column: usize, text: &str) {
        if let Some((_, width)) = self.columns.get_mut(column) {
            *width = (*width).max(text.width());
        }
    }

    /// A row of column titles.
    pub(crate) fn titles(&mut self, titles: &[&str]) {
        self.row(titles.iter().map(|title| Cell { text: (*title).to_owned(), style: Style::new().dimmed() }).collect());
    }

    /// Writes the rows and forgets them; the widths stay, so that later rows stand in line.
    pub(crate) fn write(&mut self, out: &mut dyn Write) -> io::Result<()> {
        let mut line = String::new();
        for row in self.rows.drain(..) {
            line.clear();
            line.extend(std::iter::repeat_n(' ', self.indent));
            let last = row.iter().rposition(|cell| !cell.text.is_empty()).unwrap_or(0);
            for (index, (cell, (align, width))) in row.iter().zip(&self.columns).enumerate().take(last + 1) {
                if index > 0 {
                    line.push_str("  ");
                }
                let pad = width.saturating_sub(cell.text.width());
                if *align == Align::Right {
                    line.extend(std::iter::repeat_n(' ', pad));
                }
                line.push_str(&format!("{}{}{}", cell.style.render(), cell.text, cell.style.render_reset()));
                if *align == Align::Left && index < last {
                    line.extend(std::iter::repeat_n(' ', pad));
                }
            }
            writeln!(out, "{line}")?;
        }
        Ok(())
    }
}
