//! Formulas as they were typed, with links to what their names are.

use maud::{Markup, html};

use super::readings::told;
use super::{anchor, code_anchor};
use crate::model::part::Part;

/// A formula with links from names to their descriptions.
pub(super) fn linked(part: &Part, text: &str) -> Markup {
    with_links(text, &|word| target(part, word))
}

/// A formula over readings, with links.
pub(super) fn linked_to_readings(part: &Part, text: &str) -> Markup {
    with_links(text, &|word| reading(part, word))
}

fn with_links(text: &str, target: &dyn Fn(&str) -> Option<String>) -> Markup {
    html! {
        @for word in words(text) {
            @match target(word) {
                Some(target) => a href=(format!("#{target}")) { (word) },
                None => (word),
            }
        }
    }
}

/// Names, and the text between them.
fn words(text: &str) -> impl Iterator<Item = &str> {
    let mut rest = text;
    std::iter::from_fn(move || {
        let first = rest.chars().next()?;
        let is_name = |c: char| c.is_alphanumeric() || c == '_';
        let end = rest.find(|c: char| is_name(c) != is_name(first)).unwrap_or(rest.len());
        let (word, behind) = rest.split_at_checked(end)?;
        rest = behind;
        Some(word)
    })
}

/// Target of a name; none if it is ambiguous.
fn target(part: &Part, word: &str) -> Option<String> {
    if let Some(field) =
        part.fields.iter().find(|field| field.name() == word && part.registers.iter().any(|one| !field.bits_in(one).is_empty()))
    {
        return Some(anchor("field", field.name()));
    }
    let mut codes = part.codes.iter().filter(|code| code.name() == word);
    if let (Some(code), None) = (codes.next(), codes.next()) {
        return Some(code_anchor(part, code));
    }
    reading(part, word)
}

fn reading(part: &Part, word: &str) -> Option<String> {
    told(part).into_iter().find(|(_, reading)| reading.name() == word).map(|(_, reading)| anchor("reading", reading.name()))
}

/// A formula of several lines without the indentation that all of them have.
pub(super) fn unindented(text: &str) -> String {
    let text = text.trim_matches('\n');
    let indent =
        text.lines().skip(1).filter(|line| !line.trim().is_empty()).map(|line| line.len() - line.trim_start().len()).min().unwrap_or(0);
    let mut lines = text.lines();
    let first = lines.next().unwrap_or("").trim_start().to_owned();
    std::iter::once(first).chain(lines.map(|line| line.get(indent..).unwrap_or("").to_owned())).collect::<Vec<_>>().join("\n")
}
