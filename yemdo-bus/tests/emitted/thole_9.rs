// thole-9: Frost guard with alert output
// After: Thole 9 datasheet, revision 2.0
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash 713f272791683222.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0xA2 to write, 0xA3 to read.
pub const I2C_ADDRESS: u8 = 0x51;

/// Address of register MODE (section 5.1).
pub const MODE_ADDRESS: u8 = 0x14;

/// Address of register LOW.
pub const LOW_ADDRESS: u8 = 0x26;

/// Address of register HIGH.
pub const HIGH_ADDRESS: u8 = 0x22;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A good value; the part signals an alert.
    Alert,
    /// A value outside the range that the datasheet states.
    OutOfRange,
    /// The end of the part's range; the value is a bound.
    Saturated,
    /// No value: the part had nothing new to say.
    NotReady,
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
            Status::NotReady => None,
            _ => Some(self.value),
        }
    }
}

/// The values of RESOLUTION.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Resolution {
    /// 10 bits; bits = 10, ms = 7, step = 0.32, noise = 0.1, current = 0.04.
    Bits10,
    /// 11 bits; bits = 11, ms = 13, step = 0.16, noise = 0.07, current = 0.06.
    Bits11,
    /// 12 bits; bits = 12, ms = 31, step = 0.08, noise = 0.05, current = 0.11.
    Bits12,
    /// 14 bits; bits = 14, ms = 118, step = 0.02, noise = 0.03, current = 0.38.
    Bits14,
    /// A code that the datasheet does not name.
    Other(u8),
}

impl Resolution {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Bits10,
            1 => Self::Bits11,
            2 => Self::Bits12,
            3 => Self::Bits14,
            other => Self::Other(other),
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Bits10 => 0,
            Self::Bits11 => 1,
            Self::Bits12 => 2,
            Self::Bits14 => 3,
            Self::Other(code) => code,
        }
    }
}

/// The values of COMPARE.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compare {
    /// hysteresis.
    Hysteresis,
    /// window.
    Window,
}

impl Compare {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Hysteresis,
            _ => Self::Window,
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Hysteresis => 0,
            Self::Window => 1,
        }
    }
}

/// The values of RUN.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Run {
    /// stopped.
    Stopped,
    /// running.
    Running,
}

impl Run {
    /// The value that a code stands for.
    #[must_use]
    pub const fn from_code(code: u8) -> Self {
        match code {
            0 => Self::Stopped,
            _ => Self::Running,
        }
    }

    /// Its code.
    #[must_use]
    pub const fn code(self) -> u8 {
        match self {
            Self::Stopped => 0,
            Self::Running => 1,
        }
    }
}

/// What the part's registers hold, and what else is set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// MODE, read-write: after a reset 0x86.
    pub mode: u8,
    /// LOW, read-write: after a reset 0x0000.
    pub low: u16,
    /// HIGH, read-write: after a reset 0x0640.
    pub high: u16,
}

impl Settings {
    /// The registers as after a reset.
    pub const RESET: Self = Self {
        mode: 0x86,
        low: 0x0000,
        high: 0x0640,
    };

    /// RESOLUTION, MODE\[3:1\].
    #[must_use]
    pub fn resolution(&self) -> Resolution {
        Resolution::from_code((self.mode >> 1) & 0x07)
    }

