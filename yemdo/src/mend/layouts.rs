//! Candidate changes of layouts: order, number form, position and width.

use super::behind::{Behind, LayoutSite, places_in, registers_of};
use super::change::{Change, Edit, Mistake};
use crate::bits::form::Form;
use crate::bits::layout::{Layout, Slice};
use crate::ground::text::Span;
use crate::ground::words::{counted, toml_text};
use crate::model::frame::Code;
use crate::model::ids::FrameId;
use crate::model::part::Part;
use crate::model::registers::Register;

/// Bit of a frame: byte and bit number.
type Bit = (usize, u8);

/// Shares of distances from 1 to 8 bits.
const BY_BITS: [f64; 8] = [0.06, 0.10, 0.05, 0.14, 0.04, 0.06, 0.03, 0.02];

/// Weight factor for a layout that overlaps another code.
const TAKEN: f64 = 0.15;

/// Candidate layouts.
pub(super) fn changes(part: &Part, behind: &Behind) -> Vec<Change> {
    let mut found = Vec::new();
    for site in &behind.layouts {
        if let Some(typed) = Typed::of(part, site) {
            typed.orders(&mut found);
            typed.forms(&mut found);
            typed.fixed_points(&mut found);
            typed.windows(&mut found);
        }
    }
    register_orders(part, behind, &mut found);
    exchanged(part, behind, &mut found);
    numbering(part, behind, &mut found);
    found
}

/// Layout with the context for its replacement.
pub(super) struct Typed<'p> {
    pub(super) part: &'p Part,
    pub(super) site: &'p LayoutSite,
    name: &'p str,
    frame: FrameId,
    pub(super) layout: &'p Layout,
    length: usize,
    /// Array notation before and after the slices: `3 x` and `every 4`.
    array: (String, String),
    words: bool,
    /// The layout is typed with names of registers.
    registers: bool,
}

