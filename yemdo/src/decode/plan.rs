//! What is to be done for one frame, worked out once: no names and no trees are left.

use crate::bits::gather::Gather;
use crate::formula::interval::{Interval, analyse};
use crate::formula::lower::Lowerer;
use crate::formula::program::{Program, Slot};
use crate::model::part::{Input, Part, Status};

/// The plan of one frame.
#[derive(Clone, Debug)]
pub(crate) struct Plan {
    pub(crate) program: Program,
    /// The slots that take codes, with where their bits are.
    pub(crate) gathers: Vec<(Slot, Gather)>,
    pub(crate) readings: Vec<ReadingPlan>,
}

#[derive(Clone, Debug)]
pub(crate) struct ReadingPlan {
    /// Index in [`Part::readings`].
    pub(crate) index: usize,
    /// Index of its value among the program's outputs.
    pub(crate) output: usize,
    pub(crate) range: Option<(f64, f64)>,
    /// Outputs of its conditions, and what they mean; the first that holds counts.
    pub(crate) conditions: Vec<(usize, Status)>,
}

impl Plan {
    /// The plan of a frame. With `noting`, the program notes what names and variables stand for.
    pub(crate) fn new(part: &Part, frame: usize, noting: bool) -> Plan {
        let mut lowerer = Lowerer::new(noting);
        let (wanted, frame_status) = match part.frames.get(frame) {
            Some(frame) => (frame.readings.as_slice(), frame.status.as_slice()),
            None => (&[] as &[usize], &[] as &[_]),
        };
        let mut outputs = Vec::new();
        for index in part.order.iter().copied().filter(|index| wanted.contains(index)) {
            if let Some(reading) = part.readings.get(index) {
                let output = lowerer.formula(&reading.formula);
                lowerer.publish(Input::Reading(index), output);
                outputs.push((index, output));
            }
        }
        let of_frame: Vec<(usize, Status)> = frame_status.iter().map(|c| (lowerer.formula(&c.formula), c.status)).collect();
        let mut readings = Vec::new();
        for index in wanted.iter().copied() {
            let Some(reading) = part.readings.get(index) else { continue };
            let Some((_, output)) = outputs.iter().find(|(at, _)| *at == index) else { continue };
            let mut conditions = of_frame.clone();
            conditions.extend(reading.status.iter().map(|c| (lowerer.formula(&c.formula), c.status)));
            readings.push(ReadingPlan { index, output: *output, range: reading.range, conditions });
        }
        let mut program = lowerer.finish();
        prove(part, &mut program);
        let gathers = program.inputs.iter().filter_map(|(slot, input)| match input {
            Input::Code(code) => part.codes.get(*code).map(|code| (*slot, code.gather.clone())),
            Input::Reading(_) => None,
        });
        Plan { gathers: gathers.collect(), readings, program }
    }
}

/// Marks the operations that cannot fault for any code, so that they run unchecked.
fn prove(part: &Part, program: &mut Program) {
    let analysis = analyse(program, &|input| match input {
        Input::Code(code) => part.codes.get(code).map_or(Interval::Int(0, 0), |code| Interval::Int(code.bounds().0, code.bounds().1)),
        Input::Reading(_) => Interval::Real(f64::NEG_INFINITY, f64::INFINITY),
    });
    for (op, safe) in program.ops.iter_mut().zip(analysis.safe) {
        op.safe |= safe;
    }
}
