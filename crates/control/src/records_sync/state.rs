//! What memory knows of the records.

use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use tokio::sync::{Mutex, Notify};
use verax_records::RunRecord;

/// The disk of the data directory counts as full with less free space than this, in bytes.
const MIN_FREE_BYTES: u64 = 32 << 20;

/// What memory knows of the records.
#[derive(Debug)]
pub(crate) struct RecordsSync {
    pub(super) available: AtomicBool,
    /// Whether memory was loaded from the records rather than from the snapshot file.
    pub(super) loaded: AtomicBool,
    /// The revision that memory holds.
    pub(super) applied: AtomicU64,
    /// The revision that the file holds, and that of its topology.
    pub(super) filed: AtomicU64,
    pub(super) filed_topology: AtomicU64,
    pub(super) file: Option<PathBuf>,
    disk_full: AtomicBool,
    /// Held while memory follows the records, to keep their order.
    pub(super) order: Mutex<()>,
    pub(super) changed: Notify,
    /// Runs that an earlier process left, until they are resumed.
    unfinished: std::sync::Mutex<Vec<RunRecord>>,
}

impl RecordsSync {
    pub(crate) fn new(file: Option<PathBuf>) -> Self {
        Self {
            available: AtomicBool::new(true),
            loaded: AtomicBool::new(false),
            applied: AtomicU64::new(0),
            filed: AtomicU64::new(0),
            filed_topology: AtomicU64::new(0),
            file,
            disk_full: AtomicBool::new(false),
            order: Mutex::default(),
            changed: Notify::new(),
            unfinished: std::sync::Mutex::default(),
        }
    }

    /// Keeps runs that an earlier process left.
    pub(super) fn keep_unfinished(&self, runs: Vec<RunRecord>) {
        *self.unfinished.lock().unwrap_or_else(PoisonError::into_inner) = runs;
    }

    /// Takes the runs that an earlier process left, to resume them.
    pub(crate) fn take_unfinished(&self) -> Vec<RunRecord> {
        std::mem::take(&mut self.unfinished.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The revision of the records that memory holds.
    pub(crate) fn revision(&self) -> u64 {
        self.applied.load(Ordering::Acquire)
    }

    /// Whether memory was loaded from the records.
    pub(crate) fn is_loaded(&self) -> bool {
        self.loaded.load(Ordering::Relaxed)
    }

    /// Whether the disk of the data directory is nearly full.
    pub(crate) fn disk_full(&self) -> bool {
        self.disk_full.load(Ordering::Relaxed)
    }

    /// Checks the free space on the disk, and logs when it becomes too small.
    pub(super) fn look_at_disk(&self) {
        let Some(directory) = self.file.as_deref().and_then(Path::parent) else { return };
        let Ok(disk) = nix::sys::statvfs::statvfs(directory) else { return };
        let free = disk.blocks_available() * disk.fragment_size();
        let full = free < MIN_FREE_BYTES;
        match (self.disk_full.swap(full, Ordering::Relaxed), full) {
            (false, true) => tracing::error!(
                directory = %directory.display(), free_bytes = free,
                "the disk is full: entries are served, but changes will fail until there is room"
            ),
            (true, false) => tracing::info!("the disk has room again"),
            _ => {}
        }
    }

    /// Whether the records responded when last queried.
    pub(crate) fn available(&self) -> bool {
        self.available.load(Ordering::Relaxed)
    }
}
