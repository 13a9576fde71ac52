//! Every way to decode gives the same: a frame alone, in a row that is kept, among many, and by plain computation.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

mod common;

use std::sync::OnceLock;

use common::shipped;
use proptest::prelude::*;
use yemdo::FrameId;
use yemdo::layout::{Crc, CrcModel};
use yemdo::part::Id;
use yemdo::{Columns, FrameValues};
use yemdo::{Decoder, FieldId, ParameterId, Part, Refusal, Status};

/// Decodes a frame in three ways, of decoders that saw the same before, and holds them to one another.
fn three_ways(decoder: &Decoder, frame: FrameId, bytes: &[u8], row: &mut FrameValues, columns: &mut Columns) {
    let name = decoder.part().name();
    let (mut alone, mut kept, mut many) = (decoder.clone(), decoder.clone(), decoder.clone());
    let whole = many.frame_bytes(frame, bytes).map(|(bytes, given)| (bytes.into_owned(), given));
    let decoded = alone.decode(frame, bytes);
    // The first frame settles what stays the same, the second finds it settled.
    for _ in 0..2 {
        let into = kept.decode_into(frame, bytes, row);
        assert_eq!(decoded.as_ref().err(), into.as_ref().err(), "{name}");
    }
    let Ok((whole, given)) = whole else { return };
    many.decode_many_partial(frame, &whole.repeat(3), given, columns).unwrap();
    match decoded {
        Ok(decoded) => {
            for (at, reading) in decoded.readings.iter().enumerate() {
                let bits = reading.value.unwrap_or(f64::NAN).to_bits();
                assert_eq!((row.status(at), columns.status(at, 2)), (reading.status, reading.status), "{name} {}", reading.name);
                assert_eq!(row.value(at).unwrap_or(f64::NAN).to_bits(), bits, "{name} {}", reading.name);
                assert_eq!(columns.values(at)[2].to_bits(), bits, "{name} {}", reading.name);
            }
            let age = alone.state().unmet(alone.part(), frame).is_empty().then_some(0);
            assert_eq!((alone.age(frame), kept.age(frame), many.age(frame)), (age, age, age));
        }
        Err(Refusal::Check { .. }) => assert!((0..3).all(|frame| columns.failed_check(frame).is_some()), "{name}"),
        Err(other) => panic!("{name}: {other}"),
    }
}

/// What is settled once is worked out anew when it changes: a setting that decides between formulas, a parameter, and a
/// frame that another needs.
#[test]
fn what_stays_the_same_may_change() {
    let sheet = r#"
part = "p"
[register.MODE]
at = 1
reset = 0
[register.MODE.field.FINE]
bits = "[0]"
values = [{ name = "coarse", code = 0, step = 0.5 }, { name = "fine", code = 1, step = 0.25 }]
[frame.F]
read = 2
code = { a = "signed b0 b1" }
[frame.ZERO]
read = 1
code = { zero = "b0" }
[parameter.gain]
default = 3
unit = "1"
range = [1, 9]
[reading]
whole  = { unit = "1", formula = "int32_t x = a - zero; if (FINE == 1) { x = x * 3; } return x;" }
scaled = { unit = "1", formula = "(FINE == 1 ? a : a * 2) * FINE.step * gain", range = [-1000, 1000] }
"#;
    let part = Part::parse("p", sheet).unwrap();
    let (mut decoder, mut row) = (Decoder::new(&part), FrameValues::new());
    let mut seen = |decoder: &mut Decoder, a: i16| {
        decoder.decode_into(FrameId::new(0), &a.to_be_bytes(), &mut row).unwrap();
        ((row.value(0), row.status(0)), (row.value(1), row.status(1)))
    };
    let ok = |value: f64| (Some(value), Status::Ok);
    assert_eq!(seen(&mut decoder, 50), ((None, Status::Waiting), ok(150.0)));
    decoder.decode_into(FrameId::new(1), &[8], &mut FrameValues::new()).unwrap();
    for _ in 0..3 {
        assert_eq!(seen(&mut decoder, 50), (ok(42.0), ok(150.0)));
        assert_eq!(seen(&mut decoder, -400), (ok(-408.0), (Some(-1200.0), Status::OutOfRange)));
    }
    decoder.state_mut().set_field(part.fields().first().unwrap(), 1);
    for _ in 0..3 {
        assert_eq!(seen(&mut decoder, 50), (ok(126.0), ok(37.5)));
    }
    decoder.set_parameter(ParameterId::new(0), 2.0).unwrap();
    decoder.decode_into(FrameId::new(1), &[10], &mut FrameValues::new()).unwrap();
    for _ in 0..3 {
        assert_eq!(seen(&mut decoder, 50), (ok(120.0), ok(25.0)));
    }
    decoder.state_mut().set_field(part.fields().first().unwrap(), 0);
    assert_eq!(seen(&mut decoder, 50), (ok(40.0), ok(100.0)));
    decoder.clear_frames();
    assert_eq!(seen(&mut decoder, 50), ((None, Status::Waiting), ok(100.0)));
}

