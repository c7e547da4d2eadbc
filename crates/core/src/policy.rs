//! The policy of a namespace.

use std::ops::RangeInclusive;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::content::{ContentRule, Damage};
use crate::content_schema::ContentSchema;
use crate::early::MAX_FACTOR;
use crate::interval::{IntervalRule, InvalidInterval, MAX_RULES};
use crate::lifetime::{Lifetime, MAX_LIFETIME};
use crate::name::Name;
use crate::pattern::KeyPattern;
use crate::store::Quota;
use crate::time::Timestamp;
use crate::traffic::{InvalidTraffic, TrafficQuota};

/// The largest value that any namespace may allow, in bytes.
pub const MAX_VALUE_BYTES: u64 = 64 << 20;

/// From which size on values may be compressed: smaller ones are not worth it.
pub const COMPRESS_ABOVE: RangeInclusive<u64> = 256..=MAX_VALUE_BYTES;

/// The most entries that a limit may allow.
pub const MAX_ENTRIES: u64 = 1 << 50;

/// The longest bypass: it must not be forgotten.
pub const MAX_BYPASS: Duration = Duration::from_secs(24 * 3_600);

/// The policy of one namespace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct NamespacePolicy {
    /// The lifetime of entries that are stored without one of their own.
    pub lifetime: Lifetime,
    /// The shortest max-age that a caller may give an entry; a shorter one becomes this.
    pub shortest_max_age: Duration,
    /// The longest max-age that a caller may give an entry; a longer one becomes this.
    pub longest_max_age: Duration,
    /// What every value must be.
    pub content: ContentRule,
    /// What JSON values must match; only with [`ContentRule::Json`].
    pub schema: Option<ContentSchema>,
    /// Values of more bytes than this are stored compressed, if that saves something.
    pub compress_above: Option<u64>,
    /// The jitter of max-age, in percent: each entry with the namespace's lifetime expires earlier
    /// by a random part of it, so that entries stored together do not expire together.
    pub jitter_percent: u8,
    /// The largest value, in bytes.
    pub max_value_bytes: u64,
    /// What the namespace is guaranteed and may never exceed.
    pub quota: Quota,
    /// How much may pass in a second.
    pub traffic: TrafficQuota,
    /// The max-age of negative entries; zero stores none.
    pub negative_max_age: Duration,
    /// The factor of early refresh, in percent (see [`crate::early`]); 0 disables it.
    pub early_refresh_percent: u16,
    /// Whether writes go to the origin first.
    pub write_through: bool,
    /// Until when reads go to the origin as if there were no cache.
    pub bypass_until: Option<Timestamp>,
    /// What is removed or refreshed every so often.
    pub intervals: Vec<IntervalRule>,
    /// The origin of missing values; `None` when services refill them.
    pub origin: Option<OriginBinding>,
}

/// How a namespace reads through to an origin of its tenant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OriginBinding {
    /// The origin's name within the tenant.
    pub origin: Name,
    /// Turns a key into the values for the origin's URL template or query.
    pub key_pattern: KeyPattern,
}

