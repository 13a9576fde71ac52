//! Syntax tree to resolved part: binds names, checks layouts, types formulas, puts readings in order.

use std::collections::HashMap;

use super::outcome;
use super::part::{Code, Condition, Example, Expected, Frame, I2c, Input, Part, Reading, Status};
use crate::bits::check::{Check, CheckKind, Crc, CrcModel, SumFinish};
use crate::bits::gather::Gather;
use crate::bits::hex::parse_hex;
use crate::bits::layout::{Slice, parse_layout, parse_slices};
use crate::formula::analyse::{Scope, analyse};
use crate::formula::parse::parse;
use crate::formula::types::Ty;
use crate::sheet::reader::At;
use crate::sheet::text::{Source, Span, Text};
use crate::sheet::tree;
use crate::sheet::{Diagnostic, Severity, SheetError};

/// Reads and resolves a sheet.
pub(crate) fn resolve(source: Source) -> Result<Part, SheetError> {
    let (tree, diagnostics) = crate::sheet::parse::parse(source.text());
    let mut resolver = Resolver { diagnostics, part: empty(source.clone()) };
    // A tree with holes would only draw complaints about what is missing because of them.
    let leaves_no_hole = |d: &Diagnostic| d.severity != Severity::Error || d.name == "unknown-key";
    if resolver.diagnostics.iter().all(leaves_no_hole) {
        resolver.run(&tree);
    }
    let Resolver { mut diagnostics, mut part, .. } = resolver;
    diagnostics.sort_by_key(|d| (d.span.start, d.span.end));
    if diagnostics.iter().any(|d| d.severity == Severity::Error) {
        return Err(SheetError::new(source, diagnostics));
    }
    part.warnings = diagnostics;
    Ok(part)
}

fn empty(source: Source) -> Part {
    Part {
        source,
        name: String::new(),
        title: None,
        datasheet: None,
        i2c: None,
        frames: Vec::new(),
        codes: Vec::new(),
        readings: Vec::new(),
        order: Vec::new(),
        examples: Vec::new(),
        warnings: Vec::new(),
    }
}

struct Resolver {
    diagnostics: Vec<Diagnostic>,
    part: Part,
}

impl Resolver {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    /// The value, or `None` with its diagnostic reported.
    fn take<T>(&mut self, result: Result<T, Diagnostic>) -> Option<T> {
        result.map_err(|diagnostic| self.report(diagnostic)).ok()
    }

    fn run(&mut self, tree: &tree::Sheet) {
        self.part.name = tree.part.value.clone();
        self.part.title = tree.title.as_ref().map(|text| text.value.clone());
        self.part.datasheet = tree.source.as_ref().map(|text| text.value.clone());
        if let Some(i2c) = &tree.i2c {
            self.i2c(i2c);
        }
        for (index, (name, frame)) in tree.frames.iter().enumerate() {
            self.frame(index, name, frame);
        }
        if !self.has_errors() {
            self.readings(&tree.readings);
        }
        if !self.has_errors() {
            for (index, (_, frame)) in tree.frames.iter().enumerate() {
                let status = self.conditions(&frame.status, Some(index), None);
                if let Some(frame) = self.part.frames.get_mut(index) {
                    frame.status = status;
                }
            }
        }
        if !self.has_errors() {
            for index in 0..self.part.readings.len() {
                let decimals = outcome::decimals(&self.part, index);
                if let Some(reading) = self.part.readings.get_mut(index) {
                    reading.decimals = decimals;
                }
            }
            for example in &tree.examples {
                self.example(example);
            }
        }
    }

    fn has_errors(&self) -> bool {
        self.diagnostics.iter().any(|d| d.severity == Severity::Error && d.name != "unknown-key")
    }

    fn i2c(&mut self, i2c: &tree::I2c) {
        let address = self.address(i2c.address);
        let mut straps = Vec::new();
        for (pin, levels) in &i2c.straps {
            for (level, address) in levels {
                if let Some(address) = self.address(*address) {
                    straps.push((pin.value.clone(), level.value.clone(), address));
                }
            }
        }
        if let Some(address) = address {
            self.part.i2c = Some(I2c { address, straps });
        }
    }

    /// A 7-bit address; what lies above is the 8-bit form, or no address at all.
    fn address(&mut self, typed: At<i128>) -> Option<u8> {
        match typed.value {
            0x08..=0x77 => return u8::try_from(typed.value).ok(),
            0x00..=0x7F => self.report(
                Diagnostic::warning(
                    "reserved-address",
                    typed.span,
                    format!("{:#04X} is among the addresses that the I2C specification reserves", typed.value),
                )
                .label("parts have 0x08 to 0x77"),
            ),
            0x80..=0xFF => {
                let half = typed.value >> 1;
                self.report(
                    Diagnostic::error("eight-bit-address", typed.span, format!("{:#04X} is no 7-bit address", typed.value))
                        .label("an address has 7 bits, 0x08 to 0x77")
                        .help(format!("if the datasheet prints the 8-bit form, with the read/write bit, write {half:#04X}")),
                );
            }
            _ => self.report(
                Diagnostic::error("bad-address", typed.span, format!("{} is no I2C address", typed.value))
                    .label("an address has 7 bits, 0x08 to 0x77"),
            ),
        }
        u8::try_from(typed.value).ok().filter(|address| *address < 0x80)
    }

