//! The syntax tree of a sheet: what is typed, with places, nothing bound yet. Each part of it stands beside the function
//! that reads it.

pub(crate) use super::parse::buses::{Address, I2c, Modbus};
pub(crate) use super::parse::derived::Derived;
pub(crate) use super::parse::frames::{Check, Code, End, Example, Exchange, Frame, Method, Parameter, Reading, Stated, Status, Supplied};
pub(crate) use super::parse::operation::{Action, Quantity, Step, Time, Way};
pub(crate) use super::parse::registers::{Cell, Field, Register, Row, Values};
pub(crate) use super::parse::{Byte, Choice, Named, Sheet};
