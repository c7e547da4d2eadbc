//! A job that one instance of several does.

use verax_client::{Cache, ClientError, LockOptions, LockOutcome};

/// What became of the job.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Job {
    /// This instance did it.
    Done,
    /// Another instance is doing it.
    DoneByOther(String),
    /// The lease was lost midway: another instance may be doing it.
    Abandoned,
}

/// Publishes the timetable, unless another instance does. `publish` gets the fencing token, which
/// the timetable's store must compare: it refuses tokens smaller than the largest it has seen.
///
/// # Errors
/// [`ClientError`]: without Verax, nobody knows whether another instance is doing it.
pub async fn publish_once(
    jobs: &Cache,
    publish: impl AsyncFnOnce(u64) -> (),
) -> Result<Job, ClientError> {
    let guard = match jobs.hold_lock("publish-timetable", &LockOptions::default()).await? {
        LockOutcome::Acquired(guard) => guard,
        LockOutcome::HeldByOther(holder) => return Ok(Job::DoneByOther(holder.owner)),
    };
    tokio::select! {
        () = publish(guard.fencing_token()) => {}
        () = guard.lost() => return Ok(Job::Abandoned),
    }
    guard.release().await?;
    Ok(Job::Done)
}
