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

/// Two real numbers of a bus, four bytes each, scaled.
#[inline]
pub(crate) fn floats(frame: &[u8; 8]) -> [f64; 2] {
    let real = |at: usize| f64::from(f32::from_be_bytes([frame[at], frame[at + 1], frame[at + 2], frame[at + 3]]));
    [real(0) * 0.5, real(4) - 3.0]
}

/// Points of a curve: what caulk-1 needs.
const CURVE: [(f64, f64); 7] =
    [(512.0, 60.0), (1024.0, 42.5), (2048.0, 24.0), (3072.0, 17.2), (4096.0, 12.6), (6144.0, 8.1), (7936.0, 6.0)];

/// A code through a curve, straight between its points.
#[inline]
pub(crate) fn curve(frame: &[u8; 2]) -> [f64; 1] {
    let x = f64::from(u16::from_be_bytes(*frame) >> 3);
    if !(512.0..=7936.0).contains(&x) {
        return [f64::NAN];
    }
    let mut above = 1;
    while above < 6 && x >= CURVE[above].0 {
        above += 1;
    }
    let ((x0, y0), (x1, y1)) = (CURVE[above - 1], CURVE[above]);
    [y0 + (x - x0) * (y1 - y0) / (x1 - x0)]
}

/// A linear code of two bytes.
#[inline]
pub(crate) fn linear(frame: &[u8; 2]) -> [f64; 1] {
    [f64::from(i16::from_be_bytes(*frame)) * 0.0625 + 3.5]
}

/// The code of the temperature: 14 bits, two's complement.
fn element(frame: &[u8; 7]) -> i16 {
    (i16::from_be_bytes([frame[3], frame[4]]) << 2) >> 2
}

fn values(frame: &[u8; 7]) -> [f64; 3] {
    let supply = (u32::from(frame[0]) << 4) | u32::from(frame[1] >> 4);
    let humidity = (u32::from(frame[1] & 15) << 10) | (u32::from(frame[2]) << 2) | u32::from(frame[3] >> 6);
    [f64::from(element(frame)) * 0.015 + 20.0, f64::from(humidity) * 0.008 - 11.0, f64::from(supply) * 0.0015]
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
    if frame[5] & 1 != 0 || frame[5] & 2 == 0 {
        let status = if frame[5] & 1 != 0 { 1.0 } else { 2.0 };
        return [NONE, NONE, NONE, status, status, status];
    }
    let [temperature, humidity, supply] = values(frame);
    let outside = |value: f64, low: f64, high: f64| if value >= low && value <= high { 0.0 } else { 3.0 };
    let (t, h, v) = (outside(temperature, -35.0, 110.0), outside(humidity, 0.0, 100.0), outside(supply, 2.2, 5.5));
    if element(frame) == -8192 {
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
    pub(crate) drift: i64,
}

/// The integer compensation of binnacle-24. A code above the datasheet's range is none.
#[inline]
pub(crate) fn compensated(frame: &[u8; 3], c: &Calibration) -> [f64; 1] {
    let raw = i64::from(frame[0]) << 16 | i64::from(frame[1]) << 8 | i64::from(frame[2]);
    if raw > 14_000_000 {
        return [f64::NAN];
    }
    let cell = raw + 128 * c.p3 + ((c.p4 * c.drift) >> 3);
    if cell < 1_000_000 {
        return [0.0];
    }
    let mut p = 4 * c.p1 - (c.p2 << 25) / cell;
    let bow = ((p - 100_000) * (p - 100_000)) >> 15;
    p += (bow * c.k8) >> 18;
    [f64::from(p.max(0) as i32) / 100.0]
}
