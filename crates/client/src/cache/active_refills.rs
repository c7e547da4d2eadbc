//! Active refills of this process: of all callers that need a key at the same time, one leads and
//! the others share its result.
//!
//! A caller that starts after an invalidation must not get a value read before it. A value stored
//! with a permit is safe for every caller that joined before it was sent to be stored, since an
//! invalidation they know of would have voided the permit. Then the refill is closed, and later
//! callers begin their own. Any other value is only for callers that joined before fetching began.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use tokio::sync::watch;

/// How a active_refill ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum RefillResult {
    /// With the value, as JSON.
    Value(Bytes),
    /// With the knowledge that there is none.
    NoValue,
    /// With nothing: somebody else is to see to it.
    Nothing,
}

/// The state of an active refill.
#[derive(Debug, Default)]
struct ActiveRefill {
    /// Whether the value is being fetched.
    began: bool,
    landed: Option<(RefillResult, Safe)>,
}

/// For whom a value is good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Safe {
    /// For every caller that joined before the refill was closed.
    All,
    /// For callers that joined before fetching began.
    Early,
}

type Updates = watch::Receiver<ActiveRefill>;

/// The active refills, by key.
#[derive(Debug, Default, Clone)]
pub(super) struct ActiveRefills(Arc<Mutex<HashMap<String, Updates>>>);

/// The role of a caller.
pub(super) enum Joined {
    /// Fetch the value.
    Lead(Lead),
    /// Wait for it.
    Follow(Follow),
}

/// The caller that fetches a value for all others. If it is dropped, they are notified that there
/// is none.
#[derive(Debug)]
pub(super) struct Lead {
    active_refills: ActiveRefills,
    key: String,
    sender: watch::Sender<ActiveRefill>,
}

/// A caller that waits for the leader's value.
#[derive(Debug)]
pub(super) struct Follow {
    updates: Updates,
    early: bool,
}

impl ActiveRefills {
    fn active_refills(&self) -> MutexGuard<'_, HashMap<String, Updates>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Joins the active refill of a key, or begins one.
    pub(super) fn join(&self, key: &str) -> Joined {
        let mut active_refills = self.active_refills();
        if let Some(updates) = active_refills.get(key) {
            let early = !updates.borrow().began;
            return Joined::Follow(Follow { updates: updates.clone(), early });
        }
        let (sender, updates) = watch::channel(ActiveRefill::default());
        active_refills.insert(key.to_owned(), updates);
        Joined::Lead(Lead { active_refills: self.clone(), key: key.to_owned(), sender })
    }
}

impl Lead {
    /// Notes that fetching begins.
    pub(super) fn begin(&self) {
        self.sender.send_modify(|active_refill| active_refill.began = true);
    }

    /// Closes the refill: later callers begin another one.
    pub(super) fn close(&self) {
        let mut active_refills = self.active_refills.active_refills();
        // The key may have another active refill by now.
        if active_refills
            .get(&self.key)
            .is_some_and(|updates| updates.same_channel(&self.sender.subscribe()))
        {
            active_refills.remove(&self.key);
        }
    }

    /// Ends the refill: later callers begin another one.
    pub(super) fn land(self, landed: RefillResult, safe: Safe) {
        self.close();
        self.sender.send_modify(|active_refill| active_refill.landed = Some((landed, safe)));
    }
}

impl Drop for Lead {
    fn drop(&mut self) {
        self.close();
        // Every follower was notified before, or is now.
        self.sender.send_modify(|active_refill| {
            active_refill.landed.get_or_insert((RefillResult::Nothing, Safe::All));
        });
    }
}

impl Follow {
    /// Waits for the end of the refill.
    pub(super) async fn landed(mut self) -> RefillResult {
        let active_refill =
            self.updates.wait_for(|active_refill| active_refill.landed.is_some()).await;
        match active_refill.ok().and_then(|active_refill| active_refill.landed.clone()) {
            Some((landed, safe)) if self.early || safe == Safe::All => landed,
            _ => RefillResult::Nothing,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lead(active_refills: &ActiveRefills, key: &str) -> Lead {
        match active_refills.join(key) {
            Joined::Lead(lead) => lead,
            Joined::Follow(_) => panic!("somebody leads already"),
        }
    }

    fn follow(active_refills: &ActiveRefills, key: &str) -> Follow {
        match active_refills.join(key) {
            Joined::Follow(follow) => follow,
            Joined::Lead(_) => panic!("nobody leads"),
        }
    }

    #[tokio::test]
    async fn followers_share_the_result_of_the_leader() {
        let active_refills = ActiveRefills::default();
        let leading = lead(&active_refills, "k");
        let mut following: Vec<Follow> = (0..100).map(|_| follow(&active_refills, "k")).collect();
        let _other = lead(&active_refills, "another");
        leading.begin();
        following.push(follow(&active_refills, "k"));
        leading.land(RefillResult::Value(Bytes::from_static(b"7")), Safe::All);
        for follow in following {
            assert_eq!(follow.landed().await, RefillResult::Value(Bytes::from_static(b"7")));
        }
        // It has ended: the next caller leads.
        let again = lead(&active_refills, "k");
        let follow = follow(&active_refills, "k");
        drop(again);
        assert_eq!(follow.landed().await, RefillResult::Nothing, "it was given up");
        // Once it is closed, others begin their own, independent of the first.
        let leading = lead(&active_refills, "k");
        leading.begin();
        let before = self::follow(&active_refills, "k");
        leading.close();
        let next = lead(&active_refills, "k");
        leading.land(RefillResult::Value(Bytes::from_static(b"8")), Safe::All);
        let after = self::follow(&active_refills, "k");
        next.land(RefillResult::NoValue, Safe::All);
        assert_eq!(before.landed().await, RefillResult::Value(Bytes::from_static(b"8")));
        assert_eq!(after.landed().await, RefillResult::NoValue);
        // A value not stored with a permit is only for callers that joined before it was fetched.
        let leading = lead(&active_refills, "k");
        let early = self::follow(&active_refills, "k");
        leading.begin();
        let late = self::follow(&active_refills, "k");
        leading.land(RefillResult::NoValue, Safe::Early);
        assert_eq!(
            (early.landed().await, late.landed().await),
            (RefillResult::NoValue, RefillResult::Nothing)
        );
        drop(lead(&active_refills, "k"));
        drop(_other);
        assert!(active_refills.active_refills().is_empty());
    }
}
