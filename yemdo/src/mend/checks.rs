//! Finds the check of frames that all fail the check in the sheet: method, coverage and position.

use crate::bits::check::{CrcModel, MODELS};
use crate::ground::text::{Source, Span};
use crate::model::ids::FrameId;
use crate::model::part::Part;
use crate::model::resolve::resolve_changed;
use crate::sheet::parse::parse;

use super::change::{ChangedLine, Edit, changed, lines};

/// Maximum number of frames; more add no information.
const MOST_FRAMES: usize = 32;
/// Maximum length of a frame for the search over all polynomials.
const LONGEST: usize = 64;
/// Evidence used up by the search over positions and coverages, in bits.
const SEARCH_BITS: i32 = 8;
/// Maximum number of findings.
const MOST_FOUND: usize = 8;

/// Check that all frames pass.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CheckFinding {
    /// Description.
    pub what: String,
    /// Value of the key `check`: `{ xor = 0, over = "b0..b2", in = "b3" }`.
    pub text: String,
    /// Edits of the sheet; empty if the frame has no check, several, or one with its own heading.
    pub edits: Vec<Edit>,
    /// Lines changed by the edits.
    pub lines: Vec<ChangedLine>,
    /// Evidence in bits: random frames pass with a probability of 2^-bits. Below 8 it is weak.
    pub bits: i32,
}

impl CheckFinding {
    /// Text of the sheet with this check; unchanged without edits.
    pub fn applied(&self, part: &Part) -> String {
        changed(&part.source, &self.edits)
    }
}

/// Position and coverage of a check value.
struct Place {
    /// Bytes of the value, most significant first.
    value: Vec<usize>,
    over: Vec<usize>,
    /// Covers the I2C address byte first, with `true` the one for reading.
    address: Option<bool>,
}

impl Place {
    fn found(&self, bytes: &[u8]) -> u64 {
        self.value.iter().fold(0, |value, at| value << 8 | u64::from(bytes.get(*at).copied().unwrap_or(0)))
    }

    fn covered(&self, bytes: &[u8], address: u8) -> Vec<u8> {
        let front = self.address.map(|read| address << 1 | u8::from(read));
        front.into_iter().chain(self.over.iter().map(|at| bytes.get(*at).copied().unwrap_or(0))).collect()
    }

    fn text(&self, method: &str) -> String {
        let address = self.address.map_or("", |read| if read { "addr:r " } else { "addr:w " });
        format!("{{ {method}, over = \"{address}{}\", in = \"{}\" }}", run(&self.over), run(&self.value))
    }

    fn words(&self) -> String {
        let address = self.address.map_or("", |read| if read { "the address for reading and " } else { "the address for writing and " });
        format!("over {address}{}, in {}", run(&self.over), run(&self.value))
    }
}

/// Formats byte numbers in layout notation.
fn run(bytes: &[usize]) -> String {
    let mut words: Vec<(usize, usize)> = Vec::new();
    for byte in bytes {
        match words.last_mut() {
            Some((_, last)) if *last + 1 == *byte => *last = *byte,
            _ => words.push((*byte, *byte)),
        }
    }
    let word = |(first, last): &(usize, usize)| match last - first {
        0 => format!("b{first}"),
        1 => format!("b{first} b{last}"),
        _ => format!("b{first}..b{last}"),
    };
    words.iter().map(word).collect::<Vec<_>>().join(" ")
}

