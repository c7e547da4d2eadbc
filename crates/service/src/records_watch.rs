//! Staying in touch with the records: whether they answer, what is loaded from them, and the copy of it.

use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use tokio::sync::Notify;
use verax_core::{Name, NamespaceId};
use verax_origin::Origin;
use verax_records::{NamespaceRecord, OriginRecord, RecordsCopy, RecordsError, TenantRecord};

use crate::error::ServiceError;
use crate::namespace::Namespace;
use crate::service::Service;

/// How often the records are asked for a sign of life.
const PING_EVERY: Duration = Duration::from_secs(2);

/// What is known of the records.
#[derive(Debug)]
pub(crate) struct RecordsWatch {
    available: AtomicBool,
    /// Whether what is served was read from them, rather than from the copy.
    loaded: AtomicBool,
    copy: Option<PathBuf>,
    copied_change: AtomicU64,
    changed: Notify,
}

impl RecordsWatch {
    pub(crate) fn new(copy: Option<PathBuf>) -> Self {
        Self {
            available: AtomicBool::new(true),
            loaded: AtomicBool::new(false),
            copy,
            copied_change: AtomicU64::new(0),
            changed: Notify::new(),
        }
    }

    /// Whether they answered when they were last asked.
    pub(crate) fn available(&self) -> bool {
        self.available.load(Ordering::Relaxed)
    }

    /// Has the copy made anew at once: for changes that must not be forgotten at a start without MariaDB.
    pub(crate) fn changed(&self) {
        self.changed.notify_one();
    }
}

/// Asks the records for a sign of life, says when that changes, loads what a start without them could
/// not, and keeps the copy up to date.
pub(crate) async fn keep_in_touch(service: Arc<Service>) {
    let watch = &service.records_watch;
    loop {
        let answer = match watch.loaded.load(Ordering::Relaxed) {
            true => service.keep_copy().await,
            false => service.load().await,
        };
        let was = watch.available.swap(answer.is_ok(), Ordering::Relaxed);
        match answer {
            Err(error) if was => tracing::warn!(
                %error,
                "MariaDB does not answer: entries are served, but nothing can be created or changed"
            ),
            Ok(()) if !was => tracing::info!("MariaDB answers again"),
            _ => {}
        }
        tokio::select! {
            () = tokio::time::sleep(PING_EVERY) => {}
            () = watch.changed.notified() => {}
        }
    }
}

impl Service {
    /// Loads everything from the records, or from the copy while they are away.
    pub(crate) async fn load_or_copy(&self) -> Result<(), ServiceError> {
        let Err(error) = self.load().await else { return Ok(()) };
        let away = || ServiceError::RecordsUnavailable(error.to_string());
        if !matches!(error, RecordsError::Unavailable(_)) {
            return Err(away());
        }
        let path = self.records_watch.copy.as_ref().ok_or_else(away)?;
        match RecordsCopy::read(path) {
            Ok(copy) => {
                tracing::warn!(
                    %error, copy = %path.display(),
                    "MariaDB does not answer: what is served is known from a copy of the records, locks are refused, and nothing can be created or changed"
                );
                self.records_watch.available.store(false, Ordering::Relaxed);
                self.adopt(&copy);
                Ok(())
            }
            Err(unread) => Err(ServiceError::RecordsUnavailable(format!(
                "{error}; there is no copy of the records of an earlier start to begin with ({}: {unread})",
                path.display()
            ))),
        }
    }

    /// Loads everything from the records.
    async fn load(&self) -> Result<(), RecordsError> {
        self.records.prepare().await?;
        self.records.interrupt_runs(self.clock.now()).await?;
        let mut copy = RecordsCopy::of(&self.records).await?;
        self.adopt(&copy);
        // A change that was made meanwhile is not to be undone.
        while self.records.latest_change().await? != copy.latest_change {
            copy = RecordsCopy::of(&self.records).await?;
            self.adopt(&copy);
        }
        self.records_watch.loaded.store(true, Ordering::Relaxed);
        // Asked for again in the background if it fails.
        self.begin_lock_epoch().await;
        self.write_copy(copy).await;
        Ok(())
    }

