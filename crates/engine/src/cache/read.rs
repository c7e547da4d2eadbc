//! Reads a key: from the store, by a refill, or as a miss.

use std::sync::Arc;
use std::time::{Duration, Instant};

use verax_core::entry::Entry;
use verax_core::store::EntryView;
use verax_core::{EntryRevision, Freshness, JoinOutcome, Key, Permit, Timestamp};
use verax_origin::{OriginError, TraceContext};

use super::refill::RefillTerms;
use super::waiter::{Refilled, WaitOutcome, Waiter};
use crate::engine::Namespace;
use crate::error::{EngineError, Overload};
use crate::events::{Event, LookUp};
use crate::handle::{Reader, Warmer};

/// Options of a read.
#[derive(Debug, Clone, Default)]
pub struct ReadOptions {
    /// Bypass the cache: read the origin and store its response.
    pub refresh: bool,
    /// Do not read the origin: return a cached value or a miss.
    pub only_if_cached: bool,
    /// When the origin is not read: also return a copy that has been stale for at most this long
    /// within its stale-if-error time, for a caller whose own refill failed.
    pub stale_if_error: Option<Duration>,
    /// Forwarded to the origin when it is read for this caller.
    pub trace: Option<TraceContext>,
}

/// Where a value came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// From the cache, fresh for this much longer.
    Hit(Duration),
    /// From the cache, stale for this long, while it is refreshed.
    Stale(Duration),
    /// From the cache, stale for this long, because the origin failed.
    StaleOnError(Duration),
    /// From the origin, by this caller's own refill.
    Origin(Refill),
    /// From the origin, by a refill another caller began.
    Joined(Refill),
}

impl Source {
    /// The source without its times.
    pub const fn kind(&self) -> verax_core::source::Source {
        use verax_core::source::Source;
        match self {
            Self::Hit(_) => Source::Hit,
            Self::Stale(_) => Source::Stale,
            Self::StaleOnError(_) => Source::StaleOnError,
            Self::Origin(_) => Source::Origin,
            Self::Joined(_) => Source::Joined,
        }
    }
}

/// The refill that produced a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refill {
    /// Whether the value was stored.
    pub stored: bool,
    /// How long the origin read took.
    pub origin_took: Duration,
    /// Whether the cache was bypassed.
    pub bypassed: bool,
}

/// The result of a read.
#[derive(Debug, Clone)]
pub struct ReadResult {
    /// The entry.
    pub entry: Entry,
    /// How long ago it was stored.
    pub age: Duration,
    /// The time until it is stale; `None` if it already is.
    pub time_left: Option<Duration>,
    /// Its source.
    pub source: Source,
}

impl ReadResult {
    /// Marks it as read past the cache. Nobody may keep a copy of it meanwhile.
    fn bypassing(mut self) -> Self {
        if let Source::Origin(refill) | Source::Joined(refill) = &mut self.source {
            refill.bypassed = true;
        }
        self.time_left = None;
        self
    }

    /// The size of its value, in bytes.
    pub fn size(&self) -> usize {
        self.entry.value.len()
    }
}

/// What the cache holds for a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cached {
    /// A fresh copy.
    Hit,
    /// A fresh copy due for early refresh by a caller, since the namespace has no origin.
    Due,
    /// A stale copy, which is being refreshed.
    Stale,
    /// A negative entry, valid for this much longer.
    Negative(Duration),
    /// A copy that is stored compressed: [`read`](Reader::read) decompresses it.
    Packed,
    /// Nothing that may be served without reading the origin.
    Missing,
}