impl<'p> Typed<'p> {
    fn of(part: &'p Part, site: &'p LayoutSite) -> Option<Self> {
        let code = part.codes.get(site.code)?;
        let typed: Vec<&str> = site.text.value.split_whitespace().collect();
        let is_array = typed.get(1) == Some(&"x");
        // The typed layout is that of the first element.
        let first = part.codes.iter().find(|other| is_array && other.frame == code.frame && other.span == code.span).unwrap_or(code);
        let every = typed.iter().position(|word| *word == "every").map_or(String::new(), |at| format!(" {}", typed[at..].join(" ")));
        let array = if is_array { (format!("{} x ", typed[0]), every) } else { (String::new(), String::new()) };
        let words = typed.iter().any(|word| word.strip_prefix('w').is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit())));
        let registers = typed.iter().any(|word| part.register(word.split('[').next().unwrap_or(word)).is_ok());
        let name = if is_array { code.name.rsplit_once('_').map_or(code.name.as_str(), |(name, _)| name) } else { code.name.as_str() };
        let length = part.frames.get(code.frame)?.length;
        (first.layout.form != Form::Text).then_some(Typed {
            part,
            site,
            name,
            frame: code.frame,
            layout: &first.layout,
            length,
            array,
            words,
            registers,
        })
    }

    pub(super) fn change(&self, mistake: Mistake, share: f64, what: String, form: Form, bits: &[Bit]) -> Option<Change> {
        if bits.iter().any(|(byte, _)| *byte >= self.length) {
            return None;
        }
        let slices = slices(bits);
        let share = if self.takes_others(&slices) { share * TAKEN } else { share };
        let place = match self.site.field {
            Some(_) => self.in_registers(&slices)?,
            None if self.registers => self.in_registers(&slices)?,
            None if self.words => in_words(&slices),
            None => Layout { form, slices }.notation(),
        };
        let form = if form == Form::Unsigned { String::new() } else { format!("{} ", form.name()) };
        let text = format!("{}{form}{place}{}", self.array.0, self.array.1);
        Some(Change::edit(mistake, share, format!("{}: {what}", self.name), self.site.text.span, toml_text(&text)))
    }

    /// True if slices overlap a code that the present layout does not overlap.
    fn takes_others(&self, slices: &[Slice]) -> bool {
        let meets = |list: &[Slice], other: &Layout| list.iter().any(|slice| other.slices.iter().any(|taken| taken.overlaps(*slice)));
        let others = self.part.codes.iter().filter(|other| other.frame == self.frame && other.layout != *self.layout);
        others.map(|other| &other.layout).any(|other| meets(slices, other) && !meets(&self.layout.slices, other))
    }

    /// Bytes and words in other orders.
    fn orders(&self, found: &mut Vec<Change>) {
        let form = self.layout.form;
        let mut bytes: Vec<usize> = self.layout.slices.iter().map(|slice| slice.byte).collect();
        bytes.dedup();
        let mut sorted = bytes.clone();
        sorted.sort_unstable();
        sorted.dedup();
        if bytes.len() < 2 || sorted.len() != bytes.len() {
            return;
        }
        let turned = |order: &[usize]| -> Vec<Bit> {
            let other = |byte: usize| bytes.iter().position(|known| *known == byte).and_then(|at| order.get(at)).copied().unwrap_or(byte);
            bits(self.layout).into_iter().map(|(byte, bit)| (other(byte), bit)).collect()
        };
        let back: Vec<usize> = bytes.iter().rev().copied().collect();
        let first = if bytes.first() < bytes.last() { "low byte first" } else { "high byte first" };
        // In a single register the key `order` of the register is likelier.
        let share = if self.is_in_one_register() { 0.5 } else { 1.0 };
        found.extend(self.change(Mistake::ByteOrder, share, first.to_owned(), form, &turned(&back)));
        if bytes.len() >= 4 && bytes.len().is_multiple_of(2) {
            let words: Vec<&[usize]> = bytes.chunks(2).collect();
            let swapped: Vec<usize> = words.iter().rev().flat_map(|word| word.iter().copied()).collect();
            found.extend(self.change(Mistake::WordOrder, 0.8, "words in reverse order".to_owned(), form, &turned(&swapped)));
            let within: Vec<usize> = words.iter().flat_map(|word| word.iter().rev().copied()).collect();
            found.extend(self.change(Mistake::WordOrder, 0.4, "bytes of each word in reverse order".to_owned(), form, &turned(&within)));
        }
    }

    /// True if all bytes belong to the same register.
    fn is_in_one_register(&self) -> bool {
        self.part.codes.get(self.site.code).is_some_and(|code| registers_of(self.part, code).len() == 1)
    }

    /// Shifted and resized layouts.
    fn windows(&self, found: &mut Vec<Change>) {
        let (form, width) = (self.layout.form, i64::from(self.layout.width()));
        let Some(stream) = Stream::of(self.layout) else {
            for by in [-2i64, -1, 1, 2] {
                let moved = later(&bits(self.layout), by);
                let what = format!("{} {}", counted(by.unsigned_abs() as usize, "byte"), if by > 0 { "later" } else { "earlier" });
                found.extend(moved.and_then(|bits| self.change(Mistake::Neighbour, 0.3 / by.abs() as f64, what, form, &bits)));
            }
            return;
        };
        let mut window = |from: i64, to: i64, mistake: Mistake, share: f64, what: String| {
            let bits: Option<Vec<Bit>> = (from..to).map(|at| stream.at(at)).collect();
            found.extend(bits.and_then(|bits| self.change(mistake, share, what, form, &bits)));
        };
        let (start, end) = (stream.start, stream.start + width);
        for (bytes, share) in [(1, 0.3), (2, 0.2)] {
            let what = |way: &str| format!("{} {way}", counted(bytes as usize, "byte"));
            window(start + 8 * bytes, end + 8 * bytes, Mistake::Neighbour, share, what("later"));
            window(start - 8 * bytes, end - 8 * bytes, Mistake::Neighbour, share, what("earlier"));
        }
        for (by, share) in (1i64..).zip(BY_BITS).take(7) {
            let bits = counted(by as usize, "bit");
            window(start - by, end - by, Mistake::Justified, share, format!("bits shifted left by {bits}"));
            window(start + by, end + by, Mistake::Justified, share, format!("bits shifted right by {bits}"));
        }
        for (by, share) in (1i64..).zip(BY_BITS) {
            let bits = counted(by as usize, "bit");
            if width - by >= 4 {
                window(start + by, end, Mistake::Width, share * 0.7, format!("without the upper {bits}"));
                window(start, end - by, Mistake::Width, share * 0.7, format!("without the lower {bits}"));
            }
            window(start - by, end, Mistake::Width, share * 0.4, format!("with {bits} more at the top"));
            window(start, end + by, Mistake::Width, share * 0.4, format!("with {bits} more at the bottom"));
        }
    }

    /// Formats slices as bits of the frame's registers.
    fn in_registers(&self, slices: &[Slice]) -> Option<String> {
        let places = places_in(self.part, self.frame);
        // Bits without a name belong to the field's own register.
        let bare = self.site.text.value.split_whitespace().any(|word| word.starts_with('['));
        let home =
            self.part.registers.iter().find(|register| bare && self.site.field.is_some_and(|field| register.fields.contains(&field)));
        let mut runs: Vec<(&Register, usize, usize)> = Vec::new();
        for slice in slices {
            let (register, start) = places.iter().find(|(register, at)| (*at..at + register.bytes).contains(&slice.byte))?;
            let byte = slice.byte - start;
            let base = 8 * if register.low_first { byte } else { register.bytes - 1 - byte };
            let (high, low) = (base + usize::from(slice.high), base + usize::from(slice.low));
            match runs.last_mut() {
                Some((last, _, below)) if last.name == register.name && *below == high + 1 => *below = low,
                _ => runs.push((register, high, low)),
            }
        }
        let word = |(register, high, low): &(&Register, usize, usize)| {
            let at_home = home.is_some_and(|home| home.name == register.name);
            let name = if at_home { "" } else { register.name.as_str() };
            match (high, low) {
                (high, 0) if !at_home && *high + 1 == 8 * register.bytes => name.to_owned(),
                (high, low) if high == low => format!("{name}[{high}]"),
                (high, low) => format!("{name}[{high}:{low}]"),
            }
        };
        Some(runs.iter().map(word).collect::<Vec<_>>().join(" "))
    }
}

