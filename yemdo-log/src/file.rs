//! Files that records are appended to: every record is whole on the disk before the next comes, what a power cut left behind is mended,
//! and a disk that is full does not stop the measuring.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use crate::entry::Entry;
use crate::error::{LogError, LogErrorKind};
use crate::form::LogForm;
use crate::read::{LogEntries, form_of};
use crate::senml;
use crate::time::{Clocks, Moment};
use crate::write::Encoder;
use yemdo::counted;

/// When a new file is begun.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rotation {
    /// At this size, in bytes.
    Size(u64),
    /// After this time in microseconds, counted from midnight.
    Time(u64),
}

impl Rotation {
    /// As it is typed: `10 MB`, `1 h`, `1 d`.
    ///
    /// # Errors
    /// It is neither a size nor a time.
    pub fn parse(typed: &str) -> Result<Self, String> {
        let wrong = || "write a size such as 10 MB, or a time such as 1 h or 1 d".to_owned();
        let digits = typed.find(|c: char| !c.is_ascii_digit()).unwrap_or(typed.len());
        let (number, unit) = typed.split_at(digits);
        let number: u64 = number.parse().map_err(|_| wrong())?;
        let day = 86_400_000_000u64;
        let (found, size) = match unit.trim() {
            "kB" => (number.checked_mul(1000), true),
            "MB" => (number.checked_mul(1_000_000), true),
            "GB" => (number.checked_mul(1_000_000_000), true),
            "min" => (number.checked_mul(60_000_000), false),
            "h" => (number.checked_mul(day / 24), false),
            "d" => (number.checked_mul(day), false),
            _ => return Err(wrong()),
        };
        let found = found.filter(|found| *found > 0).ok_or_else(wrong)?;
        Ok(if size { Rotation::Size(found) } else { Rotation::Time(found) })
    }
}

/// A log that is being written. Each record is whole on the disk before the next; a record that was cut by a power failure is
/// removed when the log is opened again; where the disk is full, records are lost and counted, and nothing stops.
#[derive(Debug)]
pub struct LogFile {
    path: PathBuf,
    encoder: Encoder,
    form: LogForm,
    clocks: Clocks,
    rotation: Option<Rotation>,
    /// Whether every record goes to the disk at once: not where time is virtual.
    sync: bool,
    file: File,
    /// Bytes of whole records.
    length: u64,
    /// The time of its first record.
    begun: Option<Moment>,
    /// Parts that this file has the once-read frames of.
    introduced: Vec<String>,
    /// It cannot be written: records that are lost since then.
    losing: u64,
    /// All records that were lost.
    lost: u64,
    rotation_failed: bool,
    /// Messages for the user.
    notes: Vec<String>,
}

impl LogFile {
    /// Opens a log, or begins one, in the form that its name asks for. With `sync`, every record goes to the disk at once.
    ///
    /// # Errors
    /// The file cannot be written, is written by another program, or is not a log in this form.
    pub fn open(path: &Path, clocks: &Clocks, rotation: Option<Rotation>, sync: bool) -> Result<Self, LogError> {
        let form = LogForm::of(path)?;
        let (clocks, encoder) = (clocks.clone(), Encoder::new(form, clocks.clone()));
        let Opened { file, length, begun, note } = open(path, form, &encoder)?;
        let (path, introduced) = (path.to_owned(), Vec::new());
        let (losing, lost, rotation_failed) = (0, 0, false);
        let notes = note.into_iter().collect();
        Ok(Self { path, encoder, form, clocks, rotation, sync, file, length, begun, introduced, losing, lost, rotation_failed, notes })
    }

    /// Messages about the file since the last call.
    pub fn notes(&mut self) -> Vec<String> {
        std::mem::take(&mut self.notes)
    }

    fn note(&mut self, text: &str) {
        self.notes.push(format!("{}: {text}", self.path.display()));
    }

    /// Whether the frames that are read once have to be in the next record of this part, since this file does not have them yet.
    pub fn is_new_to(&self, part: &str) -> bool {
        !self.introduced.iter().any(|known| known == part)
    }

