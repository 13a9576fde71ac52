//! The firmware of every demo part, as it would stand in a program: without the standard library.

#![no_std]
#![forbid(unsafe_code)]
#![warn(missing_docs)]

include!(concat!(env!("OUT_DIR"), "/all.rs"));