impl Reader {
    /// What the cache holds for a key at `now`, without waiting: the fast path of the transports.
    /// `visit` receives what may be served and whether it is due for refresh. Nothing is counted
    /// here; the transport counts hits, many at a time.
    pub fn cached(
        &self,
        key: &str,
        now: Timestamp,
        visit: impl FnOnce(&EntryView<'_>, bool),
    ) -> Cached {
        let namespace = self.shared();
        let seen = namespace.partition().visit(key, now, |visited| match visited.freshness() {
            Freshness::Fresh(left) if visited.is_negative() => Cached::Negative(left),
            Freshness::Fresh(_) | Freshness::Stale(_) if visited.is_packed() => Cached::Packed,
            Freshness::Fresh(left) => {
                let due = namespace.is_due(|| visited.refill_took(), left);
                visit(&visited, due && !namespace.has_origin());
                if due { Cached::Due } else { Cached::Hit }
            }
            Freshness::Stale(_) => {
                visit(&visited, false);
                Cached::Stale
            }
            Freshness::OnlyOnError(_) | Freshness::Ended => Cached::Missing,
        });
        if !matches!(seen, Some(Cached::Stale | Cached::Due)) {
            return seen.unwrap_or(Cached::Missing);
        }
        if let Ok(key) = Key::new(key) {
            namespace.refresh_in_background(&key, None);
        }
        match seen {
            Some(Cached::Due) if namespace.has_origin() => Cached::Hit,
            seen => seen.unwrap_or(Cached::Missing),
        }
    }

    /// Gets an entry, and reads it through from the namespace's origin when it is missing. `None`
    /// when it is missing and the namespace has no origin, or the request is for the cache only.
    ///
    /// # Errors
    /// [`EngineError`]: the origin's failure, or too many callers waiting for the key.
    pub async fn read(
        &self,
        key: &Key,
        options: ReadOptions,
    ) -> Result<Option<ReadResult>, EngineError> {
        let started = Instant::now();
        let answer = self.shared().answer(key, options).await;
        let ended = match &answer {
            Ok(Some(answer)) => match answer.source {
                Source::Hit(_) => Event::Hits { fresh: 1, stale: 0, each: started.elapsed() },
                Source::Stale(_) => Event::Hits { fresh: 0, stale: 1, each: started.elapsed() },
                Source::StaleOnError(_) => Event::LookUp(LookUp::StaleOnError),
                Source::Joined(_) => Event::LookUp(LookUp::Joined),
                Source::Origin(_) => Event::LookUp(LookUp::Refilled),
            },
            Err(EngineError::NegativeResult { .. }) => Event::LookUp(LookUp::Negative),
            Ok(None) | Err(_) => Event::LookUp(LookUp::Missed),
        };
        self.notify(&ended);
        if let Ok(Some(answer)) = &answer {
            self.count_sent(answer.size() as u64);
        }
        answer
    }
}

impl Warmer {
    /// Reads a key from the origin and stores the response, even over a fresh entry, which stays
    /// readable until then.
    ///
    /// # Errors
    /// [`EngineError`]: the origin's failure, or too many callers waiting for the key.
    pub async fn refill(&self, key: &Key, terms: RefillTerms) -> Result<Refilled, EngineError> {
        let refilled = self.shared().refill_and_wait(key, false, terms).await;
        refilled.map(|(refilled, _)| refilled)
    }
}

/// A copy within its stale-if-error time, if the caller accepts one that has been stale for so
/// long. Its own refill has failed.
fn accepted_on_error(
    entry: Entry,
    accepts: Option<Duration>,
    now: Timestamp,
) -> Option<ReadResult> {
    let Freshness::OnlyOnError(since) = entry.freshness(now) else { return None };
    let (age, source) = (now.since(entry.stored_at), Source::StaleOnError(since));
    (since <= accepts?).then_some(ReadResult { age, time_left: None, source, entry })
}

impl Namespace {
    async fn answer(
        self: &Arc<Self>,
        key: &Key,
        mut options: ReadOptions,
    ) -> Result<Option<ReadResult>, EngineError> {
        let now = self.engine().now();
        // Who asks for the cache alone looks into it.
        let bypassed = self.is_bypassed(now) && !options.only_if_cached;
        options.refresh |= bypassed;
        let found = match options.refresh {
            true => None,
            false => self.partition().get(key.as_str(), now),
        };
        let mut kept = None;
        if let Some(found) = found {
            let age = now.since(found.stored_at());
            let from_cache = |source, time_left| {
                Ok(Some(ReadResult { entry: found.entry(), age, time_left, source }))
            };
            match found.freshness() {
                Freshness::Fresh(left) if found.is_negative() => {
                    return Err(EngineError::NegativeResult { left });
                }
                Freshness::Fresh(left) => {
                    if self.is_due(|| found.refill_took(), left) {
                        self.refresh_in_background(key, options.trace);
                    }
                    return from_cache(Source::Hit(left), Some(left));
                }
                Freshness::Stale(since) => {
                    self.refresh_in_background(key, options.trace);
                    return from_cache(Source::Stale(since), None);
                }
                Freshness::OnlyOnError(_) => kept = Some(found.entry()),
                Freshness::Ended => {}
            }
        }
        if options.only_if_cached || self.binding().origin.is_none() {
            return Ok(kept.and_then(|entry| accepted_on_error(entry, options.stale_if_error, now)));
        }
        let unless_fresh = !options.refresh;
        let terms = RefillTerms::traced(options.trace);
        match self.refill_and_wait(key, unless_fresh, terms).await {
            Ok((refilled, joined)) => {
                let read = self.refilled(refilled, joined)?;
                Ok(Some(if bypassed { read.bypassing() } else { read }))
            }
            Err(error) => self.kept_on_error(kept, error),
        }
    }

    pub(super) fn refilled(
        &self,
        refilled: Refilled,
        joined: bool,
    ) -> Result<ReadResult, EngineError> {
        let (stored, origin_took) = (refilled.stored, refilled.origin_took);
        let refill = Refill { stored, origin_took, bypassed: false };
        let now = self.engine().now();
        let time_left = match refilled.entry.freshness(now) {
            Freshness::Fresh(left) => Some(left),
            _ => None,
        };
        // Another caller may have stored a negative entry.
        if refilled.entry.is_negative() {
            let left = time_left.unwrap_or_default();
            return Err(EngineError::NegativeResult { left });
        }
        Ok(ReadResult {
            age: now.since(refilled.entry.stored_at),
            time_left,
            source: if joined { Source::Joined(refill) } else { Source::Origin(refill) },
            entry: refilled.entry,
        })
    }

