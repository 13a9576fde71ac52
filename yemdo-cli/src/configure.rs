//! `yemdo configure`: from wishes to register bytes.

use std::io::Write as _;
use std::path::Path;

use anstyle::{AnsiColor, Style};
use serde_json::{Value, json};
use yemdo::configure::wire::{Bus, Paste, write_register};
use yemdo::configure::{Configuration, Method, Which, Why, Wish, Write, configure, read_back};
use yemdo::model::registers::{Access, Field, Register};
use yemdo::{Part, Settings};

use crate::args::{self, CheckFormat};
use crate::explain::read_dump;
use crate::failure::Failure;
use crate::grid::{Align, Grid};
use crate::{diagram, sheets};

pub(crate) fn run(args: &args::Configure) -> Result<u8, Failure> {
    let part = sheets::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let which = if args.all { Which::All } else { Which::Changed };
    let (start, done) = worked_out(&part, args.dump.as_deref(), &args.wishes, which)?;
    let bus = match (args.bus, args.paste) {
        // A sheet that says nothing of a bus has registers all the same; only bytes there are none.
        (None, None) if Bus::of(&part).is_empty() => None,
        _ => Some(bus(&part, args.bus)?),
    };
    let mut out = anstream::stdout().lock();
    match (args.format, args.paste) {
        (CheckFormat::Json, _) => writeln!(out, "{}", as_json(&part, bus, &done))?,
        (_, Some(paste)) => {
            for (write, register) in with_registers(&part, &done) {
                let Some(bus) = bus else { continue };
                let transfer = write_register(&part, bus, register, write.value);
                writeln!(out, "{}", paste.form().text(&format!("{}_{}", part.name(), register.name()), &transfer.send))?;
            }
        }
        _ => table(&mut out, &part, bus, &start, &done)?,
    }
    match &args.read_back {
        Some(path) => compare(&part, &done, path, args.format),
        None => Ok(0),
    }
}

/// What is wished, worked out from the registers as they are; those too.
pub(crate) fn worked_out(part: &Part, dump: Option<&Path>, typed: &[String], which: Which) -> Result<(Settings, Configuration), Failure> {
    let start = present(part, dump)?;
    let wishes = wishes(part, typed)?;
    let done = configure(part, &start, &wishes, which).map_err(|error| Failure::refused(error.to_string()))?;
    Ok((start, done))
}

/// The registers as they are: after a reset, or as a dump has them.
pub(crate) fn present(part: &Part, dump: Option<&Path>) -> Result<Settings, Failure> {
    let mut settings = Settings::reset(part);
    if let Some(path) = dump {
        for (register, value) in read_dump(part, path)? {
            part.registers().get(register).into_iter().for_each(|register| settings.set_register(register, value));
        }
    }
    Ok(settings)
}

/// Wishes as typed. All of them are read before the first complaint, so that all can be mended at once.
fn wishes(part: &Part, typed: &[String]) -> Result<Vec<Wish>, Failure> {
    let (mut wishes, mut wrong) = (Vec::new(), Vec::new());
    for typed in typed {
        match Wish::parse(part, typed) {
            Ok(wish) => wishes.push(wish),
            Err(error) => wrong.push(error),
        }
    }
    let mut wrong = wrong.into_iter().map(Failure::wish);
    let Some(first) = wrong.next() else { return Ok(wishes) };
    // The last one is told by the command itself.
    let last = wrong.try_fold(first, |told, next| writeln!(anstream::stderr(), "{told}").map(|()| next))?;
    Err(last)
}

/// The bus that was asked for, or the first of the sheet.
pub(crate) fn bus(part: &Part, asked: Option<args::BusName>) -> Result<Bus, Failure> {
    let there = Bus::of(part);
    let names: Vec<&str> = there.iter().map(|bus| bus.name()).collect();
    match asked.map(args::BusName::bus) {
        None => there.first().copied().ok_or_else(|| {
            Failure::told(format!("the sheet of {} describes no bus", part.name())).help("give it [i2c], [spi] or [modbus]")
        }),
        Some(bus) if there.contains(&bus) => Ok(bus),
        Some(bus) => {
            Err(Failure::told(format!("{} is not reached over {}", part.name(), bus.name())).help(format!("but over {}", names.join(", "))))
        }
    }
}

fn with_registers<'a>(part: &'a Part, done: &'a Configuration) -> impl Iterator<Item = (&'a Write, &'a Register)> {
    done.writes.iter().filter_map(|write| Some((write, part.registers().get(write.register)?)))
}

