//! Mistakes as people make them, planted into the text of a sheet that is right.

use yemdo::Part;

/// A sheet with a mistake in it, or the right one with another setting in force.
#[derive(Clone, Debug)]
pub struct Planted {
    /// What kind of mistake it is.
    pub kind: &'static str,
    /// The sheet that is used to decode.
    pub text: String,
    /// The setting that was really in force.
    pub setting: Option<String>,
}

/// A quoted text of the sheet, without its quotes.
struct Quoted<'t> {
    at: usize,
    text: &'t str,
    /// The key in front of it.
    key: &'t str,
}

fn quoted(text: &str) -> Vec<Quoted<'_>> {
    let (mut found, mut at) = (Vec::new(), 0);
    while let Some(open) = text[at..].find(['"', '#']).map(|open| at + open) {
        if text[open..].starts_with('#') {
            at = text[open..].find('\n').map_or(text.len(), |end| open + end);
            continue;
        }
        let mark = if text[open..].starts_with("\"\"\"") { "\"\"\"" } else { "\"" };
        let start = open + mark.len();
        let Some(end) = text[start..].find(mark).map(|end| start + end) else { break };
        let before = text[..open].trim_end().trim_end_matches('=').trim_end();
        let key = before.rsplit(|c: char| !(c.is_alphanumeric() || c == '_')).next().unwrap_or("");
        found.push(Quoted { at: start, text: &text[start..end], key });
        at = end + mark.len();
    }
    found
}

/// The words of a layout, its form apart.
fn layout(text: &str) -> Option<(Option<&str>, Vec<&str>)> {
    let mut words: Vec<&str> = text.split_whitespace().collect();
    let slice = |word: &&str| {
        let name = word.split('[').next().unwrap_or("");
        name.starts_with(['b', 'w']) && name.len() > 1 && name[1..].bytes().all(|byte| byte.is_ascii_digit())
    };
    let form = words.first().copied().filter(|word| !slice(word));
    if form.is_some() {
        words.remove(0);
    }
    (!words.is_empty() && words.iter().all(slice)).then_some((form, words))
}

fn number(word: &str) -> Option<usize> {
    word[1..].split('[').next()?.parse().ok()
}

/// The numbers of a formula, with their places in it.
fn numbers(text: &str) -> Vec<(usize, &str)> {
    let bytes = text.as_bytes();
    let (mut found, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let starts =
            bytes[at].is_ascii_digit() && (at == 0 || !(bytes[at - 1].is_ascii_alphanumeric() || matches!(bytes[at - 1], b'_' | b'.')));
        if !starts {
            at += 1;
            continue;
        }
        let from = at;
        while at < bytes.len() && (bytes[at].is_ascii_alphanumeric() || bytes[at] == b'.' || (bytes[at] == b'-' && bytes[at - 1] == b'e')) {
            at += 1;
        }
        found.push((from, &text[from..at]));
    }
    found
}

/// All mistakes that can be planted into a sheet.
pub fn mistakes(text: &str, part: &Part) -> Vec<Planted> {
    let mut found = Vec::new();
    let all = quoted(text);
    let mut plant = |kind: &'static str, at: usize, len: usize, new: &str| {
        let text = format!("{}{new}{}", &text[..at], &text[at + len..]);
        found.push(Planted { kind, text, setting: None });
    };
    for quoted in &all {
        if let Some((form, words)) = layout(quoted.text) {
            in_layout(form, &words, &mut |kind, new| plant(kind, quoted.at, quoted.text.len(), new));
        }
        if quoted.key == "formula" {
            in_formula(quoted.text, &all, &mut |kind, at, len, new| plant(kind, quoted.at + at, len, new));
        }
        if quoted.key == "order" {
            plant("order of a register", quoted.at, quoted.text.len(), if quoted.text == "low first" { "high first" } else { "low first" });
        }
        if quoted.key == "unit" {
            let others: &[&str] = match quoted.text {
                "°C" => &["°F", "K"],
                "hPa" => &["Pa", "kPa"],
                "Pa" => &["hPa"],
                "g" => &["m/s²"],
                "m/s²" => &["g"],
                "V" => &["mV"],
                "lx" => &["klx"],
                _ => &[],
            };
            others.iter().for_each(|other| plant("unit", quoted.at, quoted.text.len(), other));
        }
    }
    exchanged(text, &all, &mut found);
    in_tables(text, &mut found);
    for (id, field) in part.fields().entries() {
        let rows = field.values().iter().filter(|row| row.columns.iter().any(Option::is_some));
        for row in rows {
            let value = row.name.clone().unwrap_or_else(|| row.code.to_string());
            let setting = Some(format!("{}={value}", part.setting_name(id)));
            found.push(Planted { kind: "setting", text: text.to_owned(), setting });
        }
    }
    found
}

