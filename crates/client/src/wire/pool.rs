//! A few connections to the active node, opened on demand and reopened when they break.

use std::collections::VecDeque;
use std::hash::{BuildHasher, BuildHasherDefault, DefaultHasher};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use futures_util::FutureExt;
use futures_util::future::{BoxFuture, Shared};
use tokio::time::Instant;
use verax_api::{FailureKind, Problem};

use super::connect::{Target, Trust};
use super::link::Link;
use crate::addresses::Addresses;
use crate::error::ClientError;
use crate::http::connection::ClientOptions;
use crate::token::TokenSource;

/// The first and the maximum delay after a failed attempt to connect.
const SHORTEST: Duration = Duration::from_millis(20);
const LONGEST: Duration = Duration::from_secs(2);

/// The maximum number of addresses one attempt tries.
const MAX_TRIES: usize = 16;

/// An attempt to connect, which continues even if no caller waits for it.
type Connecting = Shared<BoxFuture<'static, Result<Arc<Link>, ClientError>>>;

#[derive(Default)]
struct Slot {
    link: Option<Arc<Link>>,
    connecting: Option<Connecting>,
    pause: Duration,
    not_before: Option<Instant>,
    /// Why the last attempt failed.
    failure: Option<ClientError>,
}

impl Slot {
    /// Its connection, if that is not broken.
    fn working(&self) -> Option<Arc<Link>> {
        self.link.as_ref().filter(|link| !link.is_broken()).cloned()
    }
}

/// The connections.
pub(crate) struct Pool(Arc<Inner>);

struct Inner {
    targets: Addresses<Target>,
    ca: Option<PathBuf>,
    pinned: Option<PathBuf>,
    token: Option<TokenSource>,
    connect_timeout: Duration,
    slots: Box<[Mutex<Slot>]>,
    next: AtomicUsize,
    closed: AtomicBool,
}

impl std::fmt::Debug for Pool {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Pool").field("targets", &self.0.targets).finish_non_exhaustive()
    }
}

impl Drop for Pool {
    /// Ends the connections, which their reader and writer tasks would otherwise keep alive.
    fn drop(&mut self) {
        self.0.closed.store(true, Ordering::Release);
        for number in 0..self.0.slots.len() {
            let link = self.0.slot(number).link.take();
            link.into_iter().for_each(|link| link.fail());
        }
    }
}

impl Pool {
    pub(crate) fn new(
        targets: Addresses<Target>,
        options: &ClientOptions,
        connections: usize,
    ) -> Self {
        let slots = (0..connections.max(1)).map(|_| Mutex::default()).collect();
        let (ca, pinned) = (options.ca.clone(), options.pinned.clone());
        let token = options.token.clone();
        let connect_timeout = options.connect_timeout;
        let (next, closed) = (AtomicUsize::new(0), AtomicBool::new(false));
        Self(Arc::new(Inner { targets, ca, pinned, token, connect_timeout, slots, next, closed }))
    }

    /// The address that last responded.
    pub(crate) fn address(&self) -> String {
        self.0.targets.current().address().to_owned()
    }

    /// A working connection: the same one for all calls of a task, and outside of tasks each in
    /// turn. If that one fails, or its limit of waiting calls is reached, another one that is open
    /// replaces it. A broken one is reopened; after a failed attempt the next one waits with
    /// exponential backoff and jitter. If none works, every call until then fails immediately, for
    /// the same reason.
    ///
    /// Tasks whose replies arrived together send their next requests together, over the same
    /// connection: the more requests a packet has, the less each of them costs.
    pub(crate) async fn link(&self) -> Result<Arc<Link>, ClientError> {
        let turn = self.0.turn();
        let own = self.link_of(turn).await;
        if own.as_ref().is_ok_and(|link| !link.is_crowded()) {
            return own;
        }
        let others = (1..self.0.slots.len()).map(|further| (turn + further) % self.0.slots.len());
        // One that is not open is being opened for later calls; this one does not wait for it.
        let mut open = others.filter_map(|number| self.link_of(number).now_or_never()?.ok());
        open.find(|other| !other.is_crowded()).map_or(own, Ok)
    }

    /// The connection for invalidations.
    pub(crate) async fn first(&self) -> Result<Arc<Link>, ClientError> {
        self.link_of(0).await
    }