fn value_name(field: &Field, code: i128) -> String {
    match (field.row(code), field.real(code)) {
        (None, Some(real)) => short(real),
        _ => field.value_text(code),
    }
}

pub(crate) fn table(
    out: &mut dyn std::io::Write,
    part: &Part,
    bus: Option<Bus>,
    start: &Settings,
    done: &Configuration,
) -> Result<(), Failure> {
    let (bold, dim) = (Style::new().bold(), Style::new().dimmed());
    let (yellow, green) = (AnsiColor::Yellow.on_default(), AnsiColor::Green.on_default());
    let mut before = start.clone();
    for (index, (write, register)) in with_registers(part, done).enumerate() {
        let (width, digits) = (register.width() as usize, register.bytes() * 2);
        let from = write.before.map_or("?".to_owned(), |before| format!("0x{before:0digits$X}"));
        let why = match write.why {
            Some(Why::Opens) => "  for the time being: it opens the way to another register",
            Some(Why::Restores) => "  put back as it was",
            None => "",
        };
        let number = index + 1;
        writeln!(
            out,
            "{bold}{number}. {}{bold:#} at 0x{:02X}: {from} → 0x{:0digits$X}{why}",
            register.name(),
            register.address(),
            write.value
        )?;
        let fields: Vec<&Field> = register.fields().iter().filter_map(|field| part.fields().get(*field)).collect();
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
            let text = if field.access() == Access::SelfClearing { format!("{text}, and clears itself") } else { text };
            grid.row(vec![field.name().into(), field.bits_text(register).into(), text.into()]);
        }
        grid.write(out)?;
        let transfer = bus.map(|bus| write_register(part, bus, register, write.value));
        // The address as it stands on the wire, with the write bit, for those who look at it there.
        if let Some(transfer) = transfer {
            let address = transfer.address.filter(|_| transfer.bus == Bus::I2c);
            let wire = address.map_or(String::new(), |address| {
                format!("  {dim}(on the wire {:02X} {}){dim:#}", address << 1, yemdo::bits::hex::to_hex(&transfer.send))
            });
            writeln!(out, "   {green}{} {}{green:#}{wire}", transfer.bus.name(), transfer.text())?;
        }
        after.set_register(register, write.after);
        before = after;
        writeln!(out)?;
    }
    if done.writes.is_empty() {
        writeln!(out, "nothing to write: {} is so already, as far as one can know; --all writes it all the same", part.name())?;
    }
    for met in &done.met {
        let Some(quantity) = part.quantities().get(met.quantity) else { continue };
        let (unit, decimals) = (quantity.unit(), decimals(met.step));
        let off = met.value - met.asked;
        let how = match met.method {
            Method::Linear => "",
            Method::Monotonic => ", found by halving",
            Method::Searched => ", found by trying all codes",
        };
        let step = met.step.map_or(String::new(), |step| format!("; from here a code is {step:.decimals$} {unit}"));
        let rounding =
            if off.abs() < 1e-9 * met.value.abs().max(1e-9) { "exactly".to_owned() } else { format!("{off:+.decimals$} {unit}") };
        writeln!(
            out,
            "{bold}{}{bold:#}: {} {unit} asked, {bold}{:.decimals$} {unit}{bold:#} used ({rounding}{step}{how})",
            quantity.name(),
            short(met.asked),
            met.value
        )?;
    }
    for (field, code, exact) in &done.computed {
        if let Some(field) = part.fields().get(*field) {
            let rounded = if *exact == *code as f64 { String::new() } else { format!(", rounded from {}", short(*exact)) };
            writeln!(out, "{bold}{}{bold:#}: {code}, computed from what was supplied{rounded}", field.name())?;
        }
    }
    for (quantity, from, to) in &done.moved {
        if let Some(quantity) = part.quantities().get(*quantity) {
            let unit = quantity.unit();
            let (from, to) = (short(*from), short(*to));
            writeln!(out, "{yellow}{} changes with it: {from} {unit} → {to} {unit}{yellow:#}", quantity.name())?;
        }
    }
    Ok(())
}

/// Decimals that show half a step.
fn decimals(step: Option<f64>) -> usize {
    step.map_or(3, |step| (1.0 - step.log10().floor()).clamp(0.0, 6.0) as usize)
}

