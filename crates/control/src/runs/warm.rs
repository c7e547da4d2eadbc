//! Warm runs: refill many keys ahead of time, a few concurrently.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::time::Instant;

use futures_util::StreamExt;
use futures_util::stream;
use verax_api::{WarmFailure, WarmRequest, WarmRun, moment};
use verax_core::access::{Right, Scope};
use verax_core::{Key, Name};
use verax_engine::Warmer;
use verax_records::RunState;

use super::keys::target_of;
use super::lifecycle::{NewLife, RunEnd};
use super::table::{RunOf, Watched};
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;

/// The range of concurrent refills in a warm run.
pub const CONCURRENCIES: RangeInclusive<u32> = 1..=256;

const DEFAULT_CONCURRENCY: u32 = 4;
const MAX_FAILURES: usize = 20;

impl Control {
    /// Starts a warm run: every key is read from the origin and stored, even over a fresh entry,
    /// which stays readable until then.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the pattern and its values, or the records.
    pub async fn start_warm_run(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        request: &WarmRequest,
    ) -> Result<Arc<Watched<WarmRun>>, ControlError> {
        caller.needs(Scope::within(Right::Warm, tenant, name))?;
        let namespace = self.registry.namespace(tenant, name)?;
        let concurrency = request.concurrency.unwrap_or(DEFAULT_CONCURRENCY);
        if !CONCURRENCIES.contains(&concurrency) {
            return Err(InvalidInput::OutOfRange {
                what: "the concurrency",
                value: concurrency,
                range: CONCURRENCIES,
            }
            .into());
        }
        let target = target_of(&namespace, request.pattern.as_deref(), &request.values).await?;
        let (keys, now) = (target.keys, self.engine.now());
        let title = request.pattern.clone().unwrap_or_else(|| target.pattern.to_string());
        let run = WarmRun {
            id: 0,
            tenant: tenant.to_string(),
            namespace: name.to_string(),
            state: RunState::Running.name().into(),
            started_at: moment(now),
            elapsed_ms: 0.0,
            keys: keys.len() as u64,
            stored: 0,
            failed: 0,
            per_second: 0.0,
            failures: Vec::new(),
        };
        let detail = serde_json::json!({ "keys": keys.len() });
        let warmer = Warmer::open(Arc::clone(namespace.namespace()));
        let new = NewLife { of: RunOf::Namespace(namespace), title, detail, run, slot: None };
        self.start_run(caller, new, move |_, run| async move {
            warm(&run, &warmer, keys, concurrency as usize).await
        })
        .await
    }
}

/// Refills keys, a few concurrently, until all are done or the run is stopped.
async fn warm(
    run: &Watched<WarmRun>,
    warmer: &Warmer,
    keys: Vec<Key>,
    concurrency: usize,
) -> RunEnd<WarmRun> {
    let started = Instant::now();
    let stop = run.stop_signal();
    let refilling = stream::iter(keys)
        .take_while(|_| std::future::ready(!*stop.borrow()))
        .for_each_concurrent(concurrency, async |key| {
            let outcome = match warmer.refill(&key).await {
                Ok(refilled) if refilled.stored => Ok(()),
                Ok(_) => Err("read but not stored: it was invalidated meanwhile, or the origin forbids storing".to_owned()),
                Err(error) => Err(error.to_string()),
            };
            run.change(|state| {
                match outcome {
                    Ok(()) => state.stored += 1,
                    Err(reason) => {
                        state.failed += 1;
                        if state.failures.len() < MAX_FAILURES {
                            state.failures.push(WarmFailure { key: key.to_string(), reason });
                        }
                    }
                }
                let elapsed = started.elapsed().as_secs_f64();
                state.elapsed_ms = elapsed * 1_000.0;
                state.per_second = (state.stored + state.failed) as f64 / elapsed.max(1e-9);
            });
        });
    refilling.await;
    RunEnd::of(if *stop.borrow() { RunState::Stopped } else { RunState::Done })
}
