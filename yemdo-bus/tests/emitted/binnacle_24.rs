// binnacle-24: Air pressure, compensated with words from the part
// After: Binnacle 24 datasheet, revision 2.4
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash 4fc0f0d3ca36d6a1.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0x68 to write, 0x69 to read.
pub const I2C_ADDRESS: u8 = 0x34;

/// I2C address with pin SA low: 7 bits; on the wire 0x68 to write, 0x69 to read.
pub const I2C_ADDRESS_SA_LOW: u8 = 0x34;

/// I2C address with pin SA high: 7 bits; on the wire 0x6C to write, 0x6D to read.
pub const I2C_ADDRESS_SA_HIGH: u8 = 0x36;

/// Clock mode of SPI.
pub const SPI_MODE: u8 = 0;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A value outside the range that the datasheet states.
    OutOfRange,
    /// No value: the part had nothing new to say.
    NotReady,
    /// No value: the formula has none for these codes.
    FormulaFault,
}

/// A reading.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Reading {
    /// Its value; 0 where its status has none.
    pub value: f64,
    /// How far it is to be believed.
    pub status: Status,
}

impl Reading {
    const fn new(value: f64, status: Status) -> Self {
        Self { value, status }
    }

    const fn none(status: Status) -> Self {
        Self::new(0.0, status)
    }

    /// Its value, where its status has one.
    #[must_use]
    pub const fn get(&self) -> Option<f64> {
        match self.status {
            Status::NotReady | Status::FormulaFault => None,
            _ => Some(self.value),
        }
    }
}

/// The numbers that you supply.
#[derive(Clone, Debug, PartialEq)]
pub struct Parameters {
    /// Pressure at sea level, in hPa; 850 to 1090.
    pub sea_level: f64,
}

impl Parameters {
    /// What the sheet has for them.
    pub const DEFAULT: Self = Self { sea_level: 1013.25 };

    /// The value of altitude in m, or none:
    ///
    /// ```text
    /// 44330.77 * (1.0 - pow(pressure / sea_level, 0.190263))
    /// ```
    fn altitude_value(&self, pressure_reading: Option<f64>) -> Option<f64> {
        // a value it needs is at fault
        let pressure_reading_value = pressure_reading?;
        Some(44_330.77 * (1.0 - libm::pow(pressure_reading_value / self.sea_level, 0.190_263)))
    }
}

impl Default for Parameters {
    fn default() -> Self {
        Self::DEFAULT
    }
}

/// The codes of frame CALIBRATION: 16 bytes.
///
/// Datasheet: section 5, table 12.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CalibrationFrame {
    /// b0 b1.
    pub t0: u16,
    /// b2 b3, two's complement.
    pub t1: i16,
    /// b4 b5.
    pub p1: u16,
    /// b6 b7.
    pub p2: u16,
    /// b8 b9.
    pub p3: u16,
    /// b10 b11, two's complement.
    pub p4: i16,
    /// b12 b13\[7:6\], two's complement.
    pub k7: i16,
    /// b13\[5:0\] b14, two's complement.
    pub k8: i16,
    /// b15\[7:5\].
    pub revision: u8,
}

