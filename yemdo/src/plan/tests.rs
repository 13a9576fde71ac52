//! Plans as data: the passes over flat programs, what is known of every expression, the order of register writes, and
//! what the steps of a routine do.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing)] // tests end where something is wrong

use proptest::prelude::*;

use super::frame::{InputSource, Pass, Plan, PlanFor, PlanRange, bounds};
use super::reads::ReadPlan;
use super::routine::{RoutinePlan, StepPlan};
use super::writes::{WriteReason, WriteScope, writes};
use crate::formula::facts::Facts;
use crate::formula::flat::affine::{self, Step};
use crate::formula::flat::interval::{Interval, analyse};
use crate::formula::flat::lower::Lowerer;
use crate::formula::flat::program::{Num, Opcode, Program};
use crate::formula::flat::prove::prove;
use crate::formula::flat::{fuse, uniform};
use crate::formula::run::columns::Machine;
use crate::ground::list::Id;
use crate::model::ids::{FrameId, ReadingId};
use crate::model::input::Input;
use crate::model::part::Part;
use crate::model::state::State;

/// Codes of every width, a setting, a parameter, a code of another frame.
fn part(formula: &str) -> Part {
    let text = format!(
        r#"
part = "p"
[frame.F]
read = 12
code = {{ a = "signed b0", b = "b1", w = "signed b2 b3", l = "signed b4..b7", h = "signed b8..b11" }}
[frame.CAL]
read = 2
keep = true
code = {{ k = "b0 b1" }}
[register.SET]
at = 1
reset = 2
field.GAIN = {{ bits = "[2:0]" }}
[parameter.zero]
default = 1.5
range = [-10, 10]
[table.CURVE]
points = [[0, 0], [100, 50], [255, 60]]
outside = "fault"
[reading.r]
unit = "1"
formula = '''
{formula}'''
"#
    );
    Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"))
}

/// The flat program of a formula, without any pass.
fn flat(part: &Part) -> Program {
    let mut lowerer = Lowerer::new(&part.curves, false);
    lowerer.formula(&part.readings.get(ReadingId::new(0)).unwrap().formula);
    lowerer.finish()
}

fn opcodes(program: &Program) -> Vec<Opcode> {
    program.ops.iter().map(|op| op.what).collect()
}

/// The value of the program's output for codes that are put in by name, or nothing where it is at fault.
fn value(part: &Part, program: &Program, codes: &[(&str, i64)]) -> Option<f64> {
    let mut machine = Machine::new(program, 1);
    machine.begin();
    for (slot, key) in &program.inputs {
        let column = machine.column_mut(*slot).unwrap();
        match Input::of(*key) {
            Input::Code(code) => {
                let name = &part.codes.get(code).unwrap().name;
                column.put_int(0, codes.iter().find(|(known, _)| known == name).map_or(7, |(_, value)| *value));
            }
            Input::Parameter(_) => column.put(0, 1.5),
            _ => column.put_int(0, 2),
        }
    }
    machine.run(program, 1);
    machine.output(program, 0, 0).ok().map(|number| number.to_f64())
}

#[test]
fn what_formulas_have_in_common_is_there_once() {
    let program = flat(&part("w * 3 + b * 3 + w"));
    assert_eq!((program.inputs.len(), program.constants.len()), (2, 1), "each input and each constant has one place");
    // A value that readings share is computed once for all of them.
    let text = "part = \"p\"\nframe.F = { read = 2, code = { c = \"b0 b1\" } }\nshared.s.formula = \"sqrt(c + 1.0)\"\n\
                reading.p = { unit = \"1\", formula = \"s * 2\" }\nreading.q = { unit = \"1\", formula = \"s * s\" }\n";
    let two = Part::parse("p", text).unwrap();
    let plan = Plan::new(&two, FrameId::new(0), PlanFor::Decoding);
    assert_eq!((plan.readings.len(), plan.beside.len()), (2, 1));
    assert_eq!(opcodes(&plan.program).iter().filter(|op| matches!(op, Opcode::Call(..))).count(), 1);
    // Names of scopes side by side are different variables, whatever they are called.
    let scopes = part("int y = 0; if (a > 0) { int x = w * 2; y = x; } else { int x = b * 3; y = x; } return y;");
    let program = flat(&scopes);
    assert_eq!(value(&scopes, &program, &[("a", 1), ("w", 100), ("b", 5)]), Some(200.0));
    assert_eq!(value(&scopes, &program, &[("a", -1), ("w", 100), ("b", 5)]), Some(15.0));
}

