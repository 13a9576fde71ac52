//! Tables as PDF viewers give them: columns apart by blanks, cells of merged columns once.

use super::{Columns, headings, run};

/// A piece of a line: where it begins and ends, in characters, and what it is.
type Piece = (usize, usize, String);

/// The cells of a table whose columns stand apart by blanks; empty where no line has headings. Two blanks part columns where
/// the headings stand so far apart; otherwise one does, and the last column takes what is left.
pub fn rows_apart_by_blanks(text: &str) -> Vec<Vec<String>> {
    let lines: Vec<&str> = text.lines().collect();
    let apart = |line: &&str| pieces(line, 2);
    let words = |line: &&str| joined(pieces(line, 1));
    let find = |split: &dyn Fn(&&str) -> Vec<Piece>| {
        lines.iter().enumerate().find_map(|(at, line)| {
            let head = split(line);
            let cells: Vec<String> = head.iter().map(|(.., cell)| cell.clone()).collect();
            Some((at, headings(&cells)?, head))
        })
    };
    let (found, by_words) = match (find(&apart), find(&words)) {
        (Some(found), _) => (found, false),
        (None, Some(found)) => (found, true),
        (None, None) => return Vec::new(),
    };
    let (at, columns, head) = found;
    let row = |(index, line): (usize, &&str)| match index.cmp(&at) {
        std::cmp::Ordering::Less => vec![line.trim().to_owned()],
        std::cmp::Ordering::Equal => head.iter().map(|(.., cell)| cell.clone()).collect(),
        std::cmp::Ordering::Greater if by_words => by_order(comments_joined(pieces(line, 1)), &columns, &head),
        std::cmp::Ordering::Greater => by_place(address_apart(pieces(line, 2)), &columns, &head),
    };
    lines.iter().enumerate().map(row).collect()
}

/// The pieces of a line that at least so many blanks stand between.
fn pieces(line: &str, blanks: usize) -> Vec<Piece> {
    let mut found: Vec<Piece> = Vec::new();
    for (at, c) in line.chars().enumerate().filter(|(_, c)| !c.is_whitespace()) {
        match found.last_mut() {
            Some((_, end, text)) if at - *end < blanks => {
                text.extend(std::iter::repeat_n(' ', at - *end));
                text.push(c);
                *end = at + 1;
            }
            _ => found.push((at, at + 1, c.to_string())),
        }
    }
    found
}

/// An address with a comment may leave but one blank to the name behind it: `0x2A (MSB) OUT_H`.
fn address_apart(mut cells: Vec<Piece>) -> Vec<Piece> {
    if let Some((start, end, text)) = cells.first().cloned()
        && let Some((address, name)) = text.rsplit_once(' ')
        && run(address, true).is_some()
        && run(name, false).is_none()
        && !name.starts_with('(')
    {
        let middle = start + address.chars().count();
        cells.splice(..1, [(start, middle, address.trim().to_owned()), (middle + 1, end, name.to_owned())]);
    }
    cells
}

/// A comment in parentheses belongs to the word before it.
fn comments_joined(words: Vec<Piece>) -> Vec<Piece> {
    let mut found: Vec<Piece> = Vec::new();
    for (start, end, word) in words {
        match found.last_mut() {
            Some((_, last, before)) if word.starts_with('(') && run(before, true).is_some() => {
                *before = format!("{before} {word}");
                *last = end;
            }
            _ => found.push((start, end, word)),
        }
    }
    found
}

/// Headings of two words: `bit 7`, `bit name`.
fn joined(words: Vec<Piece>) -> Vec<Piece> {
    let mut found: Vec<Piece> = Vec::new();
    for (start, end, word) in words {
        match found.last_mut() {
            Some((_, last, before))
                if before.eq_ignore_ascii_case("bit") && (word.parse::<u32>().is_ok() || word.eq_ignore_ascii_case("name")) =>
            {
                *before = format!("{before} {word}");
                *last = end;
            }
            _ => found.push((start, end, word)),
        }
    }
    found
}