    /// Makes the copy anew if anything was changed since; at the same time a sign of life.
    async fn keep_copy(&self) -> Result<(), RecordsError> {
        let latest = self.records.latest_change().await?;
        let copied = self.records_watch.copied_change.load(Ordering::Relaxed);
        if latest != copied && self.records_watch.copy.is_some() {
            self.write_copy(RecordsCopy::of(&self.records).await?).await;
        }
        Ok(())
    }

    async fn write_copy(&self, copy: RecordsCopy) {
        let Some(path) = self.records_watch.copy.clone() else { return };
        let latest = copy.latest_change;
        let written = tokio::task::spawn_blocking(move || copy.write(&path)).await;
        match written {
            Ok(Ok(())) => self.records_watch.copied_change.store(latest, Ordering::Relaxed),
            failed => tracing::warn!(?failed, "the copy of the records was not written"),
        }
    }

    /// Makes what is served be what `copy` says. What is there already and still the same stays as it is,
    /// entries, permits and locks included.
    fn adopt(&self, copy: &RecordsCopy) {
        let kept: HashSet<NamespaceId> = copy.namespaces.iter().map(|record| record.id).collect();
        let gone: Vec<Arc<Namespace>> =
            self.registry.namespaces().into_iter().filter(|n| !kept.contains(&n.id())).collect();
        self.adopt_tenants(&copy.tenants);
        for record in &copy.origins {
            self.adopt_origin(record);
        }
        for record in &copy.namespaces {
            self.adopt_namespace(record);
        }
        for namespace in gone {
            if let Some(tenant) = self.registry.write().get_mut(namespace.tenant()) {
                tenant.namespaces.retain(|_, n| n.id() != namespace.id());
            }
            self.empty(&namespace);
            self.end_locks(namespace.id());
        }
        let revoked = copy.tokens.iter().filter(|token| token.revoked_at.is_some());
        revoked.for_each(|token| self.tokens.revoke(token.id));
        self.tokens.load(&copy.tokens);
        self.access_changed();
    }

    fn adopt_tenants(&self, records: &[TenantRecord]) {
        let names: HashSet<&Name> = records.iter().map(|record| &record.name).collect();
        self.registry.write().retain(|name, _| names.contains(name));
        for record in records {
            if !self.registry.read().contains_key(&record.name) {
                self.registry.add_tenant(record);
            }
        }
    }

    fn adopt_origin(&self, record: &OriginRecord) {
        let mut tenants = self.registry.write();
        let Some(tenant) = tenants.get_mut(&record.tenant) else { return };
        let known = tenant.origins.get(&record.name);
        if known.is_some_and(|(known, _)| known.settings == record.settings) {
            return;
        }
        // It was checked when it was created; a later version may be stricter.
        match Origin::new(&record.settings, &self.credentials) {
            Ok(origin) => {
                tenant.origins.insert(record.name.clone(), (record.clone(), Arc::new(origin)));
            }
            Err(error) => tracing::error!(
                %error, origin = %format!("{}/{}", record.tenant, record.name),
                "an origin is left out"
            ),
        }
    }

    fn adopt_namespace(&self, record: &NamespaceRecord) {
        let mut tenants = self.registry.write();
        let Some(tenant) = tenants.get_mut(&record.tenant) else { return };
        let bound = record.policy.origin.as_ref();
        let origin = bound.and_then(|bound| tenant.origins.get(&bound.origin));
        let origin = origin.map(|(_, origin)| Arc::clone(origin));
        match tenant.namespaces.get(&record.name).filter(|known| known.id() == record.id) {
            Some(known) => known.bind(record.policy.clone(), origin),
            None => {
                let partition = self.cache.store.open(record.id, record.policy.quota);
                let namespace = Namespace::new(record.clone(), origin, partition);
                tenant.namespaces.insert(record.name.clone(), Arc::new(namespace));
            }
        }
    }
}
