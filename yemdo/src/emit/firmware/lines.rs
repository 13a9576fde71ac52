//! Lines of text for all languages; `c/lines.rs` and `rust/lines.rs` add their specifics.

/// Lines of text.
#[derive(Default)]
pub(super) struct Lines {
    pub(super) text: String,
}

impl Lines {
    pub(super) fn line(&mut self, line: &str) {
        self.text.push_str(line);
        self.text.push('\n');
    }

    /// An empty line, except at the beginning and behind another.
    pub(super) fn blank(&mut self) {
        if !self.text.is_empty() && !self.text.ends_with("\n\n") && !self.text.ends_with("{\n") {
            self.text.push('\n');
        }
    }
}

/// Text of a sheet in one line: it never ends a comment.
pub(super) fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() || matches!(c, '\u{2028}' | '\u{2029}') { ' ' } else { c }).collect()
}

/// Text in lines of at most `width` characters.
pub(super) fn folded(text: &str, width: usize) -> Vec<String> {
    let indent: String = text.chars().take_while(|c| *c == ' ').collect();
    if text.chars().count() <= width {
        return vec![text.to_owned()];
    }
    let mut lines = vec![indent.clone()];
    for word in text.split_whitespace() {
        let line_is_full =
            lines.last().is_some_and(|line| line.trim().chars().count() > 0 && line.chars().count() + 1 + word.chars().count() > width);
        if line_is_full {
            lines.push(indent.clone());
        }
        if let Some(line) = lines.last_mut() {
            if !line.trim().is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}
