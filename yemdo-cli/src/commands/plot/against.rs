//! A sensor against a better one of the same quantity: offset, gain, drift, and what to write into its sheet.

use std::io::Write;
use std::path::{Path, PathBuf};

use serde::Serialize;
use yemdo::Part;
use yemdo::series::{Comparison, Sample, compare, pieces, thin};
use yemdo::units::Unit;

use super::over_time::{about, axis, line, unit_title};
use crate::args::{CheckFormat, Plot};
use crate::failure::Failure;
use crate::output::json_line;
use crate::show::figure::{Figure, Line, Panel};
use crate::show::grid::{Align, Grid};
use crate::show::number::{digits, short};
use yemdo::counted;
use yemdo_log::{Clocks, Moment};
use yemdo_log::{TimeKind, Track, Tracks, span};

pub(super) fn run(
    args: &Plot,
    mut tracks: Tracks,
    other: &str,
    sheet: Option<&Part>,
    clocks: &Clocks,
    place: &Path,
) -> Result<u8, Failure> {
    let path = PathBuf::from(other);
    let mut reference = if path.is_file() {
        // The same reading of another log, or its only one.
        let mut log = super::read(args, std::slice::from_ref(&path), sheet, clocks)?;
        log.convert(&args.unit)?;
        let wanted = args.reading.first().map(|one| one.rsplit('/').next().unwrap_or(one).to_owned());
        match (wanted, log.tracks.len()) {
            (_, 1) => log.tracks.remove(0),
            (Some(name), _) => log.only(&name)?.clone(),
            (None, _) => return Err(Failure::error(format!("several readings in {other}: choose one")).help("--reading NAME")),
        }
    } else if tracks.tracks.iter().any(|track| track.reading == other || track.name() == other) {
        let found = tracks.only(other)?.clone();
        tracks.tracks.retain(|track| track.name() != found.name());
        found
    } else {
        let known: Vec<String> = tracks.tracks.iter().map(Track::name).collect();
        let failure = Failure::error(format!("`{}` is not a reading of the log or a file", yemdo::visible(other)));
        return Err(failure.help(format!("the log has {}", known.join(", "))));
    };
    let track = match (args.reading.as_slice(), tracks.tracks.as_slice()) {
        ([], [only]) => only,
        ([one], _) => tracks.only(one)?,
        (_, several) => {
            let names: Vec<String> = several.iter().map(Track::name).collect();
            return Err(
                Failure::error("several readings: choose one to compare").help(format!("--reading takes one of {}", names.join(", ")))
            );
        }
    };
    if reference.unit != track.unit {
        let wrong = || {
            let units = format!("{} is in {}, {} in {}", track.name(), track.unit, reference.name(), reference.unit);
            Failure::refused(format!("different dimensions: {units}"))
        };
        let to = Unit::find(&track.unit).ok_or_else(wrong)?;
        if !reference.clone().convert(to) {
            return Err(wrong());
        }
        reference.convert(to);
    }
    let found = compare(&track.samples, &reference.samples).ok_or_else(|| {
        let failure = Failure::refused(format!("{} and {} do not overlap in time", track.name(), reference.name()));
        failure.help("values are paired by time; values in a gap of the other log are skipped")
    })?;
    let typed = sheet.and_then(|part| part.formula_text(part.reading(&track.reading).ok()?));
    let pair = Pair { track, reference: &reference, found: &found, kind: tracks.kind, typed };
    super::write(args, place, &pair.figure(clocks))?;
    pair.tell(args, clocks)?;
    Ok(0)
}

struct Pair<'a> {
    track: &'a Track,
    reference: &'a Track,
    found: &'a Comparison,
    kind: TimeKind,
    /// Formula of the reading, if there is a sheet.
    typed: Option<String>,
}

