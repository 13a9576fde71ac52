//! `yemdo decode`: bytes from arguments, standard input or a log, to readings.

mod batch;

use std::io::{self, BufRead, IsTerminal, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use yemdo::part::Example;
use yemdo::record::{Record, parse_frames};
use yemdo::view::ShownUnits;
use yemdo::{Decoder, FrameId, Part};

use crate::args::Decode;
use crate::failure::Failure;
use crate::input;
use crate::link::{Connected, Stop, tell_verdict};
use crate::output::{many_lines, progress};
use crate::show::rows::{Output, Sink};
use crate::show::steps;
use batch::{Batch, report};
use yemdo_log::{AnyLog, Clocks, LogStep};

pub(crate) fn run(args: &Decode) -> Result<u8, Failure> {
    let part = input::load_at(&args.sheet, args.variant.as_deref(), args.address.as_deref())?;
    let frame = args.frame.as_deref().map(|name| part.frame(name)).transpose()?;
    let mut decoder = Decoder::new(&part);
    if args.dump.is_some() {
        *decoder.state_mut() = input::present(&part, args.dump.as_deref())?;
    }
    let example = args.example.map(|number| worked_example(&part, number)).transpose()?;
    for (field, code) in example.map_or(&[][..], Example::settings) {
        part.fields().get(*field).into_iter().for_each(|field| decoder.state_mut().set_field(field, *code));
    }
    input::apply(&mut decoder, &example.into_iter().flat_map(Example::supplied).map(str::to_owned).collect::<Vec<_>>())?;
    input::apply(&mut decoder, &args.set)?;
    if example.is_some_and(|example| example.frames().is_empty()) {
        let failure = Failure::error("this worked example has writes and no frame");
        return Err(failure.help("use yemdo check or yemdo configure"));
    }
    let units = ShownUnits::new(&part, decoder.state(), &args.unit).map_err(|error| Failure::helped(error.message, error.help))?;
    let part = decoder.part().clone();
    let times = example.map_or(&[][..], Example::times);
    let typed = match (example, args.link.connect(&part, &Stop::default())?) {
        (None, Some(connected)) => read_frames(connected, frame, &decoder)?,
        (Some(_), Some(_)) => return Err(Failure::error("--example and --at exclude each other")),
        (example, None) => typed_or_none(args, &part, frame, example)?,
    };
    if args.steps && args.format == crate::args::Format::Csv {
        return Err(Failure::error("--steps has no such format").help("use --format json"));
    }
    if args.steps {
        let mut out = anstream::stdout().lock();
        let mut worst = 0;
        for (at, (frame, bytes)) in typed.iter().enumerate() {
            decoder.measured_at(times.get(at).map_or(&[], std::slice::from_ref));
            if args.format == crate::args::Format::Json {
                worst = worst.max(steps::json(&mut out, &mut decoder, *frame, bytes)?);
                continue;
            }
            if at > 0 {
                writeln!(out)?;
            }
            worst = worst.max(steps::print(&mut out, &mut decoder, *frame, bytes)?);
        }
        return Ok(worst);
    }
    if !typed.is_empty() {
        let mut trial = decoder.clone();
        typed.iter().try_for_each(|(frame, bytes)| trial.decode(*frame, bytes).map(drop)).map_err(|refusal| report(&refusal))?;
        let frames: Vec<FrameId> = part.frames().ids().filter(|id| typed.iter().any(|(frame, _)| frame == id)).collect();
        tell_settings(args, &decoder, &frames);
        let (mut out, plain) = many_lines(args.format);
        let mut sink = Sink::new(Output { out: &mut out, plain }, args.format, &part, &frames, false, &units);
        let mut batch = Batch::new(args.refused);
        for (at, (frame, bytes)) in typed.into_iter().enumerate() {
            let mut record = Record::new(frame, bytes);
            record.time = times.get(at).map(|seconds| format!("{seconds:.3}"));
            batch.add(record, &mut decoder, &mut sink)?;
        }
        batch.flush(&mut decoder, &mut sink)?;
        sink.flush()?;
        batch.warn_of_suspects();
        return Ok(0);
    }
    match args.log.as_deref().filter(|path| *path != Path::new("-")) {
        Some(path) => {
            let (input, length) = yemdo_log::open_log(path)?;
            stream(args, &mut decoder, &units, frame, input, length)
        }
        None => {
            if io::stdin().is_terminal() {
                let _ = writeln!(anstream::stderr(), "reading frames from the keyboard, one a line; end with Ctrl-D");
            }
            stream(args, &mut decoder, &units, frame, io::stdin().lock(), 0)
        }
    }
}

/// The frames of a worked example, or those that are typed.
fn typed_or_none(
    args: &Decode,
    part: &Part,
    frame: Option<FrameId>,
    example: Option<&Example>,
) -> Result<Vec<(FrameId, Vec<u8>)>, Failure> {
    match example {
        Some(example) => Ok(example.frames().to_vec()),
        None if args.bytes.is_empty() && !args.steps => Ok(Vec::new()),
        None => typed_frames(args, part, frame),
    }
}

/// Reads a frame from the part; without a name, measures. Frames with `keep` are read first.
pub(super) fn read_frames(connected: Connected, frame: Option<FrameId>, decoder: &Decoder) -> Result<Vec<(FrameId, Vec<u8>)>, Failure> {
    let Connected { mut device, rig, .. } = connected;
    let part = device.part().clone();
    *device.state_mut() = decoder.state().clone();
    match frame.and_then(|frame| part.frames().get(frame)) {
        Some(frame) => device.read_frame(frame.name()),
        None => device.measure(),
    }?;
    tell_verdict(rig.as_ref());
    // What others are computed from comes first.
    let mut came: Vec<(bool, FrameId)> = part.frames().entries().map(|(id, frame)| (!frame.is_kept(), id)).collect();
    came.sort_unstable();
    Ok(came.into_iter().filter_map(|(_, id)| Some((id, device.last_bytes(id)?.to_vec()))).collect())
}

/// A worked example of the sheet, by its number from 1.
pub(super) fn worked_example(part: &Part, number: usize) -> Result<&Example, Failure> {
    let all = part.examples();
    all.get(number.wrapping_sub(1)).ok_or_else(|| {
        let failure = Failure::error(format!("no worked example {number} in the sheet"));
        let about = |(at, example): (usize, &Example)| format!("{} ({})", at + 1, example.datasheet().unwrap_or("no source"));
        match all.len() {
            0 => failure.help("it has none"),
            _ => failure.help(format!("it has {}", all.iter().enumerate().map(about).collect::<Vec<_>>().join(", "))),
        }
    })
}

/// The frames that are typed, or come in on standard input for `--steps`.
fn typed_frames(args: &Decode, part: &Part, frame: Option<FrameId>) -> Result<Vec<(FrameId, Vec<u8>)>, Failure> {
    if part.frames().is_empty() {
        return Err(Failure::error(format!("no frame in the sheet of {}", part.name())));
    }
    let text = if args.bytes.is_empty() {
        if args.log.is_some() {
            return Err(Failure::error("--steps applies to single frames").help("give the bytes of one frame instead of --log"));
        }
        let mut text = String::new();
        io::Read::read_to_string(&mut io::Read::take(io::stdin().lock(), 1 << 20), &mut text)
            .map_err(|error| Failure::error(format!("cannot read standard input: {error}")))?;
        text
    } else {
        args.bytes.join(" ")
    };
    parse_frames(part, frame, &text).map_err(|error| Failure::helped(error.message, error.help))
}

/// Says on standard error with which settings and parameters is decoded: they are not in the frames.
fn tell_settings(args: &Decode, decoder: &Decoder, frames: &[FrameId]) {
    let used = decoder.in_use(frames);
    if used.is_empty() || args.format != crate::args::Format::Table {
        return;
    }
    let text: Vec<String> =
        used.iter().map(|used| format!("{} = {}{}", used.name, used.value, if used.as_reset { "" } else { " (as set)" })).collect();
    let _ = writeln!(anstream::stderr(), "assuming {} (change with --set)", text.join(", "));
}

/// Decodes a log of any length.
fn stream(
    args: &Decode,
    decoder: &mut Decoder,
    units: &ShownUnits,
    frame: Option<FrameId>,
    input: impl BufRead,
    size: u64,
) -> Result<u8, Failure> {
    let live = size == 0;
    let stop = Arc::new(AtomicBool::new(false));
    let writing = Arc::new(Mutex::new(0u64));
    let (told_to_stop, done) = (Arc::clone(&stop), Arc::clone(&writing));
    // A second handler cannot be set; where that fails, Ctrl-C ends the process as it always did.
    let _ = ctrlc::set_handler(move || {
        told_to_stop.store(true, Ordering::Relaxed);
        // The next line may come late: everything decoded so far is printed while the input is idle.
        if live && let Ok(frames) = done.lock() {
            let _ = writeln!(anstream::stderr(), "stopped after {} frames", *frames);
            std::process::exit(130);
        }
    });
    let progress = progress("decoding", size);
    let part = decoder.part().clone();
    let (mut out, plain) = many_lines(args.format);
    let every: Vec<FrameId> = part.frames().ids().collect();
    let frames = frame.map_or(every, |frame| vec![frame]);
    let mut sink = Sink::new(Output { out: &mut out, plain }, args.format, &part, &frames, true, units);
    let mut batch = Batch::new(args.refused);
    let mut told = false;
    let before = decoder.state().clone();
    let mut log = AnyLog::open(input, &part, frame, args.part.as_deref(), &before, &args.set, &Clocks::new(args.utc))?;
    while let Some(step) = log.next_step()? {
        let record = match step {
            LogStep::Frame(record) => {
                if let Some(state) = &record.state {
                    batch.flush(decoder, &mut sink)?;
                    decoder.adopt(state);
                    told = false;
                }
                if !std::mem::replace(&mut told, true) {
                    tell_settings(args, decoder, &frames);
                }
                record
            }
            LogStep::Refused(line, why) => {
                batch.flush(decoder, &mut sink)?;
                batch.refuse(line, "not a frame", &why);
                continue;
            }
            LogStep::State(state) => {
                batch.flush(decoder, &mut sink)?;
                decoder.adopt(&state);
                told = false;
                continue;
            }
        };
        if live {
            // Live input is printed at once, by complete lines.
            let mut frames = writing.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
            batch.add(record, decoder, &mut sink)?;
            batch.flush(decoder, &mut sink)?;
            sink.flush()?;
            *frames += 1;
        } else {
            batch.add(record, decoder, &mut sink)?;
        }
        if batch.is_between() {
            progress.set_position(log.taken());
        }
        if stop.load(Ordering::Relaxed) {
            break;
        }
    }
    batch.flush(decoder, &mut sink)?;
    sink.flush()?;
    progress.finish_and_clear();
    batch.tell_ages(&part);
    batch.warn_of_suspects();
    log.failed().into_iter().for_each(input::tell_failed);
    batch.summary(stop.load(Ordering::Relaxed))
}
