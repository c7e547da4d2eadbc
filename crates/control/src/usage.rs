//! Usage over time: counted every ten seconds, kept in the records, and read from there.

use std::sync::{Arc, PoisonError};

use verax_api::{UsageHistory, UsagePoint, moment};
use verax_core::access::{Right, Scope};
use verax_core::usage::{MAX_POINTS, UsageStep};
use verax_core::{Name, Timestamp};
use verax_records::{UsageOf, UsageQuery};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::membership::Role;
use crate::subject::Subject;
use crate::usage_counts::{EVERY, KEPT_EVERY};

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
