//! Which bytes set something: `configure`, at once and one by one, explained the other way round.

use super::Tally;
use crate::choices::Choices;
use yemdo::Part;
pub fn operations(_: &Part, _: &mut Choices<'_>, _: &mut Tally) {}
