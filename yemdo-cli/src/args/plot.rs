//! The arguments of `plot`.

use std::path::PathBuf;

use super::CheckFormat;

pub(super) const PLOT_HELP: &str = "\
Examples:
  yemdo plot hall.csv
  yemdo plot hall.csv --reading temperature --unit °F --out hall.svg
  yemdo plot demo/strake-20.csv --sheet sheets/strake-20.toml
  yemdo plot hall.csv --reading illuminance --integral
  yemdo plot hall.csv --noise --reading air/temperature --sheet sheets/strake-20.toml
  yemdo plot hall.csv --reading air/temperature --against handler/supply
  yemdo plot cheap.jsonl --reading temperature --against good.csv
  yemdo plot sheets/lantern-16.toml --reading illuminance

A log is one of `yemdo read --log`; with --sheet, raw frames as `yemdo decode --log` takes them. Of a sheet, the transfer curve of a reading
is drawn: code to value, for every setting.";

/// Plots: logs over time, noise, comparison with another sensor; for a sheet, transfer curves
#[derive(Debug, clap::Args)]
pub(crate) struct Plot {
    /// Logs, or one sheet
    #[arg(value_name = "FILE", required = true)]
    pub(crate) files: Vec<PathBuf>,
    /// Reading, as `temperature` or `air/temperature`; repeatable; default: all
    #[arg(long, value_name = "READING")]
    pub(crate) reading: Vec<String>,
    /// Sheet: to decode raw frames; for the stated noise; for the corrected formula
    #[arg(long, value_name = "SHEET")]
    pub(crate) sheet: Option<PathBuf>,
    /// Decode a log of readings again with the sheet: name of the part in the log
    #[arg(long, value_name = "NAME", requires = "sheet")]
    pub(crate) part: Option<String>,
    /// Setting or parameter other than its reset value
    #[arg(long, value_name = "NAME=VALUE", requires = "sheet")]
    pub(crate) set: Vec<String>,
    /// Time integrals without gaps, such as a light dose in lx·h
    #[arg(long, conflicts_with_all = ["noise", "against"])]
    pub(crate) integral: bool,
    /// Histogram of the values, with the noise stated in the sheet
    #[arg(long, conflicts_with = "against")]
    pub(crate) noise: bool,
    /// Compare with another reading or log: offset, gain, drift, correction
    #[arg(long, value_name = "READING|LOG")]
    pub(crate) against: Option<String>,
    /// Unit for all readings or one: `°F`, `temperature=°F`; repeatable
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// Start time, in RFC 3339
    #[arg(long, value_name = "TIME")]
    pub(crate) from: Option<String>,
    /// End time
    #[arg(long, value_name = "TIME")]
    pub(crate) to: Option<String>,
    /// Print times in UTC; default: local time
    #[arg(long)]
    pub(crate) utc: bool,
    /// Output file, .svg or .png; default: the log's name with .png, in this folder
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Replace an existing file
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Format of the printed summary
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}