#[test]
fn proofs_follow_branches() {
    // Whether all operations are proved, and the bounds of the result.
    let cases = [
        ("w + b", true, (-32768.0, 33022.0)),
        ("w * w", true, (-1_073_709_056.0, 1_073_741_824.0)),
        ("l + 1", false, (-2_147_483_647.0, 2_147_483_647.0)),
        ("w / b", false, (-32768.0, 32767.0)),
        ("b > 0 ? w / b : 0", true, (-32768.0, 32767.0)),
        ("b & 0x0F", true, (0.0, 15.0)),
        ("w >> 4", true, (-2048.0, 2047.0)),
        ("b * 0.5 - 20", true, (-20.0, 107.5)),
        ("CURVE(b)", true, (0.0, 60.0)),
        ("CURVE(b + 1)", false, (0.5, 60.0)),
        ("w < 0 ? -w : w", true, (0.0, 32768.0)),
        ("GAIN * 1000 + b * 0", true, (0.0, 7000.0)),
    ];
    for (formula, proved, (low, high)) in cases {
        let part = part(formula);
        let mut program = flat(&part);
        prove(&mut program, &|key| bounds(&part, key));
        assert_eq!(program.ops.iter().all(|op| op.safe), proved, "{formula}");
        let found = analyse(&program, &|key| bounds(&part, key)).slot(program.outputs[0].0).to_f64();
        assert!(
            if proved { found.0 >= low - 1e-9 && found.1 <= high + 1e-9 } else { found.0 <= low && found.1 >= high },
            "{formula}: {found:?}"
        );
        assert_eq!(program.finite[0], found.0.is_finite() && found.1.is_finite(), "{formula}");
    }
    assert_eq!(bounds(&part("w"), Input::Code(part("w").codes.entries().nth(1).unwrap().0).key()), Interval::Int(0, 255));
}

#[test]
fn what_stays_the_same_is_marked() {
    let part = part("w * (GAIN * 3 + 1) + zero * 2");
    let plan = Plan::new(&part, FrameId::new(0), PlanFor::Decoding);
    let held: Vec<_> = plan.loads.iter().filter(|load| load.from.is_held()).collect();
    assert_eq!(held.len(), 2, "the setting and the parameter");
    let once: Vec<Opcode> = plan.program.ops.iter().filter(|op| op.uniform).map(|op| op.what).collect();
    assert!(once.contains(&Opcode::Mul(Num::I32)) && once.contains(&Opcode::Mul(Num::F64)), "{once:?}");
    // What the frame says is not; and an operand that stays the same stands on the right.
    let of_frame: Vec<_> = plan.program.ops.iter().filter(|op| !op.uniform).collect();
    assert!(!of_frame.is_empty() && of_frame.iter().any(|op| op.what == Opcode::Mul(Num::I32) && op.same_b), "{of_frame:?}");
    // A division that may fault is never done once for all: its fault belongs to each frame.
    let mut program = flat(&super::tests::part("w + 8 / GAIN"));
    let every: Vec<_> = program.inputs.iter().map(|(slot, _)| *slot).collect();
    uniform::mark(&mut program, every.into_iter());
    assert!(program.ops.iter().all(|op| op.what != Opcode::Div(Num::I32) || !op.uniform));
}

