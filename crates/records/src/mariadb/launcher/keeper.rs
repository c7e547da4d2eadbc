//! Keeps the server running, from one thread that lives as long as the server should.
//!
//! The parent-death signal is tied to the thread that started the child, so a dedicated thread is
//! necessary: a pool's thread may end, and would take the server with it.

use std::fs::File;
use std::path::PathBuf;
use std::process::{Child, Command};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::error::LaunchError;
use super::initialize::{self, Paths};

const LOOK_EVERY: Duration = Duration::from_millis(50);
/// How long a stop may take before the server is killed, which loses nothing: its log restores what
/// was acknowledged.
const STOP_TIMEOUT: Duration = Duration::from_secs(4);
const MAX_PAUSE: Duration = Duration::from_secs(15);

/// The delay before the first attempt; each further one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(100);

/// A server that ran at least this long is restarted without a longer delay: one that cannot start
/// ends sooner.
const STEADY: Duration = Duration::from_secs(1);

/// The socket's name within the data directory.
pub(super) const SOCKET: &str = "mariadbd.sock";

/// Where the server listens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ListenAddress {
    /// On the socket alone.
    Socket,
    /// On the socket, and on a port of 127.0.0.1.
    Loopback(u16),
}

#[derive(Debug, Default)]
struct State {
    child: Option<Child>,
    answered: bool,
    stopping: bool,
    ended: Option<String>,
}

/// The thread that keeps a server running.
#[derive(Debug)]
pub(super) struct Keeper {
    state: Arc<Mutex<State>>,
    thread: Option<JoinHandle<bool>>,
}

fn lock(state: &Mutex<State>) -> MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Keeper {
    /// Starts the server. Each server inherits `lock`, the lock on the directory.
    pub(super) fn start(
        program: PathBuf,
        paths: &Paths,
        listen: ListenAddress,
        lock: File,
    ) -> Result<Self, LaunchError> {
        let state = Arc::new(Mutex::new(State::default()));
        let (shared, paths_of_thread) = (Arc::clone(&state), paths.clone());
        let thread = std::thread::Builder::new()
            .name("mariadb-keeper".into())
            .spawn(move || keep(&shared, || command(&program, &paths_of_thread, listen, &lock)))
            .map_err(|source| LaunchError::Files {
                what: "could not start a thread for MariaDB in",
                path: paths.directory.clone(),
                source,
            })?;
        Ok(Self { state, thread: Some(thread) })
    }

    /// The server has responded: from now on it is restarted whenever it ends.
    pub(super) fn answered(&self) {
        lock(&self.state).answered = true;
    }

    /// How the first start ended, if it did.
    pub(super) fn ended_early(&self) -> Option<String> {
        lock(&self.state).ended.clone()
    }

    pub(super) fn process_id(&self) -> Option<u32> {
        lock(&self.state).child.as_ref().map(Child::id)
    }

    /// Stops the server; `false` if it had to be killed. Blocks until it has ended.
    pub(super) fn stop(mut self) -> bool {
        self.request_stop();
        self.thread.take().is_none_or(|thread| thread.join().unwrap_or(false))
    }

    fn request_stop(&self) {
        let mut state = lock(&self.state);
        state.stopping = true;
        signal(&state, Signal::SIGTERM);
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.request_stop();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Signals the child. The caller holds the lock under which the child is reaped, so the process id
/// is still the child's.
fn signal(state: &State, signal: Signal) {
    if let Some(child) = &state.child {
        let _ = kill(Pid::from_raw(child.id() as i32), signal);
    }
}

fn command(
    program: &std::path::Path,
    paths: &Paths,
    listen: ListenAddress,
    lock: &File,
) -> Result<Command, LaunchError> {
    let mut command = initialize::command(paths, program, "TERM", lock)?;
    command
        .arg(format!("--datadir={}", paths.seen(&paths.data).display()))
        .arg(format!("--init-file={}", paths.seen(&paths.accounts).display()))
        .arg(format!("--pid-file={}", paths.seen(&paths.process_id).display()))
        // Relative to the data directory, since a socket's path may not be longer than 107 bytes.
        .arg(format!("--socket={SOCKET}"))
        .args(["--skip-name-resolve", "--skip-log-bin", "--local-infile=0"])
        .args(["--character-set-server=utf8mb4", "--innodb-buffer-pool-size=128M"])
        .args(["--max-connections=200", "--performance-schema=OFF"]);
    match listen {
        ListenAddress::Socket => command.arg("--skip-networking"),
        ListenAddress::Loopback(port) => {
            command.arg(format!("--port={port}")).arg("--bind-address=127.0.0.1")
        }
    };
    Ok(command)
}

/// Runs and restarts the server until it is stopped; `false` if it had to be killed.
fn keep(state: &Mutex<State>, command: impl Fn() -> Result<Command, LaunchError>) -> bool {
    let mut pause = FIRST_PAUSE;
    loop {
        if lock(state).stopping {
            return true;
        }
        let started = Instant::now();
        let spawned = command().map_err(|e| e.to_string()).and_then(|mut command| {
            let mut state = lock(state);
            state.child = Some(command.spawn().map_err(|e| e.to_string())?);
            Ok(())
        });
        let ended = match spawned {
            Ok(()) => match wait(state) {
                Ended::Stopped { killed } => return !killed,
                Ended::ByItself(status) => status,
            },
            Err(reason) => reason,
        };
        {
            let mut state = lock(state);
            if !state.answered {
                // The first start failed: its waiter is notified, and there is no retry.
                state.ended = Some(ended);
                return true;
            }
        }
        if started.elapsed() > STEADY {
            pause = FIRST_PAUSE;
        }
        tracing::warn!(reason = %ended, pause_ms = pause.as_millis() as u64, "MariaDB ended; starting it again");
        let until = Instant::now() + pause;
        while Instant::now() < until && !lock(state).stopping {
            std::thread::sleep(LOOK_EVERY);
        }
        pause = (pause * 2).min(MAX_PAUSE);
    }
}

enum Ended {
    Stopped { killed: bool },
    ByItself(String),
}

fn wait(state: &Mutex<State>) -> Ended {
    let mut asked_at: Option<Instant> = None;
    let mut killed = false;
    loop {
        {
            let mut state = lock(state);
            let status = match state.child.as_mut().map(Child::try_wait) {
                Some(Ok(None)) => None,
                Some(Ok(Some(status))) => Some(status.to_string()),
                Some(Err(error)) => Some(error.to_string()),
                None => Some("it was not started".to_owned()),
            };
            if let Some(status) = status {
                state.child = None;
                return if state.stopping {
                    Ended::Stopped { killed }
                } else {
                    Ended::ByItself(status)
                };
            }
            if state.stopping {
                let asked = *asked_at.get_or_insert_with(Instant::now);
                if asked.elapsed() > STOP_TIMEOUT {
                    signal(&state, Signal::SIGKILL);
                    killed = true;
                }
            }
        }
        std::thread::sleep(LOOK_EVERY);
    }
}
