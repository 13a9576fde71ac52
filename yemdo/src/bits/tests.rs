//! Layouts, checks and hex against plain computation and published values.

use proptest::prelude::*;

use super::check::{Crc, CrcModel, MODELS};
use super::gather::Gather;
use super::layout::{Layout, Sources, parse_layout};
use crate::ground::hex::{parse_hex, to_hex};
use crate::ground::text::Text;

/// Layout, frame, code: what a datasheet's table would say.
const CODES: &[(&str, &str, i64)] = &[
    ("b0", "A5", 0xA5),
    ("b0[7:4]", "A5", 0xA),
    ("b0[0]", "A5", 1),
    ("b0 b1", "12 34", 0x1234),
    ("b1 b0", "12 34", 0x3412),
    ("b0..b3", "12 34 56 78", 0x1234_5678),
    ("b3..b0", "12 34 56 78", 0x7856_3412),
    ("signed b0 b1[7:2]", "F8 31", -500),
    ("signed b0 b1", "80 00", -32768),
    ("signed b1 b0", "FF 7F", 0x7FFF),
    ("signed b0[3:0]", "08", -8),
    ("b2[1:0] b3 b4[7:4]", "00 00 31 BB C8", 7100),
    ("b0[3:0] b1[3:0]", "1A 2B", 0xAB),
    ("b3 b1 b0[7:1]", "FF 02 00 01", (1 << 15) | (2 << 7) | 0x7F),
    ("b2 b1 b0[7:4]", "A0 BC DE", 0xD_EBCA),
    ("signed b2 b1 b0[7:4]", "A0 BC DE", 0xD_EBCA - (1 << 20)),
    ("b0..b7", "FF FF FF FF FF FF FF FF", -1), // all 64 bits, as a pattern
];

fn layout_of(text: &str, length: usize) -> Layout {
    parse_layout(&Text::bare(text), &Sources::bytes(length)).unwrap().layout
}

#[test]
fn codes_stand_where_the_layout_says() {
    for (layout, frame, code) in CODES {
        let bytes = parse_hex(frame).unwrap();
        let gather = Gather::new(&layout_of(layout, bytes.len()));
        assert_eq!(gather.code(&bytes), Some(*code), "{layout} of {frame}");
        let mut columns = [0i64; 3];
        gather.codes(&bytes.repeat(3), bytes.len(), &mut columns, &mut |_| ());
        assert_eq!(columns, [*code; 3], "{layout} of {frame}, in columns");
    }
}

#[test]
fn crcs_agree_with_the_catalogue() {
    fn model<W: crc::Width + Into<u128> + Copy>(a: &crc::Algorithm<W>) -> CrcModel {
        let n = |v: W| v.into() as u64;
        CrcModel { width: u32::from(a.width), poly: n(a.poly), init: n(a.init), refin: a.refin, refout: a.refout, xorout: n(a.xorout) }
    }
    let data: Vec<u8> = (0..=255u8).map(|i| i.wrapping_mul(37) ^ 0x5A).collect();
    let check = |model: CrcModel, check: u64| assert_eq!(Crc::new(model).of(b"123456789"), check, "{model:?}");
    for a in
        [&crc::CRC_8_SMBUS, &crc::CRC_8_NRSC_5, &crc::CRC_8_ROHC, &crc::CRC_7_MMC, &crc::CRC_5_USB, &crc::CRC_4_G_704, &crc::CRC_3_ROHC]
    {
        check(model(a), u64::from(a.check));
    }
    for a in [&crc::CRC_16_MODBUS, &crc::CRC_16_IBM_3740, &crc::CRC_16_XMODEM, &crc::CRC_16_KERMIT, &crc::CRC_15_CAN, &crc::CRC_12_UMTS] {
        check(model(a), u64::from(a.check));
        assert_eq!(Crc::new(model(a)).of(&data), u64::from(crc::Crc::<u16>::new(a).checksum(&data)));
    }
    for a in [&crc::CRC_32_ISO_HDLC, &crc::CRC_32_MPEG_2, &crc::CRC_24_OPENPGP, &crc::CRC_31_PHILIPS] {
        check(model(a), u64::from(a.check));
    }
    check(model(&crc::CRC_64_XZ), crc::CRC_64_XZ.check);
}

