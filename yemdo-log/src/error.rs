//! Why a log cannot be read, written or used.

use std::fmt;
use std::fs::Metadata;
use std::io;
use std::path::Path;

/// Why a log cannot be read, written or used: what kind of thing is wrong, in words, and what to try.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogError {
    kind: LogErrorKind,
    message: String,
    help: Option<String>,
}

/// What kind of thing is wrong with a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum LogErrorKind {
    /// A file cannot be opened, read or written.
    File,
    /// The file is no log, or a log in another format.
    Format,
    /// A line or record of the log is too long.
    Content,
    /// A part, reading or unit is asked for that the log does not have.
    Name,
    /// Settings that the log or the caller names are none of the part.
    Settings,
}

impl LogError {
    pub(crate) fn new(kind: LogErrorKind, message: impl Into<String>) -> Self {
        Self { kind, message: message.into(), help: None }
    }

    pub(crate) fn with_help(self, help: impl Into<String>) -> Self {
        Self { help: Some(help.into()), ..self }
    }

    /// That a file could not be used, with its name; `what` was to be done: "write", "read the log".
    pub fn file(what: &str, path: &Path, error: &io::Error) -> Self {
        let why = match error.kind() {
            io::ErrorKind::NotFound => "there is no such file".to_owned(),
            io::ErrorKind::PermissionDenied => "permission denied".to_owned(),
            io::ErrorKind::IsADirectory => "it is a folder".to_owned(),
            io::ErrorKind::AlreadyExists | io::ErrorKind::NotADirectory => "a file is in the way".to_owned(),
            _ => error.to_string(),
        };
        Self::new(LogErrorKind::File, format!("cannot {what} {}: {why}", path.display()))
    }

    /// Refuses to write anything but a regular file.
    ///
    /// # Errors
    /// `path` is a folder, a device or the like.
    pub fn unless_file(path: &Path, meta: &Metadata) -> Result<(), Self> {
        if meta.is_file() {
            return Ok(());
        }
        let what = if meta.is_dir() { "a folder" } else { "not a regular file" };
        let message = format!("cannot write {}: it is {what}", path.display());
        Err(Self::new(LogErrorKind::File, message).with_help("choose another name"))
    }

    pub(crate) fn reading(error: &io::Error) -> Self {
        Self::new(LogErrorKind::File, format!("cannot read the log: {error}"))
    }

    /// What kind of thing is wrong.
    pub fn kind(&self) -> LogErrorKind {
        self.kind
    }

    /// What to try; `None` where nothing is known.
    pub fn help(&self) -> Option<&str> {
        self.help.as_deref()
    }
}

impl fmt::Display for LogError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for LogError {}

impl From<yemdo::configure::AssumeError> for LogError {
    fn from(error: yemdo::configure::AssumeError) -> Self {
        Self { kind: LogErrorKind::Settings, message: error.to_string(), help: error.help() }
    }
}

impl From<yemdo::record::RecordError> for LogError {
    fn from(error: yemdo::record::RecordError) -> Self {
        Self { kind: LogErrorKind::Format, message: error.message, help: error.help }
    }
}
