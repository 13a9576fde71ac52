//! The command line.

mod decode;
mod emit;
mod mend;
mod parts;
mod plot;
mod trace;

use std::path::PathBuf;

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Parser, Subcommand, ValueEnum};
use yemdo::bus::Bus;

use crate::link::Link;
use decode::DECODE_HELP;
pub(crate) use decode::Decode;
pub(crate) use emit::{Emit, Firmware, HalForm, RealsForm, What};
use mend::MEND_HELP;
pub(crate) use mend::Mend;
use parts::{READ_HELP, SCAN_HELP, STAND_IN_HELP, TALK_HELP};
pub(crate) use parts::{Read, ReadFormat, Scan, StandIn, Talk};
use plot::PLOT_HELP;
pub(crate) use plot::Plot;
use trace::TRACE_HELP;
pub(crate) use trace::{BitOrder, Numbers, Trace};

/// From a sensor's datasheet, typed once as a sheet, to calibrated readings.
#[derive(Debug, Parser)]
#[command(name = "yemdo", version, propagate_version = true, disable_help_subcommand = true, max_term_width = 100)]
#[command(after_help = "Exit codes: 0 success; 1 refused frames or failed examples; 2 invalid sheet, file or arguments.")]
pub(crate) struct Args {
    /// Colour of the output
    #[arg(long, value_enum, default_value = "auto", global = true)]
    pub(crate) color: Color,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Check sheets, run their worked examples, and list the possible values of readings
    Check(Check),
    /// Decode raw bytes to readings
    #[command(after_help = DECODE_HELP)]
    Decode(Decode),
    /// Explain a register value, bit by bit
    #[command(after_help = EXPLAIN_HELP)]
    Explain(Explain),
    /// Find the cause of a wrong value: from bytes and an expected value to the line to change
    #[command(after_help = MEND_HELP)]
    Mend(Mend),
    /// Compute the register writes for settings; with --at, write and verify them
    #[command(after_help = CONFIGURE_HELP)]
    Configure(Configure),
    /// List the settings for a range, a step or a time of a reading
    #[command(after_help = CHOOSE_HELP)]
    Choose(Choose),
    /// List the bus operations of a routine, with times; with --at, run it
    #[command(after_help = ROUTINE_HELP)]
    Routine(Routine),
    /// Scan a bus for devices and matching sheets; without a place, list buses and ports
    #[command(after_help = SCAN_HELP)]
    Scan(Scan),
    /// Measure with a part, or with all parts of a bench, once or repeatedly
    #[command(after_help = READ_HELP)]
    Read(Read),
    /// Plot logs over time, noise, a comparison with a reference; for a sheet, transfer curves
    #[command(after_help = PLOT_HELP)]
    Plot(Plot),
    /// Open a console on one part: read, write, set, run, dump, compare; shows all bus operations
    #[command(after_help = TALK_HELP)]
    Talk(Talk),
    /// Simulate a part: a Modbus server that behaves like the datasheet and checks its clients
    #[command(after_help = STAND_IN_HELP)]
    StandIn(StandIn),
    /// Read a capture of a bus: transfers with their meaning, readings, and a verdict on the client
    #[command(after_help = TRACE_HELP)]
    Trace(Trace),
    /// Convert a register table from a datasheet to a sheet
    Import(Import),
    /// Generate firmware in C, Rust or Python, a page, or the JSON Schema of sheets for editors
    Emit(Emit),
    /// Run a simulated bench, then decode and plot a recorded day
    Demo(Demo),
}

const CONFIGURE_HELP: &str = "\
Examples:
  yemdo configure sheets/keelson-6.toml SPAN='12 g' RATE='272 Hz'
  yemdo configure sheets/thole-9.toml upper_threshold='31 °C' hysteresis='2 °C'
  yemdo configure sheets/lantern-16.toml GAIN=fivefold upper_limit='750 lx' --paste c
  yemdo configure sheets/lantern-16.toml SLEEP=awake --read-back back.txt

A field takes the name of a value, or a code; a quantity takes a number with its unit, for the inverse of its
formula. Initial values of registers: reset values, or those of a dump.";

const CHOOSE_HELP: &str = "\
Examples:
  yemdo choose sheets/lantern-16.toml illuminance --up-to '20 klx'
  yemdo choose sheets/thole-9.toml temperature --step 0.1 --within '50 ms'
  yemdo choose sheets/lantern-16.toml illuminance --set GAIN=fivefold --after saturated";

const ROUTINE_HELP: &str = "\
Examples:
  yemdo routine sheets/lantern-16.toml
  yemdo routine sheets/lantern-16.toml measure --set TIME='486 ms'
  yemdo routine sheets/keelson-6.toml start --bus spi --khz 4000
  yemdo routine sheets/lantern-16.toml measure --at stand-in --vcd measure.vcd";

