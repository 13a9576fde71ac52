//! `yemdo choose`: which setting should I use?

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::configure::{Choice, LastReading, Limits, WriteScope, choose, measured, measured_difference, next_range};
use yemdo::view::{ChangeView, ChoiceView};
use yemdo::{Part, with_unit};

use crate::args::{CheckFormat, Choose};
use crate::failure::Failure;
use crate::input;
use crate::output::json_line;
use crate::show::grid::{Align, Cell, Grid};
use crate::show::number::short;

pub(crate) fn run(args: &Choose) -> Result<u8, Failure> {
    let part = input::load(&args.sheet, args.variant.as_deref())?;
    let index = args.reading.as_deref().map(|reading| part.reading(reading)).transpose()?;
    let unit = index.and_then(|index| part.readings().get(index)).map_or("", |reading| reading.unit());
    let of_reading = [("--up-to", &args.up_to), ("--down-to", &args.down_to), ("--after", &args.after)];
    if let Some((option, _)) = of_reading.iter().find(|(_, given)| index.is_none() && given.is_some()) {
        return Err(Failure::error(format!("{option} needs a reading")).help("add its name after the sheet"));
    }
    let given = |name: &str, typed: &Option<String>, unit: &str| typed.as_deref().map(|typed| number(name, typed, unit)).transpose();
    let apart = |name: &str, typed: &Option<String>| {
        typed.as_deref().map(|typed| measured_difference(name, typed, unit).map_err(Failure::wish)).transpose()
    };
    let limits = Limits {
        up_to: given("--up-to", &args.up_to, unit)?,
        down_to: given("--down-to", &args.down_to, unit)?,
        step: apart("--step", &args.step)?,
        noise: apart("--noise", &args.noise)?,
        current: args.current,
        within_ms: given("--within", &args.within, "ms")?,
    };
    if let (Some(low), Some(high)) = (limits.down_to, limits.up_to)
        && low >= high
    {
        return Err(Failure::error(format!("--down-to {} is not below --up-to {}", with_unit(low, unit), with_unit(high, unit))));
    }
    let (_, done) = input::worked_out(&part, args.dump.as_deref(), &args.set, WriteScope::Changed)?;
    let choices = choose(&part, index, &done.state, &limits).map_err(|error| Failure::error(error.to_string()))?;
    let mut out = anstream::stdout().lock();
    let any = choices.iter().any(|choice| choice.fails.is_empty());
    match args.format {
        CheckFormat::Table => table(&mut out, &part, unit, &choices, args.all || !any)?,
        CheckFormat::Json => {
            for choice in choices.iter().filter(|choice| args.all || choice.fails.is_empty()) {
                json_line(&mut out, &ChoiceView::new(&part, choice))?;
            }
        }
    }
    if let Some(after) = &args.after {
        suggest(&mut out, &part, unit, &choices, after, args.format)?;
    }
    if !any {
        let nearest = choices.first().map_or(String::new(), |choice| format!("; the first of the table: {}", choice.fails.join(" and ")));
        return Err(Failure::refused(format!("no setting is within all limits{nearest}")).help("relax one limit"));
    }
    Ok(0)
}

/// A number with or without a unit, in `unit`.
fn number(name: &str, typed: &str, unit: &str) -> Result<f64, Failure> {
    measured(name, typed, unit).map_err(Failure::wish)
}

fn names_of(part: &Part, choice: &Choice) -> Vec<(String, String)> {
    let one = |(field, code): &(yemdo::FieldId, i128)| {
        let field = part.fields().get(*field)?;
        Some((field.name().to_owned(), field.value_text(*code)))
    };
    choice.codes.iter().filter_map(one).collect()
}