impl CalibrationFrame {
    /// Unpacks the bytes of CALIBRATION.
    ///
    /// Fails where all bytes are 0x00 or all are 0xFF: nobody answered, or the CRC-5 does not
    /// agree.
    #[allow(clippy::cast_possible_wrap, clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 16]) -> Option<Self> {
        let mut all_zeros = true;
        for &byte in bytes {
            if byte != 0x00 {
                all_zeros = false;
            }
        }
        if all_zeros {
            return None; // blank: nobody answered
        }
        let mut all_ones = true;
        for &byte in bytes {
            if byte != 0xFF {
                all_ones = false;
            }
        }
        if all_ones {
            return None; // blank: nobody answered
        }
        let mut check: u8 = 0x98;
        for &byte in bytes.iter().take(15) {
            check ^= byte;
            for _ in 0..8 {
                if (check & 0x80) != 0 {
                    check = (check << 1) ^ 0x58;
                } else {
                    check <<= 1;
                }
            }
        }
        check ^= (bytes[15] >> 5) << 5;
        for _ in 0..3 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x58;
            } else {
                check <<= 1;
            }
        }
        if (check >> 3) != (bytes[15] & 0x1F) {
            return None; // CRC-5 mismatch
        }
        let t1 = (u16::from(bytes[2]) << 8) | u16::from(bytes[3]);
        let p4 = (u16::from(bytes[10]) << 8) | u16::from(bytes[11]);
        let k7 = (u16::from(bytes[12]) << 2) | u16::from(bytes[13] >> 6);
        let k8 = (u16::from(bytes[13] & 0x3F) << 8) | u16::from(bytes[14]);
        Some(Self {
            t0: (u16::from(bytes[0]) << 8) | u16::from(bytes[1]),
            t1: t1 as i16,
            p1: (u16::from(bytes[4]) << 8) | u16::from(bytes[5]),
            p2: (u16::from(bytes[6]) << 8) | u16::from(bytes[7]),
            p3: (u16::from(bytes[8]) << 8) | u16::from(bytes[9]),
            p4: p4 as i16,
            k7: ((k7 << 6) as i16) >> 6,
            k8: ((k8 << 2) as i16) >> 2,
            revision: bytes[15] >> 5,
        })
    }

    /// The value of drift, which readings share, or none:
    ///
    /// ```text
    /// int32_t x     = raw_temperature - 256 * (int32_t)t0;
    /// int32_t slope = x < 0 ? t1 + k7 : t1;           /* another slope in the cold */
    /// return (int32_t)(((int64_t)x * slope) >> 23);
    /// ```
    #[allow(
        clippy::cast_possible_truncation,
        clippy::cast_possible_wrap,
        clippy::similar_names
    )]
    #[inline]
    fn drift_value(&self, temperature: &TemperatureFrame) -> Option<i32> {
        if !(6_000_000..=10_500_000).contains(&temperature.raw_temperature) {
            return None; // raw_temperature is 6000000 to 10500000
        }
        if !(28_000..=36_000).contains(&self.t0) {
            return None; // t0 is 28000 to 36000
        }
        let x = temperature.raw_temperature as i32 - 256 * i32::from(self.t0);
        let value: i32 = if x < 0 {
            if !(12_000..=18_000).contains(&self.t1) {
                return None; // t1 is 12000 to 18000
            }
            if !(-500..=500).contains(&self.k7) {
                return None; // k7 is -500 to 500
            }
            i32::from(self.t1) + i32::from(self.k7)
        } else {
            if !(12_000..=18_000).contains(&self.t1) {
                return None; // t1 is 12000 to 18000
            }
            i32::from(self.t1)
        };
        let slope = value;
        Some(((i64::from(x) * i64::from(slope)) >> 23) as i32)
    }

    /// The value of temperature in °C, or none:
    ///
    /// ```text
    /// (1500 + drift) / 100.0
    /// ```
    #[inline]
    fn temperature_value(&self, temperature: &TemperatureFrame) -> Option<f64> {
        // a value it needs is at fault
        let drift = self.drift_value(temperature)?;
        Some(f64::from(1500 + drift) / 100.0)
    }

    /// The value of pressure\_float in hPa, or none:
    ///
    /// ```text
    /// double x    = raw_temperature - 256.0 * t0;
    /// double d    = x * (x < 0.0 ? t1 + k7 : t1) / 8388608.0;
    /// double cell = raw_pressure + 128.0 * p3 + p4 * d / 8.0;
    /// if (cell < 1e6) return 0.0;
    /// double p    = 4.0 * p1 - p2 * 33554432.0 / cell;
    /// p += (p - 100000.0) * (p - 100000.0) / 32768.0 * k8 / 262144.0;
    /// return p < 0.0 ? 0.0 : p / 100.0;
    /// ```
    #[allow(clippy::similar_names)]
    #[inline]
    fn pressure_float_value(
        &self,
        temperature: &TemperatureFrame,
        pressure: &PressureFrame,
    ) -> Option<f64> {
        if !(6_000_000..=10_500_000).contains(&temperature.raw_temperature) {
            return None; // raw_temperature is 6000000 to 10500000
        }
        if !(28_000..=36_000).contains(&self.t0) {
            return None; // t0 is 28000 to 36000
        }
        let x = f64::from(temperature.raw_temperature) - 256.0 * f64::from(self.t0);
        let value: i32 = if x < 0.0 {
            if !(12_000..=18_000).contains(&self.t1) {
                return None; // t1 is 12000 to 18000
            }
            if !(-500..=500).contains(&self.k7) {
                return None; // k7 is -500 to 500
            }
            i32::from(self.t1) + i32::from(self.k7)
        } else {
            if !(12_000..=18_000).contains(&self.t1) {
                return None; // t1 is 12000 to 18000
            }
            i32::from(self.t1)
        };
        let d = x * f64::from(value) / 8_388_608.0;
        if pressure.raw_pressure > 14_000_000 {
            return None; // raw_pressure is 0 to 14000000
        }
        if !(38_000..=50_000).contains(&self.p3) {
            return None; // p3 is 38000 to 50000
        }
        if !(-6000..=6000).contains(&self.p4) {
            return None; // p4 is -6000 to 6000
        }
        let cell = f64::from(pressure.raw_pressure)
            + 128.0 * f64::from(self.p3)
            + f64::from(self.p4) * d / 8.0;
        if cell < 1_000_000.0 {
            return Some(0.0);
        }
        if !(40_000..=52_000).contains(&self.p1) {
            return None; // p1 is 40000 to 52000
        }
        if !(30_000..=42_000).contains(&self.p2) {
            return None; // p2 is 30000 to 42000
        }
        let mut p = 4.0 * f64::from(self.p1) - f64::from(self.p2) * 33_554_432.0 / cell;
        if !(-500..=500).contains(&self.k8) {
            return None; // k8 is -500 to 500
        }
        p += (p - 100_000.0) * (p - 100_000.0) / 32_768.0 * f64::from(self.k8) / 262_144.0;
        Some(if p < 0.0 { 0.0 } else { p / 100.0 })
    }

    /// The value of pressure in hPa, or none:
    ///
    /// ```text
    /// int64_t cell, bow, p;
    /// /* the cell's capacitance goes with 1 / pressure */
    /// cell = (int64_t)raw_pressure + 128 * (int64_t)p3 + (((int64_t)p4 * drift) >> 3);
    /// if (cell < 1000000) {
    ///   return 0;                     // words that no good cell has
    /// }
    /// p   = 4 * (int64_t)p1 - ((int64_t)p2 << 25) / cell;
    /// bow = ((p - 100000) * (p - 100000)) >> 15;
    /// p  += (bow * k8) >> 18;
    /// if (p < 0) {
    ///   p = 0;
    /// }
    /// return (int32_t)p / 100.0;
    /// ```
    #[allow(clippy::cast_possible_truncation, clippy::similar_names)]
    #[inline]
    fn pressure_value(
        &self,
        temperature: &TemperatureFrame,
        pressure: &PressureFrame,
    ) -> Option<f64> {
        if pressure.raw_pressure > 14_000_000 {
            return None; // raw_pressure is 0 to 14000000
        }
        if !(38_000..=50_000).contains(&self.p3) {
            return None; // p3 is 38000 to 50000
        }
        if !(-6000..=6000).contains(&self.p4) {
            return None; // p4 is -6000 to 6000
        }
        // a value it needs is at fault
        let drift = self.drift_value(temperature)?;
        let cell = i64::from(pressure.raw_pressure)
            + 128 * i64::from(self.p3)
            + ((i64::from(self.p4) * i64::from(drift)) >> 3);
        if cell < 1_000_000 {
            return Some(0.0);
        }
        if !(40_000..=52_000).contains(&self.p1) {
            return None; // p1 is 40000 to 52000
        }
        if !(30_000..=42_000).contains(&self.p2) {
            return None; // p2 is 30000 to 42000
        }
        let mut p =
            4 * i64::from(self.p1) - (i64::from(self.p2) << 25).checked_div(cell).unwrap_or(0);
        let bow = ((p - 100_000) * (p - 100_000)) >> 15;
        if !(-500..=500).contains(&self.k8) {
            return None; // k8 is -500 to 500
        }
        p += (bow * i64::from(self.k8)) >> 18;
        if p < 0 {
            p = 0;
        }
        Some(f64::from(p as i32) / 100.0)
    }
}

