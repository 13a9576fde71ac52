//! The routines in Rust.

use super::Lines;
use super::expr::Printer;
use crate::emit::firmware::Firmware;

pub(super) fn print(_firmware: &Firmware, _shared: &mut Printer, _out: &mut Lines) {}