#[test]
fn one_input_times_a_number_needs_no_program() {
    let way = |formula: &str| {
        let part = part(formula);
        let mut program = flat(&part);
        prove(&mut program, &|key| bounds(&part, key));
        affine::find(&program, program.outputs[0].0).map(|(_, steps)| steps)
    };
    assert_eq!(way("w * 0.25 - 3"), Some(vec![Step::Mul(0.25), Step::Add(-3.0)]));
    assert_eq!(way("(3.0 + w) * 0.1"), Some(vec![Step::Add(3.0), Step::Mul(0.1)]));
    // Dividing by a power of two is exact as a product; by anything else it rounds in its own way.
    assert_eq!((way("w / 8.0"), way("w / 10.0")), (Some(vec![Step::Mul(0.125)]), Some(vec![Step::Div(10.0)])));
    let folded = |text| affine::folded(&way(text).unwrap(), false);
    assert_eq!(folded("w * 100.0 / 1048576.0"), [Step::Mul(100.0 / 1048576.0)]);
    assert_eq!(folded("(w * 0.3 + 7.0) / 8.0"), [Step::Mul(0.3 / 8.0), Step::Add(7.0 / 8.0)]);
    assert_eq!(folded("w / 16.0 / 10.0"), [Step::Div(160.0)]);
    for text in
        ["w * 100.0 / 1048576.0", "(w * 0.3 + 7.0) / 8.0 / 0.7", "(w / 0.7 - 3.0) * 4.0 + 0.1", "w * 0.5 * 0.1 - 6.0", "(w - 300.0) * 2.0"]
    {
        let (steps, short) = (way(text).unwrap(), folded(text));
        for code in (0..0x10000).map(f64::from) {
            let [long, short] = [&steps, &short].map(|steps| steps.iter().fold(code, |value, step| step.apply(value)).to_bits());
            assert_eq!(long, short, "{text} of {code}");
        }
    }
    for other in
        ["w * w * 1.0", "w * b * 0.5", "3.0 - w", "w * 0.25 + zero", "sqrt(fabs(w))", "w / 0.0 + 1", "((((w + 1.0) * 2) + 3) * 4) + 5"]
    {
        assert_eq!(way(other), None, "{other}");
    }
    let plan = Plan::new(&part("w * 0.25 - 3"), FrameId::new(0), PlanFor::Decoding);
    assert!(plan.is_straight() && plan.readings[0].affine.is_some() && plan.readings[0].is_bare());
    assert!(!Plan::new(&part("w * 0.25 + b"), FrameId::new(0), PlanFor::Decoding).is_straight());
    // Floats too, in their own precision, if nobody else waits for their faults.
    let float =
        "part = \"p\"\nframe.F = { read = 4, code = { f = \"float b2 b3 b0 b1\" } }\nreading.r = { unit = \"1\", formula = \"f - 3\" }\n";
    let user = "reading.s = { unit = \"1\", formula = \"r * f\" }\n";
    let straight = |text: String| Plan::new(&Part::parse("p", &text).expect("a sheet"), FrameId::new(0), PlanFor::Decoding).is_straight();
    assert_eq!((straight(float.into()), straight(format!("{float}{user}"))), (true, false));
}