/// What every model of the list makes of "123456789", as the catalogues of CRC models print it.
const CHECK_VALUES: &[(&str, u64)] = &[
    ("CRC-3/GSM", 0x4),
    ("CRC-4/G-704", 0x7),
    ("CRC-5/USB", 0x19),
    ("CRC-7/MMC", 0x75),
    ("CRC-8/SMBUS", 0xF4),
    ("CRC-8/ROHC", 0xD0),
    ("CRC-8/SAE-J1850", 0x4B),
    ("CRC-8/AUTOSAR", 0xDF),
    ("CRC-8/NRSC-5", 0xF7),
    ("CRC-12/UMTS", 0xDAF),
    ("CRC-15/CAN", 0x059E),
    ("CRC-16/ARC", 0xBB3D),
    ("CRC-16/KERMIT", 0x2189),
    ("CRC-16/MODBUS", 0x4B37),
    ("CRC-16/USB", 0xB4C8),
    ("CRC-16/XMODEM", 0x31C3),
    ("CRC-16/CCITT-FALSE", 0x29B1),
    ("CRC-24/OPENPGP", 0x21_CF02),
    ("CRC-32/ISO-HDLC", 0xCBF4_3926),
    ("CRC-32/BZIP2", 0xFC89_1918),
    ("CRC-32/ISCSI", 0xE306_9283),
    ("CRC-64/ECMA-182", 0x6C40_DF5F_0B49_7347),
    ("CRC-64/XZ", 0x995D_C9BB_DF19_39FA),
];

#[test]
fn the_named_models_are_what_their_names_say() {
    let found: Vec<(&str, u64)> = MODELS.iter().map(|(name, model)| (*name, Crc::new(*model).of(b"123456789"))).collect();
    assert_eq!(found, CHECK_VALUES);
}

#[test]
fn hex_is_read_in_every_form_people_have() {
    let bytes = [0x1A, 0x2B, 0x05];
    let forms = [
        "1A 2B 05",
        "1a2b05",
        "0x1A,0x2B,0x05",
        "0x1a 0x2b 0x5",
        "1A:2B:05",
        "1A-2B-05",
        "\\x1a\\x2b\\x05",
        "[0x1A, 0x2B, 0x05]",
        "static const uint8_t raw[3] = { 0x1A, 0x2b, 5 };",
        "{26, 43, 0x05}",
        "  1A\t2B\n05  ",
    ];
    for form in forms {
        assert_eq!(parse_hex(form).unwrap(), bytes, "{form}");
    }
    let wrong = [
        ("1A 2", "`2` at column 4 has an odd number of hex digits (1)"),
        ("1A 2G", "`2G` at column 4 is not hex"),
        ("0x1A2B", "more than one byte"),
        ("{1A}", "not a byte in C"),
        ("{300}", "not a byte in C"),
        (" ", "no bytes here"),
        ("½", "not hex"),
    ];
    for (text, message) in wrong {
        let error = parse_hex(text).unwrap_err().to_string();
        assert!(error.contains(message), "{text}: {error}");
    }
}

fn slice() -> impl Strategy<Value = (usize, u8, u8)> {
    (0usize..8, 0u8..8, 0u8..8).prop_map(|(byte, a, b)| (byte, a.max(b), a.min(b)))
}

