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
A log has one frame per line, in hex or as C array text, after its name if there are several.
CSV needs a header: the column `frame`, or one with the name of a frame, has the bytes, or `frame` has
the name and `bytes` the bytes; a column `time` is passed through.";

#[derive(Debug, clap::Args)]
pub(crate) struct Decode {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Frame in hex: `1A 2B`, `0x1A,0x2B`, `1A2B`, C array text; several frames: `NAME=1A 2B`
    #[arg(value_name = "BYTES", conflicts_with = "log", allow_hyphen_values = false)]
    pub(crate) bytes: Vec<String>,
    /// Decode a worked example, by its number from 1
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["log", "bytes", "frame"])]
    pub(crate) example: Option<usize>,
    /// Read frames from a file; `-`: standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Name of the part in a log of several parts
    #[arg(long, value_name = "NAME")]
    pub(crate) part: Option<String>,
    /// Name of the frame, if the sheet has several
    #[arg(long, value_name = "NAME")]
    pub(crate) frame: Option<String>,
    /// 7-bit I2C address selected by pins; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Setting or parameter other than its reset value; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Read present register values from a dump; `--set` overrides it
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Unit for all readings or one: `°F`, `pressure=psi`; repeatable
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// Print times in UTC; default: local time with offset
    #[arg(long)]
    pub(crate) utc: bool,
    /// Show all steps from bytes to readings
    #[arg(long)]
    pub(crate) steps: bool,
    /// List refused frames on standard error, one per line
    #[arg(long)]
    pub(crate) refused: bool,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) link: Link,
}
