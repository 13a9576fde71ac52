//! The commands that are about parts: `scan`, `read`, `talk`, `stand-in`.

use std::path::PathBuf;

use super::CheckFormat;
use crate::link::{Link, time};
use yemdo_log::{Moment, Rotation};

pub(super) const SCAN_HELP: &str = "\
Examples:
  yemdo scan
  yemdo scan i2c:1 --sheet sheets/strake-20.toml --sheet sheets/thole-9.toml
  yemdo scan rtu:/dev/ttyUSB0 --baud 9600,19200 --parity even,none --units 1-32
  yemdo scan --wait

An I2C address is probed by reading one byte from it; nothing is written, and reserved addresses are left alone. A Modbus unit is
probed by reading a register. With sheets, parts are confirmed by what their sheets expect of them, without writing.";

pub(super) const READ_HELP: &str = "\
Examples:
  yemdo read sheets/strake-20.toml --at i2c:1
  yemdo read sheets/garboard-rs.toml --at tcp:192.0.2.7@17 --every '2 s' --format csv
  yemdo read sheets/thole-9.toml --at 'stand-in:temperature=5 - t' --every '1 s' --count 5
  yemdo read --bench hall.toml --for '1 min'
  yemdo read --bench hall.toml --every '500 ms' --live
  yemdo read --bench hall.toml --every '10 s' --log hall.csv --rotate '1 d'

A log holds readings with their bytes, and is appended to; its form follows from its name: .csv, .jsonl (JSON lines), .senml (SenML, a
pack a line), .senmlc (SenML in CBOR). yemdo decode --log reads all of them back. A part that fails is shown failing, and comes back by itself. The end is a count, a time, or Ctrl-C. With --count or --for, waits
for a stand-in take no time: its clock is virtual.";

pub(super) const TALK_HELP: &str = "\
Examples:
  yemdo talk sheets/lantern-16.toml --at i2c:1
  yemdo talk sheets/lantern-16.toml --at stand-in --script commands.txt
  echo 'measure' | yemdo talk sheets/strake-20.toml --at stand-in

`help` lists the commands. From a script or a pipe, the first that fails ends it with exit code 1.";

pub(super) const STAND_IN_HELP: &str = "\
Examples:
  yemdo stand-in sheets/garboard-rs.toml --listen 127.0.0.1:1502 supply=19.5 'flow=800 + 50 * sin(t)'
  yemdo stand-in sheets/garboard-rs.toml --terminal supply=@day.csv

It serves until Ctrl-C, or for a time, and then says what its clients did against the sheet. It listens on loopback unless --listen
says otherwise. Parts on I2C and SPI are stood in for by --at stand-in, and in your own tests by the library yemdo-bus.";

#[derive(Debug, clap::Args)]
pub(crate) struct Scan {
    /// The bus: i2c:1, rtu:/dev/ttyUSB0, tcp:HOST; without it, buses and ports are listed
    #[arg(value_name = "PLACE")]
    pub(crate) place: Option<String>,
    /// A sheet that a part could have; may be given several times. Default: those in the folder `sheets`
    #[arg(long, value_name = "SHEET")]
    pub(crate) sheet: Vec<PathBuf>,
    /// Modbus units to try: 1-32, or 1,5,17; default: 1-247, over serial lines 1-32
    #[arg(long, value_name = "UNITS")]
    pub(crate) units: Option<String>,
    /// Bauds to try on a serial line
    #[arg(long, value_name = "BAUDS", value_delimiter = ',')]
    pub(crate) baud: Vec<u32>,
    /// Parities to try on a serial line: none, even, odd
    #[arg(long, value_name = "PARITIES", value_delimiter = ',', value_parser = ["none", "even", "odd"])]
    pub(crate) parity: Vec<String>,
    /// The longest wait for a Modbus response
    #[arg(long, value_name = "TIME", default_value = "100 ms", value_parser = time)]
    pub(crate) timeout: u64,
    /// Record the traffic in a new file
    #[arg(long, value_name = "FILE", requires = "place")]
    pub(crate) record: Option<PathBuf>,
    /// Wait until a bus or port is plugged in, and name it
    #[arg(long, conflicts_with = "place")]
    pub(crate) wait: bool,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Read {
    /// The part's sheet
    #[arg(value_name = "SHEET", required_unless_present = "bench", conflicts_with = "bench")]
    pub(crate) sheet: Option<PathBuf>,
    /// Read all parts of a bench file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["at", "record"])]
    pub(crate) bench: Option<PathBuf>,
    /// From one measurement to the next; default: as fast as the part measures
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) every: Option<u64>,
    /// So many measurements
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) count: Option<u64>,
    /// So long
    #[arg(long = "for", value_name = "TIME", value_parser = time)]
    pub(crate) duration: Option<u64>,
    /// Watch it in a view of the whole terminal; `?` lists its keys
    #[arg(long)]
    pub(crate) live: bool,
    /// Play a recording at so many times its speed; default: as fast as it can, in the live view 1
    #[arg(long, value_name = "FACTOR", value_parser = speed)]
    pub(crate) speed: Option<f64>,
    /// Set fields, quantities or parameters first; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Run a routine first, such as one that starts the part
    #[arg(long, value_name = "ROUTINE")]
    pub(crate) run: Vec<String>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Append the readings to a log: .csv, .jsonl, .senml or .senmlc
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Begin a new log file at this size, or after this time: 10 MB, 1 h, 1 d; the full one gets its time into its name
    #[arg(long, value_name = "SIZE|TIME", requires = "log", value_parser = Rotation::parse)]
    pub(crate) rotate: Option<Rotation>,
    /// Units to show and to log readings in, as °F or pressure=psi; may be given several times
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// Times in UTC; default: local time with its offset
    #[arg(long)]
    pub(crate) utc: bool,
    /// When the clock of stand-ins and recordings begins, in RFC 3339; default: now
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub(crate) begin: Option<Moment>,
    /// How to print the readings
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: ReadFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}

fn speed(typed: &str) -> Result<f64, String> {
    typed.parse().ok().filter(|speed| (0.001..=1e6).contains(speed)).ok_or_else(|| "write a number from 0.001 to 1000000".into())
}

fn moment(typed: &str) -> Result<Moment, String> {
    Moment::parse(typed).ok_or_else(|| "write 2031-02-07T08:00:00Z, or with an offset such as +01:00".into())
}

/// How readings are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum ReadFormat {
    /// Columns for people
    Table,
    /// A row for each reading
    Csv,
    /// JSON, a line for each measurement
    Json,
    /// SenML (RFC 8428), a pack a line
    Senml,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Talk {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Take commands from a file, one a line
    #[arg(long, value_name = "FILE")]
    pub(crate) script: Option<PathBuf>,
    /// Do not show bus operations
    #[arg(long)]
    pub(crate) quiet: bool,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct StandIn {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Readings and what they are: a number, `A to B in N s`, a formula of the seconds t, or @FILE.csv; also seed, noise=on, faults
    #[arg(value_name = "READING=SIGNAL")]
    pub(crate) signals: Vec<String>,
    /// The address to listen on
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:1502", conflicts_with = "terminal")]
    pub(crate) listen: std::net::SocketAddr,
    /// Serve RTU on a new pseudo-terminal in place of TCP
    #[arg(long)]
    pub(crate) terminal: bool,
    /// So long; default: until Ctrl-C
    #[arg(long = "for", value_name = "TIME", value_parser = time)]
    pub(crate) duration: Option<u64>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
}
