//! How the capture is read: as told, otherwise as the sheets say.

use yemdo::Part;
use yemdo_trace::edges::Parity;
use yemdo_trace::wave::WaveOptions;
use yemdo_trace::{CaptureOptions, Role, Serial, TableColumns};

use super::parts::Parts;
use crate::args::{BitOrder, Numbers, Trace};
use crate::failure::Failure;

pub(super) fn of(args: &Trace, parts: &Parts) -> Result<CaptureOptions, Failure> {
    let reading = &args.reading;
    let mut options = CaptureOptions::default();
    for typed in &reading.line {
        let (role, name) = pair(typed, "--line scl=NAME")?;
        let role = Role::ALL.into_iter().find(|known| known.as_str() == role).ok_or_else(|| {
            let known: Vec<&str> = Role::ALL.iter().map(|role| role.as_str()).collect();
            Failure::error(format!("`{role}` is no line of a bus")).help(format!("expected {}", known.join(", ")))
        })?;
        options.lines.push((role, name.to_owned()));
    }
    let mut columns = TableColumns::default();
    for typed in &reading.column {
        let (role, heading) = pair(typed, "--column data=HEADING")?;
        const ROLES: [&str; 6] = ["time", "direction", "address", "data", "ack", "group"];
        if !ROLES.contains(&role) {
            return Err(Failure::error(format!("`{role}` is no column of transfers")).help(format!("expected {}", ROLES.join(", "))));
        }
        columns.named.push((role.to_owned(), heading.to_owned()));
    }
    columns.hex = reading.numbers.map(|form| form == Numbers::Hex);
    options.columns = columns;
    let spi = parts.all().find_map(|part| part.follower.part().buses().spi.clone());
    options.mode = reading.mode.or(spi.as_ref().map(|spi| spi.mode)).unwrap_or(0);
    let lsb_first = reading.bit_order.map(|order| order == BitOrder::Lsb);
    options.lsb_first = lsb_first.or(spi.as_ref().map(|spi| spi.lsb_first)).unwrap_or(false);
    let stated = parts.all().find(|part| part.follower.part().buses().modbus.is_some()).map(|part| serial(part.follower.part()));
    options.serial = stated.unwrap_or_default();
    options.serial.baud = reading.baud.unwrap_or(options.serial.baud);
    options.serial.parity = reading.parity.map_or(options.serial.parity, Parity::from);
    options.glitch = reading.glitch.unwrap_or(0);
    options.unit = reading.time_unit;
    options.port = reading.port;
    options.modbus = stated.is_some();
    Ok(options)
}

/// Characters of a serial line, as the sheet says.
fn serial(part: &Part) -> Serial {
    let usual = Serial::default();
    let Some(modbus) = &part.buses().modbus else { return usual };
    let parity = match modbus.parity {
        Some("none") => Parity::None,
        Some("odd") => Parity::Odd,
        _ => usual.parity,
    };
    Serial::new(modbus.baud.unwrap_or(usual.baud), parity, modbus.stop.map_or(usual.stop_bits, u32::from))
}

/// A waveform of a part at this clock.
pub(crate) fn wave_options(part: &Part, hertz: u32) -> WaveOptions {
    let mut options = WaveOptions::new(hertz);
    if let Some(spi) = &part.buses().spi {
        (options.mode, options.lsb_first) = (spi.mode, spi.lsb_first);
    }
    options.serial = serial(part);
    options
}

/// Both sides of `ROLE=NAME`.
fn pair<'t>(typed: &'t str, example: &str) -> Result<(&'t str, &'t str), Failure> {
    let (left, right) =
        typed.split_once('=').ok_or_else(|| Failure::error(format!("`{typed}` has no `=`")).help(format!("write {example}")))?;
    Ok((left.trim(), right.trim()))
}
