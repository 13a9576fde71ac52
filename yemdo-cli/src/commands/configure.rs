//! `yemdo configure`: from wishes to register bytes.

use std::io::Write as _;
use std::path::Path;
use std::sync::{Arc, Mutex};

use anstyle::AnsiColor;
use yemdo::bus::Bus;
use yemdo::configure::{Configuration, Difference, WriteReason, WriteScope, read_back, write_register};
use yemdo::emit::Paste;
use yemdo::view::{ConfigurationView, ReadBackView};
use yemdo::{Part, RegisterId};
use yemdo_bus::Cause;

use crate::args::{self, CheckFormat};
use crate::failure::Failure;
use crate::input;
use crate::link::{Stop, tell_verdict};
use crate::output::json_line;
use crate::show::seen;
use crate::show::writes::{self, with_registers};

pub(crate) fn run(args: &args::Configure) -> Result<u8, Failure> {
    let part = input::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let scope = if args.all { WriteScope::All } else { WriteScope::Changed };
    if args.link.is_given() {
        return write(args, &part, scope);
    }
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

/// Writes and verifies the settings with the part itself.
fn write(args: &args::Configure, part: &Part, scope: WriteScope) -> Result<u8, Failure> {
    if args.paste.is_some() || args.read_back.is_some() {
        return Err(Failure::error("--paste and --read-back apply to bytes that are not sent").help("remove --at"));
    }
    let stop = Stop::on_interrupt();
    // Wishes that are impossible for all register values fail before the port is opened.
    input::possible(part, args.dump.as_deref(), &args.settings, scope)?;
    let Some(connected) = args.link.connect(part, &stop)? else { return Ok(0) };
    let mut device = connected.device;
    *device.state_mut() = input::present(part, args.dump.as_deref())?;
    let start = device.port_mut().now();
    let written = Arc::new(Mutex::new(Written::default()));
    let kept = Arc::clone(&written);
    let json = args.format == CheckFormat::Json;
    let mut show = seen::shown(json, start);
    device.watched_by(move |seen| {
        if let (Some(register), Ok(mut written)) = (seen.request.writes, kept.lock()) {
            written.note(register, seen.outcome.as_ref().err().map(|error| error.cause));
        }
        show(seen);
    });
    let typed: Vec<&str> = args.settings.iter().map(String::as_str).collect();
    let ended = device.configure_with(&typed, scope);
    tell_verdict(connected.rig.as_ref());
    let mut err = anstream::stderr();
    match ended {
        Ok(done) => {
            let mut out = anstream::stdout().lock();
            if json {
                json_line(&mut out, &ConfigurationView::new(device.part(), Some(device.bus()), &done))?;
            } else {
                writes::results(&mut out, device.part(), &done)?;
                let green = AnsiColor::Green.on_default();
                match done.writes.len() {
                    0 => writeln!(out, "{green}already set: nothing was written{green:#}")?,
                    count => writeln!(out, "{green}{} written and verified{green:#}", yemdo::counted(count as u64, "register"))?,
                }
            }
            Ok(0)
        }
        Err(error) => {
            let written = written.lock().map(|written| written.clone()).unwrap_or_default();
            let _ = writeln!(err, "{}", written.text(device.part()));
            Err(error.into())
        }
    }
}

/// The registers that were written before something failed.
#[derive(Clone, Debug, Default)]
struct Written {
    /// Written and acknowledged, each once.
    done: Vec<RegisterId>,
    /// Sent, and the answer was lost: the part may hold the value.
    doubtful: Vec<RegisterId>,
}

impl Written {
    fn note(&mut self, register: RegisterId, failed: Option<Cause>) {
        let list = match failed {
            None => &mut self.done,
            // The part refused it, or never had it.
            Some(Cause::Exception(_) | Cause::NakAddress | Cause::NakData | Cause::Nak | Cause::Gone | Cause::Unsupported) => return,
            Some(_) => &mut self.doubtful,
        };
        if !list.contains(&register) {
            list.push(register);
        }
    }

    fn text(&self, part: &Part) -> String {
        let names =
            |list: &[RegisterId]| part.registers().of(list).map(|register| register.name().to_owned()).collect::<Vec<_>>().join(", ");
        let doubtful: Vec<RegisterId> = self.doubtful.iter().copied().filter(|register| !self.done.contains(register)).collect();
        match (self.done.as_slice(), doubtful.as_slice()) {
            ([], []) => "nothing was written".to_owned(),
            (done, []) => format!("written before it failed: {}", names(done)),
            ([], doubtful) => format!("possibly written, the answer was lost: {}", names(doubtful)),
            (done, doubtful) => {
                format!("written before it failed: {}; possibly written, the answer was lost: {}", names(done), names(doubtful))
            }
        }
    }
}

/// The bus that was asked for, or the first of the sheet.
pub(crate) fn bus(part: &Part, asked: Option<Bus>) -> Result<Bus, Failure> {
    let there: Vec<Bus> = part.buses().all().collect();
    let names: Vec<&str> = there.iter().map(|bus| bus.name()).collect();
    match asked {
        None => there
            .first()
            .copied()
            .ok_or_else(|| Failure::error(format!("no bus in the sheet of {}", part.name())).help("add [i2c], [spi] or [modbus]")),
        Some(bus) if there.contains(&bus) => Ok(bus),
        Some(bus) => {
            Err(Failure::error(format!("{} has no {} interface", part.name(), bus.name())).help(format!("but over {}", names.join(", "))))
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
            writeln!(out, "{green}{} reads 0x{value:0digits$X}, as expected{green:#}", register.name())?;
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
