//! How values spread.

/// Mean, deviation and extremes of values that come one by one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Running {
    /// How many there were.
    pub count: u64,
    /// The least.
    pub least: f64,
    /// The greatest.
    pub greatest: f64,
    /// Their mean.
    pub mean: f64,
    /// Sum of the squared differences from the mean.
    squares: f64,
}

impl Default for Running {
    fn default() -> Self {
        Self { count: 0, least: f64::INFINITY, greatest: f64::NEG_INFINITY, mean: 0.0, squares: 0.0 }
    }
}

impl Running {
    /// Takes the next value (Welford's method, which loses no digits where the deviation is small against the mean).
    pub fn add(&mut self, value: f64) {
        self.count += 1;
        let off = value - self.mean;
        self.mean += off / self.count as f64;
        self.squares += off * (value - self.mean);
        (self.least, self.greatest) = (self.least.min(value), self.greatest.max(value));
    }

    /// The standard deviation of the values as a sample (divided by their number less one); `None` with fewer than two.
    pub fn deviation(&self) -> Option<f64> {
        (self.count > 1).then(|| (self.squares / (self.count - 1) as f64).max(0.0).sqrt())
    }
}

impl Extend<f64> for Running {
    fn extend<I: IntoIterator<Item = f64>>(&mut self, values: I) {
        values.into_iter().for_each(|value| self.add(value));
    }
}

impl FromIterator<f64> for Running {
    fn from_iter<I: IntoIterator<Item = f64>>(values: I) -> Self {
        let mut running = Running::default();
        running.extend(values);
        running
    }
}

/// Values between two limits.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bin {
    /// The lower limit, which belongs to it.
    pub low: f64,
    /// The upper limit.
    pub high: f64,
    /// How many values there are.
    pub count: u64,
}

/// A histogram: each value in its bin. Bins are as wide as one step between codes, or a whole number of them, so that none stays empty for
/// want of a code; where no `step` is known, their number is the square root of the number of values. At most `most` bins.
pub fn bins(values: &[f64], step: Option<f64>, most: usize) -> Vec<Bin> {
    let spread: Running = values.iter().copied().filter(|value| value.is_finite()).collect();
    if spread.count == 0 {
        return Vec::new();
    }
    let (span, most) = (spread.greatest - spread.least, most.max(1));
    let width = match step.filter(|step| *step > 0.0) {
        Some(step) => step * (span / step / most as f64).ceil().max(1.0),
        None if span == 0.0 => spread.mean.abs().max(1.0) * 1e-3,
        None => span / (spread.count as f64).sqrt().ceil().min(most as f64),
    };
    // A code stands in the middle of its bin.
    let low = spread.least - if step.is_some() || span == 0.0 { width / 2.0 } else { 0.0 };
    let count = (((spread.greatest - low) / width).floor() as usize + 1).min(most + 1);
    let mut bins: Vec<Bin> =
        (0..count).map(|at| Bin { low: low + width * at as f64, high: low + width * (at + 1) as f64, count: 0 }).collect();
    for value in values.iter().filter(|value| value.is_finite()) {
        let at = (((value - low) / width).floor() as usize).min(count - 1);
        bins.get_mut(at).into_iter().for_each(|bin| bin.count += 1);
    }
    bins
}
