//! What is searched for is what plain search finds: thresholds, settings to choose from, what can come out, bad digits, fields
//! put together from others, and tables however they are pasted.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use proptest::prelude::*;
use yemdo::configure::{Limits, Wish, WriteScope, choose, configure};
use yemdo::import::{import, rows_apart_by_blanks};
use yemdo::review::predict;
use yemdo::{Decoder, Part, State};

fn part(text: &str) -> Part {
    Part::parse("p.toml", &format!("part = \"p\"\ni2c.address = 0x2B\n{text}")).unwrap_or_else(|error| panic!("{error}"))
}

/// The code of a field in settings.
fn code(part: &Part, settings: &State, name: &str) -> i128 {
    settings.field(part.fields().get(part.field(name).unwrap()).unwrap())
}

proptest! {
    /// A mantissa and an exponent: no pair is nearer, none that is as near is finer, and what is given is held.
    #[test]
    fn the_nearest_and_finest_pair(asked in 0u32..70_000, held in proptest::option::of(0i128..8)) {
        let part = part(
            "register.L = { at = 7, width = 16, reset = 0xFFFF, field.M = { bits = \"[9:0]\" }, field.E = { bits = \"[12:10]\" }, reserved = { bits = \"[15:13]\", write = 7 } }\n\
             quantity.level = { unit = \"mm\", formula = \"M * 0.5 * (1 << E)\" }\n",
        );
        let asked = f64::from(asked);
        let mut wishes = vec![Wish::parse(&part, &format!("level={asked} mm")).unwrap()];
        wishes.extend(held.map(|held| Wish::parse(&part, &format!("E={held}")).unwrap()));
        let value = |m: i128, e: i128| m as f64 * 0.5 * f64::from(1u32 << e);
        let exponents: Vec<i128> = held.map_or((0..8).collect(), |held| vec![held]);
        let all = || exponents.iter().flat_map(|e| (0..1024).map(move |m| (m, *e)));
        let nearest = all().map(|(m, e)| (value(m, e) - asked).abs()).fold(f64::INFINITY, f64::min);
        let top = all().map(|(m, e)| value(m, e)).fold(0.0, f64::max);
        match configure(&part, &State::reset(&part), &wishes, WriteScope::Changed) {
            Ok(done) => {
                let (m, e) = (code(&part, &done.state, "M"), code(&part, &done.state, "E"));
                prop_assert_eq!((value(m, e) - asked).abs(), nearest);
                prop_assert!(held.is_none_or(|held| held == e));
                let finest = all().filter(|(m, e)| (value(*m, *e) - asked).abs() == nearest).map(|(_, e)| e).min().unwrap();
                // The present codes stay where they will do.
                prop_assert!(e == finest || (m, e) == (1023, 7), "{} as {} << {}, finest {}", asked, m, e, finest);
            }
            Err(error) => prop_assert!(asked > top, "{error}: {asked} of {top}"),
        }
    }

    /// The range of a reading of two codes, for every setting and over all of them, is what all codes give.
    #[test]
    fn ranges_of_several_codes(scale in proptest::collection::vec(1i32..50, 2..5), offset in -40i32..40, stated in proptest::option::of(-200i32..400)) {
        let rows: Vec<String> = scale.iter().enumerate().map(|(at, k)| format!("{{ code = {at}, name = \"n{at}\", k = {k}, ms = {} }}", at + 1)).collect();
        let range = stated.map_or(String::new(), |top| format!(", range = [-1000, {top}]"));
        let part = part(&format!(
            "register.A = {{ at = 7, reset = 0, field.GAIN = {{ bits = \"[2:0]\", values = [{}] }} }}\n\
             frame.F = {{ command = [9], read = 1, code = {{ x = \"b0[7:4]\", y = \"signed b0[3:0]\" }} }}\n\
             reading.r = {{ unit = \"V\", formula = \"(x * GAIN.k + y) / 2.0 + {offset}\"{range} }}\n",
            rows.join(", ")
        ));
        let value = |k: i32, x: i32, y: i32| f64::from(x * k + y) / 2.0 + f64::from(offset);
        let of = |k: i32| (0..16).flat_map(move |x| (-8..8).map(move |y| value(k, x, y)));
        let span = |all: &mut dyn Iterator<Item = f64>| {
            all.fold(None, |range: Option<(f64, f64)>, v| Some(range.map_or((v, v), |(low, high)| (low.min(v), high.max(v)))))
        };
        let found = choose(&part, part.reading("r").ok(), &State::reset(&part), &Limits::default()).unwrap();
        let top = stated.map_or(f64::INFINITY, f64::from);
        for choice in &found {
            let k = scale[choice.codes[0].1 as usize];
            prop_assert_eq!(choice.range, span(&mut of(k).filter(|v| *v <= top)), "GAIN.k = {}", k);
            prop_assert_eq!(choice.ms, Some((choice.codes[0].1 + 1) as f64));
        }
        let over = predict(&part, part.reading("r").unwrap()).unwrap().over_settings;
        prop_assert_eq!(over, span(&mut scale.iter().flat_map(|k| of(*k))));
    }

    /// Decimal digits: the value where all are digits, else the first from the left that is none, and where it stands.
    #[test]
    fn the_digit_that_is_none(bytes in proptest::array::uniform3(any::<u8>())) {
        let part = part("frame.F = { command = [9], read = 3, code = { c = \"bcd b2 b0[3:0] b1\" } }\nreading.r = { unit = \"1\", formula = \"c\" }\n");
        let decoded = Decoder::new(&part).decode(part.frame("F").unwrap(), &bytes).unwrap();
        let nibbles = [(bytes[2] >> 4, "b2[7:4]"), (bytes[2] & 15, "b2[3:0]"), (bytes[0] & 15, "b0[3:0]"), (bytes[1] >> 4, "b1[7:4]"), (bytes[1] & 15, "b1[3:0]")];
        let raw = nibbles.iter().fold(0u32, |raw, (digit, _)| raw << 4 | u32::from(*digit));
        match nibbles.iter().find(|(digit, _)| *digit > 9) {
            None => prop_assert_eq!(decoded.readings[0].value, Some(nibbles.iter().fold(0.0, |value, (digit, _)| value * 10.0 + f64::from(*digit)))),
            Some((digit, place)) => {
                let why = decoded.readings[0].fault.clone().unwrap().to_string();
                prop_assert_eq!(why, format!("c: 0x{raw:05X} is not BCD: digit {digit:X} in {place}"));
            }
        }
    }

    /// A field of two others has their bits, whichever of them is set, in registers of either byte order.
    #[test]
    fn a_field_and_those_it_is_made_of(high in 0i128..32, low in 0i128..8, whole in 0i128..256, low_first in any::<bool>()) {
        let order = if low_first { ", order = \"low first\"" } else { "" };
        let part = part(&format!(
            "register.A = {{ at = 1, width = 16{order}, reset = 0x5AA5, field.HIGH = {{ bits = \"[12:8]\" }} }}\n\
             register.B = {{ at = 4, reset = 0x3C, field.LOW = {{ bits = \"[6:4]\" }} }}\nfield.BOTH = {{ bits = \"HIGH LOW\" }}\n"
        ));
        let after = |typed: &[String]| {
            let wishes: Vec<Wish> = typed.iter().map(|typed| Wish::parse(&part, typed).unwrap()).collect();
            configure(&part, &State::reset(&part), &wishes, WriteScope::Changed).unwrap().state
        };
        let apart = after(&[format!("HIGH={high}"), format!("LOW={low}")]);
        prop_assert_eq!(code(&part, &apart, "BOTH"), high << 3 | low);
        let joint = after(&[format!("BOTH={}", high << 3 | low)]);
        prop_assert!(joint.has_same_settings(&apart), "{joint:?} {apart:?}");
        let joined = after(&[format!("BOTH={whole}")]);
        prop_assert_eq!((code(&part, &joined, "HIGH"), code(&part, &joined, "LOW")), (whole >> 3, whole & 7));
        // What is beside them stays.
        let registers: Vec<u64> = part.registers().iter().map(|register| joined.register(register)).collect();
        prop_assert_eq!((registers[0] & !0x1F00, registers[1] & !0x70), (0x5AA5 & !0x1F00, 0x3C & !0x70));
    }

    /// A table is the same sheet as cells, with its columns apart by blanks in line, and, where no cell is empty, by one blank.
    #[test]
    fn tables_however_they_are_pasted(
        registers in proptest::collection::vec((0u8..4, any::<u8>(), proptest::collection::vec(1u32..4, 2..5)), 1..6),
        gap in 2usize..5,
        right in any::<bool>(),
    ) {
        let head: Vec<String> = ["Addr", "Name", "R/W", "Reset"].map(str::to_owned).into_iter().chain((0..8).rev().map(|bit| format!("bit {bit}"))).collect();
        let (mut cells, mut words) = (vec![head.clone()], vec![head.join(" ")]);
        for (at, (access, reset, widths)) in registers.iter().enumerate() {
            let mut row = vec![format!("0x{:02X}", 0x10 + 3 * at), format!("REG_{}", char::from(b'A' + at as u8)), ["RW", "RO", "WO", "R/W"][usize::from(*access)].to_owned(), format!("0x{reset:02X}")];
            let mut told = row.clone();
            let mut left = 8;
            for (field, wanted) in widths.iter().enumerate() {
                let width = (*wanted).min(left);
                if width == 0 {
                    continue;
                }
                let name = format!("f{at}{}[{}:0]", char::from(b'a' + field as u8), width - 1);
                told.push(name.clone());
                row.push(name);
                row.extend((1..width).map(|_| String::new()));
                left -= width;
            }
            (0..left).for_each(|_| {
                row.push("-".to_owned());
                told.push("-".to_owned());
            });
            words.push(told.join(" "));
            cells.push(row);
        }
        let width = |column: usize| cells.iter().map(|row| row[column].len()).max().unwrap() + gap;
        let aligned = |row: &Vec<String>| {
            let cell = |(column, cell): (usize, &String)| if right { format!("{cell:>0$}", width(column)) } else { format!("{cell:0$}", width(column)) };
            row.iter().enumerate().map(cell).collect::<String>()
        };
        let lines: Vec<String> = cells.iter().map(aligned).collect();
        let sheet = |rows: &[Vec<String>]| import("p", rows).map(|import| (import.sheet, import.fields)).unwrap();
        let wanted = sheet(&cells);
        prop_assert!(Part::parse("p", &wanted.0).is_ok(), "{}", wanted.0);
        prop_assert_eq!(&sheet(&rows_apart_by_blanks(&lines.join("\n"))), &wanted, "{}", lines.join("\n"));
        prop_assert_eq!(&sheet(&rows_apart_by_blanks(&words.join("\n"))), &wanted, "{}", words.join("\n"));
    }

    /// Values in a description become the field's table, in whichever of the ways datasheets list them; what is none stays text.
    #[test]
    fn values_as_descriptions_list_them(
        names in proptest::collection::hash_set("[a-z]{2,8}", 2..8),
        width in 3u32..6,
        base in 0usize..4,
        mark in 0usize..3,
        between in any::<bool>(),
        before in any::<bool>(),
    ) {
        let names: Vec<String> = names.into_iter().collect();
        let code = |code: usize| match base {
            0 => format!("{code:0width$b}", width = width as usize),
            1 => code.to_string(),
            2 => format!("0x{code:X}"),
            _ => format!("0b{code:b}"),
        };
        let one = |(at, name): (usize, &String)| format!("{}{}{name}", code(at), [": ", " = ", " – "][mark]);
        let list: Vec<String> = names.iter().enumerate().map(one).collect();
        let text = format!("{}{}", if before { "pace of the pump: " } else { "" }, list.join(if between { "; " } else { ", " }));
        let cells = |row: &[&str]| row.iter().map(|cell| (*cell).to_owned()).collect::<Vec<String>>();
        let head = cells(&["Register", "Address", "Field", "Bits", "Access", "Description"]);
        let bits = format!("[{}:0]", width - 1);
        let found = import("p", &[head.clone(), cells(&["R", "0x31", "F", &bits, "RW", &text])]).unwrap();
        let part = Part::parse("p", &found.sheet).unwrap();
        let field = part.fields().first().unwrap();
        let table: Vec<(i128, &str)> = field.values().iter().map(|row| (row.code, row.name.as_deref().unwrap())).collect();
        let wanted: Vec<(i128, &str)> = names.iter().enumerate().map(|(at, name)| (at as i128, name.as_str())).collect();
        prop_assert_eq!(table, wanted, "{}", text);
        prop_assert_eq!(field.means(), before.then_some("pace of the pump"));
        // A sentence with numbers in it is no table.
        let sentence = format!("{} pulses, at least; see chapter {}", names.len(), width);
        let found = import("p", &[head, cells(&["R", "0x31", "F", &bits, "RW", &sentence])]).unwrap();
        let part = Part::parse("p", &found.sheet).unwrap();
        let field = part.fields().first().unwrap();
        prop_assert_eq!((field.values().len(), field.means()), (0, Some(sentence.as_str())));
    }

    /// Whatever is pasted is no table, or one whose sheet is sound.
    #[test]
    fn any_text_is_a_table_or_none(lines in proptest::collection::vec("[ -~°µ–]{0,60}", 0..8), head in 0usize..3) {
        let heads = ["Addr Name R/W Reset bit 7 bit 6 bit 5 bit 4 bit 3 bit 2 bit 1 bit 0", "Register  Address  Field  Bits  Access  Reset  Description", ""];
        let text = format!("{}\n{}", heads[head], lines.join("\n"));
        if let Ok(import) = import("p", &rows_apart_by_blanks(&text)) {
            prop_assert!(Part::parse("p", &import.sheet).is_ok(), "{}\n{}", text, import.sheet);
        }
    }
}
