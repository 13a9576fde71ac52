//! The bench behind the traits of embedded-hal.

use std::convert::Infallible;

use embedded_hal::delay::DelayNs;
use embedded_hal::digital::{ErrorType as PinErrorType, InputPin};
use embedded_hal::i2c::{ErrorKind, ErrorType, I2c, NoAcknowledgeSource, Operation};
use embedded_hal::spi::{self, SpiDevice};
use yemdo::stand_in::Reaction;

use super::Rig;

/// The bench as an I2C bus.
#[derive(Clone, Debug)]
pub struct RigI2c {
    pub(super) rig: Rig,
}

/// What the bench's I2C says where something goes wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RigI2cError {
    /// Nobody acknowledges the address.
    NakAddress,
    /// A byte is not acknowledged.
    NakData,
    /// The bus is held, or nothing came.
    Held,
    /// Fewer bytes came than were asked for.
    Short,
}

impl embedded_hal::i2c::Error for RigI2cError {
    fn kind(&self) -> ErrorKind {
        match self {
            RigI2cError::NakAddress => ErrorKind::NoAcknowledge(NoAcknowledgeSource::Address),
            RigI2cError::NakData => ErrorKind::NoAcknowledge(NoAcknowledgeSource::Data),
            RigI2cError::Held | RigI2cError::Short => ErrorKind::Bus,
        }
    }
}

impl ErrorType for RigI2c {
    type Error = RigI2cError;
}

impl I2c for RigI2c {
    fn transaction(&mut self, address: u8, operations: &mut [Operation<'_>]) -> Result<(), RigI2cError> {
        // Operations of one kind that follow one another are one; a read ends what was sent before it.
        let mut sent: Vec<u8> = Vec::new();
        let mut any = false;
        let mut at = 0;
        while at < operations.len() {
            let mut length = 0;
            let mut end = at;
            while let Some(Operation::Read(buffer)) = operations.get(end) {
                length += buffer.len();
                end += 1;
            }
            if end == at {
                if let Some(Operation::Write(bytes)) = operations.get(at) {
                    sent.extend_from_slice(bytes);
                    any = true;
                }
                at += 1;
                continue;
            }
            let bytes = self.rig.i2c_transfer(address, &sent, length)?;
            let mut rest = bytes.as_slice();
            for operation in operations.get_mut(at..end).unwrap_or_default() {
                if let Operation::Read(buffer) = operation {
                    let (own, behind) = rest.split_at_checked(buffer.len()).ok_or(RigI2cError::Short)?;
                    buffer.copy_from_slice(own);
                    rest = behind;
                }
            }
            sent.clear();
            any = false;
            at = end;
        }
        if any || operations.is_empty() {
            self.rig.i2c_transfer(address, &sent, 0)?;
        }
        Ok(())
    }
}

impl embedded_hal_async::i2c::I2c for RigI2c {
    async fn transaction(&mut self, address: u8, operations: &mut [Operation<'_>]) -> Result<(), RigI2cError> {
        I2c::transaction(self, address, operations)
    }
}

impl Rig {
    /// A transfer over the bench's I2C.
    pub(super) fn i2c_transfer(&self, address: u8, sent: &[u8], receive: usize) -> Result<Vec<u8>, RigI2cError> {
        let mut inner = self.lock();
        let (bytes, parts) = ((sent.len() + receive) as u64, u64::from(!sent.is_empty()) + u64::from(receive > 0));
        let hertz = inner.hertz[0];
        inner.bits((bytes + parts.max(1)) * 9 + 2, hertz);
        let Some(part) = inner.at_address(address) else { return Err(RigI2cError::NakAddress) };
        match inner.react(part, |stand_in, now| stand_in.i2c(now, address, sent, receive)) {
            Reaction::Answer(bytes) if bytes.len() == receive => Ok(bytes),
            Reaction::Answer(_) => Err(RigI2cError::Short),
            Reaction::NakAddress => Err(RigI2cError::NakAddress),
            Reaction::NakData => Err(RigI2cError::NakData),
            _ => Err(RigI2cError::Held),
        }
    }
}

/// A part on the bench as an SPI device.
#[derive(Clone, Debug)]
pub struct RigSpi {
    pub(super) rig: Rig,
    pub(super) part: usize,
}

/// What the bench's SPI says where something goes wrong: only that the transfer failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RigSpiError;

impl spi::Error for RigSpiError {
    fn kind(&self) -> spi::ErrorKind {
        spi::ErrorKind::Other
    }
}

impl spi::ErrorType for RigSpi {
    type Error = RigSpiError;
}

impl SpiDevice for RigSpi {
    fn transaction(&mut self, operations: &mut [spi::Operation<'_, u8>]) -> Result<(), RigSpiError> {
        // The part sees all that is clocked while it is selected as one.
        let mut out: Vec<u8> = Vec::new();
        let mut delay = 0;
        for operation in operations.iter() {
            match operation {
                spi::Operation::Read(buffer) => out.resize(out.len() + buffer.len(), 0),
                spi::Operation::Write(bytes) => out.extend_from_slice(bytes),
                spi::Operation::Transfer(read, write) => {
                    let whole = out.len() + read.len().max(write.len());
                    out.extend_from_slice(write);
                    out.resize(whole, 0);
                }
                spi::Operation::TransferInPlace(bytes) => out.extend_from_slice(bytes),
                spi::Operation::DelayNs(nanos) => delay += u64::from(*nanos),
            }
        }
        let back = self.rig.spi_transfer(self.part, &out, delay)?;
        let mut rest = back.as_slice();
        for operation in operations.iter_mut() {
            let (length, place): (usize, Option<&mut [u8]>) = match operation {
                spi::Operation::Read(buffer) => (buffer.len(), Some(buffer)),
                spi::Operation::Write(bytes) => (bytes.len(), None),
                spi::Operation::Transfer(read, write) => (read.len().max(write.len()), Some(read)),
                spi::Operation::TransferInPlace(bytes) => (bytes.len(), Some(bytes)),
                spi::Operation::DelayNs(_) => (0, None),
            };
            let (own, behind) = rest.split_at_checked(length).ok_or(RigSpiError)?;
            if let Some(place) = place {
                place.iter_mut().zip(own).for_each(|(place, byte)| *place = *byte);
            }
            rest = behind;
        }
        Ok(())
    }
}

impl embedded_hal_async::spi::SpiDevice for RigSpi {
    async fn transaction(&mut self, operations: &mut [spi::Operation<'_, u8>]) -> Result<(), RigSpiError> {
        SpiDevice::transaction(self, operations)
    }
}

impl Rig {
    fn spi_transfer(&self, part: usize, out: &[u8], delay_nanos: u64) -> Result<Vec<u8>, RigSpiError> {
        let mut inner = self.lock();
        let hertz = inner.hertz[1];
        inner.bits(out.len() as u64 * 8, hertz);
        inner.now += delay_nanos / 1000;
        match inner.react(part, |stand_in, now| Reaction::Answer(stand_in.spi(now, out))) {
            Reaction::Answer(mut bytes) => {
                // Nobody can cut a transfer short: what is missing is the idle line.
                bytes.resize(out.len(), 0xFF);
                Ok(bytes)
            }
            _ => Ok(vec![0xFF; out.len()]),
        }
    }
}

/// The delay whose waits are the bench's time.
#[derive(Clone, Debug)]
pub struct RigDelay {
    pub(super) rig: Rig,
}

impl DelayNs for RigDelay {
    fn delay_ns(&mut self, ns: u32) {
        self.rig.lock().pass_nanos(u64::from(ns));
    }

