//! "Did you mean": the nearest known name to a misspelt one.

/// The closest of `known` to `typed`, if it is close enough to be a slip of the hand.
///
/// Distance is the number of inserted, dropped, changed or swapped characters, case ignored; at most a
/// third of the name's length, and at least one, is allowed.
pub(crate) fn nearest<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let typed_lower: Vec<char> = typed.chars().take(64).flat_map(char::to_lowercase).collect();
    let allowed = (typed_lower.len() / 3).max(1);
    known
        .into_iter()
        .map(|name| (distance(&typed_lower, &name.chars().take(64).flat_map(char::to_lowercase).collect::<Vec<_>>()), name))
        .filter(|&(d, _)| d <= allowed)
        .min_by_key(|&(d, _)| d)
        .map(|(_, name)| name)
}

fn distance(a: &[char], b: &[char]) -> usize {
    let width = b.len() + 1;
    let mut before: Vec<usize> = vec![0; width];
    let mut last: Vec<usize> = (0..width).collect();
    for (i, &ca) in a.iter().enumerate() {
        let mut row = vec![i + 1];
        for (j, &cb) in b.iter().enumerate() {
            let get = |line: &[usize], k: usize| line.get(k).copied().unwrap_or(usize::MAX / 2);
            let mut best = (get(&last, j) + usize::from(ca != cb)).min(get(&last, j + 1) + 1).min(get(&row, j) + 1);
            let swapped = i > 0 && j > 0 && a.get(i - 1) == Some(&cb) && b.get(j - 1) == Some(&ca);
            if swapped {
                best = best.min(get(&before, j - 1) + 1);
            }
            row.push(best);
        }
        before = std::mem::replace(&mut last, row);
    }
    last.last().copied().unwrap_or(0)
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
