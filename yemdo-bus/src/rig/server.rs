//! A bench as Modbus TCP server, for other people's software (Modbus Messaging on TCP/IP V1.0b, section 3).

use std::io::{self, ErrorKind, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use yemdo::stand_in::{Reaction, StandIn};

use super::worker::{Running, Worker};
use super::{Rig, Slot};
use crate::modbus::MAX_PDU;

/// A server that runs until it is dropped, or stopped.
#[derive(Debug)]
pub struct Server {
    address: SocketAddr,
    worker: Worker,
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
        self.worker.requests()
    }

    /// Stops it.
    pub fn stop(self) {}
}

/// Serves the Modbus parts of a bench over TCP; port 0 takes a free one. Time is real: the bench's clock follows it.
///
/// # Errors
/// The address cannot be listened on.
pub fn serve_tcp(rig: &Rig, address: SocketAddr) -> io::Result<Server> {
    let listener = TcpListener::bind(address)?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    let (rig, start) = (rig.clone(), Instant::now());
    let worker = Worker::start("modbus-tcp", move |running| {
        let mut clients: Vec<JoinHandle<()>> = Vec::new();
        while running.goes_on() {
            match listener.accept() {
                Ok((stream, _)) => {
                    clients.retain(|client| !client.is_finished());
                    if clients.len() < MOST_CLIENTS {
                        let (rig, running) = (rig.clone(), running.clone());
                        let serve = move || {
                            // Whatever a client does ends its own connection only.
                            let _ = client(stream, &rig, start, &running);
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
    Ok(Server { address, worker })
}

fn client(mut stream: TcpStream, rig: &Rig, start: Instant, running: &Running) -> io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_read_timeout(Some(LOOK))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.set_nodelay(true)?;
    let mut buffer = Vec::new();
    let mut room = [0; 1024];
    let mut heard = Instant::now();
    while running.goes_on() && heard.elapsed() < PATIENCE {
        while let Some(&[t1, t2, p1, p2, high, low, unit]) = buffer.first_chunk::<7>() {
            let length = usize::from(u16::from_be_bytes([high, low]));
            // What is no Modbus, or longer than a request can be, ends the connection.
            if [p1, p2] != [0, 0] || !(2..=MAX_PDU + 1).contains(&length) {
                return Ok(());
            }
            let Some(pdu) = buffer.get(7..6 + length) else { break };
            running.count();
            if let Some(response) = rig.modbus_request(start, unit, pdu) {
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

/// How much later than other answers a late one is: clients have given up by then.
const LATE: Duration = Duration::from_millis(1500);

impl Rig {
    /// A request to whichever part has the unit, in real time; the response, when it is there.
    pub(super) fn modbus_request(&self, start: Instant, unit: u8, pdu: &[u8]) -> Option<Vec<u8>> {
        match self.modbus_reaction(start, unit, pdu) {
            Reaction::Answer(bytes) if !bytes.is_empty() => Some(bytes),
            Reaction::Late(bytes) => {
                thread::sleep(LATE);
                Some(bytes)
            }
            _ => None,
        }
    }

    fn modbus_reaction(&self, start: Instant, unit: u8, pdu: &[u8]) -> Reaction {
        let mut inner = self.lock();
        inner.now = inner.now.max(start.elapsed().as_micros() as u64);
        let now = inner.now;
        for Slot { stand_in, faults, .. } in inner.parts.iter_mut().filter(|slot| !slot.away) {
            let own = stand_in.part().buses().modbus.is_some() && (unit == 0 || stand_in.unit().is_none_or(|own| own == unit));
            if !own {
                continue;
            }
            let ask = |stand_in: &mut StandIn| stand_in.modbus(now, unit, pdu).map_or(Reaction::Silence, Reaction::Answer);
            let reaction = faults.transfer(stand_in, now, ask);
            if unit != 0 {
                return reaction;
            }
        }
        Reaction::Silence
    }
}
