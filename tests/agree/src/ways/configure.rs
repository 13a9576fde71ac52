//! Which bytes set something: at once, one by one, a second time, and read back.

use yemdo::configure::{Configuration, ConfigureError, Wish, WriteScope, configure, quantity_value};
use yemdo::part::{Access, Field, Register};
use yemdo::{Part, State};

use super::decode::decoder;
use super::{Row, Tally};
use crate::cases;
use crate::choices::Choices;

/// Times that something is wished for.
const ROUNDS: usize = 8;

/// Random wishes from random states.
pub fn settings(part: &Part, c: &mut Choices<'_>, tally: &mut Tally) {
    for _ in 0..ROUNDS {
        let mut start = decoder(part, c).state().clone();
        if c.chance(50) {
            // All of it is known.
            for register in part.registers().iter().filter(|register| start.known_register(register).is_none()).collect::<Vec<_>>() {
                start.set_register(register, start.register(register));
            }
        }
        let typed = cases::wishes(c, part, 4);
        let wishes: Vec<Wish> = typed.iter().filter_map(|typed| Wish::parse(part, typed).ok()).collect();
        let Ok(done) = configure(part, &start, &wishes, WriteScope::Changed) else { continue };
        let about = || typed.join(" ");
        again(part, &wishes, &done, tally, &about);
        one_by_one(part, &start, &wishes, &done, tally, &about);
        writes(part, &start, &done, tally, &about);
        values(part, &wishes, &done, tally, &about);
    }
}

/// Setting the same value again needs no write, except for bits that trigger something.
fn again(part: &Part, wishes: &[Wish], done: &Configuration, tally: &mut Tally, about: &dyn Fn() -> String) {
    let acts = |wish: &Wish| {
        let Wish::Field { field, .. } = wish else { return false };
        let access = part.fields().get(*field).map(|field| field.access());
        !matches!(access, Some(Access::ReadWrite | Access::WriteOnly))
    };
    let defined = |field: &Field| done.state.known_field(field).is_none_or(|code| field.values().is_empty() || field.value(code).is_some());
    if wishes.iter().any(acts) || !part.fields().iter().all(defined) {
        return;
    }
    let second = configure(part, &done.state, wishes, WriteScope::Changed);
    let nothing = second.as_ref().is_ok_and(|second| second.writes.is_empty());
    tally.hold(Row::Setting, "set again, nothing is written", nothing, || format!("{}: {:?}", about(), second.map(|second| second.writes)));
}

/// Fields set one by one, in either order, end as they do when set at once.
fn one_by_one(part: &Part, start: &State, wishes: &[Wish], done: &Configuration, tally: &mut Tally, about: &dyn Fn() -> String) {
    // Unknown values cannot be restored, so the result would depend on the order.
    let known = part.registers().iter().all(|register| start.known_register(register).is_some());
    if !known || !wishes.iter().all(|wish| matches!(wish, Wish::Field { .. } | Wish::Parameter { .. })) {
        return;
    }
    for turned in [false, true] {
        let mut order: Vec<&Wish> = wishes.iter().collect();
        if turned {
            order.reverse();
        }
        let mut state = start.clone();
        let outcome = order.iter().try_for_each(|wish| {
            state = configure(part, &state, std::slice::from_ref(*wish), WriteScope::Changed)?.state;
            Ok::<(), ConfigureError>(())
        });
        // An intermediate step may break a rule that the final state keeps.
        if matches!(outcome, Err(ConfigureError::Below { .. })) {
            continue;
        }
        // Of bits that are unknown, one way may say more than the other.
        let alike = |register: &Register| {
            let (one, other) = (state.known_register(register), done.state.known_register(register));
            one.is_none() || other.is_none() || one == other
        };
        let same = outcome.is_ok() && part.registers().iter().all(alike) && state.parameters() == done.state.parameters();
        tally.hold(Row::Setting, "one by one is at once", same, || {
            format!("{}, turned {turned}: {outcome:?}\n  {state:?}\n  {:?}", about(), done.state)
        });
    }
}

/// The writes lead from the start to the end, with correct values before and after.
fn writes(part: &Part, start: &State, done: &Configuration, tally: &mut Tally, about: &dyn Fn() -> String) {
    let mut state = start.clone();
    for write in &done.writes {
        let register = &part.registers()[write.register];
        let before = write.before == state.known_register(register);
        tally.hold(Row::Setting, "before a write", before, || {
            format!("{}: {} {:?} for {:?}", about(), register.name(), write.before, state.known_register(register))
        });
        write.apply(part, &mut state);
    }
    for (_, register) in part.registers().entries() {
        let (one, other) = (state.known_register(register), done.state.known_register(register));
        let same = one.is_none() || other.is_none() || one == other;
        tally.hold(Row::State, "registers after the writes", same, || format!("{}: {} {one:?} for {other:?}", about(), register.name()));
    }
}

/// Every wish is fulfilled in the final state.
fn values(part: &Part, wishes: &[Wish], done: &Configuration, tally: &mut Tally, about: &dyn Fn() -> String) {
    for wish in wishes {
        let Wish::Field { field, code, .. } = wish else { continue };
        let Some(model) = part.fields().get(*field) else { continue };
        if matches!(model.access(), Access::ReadWrite | Access::WriteOnly) {
            let found = done.state.known_field(model);
            tally.hold(Row::Setting, "a field that is set", found == Some(*code), || format!("{}: {} {found:?}", about(), model.name()));
        }
    }
    for result in &done.quantities {
        let value = quantity_value(part, result.quantity, &done.state);
        let same = value.map(f64::to_bits) == Some(result.value.to_bits());
        tally.hold(Row::Setting, "a quantity that is set", same, || format!("{}: {value:?} for {}", about(), result.value));
    }
}
