//! The service: what it owns, how it starts, and the work it does by itself.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use tokio::sync::watch;
use verax_api::{LoadProfileSpec, LoadRun, Ready, WarmRun};
use verax_core::{Name, NamespaceId};
use verax_origin::Credentials;
use verax_records::{Actor, Node, Records};

use crate::access::{Caller, Right, Sessions, TokenTable, hash_of, new_secret};
use crate::cache::Cache;
use crate::clock::Clock;
use crate::drills::Drills;
use crate::error::ServiceError;
use crate::live::{Live, sample_every_second};
use crate::locks::{Locks, end_in_time, keep_epoch};
use crate::membership::{Nodes, Role, membership_loop};
use crate::namespace::Namespace;
use crate::records_sync::{RecordsSync, sync_loop};
use crate::registry::Registry;
use crate::runs::{LoadRunner, RunTable};
use crate::transit::Transit;

/// How often lapsed permits and ended entries are looked for.
const TIDY_EVERY: Duration = Duration::from_millis(100);

/// How many chunks of each shard of the store are tidied at a time.
const TIDY_CHUNKS: usize = 8;

/// How the service is set up.
#[derive(Debug, Clone)]
pub struct ServiceOptions {
    /// The most memory that entries may take, in bytes, bookkeeping included.
    pub memory_limit: u64,
    /// The most callers that may wait for one key.
    pub most_waiters: usize,
    /// The most memory for values on their way in and out, in bytes.
    pub transit_limit: u64,
    /// Where a snapshot of the records is kept, for a start while MariaDB is away.
    pub records_snapshot: Option<PathBuf>,
    /// This node, where other Verax may use the same records; `None` where none ever does.
    pub node: Option<Node>,
    /// Where the latest epoch of fencing tokens is kept, in case the records forget it.
    pub epoch_file: Option<PathBuf>,
    /// Where files with the secrets of origins lie; without it they come from the environment alone.
    pub credentials_dir: Option<PathBuf>,
    /// The load profiles to offer.
    pub profiles: Vec<LoadProfileSpec>,
}

impl Default for ServiceOptions {
    fn default() -> Self {
        Self {
            memory_limit: 256 << 20,
            most_waiters: 20_000,
            transit_limit: 256 << 20,
            records_snapshot: None,
            node: None,
            epoch_file: None,
            credentials_dir: None,
            profiles: Vec::new(),
        }
    }
}

/// The service. Transports hold it in an `Arc`.
#[derive(Debug)]
pub struct Service {
    pub(crate) clock: Clock,
    pub(crate) cache: Cache,
    pub(crate) records: Records,
    pub(crate) registry: Registry,
    pub(crate) tokens: TokenTable,
    pub(crate) sessions: Sessions,
    pub(crate) live: Live,
    pub(crate) warm_runs: RunTable<WarmRun>,
    pub(crate) load_runs: RunTable<LoadRun>,
    pub(crate) load_running: Arc<AtomicBool>,
    pub(crate) profiles: Vec<LoadProfileSpec>,
    pub(crate) credentials: Arc<Credentials>,
    transit: Transit,
    pub(crate) locks: Locks,
    pub(crate) drills: Drills,
    runner: OnceLock<Arc<dyn LoadRunner>>,
    pub(crate) sync: RecordsSync,
    pub(crate) nodes: Nodes,
    pub(crate) epoch_file: Option<PathBuf>,
    access_revision: AtomicU64,
    restarts: AtomicU64,
    stopping: watch::Sender<bool>,
}

impl Service {
    /// Loads everything from the records and starts the background work. While MariaDB is away, what
    /// serving needs comes from the snapshot that an earlier start left, if there is one.
    ///
    /// # Errors
    /// [`ServiceError::RecordsUnavailable`] when neither can be read.
    pub async fn start(
        records: Records,
        options: ServiceOptions,
    ) -> Result<Arc<Self>, ServiceError> {
        let service = Arc::new(Self {
            clock: Clock::default(),
            cache: Cache::new(options.memory_limit, options.most_waiters),
            records,
            registry: Registry::default(),
            tokens: TokenTable::default(),
            sessions: Sessions::default(),
            live: Live::default(),
            warm_runs: RunTable::default(),
            load_runs: RunTable::default(),
            load_running: Arc::default(),
            profiles: options.profiles,
            credentials: Credentials::new(options.credentials_dir.as_deref()).into(),
            transit: Transit::new(options.transit_limit),
            locks: Locks::default(),
            drills: Drills::default(),
            runner: OnceLock::new(),
            sync: RecordsSync::new(options.records_snapshot),
            nodes: Nodes::new(options.node),
            epoch_file: options.epoch_file,
            access_revision: AtomicU64::new(0),
            restarts: AtomicU64::new(0),
            stopping: watch::Sender::new(false),
        });
        service.load_or_snapshot().await?;
        let tasks: [fn(Arc<Self>) -> Work; 6] = [
            tidy,
            |service| Box::pin(sample_every_second(service)),
            |service| Box::pin(sync_loop(service)),
            |service| Box::pin(membership_loop(service)),
            |service| Box::pin(keep_epoch(service)),
            |service| Box::pin(end_in_time(service)),
        ];
        for task in tasks {
            tokio::spawn(until_stopped(Arc::clone(&service), task));
        }
        Ok(service)
    }

