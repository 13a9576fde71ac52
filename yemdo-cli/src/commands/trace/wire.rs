//! Transfers as waveforms: a file for viewers, and a drawing of one transfer.

use std::collections::BTreeMap;
use std::path::Path;

use yemdo::bus::Bus;
use yemdo::trace::Followed;
use yemdo::{FrameId, Part};
use yemdo_trace::wave::{WaveOptions, WaveWriter, draw};
use yemdo_trace::{CaptureOptions, Captured};

use super::parts::{Parts, Taken};
use crate::args::Trace;
use crate::failure::Failure;
use crate::output::{NewFile, tell_written, write_file};
use crate::show::figure;
use crate::show::timing::Timing;

/// The waveform that is written, and the transfer that is drawn.
pub(super) struct Waves<'a> {
    args: &'a Trace,
    options: CaptureOptions,
    /// It is begun with the first transfer, which decides about the lines.
    writer: Option<(Bus, WaveWriter<NewFile>)>,
    other: BTreeMap<&'static str, u64>,
    drawn: bool,
}

/// Time before a drawn transfer, in nanoseconds: longer than a bit of any bus.
const LEAD: u64 = 1_000_000_000;

/// Clock of parts without a sheet.
const USUAL: u32 = 100_000;

impl<'a> Waves<'a> {
    pub(super) fn new(args: &'a Trace, options: &CaptureOptions) -> Result<Self, Failure> {
        args.out.as_deref().map_or(Ok(()), figure::check_ending)?;
        Ok(Self { args, options: options.clone(), writer: None, other: BTreeMap::new(), drawn: args.draw.is_none() })
    }

    /// A capture without a clock is drawn with the usual one of the part.
    fn options(&self, captured: &Captured, taken: &Taken, parts: &Parts) -> WaveOptions {
        let part = if let Taken::Followed { part, .. } = taken { parts.get(*part) } else { None };
        let wire = part.and_then(|part| part.follower.part().buses().wire(captured.transaction.traffic.transfer.bus));
        let usual = wire.map_or(USUAL, |wire| wire.usual_rate());
        WaveOptions::as_read(captured.transaction.hertz.unwrap_or(usual), &self.options)
    }

    pub(super) fn add(&mut self, number: u64, captured: &Captured, taken: &Taken, parts: &Parts) -> Result<(), Failure> {
        let traffic = &captured.transaction.traffic;
        let followed = if let Taken::Followed { followed, .. } = taken { Some(followed.as_ref()) } else { None };
        if let Some(path) = &self.args.vcd {
            let bus = traffic.transfer.bus;
            if self.writer.is_none() {
                let file = NewFile::create(path, self.args.overwrite)?;
                self.writer = Some((bus, WaveWriter::new(file, bus, self.options(captured, taken, parts))?));
            }
            match &mut self.writer {
                Some((own, writer)) if *own == bus => writer.transfer(traffic)?,
                _ => *self.other.entry(bus.name()).or_default() += 1,
            }
        }
        if self.args.draw == Some(number)
            && let Some(out) = &self.args.out
        {
            self.drawn = true;
            let divided = followed.map_or(traffic, |followed| &followed.traffic);
            let name = if let Taken::Followed { part, .. } = taken { parts.get(*part).map(|part| part.name.clone()) } else { None };
            let options = self.options(captured, taken, parts);
            let drawing = Timing {
                title: title(number, name.as_deref(), followed),
                about: yemdo::visible(&divided.transfer.text()).into_owned(),
                bus: divided.transfer.bus,
                options,
                drawn: draw(divided, LEAD, &options),
                names: match taken {
                    Taken::Followed { part, followed } => {
                        parts.get(*part).map_or_else(Default::default, |part| names(part.follower.part(), followed))
                    }
                    Taken::Stranger => Default::default(),
                },
            };
            write_drawing(out, &drawing, self.args.overwrite)?;
        }
        Ok(())
    }

