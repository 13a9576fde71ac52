//! A part on a bus: configure it, measure with it, read and write what it has.

mod asynchronous;
mod session;
mod task;
mod waking;

use std::fmt;

use yemdo::bus::Bus;
use yemdo::configure::{Configuration, WriteScope};
use yemdo::record::Traffic;
use yemdo::routine::Operation;
use yemdo::routine::Request;
use yemdo::{Decoder, Part, RegisterId, State};

use crate::error::{BusError, DeviceError};
use crate::hal::{I2cPort, SpiPort, StdDelay};
use crate::port::Port;

pub use asynchronous::AsyncDevice;
use session::{Job, Session};
pub use session::{MeasuredFrame, Measurement};
use task::{Progress, Task};

/// One bus operation, as it was done: for those who want to see.
#[derive(Debug)]
pub struct Seen<'a> {
    /// When, in the port's microseconds.
    pub at: u64,
    /// What was asked for, and what for.
    pub request: &'a Request,
    /// The bytes that came; `None` where a line did not come to its level; or the error.
    pub outcome: Result<Option<&'a [u8]>, &'a BusError>,
}

impl Seen<'_> {
    /// The operation as a line of a recording that began at `start`; `None` if it is no transfer.
    pub fn traffic(&self, start: u64) -> Option<Traffic> {
        let Operation::Transfer(transfer) = &self.request.operation else { return None };
        let outcome = self.outcome.as_ref().map(|bytes| bytes.unwrap_or_default()).map_err(|error| *error as &dyn fmt::Display);
        Some(Traffic::new(self.at.saturating_sub(start), transfer, outcome))
    }
}

/// Settings as typed.
fn typed(settings: &[&str]) -> Vec<String> {
    settings.iter().map(|typed| (*typed).to_owned()).collect()
}

/// Who watches a device.
type Watch = Box<dyn FnMut(&Seen<'_>) + Send>;

/// A part on a bus. What can be done with it follows from its sheet.
///
/// ```
/// use yemdo::{Part, stand_in::{Signal, StandIn}};
/// use yemdo_bus::{Device, Rig};
///
/// let part = Part::parse("lamp.toml", r#"
/// part = "lamp-1"
/// i2c.address = 0x21
/// frame.LIGHT = { command = [0x17], read = 2, code = { light = "b0 b1" } }
/// reading.light = { unit = "lx", formula = "light * 0.5" }
/// routine.measure = [{ read = "LIGHT" }]
/// "#)?;
/// let mut lamp = StandIn::new(&part, 1)?;
/// lamp.set(part.reading("light")?, Signal::constant(150.0));
/// let rig = Rig::new();
/// rig.add(lamp);
/// // Any I2C of embedded-hal 1.0 is as good.
/// let mut device = Device::i2c(rig.i2c(), part)?.with_delay(rig.delay());
/// assert_eq!(device.measure()?.reading("light")?.to_string(), "150.0 lx");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Device<P> {
    port: P,
    session: Session,
    watch: Option<Watch>,
    retries: u32,
    retried: u64,
}

impl<P> std::fmt::Debug for Device<P> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Device").field("part", &self.session.part.name()).field("bus", &self.session.bus).finish_non_exhaustive()
    }
}

impl<I: embedded_hal::i2c::I2c> Device<I2cPort<I, StdDelay>>
where
    I::Error: Send + Sync + 'static,
{
    /// A part on any I2C of embedded-hal 1.0. Waits are those of the operating system unless
    /// [`with_delay`](Device::with_delay) says otherwise.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over I2C.
    pub fn i2c(i2c: I, part: Part) -> Result<Self, DeviceError> {
        Self::new(I2cPort::new(i2c, StdDelay), part, Bus::I2c)
    }
}

impl<I: embedded_hal::i2c::I2c, D: embedded_hal::delay::DelayNs> Device<I2cPort<I, D>>
where
    I::Error: Send + Sync + 'static,
{
    /// The same with another delay: a timer of a microcontroller, or that of a [`Rig`](crate::Rig).
    pub fn with_delay<E: embedded_hal::delay::DelayNs>(self, delay: E) -> Device<I2cPort<I, E>> {
        self.map_port(|port| port.with_delay(delay))
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: impl embedded_hal::digital::InputPin + Send + 'static) -> Self {
        self.port.set_line(line);
        self
    }
}

impl<S: embedded_hal::spi::SpiDevice> Device<SpiPort<S, StdDelay>>
where
    S::Error: Send + Sync + 'static,
{
    /// A part on any SPI device of embedded-hal 1.0, which has the part's chip select and clock mode.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over SPI.
    pub fn spi(spi: S, part: Part) -> Result<Self, DeviceError> {
        Self::new(SpiPort::new(spi, StdDelay), part, Bus::Spi)
    }
}

