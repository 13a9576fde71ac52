//! The command line.

mod decode;
mod emit;
mod mend;
mod parts;
mod plot;

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

/// From a sensor's datasheet, typed once as a sheet, to calibrated readings.
#[derive(Debug, Parser)]
#[command(name = "yemdo", version, propagate_version = true, disable_help_subcommand = true, max_term_width = 100)]
#[command(
    after_help = "Exit codes: 0 all well; 1 frames were refused or examples do not agree; 2 a sheet, a file or the arguments are wrong."
)]
pub(crate) struct Args {
    /// When to colour the output
    #[arg(long, value_enum, default_value = "auto", global = true)]
    pub(crate) color: Color,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Check sheets, run their worked examples, and say what values each reading can have
    Check(Check),
    /// Turn raw bytes into readings
    #[command(after_help = DECODE_HELP)]
    Decode(Decode),
    /// Say what a register's value means, bit by bit
    #[command(after_help = EXPLAIN_HELP)]
    Explain(Explain),
    /// Find the mistake if a number is wrong: from bytes and an expected value to the line to change
    #[command(after_help = MEND_HELP)]
    Mend(Mend),
    /// Work out the register writes for the settings you want; with --at write and verify them
    #[command(after_help = CONFIGURE_HELP)]
    Configure(Configure),
    /// Say which settings give a reading a range, a step, a time
    #[command(after_help = CHOOSE_HELP)]
    Choose(Choose),
    /// List what a routine does on the bus, with times; with --at run it
    #[command(after_help = ROUTINE_HELP)]
    Routine(Routine),
    /// Find who answers on a bus, and which sheet it could be; without a place, list the buses and ports
    #[command(after_help = SCAN_HELP)]
    Scan(Scan),
    /// Measure with a part, or with all parts of a bench, once or again and again
    #[command(after_help = READ_HELP)]
    Read(Read),
    /// Draw logs over time, noise, a comparison with a better sensor; of a sheet, transfer curves
    #[command(after_help = PLOT_HELP)]
    Plot(Plot),
    /// A console on one part: read, write, set, run, dump, compare; every bus operation is shown
    #[command(after_help = TALK_HELP)]
    Talk(Talk),
    /// Run a sheet as a part: a Modbus server that behaves as the datasheet says, and judges its clients
    #[command(after_help = STAND_IN_HELP)]
    StandIn(StandIn),
    /// Make a sheet from a register table that was copied from a datasheet
    Import(Import),
    /// Write what is made from a sheet: firmware in Rust or C; or the JSON Schema of sheets, for editors
    Emit(Emit),
    /// Run a made-up bench on stand-ins, then decode a recorded day and draw it
    Demo(Demo),
}

const CONFIGURE_HELP: &str = "\
Examples:
  yemdo configure sheets/keelson-6.toml SPAN='12 g' RATE='272 Hz'
  yemdo configure sheets/thole-9.toml upper_threshold='31 °C' hysteresis='2 °C'
  yemdo configure sheets/lantern-16.toml GAIN=fivefold upper_limit='750 lx' --paste c
  yemdo configure sheets/lantern-16.toml SLEEP=awake --read-back back.txt

A field takes the name of a value as the sheet has it, or a code; a quantity takes a number with its unit and is put
through the inverse of its formula. Registers are taken to be as after a reset, or as in a dump.";

const CHOOSE_HELP: &str = "\
Examples:
  yemdo choose sheets/lantern-16.toml illuminance --up-to '20 klx'
  yemdo choose sheets/thole-9.toml temperature --step 0.1 --within '50 ms'
  yemdo choose sheets/lantern-16.toml illuminance --set GAIN=fivefold --after saturated";

const ROUTINE_HELP: &str = "\
Examples:
  yemdo routine sheets/lantern-16.toml
  yemdo routine sheets/lantern-16.toml measure --set TIME='486 ms'
  yemdo routine sheets/keelson-6.toml start --bus spi --khz 4000";

