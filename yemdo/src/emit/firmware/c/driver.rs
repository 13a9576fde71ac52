//! The routines in C.

use super::expr::Printer;
use super::{Lines, super::Firmware};

pub(super) fn header(_firmware: &Firmware, _out: &mut Lines) {}

pub(super) fn source(_firmware: &Firmware, _printer: &mut Printer<'_>, _out: &mut Lines) {}
