//! `yemdo explain`: a register value, bit by bit.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::explain::{Explained, explain};
use yemdo::record::{find_register, parse_register};
use yemdo::view::ExplainedView;
use yemdo::{Part, RegisterId, State, with_unit};

use crate::args::{CheckFormat, Explain};
use crate::failure::Failure;
use crate::input;
use crate::link::{Connected, Stop, tell_verdict};
use crate::output::json_line;
use crate::show::diagram;
use crate::show::grid::{Align, Cell, Grid};
use crate::show::number::short;

pub(crate) fn run(args: &Explain) -> Result<u8, Failure> {
    let part = input::load(&args.sheet, args.variant.as_deref())?;
    let stop = Stop::default();
    let (mut values, part) = match args.link.connect(&part, &stop)? {
        Some(connected) => read(connected, &args.values)?,
        None => {
            let mut values = Vec::new();
            for typed in &args.values {
                values.extend(parse_register(&part, typed).map_err(|error| Failure::helped(error.message, error.help))?);
            }
            (values, part)
        }
    };
    if let Some(path) = &args.dump {
        values.extend(input::dump(&part, path)?);
    }
    // Every value is known before the first is explained: a field of several registers needs them all.
    let mut settings = State::reset(&part);
    for (register, value) in &values {
        if let Some(register) = part.registers().get(*register) {
            settings.read_register(register, *value);
        }
    }
    let mut out = anstream::stdout().lock();
    let mut wrong = false;
    for (index, (register, value)) in values.iter().enumerate() {
        let Some(explained) = explain(&part, *register, *value, &mut settings) else { continue };
        wrong |= !explained.wrong.is_empty();
        match args.format {
            CheckFormat::Table => {
                if index > 0 {
                    writeln!(out)?;
                }
                table(&mut out, &part, &explained)?;
            }
            CheckFormat::Json => json_line(&mut out, &ExplainedView::from(&explained))?,
        }
    }
    Ok(u8::from(wrong))
}

/// Reads registers from the part: those that are named, or all that can be read.
fn read(connected: Connected, names: &[String]) -> Result<(Vec<(RegisterId, u64)>, Part), Failure> {
    let Connected { mut device, rig, .. } = connected;
    let part = device.part().clone();
    let mut wanted = Vec::new();
    for name in names {
        if name.contains('=') {
            return Err(Failure::error(format!("`{name}` has a value, but --at reads values from the part"))
                .help("give the name of the register alone"));
        }
        wanted.push(find_register(&part, name).map_err(|error| Failure::helped(error.message, error.help))?);
    }
    if wanted.is_empty() {
        wanted = device.readable_registers();
    }
    if wanted.is_empty() {
        return Err(Failure::error(format!("{} has no registers", part.name())).help("`yemdo read` measures with it"));
    }
    let values = device.read_registers(&wanted)?;
    tell_verdict(rig.as_ref());
    Ok((values, part))
}

