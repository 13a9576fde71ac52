// strake-20: Air temperature and relative humidity probe
// After: Strake 20 datasheet, revision 1.3
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash 2da8a569a0ac6f19.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0x58 to write, 0x59 to read.
pub const I2C_ADDRESS: u8 = 0x2C;

/// I2C address with pin ADR low: 7 bits; on the wire 0x58 to write, 0x59 to read.
pub const I2C_ADDRESS_ADR_LOW: u8 = 0x2C;

/// I2C address with pin ADR high: 7 bits; on the wire 0x5A to write, 0x5B to read.
pub const I2C_ADDRESS_ADR_HIGH: u8 = 0x2D;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A value outside the range that the datasheet states.
    OutOfRange,
    /// The end of the part's range; the value is a bound.
    Saturated,
    /// No value: the part had nothing new to say.
    NotReady,
    /// No value: the part says that this is no measurement.
    Invalid,
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
            Status::NotReady | Status::Invalid => None,
            _ => Some(self.value),
        }
    }
}

/// The codes of frame AIR: 7 bytes.
///
/// Datasheet: section 5.4, figure 9.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AirFrame {
    /// b0 b1\[7:4\].
    pub supply: u16,
    /// b1\[3:0\] b2 b3\[7:6\].
    pub humidity: u16,
    /// b3\[5:0\] b4, two's complement.
    pub temperature: i16,
    /// b5\[7:4\].
    pub sequence: u8,
    /// b5\[1\].
    pub ready: bool,
    /// b5\[0\].
    pub busy: bool,
}

impl AirFrame {
    /// Unpacks the bytes of AIR.
    ///
    /// Fails where the CRC-8 does not agree.
    #[allow(clippy::cast_possible_wrap, clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 7]) -> Option<Self> {
        let mut check: u8 = 0x5A;
        for &byte in bytes.iter().take(6) {
            check ^= byte;
            for _ in 0..8 {
                if (check & 0x80) != 0 {
                    check = (check << 1) ^ 0x4D;
                } else {
                    check <<= 1;
                }
            }
        }
        if check != bytes[6] {
            return None; // CRC-8 mismatch
        }
        let temperature = (u16::from(bytes[3] & 0x3F) << 8) | u16::from(bytes[4]);
        Some(Self {
            supply: (u16::from(bytes[0]) << 4) | u16::from(bytes[1] >> 4),
            humidity: (u16::from(bytes[1] & 0x0F) << 10)
                | (u16::from(bytes[2]) << 2)
                | u16::from(bytes[3] >> 6),
            temperature: ((temperature << 2) as i16) >> 2,
            sequence: bytes[5] >> 4,
            ready: ((bytes[5] >> 1) & 0x01) != 0,
            busy: (bytes[5] & 0x01) != 0,
        })
    }

    /// Temperature in °C.
    ///
    /// Stated range: -35 to 110 °C.
    ///
    /// Datasheet: section 6.1.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn temperature(&self) -> Reading {
        // a measurement is under way
        if self.busy || !self.ready {
            return Reading::none(Status::NotReady);
        }
        // sensing element open
        if self.temperature == -8192 {
            return Reading::none(Status::Invalid);
        }
        let value = f64::from(self.temperature) * 0.015 + 20.0;
        let mut status = Status::Ok;
        if !(-3666..=6000).contains(&self.temperature) {
            // the stated range is -35 to 110; the code says as much as the value
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// Humidity in %.
    ///
    /// Stated range: 0 to 100 %.
    ///
    /// Datasheet: section 6.2.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn humidity(&self) -> Reading {
        // a measurement is under way
        if self.busy || !self.ready {
            return Reading::none(Status::NotReady);
        }
        let value = f64::from(self.humidity) * 0.008 - 11.0;
        let mut status = Status::Ok;
        if self.humidity == 16_383 {
            // dew on the element
            status = Status::Saturated;
        } else if !(1375..=13_875).contains(&self.humidity) {
            // the stated range is 0 to 100; the code says as much as the value
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// Supply in V.
    ///
    /// Stated range: 2.2 to 5.5 V.
    ///
    /// Datasheet: section 6.3.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn supply(&self) -> Reading {
        // a measurement is under way
        if self.busy || !self.ready {
            return Reading::none(Status::NotReady);
        }
        let value = f64::from(self.supply) * 0.0015;
        let mut status = Status::Ok;
        if !(1467..=3666).contains(&self.supply) {
            // the stated range is 2.2 to 5.5; the code says as much as the value
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// All readings of AIR.
    #[inline]
    #[must_use]
    pub fn readings(&self) -> AirReadings {
        AirReadings {
            temperature: self.temperature(),
            humidity: self.humidity(),
            supply: self.supply(),
        }
    }
}

/// The readings that AIR brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AirReadings {
    /// In °C.
    pub temperature: Reading,
    /// In %.
    pub humidity: Reading,
    /// In V.
    pub supply: Reading,
}

impl AirReadings {
    /// Decodes the bytes of AIR: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 7]) -> Option<Self> {
        let air = AirFrame::unpack(bytes)?;
        Some(air.readings())
    }
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    air: AirFrame,
    has_air: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        air: AirFrame {
            supply: 0,
            humidity: 0,
            temperature: 0,
            sequence: 0,
            ready: false,
            busy: false,
        },
        has_air: false,
    };

    /// Air as it came last.
    #[must_use]
    pub fn air(&self) -> Option<&AirFrame> {
        self.has_air.then_some(&self.air)
    }

    /// The readings of air as it came last, once all that they need has come.
    #[must_use]
    pub fn air_readings(&self) -> Option<AirReadings> {
        self.has_air.then(|| self.air.readings())
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
    tries: u8,
    buffer: [u8; 7],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            tries: 0,
            buffer: [0; 7],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let air = &mut device.air;
        loop {
            match self.at {
                0 => {
                    // measure once
                    self.at = 1;
                    return Ok(Request::Transfer {
                        write: &[0x5A, 0x10],
                        read: &mut [],
                    });
                }
                1 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    // wait
                    self.at = 2;
                    return Ok(Request::Wait(15_400));
                }
                2 => {
                    // read AIR
                    self.tries = 0;
                    self.at = 3;
                }
                3 => {
                    self.at = 4;
                    return Ok(Request::Transfer {
                        write: &[],
                        read: &mut self.buffer[..7],
                    });
                }
                4 => {
                    if !answered {
                        if self.tries < 5 {
                            self.tries = self.tries.wrapping_add(1);
                            self.at = 3;
                            return Ok(Request::Wait(2000));
                        }
                        return Err(Failure::NoAnswer);
                    }
                    let Some(next) = self.buffer.first_chunk().and_then(AirFrame::unpack) else {
                        return Err(Failure::CheckFailed);
                    };
                    *air = next;
                    device.has_air = true;
                    self.at = 5;
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
