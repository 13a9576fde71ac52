//! A thread that serves until it is dropped.

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::{self, JoinHandle};

/// A thread that serves, to be stopped.
#[derive(Debug)]
pub(super) struct Worker {
    running: Running,
    thread: Option<JoinHandle<()>>,
}

/// What the thread sees: whether it goes on; and counts what it served.
#[derive(Clone, Debug)]
pub(super) struct Running {
    stop: Arc<AtomicBool>,
    requests: Arc<AtomicU64>,
}

impl Running {
    pub(super) fn goes_on(&self) -> bool {
        !self.stop.load(Ordering::Relaxed)
    }

    pub(super) fn count(&self) {
        self.requests.fetch_add(1, Ordering::Relaxed);
    }
}

impl Worker {
    pub(super) fn start(name: &str, work: impl FnOnce(&Running) + Send + 'static) -> io::Result<Self> {
        let running = Running { stop: Arc::new(AtomicBool::new(false)), requests: Arc::new(AtomicU64::new(0)) };
        let seen = running.clone();
        let thread = thread::Builder::new().name(name.into()).spawn(move || work(&seen))?;
        Ok(Self { running, thread: Some(thread) })
    }

    pub(super) fn requests(&self) -> u64 {
        self.running.requests.load(Ordering::Relaxed)
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        self.running.stop.store(true, Ordering::Relaxed);
        self.thread.take().into_iter().for_each(|thread| {
            let _ = thread.join();
        });
    }
}