/// Bits of a frame in the order of a code, extended on both sides.
struct Stream {
    first: i64,
    step: i64,
    /// First bit of the code.
    start: i64,
}

impl Stream {
    /// `None` if the bits of the code are not contiguous.
    fn of(layout: &Layout) -> Option<Stream> {
        let bits = bits(layout);
        let (first, bit) = bits.first().copied()?;
        let last = bits.last()?.0;
        let step = if last < first { -1 } else { 1 };
        let stream = Stream { first: i64::try_from(first).ok()?, step, start: 7 - i64::from(bit) };
        let follows = bits.iter().zip(stream.start..).all(|(bit, at)| stream.at(at) == Some(*bit));
        follows.then_some(stream)
    }

    fn at(&self, place: i64) -> Option<Bit> {
        let byte = self.first + self.step * place.div_euclid(8);
        Some((usize::try_from(byte).ok()?, 7 - place.rem_euclid(8) as u8))
    }
}

/// Bits of a layout, most significant first.
pub(super) fn bits(layout: &Layout) -> Vec<Bit> {
    layout.slices.iter().flat_map(|slice| (slice.low..=slice.high).rev().map(|bit| (slice.byte, bit))).collect()
}

/// Bits some bytes later; `None` before the first byte.
fn later(bits: &[Bit], by: i64) -> Option<Vec<Bit>> {
    bits.iter().map(|(byte, bit)| Some((usize::try_from(i64::try_from(*byte).ok()? + by).ok()?, *bit))).collect()
}

/// Joins bits to slices.
pub(super) fn slices(bits: &[Bit]) -> Vec<Slice> {
    let mut found: Vec<Slice> = Vec::new();
    for (byte, bit) in bits {
        match found.last_mut() {
            Some(last) if last.byte == *byte && last.low == bit + 1 => last.low = *bit,
            _ => found.push(Slice { byte: *byte, high: *bit, low: *bit }),
        }
    }
    found
}

/// Formats slices, with words where possible.
fn in_words(slices: &[Slice]) -> String {
    let (mut words, mut at) = (Vec::new(), 0);
    while let Some(slice) = slices.get(at) {
        let next = slices.get(at + 1).filter(|next| next.width() == 8 && slice.width() == 8);
        if next.is_some_and(|next| next.byte == slice.byte + 1 && slice.byte.is_multiple_of(2)) {
            words.push(format!("w{}", slice.byte / 2));
            at += 2;
        } else {
            words.push(Layout { form: Form::Unsigned, slices: vec![*slice] }.notation());
            at += 1;
        }
    }
    words.join(" ")
}