    /// Makes sure that the administrator token is known: `known` when it still opens everything.
    /// The first one is created here, for the caller to keep where only its owner can read it. No
    /// further one is ever created by itself: who can damage a file must not become administrator
    /// by it.
    ///
    /// # Errors
    /// [`ServiceError::Conflict`] when `known` opens nothing, or is missing although there are
    /// administrators; [`ServiceError::RecordsUnavailable`].
    pub async fn administrator_token(
        self: &Arc<Self>,
        known: Option<&str>,
    ) -> Result<String, ServiceError> {
        if let Some(secret) = known {
            return match self.tokens.caller(secret) {
                Ok(caller) if caller.is_admin() => Ok(secret.to_owned()),
                _ => Err(ServiceError::Conflict(
                    "it holds no token that is known and opens everything".into(),
                )),
            };
        }
        if self.tokens.any_admin() {
            return Err(ServiceError::Conflict(
                "it is not there, although an administrator token was created before".into(),
            ));
        }
        self.new_administrator_token().await
    }

    /// Creates an administrator token, for somebody who may write to the data directory and asks
    /// for it.
    ///
    /// # Errors
    /// [`ServiceError::RecordsUnavailable`].
    pub async fn new_administrator_token(self: &Arc<Self>) -> Result<String, ServiceError> {
        let secret = new_secret();
        let hash = hash_of(&secret);
        self.administer(async move |service| {
            let (actor, now) = (Actor::new("Verax at its start"), service.clock.now());
            let created =
                service.records.create_token(hash, "admin", "administrator", &actor, now).await?;
            service.tokens.add(&service.follow_change(created));
            Ok(())
        })
        .await?;
        Ok(secret)
    }

    /// Sets what carries load runs out; only the first call counts.
    pub fn set_load_runner(&self, runner: Arc<dyn LoadRunner>) {
        let _ = self.runner.set(runner);
    }

    pub(crate) fn load_runner(&self) -> Option<Arc<dyn LoadRunner>> {
        self.runner.get().cloned()
    }

