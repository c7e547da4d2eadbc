//! A few connections to the active Verax, made when needed and made anew when they break.

use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use tokio::sync::Mutex;
use verax_wire::FailureCode;

use super::connect::Target;
use super::link::{Link, refusal};
use crate::addresses::Addresses;
use crate::connection::ClientOptions;
use crate::error::ClientError;

/// How long after a failed attempt to connect the next one waits at first, and at most.
const SHORTEST: Duration = Duration::from_millis(20);
const LONGEST: Duration = Duration::from_secs(2);

/// The most addresses that one attempt tries.
const MAX_TRIES: usize = 16;

#[derive(Debug, Default)]
struct Slot {
    link: Option<Arc<Link>>,
    pause: Duration,
    not_before: Option<Instant>,
}

/// The connections.
#[derive(Debug)]
pub(super) struct Pool {
    targets: Addresses<Target>,
    ca: Option<PathBuf>,
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
        targets: Addresses<Target>,
        options: &ClientOptions,
        token: String,
        connections: usize,
    ) -> Self {
        let slots = (0..connections.max(1)).map(|_| Mutex::default()).collect();
        let (ca, connect_timeout) = (options.ca.clone(), options.connect_timeout);
        Self { targets, ca, token, connect_timeout, slots, next: AtomicUsize::new(0) }
    }

    /// The address that answered last.
    pub(super) fn address(&self) -> String {
        self.targets.current().address().to_owned()
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
        if slot.not_before.is_some_and(|at| Instant::now() < at) {
            let reason = "the last attempt to connect failed a moment ago";
            return Err(unreachable(&self.targets.current(), reason));
        }
        let error = match self.connect().await {
            Ok(link) => {
                *slot = Slot { link: Some(Arc::clone(&link)), ..Slot::default() };
                return Ok(link);
            }
            Err(error) => error,
        };
        slot.pause = (slot.pause * 2).clamp(SHORTEST, LONGEST);
        let spread = 0.5 + rand::random::<f64>() / 2.0;
        slot.not_before = Some(Instant::now() + slot.pause.mul_f64(spread));
        Err(error)
    }

    /// Connects to the active Verax: each address is tried in turn, and a standby tells where the
    /// active one is.
    async fn connect(&self) -> Result<Arc<Link>, ClientError> {
        let mut targets: VecDeque<Target> = self.targets.in_order().into();
        let (mut tried, mut error) = (Vec::new(), None);
        while let Some(target) = targets.pop_front() {
            if tried.contains(&target) || tried.len() == MAX_TRIES {
                continue;
            }
            tried.push(target.clone());
            let attempt = Link::connect(&target, &self.token);
            match tokio::time::timeout(self.connect_timeout, attempt).await {
                Ok(Ok((link, nodes))) => match nodes.first() {
                    // The active one comes first, and names itself by an empty address.
                    Some(first) if first.is_empty() => {
                        self.targets.answered(&target);
                        return Ok(link);
                    }
                    active => {
                        link.fail();
                        let told = active.and_then(|text| target.told(text, self.ca.as_deref()));
                        told.into_iter().for_each(|active| targets.push_front(active));
                        error = Some(refusal(
                            FailureCode::Standby as u16,
                            "only a Verax that stands by answers: the active one cannot be reached",
                        ));
                    }
                },
                // A refusal holds for all that use the same records.
                Ok(Err(refused @ ClientError::Refused(_))) => return Err(refused),
                // What a standby said tells more.
                Ok(Err(failed)) => error = error.or(Some(failed)),
                Err(_) => error = error.or(Some(unreachable(&target, "connecting took too long"))),
            }
        }
        Err(error.unwrap_or_else(|| unreachable(&self.targets.current(), "no address is left")))
    }
}

fn unreachable(target: &Target, reason: &str) -> ClientError {
    ClientError::Unreachable { url: target.address().to_owned(), reason: reason.to_owned() }
}
