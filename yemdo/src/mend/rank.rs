//! Ranking and merging of changes.

use super::change::Change;
use super::trial::{Bench, Fit, Outcome, decode};
use crate::ground::digits::rounded;
use crate::ground::random::Random;
use crate::model::ids::FrameId;

/// Number of random frames for the comparison of changes.
const PROBES: usize = 24;
/// Maximum number of changes to compare.
const MOST_SETTLED: usize = 48;

/// Weight factor for a reading that is constant over several different frames.
const FLAT: f64 = 1e-3;

/// Change with its result.
pub(super) struct Ranked {
    pub(super) change: Change,
    pub(super) fit: Fit,
    pub(super) outcome: Outcome,
    pub(super) weight: f64,
    /// Descriptions of equivalent changes.
    pub(super) same: Vec<String>,
}

/// Tries changes and returns those that improve the fit.
pub(super) fn rank(bench: &Bench<'_>, changes: &[Change]) -> Vec<Ranked> {
    let now = bench.fit(&bench.now);
    let mut found = Vec::new();
    for change in changes {
        let Some(outcome) = bench.of(change) else { continue };
        let fit = bench.fit(&outcome);
        if fit.agree > now.agree {
            let weight = weight(change, &fit);
            found.push(Ranked { change: change.clone(), fit, outcome, weight, same: Vec::new() });
        }
    }
    found
}

/// Weight of a change.
fn weight(change: &Change, fit: &Fit) -> f64 {
    let missed = (fit.of - fit.agree) as f64;
    let flat = if fit.flat { FLAT } else { 1.0 };
    flat * change.weight() * (-fit.distance).exp() * 0.125f64.powi(i32::try_from(fit.trouble.min(40)).unwrap_or(40)) * 1e-3f64.powf(missed)
}

/// Sorts changes, merges equivalent ones and drops those without effect.
pub(super) fn settle(bench: &Bench<'_>, ranked: &mut Vec<Ranked>) {
    ranked.sort_by(|one, two| two.weight.total_cmp(&one.weight));
    ranked.truncate(MOST_SETTLED);
    let probes = probes(bench, PROBES);
    let mut kept: Vec<(Vec<Vec<Option<u64>>>, Ranked)> = Vec::new();
    let unchanged = signature(bench, None, &probes);
    for one in ranked.drain(..) {
        let Some(own) = signature(bench, Some(&one.change), &probes).filter(|own| Some(own) != unchanged.as_ref()) else { continue };
        // A wrong sheet and another setting stay separate findings.
        let alike = |other: &Ranked| other.change.settings == one.change.settings;
        match kept.iter_mut().find(|(signature, other)| *signature == own && alike(other)) {
            Some((_, likelier)) => {
                // A solved constant adds no information.
                if one.change.fits.is_none() && !likelier.same.contains(&one.change.what) && likelier.change.what != one.change.what {
                    likelier.same.push(one.change.what);
                }
            }
            None => kept.push((own, one)),
        }
    }
    ranked.extend(kept.into_iter().map(|(_, one)| one));
}

/// Frames like those of the observation, with random bytes.
pub(super) fn probes(bench: &Bench<'_>, count: usize) -> Vec<(FrameId, Vec<u8>)> {
    let mut random = Random::new(1);
    let mut found: Vec<(FrameId, Vec<u8>)> = bench.observation.frames.clone();
    let kept = |frame: FrameId| bench.part.frames.get(frame).is_some_and(|frame| frame.keep);
    let moving: Vec<(FrameId, Vec<u8>)> = bench.observation.frames.iter().filter(|(frame, _)| !kept(*frame)).cloned().collect();
    for at in 0..if moving.is_empty() { 0 } else { count } {
        let (frame, bytes) = &moving[at % moving.len()];
        // Two thirds are similar to the observation.
        let few = at % 3 != 0;
        let other = bytes.iter().map(|byte| if few && random.below(3) != 0 { *byte } else { random.bits() as u8 }).collect();
        found.push((*frame, other));
    }
    found
}

/// All readings of frames with a change, rounded to ten digits.
fn signature(bench: &Bench<'_>, change: Option<&Change>, frames: &[(FrameId, Vec<u8>)]) -> Option<Vec<Vec<Option<u64>>>> {
    let outcome = outcome(bench, change, frames)?;
    // Zero has no sign here.
    let digits = |value: f64| (rounded(value, 10) + 0.0).to_bits();
    Some(outcome.values.iter().map(|row| row.iter().map(|value| value.map(digits)).collect()).collect())
}

/// Decodes frames with a change.
pub(super) fn outcome(bench: &Bench<'_>, change: Option<&Change>, frames: &[(FrameId, Vec<u8>)]) -> Option<Outcome> {
    let (edits, settings) = change.map_or((&[] as &[_], &[] as &[_]), |change| (change.edits.as_slice(), change.settings.as_slice()));
    let mut decoder = bench.decoder(&bench.resolve(edits, None)?, settings)?;
    Some(decode(bench.part, &mut decoder, frames))
}
