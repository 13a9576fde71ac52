//! How many digits are shown: two codes never look alike, and what is a decimal fraction is shown whole.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::indexing_slicing, missing_docs)] // tests end where something is wrong

use yemdo::part::Id;
use yemdo::{Decoder, Digits, FrameId, Part};

fn part(code: &str, reading: &str) -> Part {
    let head = "part = \"p\"\nfield.G = { bits = \"R[0]\", values = [{ code = 0, k = 1 }, { code = 1, k = 0.3 }] }\nregister.R = { at = 1, reset = 0 }\n";
    let text = format!(
        "{head}i2c.address = 0x2B\nframe.F = {{ read = 4, code = {{ c = \"{code}\" }} }}\nreading.r = {{ unit = \"V\", {reading} }}\n"
    );
    Part::parse("p", &text).unwrap_or_else(|error| panic!("{error}"))
}

#[test]
fn a_value_is_shown_as_its_steps_need() {
    // Layout of the code, the reading, four bytes, and the text of what they give.
    let cases: &[(&str, &str, [u8; 4], &str)] = &[
        ("b0", "formula = \"c * 0.25\"", [247, 0, 0, 0], "61.75"),
        ("b0 b1", "formula = \"c * 12.5\"", [0x03, 0xE9, 0, 0], "12512.5"),
        ("signed b0 b1", "formula = \"c * 0.0625\"", [0xFF, 0xFF, 0, 0], "-0.0625"),
        ("b0", "formula = \"c + 0.5\"", [0, 0, 0, 0], "0.5"),
        ("b0", "formula = \"c\"", [43, 0, 0, 0], "43"),
        ("b0 b1", "formula = \"c * 0.015 + 20\"", [0, 2, 0, 0], "20.030"),
        // No decimal fraction: as many as tell two neighbours apart.
        ("signed b0", "formula = \"c / 12.0\"", [0xFF, 0, 0, 0], "-0.08"),
        ("signed b0 b1", "formula = \"c / 3000.0\"", [0xFF, 0xFF, 0, 0], "-0.0003"),
        // Steps of hundredths, many codes to each.
        ("b0 b1 b2", "formula = \"(int32_t)(c / 1000) / 100.0\"", [0, 0x27, 0x10, 0], "0.10"),
        // A step that is not the same everywhere: six digits that count, and neighbours apart.
        ("b0", "formula = \"100.0 / (c + 1)\"", [2, 0, 0, 0], "33.3333"),
        ("float b0..b3", "formula = \"c\"", [0x42, 0x2C, 0xCC, 0xCD], "43.2000"),
        ("float b0..b3", "formula = \"c * 1e-9\"", [0x42, 0x2C, 0xCC, 0xCD], "0.0000000432000"),
        // What the sheet says comes first; and a zero has no sign.
        ("signed b0", "decimals = 1, formula = \"c * 0.0625\"", [0xFF, 0, 0, 0], "-0.1"),
        ("signed b0", "decimals = 0, formula = \"c * 0.0625\"", [0xFF, 0, 0, 0], "0"),
    ];
    for (code, reading, bytes, expected) in cases {
        let part = part(code, reading);
        let decoded = Decoder::new(&part).decode(FrameId::new(0), bytes).unwrap();
        assert_eq!(decoded.readings[0].to_string(), format!("{expected} V"), "{reading} of {code}");
    }
}

/// With other settings there are other steps, and in other units too.
#[test]
fn digits_follow_the_settings_and_the_unit() {
    let part = part("b0", "formula = \"c * G.k\"");
    let mut decoder = Decoder::new(&part);
    let shown = |decoder: &mut Decoder| decoder.decode(FrameId::new(0), &[7, 0, 0, 0]).unwrap().readings[0].to_string();
    assert_eq!(shown(&mut decoder), "7 V");
    let field = part.fields().get(part.field("G").unwrap()).unwrap();
    decoder.state_mut().set_field(field, 1);
    assert_eq!(shown(&mut decoder), "2.1 V");
    #[cfg(feature = "serde")]
    {
        let id = part.reading("r").unwrap();
        let digits = |unit: &[String]| yemdo::view::ShownUnits::new(&part, decoder.state(), unit).unwrap().digits(id);
        assert_eq!(
            (digits(&[]), digits(&["mV".to_owned()]), digits(&["µV".to_owned()])),
            (Digits::Decimals(1), Digits::Decimals(0), Digits::Decimals(0))
        );
    }
    // Any neighbours of any linear code look different.
    for step in [0.001, 0.0173, 0.5, 1.0 / 7.0, 3.3, 250.0] {
        let digits = Digits::of((0..100).map(|code| f64::from(code) * step), Some((step, step)));
        let texts: Vec<String> = (-50..50).map(|code| digits.text(f64::from(code) * step)).collect();
        assert!(texts.windows(2).all(|pair| pair[0] != pair[1]), "{step}: {digits:?}");
        assert!(!texts.iter().any(|text| text.trim_start_matches(['-', '0', '.']).is_empty() && text.starts_with('-')), "{step}");
    }
}
