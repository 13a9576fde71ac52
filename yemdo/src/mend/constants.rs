//! Candidate changes of constants: usual mistakes, and values that are solved for.

use super::behind::{Behind, CellSite, PointSite, expressions};
use super::change::{Change, Edit, Mistake};
use super::solve::Unknown;
use super::trial::{Bench, UNKNOWN};
use crate::formula::typed::{Expr, ExprKind};
use crate::ground::digits::rounded;
use crate::ground::text::Span;
use crate::model::ids::ReadingId;
use crate::model::part::Part;

/// Maximum number of constants from other formulas to try.
const MOST_OTHERS: usize = 40;
/// Weight factor for each significant digit less: datasheets print round numbers.
const ROUNDER: f64 = 1.7;

/// Weight factor for a point of a curve that is not between its neighbours, or off by a factor of two.
const UNLIKELY_POINT: f64 = 0.1;
/// Number of points of a curve that are tried together.
const POINTS_AT_ONCE: usize = 16;

/// Number in a formula or a table.
#[derive(Clone, Debug)]
struct Literal {
    span: Span,
    /// Digits without suffix.
    text: String,
    suffix: String,
    value: f64,
    /// True in real arithmetic: a real in its place changes no type.
    real: bool,
}

/// Alternative to a number.
struct Variant {
    mistake: Mistake,
    share: f64,
    text: String,
    value: f64,
    what: &'static str,
}

/// Candidate constants. For constants in real arithmetic only values that improve the fit.
pub(super) fn changes(bench: &Bench<'_>, behind: &Behind) -> Vec<Change> {
    let mut found = Vec::new();
    let part = bench.part;
    let all: Vec<Literal> = part.readings.ids().flat_map(|reading| literals(part, reading)).collect();
    let mut seen: Vec<Span> = Vec::new();
    for reading in &behind.readings {
        for literal in literals(part, *reading) {
            if seen.contains(&literal.span) {
                continue;
            }
            seen.push(literal.span);
            let others = all.iter().filter(|other| other.span != literal.span && other.value != literal.value);
            let variants = literal.variants(&others.map(|other| (other.text.as_str(), other.value)).collect::<Vec<_>>(), 0.4);
            let name = &part.readings[*reading].name;
            let edits = vec![Edit { span: literal.span, text: UNKNOWN.into() }];
            let unknown = if literal.real { Unknown::new(bench, edits, literal.value) } else { None };
            match unknown {
                Some(mut unknown) => {
                    let better = variants.into_iter().filter(|variant| unknown.improves(variant.value));
                    found.extend(better.map(|variant| literal.change(name, variant)));
                    found.extend(unknown.solve(literal.value).map(|solved| literal.solved(name, &solved)));
                }
                None => found.extend(variants.into_iter().map(|variant| literal.change(name, variant))),
            }
        }
    }
    for (reading, _) in &behind.units {
        around(bench, *reading, &mut found);
    }
    for cell in cells_in_force(bench, behind) {
        let rows =
            behind.cells.iter().filter(|other| other.field == cell.field && other.column == cell.column && other.number != cell.number);
        let texts: Vec<(String, f64)> = rows.map(|other| (part.source.slice(other.span).to_owned(), other.number)).collect();
        let Some(literal) = Literal::of(part.source.slice(cell.span), cell.span, true) else { continue };
        let variants = literal.variants(&texts.iter().map(|(text, number)| (text.as_str(), *number)).collect::<Vec<_>>(), 1.0);
        let name = format!("{}.{}", part.fields[cell.field].name, cell.column);
        in_table(bench, &literal, &name, variants, &mut found);
    }
    for (site, beside) in points_in_force(bench, behind) {
        let Some(literal) = Literal::of(part.source.slice(site.span), site.span, true) else { continue };
        let texts: Vec<(&str, f64)> = beside.iter().map(|other| (part.source.slice(other.span), other.number)).collect();
        let name = format!("{}, {}", site.curve, if site.is_argument { "x" } else { "y" });
        let from = found.len();
        in_table(bench, &literal, &name, literal.variants(&texts, 0.3), &mut found);
        for change in found.iter_mut().skip(from) {
            let breaks = !site.is_argument && breaks_order(change, literal.value, &beside);
            // Points are read off a figure or typed from a list: factors of two have no reason here.
            let unlikely = breaks || change.mistake == Mistake::PowerOfTwo;
            change.share *= if unlikely { UNLIKELY_POINT } else { 1.0 };
        }
    }
    found.extend(parameters(bench, behind));
    found
}

