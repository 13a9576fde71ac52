//! `yemdo demo`: the hall's bench on stand-ins, then a recorded day, decoded, summed up and drawn.

mod bench;

use std::fs;
use std::io::Write;
use std::path::Path;

use anstyle::{AnsiColor, Style};
#[cfg(feature = "live")]
use clap::Parser;
use yemdo::configure::WriteScope;
use yemdo::record::LogReader;
use yemdo::routine::Runner;
use yemdo::series::Running;
use yemdo::{Decoder, Part, to_hex};

use super::configure;
use super::plot::over_time;
use crate::args::Demo;
#[cfg(feature = "live")]
use crate::args::{Args, Command};
use crate::failure::Failure;
use crate::input;
use crate::output::{shown, write_files};
use crate::show::grid::{Align, Grid};
use crate::show::status::status_cell;
use crate::show::{figure, requests, writes};
use yemdo_log::{Clocks, Moment};
use yemdo_log::{Raw, RawFrames, Track, Tracks, span};

/// Sheets and logs are part of the command, so that the demo runs from anywhere.
const PARTS: [(&str, &str, &str); 2] = [
    ("strake-20.toml", include_str!("../../sheets/strake-20.toml"), include_str!("../../demo/strake-20.csv")),
    ("thole-9.toml", include_str!("../../sheets/thole-9.toml"), include_str!("../../demo/thole-9.csv")),
];

/// Part of the set-up: sheet, settings, and received frames.
const LANTERN: (&str, &str, &str) =
    ("lantern-16.toml", include_str!("../../sheets/lantern-16.toml"), include_str!("../../demo/lantern-16.csv"));
const WISHES: [&str; 3] = ["GAIN=fivefold", "TIME=162 ms", "upper_limit=250 lx"];

pub(crate) fn run(args: &Demo) -> Result<u8, Failure> {
    let mut out = anstream::stdout().lock();
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    bench::run(&mut out)?;
    writeln!(
        out,
        "\n{bold}A day in the ship's hall{bold:#}  {dim}a made-up recording of raw I2C frames, decoded from the sheets of two parts{dim:#}"
    )?;
    let mut day = Tracks::default();
    for (name, sheet, log) in PARTS {
        let part = Part::parse(name, sheet).map_err(|error| Failure::Sheet(Box::new(error)))?;
        day.decode(log.as_bytes(), &Raw { part: &part, set: &[], name: None })?;
        writeln!(out)?;
        summary(&mut out, &part, &day)?;
    }
    set_up(&mut out)?;
    let mut figure = over_time::figure(&day, &Clocks::new(true))?;
    figure.title = "A day in the ship's hall, from raw frames".to_owned();
    leave(&mut out, args, &figure)?;
    drop(out);
    // On a terminal, the bench runs in real time.
    #[cfg(feature = "live")]
    if std::io::IsTerminal::is_terminal(&std::io::stdout()) && std::io::IsTerminal::is_terminal(&std::io::stdin()) {
        let bench = args.out.join("hall.toml");
        let read = Args::try_parse_from(["yemdo".as_ref(), "read".as_ref(), "--live".as_ref(), "--bench".as_ref(), bench.as_os_str()]);
        if let Ok(Args { command: Command::Read(read), .. }) = read {
            std::thread::sleep(std::time::Duration::from_secs(2));
            return super::read::run(&read);
        }
    }
    Ok(0)
}

/// Writes files for first steps, and prints commands to try.
fn leave(out: &mut dyn Write, args: &Demo, figure: &figure::Figure) -> Result<(), Failure> {
    let load = |(name, text): (&str, &str)| Part::parse(name, text).map_err(|error| Failure::Sheet(Box::new(error)));
    let (lantern, thole) = (load((LANTERN.0, LANTERN.1))?, load((PARTS[1].0, PARTS[1].1))?);
    let firmware = yemdo::emit::firmware(&thole, yemdo::emit::Language::C, &yemdo::emit::FirmwareOptions::default());
    let mut files: Vec<(String, Vec<u8>)> = vec![
        ("day.svg".into(), figure::bytes_for(Path::new("day.svg"), figure)?),
        ("day.png".into(), figure::bytes_for(Path::new("day.png"), figure)?),
        ("lantern-16.html".into(), yemdo::emit::page(&lantern).into_bytes()),
    ];
    let firmware = firmware.map_err(|error| Failure::Emit(Box::new(error)))?;
    files.extend(firmware.into_iter().map(|file| (format!("firmware/{}", file.name), file.text.into_bytes())));
    files.extend(bench::files().into_iter().map(|(name, text)| (name, text.into_bytes())));
    for folder in ["", "firmware", "sheets"] {
        let folder = args.out.join(folder);
        fs::create_dir_all(&folder).map_err(|error| Failure::file("make the folder", &folder, &error))?;
    }
    let placed: Vec<_> = files.iter().map(|(name, bytes)| (args.out.join(name), bytes)).collect();
    let all: Vec<_> = placed.iter().map(|(path, bytes)| (path.as_path(), bytes.as_slice(), args.overwrite)).collect();
    write_files(&all)?;
    let dim = Style::new().dimmed();
    let folder = shown(&args.out);
    writeln!(out, "\nwrote to {folder}:")?;
    let mut grid = Grid::new(2, &[Align::Left, Align::Left]);
    for (file, what) in [
        ("day.png, day.svg", "the day, drawn"),
        ("lantern-16.html", "the light sensor as a page, with a calculator"),
        ("firmware/thole_9.h, .c", "the frost guard as C99 for a microcontroller"),
        ("hall.toml, sheets/", "the bench and its sheets, to change"),
    ] {
        grid.row(vec![file.into(), what.into()]);
    }
    grid.write(out)?;
    writeln!(out, "\nnext:")?;
    for command in [
        "decode FOLDER/sheets/strake-20.toml 89 87 1C 3E 0C 12 24 --steps",
        "read --bench FOLDER/hall.toml --for '10 s' --log hall.csv",
        "plot hall.csv",
        "plot FOLDER/sheets/lantern-16.toml --reading illuminance",
        "read --bench FOLDER/hall.toml --live",
    ] {
        let note = if command.ends_with("--live") && !cfg!(feature = "live") { "   (built with --features live)" } else { "" };
        writeln!(out, "  yemdo {}{dim}{note}{dim:#}", command.replace("FOLDER", &folder.to_string()))?;
    }
    Ok(())
}

