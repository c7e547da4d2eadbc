//! What a namespace allows and does by itself.

use std::time::Duration;

use crate::lifetime::{LONGEST_LIFETIME, Lifetime};
use crate::name::Name;
use crate::pattern::KeyPattern;
use crate::store::Quota;

/// The largest value that any namespace may allow, in bytes.
pub const LARGEST_VALUE: u64 = 64 << 20;

/// The policy of one namespace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamespacePolicy {
    /// The lifetime of entries that are stored without one of their own.
    pub lifetime: Lifetime,
    /// By how much of its max-age, in percent, an entry that takes the namespace's lifetime may end
    /// early, drawn anew for each, so that what was stored together does not end together.
    pub jitter_percent: u8,
    /// The largest value, in bytes.
    pub largest_value: u64,
    /// The memory that the namespace is guaranteed and may never exceed.
    pub quota: Quota,
    /// Where a missing value comes from; `None` when services refill it themselves.
    pub origin: Option<OriginBinding>,
}

/// How a namespace reads through to an origin of its tenant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginBinding {
    /// The origin's name within the tenant.
    pub origin: Name,
    /// Turns a key into the values for the origin's URL template.
    pub key_pattern: KeyPattern,
}

/// How an HTTP origin is read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginSettings {
    /// A URL template (RFC 6570) with the variables of the key patterns that are bound to it.
    pub url: String,
    /// The longest time to connect.
    pub connect_timeout: Duration,
    /// The longest time from asking to the last byte.
    pub total_timeout: Duration,
    /// The largest response, in bytes.
    pub largest_response: u64,
}

/// The longest timeout of an origin.
pub const LONGEST_TIMEOUT: Duration = Duration::from_secs(300);

/// Why an origin's settings are refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidOriginSettings {
    /// A timeout is zero or beyond [`LONGEST_TIMEOUT`].
    #[error("{part} of {milliseconds} ms is out of range: use 1 to {} ms", LONGEST_TIMEOUT.as_millis())]
    Timeout {
        /// Which timeout.
        part: &'static str,
        /// The milliseconds given.
        milliseconds: u128,
    },
    /// A largest response of zero or beyond [`LARGEST_VALUE`].
    #[error(
        "a largest response of {0} bytes is out of range: use 1 to {LARGEST_VALUE} bytes (64 MiB)"
    )]
    LargestResponse(u64),
}

impl OriginSettings {
    /// Settings with the usual limits: one second to connect, ten in all, 8 MiB.
    pub fn of(url: impl Into<String>) -> Self {
        Self {
            url: url.into(),
            connect_timeout: Duration::from_secs(1),
            total_timeout: Duration::from_secs(10),
            largest_response: 8 << 20,
        }
    }

    /// Checks the numbers; the URL is checked where it is read.
    ///
    /// # Errors
    /// [`InvalidOriginSettings`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidOriginSettings> {
        for (part, time) in
            [("connect_timeout", self.connect_timeout), ("total_timeout", self.total_timeout)]
        {
            if time.is_zero() || time > LONGEST_TIMEOUT {
                let milliseconds = time.as_millis();
                return Err(InvalidOriginSettings::Timeout { part, milliseconds });
            }
        }
        if self.largest_response == 0 || self.largest_response > LARGEST_VALUE {
            return Err(InvalidOriginSettings::LargestResponse(self.largest_response));
        }
        Ok(())
    }
}

/// Why a policy is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidPolicy {
    /// A lifetime is beyond [`LONGEST_LIFETIME`].
    #[error("{part} of {seconds} seconds is longer than the limit of {} seconds (ten years)", LONGEST_LIFETIME.as_secs())]
    LifetimeTooLong {
        /// Which part of the lifetime.
        part: &'static str,
        /// The seconds given.
        seconds: u64,
    },
    /// A largest value of zero or beyond [`LARGEST_VALUE`].
    #[error(
        "a largest value of {0} bytes is out of range: use 1 to {LARGEST_VALUE} bytes (64 MiB)"
    )]
    LargestValue(u64),
    /// A jitter beyond [`LARGEST_JITTER`].
    #[error("a jitter of {0} percent is out of range: use 0 to {LARGEST_JITTER}")]
    Jitter(u8),
    /// A cap too small to be of use.
    #[error("a cap of {0} bytes is out of range: use at least {SMALLEST_CAP} bytes (1 MiB)")]
    Cap(u64),
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
pub const LARGEST_JITTER: u8 = 50;

/// The smallest cap, in bytes: below it, bookkeeping leaves little for entries.
pub const SMALLEST_CAP: u64 = 1 << 20;

impl Default for NamespacePolicy {
    fn default() -> Self {
        Self {
            lifetime: Lifetime::of(Duration::from_secs(60)),
            jitter_percent: 0,
            largest_value: 1 << 20,
            quota: Quota::default(),
            origin: None,
        }
    }
}

impl NamespacePolicy {
    /// Checks the policy's numbers.
    ///
    /// # Errors
    /// [`InvalidPolicy`] names the first number out of range.
    pub fn check(&self) -> Result<(), InvalidPolicy> {
        for (part, time) in [
            ("max_age", self.lifetime.max_age),
            ("stale_while_revalidate", self.lifetime.stale_while_revalidate),
            ("stale_if_error", self.lifetime.stale_if_error),
        ] {
            if time > LONGEST_LIFETIME {
                let seconds = time.as_secs();
                return Err(InvalidPolicy::LifetimeTooLong { part, seconds });
            }
        }
        if self.largest_value == 0 || self.largest_value > LARGEST_VALUE {
            return Err(InvalidPolicy::LargestValue(self.largest_value));
        }
        if self.jitter_percent > LARGEST_JITTER {
            return Err(InvalidPolicy::Jitter(self.jitter_percent));
        }
        let Quota { reserve, cap } = self.quota;
        if cap < SMALLEST_CAP {
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
    #[case(LARGEST_VALUE, true)]
    #[case(LARGEST_VALUE + 1, false)]
    fn largest_value_is_bounded(#[case] largest_value: u64, #[case] valid: bool) {
        let policy = NamespacePolicy { largest_value, ..Default::default() };
        assert_eq!(policy.check().is_ok(), valid);
    }

    #[test]
    fn absurd_lifetimes_are_refused_by_part() {
        let mut policy = NamespacePolicy::default();
        policy.lifetime.stale_if_error = LONGEST_LIFETIME + Duration::from_secs(1);
        let message = policy.check().unwrap_err().to_string();
        assert!(message.starts_with("stale_if_error of 315360001 seconds"), "{message}");
    }
}
