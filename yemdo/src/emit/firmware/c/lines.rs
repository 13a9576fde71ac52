//! Lines of C.

pub(super) use super::super::lines::Lines;
use super::super::lines::folded;
use super::WIDTH;

/// Text that cannot leave its comment.
pub(super) fn plain(text: &str) -> String {
    text.replace("*/", "* /")
        .replace("/*", "/ *")
        .replace("??", "? ?")
        .replace('\\', "\\ ")
        .replace(['\n', '\r'], " ")
        .trim_end()
        .to_owned()
}

impl Lines {
    pub(super) fn raw(&mut self, text: &str) {
        self.text.push_str(text);
    }

    /// A comment of one line or several.
    pub(super) fn comment(&mut self, lines: &[String]) {
        match lines {
            [] => {}
            [one] if one.len() < WIDTH - 6 => self.line(&format!("/* {} */", plain(one))),
            lines => {
                let mut first = true;
                for line in lines.iter().flat_map(|line| folded(&plain(line), WIDTH - 3)) {
                    self.line(format!("{} {line}", if first { "/*" } else { " *" }).trim_end());
                    first = false;
                }
                self.line(" */");
            }
        }
    }

    /// A statement, broken behind operators and commas where it is too long.
    pub(super) fn wrapped(&mut self, text: &str, depth: usize) {
        let mut rest = text.to_owned();
        let pad = "    ".repeat(depth + 2);
        while rest.chars().count() > WIDTH {
            let Some(at) = break_at(&rest) else { break };
            let (head, tail) = rest.split_at(at);
            self.line(head.trim_end());
            rest = format!("{pad}{}", tail.trim_start());
        }
        self.line(&rest);
    }
}

/// Where a line that is too long is broken: at the outermost place that fits, as far right as can be.
pub(super) fn break_at(line: &str) -> Option<usize> {
    let mut nesting = 0usize;
    let mut best: Option<(usize, u8, usize)> = None;
    let start = line.len() - line.trim_start().len();
    let chars: Vec<(usize, char)> = line.char_indices().collect();
    for (index, (at, c)) in chars.iter().enumerate() {
        match c {
            '(' if index < WIDTH && best.is_none() && *at > start + 8 => {
                nesting += 1;
                best = Some((usize::MAX, u8::MAX, at + 1));
            }
            '(' | '[' | '{' => nesting += 1,
            ')' | ']' | '}' => nesting = nesting.saturating_sub(1),
            ' ' if index < WIDTH && *at > start + 8 => {
                let before = line.get(..*at).unwrap_or("");
                let after = line.get(at + 1..).unwrap_or("");
                let weight = if before.ends_with(',') {
                    1
                } else if after.starts_with("&& ") || after.starts_with("|| ") || after.starts_with("? ") || after.starts_with(": ") {
                    0
                } else if ["+ ", "- ", "| ", "* ", "/ ", "= ", "< ", ">", "!=", "==", "^ "].iter().any(|mark| after.starts_with(mark))
                    && !after.starts_with("= ")
                {
                    2
                } else {
                    continue;
                };
                let better = best.is_none_or(|(deep, heavy, _)| (nesting, weight) <= (deep, heavy));
                if better {
                    best = Some((nesting, weight, at + 1));
                }
            }
            _ => {}
        }
    }
    best.map(|(.., at)| at)
}
