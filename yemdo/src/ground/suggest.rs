//! "Did you mean": the nearest known name to a misspelt one.

/// The closest of `known` to `typed`, if it is close enough to be a slip of the hand.
///
/// Distance is the number of inserted, dropped, changed or swapped characters, case ignored; at most a
/// third of the name's length, and at least one, is allowed.
pub fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let typed: Vec<char> = lower(typed).collect();
    let allowed = (typed.len() / 3).max(1);
    let mut room = Room::default();
    known
        .into_iter()
        // A name that is longer or shorter by more than that cannot be near.
        .filter(|name| name.chars().take(LONGEST).count().abs_diff(typed.len()) <= allowed)
        .map(|name| (room.distance(&typed, name), name))
        .filter(|&(d, _)| d <= allowed)
        .min_by_key(|&(d, _)| d)
        .map(|(_, name)| name)
}

/// Characters of a name that are looked at.
const LONGEST: usize = 64;

fn lower(name: &str) -> impl Iterator<Item = char> + '_ {
    name.chars().take(LONGEST).flat_map(char::to_lowercase).take(LONGEST)
}

/// Lines of the table of distances, kept from one name to the next.
#[derive(Default)]
struct Room {
    name: Vec<char>,
    lines: [Vec<usize>; 3],
}

impl Room {
    fn distance(&mut self, a: &[char], name: &str) -> usize {
        self.name.clear();
        self.name.extend(lower(name));
        let b = &self.name;
        let [before, last, line] = &mut self.lines;
        before.clear();
        before.resize(b.len() + 1, 0);
        last.clear();
        last.extend(0..=b.len());
        let get = |line: &[usize], k: usize| line.get(k).copied().unwrap_or(usize::MAX / 2);
        for (i, &ca) in a.iter().enumerate() {
            line.clear();
            line.push(i + 1);
            for (j, &cb) in b.iter().enumerate() {
                let mut best = (get(last, j) + usize::from(ca != cb)).min(get(last, j + 1) + 1).min(get(line, j) + 1);
                let swapped = i > 0 && j > 0 && a.get(i - 1) == Some(&cb) && b.get(j - 1) == Some(&ca);
                if swapped {
                    best = best.min(get(before, j - 1) + 1);
                }
                line.push(best);
            }
            std::mem::swap(before, last);
            std::mem::swap(last, line);
        }
        last.last().copied().unwrap_or(0)
    }
}

/// "a, b or c", for a list of what was possible; long lists are cut.
pub(crate) fn one_of<'a>(names: impl IntoIterator<Item = &'a str>) -> String {
    let names: Vec<&str> = names.into_iter().collect();
    let shown = names.get(..names.len().min(12)).unwrap_or(&names);
    match shown {
        [] => "nothing".into(),
        [only] => (*only).into(),
        [head @ .., last] if names.len() == shown.len() => format!("{} or {last}", head.join(", ")),
        _ => format!("{} and {} more", shown.join(", "), names.len() - shown.len()),
    }
}
