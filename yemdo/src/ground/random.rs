//! Reproducible random numbers.

use std::f64::consts::TAU;

/// A generator of numbers that look random and follow from a seed (SplitMix64: a counter, well mixed).
#[derive(Clone, Debug)]
pub struct Random(u64);

impl Random {
    /// The same numbers for the same seed.
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next 64 bits.
    pub fn bits(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        mixed ^ (mixed >> 31)
    }

    /// A number from 0 to below 1.
    pub fn unit(&mut self) -> f64 {
        (self.bits() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// A number below `most`; 0 where that is 0.
    pub fn below(&mut self, most: usize) -> usize {
        if most == 0 { 0 } else { (self.bits() % most as u64) as usize }
    }

    /// A normally distributed number with a standard deviation of 1 (Box and Muller).
    pub fn normal(&mut self) -> f64 {
        let (radius, angle) = (self.unit().max(f64::MIN_POSITIVE), self.unit());
        (-2.0 * radius.ln()).sqrt() * (TAU * angle).cos()
    }
}