    fn frame(&mut self, index: usize, name: &At<String>, frame: &tree::Frame) {
        let length = usize::try_from(frame.read.value).unwrap_or(1);
        let mut codes = Vec::new();
        for (code_name, text) in &frame.codes {
            let Some(layout) = self.take(parse_layout(text, length)) else { continue };
            if let Some(earlier) = self.part.codes.iter().find(|code| code.name == code_name.value) {
                let problem = Diagnostic::error("name-taken", code_name.span, format!("there are two codes `{}`", code_name.value))
                    .label("defined again here")
                    .also(earlier.span, "first defined here")
                    .help("codes of different frames need different names: formulas know them by name alone");
                self.report(problem);
                continue;
            }
            let (low, high) = layout.form.bounds(layout.width());
            codes.push(self.part.codes.len());
            self.part.codes.push(Code {
                name: code_name.value.clone(),
                span: code_name.span,
                frame: index,
                gather: Gather::new(&layout),
                layout,
                ty: Ty::holding(low, high),
            });
        }
        let checks = frame.checks.iter().filter_map(|check| self.check(check, length)).collect();
        self.part.frames.push(Frame {
            name: name.value.clone(),
            span: name.span,
            length,
            checks,
            codes,
            status: Vec::new(),
            readings: Vec::new(),
        });
    }

    fn check(&mut self, check: &tree::Check, length: usize) -> Option<Check> {
        let over = self.take(parse_slices(&check.over, length));
        let place = self.take(parse_slices(&check.place, length));
        let (kind, width) = match check.method.as_ref()? {
            tree::Method::Crc { width, poly, init, refin, refout, xorout } => {
                let bits = u32::try_from(width.value).unwrap_or(8);
                for parameter in [Some(*poly), *init, *xorout].into_iter().flatten() {
                    if parameter.value >> bits != 0 {
                        self.report(
                            Diagnostic::error("too-wide", parameter.span, format!("{:#X} does not fit in {bits} bits", parameter.value))
                                .label(format!("at most {:#X}", (1i128 << bits) - 1))
                                .also(width.span, "the width")
                                .help("leave the polynomial's highest term out: x^8 + x^2 + 1 is 0x05"),
                        );
                    }
                }
                let value = |at: &Option<At<i128>>| at.map_or(0, |at| at.value as u64);
                let model = CrcModel {
                    width: bits,
                    poly: poly.value as u64,
                    init: value(init),
                    refin: *refin,
                    refout: *refout,
                    xorout: value(xorout),
                };
                (CheckKind::Crc(Crc::new(model)), bits)
            }
            tree::Method::Sum { width, init, then } => {
                let bits = u32::try_from(width.value).unwrap_or(8);
                let finish = match *then {
                    "invert" => SumFinish::Invert,
                    "negate" => SumFinish::Negate,
                    _ => SumFinish::Plain,
                };
                (CheckKind::Sum { width: bits, init: init.map_or(0, |at| at.value as u64), finish }, bits)
            }
        };
        let (over, place) = over.zip(place)?;
        let found: u32 = place.iter().map(|slice| slice.width()).sum();
        if found != width {
            self.report(
                Diagnostic::error("bad-width", check.place.span, format!("the check value has {width} bits, but its place has {found}"))
                    .label(format!("{found} bits"))
                    .also(check.span, format!("{width} bits")),
            );
            return None;
        }
        let overlaps = |a: &Slice| place.iter().any(|b| a.byte == b.byte && a.low <= b.high && b.low <= a.high);
        if over.iter().any(overlaps) {
            self.report(
                Diagnostic::error("check-covers-itself", check.over.span, "a check cannot cover the place where its own value stands")
                    .label("this covers it")
                    .also(check.place.span, "the check value stands here"),
            );
            return None;
        }
        Some(Check::new(kind, over, place))
    }

