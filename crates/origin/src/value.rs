//! Values read from an origin, and changes written to it.

use std::time::Duration;

use bytes::Bytes;

/// A value from an origin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OriginValue {
    /// The value's bytes.
    pub value: Bytes,
    /// Its media type; `application/octet-stream` if the origin names none.
    pub media_type: String,
    /// Tags from `Cache-Groups` (RFC 9875), as written.
    pub cache_groups: Option<String>,
    /// Whether the origin forbids storing it (`Cache-Control: no-store`).
    pub no_store: bool,
    /// From the request to the last byte.
    pub took: Duration,
}

/// A caller's trace context (W3C Trace Context), as received.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TraceContext {
    /// The `traceparent` field.
    pub traceparent: String,
    /// The `tracestate` field.
    pub tracestate: Option<String>,
}

/// A change to write to an origin.
#[derive(Debug, Clone, Copy)]
pub enum OriginWrite<'a> {
    /// Store a value.
    Put {
        /// The value's bytes.
        value: &'a Bytes,
        /// Its media type.
        media_type: &'a str,
    },
    /// Remove the value.
    Delete,
}