impl<S: embedded_hal::spi::SpiDevice, D: embedded_hal::delay::DelayNs> Device<SpiPort<S, D>>
where
    S::Error: Send + Sync + 'static,
{
    /// The same with another delay.
    pub fn with_delay<E: embedded_hal::delay::DelayNs>(self, delay: E) -> Device<SpiPort<S, E>> {
        self.map_port(|port| port.with_delay(delay))
    }

    /// The same with the part's data-ready line.
    pub fn with_line(mut self, line: impl embedded_hal::digital::InputPin + Send + 'static) -> Self {
        self.port.set_line(line);
        self
    }
}

impl<P> Device<P> {
    /// How often something was done again so far.
    pub fn retried(&self) -> u64 {
        self.retried
    }

    fn map_port<Q>(self, change: impl FnOnce(P) -> Q) -> Device<Q> {
        let Self { port, session, watch, retries, retried } = self;
        Device { port: change(port), session, watch, retries, retried }
    }
}

impl<P: Port> Device<P> {
    /// A part behind a port. Its registers are taken to be as after a reset.
    ///
    /// # Errors
    /// [`DeviceError::NotRunnable`]: the part is not reached over this bus.
    pub fn new(port: P, part: Part, bus: Bus) -> Result<Self, DeviceError> {
        if part.buses().wire(bus).is_none() {
            return Err(yemdo::routine::NotRunnable::OtherBus(bus).into());
        }
        Ok(Self { port, session: Session::new(part, bus), watch: None, retries: 0, retried: 0 })
    }

    /// A measurement that fails for a moment, by a flipped bit or a part that is busy, is done again, so many times at the most.
    pub fn with_retries(mut self, retries: u32) -> Self {
        self.retries = retries;
        self
    }

    /// Shows every bus operation to `watch`.
    pub fn watched_by(&mut self, watch: impl FnMut(&Seen<'_>) + Send + 'static) {
        self.watch = Some(Box::new(watch));
    }

    /// The part.
    pub fn part(&self) -> &Part {
        &self.session.part
    }

    /// The bus.
    pub fn bus(&self) -> Bus {
        self.session.bus
    }

    /// The port.
    pub fn port_mut(&mut self) -> &mut P {
        &mut self.port
    }

    /// The port, and nothing else.
    pub fn into_port(self) -> P {
        self.port
    }

    /// The known state of the part: registers from reset, writes or reads; parameters; the last frames.
    pub fn state(&self) -> &State {
        self.session.state()
    }

    /// The same, to be set as the part is.
    pub fn state_mut(&mut self) -> &mut State {
        self.session.decoder.state_mut()
    }

    /// The decoder of its frames, with parameters and calibration.
    pub fn decoder(&self) -> &Decoder {
        &self.session.decoder
    }

    /// The same, to be set.
    pub fn decoder_mut(&mut self) -> &mut Decoder {
        &mut self.session.decoder
    }

    /// The measurement that comes next counts as made at this time, in seconds of any clock; otherwise at that of the port. It is for what is derived
    /// over time.
    pub fn measured_at(&mut self, seconds: f64) {
        self.session.measured_at = Some(seconds);
    }

    fn measurement(&mut self) -> Result<Measurement, DeviceError> {
        let now = self.port.now();
        self.session.measurement(Some(now))
    }

    fn drive(&mut self, job: &Job) -> Result<(), DeviceError> {
        let mut runner = self.session.runner(job)?;
        let mut next = runner.start()?;
        while let Some(request) = next {
            let at = if self.watch.is_some() { self.port.now() } else { 0 };
            let outcome = match &request.operation {
                Operation::Transfer(transfer) => {
                    self.port.supply(runner.state());
                    self.port.transfer(transfer).map(Some)
                }
                Operation::Wait(micros) => {
                    self.port.wait(*micros);
                    Ok(Some(Vec::new()))
                }
                Operation::Baud(baud) => self.port.set_baud(*baud).map(|()| Some(Vec::new())),
                Operation::Line { high, within } => self.port.line(*high, *within).map(|came| came.then(Vec::new)),
                _ => Ok(Some(Vec::new())),
            };
            if let Some(watch) = &mut self.watch {
                watch(&Seen { at, request: &request, outcome: outcome.as_ref().map(|bytes| bytes.as_deref()) });
            }
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

    /// Performs a task, job by job; retries after transient failures.
    fn perform(&mut self, task: Task) -> Result<Progress, DeviceError> {
        let mut progress = Progress::begin(&mut self.session, task, self.retries)?;
        while let Some(job) = progress.next(&mut self.session)? {
            if let Err(error) = self.drive(&job) {
                progress.failed(&mut self.session, error)?;
                self.retried += 1;
            }
        }
        Ok(progress)
    }

    /// Measures: the routine `measure`, or all frames that have readings; before the first, what is read once.
    ///
    /// # Errors
    /// [`DeviceError`]. A reading that has no value is no error: it reports its status.
    pub fn measure(&mut self) -> Result<Measurement, DeviceError> {
        self.perform(Task::Measure)?;
        self.measurement()
    }

    /// Runs a routine; gives the frames that it read.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn run(&mut self, routine: &str) -> Result<Measurement, DeviceError> {
        let routine = self.part().routine(routine)?;
        self.perform(Task::Run(routine))?;
        self.measurement()
    }

    /// Reads a frame.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn read_frame(&mut self, frame: &str) -> Result<Measurement, DeviceError> {
        let frame = self.part().frame(frame)?;
        self.perform(Task::Frame(frame))?;
        self.measurement()
    }

    /// The bytes of a frame as they came last.
    pub fn last_bytes(&self, frame: yemdo::FrameId) -> Option<&[u8]> {
        self.session.state().frame(frame)
    }

    /// Reports a reset of the part: registers get their reset values, kept frames are read again. Parameters stay.
    pub fn was_reset(&mut self) {
        self.session.was_reset();
    }

    /// Resolves what settings need, reads the registers that they depend on, writes those that change, and reads back. Nothing is
    /// written unless all of it can be.
    ///
    /// # Errors
    /// [`DeviceError`]; after an interruption, [`state`](Self::state) contains the completed writes.
    pub fn configure(&mut self, settings: &[&str]) -> Result<Configuration, DeviceError> {
        self.configure_with(settings, WriteScope::Changed)
    }

    /// The same; with [`WriteScope::Changed`] registers that hold their values already are left alone.
    ///
    /// # Errors
    /// As [`configure`](Self::configure).
    pub fn configure_with(&mut self, settings: &[&str], scope: WriteScope) -> Result<Configuration, DeviceError> {
        let progress = self.perform(Task::Configure(typed(settings), scope))?;
        progress.configured(&mut self.session).ok_or(DeviceError::NothingToMeasure)
    }

    /// Performs the writes of a configuration, and reads them back.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn write(&mut self, done: &Configuration) -> Result<(), DeviceError> {
        let progress = self.perform(Task::Write(Box::new(done.clone())))?;
        progress.configured(&mut self.session);
        Ok(())
    }