    fn readings(&mut self, readings: &[tree::Named<tree::Reading>]) {
        let names: HashMap<&str, usize> = readings.iter().enumerate().map(|(index, (name, _))| (name.value.as_str(), index)).collect();
        let Some(order) = self.order(readings, &names) else { return };
        let mut resolved: Vec<Option<Reading>> = vec![None; readings.len()];
        for index in order.iter().copied() {
            let Some((name, reading)) = readings.get(index) else { continue };
            let types: HashMap<&str, (usize, Ty)> = readings
                .iter()
                .enumerate()
                .filter_map(|(at, (name, _))| Some((name.value.as_str(), (at, resolved.get(at)?.as_ref()?.formula.ty))))
                .collect();
            let mut warnings = Vec::new();
            let formula = analyse(&reading.formula, &Names { codes: &self.part.codes, readings: &types, only_frame: None }, &mut warnings);
            self.diagnostics.extend(warnings);
            let Some(formula) = self.take(formula) else { continue };
            let mut codes = Vec::new();
            for input in &formula.inputs {
                let used: &[usize] = match input {
                    Input::Code(code) => &[*code],
                    Input::Reading(other) => resolved.get(*other).and_then(Option::as_ref).map_or(&[], |other| other.codes.as_slice()),
                };
                for code in used.iter().filter(|code| !codes.contains(*code)).copied().collect::<Vec<_>>() {
                    codes.push(code);
                }
            }
            let frame = self.frame_of(&codes, &reading.formula);
            let status = self.conditions(&reading.status, frame, Some(&types));
            let done = Reading {
                name: name.value.clone(),
                span: name.span,
                unit: reading.unit.value.clone(),
                range: reading.range.map(|range| range.value),
                formula,
                frame: frame.unwrap_or(0),
                codes,
                status,
                decimals: 3,
            };
            if let Some(place) = resolved.get_mut(index) {
                *place = Some(done);
            }
        }
        let Some(resolved) = resolved.into_iter().collect::<Option<Vec<Reading>>>() else { return };
        for (frame_index, frame) in self.part.frames.iter_mut().enumerate() {
            frame.readings =
                (0..resolved.len()).filter(|at| resolved.get(*at).is_some_and(|reading| reading.frame == frame_index)).collect();
        }
        self.part.readings = resolved;
        self.part.order = order;
    }

    /// The one frame that a reading's codes come from.
    fn frame_of(&mut self, codes: &[usize], formula: &Text) -> Option<usize> {
        let mut frames: Vec<usize> = codes.iter().filter_map(|code| self.part.codes.get(*code)).map(|code| code.frame).collect();
        frames.dedup();
        match frames.as_slice() {
            [frame] => Some(*frame),
            [] => {
                let problem = Diagnostic::error("no-code", formula.span, "this formula uses no code").label("the same value always").known(
                    "",
                    "codes",
                    self.part.codes.iter().map(|code| code.name.as_str()).collect::<Vec<_>>(),
                );
                self.report(problem);
                None
            }
            _ => {
                let names: Vec<&str> =
                    frames.iter().filter_map(|frame| self.part.frames.get(*frame)).map(|frame| frame.name.as_str()).collect();
                let problem = Diagnostic::error(
                    "several-frames",
                    formula.span,
                    format!("this formula uses codes of several frames: {}", names.join(", ")),
                )
                .label("a reading comes out of one frame");
                self.report(problem);
                None
            }
        }
    }

    /// An order in which every reading comes after those it uses; a cycle is an error.
    fn order(&mut self, readings: &[tree::Named<tree::Reading>], names: &HashMap<&str, usize>) -> Option<Vec<usize>> {
        let mut needs: Vec<Vec<(usize, Span)>> = Vec::new();
        for (_, reading) in readings {
            let body = self.take(parse(&reading.formula))?;
            let is_code = |name: &str| self.part.codes.iter().any(|code| code.name == name);
            let used = body.free_names().into_iter().filter(|(name, _)| !is_code(name));
            needs.push(used.filter_map(|(name, span)| Some((*names.get(name.as_str())?, span))).collect());
        }
        let mut order: Vec<usize> = Vec::new();
        while order.len() < readings.len() {
            let ready =
                |index: &usize| !order.contains(index) && needs.get(*index).is_some_and(|n| n.iter().all(|(need, _)| order.contains(need)));
            match (0..readings.len()).find(ready) {
                Some(index) => order.push(index),
                None => {
                    let stuck = (0..readings.len()).find(|index| !order.contains(index))?;
                    let open = |from: usize| needs.get(from).and_then(|n| n.iter().find(|(need, _)| !order.contains(need))).copied();
                    // Following unmet needs leads into the cycle; after as many steps as there are readings we are in it.
                    let at = (0..readings.len()).try_fold(stuck, |at, _| open(at).map(|(next, _)| next))?;
                    let (next, span) = open(at)?;
                    let name = |index: usize| readings.get(index).map_or("", |(name, _)| name.value.as_str());
                    let problem = Diagnostic::error("cycle", span, format!("`{}` and `{}` need one another", name(at), name(next)))
                        .label("a reading cannot depend on itself");
                    self.report(problem);
                    return None;
                }
            }
        }
        Some(order)
    }

