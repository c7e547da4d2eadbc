//! Runs refills: one task for each permit, which finishes even if its callers go away.

use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt;
use verax_core::entry::{Entry, MediaType};
use verax_core::guard::RefusedReason;
use verax_core::{EntityTag, Key, Lifetime, Partition, Permit, Precondition, Timestamp};
use verax_origin::{OriginError, OriginValue, SparePlace, TraceContext};

use super::change::Attempt;
use super::tags::parse_tags;
use super::waiter::{Refilled, WaitOutcome, Waited, notify_all};
use crate::engine::Namespace;
use crate::events::{Event, OriginRead, RefillOutcome, RefillRecord};

/// By how much a permit's lease exceeds the origin's timeout, so that it expires only if its task
/// is gone.
const GRACE: Duration = Duration::from_secs(2);

/// The lease when the origin's timeout is unknown.
const MAX_LEASE: Duration = Duration::from_secs(305);

/// How a refill is made.
#[derive(Debug, Default)]
pub struct RefillTerms {
    /// Forwarded to the origin.
    pub trace: Option<TraceContext>,
    /// A place at the origin that was taken before.
    pub place: Option<SparePlace>,
    /// The max-age of the value, instead of the policy's.
    pub max_age: Option<Duration>,
}

impl RefillTerms {
    /// The terms of a refill on behalf of a caller.
    pub(crate) fn traced(trace: Option<TraceContext>) -> Self {
        Self { trace, ..Self::default() }
    }

    /// The terms of one more attempt; only the first has the place.
    pub(super) fn again(&mut self) -> Self {
        let (trace, place) = (self.trace.clone(), self.place.take());
        Self { trace, place, max_age: self.max_age }
    }
}

/// What came from the origin.
struct Arrived {
    entry: Entry,
    /// Whether its lifetime is more than zero.
    may_be_stored: bool,
    /// How long the origin took.
    took: Duration,
}

/// What became of a refill.
pub(super) struct EndedRefill {
    pub(super) took: Duration,
    pub(super) outcome: RefillOutcome,
    /// Of the value that was stored.
    pub(super) entity_tag: Option<EntityTag>,
    pub(super) waited: Waited,
}

impl EndedRefill {
    /// A refill that stored nothing.
    pub(super) fn without_value(took: Duration, outcome: RefillOutcome, waited: Waited) -> Self {
        Self { took, outcome, entity_tag: None, waited }
    }
}

impl Namespace {
    pub(super) fn permit_lease(&self) -> Duration {
        let binding = self.binding();
        binding.origin.as_ref().map_or(MAX_LEASE, |origin| origin.total_timeout() + GRACE)
    }

    /// Refreshes a key unless a refill of it is active.
    pub(super) fn refresh_in_background(self: &Arc<Self>, key: &Key, trace: Option<TraceContext>) {
        match &self.binding().origin {
            None => return,
            // In an outage every stale hit comes here: none may begin a refill that would be
            // refused.
            Some(origin) if origin.is_shut() => {
                return self.notify(&Event::OriginRead(OriginRead::Refused));
            }
            Some(_) => {}
        }
        let lease = self.permit_lease();
        let mut guarded = self.guard(key);
        let permit = guarded.permits.begin(self.id(), key, guarded.now, lease);
        drop(guarded);
        if let Some(permit) = permit {
            self.start_refill(permit, RefillTerms::traced(trace));
        }
    }

    /// Starts the task that refills with a permit.
    pub(crate) fn start_refill(self: &Arc<Self>, permit: Permit, terms: RefillTerms) {
        let namespace = Arc::clone(self);
        tokio::spawn(async move {
            let max_age = terms.max_age;
            let reading = AssertUnwindSafe(namespace.read_origin(&permit.key, terms));
            let outcome = reading.catch_unwind().await.unwrap_or_else(|_| {
                Err(OriginError::KeyMismatch(
                    "the refill failed inside Verax; its log has the details".into(),
                ))
            });
            // Waiters may consume the value slowly, and the store may not keep it.
            let held = outcome.as_ref().map_or(0, |value| value.value.len());
            let (outcome, _held) = match namespace.in_flight().reserve(held) {
                Ok(held) => (outcome, Some(held)),
                Err(_) => (Err(OriginError::Busy), None),
            };
            namespace.finish_refill(&permit, outcome, max_age);
        });
    }

    async fn read_origin(&self, key: &Key, terms: RefillTerms) -> Result<OriginValue, OriginError> {
        let binding = self.binding();
        let (Some(origin), Some(choice)) = (&binding.origin, &binding.policy.origin) else {
            return Err(OriginError::KeyMismatch("the namespace no longer has an origin".into()));
        };
        let values = choice.key_pattern.values_of(key.as_str()).ok_or_else(|| {
            let pattern = &choice.key_pattern;
            OriginError::KeyMismatch(format!(
                "it does not match the pattern {pattern} of this namespace"
            ))
        })?;
        let started = std::time::Instant::now();
        let outcome = origin.read_guarded(&values, terms.trace.as_ref(), terms.place).await;
        let took = started.elapsed();
        self.notify(&Event::OriginRead(match &outcome {
            // An origin without such a value has still responded.
            Ok(_) | Err(OriginError::NoValue { .. }) => OriginRead::Answered(took),
            Err(OriginError::CircuitOpen { .. } | OriginError::Busy) => OriginRead::Refused,
            Err(_) => OriginRead::Failed(took),
        }));
        if let Err(error) = &outcome {
            tracing::debug!(namespace = %self.path(), %key, %error, "a refill returned no value");
        }
        outcome
    }

