//! Jobs before a measurement: what makes its frames valid (`while` in the sheet), and registers that its readings use.

use yemdo::part::{Action, Reading, Register};
use yemdo::{FieldId, FrameId, RegisterId, RoutineId};

use super::session::{Job, Session};

impl Session {
    /// Prepends to the jobs of a measurement the routine that sets the fields its frames need, if exactly one does. Otherwise it prepends a read
    /// of the registers that hold these fields.
    pub(crate) fn awake_first(&self, mut jobs: Vec<Job>) -> Vec<Job> {
        let (mut unmet, mut asked): (Vec<(FieldId, i128)>, Vec<FieldId>) = (Vec::new(), Vec::new());
        for job in &jobs {
            let (frames, set) = (self.frames_read(job), if let Job::Routine(routine) = job { self.set_by(*routine) } else { Vec::new() });
            let is_set = |field: FieldId| set.iter().any(|(known, ..)| *known == field);
            for frame in frames.into_iter().filter_map(|id| self.part.frames().get(id)) {
                for (field, code) in frame.valid_while() {
                    // A routine that sets it if necessary has to know its present value.
                    match is_set(*field) {
                        true if self.may_sleep && set.iter().all(|(known, _, always)| known != field || !always) => asked.push(*field),
                        true => {}
                        false if self.may_sleep || self.known(*field) != Some(*code) => unmet.push((*field, *code)),
                        false => {}
                    }
                }
                let readings = self.part.readings().of(frame.readings()).flat_map(Reading::valid_while);
                asked.extend(readings.map(|(field, _)| *field).filter(|field| !is_set(*field) && self.known(*field).is_none()));
            }
        }
        // Inputs that the part alone knows; a part that is asleep gives them once it is awake.
        let unread = self.unread(&jobs);
        if !unread.is_empty() {
            jobs.insert(0, Job::Inputs(unread));
        }
        let planned = |routine: RoutineId| jobs.iter().any(|job| matches!(job, Job::Routine(planned) if *planned == routine));
        let wakes =
            |routine: &RoutineId| !planned(*routine) && unmet.iter().all(|need| self.set_by(*routine).contains(&(need.0, need.1, true)));
        let mut waking = self.part.routines().ids().filter(|routine| !unmet.is_empty() && wakes(routine));
        match (waking.next(), waking.next()) {
            (Some(only), None) => jobs.insert(0, Job::Routine(only)),
            _ => asked.extend(unmet.iter().map(|(field, _)| *field)),
        }
        let registers = self.part.registers().entries().filter(|(_, register)| register.access().is_readable());
        let registers = registers.filter(|(_, register)| register.fields().iter().any(|field| asked.contains(field)));
        let registers: Vec<RegisterId> = registers.map(|(id, _)| id).collect();
        if !registers.is_empty() {
            jobs.insert(0, Job::Registers(registers));
        }
        jobs
    }

    /// Registers that the readings of a measurement use, without those that its jobs read or set.
    fn unread(&self, jobs: &[Job]) -> Vec<RegisterId> {
        let (mut frames, mut done) = (Vec::new(), Vec::new());
        for job in jobs {
            frames.extend(self.frames_read(job));
            let Job::Routine(routine) = job else { continue };
            for (step, _) in self.part.steps_within(*routine) {
                if let Action::ReadRegisters(registers) | Action::WriteRegisters(registers) = &step.action {
                    done.extend(registers);
                }
            }
            let set = self.set_by(*routine);
            let is_set = |register: &Register| set.iter().any(|(field, ..)| register.fields().contains(field));
            done.extend(self.part.registers().entries().filter(|(_, register)| is_set(register)).map(|(id, _)| id));
        }
        let mut unread = self.state().unread(&self.part, &frames);
        unread.retain(|register| !done.contains(register));
        unread
    }

    fn known(&self, field: FieldId) -> Option<i128> {
        self.state().known_field(self.part.fields().get(field)?)
    }

    /// Fields that a routine sets, with their codes, and whether it sets them unconditionally.
    fn set_by(&self, routine: RoutineId) -> Vec<(FieldId, i128, bool)> {
        let mut found = Vec::new();
        for (step, always) in self.part.steps_within(routine) {
            if let Action::Set { fields, .. } = &step.action {
                found.extend(fields.iter().map(|(field, code)| (*field, *code, always)));
            }
        }
        found
    }

    /// Frames that a job reads.
    fn frames_read(&self, job: &Job) -> Vec<FrameId> {
        match job {
            Job::Frame(frame) => vec![*frame],
            Job::Routine(routine) => {
                let steps = self.part.steps_within(*routine).into_iter();
                steps.filter_map(|(step, _)| if let Action::ReadFrame(frame) = step.action { Some(frame) } else { None }).collect()
            }
            _ => Vec::new(),
        }
    }
}
