//! A bench as Modbus RTU server on a pseudo-terminal.

use std::fs::File;
use std::io::{self, ErrorKind, Read, Write};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use rustix::fs::OFlags;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

use yemdo::bus::modbus::{unwrap_rtu, with_crc};

use super::Rig;
use super::worker::Worker;
use crate::modbus::MAX_PDU;

/// A server that runs until it is dropped, or stopped.
#[derive(Debug)]
pub struct Terminal {
    path: PathBuf,
    worker: Worker,
}

/// Silence that ends a frame. A pseudo-terminal has no bits and so no 3.5 characters; the frame is taken as soon as its CRC fits.
const SILENCE: Duration = Duration::from_millis(20);

impl Terminal {
    /// The serial port for clients.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Frames that it has had.
    pub fn requests(&self) -> u64 {
        self.worker.requests()
    }
}

/// Serves the Modbus parts of a bench on a new pseudo-terminal. Time is real.
///
/// # Errors
/// The system has no pseudo-terminal to give.
pub fn serve_rtu(rig: &Rig) -> io::Result<Terminal> {
    let control = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY)?;
    grantpt(&control)?;
    unlockpt(&control)?;
    let name = ptsname(&control, Vec::new())?;
    let path = PathBuf::from(name.to_string_lossy().into_owned());
    // The far end stays open: without anybody on it, reads give errors.
    let far = File::options().read(true).write(true).open(&path)?;
    let mut raw = tcgetattr(&far)?;
    raw.make_raw();
    tcsetattr(&far, OptionalActions::Now, &raw)?;
    rustix::fs::fcntl_setfl(&control, OFlags::RDWR | OFlags::NONBLOCK)?;
    let rig = rig.clone();
    let mut line = File::from(control);
    let worker = Worker::start("modbus-rtu", move |running| {
        let _far = far;
        let start = Instant::now();
        let mut buffer: Vec<u8> = Vec::new();
        let mut heard = Instant::now();
        let mut room = [0; 512];
        while running.goes_on() {
            match line.read(&mut room) {
                Ok(count) if count > 0 => {
                    buffer.extend_from_slice(room.get(..count).unwrap_or(&[]));
                    heard = Instant::now();
                }
                Err(error) if !matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::Interrupted) => return,
                _ => thread::sleep(Duration::from_micros(200)),
            }
            if buffer.len() > MAX_PDU + 3 || (!buffer.is_empty() && heard.elapsed() > SILENCE) {
                buffer.clear();
            }
            let Ok((unit, pdu)) = unwrap_rtu(&buffer) else { continue };
            running.count();
            let pdu = pdu.to_vec();
            buffer.clear();
            if let Some(response) = rig.modbus_request(start, unit, &pdu) {
                let frame = with_crc([&[unit], response.as_slice()].concat());
                if write_all(&mut line, &frame).is_err() {
                    return;
                }
            }
        }
    })?;
    Ok(Terminal { path, worker })
}

/// Writes to a line that does not block.
fn write_all(line: &mut File, mut bytes: &[u8]) -> io::Result<()> {
    while !bytes.is_empty() {
        match line.write(bytes) {
            Ok(count) => bytes = bytes.get(count..).unwrap_or(&[]),
            Err(error) if error.kind() == ErrorKind::WouldBlock => thread::sleep(Duration::from_micros(200)),
            Err(error) => return Err(error),
        }
    }
    Ok(())
}
