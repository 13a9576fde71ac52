//! Values over time: what is drawn of them shows all of them, and statistics are what plain computation gives.

#![allow(clippy::unwrap_used, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::series::{Running, Sample, bins, compare, gap, integral, pieces, thin};

fn series() -> impl Strategy<Value = Vec<Sample>> {
    // Mostly forward, now and then a gap or a clock that goes back.
    let step = prop_oneof![8 => 0.1..2.0f64, 1 => 50.0..500.0f64, 1 => -30.0..0.0f64];
    prop::collection::vec((step, -1e6..1e6f64), 0..400).prop_map(|steps| {
        let mut time = 0.0;
        let sample = |(step, value)| {
            time += step;
            Sample { time, value }
        };
        steps.into_iter().map(sample).collect()
    })
}

fn extremes(samples: &[Sample]) -> Option<(f64, f64)> {
    let values = || samples.iter().map(|sample| sample.value);
    Some((values().reduce(f64::min)?, values().reduce(f64::max)?))
}

proptest! {
    #[test]
    fn pieces_are_all_of_it_and_none_has_a_gap(samples in series()) {
        let all: Vec<&[Sample]> = pieces(&samples).collect();
        prop_assert_eq!(all.concat(), samples.clone());
        let longest = gap(&samples).unwrap_or(f64::INFINITY);
        let broken = |one: &Sample, next: &Sample| next.time < one.time || next.time - one.time > longest;
        for piece in &all {
            prop_assert!(piece.windows(2).all(|pair| !broken(&pair[0], &pair[1])));
        }
        prop_assert!(all.windows(2).all(|pair| broken(pair[0].last().unwrap(), &pair[1][0])));
    }

    #[test]
    fn few_samples_show_first_last_least_and_greatest(samples in series(), columns in 1usize..40) {
        for piece in pieces(&samples) {
            let span = (samples[0].time.min(piece[0].time), piece[piece.len() - 1].time + 1.0);
            let few = thin(piece, span, columns);
            prop_assert!(few.len() <= piece.len().min(4 * columns + 4));
            prop_assert_eq!((few.first(), few.last(), extremes(&few)), (piece.first(), piece.last(), extremes(piece)));
            // They are samples of the piece, in their order.
            let mut rest = piece.iter();
            prop_assert!(few.iter().all(|sample| rest.any(|other| other == sample)));
        }
    }

    #[test]
    fn an_integral_adds_up_pieces_and_nothing_between_them(samples in series()) {
        let sums = integral(&samples);
        prop_assert_eq!(sums.len(), samples.len());
        prop_assert!(sums.iter().zip(&samples).all(|(sum, sample)| sum.time == sample.time));
        let area = |piece: &[Sample]| -> f64 {
            piece.windows(2).map(|pair| (pair[1].time - pair[0].time) / 3600.0 * (pair[0].value + pair[1].value) / 2.0).sum()
        };
        let whole: f64 = pieces(&samples).map(area).sum();
        prop_assert!((sums.last().map_or(0.0, |last| last.value) - whole).abs() <= 1e-6 * whole.abs().max(1.0));
    }

    #[test]
    fn running_statistics_are_those_of_two_passes(values in prop::collection::vec(-1e3..1e3f64, 2..200), shift in prop_oneof![Just(0.0), Just(1e9)]) {
        let all: Running = values.iter().map(|value| value + shift).collect();
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        let squares: f64 = values.iter().map(|value| (value - mean).powi(2)).sum();
        let deviation = (squares / (values.len() - 1) as f64).sqrt();
        prop_assert!((all.mean - shift - mean).abs() < 1e-5 && (all.deviation().unwrap() - deviation).abs() < 1e-4 * deviation.max(1.0));
        prop_assert_eq!((all.count, all.least, all.greatest), (
            values.len() as u64,
            values.iter().copied().reduce(f64::min).unwrap() + shift,
            values.iter().copied().reduce(f64::max).unwrap() + shift,
        ));
    }

    #[test]
    fn every_value_is_in_its_bin(values in prop::collection::vec(-500i32..500, 0..300), step in prop_oneof![Just(None), Just(Some(0.25))], most in 1usize..60) {
        let mut values: Vec<f64> = values.into_iter().map(|code| f64::from(code) * 0.25).collect();
        values.push(f64::NAN);
        let bins = bins(&values, step, most);
        let finite = values.iter().filter(|value| value.is_finite());
        prop_assert!(bins.len() <= most + 1);
        prop_assert_eq!(bins.iter().map(|bin| bin.count).sum::<u64>(), finite.clone().count() as u64);
        // Bins touch, and hold what their limits say, but for rounding at a limit.
        prop_assert!(bins.windows(2).all(|pair| pair[0].high == pair[1].low));
        for bin in &bins {
            let (low, high) = (bin.low - 1e-9, bin.high + 1e-9);
            prop_assert!(finite.clone().filter(|value| **value >= low && **value <= high).count() as u64 >= bin.count);
        }
        // A code has the middle of a bin to itself, where there are enough bins.
        if let (Some(step), Some(bin)) = (step, bins.first()) {
            prop_assert!(((bin.high - bin.low) / step).fract() < 1e-9 || ((bin.high - bin.low) / step).fract() > 1.0 - 1e-9);
        }
    }

    #[test]
    fn a_comparison_finds_gain_offset_and_drift(gain in 0.5..2.0f64, offset in -50.0..50.0f64, seed in 0u32..1000) {
        let noise = |at: u32| f64::from((at.wrapping_mul(2_654_435_761).wrapping_add(seed) >> 8) % 1000) / 1e6;
        let good: Vec<Sample> = (0..600u32).map(|at| Sample { time: f64::from(at), value: 20.0 + 8.0 * (f64::from(at) / 40.0).sin() }).collect();
        // Taken between the reference's samples, where a straight line is not quite the sine.
        let cheap: Vec<Sample> = good.windows(2).enumerate().map(|(at, pair)| Sample {
            time: pair[0].time + 0.5,
            value: ((pair[0].value + pair[1].value) / 2.0 - offset) / gain + noise(at as u32),
        }).collect();
        let found = compare(&cheap, &good).unwrap();
        prop_assert_eq!(found.pairs.len(), 599);
        prop_assert!(found.remaining.greatest.abs().max(found.remaining.least.abs()) < 0.01, "{:?}", found.remaining);
        prop_assert!(found.remaining.mean.abs() < 1e-9);
        // A gain that can hardly be told from noise is left alone.
        prop_assert!((gain - 1.0).abs() < 1e-3 || (found.correction.gain - gain).abs() < 1e-2);
        prop_assert!((found.worst[0].1 - found.worst[0].2).abs() >= (found.difference.greatest.abs()).max(found.difference.least.abs()) - 1e-9);
    }
}

