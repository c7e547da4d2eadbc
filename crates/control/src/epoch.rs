//! The epoch of fencing tokens: requested from the records at the start and when it is nearly
//! exhausted.

use std::fs::File;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use verax_records::{Membership, RecordsError};

use crate::control::Control;
use crate::membership::Role;

/// How often it is checked, and the delay before a retry.
const EVERY: Duration = Duration::from_secs(1);

/// Keeps an epoch available. Without one, locks are refused and everything else works: a token must
/// never be smaller than one granted before a restart.
pub(crate) async fn keep_epoch(control: Arc<Control>) {
    let mut warned = false;
    loop {
        let wanted = control.role() == Role::Active && control.records_available();
        if wanted && control.engine.needs_lock_epoch() {
            let granted = control.begin_lock_epoch().await;
            if granted && warned {
                tracing::info!("locks are granted again");
            } else if !granted && !warned {
                tracing::warn!("locks are refused until MariaDB provides an epoch");
            }
            warned = !granted;
        }
        tokio::time::sleep(EVERY).await;
    }
}

impl Control {
    /// Requests an epoch from the records; returns whether there is one. In a pair, only the owner
    /// of the share may.
    pub(crate) async fn begin_lock_epoch(&self) -> bool {
        self.begin_epoch_of(None).await.is_ok()
    }

    /// [`begin_lock_epoch`](Self::begin_lock_epoch) with a membership that is already locked.
    pub(crate) async fn begin_epoch_of(
        &self,
        membership: Option<&mut Membership>,
    ) -> Result<(), RecordsError> {
        let used = self.epoch_file.as_deref().and_then(read).unwrap_or(0);
        let (known, now) = (self.engine.lock_epoch().unwrap_or(0).max(used), self.engine.now());
        let epoch = match membership {
            Some(membership) => membership.begin_epoch(known, now).await?,
            None => self.next_epoch(known, now).await?,
        };
        if let Some(file) = self.epoch_file.clone() {
            let written = tokio::task::spawn_blocking(move || write(&file, epoch)).await;
            if !matches!(written, Ok(Ok(()))) {
                tracing::warn!(?written, "the epoch of fencing tokens was not written to its file");
            }
        }
        self.engine.begin_lock_epoch(epoch);
        Ok(())
    }
}

/// The latest epoch used with this data directory.
fn read(file: &Path) -> Option<u32> {
    std::fs::read_to_string(file).ok()?.trim().parse().ok()
}

/// Saves the latest epoch: a restored dump of the records may have an older one.
fn write(file: &Path, epoch: u32) -> std::io::Result<()> {
    let new = file.with_extension("new");
    let mut options = File::options();
    let mut opened = options.write(true).create(true).truncate(true).mode(0o600).open(&new)?;
    writeln!(opened, "{epoch}")?;
    opened.sync_all()?;
    std::fs::rename(&new, file)
}
