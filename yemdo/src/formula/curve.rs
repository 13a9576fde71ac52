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
        let ((x0, y0), (x1, y1)) = self.around(x)?;
        Some(y0 + (x - x0) * (y1 - y0) / (x1 - x0))
    }

    /// The points around `x`; beyond an end those next to it.
    fn around(&self, x: f64) -> Option<((f64, f64), (f64, f64))> {
        let above = self.points.partition_point(|point| point.0 <= x).clamp(1, self.points.len() - 1);
        Some((*self.points.get(above - 1)?, *self.points.get(above)?))
    }

    /// The same in single precision, with the points rounded to it.
    pub(crate) fn at_single(&self, x: f32) -> Option<f32> {
        let single =
            Self { points: self.points.iter().map(|(x, y)| (f64::from(*x as f32), f64::from(*y as f32))).collect(), ..self.clone() };
        let (first, last) = (single.points.first()?, single.points.last()?);
        let real = f64::from(x);
        if x.is_nan() || (single.outside == Outside::Fault && !(first.0..=last.0).contains(&real)) {
            return None;
        }
        if single.outside == Outside::Hold && !(first.0..=last.0).contains(&real) {
            return Some((if real < first.0 { first.1 } else { last.1 }) as f32);
        }
        let ((x0, y0), (x1, y1)) = single.around(real)?;
        let (x0, y0, x1, y1) = (x0 as f32, y0 as f32, x1 as f32, y1 as f32);
        Some(y0 + (x - x0) * (y1 - y0) / (x1 - x0))
    }

    /// The same of a curve whose points are integers: the quotient is cut towards zero, as C does. `None` also where a product does
    /// not fit, which nobody lets happen.
    pub(crate) fn at_integer(&self, x: i64) -> Option<i64> {
        let (first, last) = (self.points.first()?, self.points.last()?);
        let real = x as f64;
        if !(first.0..=last.0).contains(&real) {
            match self.outside {
                Outside::Fault => return None,
                Outside::Hold => return Some((if real < first.0 { first.1 } else { last.1 }) as i64),
                Outside::Extend => {}
            }
        }
        let ((x0, y0), (x1, y1)) = self.around(real)?;
        let (x0, y0, x1, y1) = (x0 as i64, y0 as i64, x1 as i64, y1 as i64);
        let product = x.checked_sub(x0)?.checked_mul(y1.checked_sub(y0)?)?;
        y0.checked_add(product.checked_div(x1.checked_sub(x0)?)?)
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