    fn delay_us(&mut self, us: u32) {
        self.rig.pass(u64::from(us));
    }
}

impl embedded_hal_async::delay::DelayNs for RigDelay {
    async fn delay_ns(&mut self, ns: u32) {
        DelayNs::delay_ns(self, ns);
    }
}

/// The data-ready line of a part.
#[derive(Clone, Debug)]
pub struct RigLine {
    pub(super) rig: Rig,
    pub(super) part: usize,
}

impl PinErrorType for RigLine {
    type Error = Infallible;
}

impl InputPin for RigLine {
    fn is_high(&mut self) -> Result<bool, Infallible> {
        let now = self.rig.now();
        let level = |stand_in: &mut yemdo::stand_in::StandIn| stand_in.line(now) == stand_in.line_is_active_high();
        Ok(self.rig.with_part(self.part, level).unwrap_or(false))
    }

    fn is_low(&mut self) -> Result<bool, Infallible> {
        self.is_high().map(|high| !high)
    }
}

/// The alert output of a part.
#[derive(Clone, Debug)]
pub struct RigAlert {
    pub(super) rig: Rig,
    pub(super) part: usize,
}

impl PinErrorType for RigAlert {
    type Error = Infallible;
}

impl InputPin for RigAlert {
    fn is_high(&mut self) -> Result<bool, Infallible> {
        let now = self.rig.now();
        Ok(self.rig.with_part(self.part, |stand_in| stand_in.alert(now)).unwrap_or(false))
    }

    fn is_low(&mut self) -> Result<bool, Infallible> {
        self.is_high().map(|high| !high)
    }
}