/// Prints the writes and the routine of a part, and decodes received frames with these settings.
fn set_up(out: &mut dyn Write) -> Result<(), Failure> {
    let (name, sheet, log) = LANTERN;
    let part = Part::parse(name, sheet).map_err(|error| Failure::Sheet(Box::new(error)))?;
    let (bold, cyan) = (Style::new().bold(), AnsiColor::Cyan.on_default().bold());
    writeln!(out, "\n{cyan}{}{cyan:#}  {bold}{}{bold:#}, set up: {}\n", part.name(), part.title().unwrap_or(""), WISHES.join(", "))?;
    let (reset, done) = input::worked_out(&part, None, &WISHES.map(str::to_owned), WriteScope::Changed)?;
    let bus = Some(configure::bus(&part, None)?);
    writes::table(out, &part, bus, &reset, &done)?;
    writeln!(out, "\n{bold}measure{bold:#}, its routine")?;
    let runner = Runner::new(&part, part.routine("measure")?, done.state);
    let runner = runner.map_err(|error| Failure::error(error.to_string()))?;
    let (list, total) = runner.dry_run().map_err(|error| Failure::refused(error.to_string()))?;
    requests::table(out, &part, &list, total)?;
    writeln!(out, "\n{bold}received frames{bold:#}, decoded with these settings")?;
    let mut decoder = Decoder::new(&part);
    input::apply(&mut decoder, &WISHES.map(str::to_owned))?;
    let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Right, Align::Left, Align::Left]);
    let mut records = RawFrames::new(log.as_bytes(), LogReader::new(&part, None));
    while let Some(record) = records.next_frame()? {
        let Ok(bytes) = record.bytes else { continue };
        let decoded = decoder.decode(record.frame, &bytes).map_err(|refusal| Failure::refused(refusal.to_string()))?;
        let Some(reading) = decoded.readings.first() else { continue };
        let value = reading.value.map_or("–".to_owned(), |value| reading.digits.text(value));
        let time = record.time.unwrap_or_default();
        let clock = time.split_once('T').map_or(time.as_str(), |(_, clock)| clock).to_owned();
        let unit = if reading.value.is_some() { reading.unit.as_str() } else { "" };
        grid.row(vec![clock.into(), to_hex(&bytes).into(), value.into(), unit.into(), status_cell(reading.status)]);
    }
    Ok(grid.write(out)?)
}

fn summary(out: &mut dyn Write, part: &Part, day: &Tracks) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let own: Vec<&Track> = day.tracks.iter().filter(|track| track.part == part.name()).collect();
    let refused: Vec<(&str, usize)> =
        day.refused.iter().filter(|((name, _), _)| name == part.name()).map(|((_, cause), times)| (cause.as_str(), times.len())).collect();
    let lost: usize = refused.iter().map(|(_, count)| count).sum();
    let frames = own.first().map_or(0, |track| track.count) + lost as u64;
    let (first, last) = span(own.iter().flat_map(|track| track.times())).unwrap_or_default();
    let time = |seconds: f64| Clocks::new(true).text(Moment::of_seconds(seconds)).chars().take(19).collect::<String>();
    writeln!(out, "{bold}{}{bold:#}  {}", part.name(), part.title().unwrap_or(""))?;
    writeln!(out, "  {frames} frames, {} to {}", time(first).replace('T', " "), time(last).split('T').next_back().unwrap_or(""))?;
    let mut grid = Grid::new(2, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Left, Align::Left]);
    grid.titles(&["reading", "minimum", "maximum", "latest", "", "readings by status"]);
    for track in own {
        let id = part.reading_or_derived(&track.reading)?;
        let digits = yemdo::review::predict(part, id).map_or(yemdo::Digits::UNKNOWN, |prediction| prediction.digits);
        let all: Running = track.samples.iter().map(|sample| sample.value).collect();
        let marked: usize = track.marks.values().map(Vec::len).sum();
        let statuses = std::iter::once(("ok", track.count as usize - marked));
        let statuses = statuses.chain(track.marks.iter().map(|(status, marks)| (status.as_str(), marks.len())));
        let statuses: Vec<String> = statuses.map(|(status, count)| format!("{count} {status}")).collect();
        grid.row(vec![
            track.reading.clone().into(),
            digits.text(all.least).into(),
            digits.text(all.greatest).into(),
            track.samples.last().map_or("–".to_owned(), |sample| digits.text(sample.value)).into(),
            track.unit.clone().into(),
            statuses.join(", ").into(),
        ]);
    }
    grid.write(out)?;
    let causes: Vec<String> = refused.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
    let yellow = AnsiColor::Yellow.on_default();
    let share = 100.0 * lost as f64 / frames.max(1) as f64;
    writeln!(out, "  {yellow}{lost} frames refused{yellow:#}: {}  {dim}({share:.1} % of all){dim:#}", causes.join(", "))?;
    Ok(())
}
