//! A port: where transfers go. Buses, stand-ins and recordings are ports.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use yemdo::State;
use yemdo::bus::Transfer;

use crate::error::BusError;

/// Where the transfers to one part go, blocking.
pub trait Port {
    /// Does a transfer; gives the bytes that came back.
    ///
    /// # Errors
    /// [`BusError`].
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError>;

    /// Waits so many microseconds.
    fn wait(&mut self, micros: u64);

    /// Waits until the data-ready line has a level, for so many microseconds at the most; `false` where it does not come.
    ///
    /// # Errors
    /// [`BusError`]: there is no such line.
    fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError>;

    /// Microseconds since some beginning.
    fn now(&mut self) -> u64;

    /// From here on the line has another speed. What has none to choose stays as it is.
    ///
    /// # Errors
    /// [`BusError`]: the line does not have this speed.
    fn set_baud(&mut self, baud: u32) -> Result<(), BusError> {
        let _ = baud;
        Ok(())
    }

    /// Supplies parameters and settings that no register holds. Only stand-ins use them: no bus carries them.
    fn supply(&mut self, state: &State) {
        let _ = state;
    }
}

/// The same for those who await.
#[allow(async_fn_in_trait)] // whoever drives it chooses the executor, and knows its futures
pub trait AsyncPort {
    /// Does a transfer; gives the bytes that came back.
    ///
    /// # Errors
    /// [`BusError`].
    async fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError>;

    /// Waits so many microseconds.
    async fn wait(&mut self, micros: u64);

    /// Waits until the data-ready line has a level; `false` where it does not come in so many microseconds.
    ///
    /// # Errors
    /// [`BusError`]: there is no such line.
    async fn line(&mut self, high: bool, within: u64) -> Result<bool, BusError>;

    /// From here on the line has another speed. What has none to choose stays as it is.
    ///
    /// # Errors
    /// [`BusError`]: the line does not have this speed.
    async fn set_baud(&mut self, baud: u32) -> Result<(), BusError> {
        let _ = baud;
        Ok(())
    }

    /// As [`Port::supply`].
    fn supply(&mut self, state: &State) {
        let _ = state;
    }
}

/// Everything but transfers, done by the port inside.
macro_rules! forward {
    ($self:ident => $inner:expr) => {
        fn wait(&mut $self, micros: u64) {
            $inner.wait(micros);
        }

        fn line(&mut $self, high: bool, within: u64) -> Result<bool, $crate::error::BusError> {
            $inner.line(high, within)
        }

        fn now(&mut $self) -> u64 {
            $inner.now()
        }

        fn set_baud(&mut $self, baud: u32) -> Result<(), $crate::error::BusError> {
            $inner.set_baud(baud)
        }

        fn supply(&mut $self, state: &yemdo::State) {
            $inner.supply(state);
        }
    };
}
pub(crate) use forward;

impl<P: Port + ?Sized> Port for Box<P> {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        (**self).transfer(transfer)
    }

    forward!(self => (**self));
}

/// A port with a check before every transfer: it may note the transfer, or refuse it.
///
/// ```
/// use yemdo::bus::{Bus, Transfer};
/// use yemdo_bus::{BusError, Cause, Checked, Rig};
///
/// let mut left = 10;
/// let port = Checked::new(Rig::new().port(0, Bus::I2c), move |_: &Transfer| {
///     left -= 1;
///     if left < 0 { Err(BusError::new(Cause::Gone, "unplugged")) } else { Ok(()) }
/// });
/// # let _ = port;
/// ```
#[derive(Clone, Debug)]
pub struct Checked<P, F> {
    port: P,
    check: F,
}

impl<P: Port, F: FnMut(&Transfer) -> Result<(), BusError>> Checked<P, F> {
    /// Puts a check before a port.
    pub fn new(port: P, check: F) -> Self {
        Self { port, check }
    }
}

impl<P: Port, F: FnMut(&Transfer) -> Result<(), BusError>> Port for Checked<P, F> {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        (self.check)(transfer)?;
        self.port.transfer(transfer)
    }

    forward!(self => self.port);
}

/// A port that several parts share: those on one line.
#[derive(Clone)]
pub struct Shared {
    port: Arc<Mutex<Box<dyn Port + Send>>>,
}

impl std::fmt::Debug for Shared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Shared").finish_non_exhaustive()
    }
}

impl Shared {
    /// Shares a port; clones are the same one.
    pub fn new(port: Box<dyn Port + Send>) -> Self {
        Self { port: Arc::new(Mutex::new(port)) }
    }

    fn lock(&self) -> MutexGuard<'_, Box<dyn Port + Send>> {
        self.port.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Port for Shared {
    fn transfer(&mut self, transfer: &Transfer) -> Result<Vec<u8>, BusError> {
        self.lock().transfer(transfer)
    }

    forward!(self => self.lock());
}