/// Finds checks that all frames of one kind pass, sorted by weight. Two frames suffice for sums, XOR and the usual CRC models, three
/// for any polynomial of 8 or 16 bits.
///
/// ```
/// use yemdo::mend::find_checks;
/// let part = yemdo::Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// frame.LIGHT = { read = 3, code = { light = "b0 b1" }, check = { crc = "CRC-8/ROHC", over = "b0 b1", in = "b2" } }
/// "#).unwrap();
/// let frames = [vec![1, 2, 3], vec![9, 1, 8], vec![0x70, 0x11, 0x61]];
/// let found = find_checks(&part, part.frame("LIGHT").unwrap(), &frames);
/// assert_eq!(found[0].text, r#"{ xor = 0, over = "b0 b1", in = "b2" }"#);
/// ```
pub fn find_checks(part: &Part, frame: FrameId, frames: &[Vec<u8>]) -> Vec<CheckFinding> {
    let Some(length) = part.frames.get(frame).map(|frame| frame.length) else { return Vec::new() };
    // A frame of changing length has its check at the same position in all of them.
    let counted = part.frames.get(frame).is_some_and(|frame| frame.counted.is_some());
    let usable = |bytes: &&[u8]| bytes.len() == length || counted && (2..length).contains(&bytes.len());
    let mut different: Vec<&[u8]> = frames.iter().map(Vec::as_slice).filter(usable).collect();
    different.sort_unstable();
    different.dedup();
    different.truncate(MOST_FRAMES);
    let length = different.iter().map(|bytes| bytes.len()).min().unwrap_or(length);
    if different.len() < 2 || length < 2 {
        return Vec::new();
    }
    let address = part.buses.i2c.as_ref().map(|i2c| i2c.address);
    let mut found: Vec<(f64, String, String, i32)> = Vec::new();
    for place in places(length, address.is_some()) {
        let covered: Vec<Vec<u8>> = different.iter().map(|bytes| place.covered(bytes, address.unwrap_or(0))).collect();
        let values: Vec<u64> = different.iter().map(|bytes| place.found(bytes)).collect();
        let mut add = |weight: f64, method: &str, words: &str, known: i32| {
            let (text, what) = (place.text(method), format!("{words} {}", place.words()));
            let bits = 8 * i32::try_from(place.value.len() * different.len()).unwrap_or(0) - known;
            found.push((weight * if place.address.is_some() { 0.3 } else { 1.0 }, what, text, bits));
        };
        if place.value.len() == 1 {
            sums(&covered, &values, &mut add);
        }
        crcs(&covered, &values, 8 * place.value.len() as u32, place.address.is_some(), &mut add);
    }
    found.retain(|(.., bits)| *bits > 0);
    found.sort_by(|one, two| two.0.total_cmp(&one.0));
    found.truncate(MOST_FOUND);
    let span = check_span(part, frame);
    let finding = |(_, what, text, bits): (f64, String, String, i32)| {
        let mut edits: Vec<Edit> = span.iter().map(|span| Edit { span: *span, text: text.clone() }).collect();
        // A table with its own heading cannot hold an inline table.
        edits.retain(|edit| {
            let source = Source::new("", &changed(&part.source, std::slice::from_ref(edit)));
            resolve_changed(source, part.variant.as_deref(), |_| {}).is_ok()
        });
        CheckFinding { what, text, lines: lines(&part.source, &edits), edits, bits }
    };
    found.into_iter().map(finding).collect()
}

/// Position of the frame's only check.
fn check_span(part: &Part, frame: FrameId) -> Option<Span> {
    let (tree, _) = parse(part.source.text(), part.variant.as_deref());
    let name = &part.frames.get(frame)?.name;
    let (_, typed) = tree.frames.iter().find(|(known, _)| known.value == *name)?;
    let [check] = typed.checks.as_slice() else { return None };
    Some(check.span)
}

/// Positions and coverages, the usual ones first.
fn places(length: usize, addressed: bool) -> Vec<Place> {
    let mut found = Vec::new();
    let mut values: Vec<Vec<usize>> = vec![vec![length - 1], vec![0]];
    values.extend((1..length - 1).map(|at| vec![at]));
    if length >= 3 {
        values.extend([vec![length - 2, length - 1], vec![length - 1, length - 2], vec![0, 1], vec![1, 0]]);
    }
    if length >= 5 {
        let last: Vec<usize> = (length - 4..length).collect();
        values.extend([last.iter().rev().copied().collect(), last]);
    }
    for value in values {
        let (first, last) = (value.iter().copied().min().unwrap_or(0), value.iter().copied().max().unwrap_or(0));
        let mut covers: Vec<Vec<usize>> = Vec::new();
        covers.extend((0..first.min(3)).map(|from| (from..first).collect()));
        covers.extend((last + 1..(last + 3).min(length)).map(|from| (from..length).collect()));
        if first > 0 && last + 1 < length {
            covers.push((0..first).chain(last + 1..length).collect());
        }
        for over in covers {
            let addresses: &[Option<bool>] = if addressed { &[None, Some(false), Some(true)] } else { &[None] };
            found.extend(addresses.iter().map(|address| Place { value: value.clone(), over: over.clone(), address: *address }));
        }
    }
    found
}

/// Operation on a sum before it is stored.
type Finish = fn(u8) -> u8;

/// Sums and XOR, with complements and start values.
fn sums(covered: &[Vec<u8>], values: &[u64], add: &mut impl FnMut(f64, &str, &str, i32)) {
    let sum = |bytes: &[u8]| bytes.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte));
    let finishes: [(&str, &str, Finish); 3] = [
        ("", "sum", |sum| sum),
        (", then = \"invert\"", "inverted sum", |sum| !sum),
        (", then = \"negate\"", "negated sum", u8::wrapping_neg),
    ];
    for (typed, words, finish) in finishes {
        let mut starts = covered.iter().zip(values).map(|(bytes, value)| {
            // Each of these functions is its own inverse.
            finish(*value as u8).wrapping_sub(sum(bytes))
        });
        let start = starts.next().unwrap_or(0);
        if starts.all(|other| other == start) {
            let (init, known) = if start == 0 { (String::new(), 2) } else { (format!(", init = 0x{start:02X}"), 10) };
            let weight = if start == 0 { 30.0 } else { 2.0 };
            add(weight, &format!("sum = {{ width = 8{init}{typed} }}"), words, known);
        }
    }
    let xor = |bytes: &[u8]| bytes.iter().fold(0u8, |all, byte| all ^ byte);
    let mut starts = covered.iter().zip(values).map(|(bytes, value)| *value as u8 ^ xor(bytes));
    let start = starts.next().unwrap_or(0);
    if starts.all(|other| other == start) {
        let (weight, known) = if start == 0 {
            (25.0, 1)
        } else if start == 0xFF {
            (8.0, 2)
        } else {
            (2.0, 8)
        };
        let method = if start == 0 { "xor = 0".to_owned() } else { format!("xor = 0x{start:02X}") };
        add(weight, &method, "XOR", known);
    }
}