#[test]
fn pairs_become_one_operation_and_stay_what_they_were() {
    let cases: [(&str, &[Opcode]); 4] = [
        ("(w * b) >> 3", &[Opcode::MulShr(Num::I32)]),
        ("((int64_t)w * b) >> 5", &[Opcode::MulShr(Num::I64)]),
        ("(((int64_t)w) << 4) / (int64_t)(b + 1)", &[Opcode::ShlDiv]),
        ("int x = w; if (x < 100) { x = 100; } return x;", &[Opcode::Max(Num::I32)]),
    ];
    for (formula, wanted) in cases {
        let part = part(formula);
        let plain = {
            let mut program = flat(&part);
            prove(&mut program, &|key| bounds(&part, key));
            program
        };
        let mut fused = plain.clone();
        uniform::mark(&mut fused, std::iter::empty());
        fuse::pairs(&mut fused);
        assert!(wanted.iter().all(|op| opcodes(&fused).contains(op)), "{formula}: {:?}", opcodes(&fused));
        assert!(fused.ops.len() < plain.ops.len());
        for (w, b) in [(0, 0), (-32768, 255), (32767, 1), (-1, 3), (99, 7), (100, 200), (101, 254)] {
            let codes = [("w", w), ("b", b)];
            assert_eq!(value(&part, &fused, &codes), value(&part, &plain, &codes), "{formula} with w = {w}, b = {b}");
        }
    }
    // What may fault is left as it is: its fault has to be found.
    let part = part("(l * b) >> 3");
    let mut program = flat(&part);
    prove(&mut program, &|key| bounds(&part, key));
    let before = opcodes(&program);
    uniform::mark(&mut program, std::iter::empty());
    fuse::pairs(&mut program);
    assert_eq!(opcodes(&program), before);
}

/// Facts by expression: what an emitter may leave out, and what `check` underlines.
#[test]
fn every_expression_has_its_facts() {
    let part = part("int x = w / b; return x + l * 2 + 1 / (b + 1.0);");
    let formula = &part.readings.get(ReadingId::new(0)).unwrap().formula;
    let facts = Facts::of_all(&[(Input::Reading(ReadingId::new(0)).key(), formula)], &part.curves, &|key| bounds(&part, key)).remove(0);
    let text = |expr: &crate::formula::typed::Expr| part.source.slice(expr.span).to_owned();
    let doubts: Vec<String> = facts.doubts(formula).into_iter().map(text).collect();
    assert_eq!(doubts, ["w / b", "x + l * 2", "l * 2"]);
    let mut seen = Vec::new();
    crate::formula::typed::each(&formula.body, &mut |expr| {
        let fact = facts.get(expr.id).unwrap();
        seen.push((text(expr), fact.bounds.to_f64(), fact.cannot_fault, fact.can_be_infinite));
    });
    let of = |wanted: &str| seen.iter().find(|(text, ..)| text == wanted).unwrap_or_else(|| panic!("{wanted}: {seen:?}")).clone();
    assert_eq!(of("b").1, (0.0, 255.0));
    assert_eq!((of("(b + 1.0)").1, of("(b + 1.0)").2), ((1.0, 256.0), true));
    let quotient = of("1 / (b + 1.0)");
    assert!(quotient.2 && !quotient.3 && quotient.1.0 > 0.0 && quotient.1.1 <= 1.0, "{quotient:?}");
    assert!(facts.get(crate::formula::typed::ExprId(9999)).is_none());
    // Every expression has a number of its own.
    assert_eq!(seen.len(), formula.expressions);
}

proptest! {
    /// No value leaves its bounds, and what is proved does not fault, whatever the codes are.
    #[test]
    fn bounds_hold_what_comes_out(which in 0usize..12, a in any::<i8>(), b in any::<u8>(), w in any::<i16>(), l in any::<i32>()) {
        const FORMULAS: [&str; 12] = [
            "w * b + a", "w / (b + 1) - a", "(w ^ b) & 0x7FF", "b > 10 ? w % b : l / 3", "l >> (b & 7)", "(uint8_t)w + (int8_t)b",
            "w * 0.5 + b / 3.0", "fabs(w) - sqrt(b)", "int x = w; x /= 2; x *= 3; return x;", "a < b && w > 0 || l == 0",
            "(int64_t)l * w >> 4", "fmin(w, b) + fmax(a, 3) - floor(b * 0.3)",
        ];
        let part = part(FORMULAS[which]);
        let mut program = flat(&part);
        prove(&mut program, &|key| bounds(&part, key));
        let (low, high) = analyse(&program, &|key| bounds(&part, key)).slot(program.outputs[0].0).to_f64();
        let codes = [("a", i64::from(a)), ("b", i64::from(b)), ("w", i64::from(w)), ("l", i64::from(l))];
        match value(&part, &program, &codes) {
            Some(value) => prop_assert!(low <= value && value <= high, "{}: {value} is not in {low} to {high}", FORMULAS[which]),
            None => prop_assert!(!program.ops.iter().all(|op| op.safe), "{} is proved, and faults", FORMULAS[which]),
        }
    }
}