    fn conditions(&mut self, list: &[tree::Status], frame: Option<usize>, readings: Option<&HashMap<&str, (usize, Ty)>>) -> Vec<Condition> {
        let none = HashMap::new();
        let mut found = Vec::new();
        for status in list {
            let mut warnings = Vec::new();
            let names = Names { codes: &self.part.codes, readings: readings.unwrap_or(&none), only_frame: frame };
            let formula = analyse(&status.when, &names, &mut warnings);
            self.diagnostics.extend(warnings);
            if let (Some(formula), Some(meant)) = (self.take(formula), Status::of_word(status.is.value)) {
                found.push(Condition { formula, status: meant, means: status.means.as_ref().map(|text| text.value.clone()) });
            }
        }
        found
    }

    fn example(&mut self, example: &tree::Example) {
        let mut frames = Vec::new();
        for (name, text) in &example.frames {
            let Some(index) = self.part.frame_index(&name.value) else { continue };
            match parse_hex(&text.value) {
                Ok(bytes) => frames.push((index, bytes)),
                Err(error) => {
                    let span = text.locate(error.at..error.at + error.piece.len().max(1));
                    self.report(Diagnostic::error("bad-hex", span, error.to_string()).label("not hex"));
                }
            }
        }
        let mut gives = Vec::new();
        for (name, text) in &example.gives {
            let Some(index) = self.part.readings.iter().position(|reading| reading.name == name.value) else {
                let problem = Diagnostic::error("unknown-name", name.span, format!("there is no reading `{}`", name.value))
                    .label("not a reading of this sheet")
                    .known(&name.value, "readings", self.part.readings.iter().map(|r| r.name.as_str()).collect::<Vec<_>>());
                self.report(problem);
                continue;
            };
            let unit = self.part.readings.get(index).map_or("", |reading| reading.unit.as_str());
            let expected = expected(text, unit);
            if let Some(expected) = self.take(expected) {
                gives.push((index, expected, text.span));
            }
        }
        let source = example.source.as_ref().map(|text| text.value.clone());
        self.part.examples.push(Example { span: example.span, source, frames, gives });
    }
}

/// `"12.50 °C"`, or a status such as `"not ready"`.
fn expected(text: &Text, unit: &str) -> Result<Expected, Diagnostic> {
    let trimmed = text.value.trim();
    if let Some(status) = Status::of_word(trimmed) {
        return Ok(Expected::Status(status));
    }
    let end = trimmed.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | 'e' | 'E'))).unwrap_or(trimmed.len());
    let (number, rest) = trimmed.split_at(end);
    let Ok(value) = number.parse::<f64>() else {
        let words: Vec<&str> = Status::ALL.into_iter().map(Status::word).collect();
        return Err(Diagnostic::error("bad-value", text.span, format!("`{trimmed}` is neither a value nor a status"))
            .label("expected a number with its unit")
            .help(format!("such as \"12.50 {unit}\"; or one of {}", words.join(", "))));
    };
    if rest.trim() != unit {
        return Err(Diagnostic::error("unit-differs", text.span, format!("expected the unit `{unit}`, found `{}`", rest.trim()))
            .label("the reading has another unit")
            .help(format!("write \"{number} {unit}\"")));
    }
    let decimals = number.split(['e', 'E']).next().and_then(|digits| digits.split_once('.')).map_or(0, |(_, fraction)| fraction.len());
    let exponent: i32 = number.split(['e', 'E']).nth(1).and_then(|e| e.parse().ok()).unwrap_or(0);
    // Half a unit of the last digit, and a little for the rounding of the printed number itself.
    let tolerance = 0.500_001 * 10f64.powi(exponent - i32::try_from(decimals).unwrap_or(0));
    Ok(Expected::Value { value, tolerance, text: trimmed.to_owned() })
}

/// What a formula can name: codes first, then readings.
struct Names<'a> {
    codes: &'a [Code],
    readings: &'a HashMap<&'a str, (usize, Ty)>,
    /// Codes of other frames are refused.
    only_frame: Option<usize>,
}

impl Scope for Names<'_> {
    fn resolve(&self, name: &str, member: Option<&str>) -> Result<Option<(Input, Ty)>, String> {
        if member.is_some() {
            return Ok(None);
        }
        if let Some(index) = self.codes.iter().position(|code| code.name == name) {
            let code = self.codes.get(index);
            if let (Some(code), Some(frame)) = (code, self.only_frame)
                && code.frame != frame
            {
                return Err("this code belongs to another frame".into());
            }
            return Ok(code.map(|code| (Input::Code(index), code.ty)));
        }
        Ok(self.readings.get(name).map(|(index, ty)| (Input::Reading(*index), *ty)))
    }

    fn names(&self) -> Vec<String> {
        self.codes.iter().map(|code| code.name.clone()).chain(self.readings.keys().map(|name| (*name).to_owned())).collect()
    }
}