/// How many columns the cells of bits take: `pace[2:0]` three. What does not say so takes one, or, if it is the only word for
/// nobody's bits, what is left.
fn widths(cells: &[Piece], bits: usize) -> Option<Vec<usize>> {
    let width = |cell: &Piece| {
        let inside = cell.2.split_once(['[', '<', '('])?.1.trim_end_matches([']', '>', ')']);
        let (high, low) = inside.split_once([':', '-', '–'])?;
        high.trim().parse::<usize>().ok()?.checked_sub(low.trim().parse().ok()?).map(|width| width + 1)
    };
    let mut widths: Vec<usize> = cells.iter().map(|cell| width(cell).unwrap_or(1)).collect();
    let left = bits.checked_sub(widths.iter().sum())?;
    if left > 0 {
        let nobody = |cell: &Piece| {
            matches!(cell.2.to_ascii_lowercase().as_str(), "reserved" | "rsvd" | "res" | "res." | "unused" | "-" | "–" | "—")
        };
        let mut such = cells.iter().enumerate().filter(|(_, cell)| nobody(cell)).map(|(at, _)| at);
        // One cell that is alone may span all.
        let only = such.next().or((cells.len() == 1).then_some(0)).filter(|_| such.next().is_none())?;
        widths.get_mut(only).into_iter().for_each(|width| *width += left);
    }
    Some(widths)
}

/// Cells that say how many bits they take are put where those are; `None` where that does not come out.
fn spread(cells: &[Piece], columns: &Columns, count: usize) -> Option<Vec<String>> {
    let first = columns.bits.iter().map(|(column, _)| *column).min()?;
    let behind = count - first - columns.bits.len();
    let of_bits = cells.get(first..cells.len().checked_sub(behind)?)?;
    let mut row: Vec<String> = cells.get(..first)?.iter().map(|(.., cell)| cell.clone()).collect();
    for ((.., cell), width) in of_bits.iter().zip(widths(of_bits, columns.bits.len())?) {
        row.push(cell.clone());
        row.extend(std::iter::repeat_n(String::new(), width - 1));
    }
    row.extend(cells.get(cells.len() - behind..)?.iter().map(|(.., cell)| cell.clone()));
    Some(row)
}

/// Cells by their order: the last column takes what is left of the line.
fn by_order(cells: Vec<Piece>, columns: &Columns, head: &[Piece]) -> Vec<String> {
    if let Some(row) = (!columns.bits.is_empty()).then(|| spread(&cells, columns, head.len())).flatten() {
        return row;
    }
    let mut row: Vec<String> = cells.into_iter().map(|(.., cell)| cell).collect();
    if row.len() > head.len() && !head.is_empty() {
        let rest = row.split_off(head.len() - 1).join(" ");
        row.push(rest);
    }
    row
}

/// Cells by where they stand: each in the column whose heading begins, ends or has its middle the nearest.
fn by_place(cells: Vec<Piece>, columns: &Columns, head: &[Piece]) -> Vec<String> {
    if cells.len() == head.len() {
        return cells.into_iter().map(|(.., cell)| cell).collect();
    }
    if let Some(row) = (!columns.bits.is_empty()).then(|| spread(&cells, columns, head.len())).flatten() {
        return row;
    }
    let mut row = vec![String::new(); head.len()];
    for (start, end, cell) in cells {
        let distance = |(other, last, _): &Piece| {
            let middle = (start + end).abs_diff(other + last) / 2;
            start.abs_diff(*other).min(end.abs_diff(*last)).min(middle)
        };
        let nearest = head.iter().enumerate().min_by_key(|(_, heading)| distance(heading)).map_or(0, |(at, _)| at);
        if let Some(place) = row.get_mut(nearest) {
            place.extend((!place.is_empty()).then_some(' '));
            place.push_str(&cell);
        }
    }
    row
}
