//! Devices of a Linux machine.

mod gpio;
mod i2c;
mod list;
mod open;
mod serial;
mod spi;

use std::io;
use std::path::Path;

pub use gpio::DataReady;
pub use i2c::I2cBus;
pub use list::{ListedBus, list, new_ones};
pub use open::{OpenError, Opened, PlaceOptions, open, stand_in};
pub use serial::{SerialLine, open_serial};
pub use spi::SpiBus;

use crate::error::{BusError, Cause};

/// Why a device cannot be opened, and what to do about it.
pub(crate) fn cannot_open(path: &str, group: &str, error: io::Error) -> BusError {
    let (cause, why, help) = match error.kind() {
        io::ErrorKind::NotFound => {
            let help = "`yemdo scan` without a place lists the buses and ports that there are";
            (Cause::Gone, "there is no such device".to_owned(), help.to_owned())
        }
        io::ErrorKind::PermissionDenied => {
            let (why, help) = match owner_group(path) {
                Some(owner) => (
                    format!("permission denied; it belongs to the group {owner}"),
                    format!("add yourself to its group, and log in again: sudo usermod -aG {owner} $USER"),
                ),
                None => {
                    let device = Path::new(path).file_name().map_or(path.into(), |name| name.to_string_lossy());
                    let rule = format!("KERNEL==\"{device}\", GROUP=\"{group}\", MODE=\"0660\"");
                    (
                        "permission denied; only root may open it".to_owned(),
                        format!("a udev rule gives it to a group that you are in: {rule}"),
                    )
                }
            };
            (Cause::NotPermitted, why, help)
        }
        io::ErrorKind::ResourceBusy => {
            let by = user_of(path).map_or(String::new(), |by| format!(" by {by}"));
            (Cause::InUse, format!("it is in use{by}"), "close the other program".to_owned())
        }
        _ => (Cause::Other, error.to_string(), String::new()),
    };
    let problem = BusError::new(cause, format!("cannot open {path}: {why}")).because(error);
    if help.is_empty() { problem } else { problem.help(help) }
}

/// The name of the group that a device belongs to.
fn owner_group(path: &str) -> Option<String> {
    use std::os::unix::fs::MetadataExt;
    let id = std::fs::metadata(path).ok()?.gid().to_string();
    let groups = std::fs::read_to_string("/etc/group").ok()?;
    let line = groups.lines().find(|line| line.split(':').nth(2) == Some(id.as_str()))?;
    line.split(':').next().map(str::to_owned).filter(|group| group != "root")
}

/// The program that has a device open, as `name (process 123)`; only programs of the same user can be seen.
pub(crate) fn user_of(path: &str) -> Option<String> {
    let wanted = std::fs::canonicalize(path).ok()?;
    for process in std::fs::read_dir("/proc").ok()?.flatten() {
        let id = process.file_name().to_string_lossy().into_owned();
        if !id.bytes().all(|byte| byte.is_ascii_digit()) || id == std::process::id().to_string() {
            continue;
        }
        let open = std::fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten();
        if open.into_iter().any(|file| std::fs::read_link(file.path()).is_ok_and(|link| link == wanted)) {
            let name = std::fs::read_to_string(process.path().join("comm")).unwrap_or_default();
            return Some(format!("{} (process {id})", name.trim()));
        }
    }
    None
}

/// Whether a path is there.
pub(crate) fn is_there(path: &str) -> bool {
    Path::new(path).exists()
}