/// The other byte order of whole registers.
fn register_orders(part: &Part, behind: &Behind, found: &mut Vec<Change>) {
    for site in &behind.orders {
        let (typed, what) = if site.low_first { ("high first", "high byte first") } else { ("low first", "low byte first") };
        let typed = toml_text(typed);
        let edit = match site.order {
            Some(span) => Edit { span, text: typed },
            None => {
                // Under a heading the key has a line of its own, elsewhere it follows the address.
                let start = part.source.text().get(..site.address.start).and_then(|front| front.rfind('\n')).map_or(0, |at| at + 1);
                let front = part.source.slice(Span::new(start, site.address.start));
                let indent = front.len() - front.trim_start().len();
                let own_line = front.trim_start().strip_prefix("at").is_some_and(|rest| rest.trim() == "=");
                let (at, text) = match own_line {
                    true => (start, format!("{}order = {typed}\n", front.get(..indent).unwrap_or(""))),
                    false => (site.address.end, format!(", order = {typed}")),
                };
                Edit { span: Span::new(at, at), text }
            }
        };
        found.push(Change::edits(Mistake::ByteOrder, 1.0, format!("{}: {what}", site.register), vec![edit]));
    }
}

/// Exchanges the layouts of two codes.
fn exchanged(part: &Part, behind: &Behind, found: &mut Vec<Change>) {
    let mut seen = Vec::new();
    for one in &behind.layouts {
        let Some(code) = part.codes.get(one.code) else { continue };
        let others = behind.layouts.iter().chain(&behind.beside).filter(|other| {
            let same = part.codes.get(other.code).is_some_and(|other| other.frame == code.frame);
            same && other.field.is_none() && one.field.is_none() && other.text.span != one.text.span
        });
        let others: Vec<&LayoutSite> = others.collect();
        for other in &others {
            let pair = (one.text.span.min(other.text.span), one.text.span.max(other.text.span));
            let Some(name) = part.codes.get(other.code).map(|code| &code.name).filter(|_| !seen.contains(&pair)) else { continue };
            seen.push(pair);
            let edits = vec![
                Edit { span: one.text.span, text: toml_text(&other.text.value) },
                Edit { span: other.text.span, text: toml_text(&one.text.value) },
            ];
            let what = format!("{} and {name} exchanged", code.name);
            let share = likeness(code, part.codes.get(other.code)) / others.len() as f64;
            found.push(Change::edits(Mistake::Exchanged, share, what, edits));
        }
    }
}

/// Share of an exchange of two codes: flags are rarely taken for measured values.
pub(super) fn likeness(one: &Code, other: Option<&Code>) -> f64 {
    let apart = other.map_or(0, |other| one.layout.width().abs_diff(other.layout.width()));
    if apart > 8 { 0.05 } else { 1.0 }
}

/// Moves all codes of a frame by one byte: numbered from 1, or an extra byte at the start.
fn numbering(part: &Part, behind: &Behind, found: &mut Vec<Change>) {
    let frame_of = |site: &LayoutSite| part.codes.get(site.code).map(|code| code.frame);
    let mut frames: Vec<FrameId> = behind.layouts.iter().filter(|site| site.field.is_none()).filter_map(frame_of).collect();
    frames.sort_unstable();
    frames.dedup();
    for frame in frames {
        let sites: Vec<&LayoutSite> = behind.layouts.iter().chain(&behind.beside).filter(|site| frame_of(site) == Some(frame)).collect();
        if sites.len() < 2 || sites.iter().any(|site| site.field.is_some()) {
            continue;
        }
        for (by, what) in [(-1i64, "from 0, not from 1"), (1, "from 1, not from 0")] {
            let edits: Option<Vec<Edit>> = sites.iter().map(|site| moved(part, site, by)).collect();
            let what = format!("bytes of {} numbered {what}", part.frames[frame].name);
            let numbered = |edits| Change::edits(Mistake::Numbering, 0.5, what, edits);
            found.extend(edits.map(numbered));
        }
    }
}

/// Moves a layout by some bytes.
fn moved(part: &Part, site: &LayoutSite, by: i64) -> Option<Edit> {
    let typed = Typed::of(part, site)?;
    let bits = later(&bits(typed.layout), by)?;
    typed.change(Mistake::Numbering, 1.0, String::new(), typed.layout.form, &bits)?.edits.pop()
}