fn in_layout(form: Option<&str>, words: &[&str], plant: &mut dyn FnMut(&'static str, &str)) {
    let front = form.map_or(String::new(), |form| format!("{form} "));
    let whole = words.iter().all(|word| !word.contains('['));
    let join = |words: &[String]| format!("{front}{}", words.join(" "));
    let own: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
    match form {
        Some("signed") => plant("sign", &words.join(" ")),
        None if words.len() > 1 => plant("sign", &format!("signed {}", words.join(" "))),
        Some("bcd") => plant("bcd", &words.join(" ")),
        Some("sign-magnitude" | "offset-binary" | "ones-complement") => plant("form", &format!("signed {}", words.join(" "))),
        Some(fixed) if fixed.starts_with('q') => plant("fixed point", &format!("signed {}", words.join(" "))),
        Some(fixed) if fixed.starts_with("uq") => plant("fixed point", &words.join(" ")),
        _ => {}
    }
    if whole && words.len() > 1 {
        plant("order", &join(&own.iter().rev().cloned().collect::<Vec<_>>()));
    }
    if whole && words.len() == 4 && words[0].starts_with('b') {
        plant("order of words", &join(&[own[2].clone(), own[3].clone(), own[0].clone(), own[1].clone()]));
    }
    for by in [-1i64, 1] {
        let moved: Option<Vec<String>> = words
            .iter()
            .map(|word| {
                let at = usize::try_from(number(word)? as i64 + by).ok()?;
                let bits = word.find('[').map_or("", |from| &word[from..]);
                Some(format!("{}{at}{bits}", &word[..1]))
            })
            .collect();
        moved.into_iter().for_each(|words| plant("neighbour", &join(&words)));
    }
    if let ([first, last], true) = (words, whole)
        && first.starts_with('b')
    {
        plant("width", &format!("{front}{first}[5:0] {last}"));
        plant("width", &format!("{front}{first} {last}[7:3]"));
        plant("justified", &format!("{front}{first} {last}[7:4]"));
    }
    if let [first, last] = words
        && !first.contains('[')
        && let Some((name, bits)) = last.split_once("[7:")
    {
        let low: usize = bits.trim_end_matches(']').parse().unwrap_or(0);
        plant("justified", &format!("{front}{first}[{}:0] {name}", 7 - low));
        plant("width", &format!("{front}{first} {name}"));
    }
    if let [first, last] = words
        && !last.contains('[')
        && first.ends_with(":0]")
        && let Some((name, bits)) = first.split_once('[')
    {
        let high: usize = bits.trim_end_matches(":0]").parse().unwrap_or(7);
        plant("justified", &format!("{front}{name} {last}[7:{}]", 7 - high));
        plant("width", &format!("{front}{name} {last}"));
    }
}

fn in_formula(text: &str, all: &[Quoted<'_>], plant: &mut dyn FnMut(&'static str, usize, usize, &str)) {
    let elsewhere: Vec<&str> = all
        .iter()
        .filter(|other| other.key == "formula" && other.text != text)
        .flat_map(|other| numbers(other.text))
        .map(|(_, number)| number)
        .collect();
    for (place, (at, typed)) in numbers(text).into_iter().enumerate() {
        let Ok(value) = typed.parse::<f64>() else { continue };
        let real = typed.contains(['.', 'e']);
        let like = |value: f64| if real && value.fract() == 0.0 { format!("{value:.1}") } else { value.to_string() };
        if !real || value == 0.0 {
            if real == typed.contains('.') && text[..at].trim_end().ends_with('/') && value != 0.0 && !real {
                plant("constant times two", at, typed.len(), &like(value * 2.0));
            }
            continue;
        }
        plant("power of ten", at, typed.len(), &like(value * 10.0));
        plant("power of ten", at, typed.len(), &like(value / 100.0));
        plant("power of two", at, typed.len(), &like(value * 2.0));
        plant("power of two", at, typed.len(), &like(value / 16.0));
        let digits: Vec<char> = typed.chars().collect();
        if let Some(place) = (0..digits.len() - 1).rev().find(|place| {
            let (one, two) = (digits[*place], digits[place + 1]);
            one != two && one.is_ascii_digit() && two.is_ascii_digit()
        }) {
            let mut other = digits.clone();
            other.swap(place, place + 1);
            plant("digits", at, typed.len(), &other.iter().collect::<String>());
        }
        if let Some(other) = elsewhere.get(place % elsewhere.len().max(1)).filter(|other| other.contains('.')) {
            plant("another line's constant", at, typed.len(), other);
        }
        if text[..at].trim_end().ends_with('/') && value.fract() == 0.0 {
            plant("division", at, typed.len(), &format!("{value}"));
        }
    }
    for (at, mark) in text.match_indices([" + ", " - "].as_slice().first().copied().unwrap_or(" + ")) {
        plant("sign of a constant", at, mark.len(), " - ");
    }
    for (at, mark) in text.match_indices(" - ") {
        plant("sign of a constant", at, mark.len(), " + ");
    }
}

/// Numbers of columns and of curves: digits exchanged, or the point in another place.
fn in_tables(text: &str, found: &mut Vec<Planted>) {
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let (start, row) = (at, line.trim_start());
        at += line.len();
        let is_row = row.starts_with("{ code");
        if !is_row && !row.starts_with("points") {
            continue;
        }
        for (place, typed) in numbers(line) {
            // The code of a row is no number of a column.
            let is_cell = line[..place].trim_end().ends_with(['=', '[', ',']) && !line[..place].trim_end().ends_with("code =");
            let Some(value) = typed.parse::<f64>().ok().filter(|value| is_cell && *value > 0.0) else { continue };
            let digits: Vec<char> = typed.chars().collect();
            let swapped = (0..digits.len() - 1).find(|at| {
                let (one, two) = (digits[*at], digits[at + 1]);
                one != two && one != '0' && one.is_ascii_digit() && two.is_ascii_digit()
            });
            let mut other = digits.clone();
            swapped.into_iter().for_each(|at| other.swap(at, at + 1));
            let kind = if is_row { "table cell" } else { "curve point" };
            let new = [swapped.map(|_| other.into_iter().collect::<String>()), Some(format!("{:?}", value * 10.0))];
            for new in new.into_iter().flatten() {
                let (before, behind) = (&text[..start + place], &text[start + place + typed.len()..]);
                found.push(Planted { kind, text: format!("{before}{new}{behind}"), setting: None });
            }
        }
    }
}

/// Two layouts that follow one another, exchanged.
fn exchanged(text: &str, all: &[Quoted<'_>], found: &mut Vec<Planted>) {
    for pair in all.windows(2) {
        let [one, two] = pair else { continue };
        let codes = layout(one.text).is_some()
            && layout(two.text).is_some()
            && !matches!(one.key, "in" | "over")
            && !matches!(two.key, "in" | "over");
        if codes && one.text != two.text {
            let between = &text[one.at + one.text.len()..two.at];
            let new = format!("{}{}{between}{}{}", &text[..one.at], two.text, one.text, &text[two.at + two.text.len()..]);
            found.push(Planted { kind: "exchanged", text: new, setting: None });
        }
    }
}
