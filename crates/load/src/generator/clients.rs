//! The clients of a lane: in a closed loop, or for requests that are due.

use std::sync::Arc;
use std::time::{Duration, Instant};

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use tokio::sync::{Mutex, mpsc, watch};
use verax_core::Key;
use verax_core::load::{KeyChooser, KeySequence, Mix};

use super::backlog::Backlog;
use super::counts::SharedCounts;
use super::lanes::LaneReader;
use super::pacer::Due;

/// How long a client pauses after a failure in a closed loop, or without anything to do, so as not
/// to spin.
const IDLE: Duration = Duration::from_millis(10);

/// A lane with all that its clients share.
#[derive(Debug, Clone)]
pub(super) struct Lane {
    pub(super) reader: LaneReader,
    pub(super) counts: SharedCounts,
    pub(super) backlog: Backlog,
    pub(super) keys: Arc<[Key]>,
    pub(super) chooser: KeyChooser,
    pub(super) mix: Mix,
    pub(super) seed: u64,
    /// When the run began.
    pub(super) began: Instant,
    /// How many clients a lane has at most, over all generators.
    pub(super) clients: u32,
}

/// What one client does next.
struct Choices {
    sequence: KeySequence,
    random: ChaCha8Rng,
}

impl Lane {
    /// Client n of each lane makes the same choices.
    fn choices(&self, client: u32) -> Choices {
        let random = ChaCha8Rng::seed_from_u64(self.seed ^ (u64::from(client) << 32));
        Choices { sequence: self.chooser.sequence(client, self.clients), random }
    }

    /// Sends one request. `due` is when it was due, if that is not now.
    async fn request(&self, choices: &mut Choices, due: Option<Due>) -> bool {
        let sent = Instant::now();
        let elapsed = sent.saturating_duration_since(self.began);
        let index = match due.and_then(|due| due.key) {
            Some(recorded) => recorded as usize % self.keys.len(),
            None => choices.sequence.choose(elapsed, &mut choices.random),
        };
        let key = &self.keys[index];
        let action = self.mix.choose(&mut choices.random);
        let outcome = self.reader.carry_out(action, key).await;
        let from_send = sent.elapsed();
        let Some(outcome) = outcome else { return false };
        let is_done = outcome.is_ok();
        let response = due.map_or(from_send, |due| due.at.elapsed());
        self.counts.record(response, due.map(|_| from_send), outcome);
        is_done
    }

    /// Sends requests one after another while `active`, the number of active clients of all
    /// generators, is above this client's number.
    pub(super) async fn closed_loop(
        self,
        client: u32,
        think_time: Duration,
        mut active: watch::Receiver<u32>,
    ) {
        let mut choices = self.choices(client);
        loop {
            if active.wait_for(|active| client < *active).await.is_err() {
                return;
            }
            let is_done = self.request(&mut choices, None).await;
            if !is_done {
                tokio::time::sleep(IDLE.max(think_time)).await;
            } else if !think_time.is_zero() {
                tokio::time::sleep(think_time).await;
            }
        }
    }

    /// Sends the requests that are due, each by the next client that has nothing else to do.
    pub(super) async fn open_loop(self, client: u32, due: Arc<Mutex<mpsc::Receiver<Due>>>) {
        let mut choices = self.choices(client);
        loop {
            let next = due.lock().await.recv().await;
            let Some(due) = next else { return };
            self.request(&mut choices, Some(due)).await;
            self.backlog.ended();
        }
    }
}
