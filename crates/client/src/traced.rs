//! A handle's events in the application's log.

use std::sync::Arc;

use crate::cache::EventHook;

/// A hook for [`CacheOptions`](crate::CacheOptions) that writes each event to the application's
/// log: with a reason at level `warn`, others at level `trace`.
///
/// ```
/// use verax_client::{CacheOptions, traced};
///
/// let options = CacheOptions { hook: Some(traced()), ..CacheOptions::default() };
/// # let _ = options;
/// ```
pub fn traced() -> EventHook {
    Arc::new(|event| {
        let (tenant, namespace, kind) = (event.tenant, event.namespace, event.kind.name());
        let took_ms = event.took.as_secs_f64() * 1_000.0;
        match event.reason {
            Some(reason) => {
                tracing::warn!(target: "verax_client", tenant, namespace, took_ms, %reason, "{kind}");
            }
            None => {
                let bytes = event.bytes;
                tracing::trace!(target: "verax_client", tenant, namespace, took_ms, bytes, "{kind}");
            }
        }
    })
}
