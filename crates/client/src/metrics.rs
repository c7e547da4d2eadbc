//! A handle's events as OpenMetrics counters.

use std::sync::Arc;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::registry::{Registry, Unit};

use crate::cache::{CacheEvent, CacheEventKind, EventHook};

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Labels {
    tenant: String,
    namespace: String,
    event: &'static str,
}

/// Counts the events of handles, for the application's own metrics page.
///
/// ```
/// use prometheus_client::registry::Registry;
/// use verax_client::{CacheMetrics, CacheOptions};
///
/// let (metrics, mut registry) = (CacheMetrics::default(), Registry::default());
/// metrics.register(&mut registry);
/// let options = CacheOptions { hook: Some(metrics.hook()), ..CacheOptions::default() };
/// # let _ = options;
/// assert_eq!(metrics.hit_ratio(), None);
/// ```
#[derive(Debug, Clone, Default)]
pub struct CacheMetrics {
    events: Family<Labels, Counter>,
    seconds: Family<Labels, Counter<f64, std::sync::atomic::AtomicU64>>,
    hits: Counter,
    reads: Counter,
}

impl CacheMetrics {
    /// The hook for [`CacheOptions`](crate::CacheOptions); several handles may share it.
    pub fn hook(&self) -> EventHook {
        let metrics = self.clone();
        Arc::new(move |event| metrics.count(event))
    }

    /// Adds its metrics to an application's registry: `verax_client_events_total` and
    /// `verax_client_events_seconds_total`, by tenant, namespace and event.
    pub fn register(&self, registry: &mut Registry) {
        let help = "Events of cache handles";
        registry.register("verax_client_events", help, self.events.clone());
        let help = "Time that events of cache handles took";
        let seconds = self.seconds.clone();
        registry.register_with_unit("verax_client_events", help, Unit::Seconds, seconds);
    }

    /// The share of reads that were served from the cache, near copies and stale ones included;
    /// `None` before the first read.
    pub fn hit_ratio(&self) -> Option<f64> {
        let reads = self.reads.get();
        (reads > 0).then(|| self.hits.get() as f64 / reads as f64)
    }

    fn count(&self, event: &CacheEvent<'_>) {
        let (tenant, namespace) = (event.tenant.to_owned(), event.namespace.to_owned());
        let labels = Labels { tenant, namespace, event: event.kind.name() };
        self.events.get_or_create(&labels).inc();
        self.seconds.get_or_create(&labels).inc_by(event.took.as_secs_f64());
        let is_hit = match event.kind {
            CacheEventKind::NearHit
            | CacheEventKind::Hit
            | CacheEventKind::Stale
            | CacheEventKind::StaleOnError
            | CacheEventKind::Negative => true,
            CacheEventKind::Miss | CacheEventKind::Failure | CacheEventKind::Skipped => false,
            _ => return,
        };
        self.reads.inc();
        self.hits.inc_by(is_hit.into());
    }
}