    /// What [`configure`](Self::configure) would write, from the registers as far as they are known; nothing is sent.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn plan(&self, settings: &[&str], scope: WriteScope) -> Result<Configuration, DeviceError> {
        self.session.configuration(&typed(settings), scope)
    }

    /// Reads registers, neighbours in one transfer, each in its bank; gives their values.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn read_registers(&mut self, registers: &[RegisterId]) -> Result<Vec<(RegisterId, u64)>, DeviceError> {
        self.perform(Task::Registers(registers.to_vec()))?;
        let value = |id: &RegisterId| Some((*id, self.state().register(self.part().registers().get(*id)?)));
        Ok(registers.iter().filter_map(value).collect())
    }

    /// Reads one register.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub fn read_register(&mut self, register: &str) -> Result<u64, DeviceError> {
        let id = self.part().register(register)?;
        Ok(self.read_registers(&[id])?.first().map_or(0, |(_, value)| *value))
    }

    /// Writes a register as given, in its bank, and reads it back if it is readable; the value is then in
    /// [`state`](Self::state).
    ///
    /// # Errors
    /// [`DeviceError`]; also if the register is of another part.
    pub fn write_register(&mut self, register: RegisterId, value: u64) -> Result<(), DeviceError> {
        self.perform(Task::Raw(register, value)).map(drop)
    }

    /// Every register that can be read in the bank that is selected, in order of addresses.
    pub fn readable_registers(&self) -> Vec<RegisterId> {
        let part = self.part();
        let selected = |(field, code): &(yemdo::FieldId, i128)| {
            part.fields().get(*field).is_some_and(|field| self.state().known_field(field) == Some(*code))
        };
        let readable =
            part.registers().entries().filter(|(_, register)| register.access().is_readable() && register.bank().iter().all(selected));
        let mut found: Vec<(u32, RegisterId)> = readable.map(|(id, register)| (register.address(), id)).collect();
        found.sort_unstable();
        found.into_iter().map(|(_, id)| id).collect()
    }

    /// Sends bytes as they are, and reads some back.
    ///
    /// # Errors
    /// [`DeviceError::Bus`].
    pub fn raw(&mut self, send: &[u8], receive: usize) -> Result<Vec<u8>, DeviceError> {
        let part = self.part().clone();
        let wire = part.buses().wire(self.bus()).ok_or(DeviceError::NothingToMeasure)?;
        let mut answer = Vec::new();
        for transfer in wire.send(send, receive) {
            answer = self.done(&transfer, "raw bytes")?;
        }
        Ok(answer)
    }

    /// A transfer that no routine asks for.
    fn done(&mut self, transfer: &yemdo::bus::Transfer, meaning: &str) -> Result<Vec<u8>, DeviceError> {
        let request = Request::raw(Operation::Transfer(transfer.clone()), meaning);
        let at = self.port.now();
        let outcome = self.port.transfer(transfer);
        if let Some(watch) = &mut self.watch {
            watch(&Seen { at, request: &request, outcome: outcome.as_ref().map(|bytes| Some(bytes.as_slice())) });
        }
        outcome.map_err(|error| DeviceError::Bus { meaning: meaning.to_owned(), error })
    }
}
