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
