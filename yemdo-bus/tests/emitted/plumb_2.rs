// plumb-2: Level in the impregnation tank, by sound
// After: Plumb 2 handbook, 4th printing
//
// Made by yemdo 0.1.0 from a sheet whose text has the hash d407cc913d9f150c.
// Do not edit it: change the sheet, and emit it again.
// Real numbers are computed in 64 bits.

/// I2C address: 7 bits; on the wire 0x72 to write, 0x73 to read.
pub const I2C_ADDRESS: u8 = 0x39;

/// How far a reading is to be believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// A good value.
    Ok,
    /// A value outside the range that the datasheet states.
    OutOfRange,
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

/// The codes of frame ECHO: 5 bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EchoFrame {
    /// b0\[0\].
    pub fresh: bool,
    /// b1 b2.
    pub flight: u16,
    /// b3, sign-magnitude.
    pub celsius: i8,
}

impl EchoFrame {
    /// Unpacks the bytes of ECHO.
    ///
    /// Fails where the XOR does not agree.
    #[allow(clippy::cast_possible_truncation)]
    #[inline]
    #[must_use]
    pub fn unpack(bytes: &[u8; 5]) -> Option<Self> {
        let mut check: u8 = 0x5A;
        for &byte in bytes.iter().take(4) {
            check ^= byte;
        }
        if check != bytes[4] {
            return None; // XOR mismatch
        }
        Some(Self {
            fresh: (bytes[0] & 0x01) != 0,
            flight: (u16::from(bytes[1]) << 8) | u16::from(bytes[2]),
            celsius: (if (bytes[3] & 0x80) != 0 {
                -i32::from(bytes[3] & 0x7F)
            } else {
                i32::from(bytes[3] & 0x7F)
            }) as i8,
        })
    }

    /// Distance in mm.
    ///
    /// Stated range: 120 to 4000 mm.
    ///
    /// Datasheet: chapter 3.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn distance(&self) -> Reading {
        // the echo is still on its way
        if !self.fresh {
            return Reading::none(Status::NotReady);
        }
        // no echo
        if self.flight == 65_535 {
            return Reading::none(Status::Invalid);
        }
        // closer than 120 mm the transducer still rings
        if self.flight < 700 {
            return Reading::none(Status::Invalid);
        }
        let value = f64::from(self.flight) * 0.1717;
        let mut status = Status::Ok;
        if !(699..=23_296).contains(&self.flight) {
            // the stated range is 120 to 4000; the code says as much as the value
            status = Status::OutOfRange;
        }
        Reading::new(value, status)
    }

    /// Transducer in °C.
    ///
    /// Stated range: -30 to 80 °C.
    #[allow(clippy::similar_names)]
    #[inline]
    #[must_use]
    pub fn transducer(&self) -> Reading {
        // the echo is still on its way
        if !self.fresh {
            return Reading::none(Status::NotReady);
        }
        let value = i32::from(self.celsius);
        let mut status = Status::Ok;
        if !(-30..=80).contains(&value) {
            status = Status::OutOfRange;
        }
        Reading::new(f64::from(value), status)
    }

    /// All readings of ECHO.
    #[inline]
    #[must_use]
    pub fn readings(&self) -> EchoReadings {
        EchoReadings {
            distance: self.distance(),
            transducer: self.transducer(),
        }
    }
}

/// The readings that ECHO brings.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct EchoReadings {
    /// In mm.
    pub distance: Reading,
    /// In °C.
    pub transducer: Reading,
}

impl EchoReadings {
    /// Decodes the bytes of ECHO: unpacks them and computes all readings.
    #[must_use]
    pub fn decode(bytes: &[u8; 5]) -> Option<Self> {
        let echo = EchoFrame::unpack(bytes)?;
        Some(echo.readings())
    }
}

/// What is known of the part.
#[derive(Clone, Debug, PartialEq)]
pub struct Device {
    echo: EchoFrame,
    has_echo: bool,
}

impl Device {
    /// The part as after a reset: no frame has come.
    pub const RESET: Self = Self {
        echo: EchoFrame {
            fresh: false,
            flight: 0,
            celsius: 0,
        },
        has_echo: false,
    };

    /// Echo as it came last.
    #[must_use]
    pub fn echo(&self) -> Option<&EchoFrame> {
        self.has_echo.then_some(&self.echo)
    }

    /// The readings of echo as it came last, once all that they need has come.
    #[must_use]
    pub fn echo_readings(&self) -> Option<EchoReadings> {
        self.has_echo.then(|| self.echo.readings())
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
    looked: u32,
    buffer: [u8; 5],
}

impl MeasureRun {
    /// Its beginning.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            at: 0,
            looked: 0,
            buffer: [0; 5],
        }
    }

    /// Goes on until something has to be done, and says what. `answered` is whether what was asked
    /// last was acknowledged, or came in time; it counts for nothing at first.
    ///
    /// # Errors
    /// The routine has failed, and is over.
    pub fn step(&mut self, device: &mut Device, answered: bool) -> Result<Request<'_>, Failure> {
        let echo = &mut device.echo;
        loop {
            match self.at {
                0 => {
                    // send a burst
                    self.at = 1;
                    return Ok(Request::Transfer {
                        write: &[0x2B],
                        read: &mut [],
                    });
                }
                1 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    // wait
                    self.at = 2;
                    return Ok(Request::Wait(25_000));
                }
                2 => {
                    self.looked = 0;
                    self.at = 3;
                }
                3 => {
                    // until fresh
                    // read ECHO
                    self.at = 4;
                    return Ok(Request::Transfer {
                        write: &[],
                        read: &mut self.buffer[..5],
                    });
                }
                4 => {
                    if !answered {
                        return Err(Failure::NoAnswer);
                    }
                    let Some(next) = self.buffer.first_chunk().and_then(EchoFrame::unpack) else {
                        return Err(Failure::CheckFailed);
                    };
                    *echo = next;
                    device.has_echo = true;
                    if echo.fresh {
                        self.at = 5;
                    } else {
                        if self.looked.wrapping_add(5000) > 60_000 {
                            return Err(Failure::TimedOut);
                        }
                        self.looked = self.looked.wrapping_add(5000);
                        self.at = 3;
                        return Ok(Request::Wait(5000));
                    }
                }
                5 => {
                    self.at = 6;
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
