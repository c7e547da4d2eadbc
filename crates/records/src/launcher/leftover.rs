//! Ending what an earlier start left behind: a server that still runs, or files of one that does not.

use std::fs;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::LaunchError;
use super::initialise::Paths;

/// How long an old server may take to stop before it is killed.
const LONGEST_STOP: Duration = Duration::from_secs(30);

/// Ends the server that a process-id file names, if it is one of this directory, and removes the
/// file. A process that merely has the same number now is left alone.
pub(super) fn end(paths: &Paths) -> Result<(), LaunchError> {
    let Ok(text) = fs::read_to_string(&paths.process_id) else { return Ok(()) };
    if let Ok(process) = text.trim().parse::<i32>() {
        let started = Instant::now();
        let mut signal = Signal::SIGTERM;
        while is_ours(process, paths) {
            // A failure means that it ended in this moment, which the next look will show.
            let _ = kill(Pid::from_raw(process), signal);
            if started.elapsed() > LONGEST_STOP {
                signal = Signal::SIGKILL;
            }
            if started.elapsed() > 2 * LONGEST_STOP {
                return Err(LaunchError::Failed {
                    program: "mariadbd",
                    reason: format!("process {process} of an earlier start does not end"),
                    log: paths.log.clone(),
                });
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }
    let _ = fs::remove_file(&paths.process_id);
    Ok(())
}

fn is_ours(process: i32, paths: &Paths) -> bool {
    let Ok(command) = fs::read(format!("/proc/{process}/cmdline")) else { return false };
    let argument = format!("--datadir={}", paths.data.display());
    command.split(|b| *b == 0).any(|part| part == argument.as_bytes())
}