/// A formula that uses a value which is at fault is at fault where it does use it: not in a branch that is not taken.
#[test]
fn a_fault_counts_where_the_value_is_used() {
    let sheet = r#"
part = "p"
frame.F = { read = 2, code = { a = "b0", b = "b1" } }
[shared]
ratio = { formula = "200 / a" }
[reading]
always = { unit = "1", formula = "ratio + b" }
chosen = { unit = "1", formula = "a == 0 ? -1 : ratio * 2" }
early  = { unit = "1", formula = "if (a == 0) { return b; } if (b > 9) { return ratio; } return ratio + b;" }
both   = { unit = "1", formula = "a != 0 && ratio > 10 ? 1 : 0" }
next   = { unit = "1", formula = "b == 5 ? always : chosen" }
"#;
    let part = Part::parse("p", sheet).unwrap();
    let (mut row, mut columns) = (FrameValues::new(), Columns::new());
    let decoder = Decoder::new(&part);
    for (bytes, expected) in [
        ([0, 4], [None, Some(-1.0), Some(4.0), Some(0.0), Some(-1.0)]),
        ([0, 5], [None, Some(-1.0), Some(5.0), Some(0.0), None]),
        ([10, 4], [Some(24.0), Some(40.0), Some(24.0), Some(1.0), Some(40.0)]),
        ([40, 10], [Some(15.0), Some(10.0), Some(5.0), Some(0.0), Some(10.0)]),
    ] {
        three_ways(&decoder, FrameId::new(0), &bytes, &mut row, &mut columns);
        assert_eq!([0, 1, 2, 3, 4].map(|reading| row.value(reading)), expected, "{bytes:?}");
        let faults = expected.map(|value| if value.is_some() { Status::Ok } else { Status::FormulaFault });
        assert_eq!([0, 1, 2, 3, 4].map(|reading| row.status(reading)), faults, "{bytes:?}");
        // The steps show no number where there is none, and name the fault of what is shared too.
        let steps = decoder.clone().steps(FrameId::new(0), &bytes).unwrap().readings;
        let why = steps.iter().find(|reading| reading.name == "always").and_then(|reading| reading.fault.as_ref());
        assert_eq!(why.map(ToString::to_string), (bytes[0] == 0).then(|| "a value it needs is at fault: ratio".to_owned()));
        let shown = steps.iter().map(|reading| (reading.name.as_str(), reading.lines.last().unwrap().outcome(), reading.fault.is_some()));
        let of =
            |name: &'static str, value: Option<f64>| (name, value.map_or("no value".into(), |value| value.to_string()), value.is_none());
        let ratio = (bytes[0] != 0).then(|| f64::from(200 / i32::from(bytes[0].max(1))));
        let names = ["always", "chosen", "early", "both", "next"];
        let expected: Vec<_> =
            std::iter::once(of("ratio", ratio)).chain(names.into_iter().zip(expected).map(|(name, value)| of(name, value))).collect();
        assert_eq!(shown.collect::<Vec<_>>(), expected, "{bytes:?}");
    }
}

/// The shipped parts, read once.
static PARTS: OnceLock<Vec<Part>> = OnceLock::new();

