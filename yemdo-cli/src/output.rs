//! Files that the command writes.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use serde::Serialize;

use crate::args::Format;
use crate::failure::Failure;

/// Writes a file beside its place and moves it there, so that it is never seen half-written.
pub(crate) fn write_whole(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let beside = path.with_extension("tmp");
    let written = fs::write(&beside, bytes).and_then(|()| fs::rename(&beside, path));
    written.map_err(|error| {
        let _ = fs::remove_file(&beside);
        Failure::file("write", path, &error)
    })
}

/// Writes to a file, or to standard output where there is none. What is there already is kept, unless told.
pub(crate) fn write_to(path: Option<&Path>, text: &str, overwrite: bool) -> Result<(), Failure> {
    let Some(path) = path else {
        let mut out = std::io::stdout().lock();
        out.write_all(text.as_bytes())?;
        out.flush()?;
        return Ok(());
    };
    if path.exists() && !overwrite {
        return Err(Failure::told(format!("{} already exists", path.display())).help("choose another name, or use --overwrite"));
    }
    write_whole(path, text.as_bytes())?;
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