#[derive(Debug, clap::Args)]
pub(crate) struct Configure {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Fields, quantities and parameters, with what they should be
    #[arg(value_name = "NAME=VALUE", required = true)]
    pub(crate) settings: Vec<String>,
    /// Take the registers' present values from a dump, as `explain` does; else they are as after a reset
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Write registers that already hold their values, too
    #[arg(long)]
    pub(crate) all: bool,
    /// Print only the bytes to send, ready to paste
    #[arg(long, value_enum, value_name = "FORM")]
    pub(crate) paste: Option<PasteForm>,
    /// Compare with a dump of what came back
    #[arg(long, value_name = "FILE")]
    pub(crate) read_back: Option<PathBuf>,
    /// The bus, where the part has several
    #[arg(long, value_parser = bus())]
    pub(crate) bus: Option<Bus>,
    /// The 7-bit I2C address that its pins choose; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Choose {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// The reading; without it, all fields whose table says how long something takes, or what it draws
    #[arg(value_name = "READING")]
    pub(crate) reading: Option<String>,
    /// Values up to this one, in the reading's unit or another for the same
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) up_to: Option<String>,
    /// Values down to this one
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) down_to: Option<String>,
    /// Steps as fine as this
    #[arg(long, value_name = "VALUE")]
    pub(crate) step: Option<String>,
    /// Noise as low as this
    #[arg(long, value_name = "VALUE")]
    pub(crate) noise: Option<String>,
    /// A current as low as this, in the unit of the sheet's column
    #[arg(long, value_name = "VALUE")]
    pub(crate) current: Option<f64>,
    /// Conversions as quick as this
    #[arg(long, value_name = "TIME")]
    pub(crate) within: Option<String>,
    /// After this reading, or `saturated`: say what to change to
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    pub(crate) after: Option<String>,
    /// A field that does not have its reset value; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Take the registers' present values from a dump
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// Show settings that do not meet the limits, too
    #[arg(long)]
    pub(crate) all: bool,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Routine {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// The routine; without it, their names are listed
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// A field, quantity or parameter that is not as after a reset; may be given several times
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Take the registers' present values from a dump
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// The bus, where the part has several
    #[arg(long, value_parser = bus())]
    pub(crate) bus: Option<Bus>,
    /// The bus's clock, for the times; default: 400 for I2C, 1000 for SPI; Modbus has its baud rate
    #[arg(long, value_name = "KHZ", value_parser = clap::value_parser!(u32).range(1..=200_000))]
    pub(crate) khz: Option<u32>,
    /// The 7-bit I2C address that its pins choose; default: the sheet's first
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Option<String>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
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

A dump has one register a line: its name or address, and its value in hex, with blanks, `:`, `=` or `,` between; or
an address and several values for registers that follow one another.";

#[derive(Debug, clap::Args)]
pub(crate) struct Explain {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Registers, by name or address, with their values; with --at names alone, or none for all
    #[arg(value_name = "REGISTER=VALUE", required_unless_present_any = ["dump", "at"])]
    pub(crate) values: Vec<String>,
    /// Read registers and their values from a file; `-` is standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) dump: Option<PathBuf>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
    #[command(flatten)]
    pub(crate) link: Link,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Import {
    /// The table, as CSV or with tabs; `-` is standard input
    #[arg(value_name = "TABLE")]
    pub(crate) table: PathBuf,
    /// Name of the part; else the name of the file
    #[arg(long, value_name = "NAME")]
    pub(crate) part: Option<String>,
    /// File to write; default: standard output
    #[arg(long, value_name = "SHEET")]
    pub(crate) out: Option<PathBuf>,
    /// Write even where the file is there already; without it an existing file is kept
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Check {
    /// Sheets to check
    #[arg(required = true, value_name = "SHEET")]
    pub(crate) sheets: Vec<PathBuf>,
    /// The parts share one I2C bus: refuse those whose addresses clash
    #[arg(long)]
    pub(crate) one_bus: bool,
    /// Say what each reading costs on a small core, in doubles, in floats and in integers, and how far it is off
    #[arg(long)]
    pub(crate) forms: bool,
    /// With --forms, the step of integer readings
    #[arg(long, value_name = "STEP", default_value = "0.001")]
    pub(crate) step: f64,
    /// How to print the result
    #[arg(long, value_enum, default_value = "table")]
    pub(crate) format: CheckFormat,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Demo {
    /// Folder to write the plot to; made where it is not there
    #[arg(long, value_name = "FOLDER", default_value = "yemdo-demo")]
    pub(crate) out: PathBuf,
    /// Write even where another plot is there already
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Aligned columns for people
    Table,
    /// Comma-separated values with a header
    Csv,
    /// One JSON object a line
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum CheckFormat {
    /// Text for people
    Table,
    /// One JSON object a line, one line a sheet
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
