//! Running a command under a lock.

use std::process::ExitStatus;
use std::time::Duration;

use nix::sys::signal::Signal;
use nix::unistd::Pid;
use tokio::process::{Child, Command};
use tokio::signal::unix::{SignalKind, signal};
use verax_client::{Client, LockGuard, LockOptions, LockOutcome};

use super::entries::namespace;
use super::lock_holder::holder_text;
use crate::arguments::{LockName, NamespacePath};
use crate::failure::Failure;
use crate::output::Output;

/// How long a command that lost its lock has to end by itself.
const MAX_END: Duration = Duration::from_secs(5);

/// Runs a command while holding a lock.
///
/// # Errors
/// [`Failure`]: somebody else holds it, it was lost, or the command failed, whose exit code it
/// carries.
pub(super) async fn run_under(
    verax: &Client,
    output: Output,
    lock: &LockName,
    options: &LockOptions,
    command: &[String],
) -> Result<(), Failure> {
    let NamespacePath { tenant, name } = &lock.place;
    let namespace = namespace(verax, &lock.place)?;
    let guard = match namespace.hold_lock(&lock.name, options).await? {
        LockOutcome::Acquired(guard) => guard,
        LockOutcome::HeldByOther(holder) => {
            return Err(Failure::refused(format!(
                "{} holds the lock {} of {tenant}/{name}; the command was not run",
                lock.name,
                holder_text(&holder)
            )));
        }
    };
    let mut child = match spawn(&guard, command) {
        Ok(child) => child,
        Err(failure) => {
            // Whoever is next in the queue need not wait for the lease to end.
            release(output, guard).await;
            return Err(failure);
        }
    };
    let status = match attend(&mut child, &guard).await? {
        Some(status) => status,
        None => {
            end(&mut child).await?;
            return Err(Failure::failed(format!(
                "the lease of the lock {} was lost, so the command was terminated",
                lock.name
            )));
        }
    };
    release(output, guard).await;
    match exit_code(status) {
        0 => Ok(()),
        code => Err(Failure::of_command(code)),
    }
}

fn spawn(guard: &LockGuard, command: &[String]) -> Result<Child, Failure> {
    let [program, arguments @ ..] = command else {
        return Err(Failure::usage("add the command to run after --"));
    };
    Command::new(program)
        .args(arguments)
        .env("VERAX_LOCK", guard.name())
        .env("VERAX_FENCING_TOKEN", guard.fencing_token().to_string())
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| Failure::failed(format!("{program} cannot be run: {error}")))
}

/// Waits for the command to end; `None` when the lock was lost before.
async fn attend(child: &mut Child, guard: &LockGuard) -> Result<Option<ExitStatus>, Failure> {
    // A terminal sends Ctrl-C to the command too; whoever ends this process alone means both.
    // Either way the lock is held until the command has ended.
    let mut interrupt = signal(SignalKind::interrupt())?;
    let mut terminate = signal(SignalKind::terminate())?;
    loop {
        tokio::select! {
            status = child.wait() => return Ok(Some(status?)),
            () = guard.lost() => return Ok(None),
            _ = interrupt.recv() => {}
            _ = terminate.recv() => tell(child, Signal::SIGTERM),
        }
    }
}

fn tell(child: &Child, signal: Signal) {
    if let Some(id) = child.id().and_then(|id| i32::try_from(id).ok()) {
        // It may have ended by itself meanwhile.
        let _ = nix::sys::signal::kill(Pid::from_raw(id), signal);
    }
}

/// A lease that cannot be released ends by itself, so that is no failure of the command.
async fn release(output: Output, guard: LockGuard) {
    let name = guard.name().to_owned();
    if let Err(error) = guard.release().await {
        output.remark(format!("the lock {name} could not be released: {error}"));
    }
}

/// Asks the command to end, and kills it if it does not.
async fn end(child: &mut Child) -> std::io::Result<()> {
    tell(child, Signal::SIGTERM);
    if tokio::time::timeout(MAX_END, child.wait()).await.is_ok() {
        return Ok(());
    }
    child.kill().await
}

/// The exit code of a command as a shell tells it: 128 and the signal's number when one ended it.
fn exit_code(status: ExitStatus) -> u8 {
    use std::os::unix::process::ExitStatusExt;
    let code = status.code().or_else(|| status.signal().map(|signal| 128 + signal));
    u8::try_from(code.unwrap_or(1)).unwrap_or(1)
}
