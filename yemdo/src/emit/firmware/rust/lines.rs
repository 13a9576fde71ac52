//! Lines of Rust.

pub(super) use super::super::lines::Lines;
use super::doc::Doc;
use super::types::plain;

impl Lines {
    /// A documentation comment; lines of it that are indented are code.
    pub(super) fn doc(&mut self, depth: usize, lines: &[String]) {
        let pad = "    ".repeat(depth);
        let mut code = false;
        for line in lines {
            let is_code = line.starts_with("    ");
            if is_code && !code {
                self.line(&format!("{pad}///"));
                self.line(&format!("{pad}/// ```text"));
            }
            if !is_code && code {
                self.line(&format!("{pad}/// ```"));
            }
            code = is_code;
            if is_code {
                self.line(format!("{pad}/// {}", line.trim_start_matches("    ").replace("```", "'''")).trim_end());
                continue;
            }
            for folded in super::super::lines::folded(&plain(line), 96 - pad.len()) {
                self.line(format!("{pad}/// {folded}").trim_end());
            }
        }
        if code {
            self.line(&format!("{pad}/// ```"));
        }
    }

    pub(super) fn attribute(&mut self, depth: usize, lints: &[String]) {
        let pad = "    ".repeat(depth);
        let flat = format!("{pad}#[allow({})]", lints.join(", "));
        let inner: usize = lints.iter().map(|lint| lint.len() + 2).sum();
        if flat.len() <= 100 && inner <= 72 {
            self.line(&flat);
            return;
        }
        self.line(&format!("{pad}#[allow("));
        for (index, lint) in lints.iter().enumerate() {
            let comma = if index + 1 == lints.len() { "" } else { "," };
            self.line(&format!("{pad}    {lint}{comma}"));
        }
        self.line(&format!("{pad})]"));
    }

    /// A statement with an expression in it.
    pub(super) fn statement(&mut self, head: &str, doc: &Doc, indent: usize, end: &str) {
        let column = head.chars().count();
        let laid = doc.lay(indent, column, end.len());
        // A long value without a break moves to the next line after `=`.
        let first = laid.lines().next().unwrap_or("");
        let sum = matches!(doc, Doc::Chain(..) | Doc::Method(..))
            && laid.contains('\n')
            && indent + 4 + doc.flat().chars().count() + end.len() <= 100;
        if (sum || column + first.chars().count() > 100) && head.trim_end().ends_with('=') {
            let pad = " ".repeat(indent + 4);
            let laid = doc.lay(indent + 4, indent + 4, end.len());
            self.line(head.trim_end());
            self.line(&format!("{pad}{laid}{end}"));
            return;
        }
        self.line(&format!("{head}{laid}{end}"));
    }
}