    /// RESOLUTION, MODE\[3:1\].
    ///
    /// 0 to 7; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_resolution(&mut self, value: Resolution) -> bool {
        if value.code() > 7 {
            return false;
        }
        self.mode = (self.mode & 0xF1) | (value.code() << 1);
        true
    }

    /// COMPARE, MODE\[5\].
    #[must_use]
    pub fn compare(&self) -> Compare {
        Compare::from_code((self.mode >> 5) & 0x01)
    }

    /// COMPARE, MODE\[5\].
    ///
    /// 0 to 1; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_compare(&mut self, value: Compare) -> bool {
        if value.code() > 1 {
            return false;
        }
        self.mode = (self.mode & 0xDF) | (value.code() << 5);
        true
    }

    /// RUN, MODE\[7\].
    #[must_use]
    pub fn run(&self) -> Run {
        Run::from_code(self.mode >> 7)
    }

    /// RUN, MODE\[7\].
    ///
    /// 0 to 1; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_run(&mut self, value: Run) -> bool {
        if value.code() > 1 {
            return false;
        }
        self.mode = (self.mode & 0x7F) | (value.code() << 7);
        true
    }

    /// LOW\_LIMIT, LOW\[15:6\].
    #[allow(clippy::cast_possible_wrap)]
    #[must_use]
    pub fn low_limit(&self) -> i16 {
        (self.low as i16) >> 6
    }

    /// LOW\_LIMIT, LOW\[15:6\].
    ///
    /// -512 to 511; anything else is refused, and nothing is set.
    #[allow(clippy::cast_sign_loss)]
    #[must_use]
    pub fn set_low_limit(&mut self, value: i16) -> bool {
        if !(-512..=511).contains(&value) {
            return false;
        }
        self.low = (self.low & 0x003F) | ((value as u16 & 0x03FF) << 6);
        true
    }

    /// HIGH\_LIMIT, HIGH\[15:6\].
    #[allow(clippy::cast_possible_wrap)]
    #[must_use]
    pub fn high_limit(&self) -> i16 {
        (self.high as i16) >> 6
    }

    /// HIGH\_LIMIT, HIGH\[15:6\].
    ///
    /// -512 to 511; anything else is refused, and nothing is set.
    #[allow(clippy::cast_sign_loss)]
    #[must_use]
    pub fn set_high_limit(&mut self, value: i16) -> bool {
        if !(-512..=511).contains(&value) {
            return false;
        }
        self.high = (self.high & 0x003F) | ((value as u16 & 0x03FF) << 6);
        true
    }

    /// What is written to MODE: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn mode_value(&self) -> u8 {
        self.mode & 0xAE
    }

    /// What is written to LOW: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn low_value(&self) -> u16 {
        self.low & 0xFFC0
    }

    /// What is written to HIGH: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn high_value(&self) -> u16 {
        self.high & 0xFFC0
    }

    /// Lower threshold in °C.
    ///
    /// It is LOW\_LIMIT \* 16.
    #[allow(clippy::cast_possible_wrap)]
    #[must_use]
    pub fn lower_threshold(&self) -> f64 {
        let code = i32::from((self.low as i16) >> 6) * 16;
        f64::from(code) * 0.02
    }

    /// Sets lower threshold as near to a value in °C as LOW\_LIMIT can hold it.
    ///
    /// A code is 0.32 °C more than the one before. Out of range, nothing is set and `false` is
    /// returned.
    #[allow(clippy::cast_possible_truncation, clippy::similar_names)]
    #[must_use]
    pub fn set_lower_threshold(&mut self, value: f64) -> bool {
        let code = value / 0.32;
        if !(-512.5..=511.5).contains(&code) {
            return false;
        }
        let rounded = (code + (if code < 0.0 { -0.5 } else { 0.5 })) as i32;
        let nearest = rounded.clamp(-512, 511);
        let _ = self.set_low_limit(nearest as i16);
        true
    }

    /// Upper threshold in °C.
    ///
    /// It is HIGH\_LIMIT \* 16.
    #[allow(clippy::cast_possible_wrap)]
    #[must_use]
    pub fn upper_threshold(&self) -> f64 {
        let code = i32::from((self.high as i16) >> 6) * 16;
        f64::from(code) * 0.02
    }

    /// Sets upper threshold as near to a value in °C as HIGH\_LIMIT can hold it.
    ///
    /// A code is 0.32 °C more than the one before. Out of range, nothing is set and `false` is
    /// returned.
    #[allow(clippy::cast_possible_truncation, clippy::similar_names)]
    #[must_use]
    pub fn set_upper_threshold(&mut self, value: f64) -> bool {
        let code = value / 0.32;
        if !(-512.5..=511.5).contains(&code) {
            return false;
        }
        let rounded = (code + (if code < 0.0 { -0.5 } else { 0.5 })) as i32;
        let nearest = rounded.clamp(-512, 511);
        let _ = self.set_high_limit(nearest as i16);
        true
    }

    /// Hysteresis in °C: how far it must warm up again before the alert ends.
    ///
    /// It is upper\_threshold - lower\_threshold.
    #[must_use]
    pub fn hysteresis(&self) -> f64 {
        self.upper_threshold() - self.lower_threshold()
    }

    /// Sets hysteresis as near to a value in °C as LOW\_LIMIT can hold it.
    ///
    /// Found by bisection. Out of range, nothing is set and `false` is returned.
    #[allow(clippy::cast_possible_truncation, clippy::similar_names)]
    #[must_use]
    pub fn set_hysteresis(&mut self, value: f64) -> bool {
        let low_before = self.low;
        let mut low: i32 = -512;
        let mut high: i32 = 511;
        let _ = self.set_low_limit(low as i16);
        let first = self.hysteresis();
        let _ = self.set_low_limit(high as i16);
        let last = self.hysteresis();
        if !(last..=first).contains(&value) {
            self.low = low_before;
            return false;
        }
        for _ in 0..10 {
            let middle = low + (high - low) / 2;
            let _ = self.set_low_limit(middle as i16);
            let there = self.hysteresis();
            if there > value {
                low = middle;
            } else {
                high = middle;
            }
        }
        let _ = self.set_low_limit(low as i16);
        let one = self.hysteresis();
        let _ = self.set_low_limit(high as i16);
        let other = self.hysteresis();
        if one - value <= value - other {
            let _ = self.set_low_limit(low as i16);
        }
        true
    }

    /// A value that routine measure needs:
    ///
    /// ```text
    /// RESOLUTION.ms
    /// ```
    fn measure_time_2(&self) -> Option<i32> {
        // RESOLUTION has no row for it
        let resolution_ms = resolution_ms((self.mode >> 1) & 0x07)?;
        Some(resolution_ms)
    }
}

