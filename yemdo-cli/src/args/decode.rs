//! The arguments of `decode`.

use std::path::PathBuf;

use super::Format;
use crate::link::Link;

pub(super) const DECODE_HELP: &str = "\
Examples:
  yemdo decode sheets/strake-20.toml 89 87 1C 3E 0C 12 24
  yemdo decode sheets/strake-20.toml 0x89,0x87,0x1C,0x3E,0x0C,0x12,0x24 --steps
  yemdo decode sheets/strake-20.toml --log demo/strake-20.csv --format json
  yemdo decode sheets/binnacle-24.toml --example 1 --steps
  tail -f bus.log | yemdo decode sheets/thole-9.toml

Without bytes and without --log, frames are read from standard input.
A log has one frame a line, in hex or as C array text, its name before it where there are several.
Or it is CSV with a header: the column `frame`, or one named like a frame, has the bytes, or `frame` has
the name and `bytes` the bytes; the column `time`, if any, is passed on.";

#[derive(Debug, clap::Args)]
pub(crate) struct Decode {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// One frame, as bytes in hex: `1A 2B`, `0x1A,0x2B`, `1A2B` or C array text; or several, each with its name: `NAME=1A 2B`
    #[arg(value_name = "BYTES", conflicts_with = "log", allow_hyphen_values = false)]
    pub(crate) bytes: Vec<String>,
    /// Decode a worked example of the sheet, by its number from 1
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["log", "bytes", "frame"])]
    pub(crate) example: Option<usize>,
    /// Read frames from a file; `-` is standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Of a log of several parts, take the frames of this one, as the log calls it
    #[arg(long, value_name = "NAME")]
    pub(crate) part: Option<String>,
    /// The frame that the bytes are, where the sheet has several
    #[arg(long, value_name = "NAME")]
    pub(crate) frame: Option<String>,
    /// The 7-bit I2C address that its pins choose; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// A field that does not have its reset value, by the value's name or code, or a parameter; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Take the registers' present values from a dump, as `explain` does; `--set` comes after it
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Show readings in another unit of their dimension, all or one: `°F`, `pressure=psi`; may be given several times
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// Times of a log of readings in UTC; default: local time with its offset
    #[arg(long)]
    pub(crate) utc: bool,
    /// Show every step from the bytes to the readings
    #[arg(long)]
    pub(crate) steps: bool,
    /// List refused frames on standard error, one a line
    #[arg(long)]
    pub(crate) refused: bool,
    /// How to print the readings
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) link: Link,
}
