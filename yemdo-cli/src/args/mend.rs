//! The arguments of `mend`.

use std::path::PathBuf;

use super::CheckFormat;
use crate::link::Link;

pub(super) const MEND_HELP: &str = "\
Examples:
  yemdo mend hurry.toml 01 3F FF 9C --expect 'warmth=-2 ± 1 °C'
  yemdo mend hurry.toml --log bench.log --expect 'warmth=20 to 30 °C' --expect 'flow=rises'
  yemdo mend hurry.toml FLOW='01 3F FF 9C' FLOW='01 44 07 D0' --expect 'warmth=-2 ± 1 °C; 40 ± 2 °C'
  yemdo mend hurry.toml 01 3F FF 9C --expect 'warmth=-2 ± 1 °C' --apply 1 --out calm.toml
  yemdo mend hurry.toml --example 1
  yemdo mend --no-sheet '2E 81 00; 30 05 00' --expect '21.5 ± 0.5; 22.3 ± 0.5'

An expected value is `24 ± 3 °C` or `20 to 30 °C`, one for all frames or one per frame, or `rises` or `falls`.
If all frames fail their check, it searches for the check that they pass instead.";

#[derive(Debug, clap::Args)]
pub(crate) struct Mend {
    /// Sheet, then frames: bytes in hex, or several frames as `NAME=1A 2B`
    #[arg(value_name = "SHEET BYTES", required = true)]
    pub(crate) words: Vec<String>,
    /// Expected value of a reading; repeatable
    #[arg(long = "expect", value_name = "NAME=VALUE")]
    pub(crate) expectations: Vec<String>,
    /// Find codes without a sheet: all arguments are bytes, frames separated by `;`
    #[arg(long, conflicts_with_all = ["log", "example", "frame", "set", "dump", "variant", "apply"])]
    pub(crate) no_sheet: bool,
    /// Read frames from a log; long logs are sampled
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Log of a reference sensor, for expected values such as `temperature=reference ± 1 °C`
    #[arg(long, value_name = "FILE", requires = "log")]
    pub(crate) reference: Option<PathBuf>,
    /// Name of the part in a log of several parts
    #[arg(long, value_name = "NAME", requires = "log")]
    pub(crate) part: Option<String>,
    /// Use frames and values of a worked example, by its number from 1
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["log", "frame"])]
    pub(crate) example: Option<usize>,
    /// Name of the frame, if the sheet has several
    #[arg(long, value_name = "NAME")]
    pub(crate) frame: Option<String>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Active setting or parameter; default: reset values; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Read register values from a dump; `--set` overrides it
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Write the sheet with the change of this finding to --out
    #[arg(long, value_name = "NUMBER", requires = "out")]
    pub(crate) apply: Option<usize>,
    /// Output file for the changed sheet
    #[arg(long, value_name = "FILE", requires = "apply")]
    pub(crate) out: Option<PathBuf>,
    /// Replace an existing file
    #[arg(long, requires = "out")]
    pub(crate) overwrite: bool,
    /// Number of findings to print; default: up to 4 likely ones
    #[arg(long, value_name = "NUMBER")]
    pub(crate) most: Option<usize>,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}
