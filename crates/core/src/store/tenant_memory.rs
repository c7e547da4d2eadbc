//! The memory of one tenant: the namespaces that share it, and which of them loses entries when the
//! tenant has too much.

use std::sync::{Arc, PoisonError, RwLock, Weak};

use super::account::Account;
use super::quota::{HeldQuota, Quota};

/// The most entries that a writer evicts from its namespace or tenant, beyond its own size, while
/// that exceeds a lowered quota.
pub(super) const MAX_SHRINK: usize = 64;

/// A user of memory, from which entries can be evicted.
pub(super) trait MemoryUser: std::fmt::Debug + Send + Sync {
    /// Its use, in bytes.
    fn used(&self) -> u64;

    /// Memory that nobody else can push it below, in bytes.
    fn reserve(&self) -> u64;

    /// Evicts an entry; returns whether there was one.
    fn evict(&self) -> bool;
}

/// The memory of a tenant. Its namespaces share what the tenant is guaranteed and may never exceed;
/// among tenants, memory is shared evenly however many namespaces each has.
#[derive(Debug)]
pub struct TenantMemory {
    pub(super) account: Arc<Account>,
    quota: HeldQuota,
    users: RwLock<Vec<Weak<dyn MemoryUser>>>,
}

impl TenantMemory {
    pub(super) fn new(whole: &Arc<Account>, quota: Quota) -> Self {
        let (account, quota) = (Account::within(whole), HeldQuota::new(quota));
        Self { account, quota, users: RwLock::default() }
    }

    pub(super) fn join(&self, user: Weak<dyn MemoryUser>) {
        let mut users = self.users.write().unwrap_or_else(PoisonError::into_inner);
        users.retain(|user| user.strong_count() > 0);
        users.push(user);
    }

    fn users(&self) -> Vec<Arc<dyn MemoryUser>> {
        let users = self.users.read().unwrap_or_else(PoisonError::into_inner);
        users.iter().filter_map(Weak::upgrade).collect()
    }

    /// The memory of its entries, in bytes.
    pub fn used(&self) -> u64 {
        self.account.bytes()
    }

    /// How many entries its namespaces hold.
    pub fn entries(&self) -> u64 {
        self.account.entries()
    }

    /// What it is guaranteed and may never exceed.
    pub fn quota(&self) -> Quota {
        self.quota.get()
    }

    /// Sets its quota. Above it, the tenant does not grow, and shrinks with writes and tidying.
    pub fn set_quota(&self, quota: Quota) {
        self.quota.set(quota, &self.account);
    }

    /// The memory that it is guaranteed: its reserve, or the sum of those of its namespaces where
    /// that is more.
    pub(super) fn guaranteed(&self) -> u64 {
        let reserves = self.users().iter().map(|user| user.reserve()).sum();
        self.quota().reserve.max(reserves)
    }

    /// Evicts entries of the namespace furthest over its reserve while `goes_on`, until another one
    /// is as far over; returns whether there was one.
    pub(super) fn take(&self, mut goes_on: impl FnMut() -> bool) -> bool {
        let users = self.users();
        let over = |user: &dyn MemoryUser| user.used().saturating_sub(user.reserve());
        let mut excess: Vec<_> = users
            .iter()
            .map(|user| (over(&**user), &**user))
            .filter(|(over, _)| *over > 0)
            .collect();
        excess.sort_unstable_by_key(|(over, _)| std::cmp::Reverse(*over));
        // A namespace that is over its reserve by bookkeeping alone has no entries to evict: the
        // next one does.
        excess.iter().enumerate().any(|(at, (_, user))| {
            let next = excess.get(at + 1).map_or(0, |(over, _)| *over).max(1);
            let mut gave = false;
            while goes_on() && (over(*user) >= next || !gave) && user.evict() {
                gave = true;
            }
            gave
        })
    }

    /// Evicts while `goes_on`, also from namespaces within their reserves if no other is left: a
    /// tenant's own quota goes before the reserves in it.
    fn evict_while(&self, mut goes_on: impl FnMut() -> bool) {
        while goes_on() {
            if !self.take(&mut goes_on) && !self.users().iter().any(|user| user.evict()) {
                return;
            }
        }
    }

    /// Evicts what is above the quota; of what is above a lowered one, at most [`MAX_SHRINK`].
    pub(super) fn keep_to_quota(&self) {
        if self.quota.is_broken(&self.account) {
            self.evict_while(|| self.quota.is_broken(&self.account));
        }
        self.shrink(MAX_SHRINK);
    }

    /// Evicts about `most` entries of those above a lowered quota; returns how many, and whether
    /// there are more.
    pub(super) fn shrink(&self, most: usize) -> (u64, bool) {
        let before = self.entries();
        if self.quota.is_exceeded(&self.account) {
            let mut left = most;
            self.evict_while(|| {
                let goes_on = left > 0 && self.quota.is_exceeded(&self.account);
                left = left.saturating_sub(1);
                goes_on
            });
        }
        self.quota.note_shrunk(&self.account);
        let evicted = before.saturating_sub(self.entries());
        (evicted, evicted > 0 && self.quota.is_exceeded(&self.account))
    }
}
