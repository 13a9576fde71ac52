// ember-14: Surface temperature of timber, without touching it
// After: Ember 14 datasheet, issue C
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash b98dc4d8e7cf71a9.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0x6A to write, 0x6B to read.
pub const I2C_ADDRESS: u8 = 0x35;

/// The fastest clock of I2C, in Hz.
pub const I2C_MAX_HZ: u32 = 100_000;

/// Address of register EMISSIVITY.
pub const EMISSIVITY_ADDRESS: u8 = 0x53;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A value outside the range that the datasheet states.
    OutOfRange,
    /// No value: the part reports that it is faulty.
    PartFault,
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
            Status::PartFault => None,
            _ => Some(self.value),
        }
    }
}

/// What the part's registers hold, and what else is set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// EMISSIVITY, read-write: after a reset 0x0ED8.
    pub emissivity: u16,
}

impl Settings {
    /// The registers as after a reset.
    pub const RESET: Self = Self { emissivity: 0x0ED8 };

    /// EMISSIVITY\_WORD, EMISSIVITY\[11:0\].
    #[must_use]
    pub fn emissivity_word(&self) -> u16 {
        self.emissivity & 0x0FFF
    }

    /// EMISSIVITY\_WORD, EMISSIVITY\[11:0\].
    ///
    /// 0 to 4095; anything else is refused, and nothing is set.
    #[must_use]
    pub fn set_emissivity_word(&mut self, value: u16) -> bool {
        if value > 4095 {
            return false;
        }
        self.emissivity = (self.emissivity & 0xF000) | value;
        true
    }

    /// What is written to EMISSIVITY: reserved bits are as the datasheet demands.
    #[must_use]
    pub fn emissivity_value(&self) -> u16 {
        self.emissivity & 0x0FFF
    }
}

impl Default for Settings {
    fn default() -> Self {
        Self::RESET
    }
}

/// The numbers that you supply.
#[derive(Clone, Debug, PartialEq)]
pub struct Parameters {
    /// Emissivity of the timber; 0.2 to 1.
    pub emissivity: f64,
}

impl Parameters {
    /// What the sheet has for them.
    pub const DEFAULT: Self = Self { emissivity: 0.95 };
}

impl Default for Parameters {
    fn default() -> Self {
        Self::DEFAULT
    }
}

/// The codes of frame SURFACE: 3 bytes.
///
/// Datasheet: page 7.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SurfaceFrame {
    /// b1 b0\[7:1\], offset-binary.
    pub surface: i16,
    /// b0\[0\].
    pub defect: bool,
}

impl SurfaceFrame {
    /// Unpacks the bytes of SURFACE.
    ///
    /// Fails where the CRC-8/SMBUS does not agree.
    #[allow(clippy::cast_possible_wrap, clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 3]) -> Option<Self> {
        let mut check: u8 = 0x00;
        check ^= 0x6A;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        check ^= 0x1B;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        check ^= 0x6B;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        for &byte in bytes.iter().take(2) {
            check ^= byte;
            for _ in 0..8 {
                if (check & 0x80) != 0 {
                    check = (check << 1) ^ 0x07;
                } else {
                    check <<= 1;
                }
            }
        }
        if check != bytes[2] {
            return None; // CRC-8/SMBUS mismatch
        }
        let surface = (u16::from(bytes[1]) << 7) | u16::from(bytes[0] >> 1);
        Some(Self {
            surface: (((surface ^ 0x4000) << 1) as i16) >> 1,
            defect: (bytes[0] & 0x01) != 0,
        })
    }

    /// Surface in °C.
    ///
    /// Stated range: -45 to 240 °C.
    ///
    /// Datasheet: page 8.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn surface(&self) -> Reading {
        // the optical element is dirty or broken
        if self.defect {
            return Reading::none(Status::PartFault);
        }
        let value = f64::from(self.surface) * 0.03;
        let mut status = Status::Ok;
        if !(-1500..=8000).contains(&self.surface) {
            // the stated range is -45 to 240; the code says as much as the value
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// All readings of SURFACE.
    #[inline]
    #[must_use]
    pub fn readings(&self) -> SurfaceReadings {
        SurfaceReadings {
            surface: self.surface(),
        }
    }
}

/// The codes of frame LABEL: 13 bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LabelFrame {
    /// b0.
    pub bytes: u8,
    /// b1..b8, text.
    pub serial: [u8; 8],
    /// b9, decimal digits; -1 where one is none.
    pub year: i8,
    /// b10, decimal digits; -1 where one is none.
    pub month: i8,
    /// b11, decimal digits; -1 where one is none.
    pub day: i8,
}

