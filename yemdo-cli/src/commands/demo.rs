//! `yemdo demo`: the hall's bench on stand-ins, then a recorded day, decoded, summed up and drawn.

mod bench;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::configure::WriteScope;
use yemdo::record::LogReader;
use yemdo::routine::Runner;
use yemdo::{Columns, Decoder, Part, Status, to_hex};

use super::configure;
use crate::args::Demo;
use crate::failure::Failure;
use crate::input::{self, Log};
use crate::output::write_file;
use crate::show::grid::{Align, Cell, Grid};
use crate::show::plot::{self, Day, Series};
use crate::show::status::status_cell;
use crate::show::{requests, writes};

/// Sheets and logs are part of the command, so that the demo runs from anywhere.
const PARTS: [(&str, &str, &str); 2] = [
    ("strake-20.toml", include_str!("../../sheets/strake-20.toml"), include_str!("../../demo/strake-20.csv")),
    ("thole-9.toml", include_str!("../../sheets/thole-9.toml"), include_str!("../../demo/thole-9.csv")),
];

/// The part that is set up: its sheet, what is wished of it, and what it sent afterwards.
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
    let mut day = Day::default();
    for (name, sheet, log) in PARTS {
        let part = Part::parse(name, sheet).map_err(|error| Failure::Sheet(Box::new(error)))?;
        let decoded = decode(&part, log)?;
        writeln!(out)?;
        summary(&mut out, &part, &decoded)?;
        day.refused.extend(decoded.refused_at.iter().map(|(second, _)| (*second, part.name().to_owned())));
        for (series, reading) in decoded.series.into_iter().zip(part.readings()) {
            let label = format!("{}, {}", reading.name(), part.name());
            day.series.push(Series { label, unit: reading.unit().to_owned(), points: series.points });
        }
    }
    set_up(&mut out)?;
    fs::create_dir_all(&args.out).map_err(|error| Failure::file("make the folder", &args.out, &error))?;
    let svg = plot::svg(&day)?;
    let svg_path = args.out.join("day.svg");
    let png_path = args.out.join("day.png");
    write_file(&svg_path, svg.as_bytes(), args.overwrite)?;
    write_file(&png_path, &plot::png(&day)?, args.overwrite)?;
    writeln!(out, "\nwrote {} and {}", svg_path.display(), png_path.display())?;
    writeln!(out, "{dim}next: yemdo decode sheets/strake-20.toml 89 87 1C 3E 0C 12 24 --steps{dim:#}")?;
    Ok(0)
}