pub(crate) fn table(out: &mut dyn Write, part: &Part, explained: &Explained<'_>) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let register = explained.register;
    let (width, digits) = (register.width() as usize, register.bytes() * 2);
    let means = register.means().map_or(String::new(), |means| format!("  {means}"));
    writeln!(out, "{bold}{}{bold:#} at 0x{:02X} = 0x{:0digits$X}{means}", register.name(), register.address(), explained.value)?;
    for (field, code) in register.bank() {
        if let Some(field) = part.fields().get(*field) {
            writeln!(out, "  accessible while {} = {code}", field.name())?;
        }
    }
    // The bits in groups of four, and below them, field by field, whose they are.
    let label = explained.fields.iter().map(|field| field.field.name().len()).max().unwrap_or(0).max(8);
    let row = |cell: &dyn Fn(usize) -> String| diagram::bits(width, cell);
    let numbers = diagram::numbers(width);
    for (at, text) in numbers.iter().enumerate() {
        writeln!(out, "  {dim}{:label$}  {text}{dim:#}", if at + 1 == numbers.len() { "bit" } else { "" })?;
    }
    writeln!(out, "  {:label$}  {}", "value", diagram::value(width, explained.value))?;
    if let Some(changed) = explained.changed().filter(|changed| *changed != 0) {
        let reset = register.reset().unwrap_or(0);
        let yellow = AnsiColor::Yellow.on_default();
        let cell = |bit: usize| {
            if changed >> bit & 1 == 1 { format!("{yellow}{}{yellow:#}", reset >> bit & 1) } else { format!("{dim}·{dim:#}") }
        };
        writeln!(out, "  {:label$}  {}", "reset", row(&cell))?;
    }
    let cyan = AnsiColor::Cyan.on_default();
    for field in &explained.fields {
        let mask = field.field.mask_in(register);
        let cell = |bit: usize| {
            if mask >> bit & 1 == 1 { format!("{cyan}{}{cyan:#}", explained.value >> bit & 1) } else { format!("{dim}·{dim:#}") }
        };
        writeln!(out, "  {:label$}  {}", field.field.name(), row(&cell))?;
    }
    if !explained.fields.is_empty() {
        writeln!(out)?;
        let mut grid = Grid::new(2, &[Align::Left, Align::Left, Align::Right, Align::Left, Align::Left]);
        grid.titles(&["field", "bits", "code", "value", "meaning"]);
        for field in &explained.fields {
            let name = match (field.value, field.field.values().is_empty()) {
                _ if field.code.is_none() => Cell { text: "invalid".into(), style: AnsiColor::Yellow.on_default() },
                (Some(row), _) => Cell::from(row.name.as_deref().unwrap_or("")),
                (None, true) => Cell::from(field.code.and_then(|code| field.field.real(code)).map_or(String::new(), short)),
                (None, false) => Cell { text: "not in its table".into(), style: AnsiColor::Yellow.on_default() },
            };
            let mut words: Vec<String> = field.value.and_then(|value| value.means.clone()).into_iter().collect();
            let columns = field.field.columns().entries();
            words.extend(columns.filter_map(|(id, column)| Some(format!("{} {}", column.name, (*field.value?.columns.get(id)?)?))));
            words.extend(field.field.means().map(str::to_owned));
            let access = field.field.access();
            if access != register.access() {
                words.push(access.as_str().to_owned());
            }
            if let Some(reset) = field.reset.filter(|reset| register.reset().is_some() && Some(*reset) != field.code) {
                words.push(format!("{reset} after a reset"));
            }
            grid.row(vec![
                field.field.name().into(),
                field.bits_text().into(),
                field.code.map_or("–".to_owned(), |code| code.to_string()).into(),
                name,
                words.join("; ").into(),
            ]);
        }
        grid.write(out)?;
    }
    for held in &explained.quantities {
        let with = if held.with.is_empty() { String::new() } else { format!("  with {}", held.with.join(", ")) };
        writeln!(out, "  {bold}{}{bold:#}: {}{with}", held.quantity.name(), with_unit(short(held.value), held.quantity.unit()))?;
    }
    let red = AnsiColor::BrightRed.on_default();
    for (mask, stands, wanted) in &explained.wrong {
        writeln!(
            out,
            "  {red}reserved bits 0x{mask:0digits$X} hold 0x{stands:0digits$X}, but 0x{wanted:0digits$X} must be written there{red:#}"
        )?;
    }
    if explained.unknown != 0 {
        writeln!(out, "  {red}unknown bits 0x{:0digits$X} are set{red:#}", explained.unknown)?;
    }
    match explained.changed() {
        Some(0) => writeln!(out, "  {dim}as after a reset{dim:#}")?,
        Some(_) => writeln!(out, "  {dim}after a reset it is 0x{:0digits$X}{dim:#}", register.reset().unwrap_or(0))?,
        None => {}
    }
    Ok(())
}
