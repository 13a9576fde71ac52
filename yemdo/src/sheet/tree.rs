//! The syntax tree of a sheet: what is typed, with places, nothing bound yet. Each part of it stands beside the function
//! that reads it.

pub(crate) use super::parse::buses::{Address, I2c};
pub(crate) use super::parse::frames::{Check, Code, Example, Frame, Method, Reading, Status};
pub(crate) use super::parse::operation::{Action, Quantity, Step, Time, Way};
pub(crate) use super::parse::registers::{Field, Register};
pub(crate) use super::parse::{Choice, Named, Sheet};
