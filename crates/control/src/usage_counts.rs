//! What namespaces used since the last count, until the records have it.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use verax_core::usage::{UsageFigures, UsageStep};
use verax_core::{NamespaceId, Timestamp};
use verax_records::UsageSample;

use crate::registry::Registered;

/// How often usage is counted.
pub(crate) const EVERY: Duration = Duration::from_secs(10);

/// Slots of coarse steps are kept this often before they end, so that little is lost in a crash.
pub(crate) const KEPT_EVERY: u64 = 6;

/// For how long ended slots wait for the records, at least: as long as a slot if that is longer.
/// After that there is a gap.
const MAX_LATE: Duration = Duration::from_secs(300);

/// The counters of a namespace at the end of the last count.
#[derive(Debug, Clone, Copy, Default)]
struct Counted {
    figures: UsageFigures,
}

/// What was counted and is not in the records yet, or not as a whole.
#[derive(Debug, Default)]
pub(crate) struct UsageCounts {
    /// Tells this process from others that count the same slot.
    pub(crate) writer: u64,
    last: Option<Timestamp>,
    before: HashMap<NamespaceId, Counted>,
    open: BTreeMap<(UsageStep, u64, Timestamp), UsageSample>,
    pub(crate) rounds: u64,
}

/// All counters of a namespace since the start.
fn counters(registered: &Registered) -> UsageFigures {
    let (reading, usage) = (registered.statistics().reading(), registered.usage());
    // What a hit saves is what the namespace's origin took on average.
    let origin = &reading.origin_latency;
    let hits = reading.hits + reading.stale + reading.negative_hits;
    let average_ms = match origin.samples() {
        0 => 0.0,
        samples => origin.total().as_secs_f64() * 1_000.0 / samples as f64,
    };
    UsageFigures {
        entries: usage.entries,
        bytes: usage.bytes,
        reads: reading.reads,
        hits,
        received_bytes: reading.received_bytes,
        sent_bytes: reading.sent_bytes,
        origin_reads: origin.samples(),
        origin_saved_ms: (hits as f64 * average_ms) as u64,
        evictions: registered.evicted(),
        expirations: registered.expired(),
        refusals: reading.quota_refusals,
    }
}

/// What was used between two counts.
fn difference(now: &UsageFigures, before: &UsageFigures) -> UsageFigures {
    UsageFigures {
        entries: now.entries,
        bytes: now.bytes,
        reads: now.reads.saturating_sub(before.reads),
        hits: now.hits.saturating_sub(before.hits),
        received_bytes: now.received_bytes.saturating_sub(before.received_bytes),
        sent_bytes: now.sent_bytes.saturating_sub(before.sent_bytes),
        origin_reads: now.origin_reads.saturating_sub(before.origin_reads),
        // The average changes, so the sum may fall.
        origin_saved_ms: now.origin_saved_ms.saturating_sub(before.origin_saved_ms),
        evictions: now.evictions.saturating_sub(before.evictions),
        expirations: now.expirations.saturating_sub(before.expirations),
        refusals: now.refusals.saturating_sub(before.refusals),
    }
}

impl UsageCounts {
    /// Counts what was used since the last count.
    pub(crate) fn count(&mut self, namespaces: &[(Arc<Registered>, u64)], now: Timestamp) {
        let covered = self.last.map_or(EVERY, |last| now.since(last)).min(2 * EVERY);
        if self.writer == 0 {
            self.writer = now.as_millis().max(1);
        }
        self.last = Some(now);
        self.rounds += 1;
        // What was counted just now belongs to the time before it.
        let middle = now - covered / 2;
        let mut counted = HashMap::with_capacity(namespaces.len());
        for (registered, tenant_id) in namespaces {
            let (id, figures) = (registered.id(), counters(registered));
            let before = self.before.get(&id).copied().unwrap_or_default();
            let used = difference(&figures, &before.figures);
            counted.insert(id, Counted { figures });
            for step in UsageStep::ALL {
                let at = step.slot(middle);
                let sample = self.open.entry((step, id.0, at)).or_insert_with(|| UsageSample {
                    step,
                    at,
                    tenant_id: *tenant_id,
                    namespace_id: id.0,
                    covered_ms: 0,
                    figures: UsageFigures::default(),
                });
                sample.covered_ms += covered.as_millis() as u64;
                sample.figures.then(&used);
            }
        }
        self.before = counted;
    }

    /// What to keep now: slots that have ended, and sometimes or with `all` the others, too.
    pub(crate) fn to_keep(&self, now: Timestamp, all: bool) -> Vec<UsageSample> {
        let all = all || self.rounds.is_multiple_of(KEPT_EVERY);
        let is_due = |sample: &&UsageSample| {
            all || sample.step == UsageStep::TenSeconds || sample.step.end(sample.at) <= now
        };
        self.open.values().filter(is_due).copied().collect()
    }

    /// Forgets ended slots: those that were kept, and others that are too late.
    pub(crate) fn forget(&mut self, now: Timestamp, kept: bool) {
        self.open.retain(|_, sample| {
            let late = match kept {
                true => Duration::ZERO,
                false => MAX_LATE.max(Duration::from_secs(sample.step.seconds())),
            };
            // A slot ends only when nothing more is counted for it.
            sample.step.end(sample.at) > now - EVERY - late
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_waits_for_the_records_is_bounded() {
        let mut counts = UsageCounts::default();
        // Nothing is kept for a day.
        for round in 1..=8_640 {
            let now = Timestamp::from_millis(round * 10_000);
            for step in UsageStep::ALL {
                let (at, figures) = (step.slot(now), UsageFigures::default());
                let (tenant_id, namespace_id, covered_ms) = (1, 1, 10_000);
                let sample = UsageSample { step, at, tenant_id, namespace_id, covered_ms, figures };
                counts.open.insert((step, 1, at), sample);
            }
            counts.forget(now, false);
            assert!(counts.open.len() <= 50, "{} in round {round}", counts.open.len());
        }
        // Coarse slots are not lost because finer ones are.
        let is_coarse = |key: &&(UsageStep, u64, Timestamp)| key.0 == UsageStep::QuarterHour;
        assert!(counts.open.keys().filter(is_coarse).count() >= 2);
        counts.forget(Timestamp::from_millis(8_641 * 10_000), true);
        assert!(counts.open.len() <= 2 * UsageStep::ALL.len());
    }
}