proptest! {
    #![proptest_config(ProptestConfig::with_cases(ProptestConfig::default().cases / 4))]

    /// Random bytes behind every example of every sheet: most fail their checks, so the checks are mended.
    #[test]
    fn all_ways_agree_for_any_bytes(noise in proptest::collection::vec(any::<u8>(), 64), set in any::<u32>()) {
        let (mut row, mut columns) = (FrameValues::new(), Columns::new());
        for part in PARTS.get_or_init(|| shipped().iter().map(|(name, text)| Part::parse(name, text).unwrap()).collect()) {
            let name = part.name();
            let mut decoder = Decoder::new(part);
            for (index, field) in part.fields().iter().enumerate().filter(|(_, field)| !field.values().is_empty()) {
                let code = field.values()[(set as usize >> index) % field.values().len()].code;
                decoder.state_mut().set_field(field, code);
            }
            for (frame, bytes) in part.examples().iter().flat_map(|example| example.frames()) {
                three_ways(&decoder, *frame, bytes, &mut row, &mut columns);
                let _ = decoder.decode(*frame, bytes);
                let length = part.frames().get(*frame).unwrap().length();
                let mut bent: Vec<u8> = noise.iter().copied().cycle().take(length).collect();
                for check in part.frames().get(*frame).unwrap().checks() {
                    // The check's own place takes what the other bytes call for.
                    let mut value = check.expected(&bent);
                    for slice in check.place.iter().rev() {
                        let mask = 0xFFu8 >> (7 - (slice.high - slice.low));
                        bent[slice.byte] = bent[slice.byte] & !(mask << slice.low) | ((value as u8 & mask) << slice.low);
                        value >>= slice.high - slice.low + 1;
                    }
                    prop_assert!(check.passes(&bent), "{}", name);
                }
                three_ways(&decoder, *frame, &bent, &mut row, &mut columns);
            }
        }
    }

    /// A decoder that is kept while settings, parameters and frames change says what one says that was set so from the
    /// beginning: nothing that was worked out before is left over.
    #[test]
    fn nothing_is_left_over(doings in proptest::collection::vec((0u8..8, any::<usize>(), any::<usize>(), 0.0f64..1.0), 1..40)) {
        let mut row = FrameValues::new();
        for part in PARTS.get_or_init(|| shipped().iter().map(|(name, text)| Part::parse(name, text).unwrap()).collect()) {
            let frames: Vec<&(FrameId, Vec<u8>)> = part.examples().iter().flat_map(|example| example.frames()).collect();
            let choices: Vec<FieldId> = part.fields().ids().filter(|field| !part.fields().get(*field).unwrap().values().is_empty()).collect();
            let mut kept = Decoder::new(part);
            let mut came: Vec<Option<&Vec<u8>>> = vec![None; part.frames().len()];
            let (mut set, mut given) = (Vec::new(), kept.state().parameters().to_vec());
            for (what, which, code, share) in &doings {
                match what {
                    0 if !choices.is_empty() => {
                        let field = part.fields().get(choices[which % choices.len()]).unwrap();
                        set.push((field, field.values()[code % field.values().len()].code));
                        kept.state_mut().set_field(field, set[set.len() - 1].1);
                    }
                    1 if !given.is_empty() => {
                        let at = which % given.len();
                        if let Some((low, high)) = part.parameters().get(ParameterId::new(at)).unwrap().range {
                            given[at] = low + (high - low) * share;
                            kept.set_parameter(ParameterId::new(at), given[at]).unwrap();
                        }
                    }
                    2 if which % 4 == 0 => {
                        kept.clear_frames();
                        came.fill(None);
                    }
                    _ => {
                        let (frame, bytes) = frames[which % frames.len()];
                        let mut fresh = Decoder::new(part);
                        set.iter().for_each(|(field, code)| fresh.state_mut().set_field(field, *code));
                        given.iter().enumerate().for_each(|(at, value)| fresh.set_parameter(ParameterId::new(at), *value).unwrap());
                        for (other, bytes) in came.iter().enumerate().filter_map(|(other, bytes)| Some((other, (*bytes)?))) {
                            let _ = fresh.decode(FrameId::new(other), bytes);
                        }
                        let expected = fresh.decode(*frame, bytes);
                        let into = kept.decode_into(*frame, bytes, &mut row);
                        prop_assert_eq!(expected.as_ref().err(), into.as_ref().err(), "{}", part.name());
                        let Ok(expected) = expected else { continue };
                        came[frame.index()] = Some(bytes);
                        for (at, reading) in expected.readings.iter().enumerate() {
                            let bits = |value: Option<f64>| value.map(f64::to_bits);
                            prop_assert_eq!((bits(row.value(at)), row.status(at)), (bits(reading.value), reading.status), "{} {}", part.name(), reading.name);
                        }
                    }
                }
            }
        }
    }

    /// Checks by tables find what the plain computation finds, for any model, any cover, any damage.
    #[test]
    fn any_crc_over_many_frames(
        width in 3u32..=32, poly in any::<u64>(), init in any::<u64>(), xorout in any::<u64>(),
        refin in any::<bool>(), refout in any::<bool>(), length in 1usize..12, from in 0usize..3,
        bytes in proptest::collection::vec(any::<u8>(), 16 * 40), damage in 0usize..300,
    ) {
        let mask = u64::MAX >> (64 - width);
        let model = CrcModel { width, poly: poly & mask | 1, init: init & mask, refin, refout, xorout: xorout & mask };
        let crc = Crc::new(model);
        let (first, place) = (from, from + length);
        let total = place + 4;
        let sheet = format!(
            "part = \"p\"\n[frame.F]\nread = {total}\ncheck = {{ crc = {{ width = {width}, poly = {}, init = {}, refin = {refin}, refout = {refout}, xorout = {} }}, over = \"b{first}..b{}\", in = \"{}\" }}\ncode = {{ a = \"b0\" }}\n",
            model.poly, model.init, model.xorout, place - 1,
            // The value stands right-aligned in four bytes.
            if width % 8 == 0 { format!("b{}..b{}", total - width as usize / 8, total - 1) } else {
                let whole = width as usize / 8;
                let top = format!("b{}[{}:0]", total - whole - 1, width % 8 - 1);
                if whole == 0 { top } else { format!("{top} b{}..b{}", total - whole, total - 1) }
            },
        );
        let part = Part::parse("p", &sheet).unwrap();
        let mut decoder = Decoder::new(&part);
        let mut frames: Vec<u8> = bytes.iter().copied().cycle().take(total * 300).collect();
        for (index, frame) in frames.chunks_exact_mut(total).enumerate() {
            let value = (crc.of(&frame[first..place]) as u32).to_be_bytes();
            frame[place..].copy_from_slice(&value);
            if index == damage {
                frame[first + damage % length] ^= 1 << (damage % 8);
            }
        }
        let mut columns = Columns::new();
        decoder.decode_many(FrameId::new(0), &frames, &mut columns).unwrap();
        for (index, frame) in frames.chunks_exact(total).enumerate() {
            let good = crc.of(&frame[first..place]) as u32 == u32::from_be_bytes(frame[place..].try_into().unwrap());
            prop_assert_eq!(columns.failed_check(index).is_none(), good, "frame {}", index);
            prop_assert_eq!(decoder.decode_into(FrameId::new(0), frame, &mut FrameValues::new()).is_ok(), good);
        }
    }

    /// Several checks in one word: each is made, and the first that fails is told, wherever in a batch the frame stands.
    #[test]
    fn several_checks_of_one_frame(
        words in proptest::collection::vec(any::<[u8; 4]>(), 300), low_first in any::<bool>(),
        damage in proptest::collection::vec((0usize..300, 0usize..8, 0u8..8), 0..20),
    ) {
        let order = if low_first { ["b1 b0", "b4 b3"] } else { ["b0 b1", "b3 b4"] };
        let sheet = format!(
            "part = \"p\"\n[frame.F]\nread = 8\ncheck = [{{ crc = {{ width = 8, poly = 0x39, init = 0x7E }}, over = \"b0 b1\", in = \"b2\" }}, {{ xor = 0x55, over = \"b3 b4\", in = \"b5\" }}, {{ sum = {{ width = 8 }}, over = \"b0..b6\", in = \"b7\" }}]\ncode = {{ x = \"{}\", y = \"{}\" }}\n[reading]\nx = {{ unit = \"1\", formula = \"x\" }}\ny = {{ unit = \"1\", formula = \"y / 4.0\" }}\n",
            order[0], order[1]
        );
        let part = Part::parse("p", &sheet).map_err(|error| TestCaseError::fail(error.to_string()))?;
        let crc = Crc::new(CrcModel { width: 8, poly: 0x39, init: 0x7E, refin: false, refout: false, xorout: 0 });
        let mut frames: Vec<[u8; 8]> = words.iter().map(|[a, b, c, d]| [*a, *b, crc.of(&[*a, *b]) as u8, *c, *d, 0x55 ^ c ^ d, 0, 0]).collect();
        frames.iter_mut().for_each(|frame| frame[7] = frame[..7].iter().fold(0, |sum, byte| sum.wrapping_add(*byte)));
        damage.iter().for_each(|(frame, byte, bit)| frames[*frame][*byte] ^= 1 << bit);
        let (mut decoder, mut row, mut columns) = (Decoder::new(&part), FrameValues::new(), Columns::new());
        decoder.decode_many(FrameId::new(0), frames.as_flattened(), &mut columns).unwrap();
        for (index, frame) in frames.iter().enumerate() {
            let sum = frame[..7].iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte));
            let fails = [crc.of(&frame[..2]) as u8 != frame[2], 0x55 ^ frame[3] ^ frame[4] != frame[5], sum != frame[7]];
            prop_assert_eq!(columns.failed_check(index), fails.iter().position(|fails| *fails), "frame {}", index);
            prop_assert_eq!(decoder.decode_into(FrameId::new(0), frame, &mut row).is_err(), fails.contains(&true));
            if !fails.contains(&true) {
                let code = |bytes| f64::from(if low_first { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) });
                let values = [code([frame[0], frame[1]]), code([frame[3], frame[4]]) / 4.0];
                prop_assert_eq!([columns.values(0)[index], columns.values(1)[index]], values);
                prop_assert_eq!([row.value(0), row.value(1)], values.map(Some));
            } else {
                prop_assert!(columns.values(0)[index].is_nan() && columns.values(1)[index].is_nan());
            }
        }
    }

    /// Long frames with codes all over them, in more words than there is room for, over more frames than go together.
    #[test]
    fn codes_anywhere_in_long_frames(
        length in 4usize..100,
        codes in proptest::collection::vec((any::<usize>(), 1usize..5, 0u8..8, 0u8..8, any::<bool>(), any::<bool>()), 2..14),
        bytes in proptest::collection::vec(any::<u8>(), 100 * 7),
    ) {
        let (mut notations, mut readings, mut slices) = (String::new(), String::new(), Vec::new());
        for (at, (from, count, high, low, signed, low_first)) in codes.iter().copied().enumerate() {
            let first = from % length;
            let last = (first + count - 1).min(length - 1);
            // Whole bytes in either order, or bits of the outer ones high byte first.
            let mut of: Vec<(usize, u8, u8)> = (first..=last).map(|byte| (byte, 7, 0)).collect();
            if low_first { of.reverse() } else if last > first { (of[0].1, of.last_mut().unwrap().2) = (high, low) }
            let text: Vec<String> = of.iter().map(|(byte, high, low)| format!("b{byte}[{high}:{low}]")).collect();
            notations += &format!("c{at} = \"{}{}\"\n", if signed { "signed " } else { "" }, text.join(" "));
            readings += &format!("r{at} = {{ unit = \"1\", formula = \"c{at} * 0.5 + {at}\" }}\nw{at} = {{ unit = \"1\", formula = \"(int64_t)c{at} * 3 - c0\" }}\n");
            slices.push((of, signed));
        }
        let part = Part::parse("p", &format!("part = \"p\"\n[frame.F]\nread = {length}\n[frame.F.code]\n{notations}[reading]\n{readings}")).unwrap();
        let frames: Vec<u8> = bytes.iter().copied().cycle().take(length * 201).collect();
        let (mut decoder, mut row, mut columns) = (Decoder::new(&part), FrameValues::new(), Columns::new());
        decoder.decode_many(FrameId::new(0), &frames, &mut columns).unwrap();
        for (index, frame) in frames.chunks_exact(length).enumerate() {
            decoder.decode_into(FrameId::new(0), frame, &mut row).unwrap();
            let code = |(of, signed): &(Vec<(usize, u8, u8)>, bool)| {
                let bits: Vec<u8> = of.iter().flat_map(|(byte, high, low)| (*low..=*high).rev().map(|bit| frame[*byte] >> bit & 1)).collect();
                let raw = bits.iter().fold(0i64, |raw, bit| raw << 1 | i64::from(*bit));
                if *signed && bits[0] == 1 { raw - (1 << bits.len()) } else { raw }
            };
            let first = code(&slices[0]);
            for (at, slices) in slices.iter().enumerate() {
                let (scaled, whole) = (code(slices) as f64 * 0.5 + at as f64, (code(slices) * 3 - first) as f64);
                let place = |name: String| part.frames().first().unwrap().readings().iter().position(|reading| part.readings().get(*reading).unwrap().name() == name).unwrap();
                for (place, expected) in [(place(format!("r{at}")), scaled), (place(format!("w{at}")), whole)] {
                    prop_assert_eq!((row.value(place), columns.values(place)[index]), (Some(expected), expected), "{}frame {}", notations, index);
                }
            }
        }
    }

    /// Codes that are real numbers, in every order of bytes and words, in single and in double precision: what is no finite
    /// number is a fault, of that reading and of those that use it.
    #[test]
    fn codes_that_are_real_numbers(
        f in prop_oneof![any::<u32>(), Just(0x7F80_0000), Just(0x7FC0_0000), Just(0x7F7F_FFFF), Just(0x8000_0000), Just(1)],
        d in prop_oneof![any::<u64>(), Just(0x7FF0_0000_0000_0000), Just(0xFFEF_FFFF_FFFF_FFFF), Just(1)],
        q in any::<u16>(),
    ) {
        let sheet = r#"
part = "p"
[frame.F]
read = 18
[frame.F.code]
f = "float b0..b3"
swapped = "float b2 b3 b0 b1"
low_first = "float b7 b6 b5 b4"
d = "float b8..b15"
half = "float b16 b17"
q = "q7.8 b16 b17"
[reading]
plain = { unit = "1", formula = "f" }
halved = { unit = "1", formula = "f * 0.5" }
less = { unit = "1", formula = "f - 3" }
single = { unit = "1", formula = "(f + 1.5f) * 3.1f / 7 - 0.1f" }
quotient = { unit = "1", formula = "low_first / 10", range = [-1000, 1000] }
swapped = { unit = "1", formula = "F.swapped * 0.1 + 4" }
wide = { unit = "1", formula = "d * 2.5 - 1" }
sum = { unit = "1", formula = "d + f" }
half = { unit = "1", formula = "F.half * 4" }
fixed = { unit = "1", formula = "q * 0.3 - 20" }
mixed = { unit = "1", formula = "q * f" }
uses = { unit = "1", formula = "halved > 0 ? halved + 1 : 7.0" }
"#;
        static PART: OnceLock<Part> = OnceLock::new();
        let part = PART.get_or_init(|| Part::parse("p", sheet).unwrap());
        let mut bytes = f.to_be_bytes().to_vec();
        bytes.extend(f.rotate_left(7).to_le_bytes());
        bytes.extend(d.to_be_bytes());
        bytes.extend(q.to_be_bytes());
        let (x, low, swapped) = (f32::from_bits(f), f32::from_bits(f.rotate_left(7)), f32::from_bits(f.rotate_left(16)));
        let (d, fixed) = (f64::from_bits(d), f64::from(q as i16) / 256.0);
        let half = {
            let (sign, exponent, fraction) = (if q >> 15 == 1 { -1.0 } else { 1.0 }, i32::from(q >> 10 & 31), f64::from(q & 1023));
            match exponent {
                0 => sign * fraction * 2f64.powi(-24),
                31 => if q & 1023 == 0 { sign * f64::INFINITY } else { f64::NAN },
                _ => sign * (1024.0 + fraction) * 2f64.powi(exponent - 25),
            }
        };
        let halved = f64::from(x) * 0.5;
        let expected = [
            f64::from(x),
            halved,
            f64::from(x - 3.0),
            f64::from((x + 1.5) * 3.1 / 7.0 - 0.1),
            f64::from(low / 10.0),
            f64::from(swapped) * 0.1 + 4.0,
            d * 2.5 - 1.0,
            d + f64::from(x),
            f64::from(half as f32 * 4.0),
            fixed * 0.3 - 20.0,
            fixed * f64::from(x),
            if !halved.is_finite() { f64::NAN } else if halved > 0.0 { halved + 1.0 } else { 7.0 },
        ];
        let (mut row, mut columns) = (FrameValues::new(), Columns::new());
        let mut decoder = Decoder::new(part);
        three_ways(&decoder, FrameId::new(0), &bytes, &mut row, &mut columns);
        let decoded = decoder.decode(FrameId::new(0), &bytes).unwrap();
        for (reading, expected) in decoded.readings.iter().zip(expected) {
            let status = match expected.is_finite() {
                false => Status::FormulaFault,
                true if reading.name == "quotient" && !(-1000.0..=1000.0).contains(&expected) => Status::OutOfRange,
                true => Status::Ok,
            };
            prop_assert_eq!(reading.status, status, "{}", reading.name);
            prop_assert_eq!(reading.value, Some(expected).filter(|value| value.is_finite()), "{}", reading.name);
        }
    }

    /// The setting stands in the frame itself: the row of its table that each frame chooses, or none; and a stated range that
    /// another setting moves.
    #[test]
    fn rows_that_a_frame_chooses(bytes in proptest::collection::vec(any::<u8>(), 3 * 40), limit in 0u8..4) {
        let sheet = r#"
part = "p"
[register.HOW]
at = 1
reset = 0
field.GAIN = { bits = "[7:5]", values = [{ code = 0, name = "a", k = 1.5 }, { code = 2, name = "b", k = 0.25 }, { code = 6, name = "c", k = 40.0 }] }
[register.LEVEL]
at = 2
width = 16
[register.SPAN]
at = 9
reset = 0
field.SPAN = { bits = "[1:0]", values = [{ code = 0, name = "w", full = 10 }, { code = 1, name = "x", full = 5000 }, { code = 2, name = "y", full = 90000 }] }
[frame.F]
registers = "HOW LEVEL"
code = { level = "LEVEL" }
[reading.scaled]
unit = "V"
formula = "level * GAIN.k"
range = [0, "SPAN.full"]
"#;
        static PART: OnceLock<Part> = OnceLock::new();
        let part = PART.get_or_init(|| Part::parse("p", sheet).unwrap());
        let mut decoder = Decoder::new(part);
        let span = part.fields().get(part.field("SPAN").unwrap()).unwrap();
        decoder.state_mut().set_field(span, i128::from(limit));
        // A setting without a row has no range: nothing is within it.
        let full = [10.0, 5000.0, 90000.0].get(usize::from(limit)).copied().unwrap_or(f64::NAN);
        let (mut row, mut columns) = (FrameValues::new(), Columns::new());
        decoder.decode_many(FrameId::new(0), &bytes, &mut columns).unwrap();
        for (index, frame) in bytes.chunks_exact(3).enumerate() {
            let gain = match frame[0] >> 5 { 0 => Some(1.5), 2 => Some(0.25), 6 => Some(40.0), _ => None };
            let value = gain.map(|gain| f64::from(u16::from_be_bytes([frame[1], frame[2]])) * gain);
            let status = match value {
                None => Status::FormulaFault,
                Some(value) if (0.0..=full).contains(&value) => Status::Ok,
                Some(_) => Status::OutOfRange,
            };
            decoder.decode_into(FrameId::new(0), frame, &mut row).unwrap();
            prop_assert_eq!((row.value(0), row.status(0)), (value, status), "frame {}", index);
            prop_assert_eq!((Some(columns.values(0)[index]).filter(|value| !value.is_nan()), columns.status(0, index)), (value, status), "frame {}", index);
        }
    }

    /// What is joined or divided as doubles gives what C gives, at the edges too.
    #[test]
    fn products_with_shifts_and_quotients(a in any::<i32>(), b in any::<i32>(), k in 1i64..3_000_000, n in 0u32..31) {
        let sheet = format!(
            r#"
part = "p"
frame.F = {{ read = 8, code = {{ a = "signed b0..b3", b = "signed b4..b7" }} }}
reading.product = {{ unit = "1", formula = "((int64_t)a * b) >> {n}" }}
reading.square = {{ unit = "1", formula = "((int64_t)a * a) >> {n}" }}
reading.quotient = {{ unit = "1", formula = "((int64_t)a << 19) / {k}" }}
reading.plain = {{ unit = "1", formula = "(int64_t)a / -{k}" }}
reading.either = {{ unit = "1", formula = "b == 0 ? 0 : (int64_t)a * 1000000 / b" }}
reading.clamped = {{ unit = "1", formula = "int64_t p = ((int64_t)a * 3) >> {n}; if (p < -{k}) {{ p = -{k}; }} return (int32_t)p / 100.0;" }}
reading.wide = {{ unit = "1", formula = "int64_t p = (int64_t)a * b; if (p < {k}) {{ p = {k}; }} return (int32_t)p / 0.5;" }}
reading.scaled = {{ unit = "1", formula = "(a - 7) / 0.5 * {k} + b" }}
"#
        );
        let part = Part::parse("p", &sheet).unwrap();
        let (x, y) = (i64::from(a), i64::from(b));
        let expected = [
            ((x * y) >> n) as f64,
            ((x * x) >> n) as f64,
            ((x << 19) / k) as f64,
            (x / -k) as f64,
            if y == 0 { 0.0 } else { (x * 1_000_000 / y) as f64 },
            f64::from(((x * 3) >> n).max(-k) as i32) / 100.0,
            f64::from((x * y).max(k) as i32) / 0.5,
        ];
        let bytes: Vec<u8> = a.to_be_bytes().into_iter().chain(b.to_be_bytes()).collect();
        let mut decoder = Decoder::new(&part);
        let mut columns = Columns::new();
        decoder.decode_many(FrameId::new(0), &bytes.repeat(5), &mut columns).unwrap();
        let alone = decoder.decode(FrameId::new(0), &bytes).unwrap();
        let mut row = FrameValues::new();
        (0..2).for_each(|_| decoder.decode_into(FrameId::new(0), &bytes, &mut row).unwrap());
        for (at, expected) in expected.into_iter().enumerate() {
            prop_assert_eq!(columns.values(at)[4], expected, "reading {} of {} and {}", at, a, b);
            prop_assert_eq!((alone.readings[at].value, row.value(at)), (Some(expected), Some(expected)), "reading {} of {} and {}", at, a, b);
        }
        // A difference of integers can overflow where it is one of int32_t.
        let scaled = a.checked_sub(7).map(|difference| f64::from(difference) / 0.5 * k as f64 + f64::from(b));
        prop_assert_eq!(alone.readings[7].value, scaled);
        prop_assert_eq!(alone.readings[7].status, if scaled.is_some() { Status::Ok } else { Status::FormulaFault });
    }
}

