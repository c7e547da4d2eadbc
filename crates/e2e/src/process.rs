//! Processes that end with the value that holds them.

use std::process::Child;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

/// Whether a process is running; a zombie is not.
pub fn is_running(process: u32) -> bool {
    std::fs::read(format!("/proc/{process}/cmdline")).is_ok_and(|text| !text.is_empty())
}

/// Sends a signal.
pub fn send(process: u32, signal: Signal) {
    let _ = kill(Pid::from_raw(process as i32), signal);
}

/// Asks a child to end, and kills it after a while.
pub(crate) fn end(child: &mut Child) {
    send(child.id(), Signal::SIGTERM);
    let asked = Instant::now();
    while child.try_wait().is_ok_and(|status| status.is_none()) {
        if asked.elapsed() > Duration::from_secs(40) {
            let _ = child.kill();
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A child that ends with this value.
#[derive(Debug)]
pub(crate) struct Process(pub(crate) Child);

impl Drop for Process {
    fn drop(&mut self) {
        end(&mut self.0);
    }
}
