//! What the clients of a lane count, second by second.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use verax_core::load::{ErrorKind, LaneRecorder, Outcome};

use super::lanes::Failed;
use crate::message::CountedFailure;

/// How many distinct messages of a lane are told apart within a second.
const MAX_MESSAGES: usize = 100;

/// What failures beyond that are counted under.
pub(crate) const OTHER_MESSAGES: &str = "other messages";

/// What the clients of a lane counted since the last tick.
#[derive(Debug, Default)]
pub(super) struct Counted {
    pub(super) recorder: LaneRecorder,
    failures: HashMap<(ErrorKind, String), u64>,
}

/// The counts that the clients of a lane share.
#[derive(Debug, Clone, Default)]
pub(super) struct SharedCounts(Arc<Mutex<Counted>>);

impl SharedCounts {
    /// Counts a request.
    pub(super) fn record(
        &self,
        response: Duration,
        from_send: Option<Duration>,
        outcome: Result<Outcome, Failed>,
    ) {
        let mut counted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match outcome {
            Ok(outcome) => counted.recorder.record(response, from_send, outcome),
            Err(Failed { kind, message }) => {
                counted.recorder.record(response, from_send, Outcome::Failed(kind));
                counted.fail(kind, message);
            }
        }
    }

    /// Exchanges the counts for `empty` ones.
    pub(super) fn swap(&self, empty: &mut Counted) {
        let mut counted = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        std::mem::swap(&mut *counted, empty);
    }
}

impl Counted {
    fn fail(&mut self, kind: ErrorKind, message: String) {
        let is_full = self.failures.len() >= MAX_MESSAGES;
        let mut reason = (kind, message);
        if is_full && !self.failures.contains_key(&reason) {
            reason.1 = OTHER_MESSAGES.to_owned();
        }
        *self.failures.entry(reason).or_default() += 1;
    }

    /// Takes the failures, as those of a lane.
    pub(super) fn take_failures(&mut self, lane: usize) -> impl Iterator<Item = CountedFailure> {
        let counted = move |((kind, message), count)| CountedFailure { lane, kind, message, count };
        std::mem::take(&mut self.failures).into_iter().map(counted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_failure_is_counted_and_messages_are_bounded() {
        let shared = SharedCounts::default();
        for number in 0..1_000 {
            let message = format!("message {}", number % 300);
            let failed = Failed { kind: ErrorKind::Other, message };
            shared.record(Duration::from_millis(1), None, Err(failed));
        }
        let mut counted = Counted::default();
        shared.swap(&mut counted);
        assert_eq!(counted.recorder.failed(), 1_000);
        let failures: Vec<_> = counted.take_failures(0).collect();
        assert_eq!(failures.iter().map(|failure| failure.count).sum::<u64>(), 1_000);
        assert_eq!(failures.len(), MAX_MESSAGES + 1);
        assert!(failures.iter().any(|failure| failure.message == OTHER_MESSAGES));
    }
}
