//! How often reports of damage may remove the entry of a key.
//!
//! A client that cannot decode any value would otherwise remove what others store, again and again,
//! and each removal costs the origin a read.

use std::collections::VecDeque;
use std::time::Duration;

use crate::key::Key;
use crate::time::Timestamp;

/// The most removals of one key within [`WINDOW`].
pub const MAX_REMOVALS: usize = 3;

/// The time in which they are counted.
pub const WINDOW: Duration = Duration::from_secs(60);

/// The most removals of all keys of a namespace within [`WINDOW`].
pub const MAX_TOGETHER: usize = 1_000;

/// The removals of a namespace within the last [`WINDOW`].
///
/// ```
/// use verax_core::damage_limit::DamageLimit;
/// use verax_core::{Key, Timestamp};
///
/// let (mut limit, key) = (DamageLimit::default(), Key::new("board/aldermouth")?);
/// let now = Timestamp::from_millis(0);
/// assert!((0..3).all(|_| limit.allows(&key, now)));
/// assert!(!limit.allows(&key, now));
/// assert!(limit.allows(&key, Timestamp::from_millis(60_001)));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug, Default)]
pub struct DamageLimit(VecDeque<(Timestamp, Key)>);

impl DamageLimit {
    /// Whether the key's entry may be removed now; counts it if so.
    pub fn allows(&mut self, key: &Key, now: Timestamp) -> bool {
        while self.0.front().is_some_and(|(at, _)| now.since(*at) > WINDOW) {
            self.0.pop_front();
        }
        let of_key = self.0.iter().filter(|(_, removed)| removed == key).count();
        let is_allowed = of_key < MAX_REMOVALS && self.0.len() < MAX_TOGETHER;
        if is_allowed {
            self.0.push_back((now, key.clone()));
        }
        is_allowed
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn removals_are_limited_by_key_and_together() {
        let (mut limit, now) = (DamageLimit::default(), Timestamp::from_millis(5));
        let key = |n: usize| Key::new(format!("board/{n}")).unwrap();
        for n in 0..MAX_TOGETHER {
            assert!(limit.allows(&key(n / MAX_REMOVALS), now), "{n}");
        }
        assert!(!limit.allows(&key(9_999), now));
        // At the end of the window they still count; after it they do not.
        let end = now + WINDOW;
        assert!(!limit.allows(&key(9_999), end));
        assert!(limit.allows(&key(9_999), end + Duration::from_millis(1)));
        assert_eq!(limit.0.len(), 1);
    }
}
