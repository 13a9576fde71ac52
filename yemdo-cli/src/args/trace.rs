//! The arguments of `trace`.

use std::path::PathBuf;

use clap::ValueEnum;
use yemdo_trace::edges::Parity;

use super::Format;

pub(super) const TRACE_HELP: &str = "\
Examples:
  yemdo trace demo/driver.vcd sheets/lantern-16.toml --power-up
  yemdo trace demo/transfers.csv sheets/strake-20.toml --violations
  yemdo trace demo/hall.pcap sheets/garboard-rs.toml@17 --log hall.csv
  yemdo trace demo/kernel.txt sheets/thole-9.toml --assume-reset
  yemdo trace bus.vcd sheets/caulk-1.toml@cs1 --line clk=D0 --line miso=D2 --line cs=cs1

A capture is VCD, a CSV table of levels or transfers, pcap or pcapng of Modbus TCP, the Linux
kernel's trace of i2c, smbus or spi events, lines with bytes that a board printed, or a
recording of yemdo. Its format is detected. A sheet takes an address, unit or chip select after @.

Settings are unknown until the capture shows them, unless --power-up, --set or --assume-reset is
given. Findings that depend on earlier transfers are marked, and do not count for the exit code.";

#[derive(Debug, clap::Args)]
pub(crate) struct Trace {
    /// Capture; `-`: standard input
    #[arg(value_name = "CAPTURE")]
    pub(crate) capture: PathBuf,
    /// Sheets of the parts on the bus, each with its address, unit or chip select after @ if needed; without sheets, transfers only
    #[arg(value_name = "SHEET", conflicts_with = "bench")]
    pub(crate) sheets: Vec<String>,
    /// Parts of a bench file
    #[arg(long, value_name = "FILE")]
    pub(crate) bench: Option<PathBuf>,
    /// The capture begins with the power-up of the parts
    #[arg(long)]
    pub(crate) power_up: bool,
    /// Assume reset values for settings that the capture does not show
    #[arg(long, conflicts_with = "power_up")]
    pub(crate) assume_reset: bool,
    /// Setting or parameter when the capture begins; repeatable
    #[arg(long, value_name = "NAME=VALUE", conflicts_with = "power_up")]
    pub(crate) set: Vec<String>,
    /// Show transfers of this part only
    #[arg(long, value_name = "PART")]
    pub(crate) part: Option<String>,
    /// Show transfers of this register, frame or command only
    #[arg(long, value_name = "NAME")]
    pub(crate) of: Option<String>,
    /// Show transfers from this time on: `20 ms`
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub(crate) from: Option<u64>,
    /// Show transfers up to this time
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub(crate) to: Option<u64>,
    /// Show transfers with violations only
    #[arg(long)]
    pub(crate) violations: bool,
    /// Write the readings to a log: .csv, .jsonl, .senml, .senmlc
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Write the transfers as a waveform, for a viewer
    #[arg(long, value_name = "FILE")]
    pub(crate) vcd: Option<PathBuf>,
    /// Draw a transfer, by its number: needs --out
    #[arg(long, value_name = "NUMBER", requires = "out")]
    pub(crate) draw: Option<u64>,
    /// Drawing, .svg or .png
    #[arg(long, value_name = "FILE", requires = "draw")]
    pub(crate) out: Option<PathBuf>,
    /// Replace existing files
    #[arg(long)]
    pub(crate) overwrite: bool,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: Format,
    #[command(flatten)]
    pub(crate) reading: Reading,
}

/// How to read the capture.
#[derive(Debug, clap::Args)]
#[command(next_help_heading = "Reading the capture")]
pub(crate) struct Reading {
    /// Line of a bus by its name in the capture: scl, sda, clk, mosi, miso, cs, tx, rx; repeatable
    #[arg(long, value_name = "ROLE=NAME")]
    pub(crate) line: Vec<String>,
    /// SPI mode, 0 to 3; default: the sheet's
    #[arg(long, value_name = "MODE", value_parser = clap::value_parser!(u8).range(0..=3))]
    pub(crate) mode: Option<u8>,
    /// SPI bit order; default: the sheet's
    #[arg(long, value_enum, value_name = "ORDER")]
    pub(crate) bit_order: Option<BitOrder>,
    /// Baud rate of serial lines; default: the sheet's
    #[arg(long, value_name = "BAUD", value_parser = clap::value_parser!(u32).range(50..=10_000_000))]
    pub(crate) baud: Option<u32>,
    /// Parity of serial lines; default: the sheet's
    #[arg(long, value_enum, value_name = "PARITY")]
    pub(crate) parity: Option<ParityForm>,
    /// Drop pulses that are shorter: `50 ns`
    #[arg(long, value_name = "TIME", value_parser = picoseconds)]
    pub(crate) glitch: Option<u64>,
    /// Unit of time of a table without one in its heading: s, ms, us, ns
    #[arg(long, value_name = "UNIT", value_parser = unit)]
    pub(crate) time_unit: Option<u64>,
    /// Column of a table by its heading: time, direction, address, data, ack, group; repeatable
    #[arg(long, value_name = "ROLE=HEADING")]
    pub(crate) column: Vec<String>,
    /// Numbers without prefix in tables and printed lines
    #[arg(long, value_enum, value_name = "FORM")]
    pub(crate) numbers: Option<Numbers>,
    /// TCP port of Modbus servers
    #[arg(long, value_name = "PORT", default_value = "502")]
    pub(crate) port: u16,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum BitOrder {
    /// Most significant bit first
    Msb,
    /// Least significant bit first
    Lsb,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Numbers {
    /// Hexadecimal
    Hex,
    /// Decimal
    Decimal,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ParityForm {
    /// No parity bit
    None,
    /// Even
    Even,
    /// Odd
    Odd,
}

impl From<ParityForm> for Parity {
    fn from(form: ParityForm) -> Self {
        match form {
            ParityForm::None => Parity::None,
            ParityForm::Even => Parity::Even,
            ParityForm::Odd => Parity::Odd,
        }
    }
}

fn picoseconds(typed: &str) -> Result<u64, String> {
    yemdo_trace::parse_duration(typed).ok_or_else(|| "write 50 ns or 0.2 us".into())
}

fn unit(typed: &str) -> Result<u64, String> {
    yemdo_trace::parse_duration(&format!("1 {typed}")).ok_or_else(|| "write s, ms, us, ns or ps".into())
}

/// A time since the beginning, in microseconds.
fn moment(typed: &str) -> Result<u64, String> {
    let picos = yemdo_trace::parse_duration(typed).ok_or("write 20 ms or 1.5 s")?;
    Ok(picos / 1_000_000)
}