/// Cells of the rows selected by the settings; all rows of unknown settings.
fn cells_in_force<'b>(bench: &Bench<'_>, behind: &'b Behind) -> Vec<&'b CellSite> {
    let decoder = bench.decoder(bench.part, &[]);
    let now = |cell: &CellSite| decoder.as_ref().and_then(|decoder| decoder.state().value_of(&bench.part.fields[cell.field]));
    behind.cells.iter().filter(|cell| now(cell).is_none_or(|code| code == cell.code)).collect()
}

/// True if a changed point is no longer between its neighbours.
fn breaks_order(change: &Change, now: f64, beside: &[&PointSite]) -> bool {
    let Some(value) = change.edits.first().and_then(|edit| edit.text.parse::<f64>().ok()) else { return false };
    match beside {
        [before, after] => (value - before.number) * (after.number - value) < 0.0,
        // At an end: on the other side of the neighbour.
        [only] => (value - only.number) * (now - only.number) < 0.0,
        _ => false,
    }
}

/// Alternatives to a number in a table that improve the fit, and the value that fits.
fn in_table(bench: &Bench<'_>, literal: &Literal, name: &str, variants: Vec<Variant>, found: &mut Vec<Change>) {
    let mut unknown = Unknown::number(bench, literal.span);
    let better = variants.into_iter().filter(|variant| unknown.improves(variant.value));
    found.extend(better.map(|variant| literal.change(name, variant)));
    found.extend(unknown.solve(literal.value).map(|solved| literal.solved(name, &solved)));
}

/// Numbers of the points that the readings of the observation depend on, with the same axis of the points next to them.
fn points_in_force<'b>(bench: &Bench<'_>, behind: &'b Behind) -> Vec<(&'b PointSite, Vec<&'b PointSite>)> {
    let points = behind.points.as_chunks::<2>().0;
    let moved = |number: f64| if number == 0.0 { 1e-3 } else { number * 1.001 };
    let matters = |points: &[[PointSite; 2]]| {
        let edit = |[_, y]: &[PointSite; 2]| Edit { span: y.span, text: format!("{:?}", moved(y.number)) };
        bench.outcome(&points.iter().map(edit).collect::<Vec<_>>(), &[]).is_some_and(|outcome| outcome != bench.now)
    };
    let mut found = Vec::new();
    for (block, several) in points.chunks(POINTS_AT_ONCE).enumerate().filter(|(_, several)| matters(several)) {
        for at in (0..several.len()).filter(|at| matters(several.get(*at..=*at).unwrap_or(&[]))) {
            let at = block * POINTS_AT_ONCE + at;
            let axis = |at: usize, axis: usize| points.get(at).and_then(|point| point.get(axis));
            for own in 0..2 {
                let beside = [at.checked_sub(1), Some(at + 1)].into_iter().flatten().filter_map(|at| axis(at, own));
                let same = |other: &&PointSite| axis(at, own).is_some_and(|site| site.curve == other.curve && site.number != other.number);
                found.extend(axis(at, own).map(|site| (site, beside.filter(same).collect())));
            }
        }
    }
    found
}

