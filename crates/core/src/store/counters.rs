//! Counters: whole numbers that are added to in the store.

use super::partition::Partition;
use crate::entry::{Entry, RATE_LIMIT_TYPE};
use crate::key::Key;
use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

/// The media type of a counter, whose value is its number in decimal.
const COUNTER_TYPE: &str = "text/plain";

/// A counter after an addition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Counted {
    /// Its number now.
    pub value: i64,
    /// Whether this addition created it.
    pub created: bool,
}

/// Why nothing was added.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AddError {
    /// The entry is not a counter.
    #[error(
        "the entry's value is not a whole number, so nothing can be added to it: delete it first or choose another key"
    )]
    NotANumber,
    /// The sum is beyond 64 bits.
    #[error(
        "the sum is outside the range of a counter ({} to {}): delete it to start over",
        i64::MIN,
        i64::MAX
    )]
    Overflow,
}

impl Partition {
    /// Adds to a counter atomically; a missing one starts at 0 with `lifetime`. An existing one
    /// keeps its lifetime, so that a count by the minute ends with its minute. A stale one counts
    /// as missing.
    ///
    /// # Errors
    /// [`AddError`] leaves the counter as it is.
    pub fn add(
        &self,
        key: &Key,
        amount: i64,
        lifetime: Lifetime,
        now: Timestamp,
    ) -> Result<Counted, AddError> {
        let added = self.update(key, now, |there| {
            let there = there.filter(|t| matches!(t.found.freshness(), Freshness::Fresh(_)));
            let (before, entry) = match there.map(|there| &there.found) {
                Some(found) if found.media_type().as_str() == RATE_LIMIT_TYPE => {
                    return Err(AddError::NotANumber);
                }
                Some(found) => {
                    let text =
                        std::str::from_utf8(found.value()).map_err(|_| AddError::NotANumber)?;
                    let number: i64 = text.parse().map_err(|_| AddError::NotANumber)?;
                    (number, found.entry())
                }
                None => (0, Entry::new("", COUNTER_TYPE, Lifetime::of(lifetime.max_age), now)),
            };
            let value = before.checked_add(amount).ok_or(AddError::Overflow)?;
            let entry = Entry { value: value.to_string().into(), ..entry };
            let new = match there {
                Some(there) => self.with_metadata(key, &entry, there.hold_metadata()),
                None => self.made(key, &entry),
            };
            Ok((new, Counted { value, created: there.is_none() }))
        });
        added.map(|updated| updated.made)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::store::{Precondition, Store};
    use crate::{NamespaceId, store::Quota};

    #[test]
    fn invalidating_a_tag_ends_its_counters_despite_additions() {
        let (store, now) = (Store::new(1 << 20), Timestamp::from_millis(1_000));
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("sailings/today").unwrap();
        let tags: Vec<crate::Tag> = vec!["sailings".into()];
        let counter = Entry::new("5", COUNTER_TYPE, MINUTE, now).with_tags(tags);
        partition.put(&key, &counter, Precondition::Always, now).unwrap();
        assert_eq!(partition.add(&key, 1, MINUTE, now).unwrap().value, 6);
        assert_eq!(&*partition.peek(key.as_str(), now).unwrap().tags()[0], "sailings");
        assert!(partition.invalidate_tag("sailings"));
        let anew = partition.add(&key, 1, MINUTE, now).unwrap();
        assert_eq!(anew, Counted { value: 1, created: true });
    }

    #[test]
    fn additions_to_a_rate_limit_are_refused() {
        let (store, now) = (Store::new(1 << 20), Timestamp::from_millis(1_000));
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("quay-7").unwrap();
        let rate = crate::store::Rate::new(10, Duration::from_secs(60), 2).unwrap();
        partition.acquire_rate(&key, 2, rate, now).unwrap();
        assert_eq!(partition.add(&key, 1, MINUTE, now), Err(AddError::NotANumber));
        let taken = partition.acquire_rate(&key, 1, rate, now).unwrap();
        assert!(
            matches!(taken, crate::store::RateLimitOutcome::Later { .. }),
            "it is as it was: {taken:?}"
        );
    }

    const MINUTE: Lifetime = Lifetime::of(Duration::from_secs(60));

    fn at(seconds: u64) -> Timestamp {
        Timestamp::from_millis(seconds * 1_000)
    }

    #[test]
    fn a_counter_starts_at_its_first_addition_and_ends_with_its_lifetime() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("sign-ins").unwrap();
        let add = |amount, now| partition.add(&key, amount, MINUTE, at(now)).unwrap();
        assert_eq!(add(2, 0), Counted { value: 2, created: true });
        assert_eq!(add(-5, 59), Counted { value: -3, created: false });
        assert_eq!(partition.get("sign-ins", at(59)).unwrap().value(), b"-3");
        assert_eq!(add(1, 60), Counted { value: 1, created: true }, "a new minute");
    }

    #[test]
    fn concurrent_additions_are_all_counted() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("boardings").unwrap();
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    (0..500).for_each(|_| {
                        partition.add(&key, 1, MINUTE, at(0)).unwrap();
                    })
                });
            }
        });
        assert_eq!(partition.get("boardings", at(1)).unwrap().value(), b"2000");
    }

    #[test]
    fn non_numbers_and_overflows_are_refused_unchanged() {
        let store = Store::new(1 << 20);
        let partition = store.open(NamespaceId(1), Quota::default());
        let key = Key::new("k").unwrap();
        for (value, error) in
            [("seven", AddError::NotANumber), ("9223372036854775807", AddError::Overflow)]
        {
            let entry = Entry::new(value, "text/plain", MINUTE, at(0));
            partition.put(&key, &entry, Precondition::Always, at(0)).unwrap();
            assert_eq!(partition.add(&key, 1, MINUTE, at(1)), Err(error));
            assert_eq!(partition.get("k", at(1)).unwrap().value(), value.as_bytes());
        }
    }
}
