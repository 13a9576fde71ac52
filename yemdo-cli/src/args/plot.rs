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

/// Draw logs over time, noise, a comparison with another sensor; of a sheet, transfer curves
#[derive(Debug, clap::Args)]
pub(crate) struct Plot {
    /// Logs; or one sheet
    #[arg(value_name = "FILE", required = true)]
    pub(crate) files: Vec<PathBuf>,
    /// Readings to draw, as `temperature` or `air/temperature`; may be given several times; default: all
    #[arg(long, value_name = "READING")]
    pub(crate) reading: Vec<String>,
    /// The sheet: of raw frames to decode them, of readings for the noise that it states and for the formula to correct
    #[arg(long, value_name = "SHEET")]
    pub(crate) sheet: Option<PathBuf>,
    /// Decode a log of readings anew, with the sheet: the part, as the log calls it
    #[arg(long, value_name = "NAME", requires = "sheet")]
    pub(crate) part: Option<String>,
    /// A field or parameter of the sheet that is not as after a reset
    #[arg(long, value_name = "NAME=VALUE", requires = "sheet")]
    pub(crate) set: Vec<String>,
    /// Draw what readings have added up to, such as a light dose in lx·h: their time integrals, without gaps
    #[arg(long, conflicts_with_all = ["noise", "against"])]
    pub(crate) integral: bool,
    /// A histogram of the values, beside the noise that the sheet states
    #[arg(long, conflicts_with = "against")]
    pub(crate) noise: bool,
    /// Compare with another reading of the logs, or with that of another log: offset, gain, drift, and a correction
    #[arg(long, value_name = "READING|LOG")]
    pub(crate) against: Option<String>,
    /// Draw in another unit: `°F`, `temperature=°F`; may be given several times
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// From this time on, in RFC 3339
    #[arg(long, value_name = "TIME")]
    pub(crate) from: Option<String>,
    /// Up to this time
    #[arg(long, value_name = "TIME")]
    pub(crate) to: Option<String>,
    /// Times in UTC; default: local time
    #[arg(long)]
    pub(crate) utc: bool,
    /// The picture, .svg or .png; default: the log's name with .png, in this folder
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Write even where another file is there already
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// How to print what was drawn
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}
