//! Runs, followed until they end.

use futures_util::StreamExt;
use serde_json::json;
use verax_api::Run;
use verax_client::Client;

use crate::failure::Failure;
use crate::output::Output;

/// Follows a run to its end, and calls `show` after each change. Ctrl-C stops the run itself, not
/// only this view of it, if it can be stopped.
pub(super) async fn follow<R: Run>(
    verax: &Client,
    mut run: R,
    mut show: impl FnMut(&R),
) -> Result<R, Failure> {
    let mut changes = Box::pin(verax.watch_run::<R>(run.id()).await?);
    let mut interrupted = false;
    loop {
        tokio::select! {
            change = changes.next() => match change {
                Some(change) => run = change?,
                None => return Ok(run),
            },
            _ = tokio::signal::ctrl_c(), if R::CAN_BE_STOPPED && !interrupted => {
                interrupted = true;
                verax.stop_run::<R>(run.id()).await?;
            }
        }
        show(&run);
    }
}

/// Refuses a run that the service did not bring to its end.
pub(super) fn completed<R: Run>(run: &R) -> Result<(), Failure> {
    match run.is_cut_short() {
        true => Err(Failure::failed(format!("Verax stopped before the {} ended", R::NAME))),
        false => Ok(()),
    }
}

pub(super) async fn stop<R: Run>(verax: &Client, output: Output, id: u64) -> Result<(), Failure> {
    verax.stop_run::<R>(id).await?;
    output.answer(&json!({ "stopping": id }), |_| format!("{} {id} stops", R::NAME))
}