/// A part is set up, its routine laid out, and what it sent is decoded with these settings.
fn set_up(out: &mut dyn Write) -> Result<(), Failure> {
    let (name, sheet, log) = LANTERN;
    let part = Part::parse(name, sheet).map_err(|error| Failure::Sheet(Box::new(error)))?;
    let (bold, cyan) = (Style::new().bold(), AnsiColor::Cyan.on_default().bold());
    writeln!(out, "\n{cyan}{}{cyan:#}  {bold}{}{bold:#}, set up: {}\n", part.name(), part.title().unwrap_or(""), WISHES.join(", "))?;
    let (reset, done) = input::worked_out(&part, None, &WISHES.map(str::to_owned), WriteScope::Changed)?;
    let bus = Some(configure::bus(&part, None)?);
    writes::table(out, &part, bus, &reset, &done)?;
    writeln!(out, "\n{bold}measure{bold:#}, its routine")?;
    let runner = Runner::new(&part, part.routine("measure")?, done.settings.clone());
    let runner = runner.map_err(|error| Failure::told(error.to_string()))?;
    let (list, total) = runner.dry_run().map_err(|error| Failure::refused(error.to_string()))?;
    requests::table(out, &part, &list, total)?;
    writeln!(out, "\n{bold}what it sent{bold:#}, decoded with these settings")?;
    let mut decoder = Decoder::new(&part);
    *decoder.settings_mut() = done.settings;
    let mut grid = Grid::new(0, &[Align::Left, Align::Left, Align::Right, Align::Left, Align::Left]);
    let mut records = Log::new(log.as_bytes(), LogReader::new(&part, None));
    while let Some(record) = records.next()? {
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

/// A reading over the day.
#[derive(Debug, Default)]
struct Track {
    /// Second of the day, value, status; only where there is a value.
    points: Vec<(u32, f64, Status)>,
    status: BTreeMap<Status, u64>,
}

/// A part's log, decoded.
#[derive(Debug)]
struct DecodedLog {
    frames: u64,
    first: String,
    last: String,
    /// One a reading, in the sheet's order.
    series: Vec<Track>,
    refused: BTreeMap<&'static str, u64>,
    refused_at: Vec<(u32, &'static str)>,
}

fn decode(part: &Part, text: &str) -> Result<DecodedLog, Failure> {
    let mut decoder = Decoder::new(part);
    let mut log = Log::new(text.as_bytes(), LogReader::new(part, None));
    let Some(id) = part.frames().ids().next() else { return Err(Failure::told("the sheet describes no frame")) };
    let mut done = DecodedLog {
        frames: 0,
        first: String::new(),
        last: String::new(),
        series: part.readings().iter().map(|_| Track::default()).collect(),
        refused: BTreeMap::new(),
        refused_at: Vec::new(),
    };
    let length = part.frames().first().map_or(1, |frame| frame.length());
    let (mut bytes, mut seconds) = (Vec::new(), Vec::new());
    while let Some(record) = log.next()? {
        let time = record.time.unwrap_or_default();
        let second = second_of_day(&time);
        done.frames += 1;
        if done.first.is_empty() {
            done.first.clone_from(&time);
        }
        done.last = time;
        let Ok(frame) = record.bytes else {
            done.refuse(second, "not a frame");
            continue;
        };
        match decoder.frame_bytes(id, &frame) {
            Ok((frame, _)) => {
                bytes.extend_from_slice(&frame);
                seconds.push(second);
            }
            Err(refusal) => done.refuse(second, refusal.cause()),
        }
    }
    let mut columns = Columns::new();
    decoder.decode_many(id, &bytes, &mut columns).map_err(|refusal| Failure::refused(refusal.to_string()))?;
    for (index, second) in seconds.iter().enumerate() {
        let frame = bytes.get(index * length..(index + 1) * length).unwrap_or(&[]);
        if let Some(check) = columns.failed_check(index) {
            done.refuse(*second, decoder.check_refusal(id, check, frame).cause());
            continue;
        }
        for (reading, track) in done.series.iter_mut().enumerate() {
            let Some(value) = columns.values(reading).get(index) else { continue };
            let status = columns.status(reading, index);
            *track.status.entry(status).or_default() += 1;
            if status.has_value() {
                track.points.push((*second, *value, status));
            }
        }
    }
    Ok(done)
}

impl DecodedLog {
    fn refuse(&mut self, second: u32, cause: &'static str) {
        *self.refused.entry(cause).or_default() += 1;
        self.refused_at.push((second, cause));
    }
}

/// The second of the day of `2031-02-07T08:15:30`.
fn second_of_day(time: &str) -> u32 {
    let clock = time.split('T').next_back().unwrap_or("");
    clock.split(':').fold(0, |seconds, part| seconds * 60 + part.parse::<u32>().unwrap_or(0))
}

fn summary(out: &mut dyn Write, part: &Part, log: &DecodedLog) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    writeln!(out, "{bold}{}{bold:#}  {}", part.name(), part.title().unwrap_or(""))?;
    writeln!(out, "  {} frames, {} to {}", log.frames, log.first.replace('T', " "), log.last.split('T').next_back().unwrap_or(""))?;
    let mut grid = Grid::new(2, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Left, Align::Left]);
    grid.titles(&["reading", "minimum", "maximum", "latest", "", "readings by status"]);
    for (track, (id, reading)) in log.series.iter().zip(part.readings().entries()) {
        let digits = yemdo::review::predict(part, id).map_or(yemdo::Digits::UNKNOWN, |prediction| prediction.digits);
        // What is at the end of its range says nothing about the extremes.
        let sound = || track.points.iter().filter(|(_, _, status)| *status != Status::Saturated).map(|(_, value, _)| *value);
        let show = |value: Option<f64>| value.map_or("–".to_owned(), |value| digits.text(value));
        let statuses: Vec<String> = track.status.iter().map(|(status, count)| format!("{count} {}", status.as_str())).collect();
        grid.row(vec![
            reading.name().into(),
            show(sound().reduce(f64::min)).into(),
            show(sound().reduce(f64::max)).into(),
            show(track.points.last().map(|(_, value, _)| *value)).into(),
            reading.unit().into(),
            statuses.join(", ").into(),
        ]);
    }
    grid.write(out)?;
    let refused: u64 = log.refused.values().sum();
    let causes: Vec<String> = log.refused.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
    let cell = Cell { text: format!("{refused} frames refused"), style: AnsiColor::Yellow.on_default() };
    let share = 100.0 * refused as f64 / log.frames.max(1) as f64;
    writeln!(
        out,
        "  {}{}{}: {}  {dim}({share:.1} % of all){dim:#}",
        cell.style.render(),
        cell.text,
        cell.style.render_reset(),
        causes.join(", ")
    )?;
    Ok(())
}
