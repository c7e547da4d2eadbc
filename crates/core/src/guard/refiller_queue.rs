//! Services that wait to be asked to refill a key, first come, first served.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::time::Timestamp;

/// The most services that wait in one namespace.
pub const MAX_WAITING_REFILLERS: usize = 1_024;

/// A service that was there within this time is expected to come back.
pub const EXPECTED_WITHIN: Duration = Duration::from_secs(30);

/// The place of a service in the queue.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RefillerTicket(u64);

/// The services of one namespace that wait, and how many are refilling.
#[derive(Debug)]
pub struct RefillerQueue<W> {
    waiting: BTreeMap<RefillerTicket, W>,
    next: u64,
    refilling: usize,
    /// When one was there last; at first, when the queue was made.
    latest: Timestamp,
    has_come: bool,
}

impl<W> RefillerQueue<W> {
    /// An empty queue. Services that waited before a restart are expected to come back.
    pub fn new(now: Timestamp) -> Self {
        Self { waiting: BTreeMap::new(), next: 0, refilling: 0, latest: now, has_come: false }
    }

    /// Lets a service wait.
    ///
    /// # Errors
    /// The service, when too many wait.
    pub fn join(&mut self, refiller: W, now: Timestamp) -> Result<RefillerTicket, W> {
        if self.waiting.len() >= MAX_WAITING_REFILLERS {
            return Err(refiller);
        }
        let ticket = RefillerTicket(self.next);
        self.next += 1;
        self.waiting.insert(ticket, refiller);
        (self.latest, self.has_come) = (now, true);
        Ok(ticket)
    }

    /// A service waits no longer; returns whether it was waiting.
    pub fn leave(&mut self, ticket: RefillerTicket, now: Timestamp) -> bool {
        let left = self.waiting.remove(&ticket).is_some();
        if left {
            self.latest = now;
        }
        left
    }

    /// Takes the service that has waited longest. It refills until [`ended`](Self::ended), or is
    /// [put back](Self::put_back).
    pub fn take(&mut self) -> Option<(RefillerTicket, W)> {
        let taken = self.waiting.pop_first()?;
        self.refilling += 1;
        Some(taken)
    }

    /// Puts a service back into its place: there was nothing to do for it.
    pub fn put_back(&mut self, ticket: RefillerTicket, refiller: W) {
        self.refilling = self.refilling.saturating_sub(1);
        self.waiting.insert(ticket, refiller);
    }

    /// A service that was taken has refilled its key, or was gone.
    pub fn ended(&mut self, now: Timestamp) {
        self.refilling = self.refilling.saturating_sub(1);
        self.latest = now;
    }

    /// Takes all services that wait: they are told that the namespace is gone.
    pub fn take_all(&mut self) -> Vec<W> {
        std::mem::take(&mut self.waiting).into_values().collect()
    }

    /// How many services wait or refill.
    pub fn present(&self) -> usize {
        self.waiting.len() + self.refilling
    }

    /// Whether a service is there, or was lately.
    pub fn is_known(&self, now: Timestamp) -> bool {
        self.has_come && self.is_expected(now)
    }

    /// Whether a service may come back soon.
    pub fn is_expected(&self, now: Timestamp) -> bool {
        self.present() > 0 || now.since(self.latest) < EXPECTED_WITHIN
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const START: Timestamp = Timestamp::from_millis(1_000);

    #[test]
    fn who_waits_longest_is_asked_first() {
        let mut queue = RefillerQueue::new(START);
        let tickets: Vec<_> = ["a", "b", "c"].map(|w| queue.join(w, START).unwrap()).into();
        assert!(queue.leave(tickets[1], START) && !queue.leave(tickets[1], START));
        let (ticket, first) = queue.take().unwrap();
        assert_eq!((first, queue.present()), ("a", 2));
        // It keeps its place when there was nothing to do.
        queue.put_back(ticket, first);
        assert_eq!(queue.take().map(|(_, w)| w), Some("a"));
        assert_eq!(queue.take().map(|(_, w)| w), Some("c"));
        assert_eq!((queue.take(), queue.present()), (None, 2));
        queue.ended(START);
        queue.ended(START);
        assert_eq!(queue.present(), 0);
    }

    #[test]
    fn services_are_expected_for_a_while() {
        let mut queue = RefillerQueue::new(START);
        let late = START + EXPECTED_WITHIN;
        let before = late - Duration::from_millis(1);
        // After a restart, they are expected, but none is known.
        assert!(queue.is_expected(before) && !queue.is_expected(late) && !queue.is_known(START));
        let ticket = queue.join((), late).unwrap();
        let long_after = late + Duration::from_secs(3_600);
        assert!(queue.is_known(long_after) && queue.is_expected(long_after));
        queue.leave(ticket, long_after);
        let end = long_after + EXPECTED_WITHIN;
        assert!(queue.is_known(end - Duration::from_millis(1)) && !queue.is_known(end));
        // One that refills is there.
        queue.join((), end).unwrap();
        queue.take().unwrap();
        assert!(queue.is_known(end + EXPECTED_WITHIN * 2));
        queue.ended(end + EXPECTED_WITHIN * 2);
        assert!(!queue.is_known(end + EXPECTED_WITHIN * 3));
    }

    #[test]
    fn the_queue_is_bounded() {
        let mut queue = RefillerQueue::new(START);
        for number in 0..MAX_WAITING_REFILLERS {
            queue.join(number, START).unwrap();
        }
        assert_eq!(queue.join(7, START), Err(7));
        queue.take().unwrap();
        queue.join(8, START).unwrap();
        assert_eq!(queue.take_all().len(), MAX_WAITING_REFILLERS);
        assert_eq!(queue.present(), 1);
    }
}
