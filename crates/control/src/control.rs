//! The control plane: what it owns.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock};

use verax_api::{DrillRun, LoadProfileSpec, LoadRun, TrafficRecording, WarmRun};
use verax_core::Name;
use verax_engine::Engine;
use verax_observe::{Live, Observatory};
use verax_origin::Credentials;
use verax_records::Records;

use crate::access::{Sessions, TokenTable};
use crate::membership::Nodes;
use crate::options::ControlOptions;
use crate::records_sync::RecordsSync;
use crate::registry::Registry;
use crate::runs::{
    ActiveLoad, DrillRunner, JoinedWorkers, LoadRunner, RunTable, SlotOwner, StandInHandle,
};
use crate::usage_counts::UsageCounts;

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
    pub(crate) recordings: RunTable<TrafficRecording>,
    pub(crate) drill_runs: RunTable<DrillRun>,
    /// One load run at a time: two would distort each other's figures.
    pub(crate) load_slot: SlotOwner,
    /// One drill at a time: two would disturb each other.
    pub(crate) drill_slot: SlotOwner,
    pub(crate) active_load: ActiveLoad,
    pub(crate) joined_workers: Arc<JoinedWorkers>,
    pub(crate) profiles: Vec<LoadProfileSpec>,
    pub(crate) load_hosts: Vec<String>,
    pub(crate) credentials: Arc<Credentials>,
    load_runner: OnceLock<Arc<dyn LoadRunner>>,
    drill_runner: OnceLock<Arc<dyn DrillRunner>>,
    stand_in: OnceLock<Arc<dyn StandInHandle>>,
    pub(crate) sync: RecordsSync,
    pub(crate) nodes: Nodes,
    pub(crate) epoch_file: Option<PathBuf>,
    access_revision: AtomicU64,
    pub(crate) usage: Mutex<UsageCounts>,
    /// The invalidations of a namespace when a plan of it was kept: those after it are followed.
    pub(crate) invalidations_before: Mutex<HashMap<(Name, Name), u64>>,
    /// Held while memory is divided, which takes a while with many namespaces.
    pub(crate) dividing: Arc<tokio::sync::Mutex<()>>,
    /// Held while a warm run starts, so that two of one plan do not start together.
    pub(crate) warm_starts: tokio::sync::Mutex<()>,
}

impl Control {
    pub(crate) fn new(engine: Arc<Engine>, records: Records, options: ControlOptions) -> Self {
        Self {
            engine,
            observatory: Observatory::default(),
            live: Live::default(),
            records,
            registry: Registry::default(),
            tokens: TokenTable::default(),
            sessions: Sessions::default(),
            warm_runs: RunTable::default(),
            load_runs: RunTable::default(),
            recordings: RunTable::default(),
            drill_runs: RunTable::default(),
            load_slot: SlotOwner::default(),
            drill_slot: SlotOwner::default(),
            active_load: ActiveLoad::default(),
            joined_workers: Arc::default(),
            profiles: options.profiles,
            load_hosts: options.load_hosts,
            credentials: Credentials::new(options.credentials_dir.as_deref()).into(),
            load_runner: OnceLock::new(),
            drill_runner: OnceLock::new(),
            stand_in: OnceLock::new(),
            sync: RecordsSync::new(options.records_snapshot),
            nodes: Nodes::new(options.node),
            epoch_file: options.epoch_file,
            access_revision: AtomicU64::new(0),
            usage: Mutex::default(),
            invalidations_before: Mutex::default(),
            dividing: Arc::default(),
            warm_starts: tokio::sync::Mutex::default(),
        }
    }

    /// Sets the runner of load runs; only the first call has an effect.
    pub fn set_load_runner(&self, runner: Arc<dyn LoadRunner>) {
        let _ = self.load_runner.set(runner);
    }

    pub(crate) fn load_runner(&self) -> Option<Arc<dyn LoadRunner>> {
        self.load_runner.get().cloned()
    }

    /// Sets the runner of drills; only the first call has an effect.
    pub fn set_drill_runner(&self, runner: Arc<dyn DrillRunner>) {
        let _ = self.drill_runner.set(runner);
    }

    pub(crate) fn drill_runner(&self) -> Option<Arc<dyn DrillRunner>> {
        self.drill_runner.get().cloned()
    }

    /// Sets the demo's stand-in; only the first call has an effect.
    pub fn set_stand_in(&self, handle: Arc<dyn StandInHandle>) {
        let _ = self.stand_in.set(handle);
    }

    pub(crate) fn stand_in_handle(&self) -> Option<Arc<dyn StandInHandle>> {
        self.stand_in.get().cloned()
    }

    /// A number that grows when a token or namespace ends, so that transports check cached access
    /// again.
    pub fn access_revision(&self) -> u64 {
        self.access_revision.load(Ordering::Acquire)
    }

    pub(crate) fn access_changed(&self) {
        self.access_revision.fetch_add(1, Ordering::AcqRel);
    }

    /// Whether the records responded when last queried.
    pub fn records_available(&self) -> bool {
        self.sync.available()
    }

    /// Whether the disk of the data directory is nearly full.
    pub fn disk_full(&self) -> bool {
        self.sync.disk_full()
    }

    /// Ends active runs.
    pub fn stop_runs(&self) {
        self.warm_runs.stop_all();
        self.load_runs.stop_all();
        self.recordings.stop_all();
        self.drill_runs.stop_all();
    }
}
