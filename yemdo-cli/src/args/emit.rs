//! The arguments of `emit`.

use std::path::PathBuf;

use clap::{Subcommand, ValueEnum};
use yemdo::bus::Bus;

use super::bus;

/// What is written.
#[derive(Debug, clap::Args)]
pub(crate) struct Emit {
    #[command(subcommand)]
    pub(crate) what: What,
}

#[derive(Debug, Subcommand)]
pub(crate) enum What {
    /// A module of Rust that needs no standard library: decoders, settings, routines, a driver over embedded-hal
    #[command(after_help = RUST_HELP)]
    Rust(Firmware),
    /// A header and a source file of C99: decoders, settings, routines, a driver over your functions
    #[command(after_help = C_HELP)]
    C(Firmware),
    /// A page of HTML or Markdown that shows the part: registers, frames, readings, routines, worked examples
    #[command(after_help = PAGE_HELP)]
    Page(Page),
    /// The JSON Schema of sheets, for editors that complete and check
    Schema(Schema),
}

const PAGE_HELP: &str = "\
Examples:
  yemdo emit page sheets/lantern-16.toml --out lantern-16.html
  yemdo emit page sheets/keelson-6.toml > keelson-6.html
  yemdo emit page sheets/keelson-6.toml --out docs/keelson-6.md";

const RUST_HELP: &str = "\
Examples:
  yemdo emit rust sheets/strake-20.toml --out src
  yemdo emit rust sheets/thole-9.toml --out src --reals none --step 0.01
  yemdo emit rust sheets/strake-20.toml --out src --verify";

const C_HELP: &str = "\
Examples:
  yemdo emit c sheets/strake-20.toml --out firmware
  yemdo emit c sheets/thole-9.toml --out firmware --reals none --vectors 200
  yemdo emit c sheets/garboard-rs.toml --out firmware --only decode
  yemdo emit c sheets/binnacle-24.toml --out firmware --reals none --only pressure --only measure";

#[derive(Debug, clap::Args)]
pub(crate) struct Firmware {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// Folder to write to; made where it is not there
    #[arg(long, value_name = "FOLDER")]
    pub(crate) out: PathBuf,
    /// How real numbers are computed
    #[arg(long, value_enum, default_value = "double")]
    pub(crate) reals: RealsForm,
    /// The step of integer readings, in their unit: `0.01`, or for one reading `pressure=0.1`; may be given several times
    #[arg(long, value_name = "[READING=]STEP")]
    pub(crate) step: Vec<String>,
    /// Take only this reading or routine, and what it needs; `decode` for all readings and nothing else; may be given several times
    #[arg(long, value_name = "NAME")]
    pub(crate) only: Vec<String>,
    /// The bus of the routines, where the part has several
    #[arg(long, value_parser = bus())]
    pub(crate) bus: Option<Bus>,
    /// What a Rust driver is made for
    #[arg(long, value_enum, default_value = "blocking")]
    pub(crate) hal: HalForm,
    /// Write a test beside it, with so many frames and what is to come out of them
    #[arg(long, value_name = "COUNT", value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub(crate) vectors: Option<u32>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Write nothing: fail where a file in the folder is not what would be written
    #[arg(long, conflicts_with = "overwrite")]
    pub(crate) verify: bool,
    /// Write even over a file that this command has not made
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum RealsForm {
    /// 64 bits, as the sheet has them
    Double,
    /// 32 bits
    Float,
    /// Not at all: readings are integers that count steps
    None,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum HalForm {
    /// embedded-hal
    Blocking,
    /// embedded-hal-async
    Async,
    /// Nothing: only state machines
    None,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Page {
    /// The part's sheet
    #[arg(value_name = "SHEET")]
    pub(crate) sheet: PathBuf,
    /// File to write; default: standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// A variant of the sheet
    #[arg(long, value_name = "NAME")]
    pub(crate) variant: Option<String>,
    /// Write Markdown in place of HTML; so does a file that ends in .md
    #[arg(long)]
    pub(crate) markdown: bool,
    /// Write even over a file that this command has not made
    #[arg(long)]
    pub(crate) overwrite: bool,
}

#[derive(Debug, clap::Args)]
pub(crate) struct Schema {
    /// File to write; default: standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Write even where the file is there already; without it an existing file is kept
    #[arg(long)]
    pub(crate) overwrite: bool,
}
