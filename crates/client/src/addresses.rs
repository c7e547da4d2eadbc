//! The addresses of the nodes of a pair, and which of them last responded as the active one.
//!
//! Configured addresses come first; others are learned from responses, as the active node may be
//! elsewhere.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// The maximum number of addresses: those that a peer announces must not grow without bound.
const MAX_ADDRESSES: usize = 16;

/// Addresses of one kind, in the order they are tried.
#[derive(Debug)]
pub(crate) struct Addresses<A>(Mutex<Known<A>>);

#[derive(Debug)]
struct Known<A> {
    all: Vec<A>,
    /// How many of them are configured.
    named: usize,
    /// The one that last responded as the active node.
    active: usize,
}

impl<A: Clone + PartialEq> Addresses<A> {
    /// Creates a list of configured addresses, at least one.
    pub(crate) fn new(first: A, others: Vec<A>) -> Self {
        let mut all = vec![first];
        all.extend(others);
        Self(Mutex::new(Known { named: all.len(), all, active: 0 }))
    }

    fn known(&self) -> MutexGuard<'_, Known<A>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The one that last responded.
    pub(crate) fn current(&self) -> A {
        let known = self.known();
        known.all[known.active.min(known.all.len() - 1)].clone()
    }

    /// All addresses, the one that last responded first.
    pub(crate) fn in_order(&self) -> Vec<A> {
        let known = self.known();
        let mut all = known.all.clone();
        let active = all.remove(known.active.min(known.all.len() - 1));
        all.insert(0, active);
        all
    }

    /// Notes that an address did not respond: the next call begins with another.
    pub(crate) fn was_silent(&self, address: &A) {
        let mut known = self.known();
        if known.all.get(known.active) == Some(address) {
            known.active = (known.active + 1) % known.all.len();
        }
    }

    /// Notes that an address responded as the active node. A new one is learned, and displaces the
    /// oldest learned one at the limit.
    pub(crate) fn answered(&self, address: &A) {
        let mut known = self.known();
        if let Some(at) = known.all.iter().position(|a| a == address) {
            known.active = at;
            return;
        }
        if known.all.len() >= MAX_ADDRESSES.max(known.named + 1) {
            let oldest = known.named;
            known.all.remove(oldest);
        }
        known.all.push(address.clone());
        known.active = known.all.len() - 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_address_that_answered_is_tried_first() {
        let addresses = Addresses::new("a", vec!["b", "c"]);
        assert_eq!((addresses.current(), addresses.in_order()), ("a", vec!["a", "b", "c"]));
        addresses.answered(&"c");
        assert_eq!((addresses.current(), addresses.in_order()), ("c", vec!["c", "a", "b"]));
    }

    #[test]
    fn a_silent_address_is_skipped() {
        let addresses = Addresses::new("a", vec!["b"]);
        addresses.was_silent(&"b");
        assert_eq!(addresses.current(), "a", "the run has already ended");
        addresses.was_silent(&"a");
        assert_eq!(addresses.in_order(), ["b", "a"]);
        addresses.was_silent(&"b");
        assert_eq!(addresses.current(), "a");
        let alone = Addresses::new("a", Vec::new());
        alone.was_silent(&"a");
        assert_eq!(alone.current(), "a");
    }

    #[test]
    fn learned_addresses_are_bounded_and_configured_ones_stay() {
        let addresses = Addresses::new(0, vec![1]);
        (100..200).for_each(|learned| addresses.answered(&learned));
        let all = addresses.in_order();
        assert_eq!((all.len(), all[0]), (MAX_ADDRESSES, 199));
        assert!(all.contains(&0) && all.contains(&1) && !all.contains(&100));
    }
}