fn table(out: &mut dyn Write, part: &Part, unit: &str, choices: &[Choice], all: bool) -> Result<(), Failure> {
    let Some(first) = choices.first() else { return Ok(()) };
    let fields: Vec<String> = names_of(part, first).into_iter().map(|(name, _)| name).collect();
    let has = |pick: &dyn Fn(&Choice) -> Option<f64>| choices.iter().any(|choice| pick(choice).is_some());
    let (noise, current, ms) = (has(&|c| c.noise), has(&|c| c.current), has(&|c| c.ms));
    let mut aligns: Vec<Align> = fields.iter().map(|_| Align::Left).collect();
    aligns.extend([Align::Right; 6]);
    aligns.push(Align::Left);
    let mut titles: Vec<String> = fields;
    let ranges = choices.iter().any(|choice| choice.range.is_some());
    let steps = choices.iter().any(|choice| choice.step.is_some());
    titles.extend(ranges.then(|| ["from", "to"].map(|title| with_unit(title, unit))).into_iter().flatten());
    titles.extend(steps.then(|| with_unit("step", unit)));
    titles.extend(
        noise.then(|| with_unit("noise", unit)).into_iter().chain(current.then(|| "current".into())).chain(ms.then(|| "time ms".into())),
    );
    titles.push(String::new());
    let columns = titles.len();
    let mut grid =
        Grid::new(0, aligns.get(..columns.saturating_sub(1)).map(|head| [head, &[Align::Left]].concat()).as_deref().unwrap_or(&aligns));
    grid.titles(&titles.iter().map(String::as_str).collect::<Vec<_>>());
    let (bold, red) = (Style::new().bold(), AnsiColor::BrightRed.on_default());
    for choice in choices.iter().filter(|choice| all || choice.fails.is_empty()) {
        let style = if choice.in_use { bold } else { Style::new() };
        let cell = |text: String| Cell { text, style };
        let number = |value: Option<f64>| cell(value.map_or("–".to_owned(), short));
        let mut row: Vec<Cell> = names_of(part, choice).into_iter().map(|(_, value)| cell(value)).collect();
        let ends = [choice.range.map(|(low, _)| low), choice.range.map(|(_, high)| high)];
        row.extend(ranges.then(|| ends.map(number)).into_iter().flatten());
        row.extend(steps.then(|| number(choice.step)));
        row.extend(
            noise
                .then(|| number(choice.noise))
                .into_iter()
                .chain(current.then(|| number(choice.current)))
                .chain(ms.then(|| number(choice.ms))),
        );
        row.push(match (choice.in_use, choice.fails.is_empty()) {
            (true, true) => cell("in use now".into()),
            (false, true) => "".into(),
            (in_use, false) => {
                let now = if in_use { "in use now; " } else { "" };
                Cell { text: format!("{now}{}", choice.fails.join(", ")), style: red }
            }
        });
        grid.row(row);
    }
    grid.write(out)?;
    let left_out = choices.iter().filter(|choice| !choice.fails.is_empty()).count();
    if !all && left_out > 0 {
        let more = if left_out == 1 { "one more setting does" } else { "more settings do" };
        let count = if left_out == 1 { String::new() } else { format!("{left_out} ") };
        let _ = writeln!(anstream::stderr(), "{count}{more} not meet the limits; --all shows them");
    }
    Ok(())
}

/// What to change after a reading.
fn suggest(out: &mut dyn Write, part: &Part, unit: &str, choices: &[Choice], after: &str, format: CheckFormat) -> Result<(), Failure> {
    let said = match after {
        "saturated" => LastReading::Saturated,
        _ => LastReading::Value(number("--after", after, unit)?),
    };
    // The quickest of each range is what one changes to.
    let Some(now) = choices.iter().position(|choice| choice.in_use) else {
        return Err(Failure::error("the present setting is not in the table").help("add the present settings with --set or --dump"));
    };
    let scales: Vec<f64> = choices.iter().map(|choice| choice.range.map_or(0.0, |(_, high)| high)).collect();
    let next = next_range(&scales, now, said);
    let Some(choice) = choices.get(next) else { return Ok(()) };
    if format == CheckFormat::Json {
        return json_line(out, &ChangeView::new(part, after, choice));
    }
    let text: Vec<String> = names_of(part, choice).into_iter().map(|(name, value)| format!("{name}={value:?}")).collect();
    match (next == now, said) {
        (true, LastReading::Saturated) => writeln!(out, "after a saturated reading: this is the largest range")?,
        (true, _) => writeln!(out, "after {after}: keep {}", text.join(" "))?,
        _ => {
            let top = choice.range.map_or(String::new(), |(_, high)| format!(", up to {}", with_unit(short(high), unit)));
            writeln!(out, "after {after}: change to {}{top}", text.join(" "))?;
        }
    }
    Ok(())
}