impl Pair<'_> {
    fn span(&self) -> (f64, f64) {
        // There is a pair at least.
        span(self.found.pairs.iter().map(|pair| pair.0)).unwrap_or_default()
    }

    fn figure(&self, clocks: &Clocks) -> Figure {
        let span = self.span();
        let within = |track: &Track| {
            let mut cut = track.clone();
            cut.samples.retain(|sample| sample.time >= span.0 && sample.time <= span.1);
            cut.marks.clear();
            cut
        };
        let same = self.track.name() == self.reference.name();
        let mut lines: Vec<Line> =
            [self.reference, self.track].iter().enumerate().map(|(style, track)| line(&within(track), style, span, false)).collect();
        if let Some(first) = lines.first_mut() {
            first.label.push_str(if same { ", the reference" } else { " (reference)" });
        }
        let difference = |of: &dyn Fn(f64, f64) -> f64| -> Vec<Vec<(f64, f64)>> {
            let samples: Vec<Sample> =
                self.found.pairs.iter().map(|(time, value, known)| Sample { time: *time, value: of(*value, *known) }).collect();
            pieces(&samples).map(|piece| thin(piece, span, 1148).iter().map(|at| (at.time, at.value)).collect()).collect()
        };
        let correction = self.found.correction;
        let plain = Line { label: "difference".into(), style: 1, pieces: difference(&|value, known| value - known), ..Line::default() };
        let mended = Line {
            label: "after the correction".into(),
            style: 2,
            pieces: difference(&move |value, known| correction.apply(value) - known),
            ..Line::default()
        };
        let unit = unit_title(&self.track.unit);
        let values = Panel { title: unit.to_owned(), lines, share: 3, ..Panel::default() };
        let title = format!("Δ {unit}");
        let below = Panel { title, lines: vec![plain, mended], levels: vec![(0.0, String::new())], share: 2, ..Panel::default() };
        let about = about(self.kind, span, clocks, &counted(self.found.pairs.len() as u64, "pair"));
        let title = format!("{} against {}", self.track.name(), if same { "the other log".to_owned() } else { self.reference.name() });
        Figure { title, about, x: axis(self.kind, span, clocks), panels: vec![values, below], strips: Vec::new() }
    }

    fn tell(&self, args: &Plot, clocks: &Clocks) -> Result<(), Failure> {
        let mut out = anstream::stdout().lock();
        let (found, unit) = (self.found, self.track.unit.as_str());
        let time = |seconds: f64| match self.kind {
            TimeKind::Absolute => clocks.text(Moment::of_seconds(seconds)),
            TimeKind::Unplaced => Clocks::new(true).text(Moment::of_seconds(seconds)).trim_end_matches('Z').to_owned(),
            TimeKind::Seconds | TimeKind::Counted => short(seconds),
        };
        let per_hour = found.drift.map(|drift| drift * 3600.0);
        if args.format == CheckFormat::Json {
            return json_line(
                &mut out,
                &AgainstView {
                    reading: self.track.name(),
                    reference: self.reference.name(),
                    unit,
                    pairs: found.pairs.len(),
                    offset: found.difference.mean,
                    spread: found.difference.deviation(),
                    drift_per_hour: per_hour,
                    worst: found.worst.iter().map(|(at, value, known)| (time(*at), *value, *known)).collect(),
                    gain: found.correction.gain,
                    correction_offset: found.correction.offset,
                    remaining_spread: found.remaining.deviation(),
                    remaining_greatest: greatest(&found.remaining),
                },
            );
        }
        let three = |value: f64| digits(value, 3, 9);
        let with = |value: f64| if unit == "1" { three(value) } else { format!("{} {unit}", three(value)) };
        writeln!(out, "{} against {}: {}", self.track.name(), self.reference.name(), counted(found.pairs.len() as u64, "pair"))?;
        let mut grid = Grid::new(2, &[Align::Left, Align::Left]);
        grid.row(vec!["offset (mean difference)".into(), with(found.difference.mean).into()]);
        grid.row(vec!["spread (standard deviation)".into(), found.difference.deviation().map_or("–".into(), with).into()]);
        if let Some(drift) = per_hour.filter(|_| self.kind != TimeKind::Counted) {
            grid.row(vec!["drift".into(), format!("{} an hour", with(drift)).into()]);
        }
        for (at, (when, value, known)) in found.worst.iter().enumerate() {
            let what = if at == 0 { "largest differences" } else { "" };
            let pair = format!("{} at {}: {} where the reference has {}", with(value - known), time(*when), short(*value), short(*known));
            grid.row(vec![what.into(), pair.into()]);
        }
        grid.write(&mut out)?;
        let formula = self.formula();
        let kind = if found.correction.gain == 1.0 { "offset only (a gain would not improve it)" } else { "gain and offset" };
        writeln!(out, "\nsuggested correction: {kind}")?;
        // A single expression can be put into brackets; of several statements, the returned expression.
        match self.typed.as_deref().map(str::trim) {
            Some(typed) if !typed.contains(['\n', ';']) => writeln!(out, "  formula = \"({typed}){formula}\"\n")?,
            _ => writeln!(
                out,
                "  put the formula of {} (or the expression that it returns) in parentheses, and append{formula}\n",
                self.track.reading
            )?,
        }
        let rest = found.remaining.deviation().map_or("–".into(), with);
        writeln!(out, "remaining: spread {rest}, at most {}", with(greatest(&found.remaining)))?;
        Ok(())
    }

    /// Text after the present formula.
    fn formula(&self) -> String {
        let correction = self.found.correction;
        let number = |value: f64| {
            let text = digits(value.abs(), 6, 9);
            if text.contains('.') { text } else { format!("{text}.0") }
        };
        let offset = format!(" {} {}", if correction.offset < 0.0 { '-' } else { '+' }, number(correction.offset));
        match correction.gain == 1.0 {
            true => offset,
            false => format!(" * {}{}{offset}", if correction.gain < 0.0 { "-" } else { "" }, number(correction.gain)),
        }
    }
}

fn greatest(remaining: &yemdo::series::Running) -> f64 {
    remaining.least.abs().max(remaining.greatest.abs())
}

#[derive(Debug, Serialize)]
struct AgainstView<'a> {
    reading: String,
    reference: String,
    unit: &'a str,
    pairs: usize,
    offset: f64,
    spread: Option<f64>,
    drift_per_hour: Option<f64>,
    worst: Vec<(String, f64, f64)>,
    gain: f64,
    correction_offset: f64,
    remaining_spread: Option<f64>,
    remaining_greatest: f64,
}
