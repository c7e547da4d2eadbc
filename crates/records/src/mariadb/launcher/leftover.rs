//! Ends the processes of an earlier start: a server that still runs or is being initialized.

use std::fs::{self, File, TryLockError};
use std::os::unix::fs::OpenOptionsExt;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::error::LaunchError;
use super::initialize::{Paths, files};

/// How long an earlier server may take to stop before it is killed.
const STOP_TIMEOUT: Duration = Duration::from_secs(20);

const LOOK_EVERY: Duration = Duration::from_millis(20);

/// Locks the directory once no process of an earlier start uses it. Such processes are asked to
/// end, and killed if they do not.
///
/// Each server inherits the lock, so it is more reliable than a process-id file: it is free only
/// when the last of them has ended.
pub(super) fn take_hold(paths: &Paths) -> Result<File, LaunchError> {
    let mut options = File::options();
    options.read(true).append(true).create(true).mode(0o600);
    let lock = options.open(&paths.lock).map_err(files("could not open", &paths.lock))?;
    let started = Instant::now();
    loop {
        match lock.try_lock() {
            Ok(()) => break,
            Err(TryLockError::WouldBlock) => {}
            Err(TryLockError::Error(source)) => {
                return Err(files("could not lock", &paths.lock)(source));
            }
        }
        let late = started.elapsed() > STOP_TIMEOUT;
        let signal = if late { Signal::SIGKILL } else { Signal::SIGTERM };
        for process in ours(paths) {
            // A failure means that it just ended, which the next check shows.
            let _ = kill(Pid::from_raw(process), signal);
        }
        if started.elapsed() > 2 * STOP_TIMEOUT {
            return Err(LaunchError::Failed {
                program: "mariadbd",
                reason: format!(
                    "a process of an earlier start does not exit and holds {}",
                    paths.lock.display()
                ),
                log: paths.log.clone(),
            });
        }
        std::thread::sleep(LOOK_EVERY);
    }
    let _ = fs::remove_file(&paths.process_id);
    Ok(lock)
}

/// The servers of this directory, each with the lock as its standard output.
fn ours(paths: &Paths) -> Vec<i32> {
    let Ok(processes) = fs::read_dir("/proc") else { return Vec::new() };
    let numbers = processes.flatten().filter_map(|p| p.file_name().to_str()?.parse::<i32>().ok());
    let holds = |process: &i32| {
        fs::read_link(format!("/proc/{process}/fd/1")).is_ok_and(|output| output == paths.lock)
    };
    numbers.filter(holds).collect()
}
