//! Batches of frames from a log through the decoder, with their counts.

use std::collections::BTreeMap;
use std::io::Write;

use yemdo::record::Record;
use yemdo::view::UseView;
use yemdo::{Columns, Decoder, FrameId, Part, Refusal};

use crate::failure::Failure;
use crate::show::rows::{Rows, Sink};
use crate::show::suspects;
use yemdo::counted;
use yemdo_log::seconds_of;

/// Frames that are decoded and printed together.
const BATCH: usize = 1024;

/// Frames of one kind that wait to be decoded together.
pub(super) struct Batch {
    frame: Option<FrameId>,
    /// Bytes of each frame that count.
    given: usize,
    bytes: Vec<u8>,
    rows: Vec<(u64, Option<String>)>,
    columns: Columns,
    refused: BTreeMap<&'static str, u64>,
    list_refused: bool,
    decoded: u64,
    /// Frames with values that may be no answer, by name.
    suspects: BTreeMap<String, u64>,
    /// Where the good frame of each kind stands that came last: line and time.
    came: BTreeMap<FrameId, (u64, Option<String>)>,
    /// For a frame and one that its readings use: the most good frames between them, and the two lines.
    oldest: BTreeMap<(FrameId, FrameId), (u64, u64, u64)>,
}

impl Batch {
    pub(super) fn new(list_refused: bool) -> Self {
        Self {
            frame: None,
            given: 0,
            bytes: Vec::new(),
            rows: Vec::new(),
            columns: Columns::new(),
            refused: BTreeMap::new(),
            list_refused,
            decoded: 0,
            suspects: BTreeMap::new(),
            came: BTreeMap::new(),
            oldest: BTreeMap::new(),
        }
    }

    /// The other frames that readings of this one use, as they are before it is decoded.
    fn uses(&self, decoder: &Decoder, frame: FrameId) -> Vec<UseView> {
        let part = decoder.part();
        let readings = part.frames()[frame].readings();
        let used = part.readings().of(readings).flat_map(|reading| reading.frames());
        let mut others: Vec<FrameId> = used.copied().filter(|other| *other != frame).collect();
        others.sort_unstable();
        others.dedup();
        let came = |frame: FrameId| {
            let (line, time) = self.came.get(&frame).cloned()?;
            Some(UseView { frame, line, time, age: decoder.age(frame)? })
        };
        others.into_iter().filter_map(came).collect()
    }

    /// Records the lines of a good frame and the age of the frames that it used.
    fn note(&mut self, frame: FrameId, index: usize, good: u64, uses: &[UseView]) {
        let Some((line, time)) = self.rows.get(index) else { return };
        for used in uses {
            let age = used.age + good;
            let oldest = self.oldest.entry((frame, used.frame)).or_default();
            *oldest = if age > oldest.0 { (age, *line, used.line) } else { *oldest };
        }
        self.came.insert(frame, (*line, time.clone()));
    }

    pub(super) fn refuse(&mut self, line: u64, cause: &'static str, message: &str) {
        *self.refused.entry(cause).or_default() += 1;
        if self.list_refused {
            let _ = writeln!(anstream::stderr(), "line {line}: {message}");
        }
    }

    pub(super) fn add(&mut self, record: Record, decoder: &mut Decoder, sink: &mut Sink<'_>) -> Result<(), Failure> {
        let bytes = match record.bytes {
            Ok(bytes) => bytes,
            Err(message) => {
                self.flush(decoder, sink)?;
                self.refuse(record.line, "not a frame", &message);
                return Ok(());
            }
        };
        let (bytes, given) = match decoder.frame_bytes(record.frame, &bytes) {
            Ok(accepted) => accepted,
            Err(refusal) => {
                self.flush(decoder, sink)?;
                self.refuse(record.line, refusal.cause(), &refusal.to_string());
                return Ok(());
            }
        };
        if Some(record.frame) != self.frame || given != self.given || self.rows.len() >= BATCH {
            self.flush(decoder, sink)?;
        }
        (self.frame, self.given) = (Some(record.frame), given);
        self.bytes.extend_from_slice(&bytes);
        self.rows.push((record.line, record.time));
        Ok(())
    }

