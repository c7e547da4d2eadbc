//! The service: its parts, its start, and its end.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use futures_util::future::BoxFuture;
use tokio::sync::watch;
use verax_api::Ready;
use verax_control::{Control, ControlError, ControlOptions, Role};
use verax_engine::{Engine, EngineOptions, Work, supervise};
use verax_records::Records;

/// Options of the service.
#[derive(Debug, Clone, Default)]
pub struct ServiceOptions {
    /// The data plane.
    pub engine: EngineOptions,
    /// The control plane.
    pub control: ControlOptions,
}

/// The service. Transports hold it in an `Arc`.
#[derive(Debug)]
pub struct Service {
    engine: Arc<Engine>,
    control: Arc<Control>,
    restarts: Arc<AtomicU64>,
}

impl Service {
    /// Loads everything from the records, or from the snapshot of an earlier start while MariaDB is
    /// away, and starts the background work.
    ///
    /// # Errors
    /// [`ControlError::RecordsUnavailable`] if neither can be read.
    pub fn start(
        records: Records,
        options: ServiceOptions,
    ) -> BoxFuture<'static, Result<Arc<Self>, ControlError>> {
        // Boxed, so that the service is compiled in this crate once, and not in every program that
        // starts it.
        Box::pin(Self::start_here(records, options))
    }

    async fn start_here(
        records: Records,
        options: ServiceOptions,
    ) -> Result<Arc<Self>, ControlError> {
        let engine = Engine::new(options.engine);
        let control = Control::start(Arc::clone(&engine), records, options.control).await?;
        let restarts = Arc::default();
        for task in Engine::tasks() {
            keep_going(&engine, task, engine.stopping(), &restarts);
        }
        for task in Control::tasks() {
            keep_going(&control, task, engine.stopping(), &restarts);
        }
        Ok(Arc::new(Self { engine, control, restarts }))
    }

    /// The data plane.
    pub fn engine(&self) -> &Arc<Engine> {
        &self.engine
    }

    /// The control plane.
    pub fn control(&self) -> &Arc<Control> {
        &self.control
    }

    /// How many background tasks ended by themselves and were restarted.
    pub fn restarts(&self) -> u64 {
        self.restarts.load(Ordering::Relaxed)
    }

    /// Whether the service can serve, and what is degraded.
    pub fn ready(&self) -> Ready {
        let (control, role) = (&self.control, self.control.role());
        let records = if control.records_available() { "available" } else { "unavailable" };
        Ready {
            ready: !*self.stopping().borrow() && role == Role::Active,
            role: role.name().into(),
            records: records.into(),
            disk: if control.disk_full() { "full" } else { "ok" }.into(),
            version: env!("CARGO_PKG_VERSION").into(),
        }
    }

    /// Ends background work and active runs.
    pub fn stop(&self) {
        self.engine.stop();
        self.control.stop_runs();
    }

    /// True once the service stops.
    pub fn stopping(&self) -> watch::Receiver<bool> {
        self.engine.stopping()
    }
}

/// Runs background work in a task of its own until `stopping` is true.
fn keep_going<T: Send + Sync + 'static>(
    of: &Arc<T>,
    work: fn(Arc<T>) -> Work,
    stopping: watch::Receiver<bool>,
    restarts: &Arc<AtomicU64>,
) {
    let (of, restarts) = (Arc::clone(of), Arc::clone(restarts));
    tokio::spawn(async move {
        supervise(|| work(Arc::clone(&of)), stopping, &restarts).await;
    });
}
