//! `yemdo stand-in`: a sheet as a Modbus server.

use std::io::Write;
use std::thread;
use std::time::{Duration, Instant};

use yemdo::visible;
use yemdo_bus::linux;
use yemdo_bus::{Rig, serve_rtu, serve_tcp};

use crate::args::StandIn;
use crate::failure::Failure;
use crate::input;
use crate::link::{Stop, opening};
use yemdo::counted;

pub(crate) fn run(args: &StandIn) -> Result<u8, Failure> {
    let part = input::load(&args.sheet, args.variant.as_deref())?;
    if part.buses().modbus.is_none() {
        return Err(Failure::error(format!("{} has no Modbus interface; other buses cannot be served", part.name()))
            .help("use --at stand-in with read, talk and others; in tests, the library yemdo-bus"));
    }
    let mut options = Vec::new();
    for typed in &args.signals {
        let (name, signal) = typed.split_once('=').ok_or_else(|| {
            Failure::error(format!("`{typed}` is not READING=SIGNAL")).help("write supply=19.5, or 'flow=800 + 50 * sin(t)'")
        })?;
        options.push((name.trim().to_owned(), signal.trim().to_owned()));
    }
    let (stand_in, faults) = linux::stand_in(&part, &options).map_err(opening)?;
    let rig = Rig::new();
    let at = rig.add(stand_in);
    rig.set_faults(at, faults);
    let stop = Stop::on_interrupt();
    let unit = part.buses().modbus.as_ref().map_or(1, |modbus| modbus.unit_or_first());
    let mut out = anstream::stdout().lock();
    let requests: Box<dyn Fn() -> u64> = if args.terminal {
        let terminal = serve_rtu(&rig).map_err(|error| Failure::error(format!("cannot open a pseudo-terminal: {error}")))?;
        writeln!(out, "{} is unit {unit} at rtu:{}", part.name(), terminal.path().display())?;
        Box::new(move || terminal.requests())
    } else {
        let server = serve_tcp(&rig, args.listen).map_err(|error| {
            let failure = Failure::error(format!("cannot listen on {}: {error}", args.listen));
            failure.help("choose another port: --listen 127.0.0.1:1503; ports below 1024 need privileges")
        })?;
        writeln!(out, "{} is unit {unit} at tcp:{}", part.name(), server.address())?;
        Box::new(move || server.requests())
    };
    out.flush()?;
    let end = args.duration.map(|micros| Instant::now() + Duration::from_micros(micros));
    while !stop.is_asked() && end.is_none_or(|end| Instant::now() < end) {
        thread::sleep(Duration::from_millis(20));
    }
    writeln!(out, "{}", counted(requests(), "request"))?;
    let verdict = rig.verdict();
    for (_, violation) in &verdict {
        writeln!(out, "{}; possible effect: {}", visible(&violation.to_string()), violation.rule.effect())?;
    }
    for (transfer, fault) in rig.injected(at) {
        writeln!(out, "injected into request {}: {}", transfer + 1, fault.as_str())?;
    }
    if verdict.is_empty() {
        writeln!(out, "no violations")?;
    }
    Ok(u8::from(!verdict.is_empty()))
}