/// Missing offset or factor of a whole formula.
fn around(bench: &Bench<'_>, reading: ReadingId, found: &mut Vec<Change>) {
    let reading = &bench.part.readings[reading];
    let span = reading.formula.span;
    if !reading.formula.is_expression {
        return;
    }
    for (mark, start, what) in [('+', 0.0, "offset"), ('*', 1.0, "factor")] {
        let edits = |text: &str| {
            let (front, back) = (Span::new(span.start, span.start), Span::new(span.end, span.end));
            vec![Edit { span: front, text: "(".into() }, Edit { span: back, text: format!(") {mark} {text}") }]
        };
        if let Some(solved) = Unknown::new(bench, edits(UNKNOWN), start).and_then(|mut unknown| unknown.solve(start)) {
            let what = format!("{}: missing {what} {}", reading.name, solved.text);
            let mut edits = edits(&solved.text);
            if let (Some(edit), '+', Some(size)) = (edits.last_mut(), mark, solved.text.strip_prefix('-')) {
                edit.text = format!(") - {size}");
            }
            found.push(Change { fits: Some(solved.range), ..Change::edits(Mistake::Constant, 0.4, what, edits) });
        }
    }
}

/// Parameter values that fit.
fn parameters(bench: &Bench<'_>, behind: &Behind) -> Vec<Change> {
    let mut found = Vec::new();
    for id in &behind.parameters {
        let Some(parameter) = bench.part.parameters.get(*id) else { continue };
        let now = bench.decoder(bench.part, &[]).and_then(|decoder| decoder.state().parameter(*id)).unwrap_or(parameter.default);
        let Some(mut unknown) = Unknown::parameter(bench, *id) else { continue };
        if let Some(solved) = unknown.solve(now) {
            let what = format!("{} was {}, not {now}", parameter.name, solved.text);
            let mut change = Change::setting(Mistake::Parameter, 1.0, what, format!("{}={}", parameter.name, solved.text));
            change.fits = Some(solved.range);
            found.push(change);
        }
    }
    found
}

/// Numbers in a reading's formula.
fn literals(part: &Part, reading: ReadingId) -> Vec<Literal> {
    let expressions = expressions(part, reading);
    let constant = |expr: &Expr| matches!(expr.kind, ExprKind::Const(_));
    let turned = |expr: &&&Expr| matches!(&expr.kind, ExprKind::Convert(inner) if expr.ty.is_real() && constant(inner));
    let reals: Vec<Span> = expressions.iter().filter(turned).map(|expr| expr.span).collect();
    let of = |expr: &&Expr| Literal::of(part.source.slice(expr.span), expr.span, expr.ty.is_real() || reals.contains(&expr.span));
    let mut found: Vec<Literal> = expressions.iter().filter(|expr| constant(expr)).filter_map(of).collect();
    found.sort_by_key(|literal| literal.span);
    found.dedup_by_key(|literal| literal.span);
    found
}

impl Literal {
    /// `None` for anything but a decimal number, such as a mask in hex.
    fn of(typed: &str, span: Span, real: bool) -> Option<Self> {
        let end = typed.trim_end_matches(['f', 'F', 'l', 'L', 'u', 'U']).len();
        let (text, suffix) = typed.split_at(end);
        let is_number = text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-')) && !text.starts_with("0x");
        let value = text.replace('_', "").parse::<f64>().ok().filter(|value| is_number && value.is_finite())?;
        Some(Literal { span, text: text.to_owned(), suffix: suffix.to_owned(), value, real })
    }

    fn change(&self, name: &str, variant: Variant) -> Change {
        let Variant { mistake, share, text, what, .. } = variant;
        let what = format!("{name}: {text} instead of {}{what}", self.text);
        Change::edit(mistake, share, what, self.span, format!("{text}{}", self.suffix))
    }

    fn solved(&self, name: &str, solved: &super::solve::Solved) -> Change {
        let text = self.like(&solved.text);
        let what = format!("{name}: {text} instead of {}", self.text);
        let mut change = Change::edit(Mistake::Constant, 0.6, what, self.span, format!("{text}{}", self.suffix));
        change.fits = Some(solved.range);
        change
    }

    /// Formats a number like this one: a real stays a real.
    fn like(&self, text: &str) -> String {
        let is_real = |text: &str| text.contains(['.', 'e', 'E']);
        if is_real(&self.text) && !is_real(text) { format!("{text}.0") } else { text.to_owned() }
    }

