//! How the places of a table are shared among namespaces.

use std::collections::HashMap;

use crate::key::NamespaceId;

/// The limits on permits, or on leases and waits of locks.
///
/// A namespace may have up to `per_namespace` while there are fewer than `in_all`; beyond that,
/// only up to `guaranteed`. So no tenant uses up what others need, however many namespaces it has,
/// and the total is bounded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ShareLimits {
    /// The most in one namespace.
    pub per_namespace: usize,
    /// How many each namespace may have even when there are `in_all`.
    pub guaranteed: usize,
    /// The total above which a namespace has no more than is guaranteed.
    pub in_all: usize,
}

/// What each namespace takes of a table.
#[derive(Debug)]
pub(super) struct Shares {
    limits: ShareLimits,
    taken: HashMap<NamespaceId, usize>,
    in_all: usize,
}

impl ShareLimits {
    /// `most` for every namespace, whatever the total.
    pub const fn each(most: usize) -> Self {
        Self { per_namespace: most, guaranteed: most, in_all: most }
    }
}

impl Shares {
    pub(super) fn new(limits: ShareLimits) -> Self {
        Self { limits, taken: HashMap::new(), in_all: 0 }
    }

    pub(super) fn limits(&self) -> ShareLimits {
        self.limits
    }

    /// The namespaces that have taken something.
    pub(super) fn namespaces(&self) -> impl Iterator<Item = NamespaceId> + '_ {
        self.taken.keys().copied()
    }

    /// How much a namespace has taken.
    pub(super) fn of(&self, namespace: NamespaceId) -> usize {
        self.taken.get(&namespace).copied().unwrap_or(0)
    }

    /// Whether a namespace may take one more.
    pub(super) fn has_room(&self, namespace: NamespaceId) -> bool {
        let ShareLimits { per_namespace, guaranteed, in_all } = self.limits;
        let most = if self.in_all < in_all { per_namespace } else { guaranteed.min(per_namespace) };
        self.of(namespace) < most
    }

    /// Counts one more.
    pub(super) fn take(&mut self, namespace: NamespaceId) {
        *self.taken.entry(namespace).or_default() += 1;
        self.in_all += 1;
    }

    /// Counts one less.
    pub(super) fn release(&mut self, namespace: NamespaceId) {
        let Some(taken) = self.taken.get_mut(&namespace) else { return };
        *taken -= 1;
        self.in_all -= 1;
        if *taken == 0 {
            self.taken.remove(&namespace);
        }
    }

    /// Resets the count of a namespace.
    pub(super) fn give_back_all(&mut self, namespace: NamespaceId) {
        self.in_all -= self.taken.remove(&namespace).unwrap_or(0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_greedy_tenant_leaves_others_their_guaranteed_share() {
        let limits = ShareLimits { per_namespace: 10, guaranteed: 2, in_all: 15 };
        let mut shares = Shares::new(limits);
        let mut take = |namespace| {
            let has_room = shares.has_room(NamespaceId(namespace));
            if has_room {
                shares.take(NamespaceId(namespace));
            }
            has_room
        };
        let taken = |taken: bool, namespace, times, take: &mut dyn FnMut(u64) -> bool| {
            (0..times).for_each(|time| assert_eq!(take(namespace), taken, "{namespace}, {time}"));
        };
        taken(true, 1, 10, &mut take);
        taken(false, 1, 1, &mut take);
        taken(true, 2, 5, &mut take);
        taken(false, 2, 1, &mut take); // There are 15.
        taken(true, 3, 2, &mut take);
        taken(false, 3, 1, &mut take);
        shares.give_back_all(NamespaceId(1));
        shares.release(NamespaceId(3));
        assert_eq!((shares.of(NamespaceId(1)), shares.in_all), (0, 6));
        assert!(shares.has_room(NamespaceId(2)));
        shares.release(NamespaceId(9));
        assert_eq!(shares.in_all, 6, "a namespace without any has nothing to return");
    }
}
