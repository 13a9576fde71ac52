//! Flags for settings without a value until they are read or set: one for each field and register that holds it.

use super::build::{Build, Wanted};
use super::code::{Expr, Member, Stmt, Type};
use super::names::snake;
use super::unpack::register;
use crate::formula::operators::Compare;
use crate::ground::number::Ty;
use crate::model::ids::{FieldId, FrameId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::part::{Part, Sheet};
use crate::model::registers::{Access, Field};
use crate::model::state::State;

/// Flags in one member of the settings.
const FLAGS: usize = 32;

/// Fields that formulas take from the settings and that have no value after a reset, with the places of their flags.
#[derive(Clone, Debug, Default)]
pub(super) struct Known {
    /// One flag each: a field, and the register that holds it or some of its bits.
    flags: Vec<(FieldId, Option<RegisterId>)>,
    members: Vec<String>,
}

/// Flags of one member: the member, its type, a mask.
pub(super) type Flags = (String, Ty, u64);

impl Known {
    pub(super) fn of(part: &Part, wanted: &Wanted) -> Self {
        let reset = State::reset(part);
        let taken = taken(part, wanted);
        let unknown =
            part.fields.entries().filter(|(id, field)| !field.joined && !reset.has_value_of(field) && has_bits_of(part, *id, &taken));
        let mut flags = Vec::new();
        for (id, _) in unknown {
            let before = flags.len();
            flags.extend(part.homes(id).map(|home| (id, Some(home))));
            if flags.len() == before {
                flags.push((id, None));
            }
        }
        // Registers and settings that no register holds are members, too.
        let is_taken = |name: &str| {
            let unstored = part.fields.entries().filter(|(id, _)| part.is_unstored(*id)).map(|(_, field)| &field.name);
            part.registers.iter().map(|register| &register.name).chain(unstored).any(|known| snake(known) == name)
        };
        let mut members = Vec::new();
        for index in 0..flags.len().div_ceil(FLAGS) {
            let mut name = if index == 0 { "known".to_owned() } else { format!("known_{}", index + 1) };
            while is_taken(&name) {
                name.insert_str(0, "are_");
            }
            members.push(name);
        }
        Self { flags, members }
    }

    fn ty(&self, member: usize) -> Ty {
        register((self.flags.len() - member * FLAGS).min(FLAGS) as u32)
    }

    /// Selected flags, by member.
    fn select(&self, is_meant: impl Fn(FieldId, Option<RegisterId>) -> bool) -> Vec<Flags> {
        let mask = |flags: &[(FieldId, Option<RegisterId>)]| {
            let set = flags.iter().enumerate().filter(|(_, (field, home))| is_meant(*field, *home));
            set.fold(0u64, |mask, (bit, _)| mask | 1 << bit)
        };
        let all = self.flags.chunks(FLAGS).zip(&self.members).enumerate();
        all.map(|(at, (flags, member))| (member.clone(), self.ty(at), mask(flags))).filter(|(.., mask)| *mask != 0).collect()
    }

    /// A register that holds one of the fields.
    pub(super) fn concerns(&self, register: RegisterId) -> bool {
        self.flags.iter().any(|(_, home)| *home == Some(register))
    }

    /// Members of the settings for the flags.
    pub(super) fn structure(&self, part: &Sheet) -> Vec<Member> {
        let mut members = Vec::new();
        for (at, (flags, name)) in self.flags.chunks(FLAGS).zip(&self.members).enumerate() {
            let what = |(bit, (field, home)): (usize, &(FieldId, Option<RegisterId>))| {
                let home = home.filter(|_| part.homes(*field).count() > 1).map(|home| format!(" in {}", part.registers[home].name));
                format!("0x{:X} {}{}", 1u64 << bit, part.fields[*field].name, home.unwrap_or_default())
            };
            let list: Vec<String> = flags.iter().enumerate().map(what).collect();
            let ty = self.ty(at);
            let doc =
                format!("Flags of values that were read or set: {}. Readings without a needed flag are formula faults", list.join(", "));
            members.push(Member { doc, name: name.clone(), ty: Type::Num(ty), default: Expr::Hex(0, ty) });
        }
        members
    }

    /// Value of the named member in some state.
    pub(super) fn value(&self, part: &Sheet, state: &State, member: &str) -> Option<u64> {
        let at = self.members.iter().position(|known| known == member)?;
        let is_known = |(field, home): &(FieldId, Option<RegisterId>)| {
            let field = &part.fields[*field];
            home.map_or_else(|| state.has_value_of(field), |home| has_value_in(part, state, field, home))
        };
        let flags = self.flags.chunks(FLAGS).nth(at)?.iter().enumerate();
        Some(flags.filter(|(_, flag)| is_known(flag)).fold(0, |mask, (bit, _)| mask | 1 << bit))
    }
}

/// True if formulas have a value for the bits of a field that a register holds.
fn has_value_in(part: &Sheet, state: &State, field: &Field, home: RegisterId) -> bool {
    let home = &part.registers[home];
    let mask = field.mask_in(home);
    state.bits_with_value(home) & mask == mask
}

/// True if a field shares bits with others: it is one of them, or part of one.
fn has_bits_of(part: &Sheet, id: FieldId, others: &[FieldId]) -> bool {
    let own = &part.fields[id].layout.slices;
    let shares = |other: &FieldId| {
        let slices = &part.fields[*other].layout.slices;
        slices.iter().any(|slice| own.iter().any(|own| own.byte == slice.byte && own.mask() & slice.mask() != 0))
    };
    others.contains(&id) || others.iter().any(shares)
}

/// Fields that a module's formulas take from its settings.
fn taken(part: &Part, wanted: &Wanted) -> Vec<FieldId> {
    let mut found: Vec<FieldId> = wanted.outside.iter().copied().collect();
    let holds = |frame: FrameId, field: FieldId| part.frames[frame].fields.iter().any(|(held, _)| *held == field);
    for id in wanted.readings.iter().flat_map(|id| part.needed(*id)) {
        let frames = || part.frames.entries().filter(move |(_, frame)| frame.readings.contains(&id)).map(|(frame, _)| frame);
        let of_frames = frames().flat_map(|frame| part.conditions(Some(frame), id)).map(|(_, condition)| &condition.formula);
        let formulas = part.readings[id].formulas().chain(of_frames);
        let fields = part.inputs_behind(formulas.flat_map(inputs)).into_iter().filter_map(Input::field);
        // Shared values belong to no frame.
        found.extend(fields.filter(|field| frames().next().is_none() || frames().any(|frame| !holds(frame, *field))));
    }
    found
}

impl Build<'_> {
    /// Flags of a field; empty if it always has a value.
    pub(super) fn flags_of(&self, field: FieldId) -> Vec<Flags> {
        self.known.select(|flagged, _| has_bits_of(self.part, flagged, &[field]))
    }

    /// Statements after a field was set.
    pub(super) fn now_known(&self, field: FieldId) -> Vec<Stmt> {
        self.flags_of(field).into_iter().map(set).collect()
    }

    /// Statements after a register was read.
    pub(super) fn now_read(&self, register: RegisterId) -> Vec<Stmt> {
        self.known.select(|_, home| home == Some(register)).into_iter().map(set).collect()
    }

    /// Statements after a register was written: the flags of bits that only the part sets do not change.
    pub(super) fn now_written(&self, register: RegisterId) -> Vec<Stmt> {
        let is_taken =
            |field: FieldId| matches!(self.part.fields[field].access, Access::ReadWrite | Access::WriteOnly | Access::SelfClearing);
        self.known.select(|field, home| home == Some(register) && is_taken(field)).into_iter().map(set).collect()
    }
}

fn flags(member: &str) -> Expr {
    Expr::Member("settings".into(), member.to_owned())
}

fn set((member, ty, mask): Flags) -> Stmt {
    let all = flags(&member).or(ty, Expr::Hex(mask, ty));
    Stmt::Set(flags(&member), all)
}

/// True if one of these flags is not set.
pub(super) fn missing((member, ty, mask): &Flags) -> Expr {
    let wanted = if mask.count_ones() == 1 { Expr::Int(0, *ty) } else { Expr::Hex(*mask, *ty) };
    let compare = if mask.count_ones() == 1 { Compare::Equal } else { Compare::NotEqual };
    flags(member).and_mask(*ty, *mask).compare(compare, *ty, wanted)
}
