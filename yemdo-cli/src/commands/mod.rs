//! One file a command: what its arguments ask of the library, and in which shape the answer is shown.

pub(crate) mod check;
pub(crate) mod choose;
pub(crate) mod configure;
pub(crate) mod decode;
pub(crate) mod demo;
pub(crate) mod emit;
pub(crate) mod explain;
pub(crate) mod import;
pub(crate) mod mend;
pub(crate) mod plot;
pub(crate) mod read;
pub(crate) mod routine;
pub(crate) mod scan;
pub(crate) mod stand_in;
pub(crate) mod talk;
pub(crate) mod trace;