    pub(super) fn finish(self) -> Result<(), Failure> {
        if !self.drawn {
            return Err(Failure::error("there is no transfer of this number to draw").help("numbers are in the first column"));
        }
        if self.args.vcd.is_none() {
            return Ok(());
        }
        let Some((_, mut writer)) = self.writer else { return Err(Failure::error("there is no transfer for a waveform")) };
        writer.finish()?;
        writer.output().finish()?;
        for (bus, count) in self.other {
            let _ =
                std::io::Write::write_fmt(&mut anstream::stderr(), format_args!("{count} transfers of {bus} are not in the waveform\n"));
        }
        Ok(())
    }
}

fn title(number: u64, part: Option<&str>, followed: Option<&Followed>) -> String {
    let meanings: Vec<String> = followed.iter().flat_map(|followed| &followed.meanings).map(ToString::to_string).collect();
    let what = if meanings.is_empty() { "no sheet has this address".to_owned() } else { meanings.join("; ") };
    let name = part.map_or(String::new(), |part| format!(" of {part}"));
    yemdo::visible(&format!("transfer {number}{name}: {what}")).into_owned()
}

/// Meaning of each sent and received byte: registers, codes, checks, or parts of a Modbus frame.
fn names(part: &Part, followed: &Followed) -> (Vec<String>, Vec<String>) {
    let traffic = &followed.traffic;
    let came = traffic.outcome.as_deref().unwrap_or(&[]);
    let data = part.buses().wire(traffic.transfer.bus).and_then(|wire| wire.data(&traffic.transfer, came).ok()).unwrap_or(came);
    let seen = followed.frames.iter().find(|seen| seen.bytes.len() == came.len() || seen.bytes.len() == data.len());
    let of_data = match seen {
        Some(seen) => codes(part, seen.frame, data.len()),
        None => registers(part, followed),
    };
    let reads = traffic.transfer.receive > 0;
    let mut sent = Vec::new();
    let mut names = Vec::new();
    if traffic.transfer.bus == Bus::Modbus {
        sent.extend(["unit", "function"].map(str::to_owned));
        // Unit, function and count before the data, the CRC after them.
        if data.len() + 5 == came.len() {
            names.extend(["unit", "function", "bytes"].map(str::to_owned));
        }
        names.extend(of_data);
        names.resize(came.len().saturating_sub(2).max(names.len()), String::new());
        names.extend(["CRC", "CRC"].map(str::to_owned));
    } else if reads {
        names = of_data;
    } else if !followed.registers.is_empty() {
        sent.extend(std::iter::repeat_n(String::new(), traffic.transfer.send.len().saturating_sub(of_data.len())));
        sent.extend(of_data);
    }
    (sent, names)
}

/// The name of the register of each byte.
fn registers(part: &Part, followed: &Followed) -> Vec<String> {
    let registers = part.registers().of(&followed.registers);
    registers.flat_map(|register| std::iter::repeat_n(register.name().to_owned(), register.width().div_ceil(8) as usize)).collect()
}

/// The codes or checks of each byte of a frame.
fn codes(part: &Part, frame: FrameId, length: usize) -> Vec<String> {
    let Some(frame) = part.frames().get(frame) else { return Vec::new() };
    let name = |byte: usize| {
        let codes = part.codes().of(frame.codes()).filter(|code| code.layout().slices.iter().any(|slice| slice.byte == byte));
        let mut found: Vec<&str> = codes.map(|code| code.name()).collect();
        if frame.checks().iter().any(|check| check.place.iter().any(|slice| slice.byte == byte)) {
            found.push("check");
        }
        found.join(" ")
    };
    (0..length).map(name).collect()
}

fn write_drawing(path: &Path, drawing: &Timing, overwrite: bool) -> Result<(), Failure> {
    write_file(path, &figure::bytes_for(path, drawing)?, overwrite)?;
    tell_written(path);
    Ok(())
}
