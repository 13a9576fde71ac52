//! Curves given by points, straight between them.

/// A curve.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Curve {
    points: Vec<(f64, f64)>,
    outside: Outside,
}

/// What holds beyond the ends of a curve.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outside {
    /// The value at the end.
    Hold,
    /// The last line goes on.
    Extend,
    /// Nothing: it is a fault.
    Fault,
}

impl Curve {
    /// A curve through points whose x rises.
    pub(crate) fn new(points: Vec<(f64, f64)>, outside: Outside) -> Self {
        Self { points, outside }
    }

    /// The points, and what holds beyond their ends.
    pub(crate) fn parts(&self) -> (&[(f64, f64)], Outside) {
        (&self.points, self.outside)
    }

    /// Whether there is nothing beyond its ends.
    pub(crate) fn may_be_left(&self) -> bool {
        self.outside == Outside::Fault
    }

    /// The value at `x`; `None` where there is none. Between two points it is
    /// `y0 + (x - x0) * (y1 - y0) / (x1 - x0)`, in double precision and in this order.
    pub(crate) fn at(&self, x: f64) -> Option<f64> {
        let (first, last) = (self.points.first()?, self.points.last()?);
        if x.is_nan() {
            return None;
        }
        if x < first.0 || x > last.0 {
            match self.outside {
                Outside::Fault => return None,
                Outside::Hold => return Some(if x < first.0 { first.1 } else { last.1 }),
                Outside::Extend => {}
            }
        }
        let above = self.points.partition_point(|point| point.0 <= x).clamp(1, self.points.len() - 1);
        let (x0, y0) = *self.points.get(above - 1)?;
        let (x1, y1) = *self.points.get(above)?;
        Some(y0 + (x - x0) * (y1 - y0) / (x1 - x0))
    }

    /// Lowest and highest value over an interval of x, and whether all of it has values.
    pub(crate) fn over(&self, low: f64, high: f64) -> (f64, f64, bool) {
        let ends = [self.at(low), self.at(high)];
        let inside = self.points.iter().filter(|point| (low..=high).contains(&point.0)).map(|point| point.1);
        let all: Vec<f64> = inside.chain(ends.into_iter().flatten()).collect();
        let (least, most) = all.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), y| (l.min(*y), h.max(*y)));
        if least > most {
            (f64::NEG_INFINITY, f64::INFINITY, false)
        } else {
            (least, most, low.is_finite() && high.is_finite() && ends.iter().all(Option::is_some))
        }
    }
}