#[test]
fn layouts_are_shown_as_they_are_typed() {
    for layout in ["b0", "b0[7:4]", "b3[2]", "b1 b2[7:2]", "b2 b1", "b1..b4", "b4..b1", "b2[1:0] b3 b4[7:4]", "b0..b2 b3[7:1]", "b7 b5 b3"]
    {
        let parsed = parse_layout(&Text::bare(layout), &Sources::bytes(8)).unwrap();
        assert_eq!(parsed.layout.notation(), layout);
    }
    let words = parse_layout(&Text::bare("float w3 w2"), &Sources::bytes(8)).unwrap();
    assert_eq!(words.layout.notation(), "b6 b7 b4 b5");
    let array = parse_layout(&Text::bare("3 x signed b1 b0 every 2"), &Sources::bytes(6)).unwrap();
    assert_eq!((array.array, array.element(2).notation()), (Some((3, 2)), "b5 b4".to_owned()));
}

proptest! {
    /// Windows are only a faster way to pick bits one by one.
    #[test]
    fn gathering_is_picking_bits(slices in prop::collection::vec(slice(), 1..6), frame in prop::array::uniform8(any::<u8>()), signed: bool) {
        let text: Vec<String> = slices.iter().map(|(byte, high, low)| format!("b{byte}[{high}:{low}]")).collect();
        let layout = format!("{}{}", if signed { "signed " } else { "" }, text.join(" "));
        let gather = Gather::new(&layout_of(&layout, 8));
        let mut bits = Vec::new();
        for (byte, high, low) in slices {
            bits.extend((low..=high).rev().map(|bit| frame[byte] >> bit & 1 == 1));
        }
        let mut value: i128 = bits.iter().fold(0, |value, bit| value * 2 + i128::from(*bit));
        if signed && bits[0] {
            value -= 1 << bits.len();
        }
        prop_assert_eq!(gather.code(&frame).map(i128::from), Some(value));
        let mut column = [0i64];
        gather.codes(&frame, 8, &mut column, &mut |_| ());
        prop_assert_eq!(i128::from(column[0]), value);
        if bits.len() <= 31 {
            let mut narrow = [0i32];
            gather.codes(&frame, 8, &mut narrow, &mut |_| ());
            prop_assert_eq!(i128::from(narrow[0]), value);
        }
    }

    #[test]
    fn hex_comes_back(bytes in prop::collection::vec(any::<u8>(), 1..40)) {
        prop_assert_eq!(parse_hex(&to_hex(&bytes)).unwrap(), bytes);
    }

    #[test]
    fn hex_never_panics(text in "\\PC{0,60}") {
        let _ = parse_hex(&text);
    }

    /// Codes cut out side by side are those that are read bit by bit.
    #[test]
    fn codes_of_many_frames(length in 1usize..10, at in 0usize..8, count in 1usize..5, high in 0u8..8, low in 0u8..8, signed in any::<bool>(), low_first in any::<bool>(), bytes in proptest::collection::vec(any::<u8>(), 10 * 300)) {
        let (at, last) = (at % length, (at % length + count - 1).min(length - 1));
        let mut slices: Vec<String> = (at..=last).map(|byte| format!("b{byte}")).collect();
        if low_first {
            slices.reverse();
        } else {
            // The outer bytes may have lost some bits.
            slices[0] = format!("b{at}[{high}:0]");
            if last > at {
                *slices.last_mut().unwrap() = format!("b{last}[7:{low}]");
            }
        }
        let notation = format!("{}{}", if signed { "signed " } else { "" }, slices.join(" "));
        let layout = parse_layout(&Text::bare(&notation), &Sources::bytes(length)).unwrap().layout;
        let gather = Gather::new(&layout);
        let frames = &bytes[..length * 300];
        let mut codes = vec![0i64; 300];
        gather.codes(frames, length, &mut codes, &mut |_| ());
        for (frame, code) in frames.chunks_exact(length).zip(&codes) {
            let bits: Vec<u8> = layout.slices.iter().flat_map(|slice| (slice.low..=slice.high).rev().map(|bit| frame[slice.byte] >> bit & 1)).collect();
            let raw = bits.iter().fold(0i64, |raw, bit| raw << 1 | i64::from(*bit));
            let sign = signed && bits[0] == 1;
            prop_assert_eq!(*code, if sign { raw - (1 << bits.len()) } else { raw }, "{}", notation);
        }
    }
}
