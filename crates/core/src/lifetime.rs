//! How long an entry may be served: RFC 9111 (max-age) and RFC 5861 (stale-while-revalidate,
//! stale-if-error).

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// The longest lifetime of each kind: ten years of 365 days.
pub const MAX_LIFETIME: Duration = Duration::from_secs(10 * 365 * 24 * 3600);

/// A part of a lifetime beyond [`MAX_LIFETIME`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a lifetime of {} seconds is longer than ten years", .0.as_secs())]
pub struct LifetimeTooLong(pub Duration);

/// Checks a part of a lifetime.
///
/// # Errors
/// [`LifetimeTooLong`].
pub fn within_limit(time: Duration) -> Result<Duration, LifetimeTooLong> {
    if time <= MAX_LIFETIME { Ok(time) } else { Err(LifetimeTooLong(time)) }
}

/// The three parts of an entry's lifetime, counted from when it was stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Lifetime {
    /// How long the entry is fresh.
    pub max_age: Duration,
    /// How long after that the previous copy may be served while one caller refreshes it.
    pub stale_while_revalidate: Duration,
    /// How long after `max_age` the previous copy may be served when the origin fails.
    pub stale_if_error: Duration,
}

/// How fresh an entry is at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Freshness {
    /// Serve it; this much time is left.
    Fresh(Duration),
    /// Serve it and refresh it in the background; it has been stale for this long.
    Stale(Duration),
    /// Serve it only when the origin fails; it has been stale for this long.
    OnlyOnError(Duration),
    /// Never serve it again.
    Ended,
}

impl Freshness {
    /// Whether it may be served without an error of the origin.
    pub const fn may_be_served(self) -> bool {
        matches!(self, Self::Fresh(_) | Self::Stale(_))
    }
}

impl Lifetime {
    /// A lifetime with a max-age and no stale serving.
    pub const fn of(max_age: Duration) -> Self {
        Self { max_age, stale_while_revalidate: Duration::ZERO, stale_if_error: Duration::ZERO }
    }

    /// How long the entry is worth keeping.
    pub fn total(&self) -> Duration {
        self.max_age + self.stale_while_revalidate.max(self.stale_if_error)
    }

    /// The same with a max-age that is shorter by up to `percent` of it; `draw` is a random number
    /// from 0 to 1.
    pub fn shortened(self, percent: u8, draw: f64) -> Self {
        let part = f64::from(percent.min(100)) / 100.0 * draw.clamp(0.0, 1.0);
        Self { max_age: self.max_age.mul_f64(1.0 - part), ..self }
    }

    /// How fresh an entry stored at `stored_at` is at `now`.
    pub fn freshness(&self, stored_at: Timestamp, now: Timestamp) -> Freshness {
        let age = now.since(stored_at);
        if age < self.max_age {
            return Freshness::Fresh(self.max_age - age);
        }
        let stale = age - self.max_age;
        if stale < self.stale_while_revalidate {
            Freshness::Stale(stale)
        } else if stale < self.stale_if_error {
            Freshness::OnlyOnError(stale)
        } else {
            Freshness::Ended
        }
    }
}

/// The directives of a `Cache-Control` field that Verax acts on. Absent parts are `None`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct CacheControl {
    /// `max-age`
    pub max_age: Option<Duration>,
    /// `stale-while-revalidate`
    pub stale_while_revalidate: Option<Duration>,
    /// `stale-if-error`
    pub stale_if_error: Option<Duration>,
    /// `must-revalidate` or `proxy-revalidate`: never serve the value stale.
    pub must_revalidate: bool,
    /// `no-store`: do not store the value.
    pub no_store: bool,
    /// `no-cache`: on a request, do not answer from the cache.
    pub no_cache: bool,
}

/// A `Cache-Control` field that cannot be acted on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidCacheControl {
    /// A directive that takes a number of seconds has something else.
    #[error("Cache-Control {directive}={value:?} is not a whole number of seconds of 0 or more")]
    NotSeconds {
        /// The directive's name.
        directive: &'static str,
        /// Its value, cut to 40 characters.
        value: String,
    },
}

impl CacheControl {
    /// Reads a `Cache-Control` field value (RFC 9111, section 5.2). Unknown directives are ignored,
    /// as the RFC requires; known ones must be well formed.
    ///
    /// # Errors
    /// [`InvalidCacheControl`] names the directive at fault.
    ///
    /// ```
    /// use std::time::Duration;
    /// use verax_core::lifetime::CacheControl;
    ///
    /// let control = CacheControl::parse("max-age=30, stale-if-error=600")?;
    /// assert_eq!(control.max_age, Some(Duration::from_secs(30)));
    /// assert!(CacheControl::parse("max-age=-1").is_err());
    /// # Ok::<(), verax_core::lifetime::InvalidCacheControl>(())
    /// ```
    pub fn parse(field: &str) -> Result<Self, InvalidCacheControl> {
        let mut control = Self::default();
        for part in field.split(',') {
            let (name, value) = match part.split_once('=') {
                Some((name, value)) => (name.trim(), Some(value.trim().trim_matches('"'))),
                None => (part.trim(), None),
            };
            match name.to_ascii_lowercase().as_str() {
                // Of a repeated directive the first counts (RFC 9111, section 4.2.1).
                "max-age" => {
                    let given = seconds("max-age", value)?;
                    control.max_age.get_or_insert(given);
                }
                "stale-while-revalidate" => {
                    let given = seconds("stale-while-revalidate", value)?;
                    control.stale_while_revalidate.get_or_insert(given);
                }
                "stale-if-error" => {
                    let given = seconds("stale-if-error", value)?;
                    control.stale_if_error.get_or_insert(given);
                }
                "must-revalidate" | "proxy-revalidate" => control.must_revalidate = true,
                "no-store" => control.no_store = true,
                "no-cache" => control.no_cache = true,
                _ => {}
            }
        }
        Ok(control)
    }