    async fn link_of(&self, number: usize) -> Result<Arc<Link>, ClientError> {
        let connecting = {
            let mut slot = self.0.slot(number);
            if let Some(link) = slot.working() {
                return Ok(link);
            }
            slot.link = None;
            match &slot.connecting {
                Some(connecting) => connecting.clone(),
                None if slot.not_before.is_some_and(|at| Instant::now() < at) => {
                    return Err(slot.failure.clone().unwrap_or_else(|| {
                        let reason = "the last attempt to connect failed recently";
                        unreachable(&self.0.targets.current(), reason)
                    }));
                }
                None => slot.connecting.insert(Arc::clone(&self.0).begin(number)).clone(),
            }
        };
        connecting.await
    }
}

impl Inner {
    fn trust(&self) -> Trust<'_> {
        Trust { ca: self.ca.as_deref(), pinned: self.pinned.as_deref() }
    }

    /// The number of the connection to use now.
    fn turn(&self) -> usize {
        let turn = match tokio::task::try_id() {
            Some(task) => BuildHasherDefault::<DefaultHasher>::default().hash_one(task) as usize,
            None => self.next.fetch_add(1, Ordering::Relaxed),
        };
        turn % self.slots.len()
    }

    fn slot(&self, number: usize) -> MutexGuard<'_, Slot> {
        self.slots[number].lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to connect, in a task of its own: callers with shorter timeouts leave it to later
    /// ones.
    fn begin(self: Arc<Self>, number: usize) -> Connecting {
        let target = self.targets.current();
        let inner = Arc::clone(&self);
        let task = tokio::spawn(async move {
            let connected = self.connect().await;
            self.finish(number, &connected);
            connected
        });
        // The runtime of the task may end before it, as a test's does.
        let given_up = move |_| {
            let failed = Err(unreachable(&target, "connecting was given up"));
            inner.finish(number, &failed);
            failed
        };
        async move { task.await.unwrap_or_else(given_up) }.boxed().shared()
    }

    fn finish(&self, number: usize, connected: &Result<Arc<Link>, ClientError>) {
        let mut slot = self.slot(number);
        slot.connecting = None;
        match connected {
            Ok(link) if self.closed.load(Ordering::Acquire) => link.fail(),
            Ok(link) => *slot = Slot { link: Some(Arc::clone(link)), ..Slot::default() },
            Err(error) => {
                slot.failure = Some(error.clone());
                slot.pause = (slot.pause * 2).clamp(SHORTEST, LONGEST);
                let spread = 0.5 + rand::random::<f64>() / 2.0;
                slot.not_before = Some(Instant::now() + slot.pause.mul_f64(spread));
            }
        }
    }

    /// Connects to the active node: each address is tried in turn, and a standby names the active
    /// one.
    async fn connect(&self) -> Result<Arc<Link>, ClientError> {
        let token = self.token.as_ref().map_or(Ok(String::new()), TokenSource::current)?;
        let mut targets: VecDeque<Target> = self.targets.in_order().into();
        let (mut tried, mut error) = (Vec::new(), None);
        while let Some(target) = targets.pop_front() {
            if tried.contains(&target) || tried.len() == MAX_TRIES {
                continue;
            }
            tried.push(target.clone());
            let attempt = Link::connect(&target, &token);
            match tokio::time::timeout(self.connect_timeout, attempt).await {
                Ok(Ok((link, nodes))) => match nodes.first() {
                    // The active node comes first, with an empty address for itself.
                    Some(first) if first.is_empty() => {
                        self.targets.answered(&target);
                        return Ok(link);
                    }
                    active => {
                        link.fail();
                        let announced =
                            active.and_then(|text| target.announced(text, self.trust()));
                        announced.into_iter().for_each(|active| targets.push_front(active));
                        let detail =
                            "only a standby node answers: the active one cannot be reached";
                        let problem = Problem::of(FailureKind::Standby, detail);
                        error = Some(ClientError::Refused(Box::new(problem)));
                    }
                },
                // A refusal holds for every node with the same records.
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

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream};
    use verax_wire::{Frame, GetFlags, Nodes, Reply, Request, VERSION, Welcome, next_frame};

    use super::*;
    use crate::wire::connect::{ByteStream, Connector};

    /// Connects a few times to a server that welcomes and answers nothing else.
    #[derive(Debug)]
    struct Welcoming {
        connections_left: Mutex<usize>,
        max_in_flight: u32,
    }

    impl Connector for Welcoming {
        fn connect(&self) -> BoxFuture<'_, std::io::Result<Box<dyn ByteStream>>> {
            Box::pin(async {
                let mut left = self.connections_left.lock().unwrap();
                *left = left.checked_sub(1).ok_or(std::io::ErrorKind::ConnectionRefused)?;
                let (near, far) = tokio::io::duplex(1 << 16);
                tokio::spawn(welcome(far, self.max_in_flight));
                Ok(Box::new(near) as Box<dyn ByteStream>)
            })
        }
    }

    async fn welcome(mut stream: DuplexStream, max_in_flight: u32) {
        let (mut received, mut reply) = (Vec::new(), Vec::new());
        while next_frame(&received, 1 << 20).unwrap().is_none() {
            stream.read_buf(&mut received).await.unwrap();
        }
        let id = next_frame(&received, 1 << 20).unwrap().unwrap().0.head.id;
        let nodes = Nodes::of(&[""]);
        let welcome = Welcome {
            version: VERSION,
            max_body_bytes: 1 << 20,
            max_in_flight,
            idle_timeout: 60_000,
            topology: 1,
            nodes,
        };
        Reply::Welcome(welcome).encode(Frame { namespace: 0, id }, &mut reply);
        stream.write_all(&reply).await.unwrap();
        while stream.read_buf(&mut received).await.is_ok_and(|read| read > 0) {}
    }

    fn pool(connections_left: usize, max_in_flight: u32) -> Arc<Pool> {
        let connections_left = Mutex::new(connections_left);
        let connector = Arc::new(Welcoming { connections_left, max_in_flight });
        let targets = Addresses::new(Target::custom(connector), vec![]);
        Arc::new(Pool::new(targets, &ClientOptions::default(), 2))
    }

    #[tokio::test]
    async fn a_connection_that_fails_is_replaced_by_one_that_works() {
        let pool = pool(1, 64);
        let first = pool.link().await.unwrap();
        // It is the second one's turn.
        assert!(Arc::ptr_eq(&first, &pool.link().await.unwrap()));
        first.fail();
        assert!(pool.link().await.is_err(), "none works");
    }

    #[tokio::test]
    async fn a_task_uses_another_connection_when_its_own_is_crowded() {
        let pool = pool(2, 4);
        let task = tokio::spawn(async move {
            let own = pool.link().await.unwrap();
            for _ in 0..2 {
                assert!(!own.is_crowded());
                let own = Arc::clone(&own);
                tokio::spawn(async move {
                    let get = Request::Get { key: "k", flags: GetFlags::default() };
                    let _ = own.call(0, &get).await;
                });
            }
            while !own.is_crowded() {
                tokio::task::yield_now().await;
            }
            // The other one is being opened, and the call does not wait for that.
            assert!(Arc::ptr_eq(&own, &pool.link().await.unwrap()));
            while Arc::ptr_eq(&own, &pool.link().await.unwrap()) {
                tokio::task::yield_now().await;
            }
        });
        tokio::time::timeout(Duration::from_secs(10), task).await.unwrap().unwrap();
    }

    #[tokio::test]
    async fn a_task_keeps_its_connection_and_tasks_are_spread() {
        let targets = Addresses::new(Target::new("127.0.0.1:1", Trust::default()).unwrap(), vec![]);
        let pool = Arc::new(Pool::new(targets, &ClientOptions::default(), 2));
        let mut counts = [0; 2];
        for _ in 0..64 {
            let pool = Arc::clone(&pool);
            let turns = tokio::spawn(async move {
                let first = pool.0.turn();
                tokio::task::yield_now().await;
                (first, pool.0.turn())
            });
            let (first, second) = turns.await.unwrap();
            assert_eq!(first, second);
            counts[first] += 1;
        }
        assert!(counts.iter().all(|count| *count > 8), "{counts:?}");
    }

    #[test]
    fn outside_of_tasks_connections_take_turns() {
        let targets = Addresses::new(Target::new("127.0.0.1:1", Trust::default()).unwrap(), vec![]);
        let pool = Pool::new(targets, &ClientOptions::default(), 3);
        assert_eq!([0; 4].map(|_| pool.0.turn()), [0, 1, 2, 0]);
    }
}
