//! Why the command cannot go on.

use std::fmt;
use std::io::{self, Write as _};
use std::path::Path;

use yemdo::SheetError;
use yemdo::configure::{AssumeError, ConfigureError, WishError};
use yemdo::emit::EmitError;
use yemdo_bus::DeviceError;
use yemdo_log::{LogError, LogErrorKind};

/// Failure of the command. All but [`Failure::Closed`] are printed on standard error.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The sheet has errors.
    Sheet(Box<SheetError>),
    /// Firmware cannot be made of the sheet.
    Emit(Box<EmitError>),
    /// Something else is wrong; a message, and what to try.
    Told { message: String, help: Option<String>, code: u8 },
    /// The reader of our output has gone.
    Closed,
}

impl Failure {
    /// A failure of arguments or files.
    pub(crate) fn error(message: impl Into<String>) -> Self {
        Failure::Told { message: message.into(), help: None, code: 2 }
    }

    /// The same, with what to try where there is something.
    pub(crate) fn helped(message: impl Into<String>, help: Option<String>) -> Self {
        Failure::Told { message: message.into(), help, code: 2 }
    }

    /// A wish that cannot be read.
    pub(crate) fn wish(error: WishError) -> Self {
        Failure::helped(error.message, error.help)
    }

    /// Several failures: prints all but the last, which the command prints.
    pub(crate) fn several(failures: impl Iterator<Item = Failure>) -> Self {
        let told = failures.reduce(|told, next| match writeln!(anstream::stderr(), "{told}") {
            Ok(()) => next,
            Err(error) => error.into(),
        });
        told.unwrap_or(Failure::Closed)
    }

    /// A frame was refused.
    pub(crate) fn refused(message: impl Into<String>) -> Self {
        Failure::Told { message: message.into(), help: None, code: 1 }
    }

    pub(crate) fn help(self, text: impl Into<String>) -> Self {
        match self {
            Failure::Told { message, code, .. } => Failure::Told { message, help: Some(text.into()), code },
            other => other,
        }
    }

    /// A file could not be read or written.
    pub(crate) fn file(what: &str, path: &Path, error: &io::Error) -> Self {
        LogError::file(what, path, error).into()
    }

    /// Description, in one line.
    pub(crate) fn message(&self) -> String {
        match self {
            Failure::Sheet(error) => error.to_string(),
            Failure::Emit(error) => error.to_string(),
            Failure::Told { message, .. } => message.clone(),
            Failure::Closed => String::new(),
        }
    }

    pub(crate) fn code(&self) -> u8 {
        match self {
            Failure::Sheet(_) | Failure::Emit(_) => 2,
            Failure::Told { code, .. } => *code,
            Failure::Closed => 0,
        }
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (error, help, reset) =
            (anstyle::AnsiColor::BrightRed.on_default().bold(), anstyle::AnsiColor::BrightCyan.on_default(), anstyle::Reset);
        match self {
            Failure::Sheet(error) => f.write_str(&error.render(true)),
            Failure::Emit(error_) => {
                let mut text = error_.render(true);
                for reason in &error_.reasons {
                    text.push_str(&format!("{}{error}error{reset}: {}", if text.is_empty() { "" } else { "\n" }, yemdo::visible(reason)));
                }
                f.write_str(&text)
            }
            Failure::Told { message, help: tip, .. } => {
                // Arguments and file names may contain control characters.
                let shown = |text: &str| text.split('\n').map(|line| yemdo::visible(line)).collect::<Vec<_>>().join("\n");
                write!(f, "{error}error{reset}: {}", shown(message))?;
                tip.iter().try_for_each(|tip| write!(f, "\n  {help}help{reset}: {}", shown(tip)))
            }
            Failure::Closed => Ok(()),
        }
    }
}

impl From<DeviceError> for Failure {
    /// Failure of a device: bus, answer or request.
    fn from(error: DeviceError) -> Self {
        let asked =
            matches!(error, DeviceError::Unknown(_) | DeviceError::Wish(_) | DeviceError::NotRunnable(_) | DeviceError::NothingToMeasure);
        Failure::Told { message: error.to_string(), help: error.help(), code: if asked { 2 } else { 1 } }
    }
}

impl From<LogError> for Failure {
    fn from(error: LogError) -> Self {
        let code = if error.kind() == LogErrorKind::Content { 1 } else { 2 };
        Failure::Told { message: error.to_string(), help: error.help().map(str::to_owned), code }
    }
}

impl From<AssumeError> for Failure {
    /// Prints all errors, not only the first.
    fn from(error: AssumeError) -> Self {
        match error {
            AssumeError::Wishes(errors) => Failure::several(errors.into_iter().map(Failure::wish)),
            AssumeError::Impossible(error) => error.into(),
            other => Failure::error(other.to_string()),
        }
    }
}

impl From<ConfigureError> for Failure {
    fn from(error: ConfigureError) -> Self {
        Failure::Told { message: error.to_string(), help: error.help(), code: 1 }
    }
}

impl From<io::Error> for Failure {
    /// Errors of our output streams; errors of files contain their names.
    fn from(error: io::Error) -> Self {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Failure::Closed,
            _ => Failure::error(format!("cannot write the output: {error}")),
        }
    }
}

impl From<csv::Error> for Failure {
    fn from(error: csv::Error) -> Self {
        match error.into_kind() {
            csv::ErrorKind::Io(error) => error.into(),
            other => Failure::error(format!("cannot write the output: {other:?}")),
        }
    }
}