    /// A value from the origin that the namespace may have. What it must not have is no value of
    /// the origin either: a copy may be served.
    fn admissible(&self, value: OriginValue) -> Result<OriginValue, OriginError> {
        let limit = self.max_value_bytes();
        if value.value.len() as u64 > limit {
            return Err(OriginError::TooLarge { url: "this namespace".into(), limit });
        }
        match self.check_content(&value.value) {
            Ok(()) => Ok(value),
            Err(error) => Err(OriginError::Damaged(error.to_string())),
        }
    }

    /// The entry that a value from the origin makes. Malformed header fields are ignored: the value
    /// matters more than its tags and its media type.
    fn arrived(&self, value: OriginValue, max_age: Option<Duration>) -> Arrived {
        // No caller may keep a copy of a value that must not be stored.
        let mut lifetime = if value.no_store { Lifetime::default() } else { self.lifetime() };
        if let Some(max_age) = max_age.filter(|_| !value.no_store) {
            lifetime.max_age = max_age;
        }
        let tags = value.cache_groups.as_deref().map(parse_tags);
        let tags = tags.and_then(Result::ok).unwrap_or_default();
        let media_type = MediaType::parse(&value.media_type);
        let media_type = media_type.unwrap_or_else(|_| "application/octet-stream".into());
        let entry = Entry::new(value.value, media_type, lifetime, self.engine().now())
            .with_tags(tags)
            .packed_above(self.compress_above())
            .refilled_in(value.took);
        Arrived { entry, may_be_stored: !lifetime.total().is_zero(), took: value.took }
    }

    fn finish_refill(
        &self,
        permit: &Permit,
        outcome: Result<OriginValue, OriginError>,
        max_age: Option<Duration>,
    ) {
        let key = &permit.key;
        let outcome = outcome.and_then(|value| self.admissible(value));
        let mut outcome = outcome.map_err(Arc::new).map(|value| self.arrived(value, max_age));
        let store = |partition: &Partition, now| match &mut outcome {
            Ok(Arrived { entry, may_be_stored: true, .. })
                if let Ok(put) = partition.put(key, entry, Precondition::Always, now) =>
            {
                entry.revision = Some(put.revision);
                Attempt::Changed(RefillOutcome::Stored)
            }
            Ok(_) => Attempt::Unchanged(RefillOutcome::NotStored),
            Err(error) if matches!(**error, OriginError::NoValue { .. }) => {
                self.keep_negative(partition, key, now);
                Attempt::Changed(RefillOutcome::NoValue)
            }
            Err(_) => Attempt::Unchanged(RefillOutcome::Failed),
        };
        let held = self.held(key, permit.number);
        let (ended, waiters) = match self.finish(key, permit.number, store) {
            Ok(finished) => finished,
            Err(refused) => (refused.reason.into(), refused.waiters),
        };
        let now = self.engine().now();
        let (took, wait_outcome) = match outcome {
            Ok(Arrived { entry, took: origin_took, .. }) => {
                let stored = ended == RefillOutcome::Stored;
                (origin_took, WaitOutcome::Refilled(Refilled { entry, stored, origin_took }))
            }
            Err(error) => (held.took, WaitOutcome::OriginFailed(error)),
        };
        // Counted first, so that a caller with the result finds it counted.
        let entity_tag = match &wait_outcome {
            WaitOutcome::Refilled(refilled) if refilled.stored => Some(refilled.entry.entity_tag()),
            _ => None,
        };
        let waited = Waited::of(&waiters, now);
        let ended = EndedRefill { took, outcome: ended, entity_tag, waited };
        self.refill_ended(key, "the service", ended, now);
        notify_all(waiters, &wait_outcome);
    }

    /// The origin has no value: an earlier copy is removed, and a negative entry is kept as long as
    /// the policy says.
    fn keep_negative(&self, partition: &Partition, key: &Key, now: Timestamp) {
        let max_age = self.binding().policy.negative_max_age;
        let entry = Entry::negative(max_age, now);
        let kept =
            !max_age.is_zero() && partition.put(key, &entry, Precondition::Always, now).is_ok();
        if !kept {
            partition.delete(key.as_str(), now);
        }
    }

    /// Publishes that a refill ended at `at`.
    pub(super) fn refill_ended(
        &self,
        key: &Key,
        holder: impl Into<String>,
        ended: EndedRefill,
        at: Timestamp,
    ) {
        let EndedRefill { took, outcome, entity_tag, waited } = ended;
        self.notify(&Event::RefillEnded(&RefillRecord {
            at,
            namespace: self.id(),
            key: key.clone(),
            holder: holder.into(),
            took,
            outcome,
            entity_tag,
            waiters: waited.callers,
            max_wait: waited.longest,
        }));
    }
}

impl From<RefusedReason> for RefillOutcome {
    fn from(reason: RefusedReason) -> Self {
        match reason {
            RefusedReason::Voided => Self::Voided,
            RefusedReason::Expired => Self::Expired,
        }
    }
}