/// A number with six digits that count.
pub(crate) fn short(value: f64) -> String {
    if value == 0.0 {
        return "0".into();
    }
    let decimals = (5.0 - value.abs().log10().floor()).clamp(0.0, 9.0) as usize;
    let text = format!("{value:.decimals$}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

fn as_json(part: &Part, bus: Option<Bus>, done: &Configuration) -> Value {
    let writes: Vec<Value> = with_registers(part, done)
        .map(|(write, register)| {
            let send = bus.map(|bus| yemdo::bits::hex::to_hex(&write_register(part, bus, register, write.value).send));
            json!({
                "register": register.name(),
                "address": register.address(),
                "before": write.before,
                "value": write.value,
                "reads_back": write.after,
                "why": write.why.map(|why| match why { Why::Opens => "opens", Why::Restores => "restores" }),
                "send": send,
            })
        })
        .collect();
    let quantity = |index: usize| part.quantities().get(index).map_or(("", ""), |quantity| (quantity.name(), quantity.unit()));
    let met: Vec<Value> = done
        .met
        .iter()
        .map(|met| {
            let (name, unit) = quantity(met.quantity);
            let codes =
                met.codes.iter().filter_map(|(field, code)| Some((part.fields().get(*field)?.name().to_owned(), json!(*code as i64))));
            let codes: serde_json::Map<String, Value> = codes.collect();
            json!({ "quantity": name, "unit": unit, "asked": met.asked, "used": met.value, "step": met.step, "codes": codes })
        })
        .collect();
    let moved: Vec<Value> = done
        .moved
        .iter()
        .map(|(index, before, after)| json!({ "quantity": quantity(*index).0, "unit": quantity(*index).1, "before": before, "after": after }))
        .collect();
    let computed: serde_json::Map<String, Value> = done
        .computed
        .iter()
        .filter_map(|(field, code, _)| Some((part.fields().get(*field)?.name().to_owned(), json!(*code as i64))))
        .collect();
    let address = part.i2c().filter(|_| bus == Some(Bus::I2c)).map(|i2c| i2c.address);
    json!({ "part": part.name(), "bus": bus.map(Bus::name), "i2c_address": address, "writes": writes, "quantities": met, "computed": computed, "moved": moved })
}

/// Compares what should read back with a dump of what did.
fn compare(part: &Part, done: &Configuration, path: &Path, format: CheckFormat) -> Result<u8, Failure> {
    let found = read_dump(part, path)?;
    let mut out = anstream::stdout().lock();
    let (red, green) = (AnsiColor::Red.on_default(), AnsiColor::Green.on_default());
    let mut wrong = false;
    for (write, register) in with_registers(part, done).filter(|(write, _)| write.why != Some(Why::Opens)) {
        let Some((_, value)) = found.iter().find(|(index, _)| *index == write.register) else {
            let _ = writeln!(anstream::stderr(), "{}: not in the dump", register.name());
            continue;
        };
        let Some(compared) = read_back(part, write.register, write.before, write.after, *value) else { continue };
        wrong |= !compared.differences.is_empty();
        if format == CheckFormat::Json {
            let causes: Vec<&str> = compared.differences.iter().map(|difference| difference.cause()).collect();
            writeln!(out, "{}", json!({ "register": register.name(), "expected": compared.expected, "found": value, "causes": causes }))?;
            continue;
        }
        let digits = register.bytes() * 2;
        if compared.differences.is_empty() {
            writeln!(out, "{green}{} reads 0x{value:0digits$X}, as it should{green:#}", register.name())?;
        }
        for difference in &compared.differences {
            use yemdo::configure::Difference::{ForcedToOne, ForcedToZero};
            let place = match difference {
                ForcedToZero { mask, field } | ForcedToOne { mask, field } => {
                    let field =
                        field.and_then(|field| part.fields().get(field)).map_or(String::new(), |field| format!(" of {}", field.name()));
                    format!(" (bits 0x{mask:0digits$X}{field})")
                }
                _ => String::new(),
            };
            writeln!(
                out,
                "{red}{} reads 0x{value:0digits$X} where 0x{:0digits$X} should be{place}{red:#}\n  {}",
                register.name(),
                compared.expected,
                difference.cause()
            )?;
        }
    }
    Ok(u8::from(wrong))
}

impl args::PasteForm {
    fn form(self) -> Paste {
        match self {
            args::PasteForm::C => Paste::C,
            args::PasteForm::Rust => Paste::Rust,
            args::PasteForm::Hex => Paste::Hex,
        }
    }
}