impl Default for Settings {
    fn default() -> Self {
        Self::RESET
    }
}

/// The codes of frame FROST: 3 bytes.
///
/// Datasheet: section 4.2.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrostFrame {
    /// b0 b1\[7:2\], two's complement.
    pub temperature: i16,
    /// b1\[1\].
    pub alert: bool,
    /// b1\[0\].
    pub converting: bool,
}

impl FrostFrame {
    /// Unpacks the bytes of FROST.
    ///
    /// Fails where the inverted 8-bit sum does not agree.
    #[allow(clippy::cast_possible_wrap, clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 3]) -> Option<Self> {
        let mut check: u8 = 0x00;
        for &byte in bytes.iter().take(2) {
            check = check.wrapping_add(byte);
        }
        check = !check;
        if check != bytes[2] {
            return None; // inverted 8-bit sum mismatch
        }
        let temperature = (u16::from(bytes[0]) << 6) | u16::from(bytes[1] >> 2);
        Some(Self {
            temperature: ((temperature << 2) as i16) >> 2,
            alert: ((bytes[1] >> 1) & 0x01) != 0,
            converting: (bytes[1] & 0x01) != 0,
        })
    }

    /// Temperature in °C.
    ///
    /// Stated range: -50 to 90 °C.
    ///
    /// Datasheet: section 4.1.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn temperature(&self) -> Reading {
        // the first conversion is not done
        if self.converting {
            return Reading::none(Status::NotReady);
        }
        let value = f64::from(self.temperature) * 0.02;
        let mut status = Status::Ok;
        if self.temperature == 8191 || self.temperature == -8192 {
            // beyond the converter's range
            status = Status::Saturated;
        } else if !(-2500..=4500).contains(&self.temperature) {
            // the stated range is -50 to 90; the code says as much as the value
            status = Status::OutOfRange;
        } else if self.alert {
            // the frost threshold is passed
            status = Status::Alert;
        }
        Reading::new(value, status)
    }

    /// All readings of FROST.
    #[inline]
    #[must_use]
    pub fn readings(&self) -> FrostReadings {
        FrostReadings {
            temperature: self.temperature(),
        }
    }
}

/// The readings that FROST brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FrostReadings {
    /// In °C.
    pub temperature: Reading,
}

impl FrostReadings {
    /// Decodes the bytes of FROST: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 3]) -> Option<Self> {
        let frost = FrostFrame::unpack(bytes)?;
        Some(frost.readings())
    }
}

/// The number beside a code of RESOLUTION in column bits, where there is one.
#[must_use]
pub fn resolution_bits(code: u8) -> Option<i32> {
    match code {
        0 => Some(10),
        1 => Some(11),
        2 => Some(12),
        3 => Some(14),
        _ => None, // no row for it
    }
}

/// The number beside a code of RESOLUTION in column ms, where there is one.
#[must_use]
pub fn resolution_ms(code: u8) -> Option<i32> {
    match code {
        0 => Some(7),
        1 => Some(13),
        2 => Some(31),
        3 => Some(118),
        _ => None, // no row for it
    }
}

