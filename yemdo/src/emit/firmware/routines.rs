//! Routines as state machines.

use std::collections::BTreeSet;

use crate::model::ids::{FrameId, RegisterId, RoutineId};
use crate::model::input::Input;
use crate::model::part::Part;

/// What a routine needs.
pub(super) fn needs(_part: &Part, _id: RoutineId, _frames: &mut BTreeSet<FrameId>, _registers: &mut BTreeSet<RegisterId>, _found: &mut Vec<Input>) {}