    pub(super) fn flush(&mut self, decoder: &mut Decoder, sink: &mut Sink<'_>) -> Result<(), Failure> {
        let Some(frame) = self.frame.filter(|_| !self.rows.is_empty()) else { return Ok(()) };
        let uses = self.uses(decoder, frame);
        if decoder.part().frames().get(frame).is_some_and(|frame| !frame.derived().is_empty()) {
            let times: Option<Vec<f64>> = self.rows.iter().map(|(_, time)| seconds_of(time.as_deref()?)).collect();
            decoder.measured_at(&times.unwrap_or_default());
        }
        decoder.decode_many_partial(frame, &self.bytes, self.given, &mut self.columns).map_err(|refusal| report(&refusal))?;
        let length = self.bytes.len() / self.rows.len();
        let mut good = Vec::new();
        for (index, bytes) in self.bytes.chunks_exact(length).enumerate() {
            if let Some(failed) = self.columns.failed_check(index) {
                let refusal = decoder.check_refusal(frame, failed, bytes);
                *self.refused.entry(refusal.cause()).or_default() += 1;
                if self.list_refused {
                    let line = self.rows.get(index).map_or(0, |(line, _)| *line);
                    let _ = writeln!(anstream::stderr(), "line {line}: {refusal}");
                }
            } else {
                self.decoded += 1;
                good.push(index);
                let model = &decoder.part().frames()[frame];
                if model.is_suspect(bytes) && self.columns.has_value(index) {
                    *self.suspects.entry(model.name().to_owned()).or_default() += 1;
                }
            }
        }
        // Only the place of the last frame is needed, and only used frames have an age.
        let noted = if uses.is_empty() { good.last().map(|last| (good.len() - 1, *last)) } else { None };
        let all = good.iter().copied().enumerate().filter(|_| !uses.is_empty());
        for (before, index) in all.chain(noted) {
            self.note(frame, index, before as u64 + 1, &uses);
        }
        let (rows, columns) = (&self.rows, &self.columns);
        sink.rows(&Rows { frame, length, given: self.given, bytes: &self.bytes, rows, columns, uses: &uses, decoder })?;
        self.bytes.clear();
        self.rows.clear();
        Ok(())
    }

    /// Whether nothing waits, or the next frame begins another batch.
    pub(super) fn is_between(&self) -> bool {
        self.rows.is_empty() || self.rows.len() == BATCH
    }

    /// Says on standard error how old the frames were that readings of other frames used. What is read once is not meant to
    /// be new.
    pub(super) fn tell_ages(&self, part: &Part) {
        for ((frame, used), (age, line, from)) in &self.oldest {
            if let (Some(frame), Some(used)) = (part.frames().get(*frame), part.frames().get(*used).filter(|used| !used.is_kept()))
                && *age > 1
            {
                let (frame, used) = (frame.name(), used.name());
                let _ = writeln!(
                    anstream::stderr(),
                    "{frame} used a {used} up to {age} good frames back: line {line} used that of line {from}"
                );
            }
        }
    }

    /// Warns of frames that may be no answer.
    pub(super) fn warn_of_suspects(&self) {
        suspects::warn(&self.suspects);
    }

    /// Prints the refused frames; returns the exit code.
    pub(super) fn summary(&self, stopped: bool) -> Result<u8, Failure> {
        let mut err = anstream::stderr();
        let refused: u64 = self.refused.values().sum();
        if self.decoded + refused == 0 {
            return Err(Failure::error("no frame in the input").help("expected one frame per line, in hex, or CSV with a header"));
        }
        if refused > 0 {
            let causes: Vec<String> = self.refused.iter().map(|(cause, count)| format!("{count} {cause}")).collect();
            let hint = if self.list_refused { "" } else { "; --refused lists them" };
            let _ = writeln!(err, "{} decoded, {refused} refused: {}{hint}", counted(self.decoded, "frame"), causes.join(", "));
        }
        if stopped {
            let _ = writeln!(err, "stopped after {} frames", self.decoded + refused);
            return Ok(130);
        }
        Ok(u8::from(refused > 0))
    }
}

/// Why frames are not decoded, for somebody at the bench.
pub(super) fn report(refusal: &Refusal) -> Failure {
    let failure = Failure::refused(refusal.to_string());
    match refusal {
        Refusal::Check { .. } => failure.help("--steps shows the covered bytes and all codes"),
        Refusal::Blank { .. } => failure.help("if that is a measurement, add blank = \"good\" to the frame"),
        _ => failure,
    }
}