/// The codes of frame TEMPERATURE: 3 bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TemperatureFrame {
    /// b0..b2.
    pub raw_temperature: u32,
}

impl TemperatureFrame {
    /// Unpacks the bytes of TEMPERATURE.
    ///
    /// Every frame is taken: the sheet has no check for it.
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 3]) -> Option<Self> {
        Some(Self {
            raw_temperature: (u32::from(bytes[0]) << 16)
                | (u32::from(bytes[1]) << 8)
                | u32::from(bytes[2]),
        })
    }

    /// Temperature in °C.
    ///
    /// Stated range: -40 to 85 °C.
    ///
    /// Datasheet: section 6.1.
    #[inline]
    #[must_use]
    pub fn temperature(&self, calibration: &CalibrationFrame) -> Reading {
        let Some(value) = calibration.temperature_value(self) else {
            return Reading::none(Status::FormulaFault);
        };
        let mut status = Status::Ok;
        if !(-40.0..=85.0).contains(&value) {
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// All readings of TEMPERATURE.
    #[inline]
    #[must_use]
    pub fn readings(&self, calibration: &CalibrationFrame) -> TemperatureReadings {
        TemperatureReadings {
            temperature: self.temperature(calibration),
        }
    }
}

/// The codes of frame PRESSURE: 3 bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PressureFrame {
    /// b0..b2.
    pub raw_pressure: u32,
}

