//! The same device for those who await.

use yemdo::bus::Bus;
use yemdo::configure::{Configuration, WriteScope};
use yemdo::routine::Operation;
use yemdo::{Decoder, Part, RegisterId, State};

use super::session::{Job, Measurement, Session};
use super::task::{Progress, Task};
use crate::error::DeviceError;
use crate::hal::{AsyncI2cPort, AsyncSpiPort};
use crate::port::AsyncPort;

/// A part on a bus, for async code: any I2C or SPI of embedded-hal-async 1.0, and its delay. What it does it has from the same
/// [routines](yemdo::routine) as [`Device`](crate::Device).
#[derive(Debug)]
pub struct AsyncDevice<P> {
    port: P,
    session: Session,
    retries: u32,
}

impl<I: embedded_hal_async::i2c::I2c, D: embedded_hal_async::delay::DelayNs> AsyncDevice<AsyncI2cPort<I, D>>
where
    I::Error: Send + Sync + 'static,
{
    /// A part on any async I2C.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over I2C.
    pub fn i2c(i2c: I, delay: D, part: Part) -> Result<Self, DeviceError> {
        Self::new(AsyncI2cPort::new(i2c, delay), part, Bus::I2c)
    }
}

impl<S: embedded_hal_async::spi::SpiDevice, D: embedded_hal_async::delay::DelayNs> AsyncDevice<AsyncSpiPort<S, D>>
where
    S::Error: Send + Sync + 'static,
{
    /// A part on any async SPI device.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over SPI.
    pub fn spi(spi: S, delay: D, part: Part) -> Result<Self, DeviceError> {
        Self::new(AsyncSpiPort::new(spi, delay), part, Bus::Spi)
    }
}

impl<P: AsyncPort> AsyncDevice<P> {
    /// A part behind a port.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over this bus.
    pub fn new(port: P, part: Part, bus: Bus) -> Result<Self, DeviceError> {
        if part.buses().wire(bus).is_none() {
            return Err(yemdo::routine::NotRunnable::OtherBus(bus).into());
        }
        Ok(Self { port, session: Session::new(part, bus), retries: 0 })
    }

    /// The part.
    pub fn part(&self) -> &Part {
        &self.session.part
    }

    /// The registers as far as they are known.
    pub fn state(&self) -> &State {
        self.session.state()
    }

    async fn drive(&mut self, job: &Job) -> Result<(), DeviceError> {
        let mut runner = self.session.runner(job)?;
        let mut next = runner.start()?;
        while let Some(request) = next {
            let outcome = match &request.operation {
                Operation::Transfer(transfer) => {
                    self.port.supply(runner.state());
                    self.port.transfer(transfer).await.map(Some)
                }
                Operation::Wait(micros) => {
                    self.port.wait(*micros).await;
                    Ok(Some(Vec::new()))
                }
                Operation::Baud(baud) => self.port.set_baud(*baud).await.map(|()| Some(Vec::new())),
                Operation::Line { high, within } => self.port.line(*high, *within).await.map(|came| came.then(Vec::new)),
                _ => Ok(Some(Vec::new())),
            };
            next = match self.session.answer(&mut runner, &request, outcome) {
                Ok(next) => next,
                Err(error) => {
                    self.session.absorb(&runner);
                    return Err(error);
                }
            };
        }
        self.session.absorb(&runner);
        Ok(())
    }

    /// Does a task, job by job, and again if it fails for a moment.
    async fn perform(&mut self, task: Task) -> Result<Progress, DeviceError> {
        let mut progress = Progress::begin(&mut self.session, task, self.retries)?;
        while let Some(job) = progress.next(&mut self.session)? {
            if let Err(error) = self.drive(&job).await {
                progress.failed(&mut self.session, error)?;
            }
        }
        Ok(progress)
    }

    /// Sets the maximum number of retries after transient failures.
    #[must_use]
    pub fn with_retries(mut self, retries: u32) -> Self {
        self.retries = retries;
        self
    }

    /// The decoder of its frames, with parameters and calibration.
    pub fn decoder_mut(&mut self) -> &mut Decoder {
        &mut self.session.decoder
    }

    /// The measurement that comes next was made at this time, in seconds of any clock. There is no other clock here: without it, what is derived over
    /// time has no value.
    pub fn measured_at(&mut self, seconds: f64) {
        self.session.measured_at = Some(seconds);
    }

    /// As [`Device::measure`](crate::Device::measure).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn measure(&mut self) -> Result<Measurement, DeviceError> {
        self.perform(Task::Measure).await?;
        self.session.measurement(None)
    }

    /// As [`Device::run`](crate::Device::run).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn run(&mut self, routine: &str) -> Result<Measurement, DeviceError> {
        let routine = self.part().routine(routine)?;
        self.perform(Task::Run(routine)).await?;
        self.session.measurement(None)
    }

    /// As [`Device::read_frame`](crate::Device::read_frame).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn read_frame(&mut self, frame: &str) -> Result<Measurement, DeviceError> {
        let frame = self.part().frame(frame)?;
        self.perform(Task::Frame(frame)).await?;
        self.session.measurement(None)
    }

    /// As [`Device::read_registers`](crate::Device::read_registers).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn read_registers(&mut self, registers: &[RegisterId]) -> Result<Vec<(RegisterId, u64)>, DeviceError> {
        self.perform(Task::Registers(registers.to_vec())).await?;
        let value = |id: &RegisterId| Some((*id, self.state().register(self.part().registers().get(*id)?)));
        Ok(registers.iter().filter_map(value).collect())
    }

    /// As [`Device::write_register`](crate::Device::write_register).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn write_register(&mut self, register: RegisterId, value: u64) -> Result<(), DeviceError> {
        self.perform(Task::Raw(register, value)).await.map(drop)
    }

    /// As [`Device::configure`](crate::Device::configure).
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn configure(&mut self, settings: &[&str]) -> Result<Configuration, DeviceError> {
        let progress = self.perform(Task::Configure(super::typed(settings), WriteScope::Changed)).await?;
        progress.configured(&mut self.session).ok_or(DeviceError::NothingToMeasure)
    }
}