#[test]
fn a_frame_is_planned_as_data() {
    let text = r#"
part = "p"
[frame.CAL]
read = 2
keep = true
code = { k = "b0 b1" }
[frame.AIR]
read = 5
check = { crc = { width = 8, poll = 1 }, over = "b0..b3", in = "b4" }
code = { t = "b0 b1", state = "b2[7:6]", v = { layout = "b3", range = [3, 250] } }
status = [{ when = "state == 3", is = "not ready" }]
[reading]
temperature = { unit = "K", formula = "t * 0.5 + k" }
supply = { unit = "V", formula = "v * 0.02", range = [1, 4] }
"#;
    let part = Part::parse("p", &text.replace("poll = 1", "poly = 0x4D")).unwrap();
    let plan = Plan::new(&part, part.frame("AIR").unwrap(), PlanFor::Decoding);
    assert_eq!(plan.readings.iter().map(|reading| reading.range).collect::<Vec<_>>(), [None, Some(PlanRange::Numbers(1.0, 4.0))]);
    assert_eq!(plan.readings.iter().map(|reading| (reading.conditions.len(), reading.last_byte)).collect::<Vec<_>>(), [(1, 1), (1, 3)]);
    assert_eq!(plan.readings[0].needs, [(part.frame("CAL").unwrap(), 1)]);
    assert_eq!(plan.needs(&part), [part.frame("CAL").unwrap()]);
    let ranged =
        plan.loads.iter().find_map(|load| if let InputSource::Frame(_, Some(range)) = load.from { Some(range) } else { None }).unwrap();
    assert!(ranged.contains(3) && ranged.contains(250) && !ranged.contains(2) && !ranged.contains(251));
    assert_eq!(plan.checks.len(), 1);
    assert!(plan.passes.iter().any(|pass| matches!(pass, Pass::Check(0) | Pass::LoadAndCheck(_, 0))));
    assert!(
        plan.loads[..plan.own_loads].iter().all(|load| !load.from.is_held())
            && plan.loads[plan.own_loads..].iter().all(|load| load.from.is_held())
    );
    // A frame of nothing is a plan of nothing.
    assert!(Plan::new(&part, part.frame("CAL").unwrap(), PlanFor::Decoding).is_straight());
}

const REGISTERS: &str = r#"
part = "p"
i2c.address = 0x2B
register.PAGE = { at = 0, reset = 0, field.PAGE = { bits = "[0]" } }
register.KEY = { at = 1, reset = 0, field.KEY = { bits = "[7:0]" } }
register.GAIN = { at = 2, reset = 4, while = { KEY = 0x5C }, field.GAIN = { bits = "[3:0]" } }
register.TRIM = { at = 3, reset = 0, bank = { PAGE = 1 }, field.TRIM = { bits = "[7:0]" } }
register.GO = { at = 4, reset = 0, access = "self-clearing", field.GO = { bits = "[0]" } }
frame.F = { registers = "GAIN", code = { c = "GAIN" } }
[routine]
set = [{ set = { GAIN = 9, TRIM = 0x33 } }, { set.GO = 1 }, { read = "F" }, { wait = "1 ms" }]
maybe = [{ poll = "GO == 0", within = "5 ms" }, { set.KEY = 1, when = "GAIN > 3" }, { set.GAIN = 2 }, { do = "set" }]
"#;