    /// Lets a caller into a namespace with a right: what is done with the namespace then needs no
    /// further check of the caller.
    ///
    /// # Errors
    /// [`ServiceError`]: the scope, or the namespace.
    pub fn open(
        &self,
        caller: &Caller,
        right: Right,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<Arc<Namespace>, ServiceError> {
        caller.needs_within(right, tenant, namespace)?;
        self.needs_active()?;
        self.registry.namespace(tenant, namespace)
    }

    /// A namespace by its names, if the token opens it with a right: for transports that answer plain
    /// look-ups on the spot. Why it does not is left to [`open`](Self::open).
    pub fn opened(
        &self,
        token: &str,
        right: Right,
        tenant: &str,
        namespace: &str,
    ) -> Option<Arc<Namespace>> {
        (self.role() == Role::Active).then_some(())?;
        // The names are looked up only for those who may know them, so that time tells others nothing.
        let caller = self.tokens.caller(token).ok()?;
        caller.holds_within(right, tenant, namespace).then_some(())?;
        self.registry.find(tenant, namespace)
    }

    /// A number that grows whenever a token or a namespace ends: what was let in before must be
    /// checked again then.
    pub fn access_revision(&self) -> u64 {
        self.access_revision.load(Ordering::Acquire)
    }

    pub(crate) fn access_changed(&self) {
        self.access_revision.fetch_add(1, Ordering::AcqRel);
    }

    /// How many background tasks ended by themselves and were started again.
    pub fn restarts(&self) -> u64 {
        self.restarts.load(Ordering::Relaxed)
    }

    /// The time by the service's clock.
    pub fn now(&self) -> verax_core::Timestamp {
        self.clock.now()
    }

    /// Whether the records answered when they were last asked.
    pub fn records_available(&self) -> bool {
        self.sync.available()
    }

    /// Whether the service can serve, and what is degraded.
    pub fn ready(&self) -> Ready {
        let records = if self.records_available() { "available" } else { "unavailable" };
        Ready {
            ready: !*self.stopping.borrow() && self.role() == Role::Active,
            role: self.role().name().into(),
            records: records.into(),
            disk: if self.sync.disk_full() { "full" } else { "ok" }.into(),
            version: env!("CARGO_PKG_VERSION").into(),
        }
    }

    /// The memory that entries take, the limit on it, and how many were removed to make room.
    pub fn memory(&self) -> (u64, u64, u64) {
        let store = &self.cache.store;
        (store.used(), store.limit(), store.evicted())
    }

    /// The memory for values on their way in and out.
    pub fn transit(&self) -> &Transit {
        &self.transit
    }

    /// How many refills are under way, and how many callers wait for one.
    pub fn refills(&self) -> (usize, usize) {
        self.cache
            .guards()
            .fold((0, 0), |(live, waiting), guard| (live + guard.live(), waiting + guard.waiters()))
    }

    /// The same by namespace, for those where a refill is under way.
    pub fn refills_by_namespace(&self) -> HashMap<NamespaceId, (usize, usize)> {
        let mut counts: HashMap<NamespaceId, (usize, usize)> = HashMap::new();
        for guard in self.cache.guards() {
            for view in guard.views() {
                let (live, waiting) = counts.entry(view.namespace).or_default();
                *live += 1;
                *waiting += view.waiting;
            }
        }
        counts
    }

    /// The session of a caller, as it is shown.
    pub fn session_of(&self, caller: &Caller) -> verax_api::Session {
        crate::administration::session_of(caller)
    }

    /// Ends the background work and the runs that are under way.
    pub fn stop(&self) {
        self.stopping.send_replace(true);
        self.warm_runs.stop_all();
        self.load_runs.stop_all();
    }

    /// Becomes true when the service stops.
    pub fn stopping(&self) -> watch::Receiver<bool> {
        self.stopping.subscribe()
    }
}

type Work = std::pin::Pin<Box<dyn Future<Output = ()> + Send>>;

/// How long a background task that ended by itself is left alone before it is started again.
const RESTART_AFTER: Duration = Duration::from_secs(1);

/// Runs background work until the service stops.
async fn until_stopped(service: Arc<Service>, work: fn(Arc<Service>) -> Work) {
    let stopping = service.stopping();
    let begin = || work(Arc::clone(&service));
    supervise(begin, stopping, &service.restarts).await;
}

/// Runs work until the service stops. Work that ends before, as by a panic, is told of, counted,
/// and begun again.
async fn supervise(
    begin: impl Fn() -> Work,
    mut stopping: watch::Receiver<bool>,
    restarts: &AtomicU64,
) {
    loop {
        let mut task = tokio::spawn(begin());
        tokio::select! {
            ended = &mut task => {
                tracing::error!(?ended, "a background task ended by itself: starting it again");
                restarts.fetch_add(1, Ordering::Relaxed);
            }
            _ = stopping.wait_for(|stopping| *stopping) => {
                task.abort();
                return;
            }
        }
        tokio::time::sleep(RESTART_AFTER).await;
    }
}

/// Ends lapsed permits and frees ended entries, a little at a time.
fn tidy(service: Arc<Service>) -> Work {
    Box::pin(async move {
        let mut ticks = tokio::time::interval(TIDY_EVERY);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let now = service.clock.now();
            // As long as something waits, go on, but let others run in between.
            while service.cache.store.tidy(TIDY_CHUNKS, now).1 {
                tokio::task::yield_now().await;
            }
            service.lapse_permits(now);
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn work_that_panics_is_begun_again() {
        let (begun, stop) = (Arc::new(AtomicU64::new(0)), watch::Sender::new(false));
        let restarts = AtomicU64::new(0);
        let begin = || -> Work {
            let (begun, stop) = (Arc::clone(&begun), stop.clone());
            Box::pin(async move {
                match begun.fetch_add(1, Ordering::Relaxed) {
                    0 => panic!("as a bug would"),
                    1 => {}
                    _ => {
                        stop.send_replace(true);
                        std::future::pending::<()>().await;
                    }
                }
            })
        };
        supervise(begin, stop.subscribe(), &restarts).await;
        assert_eq!((begun.load(Ordering::Relaxed), restarts.load(Ordering::Relaxed)), (3, 2));
    }
}
