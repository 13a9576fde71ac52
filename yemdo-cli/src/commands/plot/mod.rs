//! `yemdo plot`: logs over time, noise, comparisons, transfer curves, as SVG or PNG.

mod against;
mod curve;
mod noise;
pub(super) mod over_time;

use std::path::{Path, PathBuf};

use yemdo::Part;

use crate::args::Plot;
use crate::failure::Failure;
use crate::input;
use crate::output::{tell_written, write_file};
use crate::show::figure::{self, Figure};
use yemdo_log::{Clocks, Moment};
use yemdo_log::{Raw, Tracks, seconds_of};

pub(crate) fn run(args: &Plot) -> Result<u8, Failure> {
    let place = place(args)?;
    let is_sheet = |path: &&PathBuf| path.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("toml"));
    if let Some(sheet) = args.files.iter().find(is_sheet) {
        if args.files.len() > 1 || args.against.is_some() || args.noise || args.sheet.is_some() {
            let failure = Failure::error(format!("{} is a sheet: a transfer curve is plotted alone", sheet.display()));
            return Err(failure.help("use --sheet for the sheet of a log"));
        }
        return curve::run(args, &input::load(sheet, None)?, &place);
    }
    let clocks = Clocks::new(args.utc);
    let sheet = args.sheet.as_deref().map(|path| input::load(path, None)).transpose()?;
    let mut tracks = read(args, &args.files, sheet.as_ref(), &clocks)?;
    tracks.convert(&args.unit)?;
    if let Some(other) = &args.against {
        return against::run(args, tracks, other, sheet.as_ref(), &clocks, &place);
    }
    tracks.choose(&args.reading)?;
    if args.integral {
        tracks.integrate();
    }
    match args.noise {
        true => noise::run(args, &tracks, sheet.as_ref(), &place),
        false => over_time::run(args, &tracks, &clocks, &place),
    }
}

/// The readings of logs, between the times that are asked for.
fn read(args: &Plot, files: &[PathBuf], sheet: Option<&Part>, clocks: &Clocks) -> Result<Tracks, Failure> {
    let raw = sheet.map(|part| Raw { part, set: &args.set, name: args.part.as_deref() });
    let mut tracks = Tracks::default();
    for path in files {
        tracks.read(path, raw.as_ref())?;
    }
    input::tell_failed(&tracks.failed);
    let time = |typed: &Option<String>| {
        let Some(text) = typed.as_deref() else { return Ok(None) };
        // A day begins at midnight, where the times are shown.
        if let Some(day) = Moment::parse(&format!("{text}T00:00:00Z")) {
            return Ok(Some(Moment::of_micros(day.micros() - clocks.offset(day)).seconds()));
        }
        match seconds_of(text) {
            None => Err(Failure::error("write a time as 2031-02-07T08:00:00Z, a day, or as in the log")),
            seconds => Ok(seconds),
        }
    };
    tracks.cut(time(&args.from)?, time(&args.to)?);
    if tracks.tracks.is_empty() && tracks.refused.is_empty() {
        return Err(Failure::error("no reading in the log"));
    }
    Ok(tracks)
}

/// Where the picture goes.
fn place(args: &Plot) -> Result<PathBuf, Failure> {
    let place = args.out.clone().unwrap_or_else(|| {
        let stem = args.files.first().and_then(|path| path.file_stem()).unwrap_or_default();
        Path::new(stem).with_extension("png")
    });
    figure::check_ending(&place)?;
    Ok(place)
}

/// Writes the picture, and says where it is.
fn write(args: &Plot, place: &Path, figure: &Figure) -> Result<(), Failure> {
    write_file(place, &figure::bytes_for(place, figure)?, args.overwrite)?;
    tell_written(place);
    Ok(())
}
