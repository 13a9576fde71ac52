//! The resolved part: every name bound, every width known. It holds what the sheet says, and all outputs are made from
//! it alone; what follows by analysis is asked of `review`.

pub(crate) mod command;
pub(crate) mod example;
pub(crate) mod frame;
pub(crate) mod ids;
pub(crate) mod in_use;
pub(crate) mod input;
pub(crate) mod integers;
mod lookup;
pub(crate) mod name;
pub(crate) mod operation;
pub(crate) mod part;
pub(crate) mod reading;
pub(crate) mod reals;
pub(crate) mod registers;
pub(crate) mod resolve;
pub(crate) mod state;
pub(crate) mod status;
pub(crate) mod value;