/// Why a policy is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidPolicy {
    /// A lifetime is beyond [`MAX_LIFETIME`].
    #[error("{part} of {seconds} seconds is longer than the limit of {} seconds (ten years)", MAX_LIFETIME.as_secs())]
    LifetimeTooLong {
        /// Which part of the lifetime.
        part: &'static str,
        /// The seconds given.
        seconds: u64,
    },
    /// A max-age outside of its own bounds.
    #[error(
        "max_age of {} seconds is not within its bounds, {} to {} seconds: change the one or the others",
        max_age.as_secs_f64(), shortest.as_secs_f64(), longest.as_secs_f64()
    )]
    MaxAgeBounds {
        /// The max-age.
        max_age: Duration,
        /// The shortest.
        shortest: Duration,
        /// The longest.
        longest: Duration,
    },
    /// A largest value of zero or beyond [`MAX_VALUE_BYTES`].
    #[error(
        "a largest value of {0} bytes is out of range: use 1 to {MAX_VALUE_BYTES} bytes (64 MiB)"
    )]
    LargestValue(u64),
    /// A jitter beyond [`MAX_JITTER_PERCENT`].
    #[error("a jitter of {0} percent is out of range: use 0 to {MAX_JITTER_PERCENT}")]
    Jitter(u8),
    /// A factor of early refresh beyond [`MAX_FACTOR`].
    #[error(
        "an early refresh of {0} percent is out of range: use 0 (off) to {MAX_FACTOR}; 100 is the usual factor"
    )]
    EarlyRefresh(u16),
    /// Writing through without an origin.
    #[error("writing through needs an origin: bind one, or turn write_through off")]
    NothingToWriteThrough,
    /// A bypass without an origin.
    #[error("a bypass needs an origin: without one, the services of the namespace read their own")]
    NothingToBypass,
    /// A cap outside of [`CAPS`].
    #[error(
        "a cap of {0} bytes is out of range: use {least} (1 MiB) to {most} bytes (1 PiB), or none",
        least = CAPS.start(),
        most = CAPS.end()
    )]
    Cap(u64),
    /// A limit of no entries, or beyond [`MAX_ENTRIES`].
    #[error("a limit of {0} entries is out of range: use 1 to {MAX_ENTRIES}, or none")]
    Entries(u64),
    /// A size out of range from which values are compressed.
    #[error("values of more than {0} bytes cannot be compressed: use {least} to {most} bytes (64 MiB), or none", least = COMPRESS_ABOVE.start(), most = COMPRESS_ABOVE.end())]
    CompressAbove(u64),
    /// A schema for values that need not be JSON.
    #[error("a schema needs the content rule json: set content to json, or remove the schema")]
    SchemaWithoutJson,
    /// A rate out of range.
    #[error(transparent)]
    Traffic(#[from] InvalidTraffic),
    /// An interval rule that cannot be.
    #[error(transparent)]
    Interval(#[from] InvalidInterval),
    /// A reserve above the cap.
    #[error(
        "a reserve of {reserve} bytes is above the cap of {cap} bytes: lower the one or raise the other"
    )]
    ReserveAboveCap {
        /// The reserve.
        reserve: u64,
        /// The cap.
        cap: u64,
    },
}

/// The largest jitter, in percent of max-age.
pub const MAX_JITTER_PERCENT: u8 = 50;

/// What a cap may be, in bytes: below a MiB, bookkeeping leaves little for entries; more than a PiB
/// is no cap.
pub const CAPS: RangeInclusive<u64> = 1 << 20..=1 << 50;

impl Default for NamespacePolicy {
    fn default() -> Self {
        Self {
            lifetime: Lifetime::of(Duration::from_secs(60)),
            shortest_max_age: Duration::ZERO,
            longest_max_age: MAX_LIFETIME,
            content: ContentRule::Any,
            schema: None,
            compress_above: None,
            jitter_percent: 0,
            max_value_bytes: 1 << 20,
            quota: Quota::default(),
            traffic: TrafficQuota::default(),
            negative_max_age: Duration::ZERO,
            early_refresh_percent: 0,
            write_through: false,
            bypass_until: None,
            intervals: Vec::new(),
            origin: None,
        }
    }
}

impl NamespacePolicy {
    /// A lifetime that a caller wants, within the bounds of the policy.
    pub fn within_bounds(&self, lifetime: Lifetime) -> Lifetime {
        let max_age = lifetime.max_age.clamp(self.shortest_max_age, self.longest_max_age);
        Lifetime { max_age, ..lifetime }
    }

    /// Checks a value against the content rule and the schema.
    ///
    /// # Errors
    /// [`Damage`] tells where it breaks one of them first.
    pub fn check_value(&self, value: &[u8]) -> Result<(), Damage> {
        match &self.schema {
            Some(schema) => schema.check(value),
            None => self.content.check(value),
        }
    }

