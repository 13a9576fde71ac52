//! Lines of Python, as the usual formatter lays them out: 88 columns, longer lines broken in brackets.

use super::super::lines::one_line;
use super::layout;

/// Columns of a line.
pub(super) const WIDTH: usize = 88;

/// Lines of text.
#[derive(Default)]
pub(super) struct Lines {
    pub(super) lines: Vec<String>,
}

impl Lines {
    /// A line that needs no layout.
    pub(super) fn line(&mut self, depth: usize, text: &str) {
        let text = text.trim_end();
        self.lines.push(if text.is_empty() { String::new() } else { format!("{}{text}", "    ".repeat(depth)) });
    }

    /// A line that may be too long.
    pub(super) fn lay(&mut self, depth: usize, text: &str) {
        self.lines.extend(layout::lay(depth * 4, text));
    }

    /// Number of lines.
    pub(super) fn count(&self) -> usize {
        self.lines.len()
    }

    /// Two empty lines before a class or function of the module.
    pub(super) fn space(&mut self) {
        self.lines.extend([String::new(), String::new()]);
    }

    /// Arguments between brackets: in one line, or a line each.
    pub(super) fn exploded(&mut self, depth: usize, open: &str, args: &[String], close: &str) {
        let one_line = format!("{open}{}{close}", args.join(", "));
        // A tuple of one element keeps its comma.
        let is_tuple = open.ends_with("= (") && args.len() == 1;
        if depth * 4 + one_line.chars().count() <= WIDTH && !is_tuple {
            return self.line(depth, &one_line);
        }
        self.line(depth, open);
        args.iter().for_each(|arg| self.lines.extend(layout::within(depth * 4 + 4, &format!("{arg},"))));
        self.line(depth, close);
    }

    /// The head of a function.
    pub(super) fn head(&mut self, depth: usize, open: &str, params: &[String], gives: &str) {
        let one_line = format!("{open}({}) -> {gives}:", params.join(", "));
        if depth * 4 + one_line.chars().count() <= WIDTH {
            return self.line(depth, &one_line);
        }
        let inner = params.join(", ");
        self.line(depth, &format!("{open}("));
        if depth * 4 + 4 + inner.chars().count() <= WIDTH && params.len() > 1 {
            self.line(depth + 1, &inner);
        } else {
            params.iter().for_each(|param| self.line(depth + 1, &format!("{param},")));
        }
        self.line(depth, &format!(") -> {gives}:"));
    }

    /// Documentation.
    pub(super) fn docstring(&mut self, depth: usize, lines: &[String]) {
        let mut folded: Vec<String> = Vec::new();
        for line in lines {
            let line = escaped(line);
            if line.starts_with("    ") {
                // Code stands apart.
                if folded.last().is_some_and(|last| !last.is_empty() && !last.starts_with("    ")) {
                    folded.push(String::new());
                }
                folded.push(line);
            } else {
                folded.extend(super::super::lines::folded(&line, WIDTH - 8 - depth * 4));
            }
        }
        if let Some(first) = folded.first_mut() {
            *first = first.trim_start().to_owned();
        }
        while folded.last().is_some_and(|line| line.trim().is_empty()) {
            folded.pop();
        }
        match folded.as_slice() {
            [] => {}
            [one] => self.line(depth, &format!("\"\"\"{one}\"\"\"")),
            [first, others @ ..] => {
                self.line(depth, &format!("\"\"\"{first}"));
                // Code alone is not indented.
                let indent = |line: &String| line.len() - line.trim_start().len();
                let common = others.iter().filter(|line| !line.is_empty()).map(indent).min().unwrap_or(0);
                others.iter().for_each(|line| self.line(depth, line.get(common..).unwrap_or_default()));
                self.line(depth, "\"\"\"");
            }
        }
    }
}

fn escaped(text: &str) -> String {
    let text = one_line(text).replace('\\', "\\\\").replace("\"\"\"", "\\\"\\\"\\\"");
    // A quote at the end would join those that close the text.
    match text.strip_suffix('"') {
        Some(before) if !before.ends_with('\\') => format!("{before}\\\""),
        _ => text,
    }
}

/// A comment.
pub(super) fn comment(text: &str, depth: usize, out: &mut Lines) {
    for line in super::super::lines::folded(&one_line(text), WIDTH - 2 - depth * 4) {
        out.line(depth, &format!("# {line}"));
    }
}