/// The number beside a code of RESOLUTION in column step, where there is one.
#[must_use]
pub fn resolution_step(code: u8) -> Option<f64> {
    match code {
        0 => Some(0.32),
        1 => Some(0.16),
        2 => Some(0.08),
        3 => Some(0.02),
        _ => None, // no row for it
    }
}

/// The number beside a code of RESOLUTION in column noise, where there is one.
#[must_use]
pub fn resolution_noise(code: u8) -> Option<f64> {
    match code {
        0 => Some(0.1),
        1 => Some(0.07),
        2 => Some(0.05),
        3 => Some(0.03),
        _ => None, // no row for it
    }
}

/// The number beside a code of RESOLUTION in column current, where there is one.
#[must_use]
pub fn resolution_current(code: u8) -> Option<f64> {
    match code {
        0 => Some(0.04),
        1 => Some(0.06),
        2 => Some(0.11),
        3 => Some(0.38),
        _ => None, // no row for it
    }
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    /// What its registers hold, and what else is set.
    pub settings: Settings,
    frost: FrostFrame,
    has_frost: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        settings: Settings::RESET,
        frost: FrostFrame {
            temperature: 0,
            alert: false,
            converting: false,
        },
        has_frost: false,
    };

    /// Frost as it came last.
    #[must_use]
    pub fn frost(&self) -> Option<&FrostFrame> {
        self.has_frost.then_some(&self.frost)
    }

    /// The readings of frost as it came last, once all that they need has come.
    #[must_use]
    pub fn frost_readings(&self) -> Option<FrostReadings> {
        self.has_frost.then(|| self.frost.readings())
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

/// A run of routine measure, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct MeasureRun {
    at: u8,
    out: [u8; 2],
    buffer: [u8; 3],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            out: [0; 2],
            buffer: [0; 3],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    #[allow(
        clippy::cast_possible_wrap,
        clippy::cast_sign_loss,
        clippy::manual_div_ceil,
        clippy::similar_names
    )]
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let settings = &mut device.settings;
        let frost = &mut device.frost;
        match self.at {
            0 => {
                // MODE: RUN = running
                let mode_1 = (settings.mode & 0x2E) | 0x80;
                self.out[0] = 0x14;
                self.out[1] = mode_1;
                self.at = 1;
                Ok(Request::Transfer {
                    write: &self.out[..2],
                    read: &mut [],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                settings.mode = (settings.mode & 0x2E) | 0x80;
                let Some(time_2) = settings.measure_time_2() else {
                    return Err(Failure::NoValue);
                };
                let micros_3 = (time_2 as u32).wrapping_mul(1000);
                let longer_4 = micros_3
                    .wrapping_add((micros_3 / 1000).wrapping_mul(100))
                    .wrapping_add((micros_3 % 1000).wrapping_mul(100).wrapping_add(999) / 1000);
                // wait RESOLUTION.ms ms
                self.at = 2;
                Ok(Request::Wait(longer_4))
            }
            2 => {
                // read FROST
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
                let Some(next) = self.buffer.first_chunk().and_then(FrostFrame::unpack) else {
                    return Err(Failure::CheckFailed);
                };
                *frost = next;
                device.has_frost = true;
                self.at = 4;
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

/// A run of routine sleep, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct SleepRun {
    at: u8,
    mode_written: u8,
    out: [u8; 2],
    buffer: [u8; 1],
}

impl SleepRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            mode_written: 0,
            out: [0; 2],
            buffer: [0; 1],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let settings = &mut device.settings;
        match self.at {
            0 => {
                // MODE: RUN = stopped
                let mode_1 = settings.mode & 0x2E;
                self.mode_written = mode_1;
                self.out[0] = 0x14;
                self.out[1] = mode_1;
                self.at = 1;
                Ok(Request::Transfer {
                    write: &self.out[..2],
                    read: &mut [],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                settings.mode &= 0x2E;
                // compare MODE with what was written
                self.at = 2;
                Ok(Request::Transfer {
                    write: &[0x14],
                    read: &mut self.buffer[..1],
                })
            }
            2 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                if (self.buffer[0] ^ self.mode_written) != 0 {
                    return Err(Failure::NotTaken);
                }
                self.at = 3;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for SleepRun {
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

    /// Runs routine sleep.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn sleep(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = SleepRun::new();
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