#[test]
fn locked_registers_are_unlocked_written_and_locked_again() {
    let part = Part::parse("p", REGISTERS).unwrap();
    let field = |name: &str| part.field(name).unwrap();
    let name = |id| part.registers.get(id).unwrap().name.clone();
    let plan = |asked: &[(&str, i128)], scope, unknown: &[&str]| {
        let mut start = State::reset(&part);
        unknown.iter().for_each(|name| start.forget_field(part.fields.get(field(name)).unwrap()));
        let mut end = start.clone();
        let asked: Vec<_> = asked.iter().map(|(name, code)| (field(name), *code)).collect();
        asked.iter().for_each(|(id, code)| end.set_field(part.fields.get(*id).unwrap(), *code));
        let done = writes(&part, &start, &end, &asked, scope).unwrap_or_else(|error| panic!("{error:?}"));
        done.into_iter().map(|write| (name(write.register), write.value, write.reason)).collect::<Vec<_>>()
    };
    let unlock = Some(WriteReason::Unlocks);
    let restore = Some(WriteReason::Restores);
    assert_eq!(
        plan(&[("GAIN", 9)], WriteScope::Changed, &[]),
        [("KEY".to_owned(), 0x5C, unlock), ("GAIN".to_owned(), 9, None), ("KEY".to_owned(), 0, restore)]
    );
    assert_eq!(plan(&[("TRIM", 7)], WriteScope::Changed, &[])[0], ("PAGE".to_owned(), 1, unlock));
    // What it has already is not written, unless all is.
    assert_eq!(plan(&[("GAIN", 4)], WriteScope::Changed, &[]), []);
    assert!(plan(&[("GAIN", 4)], WriteScope::All, &[]).iter().any(|(name, value, _)| name == "GAIN" && *value == 4));
    // The key is asked for as well: it stays as asked.
    assert_eq!(plan(&[("KEY", 0x5C), ("GAIN", 9)], WriteScope::Changed, &[]).len(), 2);
    // Nobody knows whether the page is open: it is opened in any case.
    let open = plan(&[("TRIM", 7), ("PAGE", 1)], WriteScope::Changed, &["PAGE"]);
    assert_eq!(open[0].0, "PAGE");
}

#[test]
fn the_steps_of_a_routine_are_planned_as_data() {
    let part = Part::parse("p", REGISTERS).unwrap();
    let set = part.routine("set").unwrap();
    let plan = RoutinePlan::new(&part, set, &State::reset(&part));
    let Some(StepPlan::Set(first)) = plan.step(set, 0) else { panic!("a set") };
    let names: Vec<&str> = first.iter().map(|write| part.registers.get(write.register).unwrap().name.as_str()).collect();
    assert_eq!(names.iter().filter(|name| **name == "GAIN").count(), 1);
    assert_eq!(names.iter().filter(|name| **name == "TRIM").count(), 1);
    assert_eq!(names.iter().filter(|name| **name == "KEY").count(), 2, "unlocked and locked: {names:?}");
    let Some(StepPlan::Read(reads)) = plan.step(set, 2) else { panic!("a read") };
    assert_eq!(reads.as_slice(), [ReadPlan::Frame(part.frame("F").unwrap())]);
    assert!(matches!(plan.step(set, 3), Some(StepPlan::Nothing)) && plan.step(set, 4).is_none());
    // After a step that may or may not be done, nobody knows the key: it is turned in any case.
    let maybe = part.routine("maybe").unwrap();
    let plan = RoutinePlan::new(&part, maybe, &State::reset(&part));
    let Some(StepPlan::Read(polled)) = plan.step(maybe, 0) else { panic!("a poll reads") };
    assert_eq!(polled[0], ReadPlan::Register(part.register("GO").unwrap()));
    let Some(StepPlan::Set(gain)) = plan.step(maybe, 2) else { panic!("a set") };
    assert_eq!(gain.first().map(|write| write.value), Some(0x5C));
    assert!(matches!(plan.step(maybe, 3), Some(StepPlan::Nothing)), "another routine runs");
    assert!(plan.step(set, 0).is_some(), "the routine that is run has its plan too");
}