    /// Checks the policy's numbers.
    ///
    /// # Errors
    /// [`InvalidPolicy`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidPolicy> {
        for (part, time) in [
            ("max_age", self.lifetime.max_age),
            ("stale_while_revalidate", self.lifetime.stale_while_revalidate),
            ("stale_if_error", self.lifetime.stale_if_error),
            ("negative_max_age", self.negative_max_age),
            ("shortest_max_age", self.shortest_max_age),
            ("longest_max_age", self.longest_max_age),
        ] {
            if time > MAX_LIFETIME {
                let seconds = time.as_secs();
                return Err(InvalidPolicy::LifetimeTooLong { part, seconds });
            }
        }
        let bounds = self.shortest_max_age..=self.longest_max_age;
        if !bounds.contains(&self.lifetime.max_age) {
            return Err(InvalidPolicy::MaxAgeBounds {
                max_age: self.lifetime.max_age,
                shortest: self.shortest_max_age,
                longest: self.longest_max_age,
            });
        }
        if self.max_value_bytes == 0 || self.max_value_bytes > MAX_VALUE_BYTES {
            return Err(InvalidPolicy::LargestValue(self.max_value_bytes));
        }
        if let Some(bytes) = self.compress_above
            && !COMPRESS_ABOVE.contains(&bytes)
        {
            return Err(InvalidPolicy::CompressAbove(bytes));
        }
        if self.jitter_percent > MAX_JITTER_PERCENT {
            return Err(InvalidPolicy::Jitter(self.jitter_percent));
        }
        if self.early_refresh_percent > MAX_FACTOR {
            return Err(InvalidPolicy::EarlyRefresh(self.early_refresh_percent));
        }
        if self.write_through && self.origin.is_none() {
            return Err(InvalidPolicy::NothingToWriteThrough);
        }
        if self.schema.is_some() && self.content != ContentRule::Json {
            return Err(InvalidPolicy::SchemaWithoutJson);
        }
        self.traffic.check()?;
        if self.intervals.len() > MAX_RULES {
            return Err(InvalidInterval::TooMany(self.intervals.len()).into());
        }
        for rule in &self.intervals {
            rule.check(self.origin.is_some())?;
        }
        if self.bypass_until.is_some() && self.origin.is_none() {
            return Err(InvalidPolicy::NothingToBypass);
        }
        let Quota { reserve, cap, entries } = self.quota;
        if entries != u64::MAX && !(1..=MAX_ENTRIES).contains(&entries) {
            return Err(InvalidPolicy::Entries(entries));
        }
        // The largest number means no cap.
        if cap != u64::MAX && !CAPS.contains(&cap) {
            return Err(InvalidPolicy::Cap(cap));
        }
        if reserve > cap {
            return Err(InvalidPolicy::ReserveAboveCap { reserve, cap });
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(1, true)]
    #[case(0, false)]
    #[case(MAX_VALUE_BYTES, true)]
    #[case(MAX_VALUE_BYTES + 1, false)]
    fn max_value_is_bounded(#[case] max_value_bytes: u64, #[case] valid: bool) {
        let policy = NamespacePolicy { max_value_bytes, ..Default::default() };
        assert_eq!(policy.check().is_ok(), valid);
    }

    #[test]
    fn writing_through_needs_an_origin_and_early_refresh_a_sane_factor() {
        let policy = NamespacePolicy { write_through: true, ..Default::default() };
        assert_eq!(policy.check(), Err(InvalidPolicy::NothingToWriteThrough));
        let policy = NamespacePolicy { early_refresh_percent: 1_001, ..Default::default() };
        assert_eq!(policy.check(), Err(InvalidPolicy::EarlyRefresh(1_001)));
    }

    #[rstest]
    #[case(10, 100, true)]
    #[case(60, 60, true)]
    #[case(61, 100, false)]
    #[case(0, 59, false)]
    fn max_age_is_within_its_bounds(
        #[case] shortest: u64,
        #[case] longest: u64,
        #[case] valid: bool,
    ) {
        let (shortest_max_age, longest_max_age) =
            (Duration::from_secs(shortest), Duration::from_secs(longest));
        let policy = NamespacePolicy { shortest_max_age, longest_max_age, ..Default::default() };
        assert_eq!(policy.check().is_ok(), valid, "60 seconds in {shortest} to {longest}");
    }

    #[test]
    fn out_of_range_lifetimes_are_refused_by_member() {
        let mut policy = NamespacePolicy::default();
        policy.lifetime.stale_if_error = MAX_LIFETIME + Duration::from_secs(1);
        let message = policy.check().unwrap_err().to_string();
        assert!(message.starts_with("stale_if_error of 315360001 seconds"), "{message}");
    }
}
