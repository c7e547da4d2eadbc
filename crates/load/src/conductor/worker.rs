//! One generator of a run, as its conductor has it.

use std::future::Future;
use std::pin::Pin;

use tokio::io::{AsyncRead, AsyncWrite, BufReader};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use crate::message::{MAX_REPORT_BYTES, Order, Receiver, Report, send};

/// How many orders wait for a generator that does not read them. One that lags so far is lost.
const MAX_ORDERS: usize = 256;

/// A byte stream from a generator.
pub type FromGenerator = Box<dyn AsyncRead + Send + Unpin>;

/// A byte stream to a generator.
pub type ToGenerator = Box<dyn AsyncWrite + Send + Unpin>;

/// A generator that was started.
pub struct StartedGenerator {
    /// What it says.
    pub reports: FromGenerator,
    /// What it is told.
    pub orders: ToGenerator,
    /// Keeps it alive; dropping this ends it.
    pub alive: Box<dyn Send>,
    /// The name of its machine, if that is another one.
    pub machine: Option<String>,
}

impl std::fmt::Debug for StartedGenerator {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("StartedGenerator").finish_non_exhaustive()
    }
}

/// The start of a generator.
pub type Starting = Pin<Box<dyn Future<Output = std::io::Result<StartedGenerator>> + Send>>;

/// Starts generators, usually as processes.
pub trait StartGenerator: Send + Sync {
    /// Starts one.
    fn start(&self) -> Starting;
}

/// What became known of a generator.
#[derive(Debug)]
pub(super) enum WorkerEvent {
    Said(Report),
    /// It is gone, and why.
    Gone(String),
}

/// A generator.
pub(super) struct Worker {
    orders: mpsc::Sender<Order>,
    /// `None` when it was put out.
    life: Option<Life>,
}

/// What a generator lives by.
struct Life {
    _alive: Box<dyn Send>,
    tasks: [JoinHandle<()>; 2],
}

impl Worker {
    /// Talks to a generator that was started. What it says goes to `events` under its number.
    pub(super) fn new(
        number: usize,
        started: StartedGenerator,
        events: mpsc::Sender<(usize, WorkerEvent)>,
    ) -> Self {
        let StartedGenerator { reports, orders: mut writer, alive, machine: _ } = started;
        let (orders, mut ordered) = mpsc::channel(MAX_ORDERS);
        let writes = tokio::spawn(async move {
            while let Some(order) = ordered.recv().await {
                // Reading says that it is gone.
                if send(&mut writer, &order).await.is_err() {
                    return;
                }
            }
        });
        let reads = tokio::spawn(async move {
            let mut reports = Receiver::new(BufReader::new(reports), MAX_REPORT_BYTES);
            let why = loop {
                match reports.next::<Report>().await {
                    Ok(Some(report)) => {
                        if events.send((number, WorkerEvent::Said(report))).await.is_err() {
                            return;
                        }
                    }
                    Ok(None) => break "its process ended".to_owned(),
                    Err(error) => break error.to_string(),
                }
            };
            let _ = events.send((number, WorkerEvent::Gone(why))).await;
        });
        Self { orders, life: Some(Life { _alive: alive, tasks: [writes, reads] }) }
    }

    /// Tells it something; false if it does not listen.
    pub(super) fn order(&self, order: Order) -> bool {
        self.orders.try_send(order).is_ok()
    }

    /// Ends it.
    pub(super) fn put_out(&mut self) {
        if let Some(life) = self.life.take() {
            life.tasks.iter().for_each(JoinHandle::abort);
        }
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        self.put_out();
    }
}
