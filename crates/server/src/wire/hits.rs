//! Counts the hits of one socket read together.

use std::time::{Duration, Instant};

use verax_core::Timestamp;
use verax_engine::Reader;
use verax_service::Service;

/// The hits of one socket read: the clock is read and the counters are updated only once.
#[derive(Debug, Default)]
pub(super) struct Hits {
    started: Option<(Instant, Timestamp)>,
    of: Option<Reader>,
    fresh: u64,
    stale: u64,
    bytes: u64,
}

impl Hits {
    pub(super) fn add(&mut self, reader: &Reader, fresh: bool, bytes: usize) {
        if !self.of.as_ref().is_some_and(|of| of.same(reader)) {
            self.count();
            self.of = Some(reader.clone());
        }
        if fresh {
            self.fresh += 1
        } else {
            self.stale += 1
        }
        self.bytes += bytes as u64;
    }

    /// When the first of them began: the time for all of them.
    pub(super) fn begin(&mut self, service: &Service) -> Timestamp {
        self.started.get_or_insert_with(|| (Instant::now(), service.engine().now())).1
    }

    /// Adds the hits to the namespace's statistics.
    pub(super) fn count(&mut self) {
        let Some(reader) = self.of.take() else { return };
        let (fresh, stale) = (std::mem::take(&mut self.fresh), std::mem::take(&mut self.stale));
        let took = self.started.map_or(Duration::ZERO, |(started, _)| started.elapsed());
        let each = took / u32::try_from(fresh + stale).unwrap_or(1).max(1);
        reader.count_hits(fresh, stale, std::mem::take(&mut self.bytes), each);
    }
}