impl LabelFrame {
    /// Unpacks the bytes of LABEL.
    ///
    /// Fails where the CRC-8/SMBUS does not agree.
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 13]) -> Option<Self> {
        let mut check: u8 = 0x00;
        check ^= 0x6A;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        check ^= 0x40;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        check ^= 0x6B;
        for _ in 0..8 {
            if (check & 0x80) != 0 {
                check = (check << 1) ^ 0x07;
            } else {
                check <<= 1;
            }
        }
        for &byte in bytes.iter().take(12) {
            check ^= byte;
            for _ in 0..8 {
                if (check & 0x80) != 0 {
                    check = (check << 1) ^ 0x07;
                } else {
                    check <<= 1;
                }
            }
        }
        if check != bytes[12] {
            return None; // CRC-8/SMBUS mismatch
        }
        Some(Self {
            bytes: bytes[0],
            serial: [
                bytes[1], bytes[2], bytes[3], bytes[4], bytes[5], bytes[6], bytes[7], bytes[8],
            ],
            year: bcd(u64::from(bytes[9]), 2) as i8,
            month: bcd(u64::from(bytes[10]), 2) as i8,
            day: bcd(u64::from(bytes[11]), 2) as i8,
        })
    }
}

/// The readings that SURFACE brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SurfaceReadings {
    /// In °C.
    pub surface: Reading,
}

impl SurfaceReadings {
    /// Decodes the bytes of SURFACE: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 3]) -> Option<Self> {
        let surface = SurfaceFrame::unpack(bytes)?;
        Some(surface.readings())
    }
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    /// What its registers hold, and what else is set.
    pub settings: Settings,
    /// The numbers that you supply.
    pub parameters: Parameters,
    surface: SurfaceFrame,
    has_surface: bool,
    label: LabelFrame,
    has_label: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        settings: Settings::RESET,
        parameters: Parameters::DEFAULT,
        surface: SurfaceFrame {
            surface: 0,
            defect: false,
        },
        has_surface: false,
        label: LabelFrame {
            bytes: 0,
            serial: [0; 8],
            year: 0,
            month: 0,
            day: 0,
        },
        has_label: false,
    };

    /// Surface as it came last.
    #[must_use]
    pub fn surface(&self) -> Option<&SurfaceFrame> {
        self.has_surface.then_some(&self.surface)
    }

    /// The readings of surface as it came last, once all that they need has come.
    #[must_use]
    pub fn surface_readings(&self) -> Option<SurfaceReadings> {
        self.has_surface.then(|| self.surface.readings())
    }

    /// Label as it came last.
    #[must_use]
    pub fn label(&self) -> Option<&LabelFrame> {
        self.has_label.then_some(&self.label)
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

/// A run of routine identify, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct IdentifyRun {
    at: u8,
    buffer: [u8; 13],
}

impl IdentifyRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            buffer: [0; 13],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let label = &mut device.label;
        match self.at {
            0 => {
                // read LABEL
                self.at = 1;
                Ok(Request::Transfer {
                    write: &[0x40],
                    read: &mut self.buffer[..13],
                })
            }
            1 => {
                if !answered {
                    return Err(Failure::NoAnswer);
                }
                let Some(next) = self.buffer.first_chunk().and_then(LabelFrame::unpack) else {
                    return Err(Failure::CheckFailed);
                };
                *label = next;
                device.has_label = true;
                // expect LABEL.bytes == 11
                if label.bytes != 11 {
                    return Err(Failure::Unexpected);
                }
                self.at = 2;
                Ok(Request::Finished)
            }
            _ => Ok(Request::Finished),
        }
    }
}

impl Default for IdentifyRun {
    fn default() -> Self {
        Self::new()
    }
}

/// A run of routine measure, for whoever waits for nothing: an event loop, an interrupt.
#[derive(Clone, Debug)]
pub struct MeasureRun {
    at: u8,
    tries: u8,
    buffer: [u8; 3],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            tries: 0,
            buffer: [0; 3],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let surface = &mut device.surface;
        loop {
            match self.at {
                0 => {
                    // read SURFACE
                    self.tries = 0;
                    self.at = 1;
                }
                1 => {
                    self.at = 2;
                    return Ok(Request::Transfer {
                        write: &[0x1B],
                        read: &mut self.buffer[..3],
                    });
                }
                2 => {
                    if !answered {
                        if self.tries < 3 {
                            self.tries = self.tries.wrapping_add(1);
                            self.at = 1;
                            return Ok(Request::Wait(1000));
                        }
                        return Err(Failure::NoAnswer);
                    }
                    let Some(next) = self.buffer.first_chunk().and_then(SurfaceFrame::unpack)
                    else {
                        return Err(Failure::CheckFailed);
                    };
                    *surface = next;
                    device.has_surface = true;
                    self.at = 3;
                    return Ok(Request::Finished);
                }
                _ => return Ok(Request::Finished),
            }
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

    /// Runs routine identify.
    ///
    /// # Errors
    /// [`Error`]; the routine is over then.
    pub fn identify(&mut self) -> Result<(), Error<I2C::Error>> {
        let mut run = IdentifyRun::new();
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

/// Decimal digits of four bits each; -1 where one is none.
fn bcd(bits: u64, digits: u8) -> i64 {
    let mut value: i64 = 0;
    for place in (0..digits).rev() {
        let digit = (bits >> (4 * u32::from(place))) & 0x0F;
        if digit > 9 {
            return -1;
        }
        value = value * 10 + i64::from(digit as u8);
    }
    value
}
