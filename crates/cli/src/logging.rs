//! Logs, on standard error.

use tracing_subscriber::EnvFilter;

/// How log lines look.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum LogFormat {
    /// For people.
    Plain,
    /// One JSON object a line.
    Json,
}

/// Starts logging; the filter was checked with the settings.
pub(crate) fn start(format: LogFormat, filter: &str) {
    let filter = EnvFilter::try_new(filter).unwrap_or_else(|_| EnvFilter::new("info"));
    let builder = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    match format {
        LogFormat::Plain => {
            let terminal = std::io::IsTerminal::is_terminal(&std::io::stderr());
            builder.with_ansi(terminal).with_target(false).init();
        }
        LogFormat::Json => builder.json().flatten_event(true).init(),
    }
}