/// CRCs of the catalogue with any start value; with three or more frames any polynomial of 8 or 16 bits.
fn crcs(covered: &[Vec<u8>], values: &[u64], width: u32, addressed: bool, add: &mut impl FnMut(f64, &str, &str, i32)) {
    let catalogue = MODELS.iter().filter(|(_, model)| model.width == width && model.refin == model.refout);
    let mut polys: Vec<(u64, bool, f64, i32)> = Vec::new();
    for (_, model) in catalogue {
        if !polys.iter().any(|(poly, reflected, ..)| (*poly, *reflected) == (model.poly, model.refin)) {
            polys.push((model.poly, model.refin, 10.0, 3));
        }
    }
    for (poly, reflected, ..) in polys.clone() {
        polys.push((poly, !reflected, 3.0, 4));
    }
    if covered.len() >= 3 && matches!(width, 8 | 16) && covered.first().is_some_and(|bytes| bytes.len() <= LONGEST) {
        let all = (1..1u64 << width).step_by(2).flat_map(|poly| [false, true].map(|reflected| (poly, reflected, 0.5, width as i32)));
        polys.extend(all);
    }
    let mut seen: Vec<(u64, bool)> = Vec::new();
    for (poly, reflected, weight, known) in polys {
        let Some(constant) = constant(poly, reflected, width, covered, values) else { continue };
        if !seen.contains(&(poly, reflected)) {
            seen.push((poly, reflected));
            let bytes = covered.first().map_or(0, Vec::len);
            let (method, words, exact) = named(poly, reflected, width, constant, bytes);
            // For frames of equal length a constant first byte only changes the start value.
            if addressed && exact < 1.0 {
                continue;
            }
            // The search itself uses up some of the evidence.
            add(weight * exact, &method, &words, known + if exact < 1.0 { width as i32 + SEARCH_BITS } else { SEARCH_BITS });
        }
    }
}

/// Combined effect of start value and final XOR, if all frames agree on it.
fn constant(poly: u64, reflected: bool, width: u32, covered: &[Vec<u8>], values: &[u64]) -> Option<u64> {
    let mut all = covered.iter().zip(values).map(|(bytes, value)| value ^ remainder(poly, reflected, width, 0, bytes));
    let first = all.next()?;
    all.all(|other| other == first).then_some(first)
}

/// CRC without final XOR, bit by bit: tables do not pay off for short frames.
fn remainder(poly: u64, reflected: bool, width: u32, init: u64, bytes: &[u8]) -> u64 {
    let top = 1u64 << (width - 1);
    let mask = u64::MAX >> (64 - width);
    let mut register = init & mask;
    for byte in bytes {
        let byte = if reflected { byte.reverse_bits() } else { *byte };
        register ^= u64::from(byte) << (width - 8);
        for _ in 0..8 {
            register = if register & top == 0 { register << 1 } else { (register << 1) ^ poly } & mask;
        }
    }
    if reflected { register.reverse_bits() >> (64 - width) } else { register }
}

/// TOML text, description and weight of a CRC: by name if it is a usual model, otherwise by its parameters.
fn named(poly: u64, reflected: bool, width: u32, constant: u64, bytes: usize) -> (String, String, f64) {
    let ones = u64::MAX >> (64 - width);
    let start = |init: u64| remainder(poly, reflected, width, init, &vec![0; bytes]);
    let ends: [(u64, u64); 4] = [(0, 0), (ones, 0), (ones, ones), (0, ones)];
    let usual = |init: u64, xorout: u64| {
        let model = CrcModel { width, poly, init, refin: reflected, refout: reflected, xorout };
        MODELS.iter().find(|(_, known)| *known == model).map(|(name, _)| *name)
    };
    let found = ends.iter().find(|(init, xorout)| start(*init) ^ xorout == constant);
    let digits = (width / 4) as usize;
    let typed = |init: u64, xorout: u64| {
        let mut text = format!("crc = {{ width = {width}, poly = 0x{poly:0digits$X}");
        for (name, value) in [("init", init), ("xorout", xorout)] {
            if value != 0 {
                text.push_str(&format!(", {name} = 0x{value:0digits$X}"));
            }
        }
        text.push_str(if reflected { ", refin = true }" } else { " }" });
        text
    };
    match found {
        Some((init, xorout)) => match usual(*init, *xorout) {
            Some(name) => (format!("crc = \"{name}\""), name.to_owned(), 3.0),
            None => (typed(*init, *xorout), format!("CRC-{width} with the polynomial 0x{poly:0digits$X}"), 1.0),
        },
        None => {
            let what = format!("CRC-{width} with the polynomial 0x{poly:0digits$X} (init and xorout are not unique for equal lengths)");
            (typed(0, constant), what, 0.2)
        }
    }
}