    /// Falls back to the previous copy when the origin failed and the policy allows it. A copy of a
    /// value that the origin no longer has is not served.
    pub(super) fn kept_on_error(
        &self,
        kept: Option<Entry>,
        error: EngineError,
    ) -> Result<Option<ReadResult>, EngineError> {
        let gone =
            matches!(&error, EngineError::Origin(e) if matches!(**e, OriginError::NoValue { .. }));
        let now = self.engine().now();
        match kept {
            Some(entry) if !gone => match entry.freshness(now) {
                Freshness::OnlyOnError(since) | Freshness::Stale(since) => Ok(Some(ReadResult {
                    age: now.since(entry.stored_at),
                    time_left: None,
                    source: Source::StaleOnError(since),
                    entry,
                })),
                _ => Err(error),
            },
            _ => Err(error),
        }
    }

    /// Waits for the refill of a key, which this caller begins unless one is active. Returns
    /// whether it joined another caller's. With `unless_fresh`, a copy that has become fresh is
    /// returned instead.
    pub(crate) async fn refill_and_wait(
        self: &Arc<Self>,
        key: &Key,
        unless_fresh: bool,
        mut terms: RefillTerms,
    ) -> Result<(Refilled, bool), EngineError> {
        let lease = self.permit_lease();
        let id = self.id();
        // A caller that bypasses the cache must not be served by a refill that began earlier.
        let mut began_before = !unless_fresh;
        let mut earlier: Option<EntryRevision> = None;
        loop {
            let now = self.engine().now();
            let (waiter, outcome) = Waiter::new(now);
            let joined = {
                let mut guard = self.engine().cache.guard(id, key);
                // Another caller may have stored the value since the miss.
                if unless_fresh && let Some(refilled) = self.fresh(key, now) {
                    return Ok((refilled, true));
                }
                // Another refill may have begun and ended since the earlier one ended.
                if let Some(refilled) = earlier.and_then(|than| self.refilled_after(key, than, now))
                {
                    return Ok((refilled, true));
                }
                guard.join(id, key, waiter, now, lease)
            };
            let joined = match joined {
                JoinOutcome::Holder(permit) => {
                    self.start_refill(permit, terms.again());
                    false
                }
                JoinOutcome::Waiting(_) if std::mem::take(&mut began_before) => {
                    // The grant begins a new refill, which is recent enough.
                    match outcome.await {
                        Ok(WaitOutcome::Turn(permit)) => self.take_over(permit, terms.again()),
                        Ok(WaitOutcome::Refilled(refilled)) => earlier = refilled.entry.revision,
                        _ => {}
                    }
                    continue;
                }
                JoinOutcome::Waiting(_) => true,
                JoinOutcome::Full(_) => {
                    return Err(Overload::WaitingCallers.into());
                }
            };
            match outcome.await {
                Ok(WaitOutcome::Refilled(refilled)) => return Ok((refilled, joined)),
                Ok(WaitOutcome::OriginFailed(error)) => return Err(EngineError::Origin(error)),
                // Another caller was refilling by itself; now the service does.
                Ok(WaitOutcome::Turn(permit)) => self.take_over(permit, terms.again()),
                Ok(WaitOutcome::Abandoned | WaitOutcome::AskAgain) => {}
                // The refill was abandoned, because the service stops or the permit was voided and
                // expired.
                Err(_) => {
                    return Err(Overload::RefillAbandoned.into());
                }
            }
        }
    }

    /// A fresh copy, as the result of a refill that has just ended.
    fn fresh(&self, key: &Key, now: Timestamp) -> Option<Refilled> {
        let found = self.partition().peek(key.as_str(), now)?;
        let fresh = matches!(found.freshness(), Freshness::Fresh(_));
        let (stored, origin_took) = (true, Duration::ZERO);
        fresh.then(|| Refilled { entry: found.entry(), stored, origin_took })
    }

    /// A fresh copy that a refill brought after the one with the revision `than`.
    fn refilled_after(&self, key: &Key, than: EntryRevision, now: Timestamp) -> Option<Refilled> {
        let found = self.partition().peek(key.as_str(), now)?;
        let is_later = !found.refill_took().is_zero() && found.revision() > than;
        is_later.then(|| self.fresh(key, now)).flatten()
    }

    /// Refills with a permit granted to a caller that leaves refilling to the service.
    fn take_over(self: &Arc<Self>, permit: Permit, terms: RefillTerms) {
        let mut guard = self.engine().cache.guard(permit.namespace, &permit.key);
        let (nobody, _) = Waiter::new(self.engine().now());
        let taken = guard.leave_to_service(&permit, nobody);
        drop(guard);
        if taken.is_ok() {
            self.start_refill(permit, terms);
        }
    }
}
