//! Trace context of the application, passed on to the service and its origins.

use std::sync::Arc;

/// A trace context (W3C Trace Context), as header fields write it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TraceContext {
    /// The `traceparent` field.
    pub traceparent: String,
    /// The `tracestate` field, if there is one.
    pub tracestate: Option<String>,
}

/// Returns the trace context of the current span, if there is one. It is called in the task that
/// makes the request.
pub type TraceHook = Arc<dyn Fn() -> Option<TraceContext> + Send + Sync>;
