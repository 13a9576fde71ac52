//! The arguments of `mend`.

use std::path::PathBuf;

use super::CheckFormat;
use crate::link::Link;

pub(super) const MEND_HELP: &str = "\
Examples:
  yemdo mend hurry.toml 01 3F FF 9C --true 'warmth=-2 ± 1 °C'
  yemdo mend hurry.toml --log bench.log --true 'warmth=20 to 30 °C' --true 'flow=rises'
  yemdo mend hurry.toml FLOW='01 3F FF 9C' FLOW='01 44 07 D0' --true 'warmth=-2 ± 1 °C; 40 ± 2 °C'
  yemdo mend hurry.toml 01 3F FF 9C --true 'warmth=-2 ± 1 °C' --apply 1 --out calm.toml
  yemdo mend hurry.toml --example 1
  yemdo mend --no-sheet '2E 81 00; 30 05 00' --true '21.5 ± 0.5; 22.3 ± 0.5'

Without --true, it looks for a check that the frames pass, where they fail theirs.
A truth is `24 ± 3 °C` or `20 to 30 °C`, one for all frames or one for each, or `rises` or `falls`.";

#[derive(Debug, clap::Args)]
pub(crate) struct Mend {
    /// The part's sheet, then frames: as bytes in hex, or several, each with its name: `NAME=1A 2B`
    #[arg(value_name = "SHEET BYTES", required = true)]
    pub(crate) words: Vec<String>,
    /// What a reading was about, from elsewhere; may be given several times
    #[arg(long = "true", value_name = "NAME=VALUE")]
    pub(crate) truths: Vec<String>,
    /// There is no sheet yet: all words are bytes, those of several frames separated by semicolons
    #[arg(long, conflicts_with_all = ["log", "example", "frame", "set", "dump", "variant", "apply"])]
    pub(crate) no_sheet: bool,
    /// Take the frames of a log; of many, some from all of it
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Of a log of several parts, take the frames of this one, as the log calls it
    #[arg(long, value_name = "NAME", requires = "log")]
    pub(crate) part: Option<String>,
    /// Take the frames and values of a worked example of the sheet, by its number from 1
    #[arg(long, value_name = "NUMBER", conflicts_with_all = ["log", "frame"])]
    pub(crate) example: Option<usize>,
    /// The frame that the bytes are, where the sheet has several
    #[arg(long, value_name = "NAME")]
    pub(crate) frame: Option<String>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// A field that did not have its reset value, or a parameter; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Take the registers' values from a dump; `--set` comes after it
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Write the sheet with this finding's change to --out
    #[arg(long, value_name = "NUMBER", requires = "out")]
    pub(crate) apply: Option<usize>,
    /// Where the changed sheet goes
    #[arg(long, value_name = "FILE", requires = "apply")]
    pub(crate) out: Option<PathBuf>,
    /// Write over a file that is there already
    #[arg(long, requires = "out")]
    pub(crate) overwrite: bool,
    /// Show so many findings; default: up to 4 that are not much less likely than the first
    #[arg(long, value_name = "NUMBER")]
    pub(crate) most: Option<usize>,
    /// How to print the findings
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}