impl PressureFrame {
    /// Unpacks the bytes of PRESSURE.
    ///
    /// Every frame is taken: the sheet has no check for it.
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 3]) -> Option<Self> {
        Some(Self {
            raw_pressure: (u32::from(bytes[0]) << 16)
                | (u32::from(bytes[1]) << 8)
                | u32::from(bytes[2]),
        })
    }

    /// Whether this holds:
    ///
    /// ```text
    /// raw_pressure == 0
    /// ```
    #[inline]
    fn pressure_condition_1(&self) -> Option<bool> {
        if self.raw_pressure > 14_000_000 {
            return None; // raw_pressure is 0 to 14000000
        }
        Some(self.raw_pressure == 0)
    }

    /// Pressure in hPa.
    ///
    /// Stated range: 300 to 1200 hPa.
    ///
    /// Datasheet: section 6.2.
    #[inline]
    #[must_use]
    pub fn pressure(
        &self,
        calibration: &CalibrationFrame,
        temperature: &TemperatureFrame,
    ) -> Reading {
        let pressure_condition_1 = self.pressure_condition_1();
        // no conversion was started
        if pressure_condition_1 == Some(true) {
            return Reading::none(Status::NotReady);
        }
        if pressure_condition_1.is_none() {
            return Reading::none(Status::FormulaFault);
        }
        let Some(value) = calibration.pressure_value(temperature, self) else {
            return Reading::none(Status::FormulaFault);
        };
        let mut status = Status::Ok;
        if !(300.0..=1200.0).contains(&value) {
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// Pressure float in hPa.
    ///
    /// Stated range: 300 to 1200 hPa.
    ///
    /// Datasheet: section 6.3.
    #[inline]
    #[must_use]
    pub fn pressure_float(
        &self,
        calibration: &CalibrationFrame,
        temperature: &TemperatureFrame,
    ) -> Reading {
        let pressure_condition_1 = self.pressure_condition_1();
        // no conversion was started
        if pressure_condition_1 == Some(true) {
            return Reading::none(Status::NotReady);
        }
        if pressure_condition_1.is_none() {
            return Reading::none(Status::FormulaFault);
        }
        let Some(value) = calibration.pressure_float_value(temperature, self) else {
            return Reading::none(Status::FormulaFault);
        };
        let mut status = Status::Ok;
        if !(300.0..=1200.0).contains(&value) {
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// Altitude with its status, from the values that it uses.
    #[inline]
    fn altitude_judged(&self, parameters: &Parameters, pressure_reading: Option<f64>) -> Reading {
        let pressure_condition_1 = self.pressure_condition_1();
        // no conversion was started
        if pressure_condition_1 == Some(true) {
            return Reading::none(Status::NotReady);
        }
        if pressure_condition_1.is_none() {
            return Reading::none(Status::FormulaFault);
        }
        let Some(value) = parameters.altitude_value(pressure_reading) else {
            return Reading::none(Status::FormulaFault);
        };
        Reading::new(value, Status::Ok)
    }

    /// Altitude in m.
    #[inline]
    #[must_use]
    pub fn altitude(
        &self,
        calibration: &CalibrationFrame,
        temperature: &TemperatureFrame,
        parameters: &Parameters,
    ) -> Reading {
        let pressure_reading = calibration.pressure_value(temperature, self);
        self.altitude_judged(parameters, pressure_reading)
    }

    /// All readings of PRESSURE.
    #[inline]
    #[must_use]
    pub fn readings(
        &self,
        calibration: &CalibrationFrame,
        temperature: &TemperatureFrame,
        parameters: &Parameters,
    ) -> PressureReadings {
        let pressure_reading = calibration.pressure_value(temperature, self);
        PressureReadings {
            pressure: self.pressure(calibration, temperature),
            pressure_float: self.pressure_float(calibration, temperature),
            altitude: self.altitude_judged(parameters, pressure_reading),
        }
    }
}

/// The readings that TEMPERATURE brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TemperatureReadings {
    /// In °C.
    pub temperature: Reading,
}

impl TemperatureReadings {
    /// Decodes the bytes of TEMPERATURE: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 3], calibration: &CalibrationFrame) -> Option<Self> {
        let temperature = TemperatureFrame::unpack(bytes)?;
        Some(temperature.readings(calibration))
    }
}

/// The readings that PRESSURE brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct PressureReadings {
    /// In hPa.
    pub pressure: Reading,
    /// In hPa.
    pub pressure_float: Reading,
    /// In m.
    pub altitude: Reading,
}

