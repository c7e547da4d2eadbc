//! The counters of a namespace since the service started. Counting is one relaxed add.

use std::sync::atomic::{AtomicU64, Ordering};

use verax_core::memory_curve::AllReads;
use verax_core::meter::{LatencyCounts, LatencyMeter};
use verax_engine::events::{ChangeKind, Event, LookUp, OriginRead, RefillOutcome};

use crate::hits::HitCounters;

/// The counters of a namespace.
#[derive(Debug, Default)]
pub(crate) struct Counters {
    hits: HitCounters,
    stale_on_error: AtomicU64,
    refilled: AtomicU64,
    joined: AtomicU64,
    misses: AtomicU64,
    negative_hits: AtomicU64,
    puts: AtomicU64,
    deletes: AtomicU64,
    origin_calls: AtomicU64,
    origin_errors: AtomicU64,
    origin_refusals: AtomicU64,
    origin_writes: AtomicU64,
    permits: AtomicU64,
    quota_refusals: AtomicU64,
    refused_refills: AtomicU64,
    received_bytes: AtomicU64,
    damage_reports: AtomicU64,
    damaged_removals: AtomicU64,
    origin_latency: LatencyMeter,
    refill_latency: LatencyMeter,
    refills: [AtomicU64; RefillOutcome::ALL.len()],
}

impl Counters {
    /// Counts an event.
    pub(crate) fn count(&self, event: &Event<'_>) {
        match event {
            Event::Hits { fresh, stale, each } => self.hits.count(*fresh, *stale, *each),
            Event::Sent(bytes) => self.hits.count_sent(*bytes),
            Event::Received(bytes) => {
                self.received_bytes.fetch_add(*bytes, Ordering::Relaxed);
            }
            Event::LookUp(ended) => add(match ended {
                LookUp::StaleOnError => &self.stale_on_error,
                LookUp::Refilled => &self.refilled,
                LookUp::Joined => &self.joined,
                LookUp::Negative => &self.negative_hits,
                LookUp::Missed => &self.misses,
            }),
            Event::QuotaExceeded => add(&self.quota_refusals),
            Event::PermitGranted => add(&self.permits),
            Event::OriginRead(OriginRead::Answered(took)) => {
                add(&self.origin_calls);
                self.origin_latency.record(*took);
            }
            Event::OriginRead(OriginRead::Failed(took)) => {
                add(&self.origin_calls);
                add(&self.origin_errors);
                self.origin_latency.record(*took);
            }
            Event::OriginRead(OriginRead::Refused) => add(&self.origin_refusals),
            Event::CallerRead(took) => {
                add(&self.puts);
                self.origin_latency.record(*took);
            }
            Event::CallerFailed | Event::OriginWriteFailed => add(&self.origin_errors),
            Event::OriginWrite => add(&self.origin_writes),
            Event::RefillRefused => add(&self.refused_refills),
            Event::RefillEnded(record) => {
                add(&self.refills[record.outcome as usize]);
                self.refill_latency.record(record.took);
            }
            Event::Changed(change) => match change.kind {
                ChangeKind::Put => add(&self.puts),
                ChangeKind::Delete => add(&self.deletes),
                ChangeKind::Refill | ChangeKind::Lifetime | ChangeKind::Invalidate => {}
            },
            Event::Damage(record) => {
                add(&self.damage_reports);
                if record.removed {
                    add(&self.damaged_removals);
                }
            }
            Event::Lock(_) => {}
        }
    }

    /// How many reads there were, and how many of them the cache served.
    pub(crate) fn reads(&self) -> AllReads {
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let hits = self.hits.fresh() + self.hits.stale() + read(&self.negative_hits);
        let others = [&self.stale_on_error, &self.refilled, &self.joined, &self.misses];
        AllReads { reads: hits + others.into_iter().map(read).sum::<u64>(), hits }
    }

    /// The current counts.
    pub(crate) fn reading(&self) -> CounterReading {
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let (hits, joined, misses) = (self.hits.fresh(), read(&self.joined), read(&self.misses));
        let stale = self.hits.stale() + read(&self.stale_on_error);
        let (refilled, negative_hits) = (read(&self.refilled), read(&self.negative_hits));
        CounterReading {
            reads: self.reads().reads,
            hits,
            stale,
            refilled,
            joined,
            misses,
            negative_hits,
            puts: read(&self.puts),
            deletes: read(&self.deletes),
            permits: read(&self.permits),
            quota_refusals: read(&self.quota_refusals),
            origin_calls: read(&self.origin_calls),
            origin_errors: read(&self.origin_errors),
            origin_refusals: read(&self.origin_refusals),
            origin_writes: read(&self.origin_writes),
            refused_refills: read(&self.refused_refills),
            received_bytes: read(&self.received_bytes),
            sent_bytes: self.hits.sent_bytes(),
            damage_reports: read(&self.damage_reports),
            damaged_removals: read(&self.damaged_removals),
            refills: std::array::from_fn(|outcome| read(&self.refills[outcome])),
            refill_latency: self.refill_latency.counts(),
            hit_latency: self.hits.latency(),
            origin_latency: self.origin_latency.counts(),
        }
    }
}

/// Adds one.
fn add(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}

/// The counts of a namespace since the service started.
#[derive(Debug, Clone, Default)]
pub struct CounterReading {
    /// Reads.
    pub reads: u64,
    /// Fresh hits.
    pub hits: u64,
    /// Stale hits.
    pub stale: u64,
    /// Reads served by their own refill.
    pub refilled: u64,
    /// Reads that waited for another caller's refill.
    pub joined: u64,
    /// Misses.
    pub misses: u64,
    /// Reads answered with a negative entry.
    pub negative_hits: u64,
    /// Values stored by callers.
    pub puts: u64,
    /// Entries deleted by callers.
    pub deletes: u64,
    /// Requests refused because a quota was passed.
    pub quota_refusals: u64,
    /// Permits granted to callers that refill by themselves.
    pub permits: u64,
    /// Reads of the origin.
    pub origin_calls: u64,
    /// Failed reads of the origin, and failed write-throughs.
    pub origin_errors: u64,
    /// Reads refused before the origin: its circuit was open, or its queue full.
    pub origin_refusals: u64,
    /// Puts and deletes written through to the origin.
    pub origin_writes: u64,
    /// Refills not stored because the key was invalidated or written in the meantime.
    pub refused_refills: u64,
    /// Bytes of values that came from callers.
    pub received_bytes: u64,
    /// Bytes of values that were sent to callers.
    pub sent_bytes: u64,
    /// Reports of values that a client cannot decode.
    pub damage_reports: u64,
    /// Entries removed because of such a report.
    pub damaged_removals: u64,
    /// Ended refills, for each of [`RefillOutcome::ALL`].
    pub refills: [u64; RefillOutcome::ALL.len()],
    /// The duration of refills, from permit to end.
    pub refill_latency: LatencyCounts,
    /// Service-side latency of hits.
    pub hit_latency: LatencyCounts,
    /// Latency of reads of the origin.
    pub origin_latency: LatencyCounts,
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_refusal_counts_as_no_origin_read() {
        let counters = Counters::default();
        for _ in 0..7 {
            let read = OriginRead::Failed(Duration::from_millis(80));
            counters.count(&Event::OriginRead(read));
        }
        for _ in 0..673 {
            counters.count(&Event::OriginRead(OriginRead::Refused));
        }
        let reading = counters.reading();
        assert_eq!((reading.origin_calls, reading.origin_errors), (7, 7));
        assert_eq!(reading.origin_refusals, 673);
        assert_eq!(reading.origin_latency.samples(), 7);
    }
}