    /// Begins a new file, where a record of that time belongs into one.
    pub fn rotate(&mut self, time: Moment) {
        let Some(begun) = self.begun.filter(|_| self.is_due(time)) else { return };
        let moved = self.beside(begun).and_then(|to| fs::rename(&self.path, to));
        let opened = moved.map_err(|error| LogError::file("rotate", &self.path, &error));
        match opened.and_then(|()| open(&self.path, self.form, &self.encoder)) {
            Ok(Opened { file, length, .. }) => {
                (self.file, self.length, self.begun, self.rotation_failed) = (file, length, None, false);
                self.introduced.clear();
            }
            // Logging continues in the same file.
            Err(failure) => {
                if !std::mem::replace(&mut self.rotation_failed, true) {
                    self.notes.push(failure.to_string());
                }
            }
        }
    }

    fn is_due(&self, time: Moment) -> bool {
        match (self.rotation, self.begun) {
            (Some(Rotation::Size(most)), Some(_)) => self.length >= most,
            (Some(Rotation::Time(every)), Some(begun)) => {
                let period = |moment: Moment| (moment.0 + self.clocks.offset(moment)).div_euclid(i64::try_from(every).unwrap_or(i64::MAX));
                period(time) != period(begun)
            }
            _ => false,
        }
    }

    /// The name that a full file gets: with the time of its first record.
    fn beside(&self, begun: Moment) -> io::Result<PathBuf> {
        let stem = self.path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let ending = self.path.extension().unwrap_or_default().to_string_lossy().into_owned();
        let time: String = self.clocks.text(begun).chars().take(19).map(|c| if c == ':' { '-' } else { c }).collect();
        let name = |again: &str| self.path.with_file_name(format!("{stem}.{time}{again}.{ending}"));
        let mut names = std::iter::once(name("")).chain((2..1000).map(|again| name(&format!(".{again}"))));
        names.find(|name| fs::symlink_metadata(name).is_err()).ok_or_else(|| io::ErrorKind::AlreadyExists.into())
    }

    /// Appends a record. A file that cannot be written loses it, and is tried again with the next.
    ///
    /// # Errors
    /// The record cannot be written in this form.
    pub fn append(&mut self, entry: &Entry) -> Result<(), LogError> {
        let bytes = self.encoder.record(entry)?;
        let synced = |file: &mut File, sync: bool| file.write_all(&bytes).and_then(|()| if sync { file.sync_data() } else { Ok(()) });
        match synced(&mut self.file, self.sync) {
            Ok(()) => {
                self.length += bytes.len() as u64;
                self.begun = self.begun.or(Some(entry.time));
                if !entry.frames.is_empty() && self.is_new_to(&entry.part) {
                    self.introduced.push(entry.part.clone());
                }
                if self.losing > 0 {
                    self.note(&format!("writable again; {} lost", records(self.losing)));
                    self.losing = 0;
                }
            }
            Err(error) => {
                // Not half a record: the next one would be glued to it.
                let _ = self.file.set_len(self.length);
                if self.losing == 0 {
                    self.note(&format!("cannot be written: {error}; reading continues, and writing is retried with every record"));
                }
                self.losing += 1;
                self.lost += 1;
            }
        }
        Ok(())
    }

    /// Records that could not be written.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// The last words about it.
    pub fn finish(&mut self) {
        let _ = self.file.sync_data();
        if self.lost > 0 {
            self.note(&format!("{} could not be written", records(self.lost)));
        }
    }
}

fn records(number: u64) -> String {
    counted(number, "record")
}

/// A file for appending.
struct Opened {
    file: File,
    /// Bytes of it that are whole.
    length: u64,
    /// The time of its first record.
    begun: Option<Moment>,
    /// The repair, in words.
    note: Option<String>,
}