impl PressureReadings {
    /// Decodes the bytes of PRESSURE: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(
        bytes: &[u8; 3],
        calibration: &CalibrationFrame,
        temperature: &TemperatureFrame,
        parameters: &Parameters,
    ) -> Option<Self> {
        let pressure = PressureFrame::unpack(bytes)?;
        Some(pressure.readings(calibration, temperature, parameters))
    }
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    /// The numbers that you supply.
    pub parameters: Parameters,
    calibration: CalibrationFrame,
    has_calibration: bool,
    temperature: TemperatureFrame,
    has_temperature: bool,
    pressure: PressureFrame,
    has_pressure: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        parameters: Parameters::DEFAULT,
        calibration: CalibrationFrame {
            t0: 0,
            t1: 0,
            p1: 0,
            p2: 0,
            p3: 0,
            p4: 0,
            k7: 0,
            k8: 0,
            revision: 0,
        },
        has_calibration: false,
        temperature: TemperatureFrame { raw_temperature: 0 },
        has_temperature: false,
        pressure: PressureFrame { raw_pressure: 0 },
        has_pressure: false,
    };

    /// Calibration as it came last.
    #[must_use]
    pub fn calibration(&self) -> Option<&CalibrationFrame> {
        self.has_calibration.then_some(&self.calibration)
    }

    /// Temperature as it came last.
    #[must_use]
    pub fn temperature(&self) -> Option<&TemperatureFrame> {
        self.has_temperature.then_some(&self.temperature)
    }

    /// The readings of temperature as it came last, once all that they need has come.
    #[must_use]
    pub fn temperature_readings(&self) -> Option<TemperatureReadings> {
        if !self.has_calibration || !self.has_temperature {
            return None;
        }
        Some(self.temperature.readings(&self.calibration))
    }

    /// Pressure as it came last.
    #[must_use]
    pub fn pressure(&self) -> Option<&PressureFrame> {
        self.has_pressure.then_some(&self.pressure)
    }

    /// The readings of pressure as it came last, once all that they need has come.
    #[must_use]
    pub fn pressure_readings(&self) -> Option<PressureReadings> {
        if !self.has_calibration || !self.has_temperature || !self.has_pressure {
            return None;
        }
        Some(
            self.pressure
                .readings(&self.calibration, &self.temperature, &self.parameters),
        )
    }
}