    /// Alternatives; `others` are numbers from other places, with the share `near`.
    fn variants(&self, others: &[(&str, f64)], near: f64) -> Vec<Variant> {
        let mut found: Vec<Variant> = Vec::new();
        let mut add = |mistake: Mistake, share: f64, text: String, what: &'static str| {
            let text = self.like(&text);
            // Skips forms such as 00.0 and 012.
            let odd = text.trim_start_matches('-').strip_prefix('0').is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
            if odd {
                return;
            }
            if let Some(value) =
                text.parse::<f64>().ok().filter(|value| value.is_finite() && *value != self.value && (*value != 0.0 || self.value == 0.0))
                && (self.real || value.fract() == 0.0 && value.abs() < 2e9)
                && found.iter().all(|other| other.value != value)
            {
                let rounder = (significant(&self.text) - significant(&text)).clamp(-3, 3);
                let share = share * ROUNDER.powi(rounder);
                found.push(Variant { mistake, share, text, value, what });
            }
        };
        for (text, _) in others.iter().take(MOST_OTHERS) {
            let share = near / others.len().clamp(1, MOST_OTHERS) as f64;
            add(Mistake::OtherConstant, share, (*text).to_owned(), " (used elsewhere)");
        }
        if self.value != 0.0 {
            add(Mistake::ConstantSign, 0.4, short(-self.value), "");
            for (power, share) in [(1, 0.3), (2, 0.1), (3, 0.1), (4, 0.03), (6, 0.03)] {
                add(Mistake::PowerOfTen, share, short(self.value * 10f64.powi(power)), "");
                add(Mistake::PowerOfTen, share, short(self.value / 10f64.powi(power)), "");
            }
            for (power, share) in (1..=16).zip([0.2, 0.1, 0.03, 0.05, 0.01, 0.02, 0.01, 0.03].into_iter().chain(std::iter::repeat(0.005))) {
                add(Mistake::PowerOfTwo, share, short(self.value * 2f64.powi(power)), "");
                add(Mistake::PowerOfTwo, share, short(self.value / 2f64.powi(power)), "");
            }
        }
        self.digits(&mut add);
        found
    }

    /// Digits exchanged, missing, repeated or mistyped.
    fn digits(&self, add: &mut impl FnMut(Mistake, f64, String, &'static str)) {
        let chars: Vec<char> = self.text.chars().collect();
        let places: Vec<usize> =
            (0..chars.len()).take_while(|at| !matches!(chars[*at], 'e' | 'E')).filter(|at| chars[*at].is_ascii_digit()).collect();
        let each = 1.0 / places.len().max(1) as f64;
        for (here, next) in places.iter().zip(places.iter().skip(1)) {
            let mut other = chars.clone();
            other.swap(*here, *next);
            add(Mistake::Digits, 0.4 * each, other.into_iter().collect(), " (digits exchanged)");
        }
        for place in &places {
            let mut other = chars.clone();
            let digit = other.remove(*place);
            add(Mistake::Digits, 0.15 * each, other.iter().collect(), " (extra digit)");
            other.insert(*place, digit);
            other.insert(*place, digit);
            add(Mistake::Digits, 0.2 * each, other.iter().collect(), " (missing digit)");
            for another in ('0'..='9').filter(|another| *another != digit) {
                let mut other = chars.clone();
                other[*place] = another;
                add(Mistake::Digits, 0.02 * each, other.into_iter().collect(), " (wrong digit)");
            }
        }
    }
}

/// Number of significant digits.
fn significant(text: &str) -> i32 {
    let mantissa = text.split(['e', 'E']).next().unwrap_or(text);
    let digits: String = mantissa.chars().filter(char::is_ascii_digit).collect();
    i32::try_from(digits.trim_matches('0').len()).unwrap_or(0)
}

/// Formats a number without rounding noise.
pub(super) fn short(value: f64) -> String {
    let tidy = rounded(value, 12);
    if tidy != 0.0 && !(1e-6..1e15).contains(&tidy.abs()) { format!("{tidy:e}") } else { tidy.to_string() }
}
