//! Candidate settings.

use super::behind::Behind;
use super::change::{Change, Mistake};
use super::trial::Bench;

/// Maximum number of codes of a setting without a table.
const MOST_CODES: i128 = 64;

/// Other values of the settings.
pub(super) fn changes(bench: &Bench<'_>, behind: &Behind) -> Vec<Change> {
    let mut found = Vec::new();
    let part = bench.part;
    let Some(decoder) = bench.decoder(part, &[]) else { return found };
    for (id, field) in behind.settings.iter().filter_map(|id| Some((id, part.fields.get(*id)?))) {
        let now = decoder.state().value_of(field);
        let (low, high) = field.bounds();
        let codes: Vec<i128> = match field.values.as_slice() {
            [] if high - low < MOST_CODES => (low..=high).collect(),
            [] => Vec::new(),
            rows => rows.iter().map(|row| row.code).collect(),
        };
        let share = 1.0 / codes.len().max(1) as f64;
        for code in codes.into_iter().filter(|code| Some(*code) != now) {
            let value = field.value_text(code);
            let typed = format!("{}={}", part.setting_name(*id), part.present_text(*id, Some(code)));
            let what = match now {
                Some(now) => format!("{} was {value}, not {}", field.name, field.value_text(now)),
                None => format!("{} was {value}", field.name),
            };
            found.push(Change::setting(Mistake::Setting, share, what, typed));
        }
    }
    found
}