impl Default for Device {
    fn default() -> Self {
        Self::RESET
    }
}

/// Why a routine failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Failure {
    /// The part does not acknowledge.
    NoAnswer,
    /// What came is no good frame: a check value does not agree, or nobody answered.
    CheckFailed,
    /// What was waited for did not come in time.
    TimedOut,
    /// What was read is not what was expected: another part, or none.
    Unexpected,
    /// A register reads otherwise than it was written.
    NotTaken,
    /// A formula of the routine has no value with these settings.
    NoValue,
}

/// What a routine asks for next.
#[derive(Debug)]
pub enum Request<'a> {
    /// Bytes are written, then others are read; either may be empty.
    Transfer {
        /// What is written.
        write: &'a [u8],
        /// Where what is read goes.
        read: &'a mut [u8],
    },
    /// So many microseconds pass.
    Wait(u32),
    /// Nothing: it is done.
    Finished,
}

/// A run of routine read\_calibration, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct ReadCalibrationRun {
    at: u8,
    buffer: [u8; 16],
}

impl ReadCalibrationRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            buffer: [0; 16],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(clippy::too_many_lines)]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let calibration = &mut device.calibration;
        match self.at {
            0 => {
                // reset: the words are loaded from the memory
                self.at = 1;
                Ok(Request::Transfer {
                    write: &[0x9B],
                    read: &mut [],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // wait
                self.at = 2;
                Ok(Request::Wait(4500))
            }
            2 => {
                // read CALIBRATION
                self.at = 3;
                Ok(Request::Transfer {
                    write: &[0x05],
                    read: &mut self.buffer[..2],
                })
            }
            3 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 4;
                Ok(Request::Transfer {
                    write: &[0x15],
                    read: &mut self.buffer[2..4],
                })
            }
            4 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 5;
                Ok(Request::Transfer {
                    write: &[0x25],
                    read: &mut self.buffer[4..6],
                })
            }
            5 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 6;
                Ok(Request::Transfer {
                    write: &[0x35],
                    read: &mut self.buffer[6..8],
                })
            }
            6 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 7;
                Ok(Request::Transfer {
                    write: &[0x45],
                    read: &mut self.buffer[8..10],
                })
            }
            7 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 8;
                Ok(Request::Transfer {
                    write: &[0x55],
                    read: &mut self.buffer[10..12],
                })
            }
            8 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 9;
                Ok(Request::Transfer {
                    write: &[0x65],
                    read: &mut self.buffer[12..14],
                })
            }
            9 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // read CALIBRATION
                self.at = 10;
                Ok(Request::Transfer {
                    write: &[0x75],
                    read: &mut self.buffer[14..16],
                })
            }
            10 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                let Some(next) = self.buffer.first_chunk().and_then(CalibrationFrame::unpack)
                else {
                    return Err(Failure::CheckFailed);
                };
                *calibration = next;
                device.has_calibration = true;
                self.at = 11;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for ReadCalibrationRun {
    fn default() -> Self {
        Self::new()
    }
}

