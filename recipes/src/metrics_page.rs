//! The hit ratio in the application's own metrics.

use prometheus_client::encoding::text::encode;
use prometheus_client::registry::Registry;
use verax_client::{CacheMetrics, CacheOptions};

/// The application's metrics.
#[derive(Debug, Default)]
pub struct Metrics {
    registry: Registry,
    cache: CacheMetrics,
}

impl Metrics {
    /// Metrics with the cache's events.
    pub fn new() -> Self {
        let mut metrics = Self::default();
        metrics.cache.register(&mut metrics.registry);
        metrics
    }

    /// Options for the handles whose events are counted.
    pub fn cache_options(&self) -> CacheOptions {
        CacheOptions { hook: Some(self.cache.hook()), ..CacheOptions::default() }
    }

    /// The share of reads that the cache served.
    pub fn hit_ratio(&self) -> f64 {
        self.cache.hit_ratio().unwrap_or(0.0)
    }

    /// The page for the collector, in OpenMetrics.
    pub fn page(&self) -> String {
        let mut page = String::new();
        // Writing to a string does not fail.
        let _ = encode(&mut page, &self.registry);
        page
    }
}
