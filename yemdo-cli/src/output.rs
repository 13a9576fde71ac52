//! Files that the command writes.

use std::fs;
use std::io::{self, IsTerminal, Write};
use std::path::{Path, PathBuf};

use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use yemdo::visible;
use yemdo_log::LogError;

use crate::args::Format;
use crate::failure::Failure;

/// Writes a file whole or not at all: a new one beside its place, moved there when all of it is on the disk. What is
/// there already is kept unless `overwrite` says otherwise, or it is the same; and only a regular file that may be written
/// is ever replaced.
pub(crate) fn write_file(path: &Path, bytes: &[u8], overwrite: bool) -> Result<(), Failure> {
    write_files(&[(path, bytes, overwrite)])
}

/// The same for several that belong together: none is moved to its place before all are on the disk.
pub(crate) fn write_files(files: &[(&Path, &[u8], bool)]) -> Result<(), Failure> {
    let mut places = Vec::new();
    for (path, bytes, overwrite) in files {
        places.extend(place(path, bytes, *overwrite)?.map(|place| (path, place, bytes)));
    }
    let mut beside = Beside(Vec::new());
    for (path, place, bytes) in &places {
        let name = place.file_name().map_or_else(Default::default, |name| name.to_string_lossy().into_owned());
        let new = place.with_file_name(format!(".{name}.{}.part", std::process::id()));
        let file = fs::OpenOptions::new().write(true).create_new(true).open(&new);
        let written = file.and_then(|mut file| {
            beside.0.push(new);
            file.write_all(bytes).and_then(|()| file.sync_all())
        });
        written.map_err(|error| Failure::file("write", path, &error))?;
    }
    for ((path, place, _), new) in places.iter().zip(&beside.0) {
        fs::rename(new, place).map_err(|error| Failure::file("write", path, &error))?;
    }
    Ok(())
}

/// A new file that is written piece by piece. It is at its place once it is whole.
pub(crate) struct NewFile {
    file: io::BufWriter<fs::File>,
    path: PathBuf,
    place: PathBuf,
    beside: Beside,
}

impl NewFile {
    pub(crate) fn create(path: &Path, overwrite: bool) -> Result<Self, Failure> {
        // An empty file is never the same as a whole one.
        let Some(place) = place(path, &[], overwrite)? else {
            return Err(Failure::error(format!("{} already exists", path.display())).help("choose another name, or use --overwrite"));
        };
        let name = place.file_name().map_or_else(Default::default, |name| name.to_string_lossy().into_owned());
        let new = place.with_file_name(format!(".{name}.{}.part", std::process::id()));
        let file = fs::OpenOptions::new().write(true).create_new(true).open(&new);
        let file = file.map_err(|error| Failure::file("write", path, &error))?;
        Ok(Self { file: io::BufWriter::new(file), path: path.to_owned(), place, beside: Beside(vec![new]) })
    }

    /// All of it is written.
    pub(crate) fn finish(&mut self) -> Result<(), Failure> {
        let failed = |error: io::Error| Failure::file("write", &self.path, &error);
        self.file.flush().and_then(|()| self.file.get_ref().sync_all()).map_err(failed)?;
        self.beside.0.iter().try_for_each(|new| fs::rename(new, &self.place)).map_err(failed)?;
        tell_written(&self.path);
        Ok(())
    }
}

impl Write for NewFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

/// Files that are not yet at their places: whatever happens, none stays.
struct Beside(Vec<PathBuf>);

impl Drop for Beside {
    fn drop(&mut self) {
        for file in &self.0 {
            let _ = fs::remove_file(file);
        }
    }
}

/// Where a file goes, or nothing where it is there already and the same.
fn place(path: &Path, bytes: &[u8], overwrite: bool) -> Result<Option<PathBuf>, Failure> {
    let failed = |error: io::Error| Failure::file("write", path, &error);
    // Through a link to where it leads: the link stays one.
    match fs::canonicalize(path) {
        Ok(place) => {
            let meta = fs::metadata(&place).map_err(failed)?;
            LogError::unless_file(path, &meta)?;
            if meta.len() == bytes.len() as u64 && fs::read(&place).is_ok_and(|known| known == bytes) {
                return Ok(None);
            }
            if !overwrite {
                return Err(Failure::error(format!("{} already exists", path.display())).help("choose another name, or use --overwrite"));
            }
            if meta.permissions().readonly() {
                return Err(Failure::error(format!("cannot write {}: it is read-only", path.display())).help("choose another name"));
            }
            Ok(Some(place))
        }
        Err(_) if fs::symlink_metadata(path).is_ok() => Err(Failure::error(format!("cannot write {}: broken link", path.display()))),
        Err(_) => Ok(Some(path.to_owned())),
    }
}

/// The name of a file, for messages.
pub(crate) fn shown(path: &Path) -> String {
    visible(&path.display().to_string()).into_owned()
}

/// Says that a file was written.
pub(crate) fn tell_written(path: &Path) {
    let _ = writeln!(anstream::stderr(), "wrote {}", shown(path));
}

/// Writes to a file, or to standard output without one.
pub(crate) fn write_to(path: Option<&Path>, text: &str, overwrite: bool) -> Result<(), Failure> {
    let Some(path) = path else {
        let mut out = std::io::stdout().lock();
        out.write_all(text.as_bytes())?;
        out.flush()?;
        return Ok(());
    };
    write_file(path, text.as_bytes(), overwrite)?;
    tell_written(path);
    Ok(())
}

/// A value as one line of JSON.
pub(crate) fn json_line(out: &mut (impl Write + ?Sized), value: &impl Serialize) -> Result<(), Failure> {
    serde_json::to_writer(&mut *out, value).map_err(io::Error::from)?;
    Ok(out.write_all(b"\n")?)
}

/// Standard output for many lines, and whether it takes no colours: then nothing has to be stripped of them.
pub(crate) fn many_lines(format: Format) -> (Box<dyn Write>, bool) {
    let out = io::stdout().lock();
    if format != Format::Table || anstream::AutoStream::choice(&out) == anstream::ColorChoice::Never {
        return (Box::new(io::BufWriter::with_capacity(1 << 16, out)), true);
    }
    (Box::new(io::BufWriter::with_capacity(1 << 16, anstream::AutoStream::auto(out))), false)
}

/// Progress through an input of this many bytes, for long ones that are not printed to the same terminal. `doing` is a verb: `decoding`.
pub(crate) fn progress(doing: &str, size: u64) -> ProgressBar {
    if size < 1 << 20 || !io::stderr().is_terminal() || io::stdout().is_terminal() {
        return ProgressBar::hidden();
    }
    let template = format!("{doing} {{bar:40}} {{percent:>3}} %  {{bytes}} of {{total_bytes}}, {{eta}} left");
    let bar = ProgressBar::new(size);
    bar.set_style(ProgressStyle::with_template(&template).unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar
}
