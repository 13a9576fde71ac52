//! A bench as Modbus TCP server, for other people's software (Modbus Messaging on TCP/IP V1.0b, section 3).

use std::io::{self, ErrorKind, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use yemdo::stand_in::{Fault, Reaction};

use super::Rig;
use crate::modbus::MAX_PDU;

/// A server that runs until it is dropped, or stopped.
#[derive(Debug)]
pub struct Server {
    address: SocketAddr,
    stop: Arc<AtomicBool>,
    requests: Arc<AtomicU64>,
    thread: Option<JoinHandle<()>>,
}

/// So many clients are served at once.
const MOST_CLIENTS: usize = 64;
/// A client that is silent so long is let go.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often a waiting thread looks whether it should stop.
const LOOK: Duration = Duration::from_millis(50);

impl Server {
    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Requests that it has had.
    pub fn requests(&self) -> u64 {
        self.requests.load(Ordering::Relaxed)
    }

    /// Stops it.
    pub fn stop(mut self) {
        self.halt();
    }

    fn halt(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.thread.take().into_iter().for_each(|thread| {
            let _ = thread.join();
        });
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.halt();
    }
}

/// Serves the Modbus parts of a bench over TCP; port 0 takes a free one. Time is real: the bench's clock follows it.
///
/// # Errors
/// The address cannot be listened on.
pub fn serve_tcp(rig: &Rig, address: SocketAddr) -> io::Result<Server> {
    let listener = TcpListener::bind(address)?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    let (stop, requests) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let (rig, stopped, counted) = (rig.clone(), Arc::clone(&stop), Arc::clone(&requests));
    let start = Instant::now();
    let thread = thread::Builder::new().name("modbus-tcp".into()).spawn(move || {
        let mut clients: Vec<JoinHandle<()>> = Vec::new();
        while !stopped.load(Ordering::Relaxed) {
            match listener.accept() {
                Ok((stream, _)) => {
                    clients.retain(|client| !client.is_finished());
                    if clients.len() < MOST_CLIENTS {
                        let (rig, stopped, counted) = (rig.clone(), Arc::clone(&stopped), Arc::clone(&counted));
                        let serve = move || {
                            // Whatever a client does ends its own connection only.
                            let _ = client(stream, &rig, start, &stopped, &counted);
                        };
                        clients.extend(thread::Builder::new().spawn(serve));
                    }
                }
                Err(_) => thread::sleep(Duration::from_millis(2)),
            }
        }
        for client in clients {
            let _ = client.join();
        }
    })?;
    Ok(Server { address, stop, requests, thread: Some(thread) })
}

fn client(mut stream: TcpStream, rig: &Rig, start: Instant, stop: &AtomicBool, requests: &AtomicU64) -> io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_read_timeout(Some(LOOK))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.set_nodelay(true)?;
    let mut buffer = Vec::new();
    let mut room = [0; 1024];
    let mut heard = Instant::now();
    while !stop.load(Ordering::Relaxed) && heard.elapsed() < PATIENCE {
        while let Some(&[t1, t2, p1, p2, high, low, unit]) = buffer.first_chunk::<7>() {
            let length = usize::from(u16::from_be_bytes([high, low]));
            // What is no Modbus, or longer than a request can be, ends the connection.
            if [p1, p2] != [0, 0] || !(2..=MAX_PDU + 1).contains(&length) {
                return Ok(());
            }
            let Some(pdu) = buffer.get(7..6 + length) else { break };
            requests.fetch_add(1, Ordering::Relaxed);
            let answer = rig.modbus_request(start, unit, pdu);
            if let Some((response, late)) = answer {
                if late {
                    thread::sleep(Duration::from_millis(1500));
                }
                let length = u16::try_from(response.len() + 1).unwrap_or(u16::MAX).to_be_bytes();
                stream.write_all(&[&[t1, t2, 0, 0, length[0], length[1], unit], response.as_slice()].concat())?;
            }
            buffer.drain(..6 + length);
        }
        match stream.read(&mut room) {
            Ok(0) => return Ok(()),
            Ok(count) => {
                heard = Instant::now();
                buffer.extend_from_slice(room.get(..count).unwrap_or(&[]));
            }
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

impl Rig {
    /// A request to whichever part has the unit, in real time; the response, and whether it comes late.
    pub(super) fn modbus_request(&self, start: Instant, unit: u8, pdu: &[u8]) -> Option<(Vec<u8>, bool)> {
        let mut inner = self.lock();
        inner.now = inner.now.max(start.elapsed().as_micros() as u64);
        let now = inner.now;
        for slot in inner.parts.iter_mut().filter(|slot| !slot.away) {
            let own = slot.stand_in.part().buses().modbus.is_some() && (unit == 0 || slot.stand_in.unit().is_none_or(|own| own == unit));
            if !own {
                continue;
            }
            let fault = slot.faults.draw();
            if fault.is_some() {
                slot.stand_in.excuse();
            }
            if fault == Some(Fault::Reset) {
                slot.stand_in.reset_unseen(now);
            }
            let response = slot.stand_in.modbus(now, unit, pdu);
            if unit == 0 {
                continue;
            }
            let response = response?;
            return match fault {
                None | Some(Fault::Reset) => Some((response, false)),
                Some(Fault::LateAnswer) => Some((response, true)),
                Some(fault) => match fault.bend(response, slot.faults.random()) {
                    Reaction::Answer(bytes) if !bytes.is_empty() => Some((bytes, false)),
                    _ => None,
                },
            };
        }
        None
    }
}