#[derive(Debug, clap::Args)]
pub(crate) struct Configure {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Fields, quantities and parameters with new values
    #[arg(value_name = "NAME=VALUE", required = true)]
    pub(crate) settings: Vec<String>,
    /// Read present register values from a dump; default: reset values
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Also write registers that already have their values
    #[arg(long)]
    pub(crate) all: bool,
    /// Print only the bytes to send, for pasting
    #[arg(long, value_enum, value_name = "FORM")]
    pub(crate) paste: Option<PasteForm>,
    /// Compare with a dump of the part's registers
    #[arg(long, value_name = "FILE")]
    pub(crate) read_back: Option<PathBuf>,
    /// Bus, if the part has several
    #[arg(long, value_parser = bus())]
    pub(crate) bus: Option<Bus>,
    /// 7-bit I2C address selected by pins; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Choose {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Reading; default: all fields with times or currents in their tables
    #[arg(value_name = "READING")]
    pub(crate) reading: Option<String>,
    /// Maximum value, in any unit of the dimension
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) up_to: Option<String>,
    /// Minimum value
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) down_to: Option<String>,
    /// Maximum step
    #[arg(long, value_name = "VALUE")]
    pub(crate) step: Option<String>,
    /// Maximum noise
    #[arg(long, value_name = "VALUE")]
    pub(crate) noise: Option<String>,
    /// Maximum current, in the unit of the sheet's column
    #[arg(long, value_name = "VALUE")]
    pub(crate) current: Option<f64>,
    /// Maximum conversion time
    #[arg(long, value_name = "TIME")]
    pub(crate) within: Option<String>,
    /// Last reading, or `saturated`: print the next setting
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) after: Option<String>,
    /// Setting other than its reset value; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Read present register values from a dump
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Also show settings outside the limits
    #[arg(long)]
    pub(crate) all: bool,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Routine {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Routine; default: list all routines
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Setting or parameter other than its reset value; repeatable
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Read present register values from a dump
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Bus, if the part has several
    #[arg(long, value_parser = bus())]
    pub(crate) bus: Option<Bus>,
    /// Bus clock for times; default: 400 for I2C, 1000 for SPI; Modbus uses its baud rate
    #[arg(long, value_name = "KHZ", value_parser = clap::value_parser!(u32).range(1..=200_000))]
    pub(crate) khz: Option<u32>,
    /// 7-bit I2C address selected by pins; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    /// Write the transfers as a waveform, for a viewer
    #[arg(long, value_name = "FILE", requires = "at")]
    pub(crate) vcd: Option<PathBuf>,
    /// Replace an existing waveform
    #[arg(long, requires = "vcd")]
    pub(crate) overwrite: bool,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum PasteForm {
    /// C99
    C,
    /// Rust
    Rust,
    /// Hex bytes
    Hex,
}

/// The buses that there are, by their names in a sheet.
fn bus() -> impl TypedValueParser<Value = Bus> {
    let names = Bus::ALL.iter().map(|bus| PossibleValue::new(bus.key()).help(bus.name()));
    PossibleValuesParser::new(names).try_map(|key| Bus::of_key(&key).ok_or("no bus"))
}

const EXPLAIN_HELP: &str = "\
Examples:
  yemdo explain sheets/lantern-16.toml CONFIG=0x9205
  yemdo explain sheets/keelson-6.toml 0x29=0x10 0x2C=0x57
  yemdo explain sheets/keelson-6.toml --dump dump.txt

A dump has one register per line: name or address, and value in hex, separated by blanks, `:`, `=` or `,`; or
an address and the values of consecutive registers.";

#[derive(Debug, clap::Args)]
pub(crate) struct Explain {
    /// Sheet of the part
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Registers, by name or address, with values; with --at, names alone, or none for all
    #[arg(value_name = "REGISTER=VALUE", required_unless_present_any = ["dump", "at"])]
    pub(crate) values: Vec<String>,
    /// Read registers and values from a file; `-`: standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Import {
    /// Table, as CSV or with tabs; `-`: standard input
    #[arg(value_name = "TABLE")]
    pub(crate) table: PathBuf,
    /// Name of the part; default: name of the file
    #[arg(long, value_name = "NAME")]
    pub(crate) part: Option<String>,
    /// Output file; default: standard output
    #[arg(long, value_name = "SHEET")]
    pub(crate) out: Option<PathBuf>,
    /// Replace an existing file
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Check {
    /// Sheets
    #[arg(required = true, value_name = "SHEET")]
    pub(crate) sheets: Vec<PathBuf>,
    /// The parts share one I2C bus: check for address conflicts
    #[arg(long)]
    pub(crate) one_bus: bool,
    /// Estimate cost and error of readings on a small core: doubles, floats, integers
    #[arg(long)]
    pub(crate) forms: bool,
    /// Step of integer readings, for --forms
    #[arg(long, value_name = "STEP", default_value = "0.001")]
    pub(crate) step: f64,
    /// Output format
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Demo {
    /// Output folder for the plot; created if missing
    #[arg(long, value_name = "FOLDER", default_value = "yemdo-demo")]
    pub(crate) out: PathBuf,
    /// Replace an existing plot
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Aligned columns
    Table,
    /// Comma-separated values with header
    Csv,
    /// One JSON object per line
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum CheckFormat {
    /// Text
    Table,
    /// One JSON object per line and sheet
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal only
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

impl Color {
    /// Sets the choice for both output streams.
    pub(crate) fn apply(self) {
        let choice = match self {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
    }
}
