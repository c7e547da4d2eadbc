//! A few connections to one Verax, made when needed and made anew when they break.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tokio::sync::Mutex;

use super::connect::Target;
use super::link::Link;
use crate::error::ClientError;

/// How long after a failed attempt to connect the next one waits at first, and at most.
const SHORTEST: Duration = Duration::from_millis(20);
const LONGEST: Duration = Duration::from_secs(2);

#[derive(Debug, Default)]
struct Slot {
    link: Option<Arc<Link>>,
    pause: Duration,
    not_before: Option<Instant>,
}

/// The connections.
#[derive(Debug)]
pub(super) struct Pool {
    target: Target,
    token: String,
    connect_timeout: Duration,
    slots: Box<[Mutex<Slot>]>,
    next: AtomicUsize,
}

impl Drop for Pool {
    /// Ends the connections: what reads and writes them would otherwise keep them for ever.
    fn drop(&mut self) {
        self.slots.iter_mut().filter_map(|slot| slot.get_mut().link.take()).for_each(|l| l.fail());
    }
}

impl Pool {
    pub(super) fn new(
        target: Target,
        token: String,
        connect_timeout: Duration,
        connections: usize,
    ) -> Self {
        let slots = (0..connections.max(1)).map(|_| Mutex::default()).collect();
        Self { target, token, connect_timeout, slots, next: AtomicUsize::new(0) }
    }

    pub(super) fn address(&self) -> &str {
        self.target.address()
    }

    /// A connection that works, the next in turn. One that broke is made anew; after an attempt that
    /// failed the next waits a while, which doubles and is spread, and until then every call fails at
    /// once.
    pub(super) async fn link(&self) -> Result<Arc<Link>, ClientError> {
        let turn = self.next.fetch_add(1, Ordering::Relaxed) % self.slots.len();
        self.link_of(turn).await
    }

    /// The connection that watches.
    pub(super) async fn first(&self) -> Result<Arc<Link>, ClientError> {
        self.link_of(0).await
    }

    async fn link_of(&self, number: usize) -> Result<Arc<Link>, ClientError> {
        let mut slot = self.slots[number].lock().await;
        if let Some(link) = slot.link.as_ref().filter(|link| !link.is_broken()) {
            return Ok(Arc::clone(link));
        }
        slot.link = None;
        let unreachable = |reason: &str| ClientError::Unreachable {
            url: self.address().to_owned(),
            reason: reason.to_owned(),
        };
        if slot.not_before.is_some_and(|at| Instant::now() < at) {
            return Err(unreachable("the last attempt to connect failed a moment ago"));
        }
        let attempt = Link::connect(&self.target, &self.token);
        let error = match tokio::time::timeout(self.connect_timeout, attempt).await {
            Ok(Ok(link)) => {
                *slot = Slot { link: Some(Arc::clone(&link)), ..Slot::default() };
                return Ok(link);
            }
            Ok(Err(error)) => error,
            Err(_) => unreachable("connecting took too long"),
        };
        slot.pause = (slot.pause * 2).clamp(SHORTEST, LONGEST);
        let spread = 0.5 + rand::random::<f64>() / 2.0;
        slot.not_before = Some(Instant::now() + slot.pause.mul_f64(spread));
        Err(error)
    }
}
