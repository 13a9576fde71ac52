//! Register writes, bit by bit, with their meanings.

use anstyle::{AnsiColor, Style};
use yemdo::Digits;
use yemdo::bus::Bus;
use yemdo::configure::{Configuration, Write, WriteReason, write_register};
use yemdo::part::{Access, Field, Register};
use yemdo::{Part, State, to_hex, with_unit};

use super::grid::{Align, Grid};
use super::number::short;
use crate::failure::Failure;
use crate::show::diagram;

pub(crate) fn with_registers<'a>(part: &'a Part, done: &'a Configuration) -> impl Iterator<Item = (&'a Write, &'a Register)> {
    done.writes.iter().filter_map(|write| Some((write, part.registers().get(write.register)?)))
}

fn value_name(field: &Field, code: i128) -> String {
    match (field.value(code), field.real(code)) {
        (None, Some(real)) => short(real),
        _ => field.value_text(code),
    }
}

pub(crate) fn table(
    out: &mut dyn std::io::Write,
    part: &Part,
    bus: Option<Bus>,
    start: &State,
    done: &Configuration,
) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let (yellow, green) = (AnsiColor::Yellow.on_default(), AnsiColor::Green.on_default());
    let mut before = start.clone();
    for (index, (write, register)) in with_registers(part, done).enumerate() {
        let (width, digits) = (register.width() as usize, register.bytes() * 2);
        let from = write.before.map_or("?".to_owned(), |before| format!("0x{before:0digits$X}"));
        let why = match write.reason {
            Some(WriteReason::Unlocks) => "  temporary, to unlock another register",
            Some(WriteReason::Restores) => "  restored",
            _ => "",
        };
        let number = index + 1;
        writeln!(
            out,
            "{bold}{number}. {}{bold:#} at 0x{:02X}: {from} → 0x{:0digits$X}{why}",
            register.name(),
            register.address(),
            write.value
        )?;
        let fields: Vec<&Field> = part.fields().of(register.fields()).collect();
        let mut after = before.clone();
        after.set_register(register, write.value);
        let changed: Vec<&&Field> = fields.iter().filter(|field| before.field(field) != after.field(field)).collect();
        let numbers = diagram::numbers(width);
        for (at, text) in numbers.iter().enumerate() {
            writeln!(out, "   {dim}{:7} {text}{dim:#}", if at + 1 == numbers.len() { "bit" } else { "" })?;
        }
        if let Some(value) = write.before {
            writeln!(out, "   {:7} {}", "before", diagram::value(width, value))?;
        }
        let difference = write.before.map_or(0, |before| before ^ write.value);
        let cell = |bit: usize| {
            let text = write.value >> bit & 1;
            if difference >> bit & 1 == 1 { format!("{yellow}{text}{yellow:#}") } else { text.to_string() }
        };
        writeln!(out, "   {:7} {}", "after", diagram::bits(width, &cell))?;
        let mut grid = Grid::new(3, &[Align::Left, Align::Left, Align::Left]);
        for field in changed {
            let text = match write.before {
                Some(_) => format!("{} → {}", value_name(field, before.field(field)), value_name(field, after.field(field))),
                None => value_name(field, after.field(field)),
            };
            let text = if field.access() == Access::SelfClearing { format!("{text}, self-clearing") } else { text };
            grid.row(vec![field.name().into(), field.bits_text(register).into(), text.into()]);
        }
        grid.write(out)?;
        let transfer = bus.and_then(|bus| write_register(part, bus, register, write.value));
        // The address as it stands on the wire, with the write bit, for those who look at it there.
        if let Some(transfer) = transfer {
            let address = transfer.address.filter(|_| transfer.bus == Bus::I2c);
            let wire = address
                .map_or(String::new(), |address| format!("  {dim}(on the wire {:02X} {}){dim:#}", address << 1, to_hex(&transfer.send)));
            writeln!(out, "   {green}{} {}{green:#}{wire}", transfer.bus.name(), transfer.text())?;
        }
        write.apply(part, &mut after);
        before = after;
        writeln!(out)?;
    }
    for (field, code) in &done.unstored {
        if let Some(field) = part.fields().get(*field) {
            let value = field.value_text(*code);
            writeln!(
                out,
                "{bold}{0}{bold:#}: {value}; no register holds it: give it where commands are sent, as --set {0}={value}",
                field.name()
            )?;
        }
    }
    if done.writes.is_empty() && done.unstored.is_empty() {
        writeln!(out, "nothing to write: already set, assuming reset values; --all writes anyway")?;
    }
    results(out, part, done)
}

/// What quantities became, what follows from others, and what moved with them.
pub(crate) fn results(out: &mut dyn std::io::Write, part: &Part, done: &Configuration) -> Result<(), Failure> {
    let (bold, yellow) = (Style::new().bold(), AnsiColor::Yellow.on_default());
    for met in &done.quantities {
        let Some(quantity) = part.quantities().get(met.quantity) else { continue };
        let (unit, decimals) = (quantity.unit(), decimals(met.step));
        let off = met.value - met.asked;
        let how = met.method.found().map_or(String::new(), |how| format!(", {how}"));
        let step = met.step.map_or(String::new(), |step| format!("; one code is {} here", with_unit(format!("{step:.decimals$}"), unit)));
        let rounding =
            if off.abs() < 1e-9 * met.value.abs().max(1e-9) { "exactly".to_owned() } else { with_unit(format!("{off:+.decimals$}"), unit) };
        writeln!(
            out,
            "{bold}{}{bold:#}: requested {}, set to {bold}{}{bold:#} ({rounding}{step}{how})",
            quantity.name(),
            with_unit(short(met.asked), unit),
            with_unit(format!("{:.decimals$}", met.value), unit)
        )?;
    }
    for (field, code, exact) in &done.computed {
        if let Some(field) = part.fields().get(*field) {
            let rounded = if *exact == *code as f64 { String::new() } else { format!(", rounded from {}", short(*exact)) };
            writeln!(out, "{bold}{}{bold:#}: {code}, computed from parameters{rounded}", field.name())?;
        }
    }
    for (quantity, from, to) in &done.moved {
        if let Some(quantity) = part.quantities().get(*quantity) {
            let unit = quantity.unit();
            let (from, to) = (short(*from), short(*to));
            writeln!(out, "{yellow}{} also changes: {} → {}{yellow:#}", quantity.name(), with_unit(from, unit), with_unit(to, unit))?;
        }
    }
    Ok(())
}

/// Decimals that show a step whole, or a tenth of it.
fn decimals(step: Option<f64>) -> usize {
    let Some(step) = step else { return 3 };
    let tenth = (1.0 - step.log10().floor()).clamp(0.0, 6.0) as usize;
    match Digits::of([step].into_iter(), None) {
        Digits::Decimals(whole) if whole <= tenth + 1 => whole,
        _ => tenth,
    }
}
