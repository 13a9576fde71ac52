//! What can go wrong on a bus, and with a part behind it.

use std::error::Error;
use std::fmt;

use yemdo::bus::modbus::exception_name;
use yemdo::configure::{ConfigureError, WishError};
use yemdo::routine::{Failure, NotRunnable, RoutineError};
use yemdo::{Refusal, Status, UnknownName};

/// What went wrong on a bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Cause {
    /// Nobody acknowledged the address: no part there, or one that is busy.
    NakAddress,
    /// The part did not acknowledge a byte that was sent to it.
    NakData,
    /// Not acknowledged; the bus does not tell which.
    Nak,
    /// Nothing came in time.
    TimeOut,
    /// The bus is held, or another controller won.
    Stuck,
    /// Bytes came that are no frame: another baud rate, or noise.
    Garbage,
    /// A check value does not fit.
    Check,
    /// The part answered with a Modbus exception.
    Exception(u8),
    /// The adapter cannot do this transfer.
    Unsupported,
    /// The device is not there, or not any longer.
    Gone,
    /// This user may not open the device.
    NotPermitted,
    /// Somebody else has the device.
    InUse,
    /// A recording has something else at this place.
    OtherTraffic,
    /// Anything else.
    Other,
}

impl Cause {
    /// In a word or two, for counting.
    pub fn as_str(self) -> &'static str {
        match self {
            Cause::NakAddress => "address not acknowledged",
            Cause::NakData => "data not acknowledged",
            Cause::Nak => "not acknowledged",
            Cause::TimeOut => "time-out",
            Cause::Stuck => "bus held",
            Cause::Garbage => "garbage",
            Cause::Check => "check failed",
            Cause::Exception(_) => "exception",
            Cause::Unsupported => "not supported by the adapter",
            Cause::Gone => "device gone",
            Cause::NotPermitted => "no permission",
            Cause::InUse => "device in use",
            Cause::OtherTraffic => "not as recorded",
            Cause::Other => "bus error",
        }
    }

    /// Whether the part did not answer at all.
    pub(crate) fn is_silence(self) -> bool {
        matches!(self, Cause::NakAddress | Cause::Nak | Cause::TimeOut | Cause::Gone)
    }

    /// Whether trying again may help: the part was busy, or a bit was flipped.
    pub fn is_transient(self) -> bool {
        matches!(self, Cause::NakAddress | Cause::NakData | Cause::Nak | Cause::TimeOut | Cause::Stuck | Cause::Garbage | Cause::Check)
    }
}

/// An error of a bus: its cause, in words, and the driver's own error as its source.
#[derive(Debug)]
pub struct BusError {
    /// The cause.
    pub cause: Cause,
    what: String,
    help: Option<String>,
    source: Option<Box<dyn Error + Send + Sync>>,
}

impl BusError {
    /// An error of that cause, in words.
    pub fn new(cause: Cause, what: impl Into<String>) -> Self {
        Self { cause, what: what.into(), help: None, source: None }
    }

    /// The same, with the driver's own error.
    pub fn because(mut self, source: impl Error + Send + Sync + 'static) -> Self {
        self.source = Some(Box::new(source));
        self
    }

    /// The same, with what to try.
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// What to try; `None` where nothing is known.
    pub fn to_try(&self) -> Option<&str> {
        self.help.as_deref()
    }
}

impl fmt::Display for BusError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.cause {
            Cause::Exception(code) => write!(f, "{}: exception {code}, {}", self.what, exception_name(code)),
            _ => f.write_str(&self.what),
        }
    }
}

impl Error for BusError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        self.source.as_ref().map(|source| &**source as &(dyn Error + 'static))
    }
}

/// An error of a HAL, which need not be an [`Error`] of the standard library.
#[derive(Debug)]
pub struct HalError<E: fmt::Debug>(pub E);

impl<E: fmt::Debug> fmt::Display for HalError<E> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.0)
    }
}

impl<E: fmt::Debug> Error for HalError<E> {}

