//! The flat program, and every pass over it: `lower` makes it; `interval` finds bounds, and `prove` marks what cannot
//! fault; `uniform` marks what is the same for all frames; `affine` finds outputs that need no program; `fuse` joins
//! pairs of operations.

pub(crate) mod affine;
pub(crate) mod fuse;
pub(crate) mod interval;
pub(crate) mod lower;
pub(crate) mod program;
pub(crate) mod prove;
pub(crate) mod uniform;
