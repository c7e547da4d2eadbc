//! Logs, on standard error.
//!
//! Lines are written by a thread of their own, which drops what it cannot write: a log that is
//! full, closed or unread blocks nothing and breaks nothing.

use std::sync::OnceLock;

use tracing_appender::non_blocking::{NonBlockingBuilder, WorkerGuard};
use tracing_subscriber::EnvFilter;

/// How log lines look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LogFormat {
    /// For people.
    Plain,
    /// One JSON object a line.
    Json,
}

impl LogFormat {
    /// Its name in settings.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Plain => "plain",
            Self::Json => "json",
        }
    }
}

/// Lines that may wait to be written.
const MAX_WAITING_LINES: usize = 10_000;

/// Starts logging; the filter was checked with the settings. What was logged is written when the
/// guard is dropped.
pub(crate) fn start(format: LogFormat, filter: &str) -> WorkerGuard {
    let filter = EnvFilter::try_new(filter).unwrap_or_else(|_| EnvFilter::new("info"));
    let (writer, guard) = NonBlockingBuilder::default()
        .lossy(true)
        .buffered_lines_limit(MAX_WAITING_LINES)
        .thread_name("log-writer")
        .finish(std::io::stderr());
    let builder = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(writer)
        .log_internal_errors(false);
    match format {
        LogFormat::Plain => {
            let terminal = std::io::IsTerminal::is_terminal(&std::io::stderr());
            let builder = builder.with_ansi(terminal).with_target(false).with_filter_reloading();
            let handle = builder.reload_handle();
            let _ = CHANGE_FILTER.set(Box::new(move |filter| handle.reload(filter).is_ok()));
            builder.init();
        }
        LogFormat::Json => {
            let builder = builder.json().flatten_event(true).with_filter_reloading();
            let handle = builder.reload_handle();
            let _ = CHANGE_FILTER.set(Box::new(move |filter| handle.reload(filter).is_ok()));
            builder.init();
        }
    }
    guard
}

type ChangeFilter = Box<dyn Fn(EnvFilter) -> bool + Send + Sync>;

/// Changes the filter of this process's log.
static CHANGE_FILTER: OnceLock<ChangeFilter> = OnceLock::new();

/// Switches to another filter, which was checked with the settings; returns whether it worked.
pub(crate) fn set_filter(filter: &str) -> bool {
    let (change, filter) = (CHANGE_FILTER.get(), EnvFilter::try_new(filter));
    change.zip(filter.ok()).is_some_and(|(change, filter)| change(filter))
}