/// Opens or begins a file for appending.
fn open(path: &Path, form: LogForm, encoder: &Encoder) -> Result<Opened, LogError> {
    let failed = |error: io::Error| LogError::file("write", path, &error);
    if let Ok(meta) = fs::metadata(path) {
        LogError::unless_file(path, &meta)?;
    }
    let mut file = OpenOptions::new().read(true).append(true).create(true).open(path).map_err(failed)?;
    match file.try_lock() {
        Err(TryLockError::WouldBlock) => {
            let failure = LogError::new(LogErrorKind::File, format!("cannot write {}: another program is writing it", path.display()));
            return Err(failure.with_help("choose another name for one of them"));
        }
        // A file system without locks.
        Err(TryLockError::Error(_)) | Ok(()) => {}
    }
    let there = file.metadata().map_err(failed)?.len();
    let (mut begun, mut note) = (None, None);
    if there > 0 {
        let mut first = [0; 256];
        let read = file.read(&mut first).map_err(failed)?;
        let first = first.get(..read).unwrap_or_default();
        // Of a header, or of the first record, there may be half.
        let header = encoder.header();
        let half = (there as usize) < header.len() && header.as_bytes().starts_with(first);
        let others = form == LogForm::Csv && !first.starts_with(header.as_bytes());
        if (form_of(first) != Some(form) || others) && !half {
            let failure = LogError::new(LogErrorKind::File, format!("cannot append to {}: it is not a log in this format", path.display()));
            return Err(failure.with_help("choose another name or another extension"));
        }
    }
    let whole = if form.is_text() { whole_lines(&mut file, there).map_err(failed)? } else { whole_packs(path, &mut file)? };
    let whole = if whole < there && ends_its_line(form, &mut file, whole).map_err(failed)? {
        file.write_all(b"\n").map_err(failed)?;
        there + 1
    } else {
        whole
    };
    if whole < there {
        file.set_len(whole).map_err(failed)?;
        let cut = counted(there - whole, "byte");
        note = Some(format!("{}: the last record was incomplete; removed {cut}", path.display()));
    }
    let mut length = whole;
    if whole == 0 {
        file.write_all(encoder.header().as_bytes()).map_err(failed)?;
        length = encoder.header().len() as u64;
    } else {
        file.seek(SeekFrom::Start(0)).map_err(failed)?;
        let first = LogEntries::new(BufReader::new(&mut file), form).next_entry()?;
        begun = first.and_then(|(_, entry)| entry.ok()).map(|entry| entry.time);
    }
    Ok(Opened { file, length, begun, note })
}

/// Whether what stands behind the last whole line lacks nothing but the end of its line: JSON says itself where it ends.
fn ends_its_line(form: LogForm, file: &mut File, from: u64) -> io::Result<bool> {
    if !matches!(form, LogForm::JsonLines | LogForm::Senml) {
        return Ok(false);
    }
    let mut rest = Vec::new();
    file.seek(SeekFrom::Start(from))?;
    Read::take(file, 1 << 20).read_to_end(&mut rest)?;
    Ok(serde_json::from_slice::<serde::de::IgnoredAny>(&rest).is_ok())
}

/// Bytes up to the end of the last whole line.
fn whole_lines(file: &mut File, length: u64) -> io::Result<u64> {
    const PIECE: u64 = 1 << 16;
    let mut end = length;
    while end > 0 {
        let start = end.saturating_sub(PIECE);
        let mut piece = Vec::new();
        file.seek(SeekFrom::Start(start))?;
        Read::take(&mut *file, end - start).read_to_end(&mut piece)?;
        if let Some(at) = piece.iter().rposition(|byte| *byte == b'\n') {
            return Ok(start + at as u64 + 1);
        }
        end = start;
    }
    Ok(0)
}

/// Bytes up to the end of the last whole pack.
fn whole_packs(path: &Path, file: &mut File) -> Result<u64, LogError> {
    let failed = |error: io::Error| LogError::file("write", path, &error);
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    let (mut whole, mut rest) = (0, Vec::new());
    let mut piece = vec![0; 1 << 16];
    loop {
        let read = file.read(&mut piece).map_err(failed)?;
        rest.extend_from_slice(piece.get(..read).unwrap_or_default());
        let mut at = 0;
        while let Some(left) = rest.get(at..).filter(|left| !left.is_empty()) {
            match senml::from_cbor(left) {
                Ok(Some((_, taken))) => at += taken,
                Ok(None) => break,
                // Not a cut one: what stands behind it may be somebody's.
                Err(why) => {
                    let place = whole + at as u64;
                    let failure = LogError::new(
                        LogErrorKind::File,
                        format!("cannot append to {}: byte {place} does not begin a SenML pack: {why}", path.display()),
                    );
                    return Err(failure.with_help("choose another name"));
                }
            }
        }
        rest.drain(..at);
        whole += at as u64;
        if read == 0 {
            return Ok(whole);
        }
    }
}
