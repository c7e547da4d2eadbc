//! The control plane: what it owns, and how it starts.

use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};

use verax_api::{LoadProfileSpec, LoadRun, WarmRun};
use verax_engine::{Engine, Work};
use verax_observe::{Live, Observatory};
use verax_origin::Credentials;
use verax_records::{Actor, Node, Records};

use crate::access::{Sessions, TokenTable, hash_of, new_secret};
use crate::drills::Drills;
use crate::epoch::keep_epoch;
use crate::error::ControlError;
use crate::live::sample_every_second;
use crate::membership::{Nodes, membership_loop};
use crate::records_sync::{RecordsSync, sync_loop};
use crate::registry::Registry;
use crate::runs::{LoadRunner, RunTable};

/// How the control plane is set up.
#[derive(Debug, Clone, Default)]
pub struct ControlOptions {
    /// Where a snapshot of the records is kept, for a start while MariaDB is away.
    pub records_snapshot: Option<PathBuf>,
    /// This node, where other Verax may use the same records; `None` where none ever does.
    pub node: Option<Node>,
    /// Where the latest epoch of fencing tokens is kept, in case the records forget it.
    pub epoch_file: Option<PathBuf>,
    /// Where files with the secrets of origins lie; without it they come from the environment
    /// alone.
    pub credentials_dir: Option<PathBuf>,
    /// The load profiles to offer.
    pub profiles: Vec<LoadProfileSpec>,
}

/// The control plane over an engine and its records.
#[derive(Debug)]
pub struct Control {
    pub(crate) engine: Arc<Engine>,
    pub(crate) observatory: Observatory,
    pub(crate) live: Live,
    pub(crate) records: Records,
    pub(crate) registry: Registry,
    pub(crate) tokens: TokenTable,
    pub(crate) sessions: Sessions,
    pub(crate) warm_runs: RunTable<WarmRun>,
    pub(crate) load_runs: RunTable<LoadRun>,
    pub(crate) load_running: Arc<AtomicBool>,
    pub(crate) profiles: Vec<LoadProfileSpec>,
    pub(crate) credentials: Arc<Credentials>,
    pub(crate) drills: Drills,
    runner: OnceLock<Arc<dyn LoadRunner>>,
    pub(crate) sync: RecordsSync,
    pub(crate) nodes: Nodes,
    pub(crate) epoch_file: Option<PathBuf>,
    access_revision: AtomicU64,
}

impl Control {
    /// Loads everything from the records. While MariaDB is away, what serving needs comes from the
    /// snapshot that an earlier start left, if there is one. The [`tasks`](Self::tasks) are to be
    /// run beside it.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`] when neither can be read.
    pub async fn start(
        engine: Arc<Engine>,
        records: Records,
        options: ControlOptions,
    ) -> Result<Arc<Self>, ControlError> {
        let control = Arc::new(Self {
            engine,
            observatory: Observatory::default(),
            live: Live::default(),
            records,
            registry: Registry::default(),
            tokens: TokenTable::default(),
            sessions: Sessions::default(),
            warm_runs: RunTable::default(),
            load_runs: RunTable::default(),
            load_running: Arc::default(),
            profiles: options.profiles,
            credentials: Credentials::new(options.credentials_dir.as_deref()).into(),
            drills: Drills::default(),
            runner: OnceLock::new(),
            sync: RecordsSync::new(options.records_snapshot),
            nodes: Nodes::new(options.node),
            epoch_file: options.epoch_file,
            access_revision: AtomicU64::new(0),
        });
        control.load_or_snapshot().await?;
        Ok(control)
    }

    /// The work that the control plane needs done for as long as it is used, each by a task of its
    /// own.
    pub fn tasks() -> [fn(Arc<Self>) -> Work; 4] {
        [
            |control| Box::pin(sample_every_second(control)),
            |control| Box::pin(sync_loop(control)),
            |control| Box::pin(membership_loop(control)),
            |control| Box::pin(keep_epoch(control)),
        ]
    }

    /// Makes sure that the administrator token is known: `known` when it still opens everything.
    /// The first one is created here, for the caller to keep where only its owner can read it. No
    /// further one is ever created by itself: who can damage a file must not become administrator
    /// by it.
    ///
    /// # Errors
    /// [`ControlError::Conflict`] when `known` opens nothing, or is missing although there are
    /// administrators; [`ControlError::RecordsUnavailable`].
    pub async fn administrator_token(
        self: &Arc<Self>,
        known: Option<&str>,
    ) -> Result<String, ControlError> {
        if let Some(secret) = known {
            return match self.tokens.caller(secret) {
                Ok(caller) if caller.is_admin() => Ok(secret.to_owned()),
                _ => Err(ControlError::Conflict(
                    "it holds no token that is known and opens everything".into(),
                )),
            };
        }
        if self.tokens.any_admin() {
            return Err(ControlError::Conflict(
                "it is not there, although an administrator token was created before".into(),
            ));
        }
        self.new_administrator_token().await
    }

    /// Creates an administrator token, for somebody who may write to the data directory and asks
    /// for it.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`].
    pub async fn new_administrator_token(self: &Arc<Self>) -> Result<String, ControlError> {
        let secret = new_secret();
        let hash = hash_of(&secret);
        self.administer(async move |control| {
            let (actor, now) = (Actor::new("Verax at its start"), control.engine.now());
            let created =
                control.records.create_token(hash, "admin", "administrator", &actor, now).await?;
            control.tokens.add(&control.follow_change(created));
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

    /// A number that grows whenever a token or a namespace ends: what was let in before must be
    /// checked again then.
    pub fn access_revision(&self) -> u64 {
        self.access_revision.load(Ordering::Acquire)
    }

    pub(crate) fn access_changed(&self) {
        self.access_revision.fetch_add(1, Ordering::AcqRel);
    }

    /// Whether the records answered when they were last asked.
    pub fn records_available(&self) -> bool {
        self.sync.available()
    }

    /// Whether the disk of the data directory has next to no room left.
    pub fn disk_full(&self) -> bool {
        self.sync.disk_full()
    }

    /// Ends the runs that are under way.
    pub fn stop_runs(&self) {
        self.warm_runs.stop_all();
        self.load_runs.stop_all();
    }
}