/// A run of routine measure, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct MeasureRun {
    at: u8,
    buffer: [u8; 3],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            buffer: [0; 3],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(clippy::similar_names)]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let temperature = &mut device.temperature;
        let pressure = &mut device.pressure;
        match self.at {
            0 => {
                // convert the temperature
                self.at = 1;
                Ok(Request::Transfer {
                    write: &[0x7A],
                    read: &mut [],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // wait
                self.at = 2;
                Ok(Request::Wait(13_650))
            }
            2 => {
                // read TEMPERATURE
                self.at = 3;
                Ok(Request::Transfer {
                    write: &[0x31],
                    read: &mut self.buffer[..3],
                })
            }
            3 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                let Some(next) = self.buffer.first_chunk().and_then(TemperatureFrame::unpack)
                else {
                    return Err(Failure::CheckFailed);
                };
                *temperature = next;
                device.has_temperature = true;
                // convert the pressure
                self.at = 4;
                Ok(Request::Transfer {
                    write: &[0x7D],
                    read: &mut [],
                })
            }
            4 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                // wait
                self.at = 5;
                Ok(Request::Wait(13_650))
            }
            5 => {
                // read PRESSURE
                self.at = 6;
                Ok(Request::Transfer {
                    write: &[0x32],
                    read: &mut self.buffer[..3],
                })
            }
            6 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                let Some(next) = self.buffer.first_chunk().and_then(PressureFrame::unpack) else {
                    return Err(Failure::CheckFailed);
                };
                *pressure = next;
                device.has_pressure = true;
                self.at = 7;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for MeasureRun {
    fn default() -> Self {
        Self::new()
    }
}

/// Why the driver gave up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Error<E> {
    /// The bus itself failed.
    Bus(E),
    /// The routine failed.
    Failed(Failure),
}

/// The part on a bus.
#[derive(Debug)]
pub struct Driver<I2C, D> {
    i2c: I2C,
    delay: D,
    address: u8,
    /// What is known of the part.
    pub device: Device,
}

impl<I2C, D> Driver<I2C, D>
where
    I2C: embedded_hal::i2c::I2c,
    D: embedded_hal::delay::DelayNs,
{
    /// The part as after a reset.
    pub const fn new(i2c: I2C, delay: D) -> Self {
        Self {
            i2c,
            delay,
            address: I2C_ADDRESS,
            device: Device::RESET,
        }
    }

    /// At another address, as its pins choose it.
    #[must_use]
    pub fn at(self, address: u8) -> Self {
        Self { address, ..self }
    }

    /// The bus and what else it was made from.
    pub fn release(self) -> (I2C, D) {
        (self.i2c, self.delay)
    }

    /// Runs routine read\_calibration.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn read_calibration(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = ReadCalibrationRun::new();
        let mut answered = true;
        loop {
            let request = run
                .step(&mut self.device, answered)
                .map_err(Error::Failed)?;
            if matches!(request, Request::Finished) {
                return Ok(());
            }
            answered = self.serve(request)?;
        }
    }

    /// Runs routine measure.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn measure(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = MeasureRun::new();
        let mut answered = true;
        loop {
            let request = run
                .step(&mut self.device, answered)
                .map_err(Error::Failed)?;
            if matches!(request, Request::Finished) {
                return Ok(());
            }
            answered = self.serve(request)?;
        }
    }

    /// Does what a routine asks for; `false` where the part does not answer.
    fn serve(&mut self, request: Request<'_>) -> Result<bool, Error<I2C::Error>> {
        match request {
            Request::Transfer { write, read } => {
                let done = if read.is_empty() {
                    self.i2c.write(self.address, write)
                } else if write.is_empty() {
                    self.i2c.read(self.address, read)
                } else {
                    self.i2c.write_read(self.address, write, read)
                };
                match done {
                    Ok(()) => Ok(true),
                    Err(error) => match embedded_hal::i2c::Error::kind(&error) {
                        embedded_hal::i2c::ErrorKind::NoAcknowledge(_) => Ok(false),
                        _ => Err(Error::Bus(error)),
                    },
                }
            }
            Request::Wait(micros) => {
                self.delay.delay_us(micros);
                Ok(true)
            }
            Request::Finished => Ok(true),
        }
    }
}
