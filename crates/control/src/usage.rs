//! Usage over time: counted every ten seconds, kept in the records, and read from there.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use verax_api::{UsageHistory, UsagePoint, moment};
use verax_core::access::{Right, Scope};
use verax_core::usage::{MAX_POINTS, UsageFigures, UsageStep};
use verax_core::{Name, NamespaceId, Timestamp};
use verax_records::{UsageOf, UsageQuery, UsageSample};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::membership::Role;
use crate::registry::Registered;
use crate::subject::Subject;

/// How often usage is counted.
const EVERY: Duration = Duration::from_secs(10);

/// Slots of coarse steps are kept this often before they end, so that little is lost in a crash.
const KEPT_EVERY: u64 = 6;

/// For how long ended slots wait for the records. After that there is a gap.
const MOST_LATE: Duration = Duration::from_secs(3_600);

/// The counters of a namespace at the end of the last count.
#[derive(Debug, Clone, Copy, Default)]
struct Counted {
    figures: UsageFigures,
}

/// What was counted and is not in the records yet, or not as a whole.
#[derive(Debug, Default)]
pub(crate) struct UsageCounts {
    /// Tells this process from others that count the same slot.
    writer: u64,
    last: Option<Timestamp>,
    before: HashMap<NamespaceId, Counted>,
    open: BTreeMap<(UsageStep, u64, Timestamp), UsageSample>,
    rounds: u64,
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
    fn count(&mut self, namespaces: &[(Arc<Registered>, u64)], now: Timestamp) {
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
    fn to_keep(&self, now: Timestamp, all: bool) -> Vec<UsageSample> {
        let all = all || self.rounds.is_multiple_of(KEPT_EVERY);
        let is_due = |sample: &&UsageSample| {
            all || sample.step == UsageStep::TenSeconds || sample.step.end(sample.at) <= now
        };
        self.open.values().filter(is_due).copied().collect()
    }

    /// Forgets ended slots: those that were kept, and others that are too late.
    fn forget(&mut self, now: Timestamp, kept: bool) {
        let late = if kept { Duration::ZERO } else { MOST_LATE };
        // A slot ends only when nothing more is counted for it.
        let past = now - EVERY - late;
        self.open.retain(|_, sample| sample.step.end(sample.at) > past);
    }
}

/// Counts and keeps usage until the service stops.
pub(crate) async fn keep_usage(control: Arc<Control>) {
    let mut ticks = tokio::time::interval(EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    ticks.tick().await;
    loop {
        ticks.tick().await;
        control.keep_usage_now(false).await;
    }
}

impl Control {
    /// Counts usage up to now and keeps it, with `all` also of slots that go on. A standby counts
    /// nothing.
    pub async fn keep_usage_now(&self, all: bool) {
        if self.role() != Role::Active {
            return;
        }
        let (writer, samples, now, rounds) = {
            let mut counts = self.usage.lock().unwrap_or_else(PoisonError::into_inner);
            let namespaces = self.registry.namespaces_with_tenants();
            let now = self.engine.now();
            counts.count(&namespaces, now);
            (counts.writer, counts.to_keep(now, all), now, counts.rounds)
        };
        let kept = self.records.keep_usage(writer, &samples).await;
        if let Err(error) = &kept {
            tracing::debug!(%error, "usage is kept later");
        }
        self.usage.lock().unwrap_or_else(PoisonError::into_inner).forget(now, kept.is_ok());
        if kept.is_ok() && rounds.is_multiple_of(KEPT_EVERY) {
            // What is too old does no harm until the next time.
            let _ = self.records.prune_usage(now).await;
        }
    }

    /// Usage over time: of a namespace, of a tenant, or of the whole service.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the range, or the records.
    pub async fn usage_history(
        &self,
        caller: &Caller,
        place: (Option<&Name>, Option<&Name>),
        range: (Option<Timestamp>, Option<Timestamp>),
        step_seconds: Option<u64>,
    ) -> Result<UsageHistory, ControlError> {
        let of = self.usage_of(caller, place)?;
        let now = self.engine.now();
        let to = range.1.unwrap_or(now).min(now);
        let from = range.0.unwrap_or(to - UsageStep::TenSeconds.kept_for());
        if from >= to {
            return Err(InvalidInput::EmptyRange.into());
        }
        let step = match step_seconds {
            None => UsageStep::choose(from, to, now),
            Some(seconds) => {
                let step = UsageStep::of_seconds(seconds);
                step.ok_or(InvalidInput::UsageStep { seconds })?
            }
        };
        let points = to.since(from).as_secs() / step.seconds();
        if points > MAX_POINTS {
            return Err(InvalidInput::UsagePoints { points, max: MAX_POINTS }.into());
        }
        let points = self.records.usage(&UsageQuery { of, step, from, to }).await?;
        Ok(UsageHistory {
            from: moment(step.slot(from)),
            to: moment(to),
            step_seconds: step.seconds(),
            items: points.iter().map(|point| point_to_api(point, step)).collect(),
        })
    }

    fn usage_of(
        &self,
        caller: &Caller,
        place: (Option<&Name>, Option<&Name>),
    ) -> Result<UsageOf, ControlError> {
        match place {
            (None, None) => {
                caller.needs(Scope::Admin)?;
                Ok(UsageOf::All)
            }
            (None, Some(_)) => Err(InvalidInput::NamespaceWithoutTenant.into()),
            (Some(tenant), None) => {
                caller.needs(Scope::tenant(Right::Observe, tenant))?;
                let id = self.registry.read().get(tenant).map(|tenant| tenant.id);
                let unknown = || ControlError::Unknown(Subject::Tenant(tenant.to_string()));
                Ok(UsageOf::Tenant(id.ok_or_else(unknown)?))
            }
            (Some(tenant), Some(namespace)) => {
                caller.needs_within(Right::Observe, tenant, namespace)?;
                Ok(UsageOf::Namespace(self.registry.namespace(tenant, namespace)?.id().0))
            }
        }
    }
}

fn point_to_api(point: &verax_records::UsagePoint, step: UsageStep) -> UsagePoint {
    let figures = &point.figures;
    UsagePoint {
        at: moment(point.at),
        covered_seconds: (point.covered_ms as f64 / 1_000.0).min(step.seconds() as f64),
        entries: figures.entries,
        bytes: figures.bytes,
        reads: figures.reads,
        hits: figures.hits,
        received_bytes: figures.received_bytes,
        sent_bytes: figures.sent_bytes,
        origin_reads: figures.origin_reads,
        origin_saved_seconds: figures.origin_saved_ms as f64 / 1_000.0,
        evictions: figures.evictions,
        expirations: figures.expirations,
        refusals: figures.refusals,
    }
}
