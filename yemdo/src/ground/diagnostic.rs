//! What is wrong with a sheet, where, and what to do about it.

use std::fmt;

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};

use super::suggest;
use super::text::{Source, Span};
use super::words::visible;

/// How bad a [`Diagnostic`] is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Severity {
    /// The sheet works, but this is what practitioners get wrong.
    Warning,
    /// The sheet cannot be used.
    Error,
}

/// One complaint about a sheet: a stable name, a message, and the text it is about.
#[derive(Clone, Debug)]
pub struct Diagnostic {
    /// Error or warning.
    pub severity: Severity,
    /// The stable, documented name, such as `unknown-key`.
    pub name: &'static str,
    /// What is wrong, in one line.
    pub message: String,
    /// The text it is about.
    pub span: Span,
    /// What stands at `span`: what was expected, what came.
    pub label: String,
    /// Other places that matter, each with its own words.
    pub also: Vec<(Span, String)>,
    /// What to try.
    pub help: Vec<String>,
}

impl Diagnostic {
    pub(crate) fn error(name: &'static str, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Error, name, message: message.into(), span, label: String::new(), also: Vec::new(), help: Vec::new() }
    }

    pub(crate) fn warning(name: &'static str, span: Span, message: impl Into<String>) -> Self {
        Self { severity: Severity::Warning, ..Self::error(name, span, message) }
    }

    pub(crate) fn label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    pub(crate) fn also(mut self, span: Span, label: impl Into<String>) -> Self {
        self.also.push((span, label.into()));
        self
    }

    pub(crate) fn help(mut self, help: impl Into<String>) -> Self {
        self.help.push(help.into());
        self
    }

    /// Adds "did you mean" where one of `known` is near, else the list of what is known.
    pub(crate) fn known<'a>(self, typed: &str, what: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        let mut names: Vec<&str> = Vec::new();
        known.into_iter().for_each(|name| {
            if !names.contains(&name) {
                names.push(name)
            }
        });
        let known = names;
        match suggest::nearest(typed, known.iter().copied()) {
            Some(near) => self.help(format!("did you mean `{near}`?")),
            None if known.is_empty() => self.help(format!("this sheet has no {what}")),
            None => self.help(format!("known {what}: {}", suggest::one_of(known))),
        }
    }

    /// The message with the text underlined, as shown to a person; `color` adds terminal colours.
    pub fn render(&self, source: &Source, color: bool) -> String {
        let level = match self.severity {
            Severity::Error => Level::ERROR,
            Severity::Warning => Level::WARNING,
        };
        let text = source.text();
        let clamp = |span: Span| {
            let mut start = span.start.min(text.len());
            while !text.is_char_boundary(start) {
                start -= 1;
            }
            let mut end = span.end.clamp(start, text.len());
            while !text.is_char_boundary(end) {
                end += 1;
            }
            start..end
        };
        // A key or a name may hold anything.
        let (message, label) = (visible(&self.message), visible(&self.label));
        let helps: Vec<_> = self.help.iter().map(|help| visible(help)).collect();
        let also: Vec<_> = self.also.iter().map(|(span, label)| (*span, visible(label))).collect();
        let mut snippet = Snippet::source(text).path(source.name()).fold(true);
        let primary = AnnotationKind::Primary.span(clamp(self.span));
        snippet = snippet.annotation(if label.is_empty() { primary } else { primary.label(label.as_ref()) });
        for (span, label) in &also {
            snippet = snippet.annotation(AnnotationKind::Context.span(clamp(*span)).label(label.as_ref()));
        }
        let mut group: Group<'_> = level.primary_title(message.as_ref()).id(self.name).element(snippet);
        for help in &helps {
            group = group.element(Level::HELP.message(help.as_ref()));
        }
        let renderer = if color { Renderer::styled() } else { Renderer::plain() };
        renderer.render(&[group])
    }
}

/// Why a sheet was refused: every error found in it, with the text they point at.
#[derive(Clone, Debug)]
pub struct SheetError {
    source: Source,
    diagnostics: Vec<Diagnostic>,
}

impl SheetError {
    pub(crate) fn new(source: Source, diagnostics: Vec<Diagnostic>) -> Self {
        Self { source, diagnostics }
    }

    /// The text that the diagnostics point at.
    pub fn source_text(&self) -> &Source {
        &self.source
    }

    /// Everything found, errors and warnings, in the order of the text.
    pub fn diagnostics(&self) -> &[Diagnostic] {
        &self.diagnostics
    }

    /// All diagnostics, underlined, one after the other.
    pub fn render(&self, color: bool) -> String {
        render_all(&self.diagnostics, &self.source, color)
    }
}

/// Diagnostics that are shown; of the others only the number is.
const MAX_RENDERED: usize = 30;

/// All diagnostics as text for a person, separated by blank lines; of very many only the first.
pub fn render_all(diagnostics: &[Diagnostic], source: &Source, color: bool) -> String {
    let mut parts: Vec<String> = diagnostics.iter().take(MAX_RENDERED).map(|d| d.render(source, color)).collect();
    if diagnostics.len() > MAX_RENDERED {
        parts.push(format!("and {} more", diagnostics.len() - MAX_RENDERED));
    }
    parts.join("\n\n")
}

impl fmt::Display for SheetError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.render(false))
    }
}

impl std::error::Error for SheetError {}
