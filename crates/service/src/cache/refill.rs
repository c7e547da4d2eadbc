//! Carrying refills out: one task for each permit, which ends whatever its callers do.

use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt;
use verax_core::entry::Entry;
use verax_core::guard::RefusedReason;
use verax_core::{Key, Permit, Precondition, Timestamp};
use verax_origin::{OriginError, OriginValue, TraceContext};

use super::invalidation::Invalidation;
use super::tags::parse_tags;
use super::trace::RefillOutcome;
use super::waiter::{Told, Waited, tell_all};
use crate::namespace::{Namespace, count};
use crate::service::Service;

/// What a refill brought.
#[derive(Debug, Clone)]
pub struct Refilled {
    /// The entry, stored or not.
    pub entry: Entry,
    /// Whether it was stored. It is not when the key was invalidated or written while the origin
    /// was read, when the origin forbids it, or when it does not fit.
    pub stored: bool,
    /// How long the origin took.
    pub origin_took: Duration,
}

/// A permit outlives the origin's own time limit by this much, so that it lapses only when the
/// task that holds it is gone.
const GRACE: Duration = Duration::from_secs(2);

/// The hold when the origin's time limit is not known.
const LONGEST_HOLD: Duration = Duration::from_secs(305);

impl Service {
    pub(crate) fn hold_of(&self, namespace: &Namespace) -> Duration {
        let binding = namespace.binding();
        binding.origin.as_ref().map_or(LONGEST_HOLD, |origin| origin.total_timeout() + GRACE)
    }

    /// Refreshes a key unless a refill of it is under way.
    pub(crate) fn refresh_in_background(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        key: &Key,
        trace: Option<TraceContext>,
    ) {
        if namespace.binding().origin.is_none() {
            return;
        }
        let (now, hold) = (self.clock.now(), self.hold_of(namespace));
        let permit = self.cache.guard(namespace.id(), key).begin(namespace.id(), key, now, hold);
        if let Some(permit) = permit {
            self.start_refill(namespace, permit, trace);
        }
    }

    /// Starts the task that refills with a permit.
    pub(crate) fn start_refill(
        self: &Arc<Self>,
        namespace: &Arc<Namespace>,
        permit: Permit,
        trace: Option<TraceContext>,
    ) {
        let (service, namespace) = (Arc::clone(self), Arc::clone(namespace));
        tokio::spawn(async move {
            let reading =
                AssertUnwindSafe(service.read_origin(&namespace, &permit.key, trace.as_ref()));
            let outcome = reading.catch_unwind().await.unwrap_or_else(|_| {
                Err(OriginError::NoUrl("the refill failed inside Verax; its log says why".into()))
            });
            service.finish_refill(&namespace, &permit, outcome);
        });
    }

    async fn read_origin(
        &self,
        namespace: &Namespace,
        key: &Key,
        trace: Option<&TraceContext>,
    ) -> Result<OriginValue, OriginError> {
        let binding = namespace.binding();
        let (Some(origin), Some(choice)) = (&binding.origin, &binding.policy.origin) else {
            return Err(OriginError::NoUrl("the namespace no longer has an origin".into()));
        };
        let values = choice.key_pattern.values_of(key.as_str()).ok_or_else(|| {
            let pattern = &choice.key_pattern;
            OriginError::NoUrl(format!("it does not have the shape {pattern} of this namespace"))
        })?;
        count(&namespace.counters().origin_calls);
        let started = std::time::Instant::now();
        let outcome = origin.read_guarded(&values, trace).await;
        namespace.counters().origin_latency.record(started.elapsed());
        // An origin that has no such value has answered.
        if let Err(error) = &outcome
            && !matches!(error, OriginError::NoValue { .. })
        {
            count(&namespace.counters().origin_errors);
            tracing::debug!(namespace = %namespace.path(), %key, %error, "a refill failed");
        }
        outcome
    }

    fn finish_refill(
        &self,
        namespace: &Namespace,
        permit: &Permit,
        outcome: Result<OriginValue, OriginError>,
    ) {
        let now = self.clock.now();
        let largest = namespace.binding().policy.largest_value;
        let outcome = outcome.and_then(|value| match value.value.len() as u64 > largest {
            true => Err(OriginError::TooLarge { url: "this namespace".into(), limit: largest }),
            false => Ok(value),
        });
        // The permit is checked and the value stored under one lock, so an invalidation comes
        // either before, and voids the permit, or after, and removes the entry.
        let mut guard = self.cache.guard(permit.namespace, &permit.key);
        let began = guard.view(permit.namespace, &permit.key, permit.number);
        let began = began.map(|view| view.permit.since);
        let finished = guard.finish(permit.namespace, &permit.key, permit.number, now);
        let (refused, waiters) = match finished {
            Ok(waiters) => (None, waiters),
            Err(refused) => {
                count(&namespace.counters().refused_refills);
                (Some(refused.reason), refused.waiters)
            }
        };
        let may_store = refused.is_none();
        if may_store && matches!(outcome, Err(OriginError::NoValue { .. })) {
            self.keep_that_there_is_none(namespace, permit, now);
        }
        let result = outcome.map_err(Arc::new).map(|value| {
            let lifetime = namespace.lifetime();
            let tags = value.cache_groups.as_deref().map(parse_tags);
            // An origin's malformed field is passed over: the value is worth more than its tags.
            let tags = tags.and_then(Result::ok).unwrap_or_default();
            let entry = Entry::new(value.value, value.media_type, lifetime, now).with_tags(tags);
            let entry = entry.refilled_in(value.took);
            let wanted = may_store && !value.no_store && !lifetime.total().is_zero();
            let stored = wanted
                && namespace
                    .partition()
                    .put(&permit.key, &entry, Precondition::Always, now)
                    .is_ok();
            if stored {
                self.tell(namespace, Invalidation::Key(&permit.key));
            }
            Refilled { entry, stored, origin_took: value.took }
        });
        drop(guard);
        let outcome = match (&result, refused) {
            (_, Some(RefusedReason::Voided)) => RefillOutcome::Voided,
            (_, Some(RefusedReason::Lapsed)) => RefillOutcome::Lapsed,
            (Ok(refilled), None) if refilled.stored => RefillOutcome::Stored,
            (Ok(_), None) => RefillOutcome::NotStored,
            (Err(error), None) if error.kind() == "no-value" => RefillOutcome::NoValue,
            (Err(_), None) => RefillOutcome::Failed,
        };
        let took = match &result {
            Ok(refilled) => refilled.origin_took,
            Err(_) => began.map_or(Duration::ZERO, |began| now.since(began)),
        };
        let told = match result {
            Ok(refilled) => Told::Refilled(refilled),
            Err(error) => Told::OriginFailed(error),
        };
        // Counted first, so that who has its answer finds it counted.
        let (place, waited) = ((namespace, &permit.key), Waited::of(&waiters, now));
        self.refill_ended(place, "the service", took, outcome, waited, now);
        tell_all(waiters, &told);
    }

    /// The origin has no value: a copy from when it had one goes, and policy says how long that is
    /// remembered. The key's guard is held.
    fn keep_that_there_is_none(&self, namespace: &Namespace, permit: &Permit, now: Timestamp) {
        let max_age = namespace.binding().policy.negative_max_age;
        let entry = Entry::negative(max_age, now);
        let kept = !max_age.is_zero()
            && namespace.partition().put(&permit.key, &entry, Precondition::Always, now).is_ok();
        if !kept {
            namespace.partition().delete(permit.key.as_str(), now);
        }
        self.tell(namespace, Invalidation::Key(&permit.key));
    }
}
