//! `yemdo configure`: from wishes to register bytes.

use std::io::Write as _;
use std::path::Path;

use anstyle::AnsiColor;
use yemdo::Part;
use yemdo::bus::Bus;
use yemdo::configure::{Configuration, Difference, WriteReason, WriteScope, read_back, write_register};
use yemdo::emit::Paste;
use yemdo::view::{ConfigurationView, ReadBackView};

use crate::args::{self, CheckFormat};
use crate::failure::Failure;
use crate::input;
use crate::output::json_line;
use crate::show::writes::{self, with_registers};

pub(crate) fn run(args: &args::Configure) -> Result<u8, Failure> {
    let part = input::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let scope = if args.all { WriteScope::All } else { WriteScope::Changed };
    let (start, done) = input::worked_out(&part, args.dump.as_deref(), &args.settings, scope)?;
    let bus = match (args.bus, args.paste) {
        // A sheet that says nothing of a bus has registers all the same; only bytes there are none.
        (None, None) if part.buses().all().next().is_none() => None,
        _ => Some(bus(&part, args.bus)?),
    };
    let mut out = anstream::stdout().lock();
    match (args.format, args.paste) {
        (CheckFormat::Json, _) => json_line(&mut out, &ConfigurationView::new(&part, bus, &done))?,
        (_, Some(paste)) => {
            for (write, register) in with_registers(&part, &done) {
                let Some(transfer) = bus.and_then(|bus| write_register(&part, bus, register, write.value)) else { continue };
                writeln!(out, "{}", paste.form().text(&format!("{}_{}", part.name(), register.name()), &transfer.send))?;
            }
        }
        _ => writes::table(&mut out, &part, bus, &start, &done)?,
    }
    match &args.read_back {
        Some(path) => compare(&part, &done, path, args.format),
        None => Ok(0),
    }
}

/// The bus that was asked for, or the first of the sheet.
pub(crate) fn bus(part: &Part, asked: Option<Bus>) -> Result<Bus, Failure> {
    let there: Vec<Bus> = part.buses().all().collect();
    let names: Vec<&str> = there.iter().map(|bus| bus.name()).collect();
    match asked {
        None => there.first().copied().ok_or_else(|| {
            Failure::told(format!("the sheet of {} describes no bus", part.name())).help("give it [i2c], [spi] or [modbus]")
        }),
        Some(bus) if there.contains(&bus) => Ok(bus),
        Some(bus) => {
            Err(Failure::told(format!("{} is not reached over {}", part.name(), bus.name())).help(format!("but over {}", names.join(", "))))
        }
    }
}

/// Compares what should read back with a dump of what did.
fn compare(part: &Part, done: &Configuration, path: &Path, format: CheckFormat) -> Result<u8, Failure> {
    let found = input::dump(part, path)?;
    let mut out = anstream::stdout().lock();
    let (red, green) = (AnsiColor::BrightRed.on_default(), AnsiColor::Green.on_default());
    let mut wrong = false;
    for (write, register) in with_registers(part, done).filter(|(write, _)| write.reason != Some(WriteReason::Unlocks)) {
        let Some((_, value)) = found.iter().find(|(index, _)| *index == write.register) else {
            let _ = writeln!(anstream::stderr(), "{}: not in the dump", register.name());
            wrong = true;
            continue;
        };
        let Some(compared) = read_back(part, write.register, write.before, write.after, *value) else { continue };
        wrong |= !compared.differences.is_empty();
        if format == CheckFormat::Json {
            json_line(&mut out, &ReadBackView::new(register, &compared))?;
            continue;
        }
        let digits = register.bytes() * 2;
        if compared.differences.is_empty() {
            writeln!(out, "{green}{} reads 0x{value:0digits$X}, as it should{green:#}", register.name())?;
        }
        for difference in &compared.differences {
            let place = match difference {
                Difference::ForcedToZero { mask, field } | Difference::ForcedToOne { mask, field } => {
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