    /// The lifetime, with absent parts from `fallback`. With `must_revalidate` the stale times are
    /// zero, whatever else is given (RFC 9111, section 5.2.2.2; RFC 5861, section 4).
    pub fn lifetime_or(&self, fallback: Lifetime) -> Lifetime {
        let max_age = self.max_age.unwrap_or(fallback.max_age);
        if self.must_revalidate {
            return Lifetime::of(max_age);
        }
        let while_revalidate = self.stale_while_revalidate;
        Lifetime {
            max_age,
            stale_while_revalidate: while_revalidate.unwrap_or(fallback.stale_while_revalidate),
            stale_if_error: self.stale_if_error.unwrap_or(fallback.stale_if_error),
        }
    }
}

fn seconds(directive: &'static str, value: Option<&str>) -> Result<Duration, InvalidCacheControl> {
    let text = value.unwrap_or("");
    if text.is_empty() || !text.bytes().all(|b| b.is_ascii_digit()) {
        return Err(InvalidCacheControl::NotSeconds {
            directive,
            value: text.chars().take(40).collect(),
        });
    }
    // A number that is too large counts as the largest (RFC 9111, section 1.2.2).
    let seconds = text.parse().unwrap_or(u64::MAX).min(MAX_LIFETIME.as_secs());
    Ok(Duration::from_secs(seconds))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const S: fn(u64) -> Duration = Duration::from_secs;

    #[rstest]
    #[case(0, Freshness::Fresh(S(30)))]
    #[case(29, Freshness::Fresh(S(1)))]
    #[case(30, Freshness::Stale(S(0)))]
    #[case(39, Freshness::Stale(S(9)))]
    #[case(40, Freshness::OnlyOnError(S(10)))]
    #[case(89, Freshness::OnlyOnError(S(59)))]
    #[case(90, Freshness::Ended)]
    fn freshness_follows_the_three_parts(#[case] age: u64, #[case] expected: Freshness) {
        let lifetime =
            Lifetime { max_age: S(30), stale_while_revalidate: S(10), stale_if_error: S(60) };
        let stored = Timestamp::from_millis(5_000);
        assert_eq!(lifetime.freshness(stored, stored + S(age)), expected);
    }

    #[test]
    fn a_clock_step_backwards_keeps_the_entry_fresh() {
        let lifetime = Lifetime::of(S(1));
        let stored = Timestamp::from_millis(9_000);
        let before = Timestamp::from_millis(0);
        assert_eq!(lifetime.freshness(stored, before), Freshness::Fresh(S(1)));
    }

    #[rstest]
    #[case("max-age", "NotSeconds")]
    #[case("max-age=", "NotSeconds")]
    #[case("max-age=-5", "NotSeconds")]
    #[case("max-age=1.5", "NotSeconds")]
    #[case("max-age=soon", "NotSeconds")]
    fn malformed_directives_are_named(#[case] field: &str, #[case] kind: &str) {
        let error = CacheControl::parse(field).unwrap_err();
        assert!(format!("{error:?}").starts_with(kind), "{error:?}");
        assert!(error.to_string().contains(field.split('=').next().unwrap()));
    }

    #[rstest]
    #[case("max-age=315360000", MAX_LIFETIME)]
    #[case("max-age=315360001", MAX_LIFETIME)]
    #[case("max-age=99999999999999999999999999", MAX_LIFETIME)]
    #[case("max-age=5, max-age=50", S(5))]
    #[case("immutable, private=\"x-harbor\", max-age=7, s-maxage=soon", S(7))]
    fn fields_are_read_leniently(#[case] field: &str, #[case] max_age: Duration) {
        assert_eq!(CacheControl::parse(field).unwrap().max_age, Some(max_age));
    }

    #[test]
    fn parts_left_out_come_from_the_fallback_unless_stale_serving_is_forbidden() {
        let fallback =
            Lifetime { max_age: S(30), stale_while_revalidate: S(10), stale_if_error: S(60) };
        let given = CacheControl::parse("Max-Age=\"5\", private, stale-if-error=7").unwrap();
        assert_eq!(
            given.lifetime_or(fallback),
            Lifetime { max_age: S(5), stale_while_revalidate: S(10), stale_if_error: S(7) }
        );
        for field in ["max-age=5, must-revalidate", "Proxy-Revalidate, max-age=5, stale-if-error=7"]
        {
            let given = CacheControl::parse(field).unwrap();
            assert_eq!(given.lifetime_or(fallback), Lifetime::of(S(5)), "{field}");
        }
        assert_eq!(CacheControl::default().lifetime_or(fallback), fallback);
    }
}
