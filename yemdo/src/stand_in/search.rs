//! From a physical value back to codes of a frame.

use super::scene::Scene;
use crate::bits::form::Form;
use crate::model::frame::Code;
use crate::model::ids::CodeId;
use crate::model::value::Eval;

/// Places in a code's range that are tried before bisection.
const PROBES: i128 = 64;
/// Limits the pairs of neighbouring places that are bisected.
const MOST_PAIRS: usize = 6;
/// Limits the rounds of refinement.
const MOST_ROUNDS: usize = 3;
/// Limits the codes of one reading that are changed together.
const MOST_CODES: usize = 3;

/// The numbers that a code can be, in their order, each at a place: integers at themselves, reals in steps of their last bit.
struct Numbers<'c> {
    code: &'c Code,
    low: i128,
    high: i128,
}

impl<'c> Numbers<'c> {
    /// `None` for text, which is no number.
    fn new(code: &'c Code) -> Option<Self> {
        let (low, high) = match code.layout.form {
            Form::Text => return None,
            // Bits of floating point rise with the number, where the sign is clear.
            Form::Float => {
                let most = match code.layout.width() {
                    16 => 0x7BFF,
                    32 => 0x7F7F_FFFF,
                    _ => 0x7FEF_FFFF_FFFF_FFFF,
                };
                (-most, most)
            }
            _ => code.bounds(),
        };
        Some(Self { code, low, high })
    }

    /// The code at a place, in its form.
    fn code_at(&self, at: i128) -> i128 {
        let sign = 1i128 << (self.code.layout.width() - 1);
        match self.code.layout.form {
            Form::Float if at < 0 => sign - at,
            _ => at,
        }
    }

    /// The place of a code.
    fn place_of(&self, code: i128) -> i128 {
        let sign = 1i128 << (self.code.layout.width() - 1);
        match self.code.layout.form {
            Form::Float if code & sign != 0 => -(code & (sign - 1)),
            Form::Float => code & (sign - 1),
            _ => code,
        }
    }

    /// Places that are looked at first: evenly over the range, its ends and zero among them.
    fn probes(&self) -> Vec<i128> {
        let step = ((self.high - self.low) / PROBES).max(1);
        let mut places: Vec<i128> = (0..=PROBES + 1).map(|at| self.low + at * step).filter(|at| *at < self.high).collect();
        places.extend([self.high, 0].into_iter().filter(|at| (self.low..=self.high).contains(at)));
        places.sort_unstable();
        places.dedup();
        places
    }
}

/// A code that was found, and the reading with it.
#[derive(Clone, Copy, Debug)]
struct Found {
    at: i128,
    value: f64,
}

impl Found {
    fn off(self, wanted: f64) -> f64 {
        (self.value - wanted).abs()
    }
}

/// Values over the numbers of one code, with everything else as it is: other codes that share its bits change with it.
struct Curve<'a, 's> {
    eval: &'a mut Eval,
    scene: Scene<'s>,
    code: CodeId,
    numbers: Numbers<'s>,
}

impl<'a, 's> Curve<'a, 's> {
    fn new(eval: &'a mut Eval, scene: &Scene<'s>, id: CodeId) -> Option<Self> {
        Some(Self { eval, numbers: Numbers::new(scene.part.codes.get(id)?)?, scene: scene.clone(), code: id })
    }

    fn at(&mut self, at: i128) -> Option<Found> {
        self.scene.put_code(self.code, self.numbers.code_at(at));
        let value = self.eval.value(&self.scene.present()).ok().filter(|value| value.is_finite())?;
        Some(Found { at, value })
    }

    /// How far the values go.
    fn span(&mut self) -> f64 {
        let values: Vec<f64> = self.numbers.probes().into_iter().filter_map(|at| self.at(at)).map(|found| found.value).collect();
        let (low, high) =
            values.into_iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(value), high.max(value)));
        (high - low).max(0.0)
    }

    /// The place whose value is the nearest; `None` where none has a value.
    fn nearest(&mut self, wanted: f64) -> Option<Found> {
        let probes = self.numbers.probes();
        let found: Vec<Option<Found>> = probes.into_iter().map(|at| self.at(at)).collect();
        let mut best =
            found.iter().flatten().copied().reduce(|one, other| if other.off(wanted) < one.off(wanted) { other } else { one })?;
        let pairs = found.windows(2).filter_map(|pair| match pair {
            [Some(below), Some(above)] if (below.value - wanted) * (above.value - wanted) <= 0.0 => Some((*below, *above)),
            _ => None,
        });
        for (below, above) in pairs.take(MOST_PAIRS) {
            for found in self.halved(below, above, wanted) {
                best = if found.off(wanted) < best.off(wanted) { found } else { best };
            }
        }
        // Values that go up and down between the probes may come nearer.
        let near = best.off(wanted) == 0.0 || self.step(best, wanted).is_some_and(|step| best.off(wanted) <= step);
        Some(if near { best } else { self.climbed(best, wanted) })
    }

    /// From a place to better ones, by ever smaller powers of two.
    fn climbed(&mut self, from: Found, wanted: f64) -> Found {
        let mut best = from;
        let width = self.numbers.code.layout.width();
        for _ in 0..MOST_ROUNDS {
            let before = best.off(wanted);
            for by in (0..width).rev().map(|bit| 1i128 << bit) {
                for at in [best.at - by, best.at + by] {
                    if best.off(wanted) == 0.0 {
                        return best;
                    }
                    let found = Some(at).filter(|at| (self.numbers.low..=self.numbers.high).contains(at)).and_then(|at| self.at(at));
                    best = found.filter(|found| found.off(wanted) < best.off(wanted)).unwrap_or(best);
                }
            }
            if best.off(wanted) == before {
                break;
            }
        }
        best
    }

    /// The two neighbours with the value between them.
    fn halved(&mut self, mut below: Found, mut above: Found, wanted: f64) -> [Found; 2] {
        let rising = below.value < above.value;
        while above.at - below.at > 1 {
            let Some(middle) = self.at(below.at + (above.at - below.at) / 2) else { break };
            if (middle.value < wanted) == rising { below = middle } else { above = middle }
        }
        [below, above]
    }

    /// By how much the next number changes the value, towards the wanted value.
    fn step(&mut self, from: Found, wanted: f64) -> Option<f64> {
        let beside = [from.at - 1, from.at + 1].into_iter().filter(|at| (self.numbers.low..=self.numbers.high).contains(at));
        let beside: Vec<i128> = beside.collect();
        let towards = |found: &Found| if wanted > from.value { found.value > from.value } else { found.value < from.value };
        let steps = beside.into_iter().filter_map(|at| self.at(at)).filter(towards).map(|found| found.off(from.value));
        steps.reduce(f64::min)
    }
}

