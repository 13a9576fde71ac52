//! What is to be done, worked out once, as plain data: no names, no trees, no caches are left.
//!
//! `frame`: for a frame what is cut out where, which checks, which program. `transfers`: the bytes that read and write
//! registers and frames. `writes`: an order in which registers can be written. `routine`: a routine's steps on a bus.
//! `accept`: which bytes are a frame at all. `heard`: interprets bytes that the part receives. Decoding, running, emitting and stand-ins read the same plans.

pub(crate) mod accept;
pub(crate) mod affine;
pub(crate) mod frame;
pub(crate) mod heard;
pub(crate) mod judge;
pub(crate) mod read_back;
pub(crate) mod reads;
pub(crate) mod routine;
pub(crate) mod transfers;
pub(crate) mod writes;

#[cfg(test)]
mod tests;