#[test]
fn what_has_no_partner_is_not_compared() {
    let at = |time: f64, value: f64| Sample { time, value };
    let good = [at(0.0, 1.0), at(1.0, 2.0), at(2.0, 3.0), at(60.0, 9.0)];
    assert!(compare(&[], &good).is_none() && compare(&[at(5.0, 1.0)], &good).is_none() && compare(&[at(0.0, 1.0)], &[]).is_none());
    // Before it, in it, at a sample, in its gap, at its end, no number.
    let found = compare(&[at(-1.0, 0.0), at(0.5, 1.5), at(2.0, 3.5), at(30.0, 4.0), at(60.0, 9.0), at(1.0, f64::NAN)], &good).unwrap();
    assert_eq!(found.pairs, [(0.5, 1.5, 1.5), (2.0, 3.5, 3.0), (60.0, 9.0, 9.0)]);
    let drifting: Vec<Sample> = (0..100).map(|second| at(f64::from(second), 5.0 + 0.01 * f64::from(second))).collect();
    let steady: Vec<Sample> = (0..100).map(|second| at(f64::from(second), 5.0)).collect();
    let found = compare(&drifting, &steady).unwrap();
    assert!((found.drift.unwrap() - 0.01).abs() < 1e-12 && found.correction.gain == 1.0);
}
