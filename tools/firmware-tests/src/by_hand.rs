//! The decoders of three parts as one writes them by hand, with all that the emitted ones do.

#[derive(Clone, Copy, PartialEq)]
pub enum Status {
    Ok,
    Alert,
    OutOfRange,
    Saturated,
    NotReady,
    Invalid,
    FormulaFault,
}

pub type Reading = (f64, Status);

fn within(value: f64, low: f64, high: f64) -> Status {
    if value >= low && value <= high { Status::Ok } else { Status::OutOfRange }
}

pub fn thole_by_hand(b: &[u8; 3]) -> Option<Reading> {
    if !b[0].wrapping_add(b[1]) != b[2] {
        return None;
    }
    let code = i16::from_be_bytes([b[0], b[1]]) >> 2;
    if b[1] & 1 != 0 {
        return Some((0.0, Status::NotReady));
    }
    let value = f64::from(code) * 0.02;
    Some(if code == 8191 || code == -8192 {
        (value, Status::Saturated)
    } else if b[1] & 2 != 0 {
        (value, Status::Alert)
    } else {
        (value, within(value, -50.0, 90.0))
    })
}

fn crc(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0x5A, |crc, byte| (0..8).fold(crc ^ byte, |crc: u8, _| if crc & 0x80 == 0 { crc << 1 } else { (crc << 1) ^ 0x4D }))
}

pub fn strake_by_hand(b: &[u8; 7]) -> Option<[Reading; 3]> {
    if crc(&b[..6]) != b[6] {
        return None;
    }
    if b[5] & 1 != 0 || b[5] & 2 == 0 {
        return Some([(0.0, Status::NotReady); 3]);
    }
    let t = (i16::from_be_bytes([b[3], b[4]]) << 2) >> 2;
    let h = (u16::from(b[1] & 0x0F) << 10) | (u16::from(b[2]) << 2) | u16::from(b[3] >> 6);
    let v = (u16::from(b[0]) << 4) | u16::from(b[1] >> 4);
    let celsius = f64::from(t) * 0.015 + 20.0;
    let percent = f64::from(h) * 0.008 - 11.0;
    let volts = f64::from(v) * 0.0015;
    Some([
        if t == -8192 { (0.0, Status::Invalid) } else { (celsius, within(celsius, -35.0, 110.0)) },
        (percent, if h == 0x3FFF { Status::Saturated } else { within(percent, 0.0, 100.0) }),
        (volts, within(volts, 2.2, 5.5)),
    ])
}

pub struct Words {
    pub t0: u16,
    pub t1: i16,
    pub p1: u16,
    pub p2: u16,
    pub p3: u16,
    pub p4: i16,
    pub k7: i16,
    pub k8: i16,
}

pub fn binnacle_by_hand(w: &Words, raw_temperature: u32, b: &[u8; 3]) -> Reading {
    let raw = u32::from_be_bytes([0, b[0], b[1], b[2]]);
    if raw == 0 {
        return (0.0, Status::NotReady);
    }
    let good = (6_000_000..=10_500_000).contains(&raw_temperature)
        && (28_000..=36_000).contains(&w.t0)
        && (12_000..=18_000).contains(&w.t1)
        && (-500..=500).contains(&w.k7)
        && raw <= 14_000_000
        && (40_000..=52_000).contains(&w.p1)
        && (30_000..=42_000).contains(&w.p2)
        && (38_000..=50_000).contains(&w.p3)
        && (-6000..=6000).contains(&w.p4)
        && (-500..=500).contains(&w.k8);
    if !good {
        return (0.0, Status::FormulaFault);
    }
    let x = raw_temperature.cast_signed() - 256 * i32::from(w.t0);
    let slope = if x < 0 { i32::from(w.t1) + i32::from(w.k7) } else { i32::from(w.t1) };
    let drift = (i64::from(x) * i64::from(slope)) >> 23;
    let cell = i64::from(raw) + 128 * i64::from(w.p3) + ((i64::from(w.p4) * drift) >> 3);
    let mut p = 0;
    if cell >= 1_000_000 {
        p = 4 * i64::from(w.p1) - (i64::from(w.p2) << 25) / cell;
        let bow = ((p - 100_000) * (p - 100_000)) >> 15;
        p = (p + ((bow * i64::from(w.k8)) >> 18)).max(0);
    }
    #[allow(clippy::cast_possible_truncation)]
    let value = f64::from(p as i32) / 100.0;
    (value, within(value, 300.0, 1200.0))
}
