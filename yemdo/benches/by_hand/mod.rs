//! The same parts as a firmware developer writes them, to measure against.

const TABLE: [u8; 256] = table();

const fn table() -> [u8; 256] {
    let mut table = [0u8; 256];
    let mut index = 0;
    while index < 256 {
        let mut register = index as u8;
        let mut bit = 0;
        while bit < 8 {
            register = if register & 0x80 != 0 { (register << 1) ^ 0x4D } else { register << 1 };
            bit += 1;
        }
        table[index] = register;
        index += 1;
    }
    table
}

pub(crate) fn crc(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0x5A, |register, byte| TABLE[usize::from(register ^ byte)])
}

/// A linear code of two bytes.
#[inline]
pub(crate) fn linear(frame: &[u8; 2]) -> [f64; 1] {
    [f64::from(i16::from_be_bytes(*frame)) * 0.0625 + 3.5]
}

fn values(frame: &[u8; 7]) -> [f64; 3] {
    let temperature = i16::from_be_bytes([frame[1], frame[2]]) >> 2;
    let humidity = (u32::from(frame[2] & 3) << 12) | (u32::from(frame[3]) << 4) | u32::from(frame[4] >> 4);
    let supply = (u32::from(frame[4] & 15) << 8) | u32::from(frame[5]);
    [f64::from(temperature) * 0.015 + 20.0, f64::from(humidity) * 0.0075 - 6.0, f64::from(supply) * 0.0015]
}

/// The straddled codes of strake-20, and its CRC.
#[inline]
pub(crate) fn straddled(frame: &[u8; 7]) -> [f64; 3] {
    if crc(&frame[..6]) != frame[6] { [f64::NAN; 3] } else { values(frame) }
}

/// All of strake-20: every reading has a status behind its value.
#[inline]
pub(crate) fn strake(frame: &[u8; 7]) -> [f64; 6] {
    const NONE: f64 = f64::NAN;
    if crc(&frame[..6]) != frame[6] {
        return [NONE, NONE, NONE, 5.0, 5.0, 5.0];
    }
    if frame[0] & 0x80 != 0 || frame[0] & 0x40 == 0 {
        let status = if frame[0] & 0x80 != 0 { 1.0 } else { 2.0 };
        return [NONE, NONE, NONE, status, status, status];
    }
    let [temperature, humidity, supply] = values(frame);
    let outside = |value: f64, low: f64, high: f64| if value >= low && value <= high { 0.0 } else { 3.0 };
    let (t, h, v) = (outside(temperature, -40.0, 125.0), outside(humidity, 0.0, 100.0), outside(supply, 2.2, 5.5));
    if i16::from_be_bytes([frame[1], frame[2]]) >> 2 == -8192 {
        return [NONE, humidity, supply, 4.0, h, v];
    }
    [temperature, humidity, supply, t, h, v]
}

/// The calibration words of binnacle-24, and its temperature term.
#[derive(Clone, Copy)]
pub(crate) struct Calibration {
    pub(crate) p1: i64,
    pub(crate) p2: i64,
    pub(crate) p3: i64,
    pub(crate) p4: i64,
    pub(crate) k8: i64,
    pub(crate) fine: i64,
}

/// The integer compensation of binnacle-24. A code above the datasheet's range is none.
#[inline]
pub(crate) fn compensated(frame: &[u8; 3], c: &Calibration) -> [f64; 1] {
    let raw = i64::from(frame[0]) << 16 | i64::from(frame[1]) << 8 | i64::from(frame[2]);
    if raw > 14_000_000 {
        return [f64::NAN];
    }
    let span = (c.p1 << 10) + ((c.p2 * c.fine) >> 4);
    let offset = (c.p3 << 7) + ((c.p4 * c.fine) >> 6);
    if span <= 0 {
        return [0.0];
    }
    let mut p = ((raw - offset) << 20) / span;
    p += (((p * p) >> 20) * c.k8) >> 14;
    [f64::from(p.max(0) as i32) / 100.0]
}