/// Why something could not be done with a part.
#[derive(Debug)]
#[non_exhaustive]
pub enum DeviceError {
    /// The bus, or the part's answer on it.
    Bus {
        /// What it was for, in words.
        meaning: String,
        /// The bus's error.
        error: BusError,
    },
    /// A routine, a read or a write failed: a check, a condition, a register that was not taken.
    Routine(RoutineError),
    /// The part is another one, or none: what was expected of it is not so.
    Identity(RoutineError),
    /// A reading has no value: not ready, saturated, invalid.
    NoValue {
        /// The reading.
        reading: String,
        /// Why.
        status: Status,
    },
    /// The part has nothing of that name.
    Unknown(UnknownName),
    /// A wish cannot be read.
    Wish(WishError),
    /// The part cannot be configured so.
    Configure(ConfigureError),
    /// The sheet does not describe the bus.
    NotRunnable(NotRunnable),
    /// What was read is not a good frame.
    Refused(Refusal),
    /// The sheet has nothing to measure: no frame and no routine `measure`.
    NothingToMeasure,
}

impl DeviceError {
    /// Whether trying again may help.
    pub fn is_transient(&self) -> bool {
        match self {
            DeviceError::Bus { error, .. } => error.cause.is_transient(),
            DeviceError::Routine(error) => matches!(
                error.failure,
                Failure::NoAnswer { .. } | Failure::Short { .. } | Failure::Refused(_) | Failure::TimedOut { .. } | Failure::Response(_)
            ),
            DeviceError::Refused(_) => true,
            DeviceError::NoValue { status, .. } => *status == Status::NotReady,
            _ => false,
        }
    }

    /// The cause in a word or two, for counting.
    pub fn cause(&self) -> &'static str {
        match self {
            DeviceError::Bus { error, .. } => error.cause.as_str(),
            DeviceError::Routine(error) => match &error.failure {
                Failure::Refused(refusal) => refusal.cause(),
                Failure::Response(error) => error.cause(),
                Failure::Short { .. } => "too short",
                Failure::TimedOut { .. } => "not ready in time",
                Failure::NotTaken { .. } => "write not taken",
                Failure::NoAnswer { .. } => "not acknowledged",
                _ => "routine failed",
            },
            DeviceError::Identity(_) => "another part",
            DeviceError::NoValue { status, .. } => status.as_str(),
            DeviceError::Refused(refusal) => refusal.cause(),
            _ => "cannot be asked",
        }
    }

    /// What to try; `None` where nothing is known.
    pub fn help(&self) -> Option<String> {
        match self {
            DeviceError::Bus { error, .. } => error.to_try().map(str::to_owned),
            DeviceError::Unknown(error) => Some(error.help()),
            DeviceError::Wish(error) => error.help.clone(),
            DeviceError::Configure(error) => error.help(),
            DeviceError::Identity(_) => Some("is it the sheet's part, and the right address?".into()),
            _ => None,
        }
    }
}

impl fmt::Display for DeviceError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            DeviceError::Bus { meaning, error } if meaning.is_empty() => error.fmt(f),
            DeviceError::Bus { meaning, error } => write!(f, "{meaning}: {error}"),
            DeviceError::Routine(error) | DeviceError::Identity(error) => error.fmt(f),
            DeviceError::NoValue { reading, status } => write!(f, "{reading} has no value: {}", status.as_str()),
            DeviceError::Unknown(error) => f.write_str(&error.message()),
            DeviceError::Wish(error) => f.write_str(&error.message),
            DeviceError::Configure(error) => error.fmt(f),
            DeviceError::NotRunnable(error) => error.fmt(f),
            DeviceError::Refused(error) => error.fmt(f),
            DeviceError::NothingToMeasure => f.write_str("the sheet has no frame to read and no routine `measure`"),
        }
    }
}

impl Error for DeviceError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        match self {
            DeviceError::Bus { error, .. } => Some(error),
            DeviceError::Routine(error) | DeviceError::Identity(error) => Some(error),
            DeviceError::Configure(error) => Some(error),
            DeviceError::Refused(error) => Some(error),
            _ => None,
        }
    }
}

impl From<RoutineError> for DeviceError {
    fn from(error: RoutineError) -> Self {
        match error.failure {
            Failure::Unexpected { .. } => DeviceError::Identity(error),
            _ => DeviceError::Routine(error),
        }
    }
}

impl From<UnknownName> for DeviceError {
    fn from(error: UnknownName) -> Self {
        DeviceError::Unknown(error)
    }
}

impl From<NotRunnable> for DeviceError {
    fn from(error: NotRunnable) -> Self {
        DeviceError::NotRunnable(error)
    }
}

impl From<WishError> for DeviceError {
    fn from(error: WishError) -> Self {
        DeviceError::Wish(error)
    }
}

impl From<ConfigureError> for DeviceError {
    fn from(error: ConfigureError) -> Self {
        DeviceError::Configure(error)
    }
}