/// Codes for a value.
#[derive(Clone, Debug)]
pub(super) struct Solution {
    pub(super) codes: Vec<(CodeId, i128)>,
    /// The reading with them.
    pub(super) value: f64,
    /// The smallest possible change towards the wanted value; 0 where they allow none.
    pub(super) step: f64,
}

impl Solution {
    fn off(&self, wanted: f64) -> f64 {
        (self.value - wanted).abs()
    }

    fn put_into<'s>(&self, scene: &Scene<'s>) -> Scene<'s> {
        let mut scene = scene.clone();
        self.codes.iter().for_each(|(code, number)| scene.put_code(*code, *number));
        scene
    }

    /// By how much the next number of a code changes the value, towards the wanted value.
    fn step_of(&self, eval: &mut Eval, scene: &Scene<'_>, code: CodeId, wanted: f64) -> Option<f64> {
        let mut curve = Curve::new(eval, &self.put_into(scene), code)?;
        let at = curve.numbers.place_of(curve.scene.number_of(code));
        let from = curve.at(at)?;
        curve.step(from, wanted)
    }

    /// Whether it is as near as the codes allow.
    pub(super) fn hits(&self, wanted: f64) -> bool {
        (self.value - wanted).abs() <= self.step.max(wanted.abs() * 1e-9)
    }
}

/// Codes of a frame with which a reading has a value, as near as can be; `None` where it has none with any.
pub(super) fn solve(eval: &mut Eval, scene: &Scene<'_>, codes: &[CodeId], wanted: f64) -> Option<Solution> {
    let order = if codes.len() > 1 { by_span(eval, scene, codes) } else { codes.to_vec() };
    let mut best = among(eval, scene, &order, wanted)?;
    // A code of several that moved nothing before may do so now.
    for _ in 0..if order.len() > 1 { MOST_ROUNDS } else { 0 } {
        let before = best.off(wanted);
        for code in &order {
            best = refined(eval, scene, *code, best, wanted)?;
        }
        if best.off(wanted) == before {
            break;
        }
    }
    best.step = order.iter().filter_map(|code| best.step_of(eval, scene, *code, wanted)).reduce(f64::min).unwrap_or(0.0);
    Some(best)
}

/// The codes that change a reading most, in this order: the others fill in.
fn by_span(eval: &mut Eval, scene: &Scene<'_>, codes: &[CodeId]) -> Vec<CodeId> {
    let mut spans: Vec<(f64, CodeId)> = codes.iter().filter_map(|code| Some((Curve::new(eval, scene, *code)?.span(), *code))).collect();
    spans.sort_by(|(one, _), (other, _)| other.total_cmp(one));
    spans.into_iter().map(|(_, code)| code).take(MOST_CODES).collect()
}

/// The same solution with one code, and those that share its bits, found again.
fn refined(eval: &mut Eval, scene: &Scene<'_>, code: CodeId, known: Solution, wanted: f64) -> Option<Solution> {
    let mut curve = Curve::new(eval, &known.put_into(scene), code)?;
    let Some(found) = curve.nearest(wanted).filter(|found| found.off(wanted) < known.off(wanted)) else { return Some(known) };
    let code_at = curve.numbers.code_at(found.at);
    let mut codes: Vec<(CodeId, i128)> = known.codes.into_iter().filter(|(other, _)| *other != code).collect();
    codes.push((code, code_at));
    Some(Solution { codes, value: found.value, step: 0.0 })
}

fn among(eval: &mut Eval, scene: &Scene<'_>, codes: &[CodeId], wanted: f64) -> Option<Solution> {
    let (first, rest) = codes.split_first()?;
    let mut over = Curve::new(eval, scene, *first)?;
    let Some(nearest) = over.nearest(wanted) else {
        // It may have a value with others of its codes alone.
        return among(eval, scene, rest, wanted);
    };
    let numbers = over.numbers;
    let code = numbers.code_at(nearest.at);
    let mut best = Solution { codes: vec![(*first, code)], value: nearest.value, step: 0.0 };
    if rest.is_empty() || nearest.value == wanted {
        return Some(best);
    }
    for at in [0, -1, 1].map(|by| nearest.at + by).into_iter().filter(|at| (numbers.low..=numbers.high).contains(at)) {
        let code = numbers.code_at(at);
        let mut tried = scene.clone();
        tried.put_code(*first, code);
        let Some(mut finer) = among(eval, &tried, rest, wanted) else { continue };
        if finer.off(wanted) < best.off(wanted) {
            finer.codes.insert(0, (*first, code));
            best = finer;
        }
    }
    Some(best)
}
