//! Refilling keys that warm runs ask for.

use std::pin::pin;
use std::time::Duration;

use futures_util::future::select_all;
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::time::Instant;
use verax_api::FailureKind;
use verax_wire::{Reply, Request};

use super::cached::Refilled;
use super::events::CacheEventKind;
use super::frames::{milliseconds, unexpected};
use super::handle::Cache;
use super::refill::Holding;
use crate::error::ClientError;
use crate::wire::link::Undo;

/// How long one request waits for a key.
const WAIT: Duration = Duration::from_secs(20);

/// The pause after a failure that may pass.
const PAUSE: Duration = Duration::from_millis(500);

/// Whether repeating a request does not mend its failure.
fn is_lasting(error: &ClientError) -> bool {
    use FailureKind::{HasOrigin, Invalid, MissingScope, NotFound, NotSignedIn};
    let lasting = [HasOrigin, Invalid, MissingScope, NotFound, NotSignedIn];
    let is_invalid = matches!(error, ClientError::Invalid(_));
    is_invalid || error.failure().is_some_and(|kind| lasting.contains(&kind))
}

impl Cache {
    /// Refills keys that warm runs ask for, in a namespace without an origin: up to `concurrency`
    /// at the same time. The keys of a run are spread over all instances that call this. `refill`
    /// brings the value of a key, which is stored with the permit that came with the key; on an
    /// error, another instance may be asked.
    ///
    /// It goes on until it is dropped, over restarts of Verax, and returns only when repeating does
    /// not help, and why: a token without the rights to read and to write, or a namespace that has
    /// an origin or is gone.
    ///
    /// ```no_run
    /// use verax_client::{Cache, Refilled};
    /// # async fn allocation(key: String) -> Result<Option<u32>, std::io::Error> { Ok(None) }
    /// # async fn example(berths: Cache) {
    /// // In a task of its own, beside the service's other work.
    /// tokio::spawn(async move {
    ///     let refill = |key| async { allocation(key).await.map(Refilled::from) };
    ///     let ended = berths.serve_refills(4, refill).await;
    ///     eprintln!("berths are not refilled any more: {}", ended);
    /// });
    /// # }
    /// ```
    pub async fn serve_refills<T: Serialize + DeserializeOwned, E, F>(
        &self,
        concurrency: usize,
        refill: impl Fn(String) -> F,
    ) -> ClientError
    where
        F: Future<Output = Result<Refilled<T>, E>>,
    {
        select_all((0..concurrency.max(1)).map(|_| Box::pin(self.serve(&refill)))).await.0
    }

    async fn serve<T: Serialize + DeserializeOwned, E, F>(
        &self,
        refill: &impl Fn(String) -> F,
    ) -> ClientError
    where
        F: Future<Output = Result<Refilled<T>, E>>,
    {
        loop {
            let asked = Instant::now();
            match self.await_refill().await {
                Ok(Some((key, holding))) => {
                    let started = Instant::now();
                    match refill(key.clone()).await {
                        Ok(refilled) => {
                            drop(self.entry(key).keep(holding, refilled, started).await)
                        }
                        // Its permit is released when it is dropped.
                        Err(_) => self.note(CacheEventKind::RefillFailed, started),
                    }
                }
                // Whatever replies sooner, such as a proxy, does not make this loop spin.
                Ok(None) => tokio::time::sleep_until(asked + PAUSE).await,
                Err(error) if is_lasting(&error) => return error,
                Err(_) => tokio::time::sleep(PAUSE).await,
            }
        }
    }

    /// Waits for a key, with its permit; `None` if none was wanted.
    async fn await_refill(&self) -> Result<Option<(String, Holding)>, ClientError> {
        let options = &self.0.options;
        let call = pin!(async {
            let connection = self.0.transport.connection().await?;
            let (lease, wait) = (milliseconds(options.refill_lease), milliseconds(WAIT));
            let request = Request::AwaitRefill { lease, wait, owner: "" };
            let raw = self.call_on(&connection, &request, Some(Undo::Wanted)).await?;
            match raw.reply()? {
                Reply::Wanted { permit, key, .. } => {
                    Ok(Some((key.to_owned(), Holding::with_permit(self, key, permit))))
                }
                Reply::Miss => Ok(None),
                _ => Err(unexpected()),
            }
        });
        self.within(Instant::now(), WAIT + options.timeout, true, call).await
    }
}
