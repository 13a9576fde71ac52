//! Files that the command writes.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use serde::Serialize;

use crate::args::Format;
use crate::failure::Failure;

/// Writes a file whole or not at all: a new one beside its place, moved there when all of it is on the disk. What is
/// there already is kept unless `overwrite` says otherwise, or it is the same; and only a regular file that may be written
/// is ever replaced.
pub(crate) fn write_file(path: &Path, bytes: &[u8], overwrite: bool) -> Result<(), Failure> {
    let failed = |error: io::Error| Failure::file("write", path, &error);
    // Through a link to where it leads: the link stays one.
    let place = match fs::canonicalize(path) {
        Ok(place) => {
            let meta = fs::metadata(&place).map_err(failed)?;
            if !meta.is_file() {
                let what = if meta.is_dir() { "a folder" } else { "not a regular file" };
                return Err(Failure::told(format!("cannot write {}: it is {what}", path.display())).help("choose another name"));
            }
            if meta.len() == bytes.len() as u64 && fs::read(&place).is_ok_and(|known| known == bytes) {
                return Ok(());
            }
            if !overwrite {
                return Err(Failure::told(format!("{} already exists", path.display())).help("choose another name, or use --overwrite"));
            }
            if meta.permissions().readonly() {
                return Err(Failure::told(format!("cannot write {}: it is read-only", path.display())).help("choose another name"));
            }
            place
        }
        Err(_) if fs::symlink_metadata(path).is_ok() => {
            return Err(Failure::told(format!("cannot write {}: it is a link that leads nowhere", path.display())));
        }
        Err(_) => path.to_owned(),
    };
    let name = place.file_name().map_or_else(Default::default, |name| name.to_string_lossy().into_owned());
    let beside = place.with_file_name(format!(".{name}.{}.part", std::process::id()));
    let written = fs::OpenOptions::new().write(true).create_new(true).open(&beside).and_then(|mut file| {
        let done = file.write_all(bytes).and_then(|()| file.sync_all()).and_then(|()| fs::rename(&beside, &place));
        if done.is_err() {
            let _ = fs::remove_file(&beside);
        }
        done
    });
    written.map_err(failed)
}

/// Writes to a file, or to standard output where there is none.
pub(crate) fn write_to(path: Option<&Path>, text: &str, overwrite: bool) -> Result<(), Failure> {
    let Some(path) = path else {
        let mut out = std::io::stdout().lock();
        out.write_all(text.as_bytes())?;
        out.flush()?;
        return Ok(());
    };
    write_file(path, text.as_bytes(), overwrite)?;
    let _ = writeln!(anstream::stderr(), "wrote {}", path.display());
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
