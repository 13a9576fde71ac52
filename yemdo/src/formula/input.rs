//! What comes into formulas from outside: declared by whoever knows what it is, and handed back.

/// A value from outside, as the one who declares it names it. Formulas compare these and hand them back; what they
/// stand for is not known here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InputKey(pub(crate) u64);

/// A curve that formulas may call, by its place among those that are declared.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CurveId(pub(crate) u32);