#[test]
fn a_frame_in_use_has_an_age_and_what_follows_from_it_is_kept_up_to_date() {
    let (_, text) = shipped().into_iter().find(|(name, _)| name == "binnacle-24").unwrap();
    let part = Part::parse("binnacle-24", &text).unwrap();
    let hex = |text: &str| yemdo::parse_hex(text).unwrap();
    let (mut decoder, mut row) = (Decoder::new(&part), FrameValues::new());
    let calibration = hex("7A B4 3B 45 B0 98 8C 1F B5 C2 08 A6 E0 40 E7 AE");
    assert_eq!(decoder.age(FrameId::new(0)), None);
    decoder.decode_into(FrameId::new(2), &hex("84 6B 40"), &mut row).unwrap();
    assert_eq!((row.status(0), row.value(0)), (Status::Waiting, None));
    decoder.decode_into(FrameId::new(0), &calibration, &mut row).unwrap();
    decoder.decode_into(FrameId::new(1), &hex("7F 5C 38"), &mut row).unwrap();
    for age in 1..4 {
        decoder.decode_into(FrameId::new(2), &hex("84 6B 40"), &mut row).unwrap();
        assert_eq!((row.value(0), decoder.age(FrameId::new(1)), decoder.age(FrameId::new(0))), (Some(994.34), Some(age), Some(age + 1)));
    }
    // A new temperature, and a new pressure at sea level, are taken at once.
    let altitude = row.value(2).unwrap();
    decoder.decode_into(FrameId::new(1), &hex("75 F7 80"), &mut row).unwrap();
    decoder.decode_into(FrameId::new(2), &hex("84 6B 40"), &mut row).unwrap();
    assert_ne!(row.value(0), Some(994.34));
    decoder.decode_into(FrameId::new(1), &hex("7F 5C 38"), &mut row).unwrap();
    decoder.set_parameter(ParameterId::new(0), 1000.0).unwrap();
    decoder.decode_into(FrameId::new(2), &hex("84 6B 40"), &mut row).unwrap();
    assert!(row.value(0) == Some(994.34) && row.value(2).unwrap() < altitude - 50.0);
    decoder.clear_frames();
    decoder.decode_into(FrameId::new(2), &hex("84 6B 40"), &mut row).unwrap();
    assert_eq!((row.status(0), decoder.age(FrameId::new(0))), (Status::Waiting, None));
    // A bad frame neither counts nor takes the place of a good one.
    let mut bad = calibration.clone();
    bad[3] ^= 1;
    decoder.decode_into(FrameId::new(0), &calibration, &mut row).unwrap();
    assert!(matches!(decoder.decode_into(FrameId::new(0), &bad, &mut row), Err(Refusal::Check { .. })));
    assert_eq!(decoder.age(FrameId::new(0)), Some(0));
}
