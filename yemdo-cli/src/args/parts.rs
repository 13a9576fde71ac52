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

I2C addresses are probed by reading one byte; nothing is written, and reserved addresses are skipped. Modbus units are
probed by reading a register. With sheets, parts are identified by the expected values in their sheets, without writes.";

pub(super) const READ_HELP: &str = "\
Examples:
  yemdo read sheets/strake-20.toml --at i2c:1
  yemdo read sheets/garboard-rs.toml --at tcp:192.0.2.7@17 --every '2 s' --format csv
  yemdo read sheets/thole-9.toml --at 'stand-in:temperature=5 - t' --every '1 s' --count 5
  yemdo read --bench hall.toml --for '1 min'
  yemdo read --bench hall.toml --every '500 ms' --live
  yemdo read --bench hall.toml --every '10 s' --log hall.csv --rotate '1 d'

A log contains readings with their bytes; new readings are appended. Its format follows from its name: .csv, .jsonl
(JSON lines), .senml (SenML, one pack per measurement) or .senmlc (SenML in CBOR). Waits of a stand-in take no time: its clock
is virtual.";

pub(super) const TALK_HELP: &str = "\
Examples:
  yemdo talk sheets/lantern-16.toml --at i2c:1
  yemdo talk sheets/lantern-16.toml --at stand-in --script commands.txt
  echo 'measure' | yemdo talk sheets/strake-20.toml --at stand-in

`help` lists the commands. In a script or pipe, the first failing command ends it with exit code 1.";

pub(super) const STAND_IN_HELP: &str = "\
Examples:
  yemdo stand-in sheets/garboard-rs.toml --listen 127.0.0.1:1502 supply=19.5 'flow=800 + 50 * sin(t)'
  yemdo stand-in sheets/garboard-rs.toml --terminal supply=@day.csv

Serves until Ctrl-C or for --for, then prints the violations of its clients. Listens on loopback by default. For parts on
I2C and SPI, use --at stand-in, and in tests the library yemdo-bus.";

#[derive(Debug, clap::Args)]
pub(crate) struct Scan {
    /// Bus: i2c:1, rtu:/dev/ttyUSB0, tcp:HOST; default: list buses and ports
    #[arg(value_name = "PLACE")]
    pub(crate) place: Option<String>,
    /// Candidate sheet; repeatable; default: the folder `sheets`
    #[arg(long, value_name = "SHEET")]
    pub(crate) sheet: Vec<PathBuf>,
    /// Modbus units to try: 1-32, or 1,5,17; default: 1-247, over serial lines 1-32
    #[arg(long, value_name = "UNITS")]
    pub(crate) units: Option<String>,
    /// Baud rates to try on a serial line
    #[arg(long, value_name = "BAUDS", value_delimiter = ',')]
    pub(crate) baud: Vec<u32>,
    /// Parities to try on a serial line: none, even, odd
    #[arg(long, value_name = "PARITIES", value_delimiter = ',', value_parser = ["none", "even", "odd"])]
    pub(crate) parity: Vec<String>,
    /// Timeout of a Modbus response
    #[arg(long, value_name = "TIME", default_value = "100 ms", value_parser = time)]
    pub(crate) timeout: u64,
    /// Record the traffic to a new file
    #[arg(long, value_name = "FILE", requires = "place")]
    pub(crate) record: Option<PathBuf>,
    /// Wait for a bus or port to be plugged in, and print its name
    #[arg(long, conflicts_with = "place")]
    pub(crate) wait: bool,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Read {
    /// Sheet of the part
    #[arg(value_name = "SHEET", required_unless_present = "bench", conflicts_with = "bench")]
    pub(crate) sheet: Option<PathBuf>,
    /// Read all parts of a bench file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["at", "record"])]
    pub(crate) bench: Option<PathBuf>,
    /// Interval of measurements; default: as fast as possible
    #[arg(long, value_name = "TIME", value_parser = time)]
    pub(crate) every: Option<u64>,
    /// Number of measurements
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u64).range(1..))]
    pub(crate) count: Option<u64>,
    /// Duration
    #[arg(long = "for", value_name = "TIME", value_parser = time)]
    pub(crate) duration: Option<u64>,
    /// Full-screen live view; `?` lists its keys
    #[arg(long)]
    pub(crate) live: bool,
    /// Playback speed of a recording; default: maximum, in the live view 1
    #[arg(long, value_name = "FACTOR", value_parser = speed)]
    pub(crate) speed: Option<f64>,
    /// Set fields, quantities or parameters first; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Expected value of a reading: searches for the mistake as `yemdo mend` does; repeatable
    #[arg(long = "expect", value_name = "NAME=VALUE", conflicts_with_all = ["bench", "live"])]
    pub(crate) expectations: Vec<String>,
    /// Run a routine first
    #[arg(long, value_name = "ROUTINE")]
    pub(crate) run: Vec<String>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Append the readings to a log: .csv, .jsonl, .senml or .senmlc
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Start a new log file at this size or time: 10 MB, 1 h, 1 d; the old one gets its time in its name
    #[arg(long, value_name = "SIZE|TIME", requires = "log", value_parser = Rotation::parse)]
    pub(crate) rotate: Option<Rotation>,
    /// Unit for all readings or one: `°F`, `pressure=psi`; repeatable
    #[arg(long, value_name = "UNIT")]
    pub(crate) unit: Vec<String>,
    /// Print times in UTC; default: local time with offset
    #[arg(long)]
    pub(crate) utc: bool,
    /// Start time of stand-ins and recordings, in RFC 3339; default: now
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub(crate) begin: Option<Moment>,
    /// Output format
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

/// Output format.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum ReadFormat {
    /// Aligned columns
    Table,
    /// One row per reading
    Csv,
    /// JSON, one line per measurement
    Json,
    /// SenML (RFC 8428), one pack per line
    Senml,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Talk {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Read commands from a file, one per line
    #[arg(long, value_name = "FILE")]
    pub(crate) script: Option<PathBuf>,
    /// Hide bus operations
    #[arg(long)]
    pub(crate) quiet: bool,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct StandIn {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Signals of readings: a number, `A to B in N s`, a formula of t, @FILE.csv; also seed, noise=on, faults
    #[arg(value_name = "READING=SIGNAL")]
    pub(crate) signals: Vec<String>,
    /// Address to listen on
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:1502", conflicts_with = "terminal")]
    pub(crate) listen: std::net::SocketAddr,
    /// Serve RTU on a new pseudo-terminal instead of TCP
    #[arg(long)]
    pub(crate) terminal: bool,
    /// Duration; default: until Ctrl-C
    #[arg(long = "for", value_name = "TIME", value_parser = time)]
    pub(crate) duration: Option<u64>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
}
