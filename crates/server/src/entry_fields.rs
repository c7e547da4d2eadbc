//! The header fields of entries: what a request asks for, and what an answer tells.

use std::fmt::{self, Write};
use std::time::Duration;

use axum::http::header::{
    AGE, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, ETAG, IF_MATCH, IF_NONE_MATCH,
    X_CONTENT_TYPE_OPTIONS,
};
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use bytes::BytesMut;
use verax_core::lifetime::CacheControl;
use verax_core::{EntityTag, Entry, Lifetime, PutCondition};
use verax_service::TraceContext;
use verax_service::cache::{Answer, PutRequest, ReadOptions, Source, parse_tags, write_tags};

use crate::problem::{Failure, Result};

pub(crate) const CACHE_STATUS: HeaderName = HeaderName::from_static("cache-status");
const CACHE_GROUPS: HeaderName = HeaderName::from_static("cache-groups");
const SERVER_TIMING: HeaderName = HeaderName::from_static("server-timing");

/// The policy of a value that a browser shows as a page.
const SANDBOX: &str = "sandbox; default-src 'none'; frame-ancestors 'none'";

/// What the texts of an answer's fields usually take together, in bytes.
const USUAL_TEXT: usize = 192;

/// The longest media type, in bytes.
const LONGEST_MEDIA_TYPE: usize = 255;

fn text<'h>(headers: &'h HeaderMap, name: &HeaderName) -> Result<Option<&'h str>> {
    let Some(field) = headers.get(name) else { return Ok(None) };
    let readable = field.to_str().map(Some);
    readable.map_err(|_| Failure::bad_request(format!("the field {name} is not plain ASCII")))
}

pub(crate) fn cache_control(headers: &HeaderMap) -> Result<CacheControl> {
    let field = text(headers, &CACHE_CONTROL)?;
    let parsed = CacheControl::parse(field.unwrap_or(""));
    parsed.map_err(|e| Failure::bad_request(e.to_string()))
}

/// How a look-up is to be answered (RFC 9111, section 5.2.1, as far as it makes sense for a caller
/// that asked this cache on purpose).
pub(crate) fn read_options(headers: &HeaderMap) -> Result<ReadOptions> {
    let directives = text(headers, &CACHE_CONTROL)?.unwrap_or("");
    let only_if_cached =
        directives.split(',').any(|d| d.trim().eq_ignore_ascii_case("only-if-cached"));
    let (refresh, trace) = (cache_control(headers)?.no_cache, trace_of(headers));
    Ok(ReadOptions { refresh, only_if_cached, trace })
}

/// The caller's trace context, to be passed on.
pub(crate) fn trace_of(headers: &HeaderMap) -> Option<TraceContext> {
    let plain = |name: &str| headers.get(name).and_then(|f| f.to_str().ok()).map(str::to_owned);
    plain("traceparent")
        .map(|traceparent| TraceContext { traceparent, tracestate: plain("tracestate") })
}

/// Whether the caller has the current value already (RFC 9110, section 13.1.2).
pub(crate) fn has_current(headers: &HeaderMap, tag: EntityTag) -> bool {
    let listed = |field: &HeaderValue| {
        field.to_str().is_ok_and(|text| {
            text.trim() == "*"
                || text.split(',').any(|t| {
                    EntityTag::parse(t.trim().strip_prefix("W/").unwrap_or(t)) == Some(tag)
                })
        })
    };
    headers.get_all(IF_NONE_MATCH).iter().any(listed)
}

fn condition(headers: &HeaderMap) -> Result<PutCondition> {
    match (text(headers, &IF_NONE_MATCH)?, text(headers, &IF_MATCH)?) {
        (None, None) => Ok(PutCondition::Always),
        (Some("*"), None) => Ok(PutCondition::IfAbsent),
        (None, Some(tag)) => EntityTag::parse(tag).map(PutCondition::IfMatches).ok_or_else(|| {
            Failure::bad_request("If-Match takes one entity tag as ETag gave it, with its quotes")
        }),
        (Some(_), None) => Err(Failure::bad_request(
            "If-None-Match takes * when storing: it means that no entry may be there",
        )),
        (Some(_), Some(_)) => Err(Failure::bad_request("send If-Match or If-None-Match, not both")),
    }
}

/// A request to store a value, from its fields.
pub(crate) fn put_request(headers: &HeaderMap, value: bytes::Bytes) -> Result<PutRequest> {
    let media_type = text(headers, &CONTENT_TYPE)?.unwrap_or("application/octet-stream");
    if media_type.len() > LONGEST_MEDIA_TYPE {
        return Err(Failure::bad_request(format!(
            "Content-Type is longer than {LONGEST_MEDIA_TYPE} bytes"
        )));
    }
    let tags = parse_tags(text(headers, &CACHE_GROUPS)?.unwrap_or(""))
        .map_err(|e| Failure::bad_request(e.to_string()))?;
    let cache_control = cache_control(headers)?;
    if cache_control.no_store {
        return Err(Failure::bad_request(
            "Cache-Control: no-store asks not to store what you ask to store; leave one of them out",
        ));
    }
    let (media_type, condition) = (media_type.into(), condition(headers)?);
    Ok(PutRequest { value, media_type, cache_control, tags, condition })
}

/// Fields of an answer, whose texts are written into one allocation.
struct Fields<'h> {
    headers: &'h mut HeaderMap,
    text: BytesMut,
}

impl<'h> Fields<'h> {
    fn new(headers: &'h mut HeaderMap) -> Self {
        Self { headers, text: BytesMut::with_capacity(USUAL_TEXT) }
    }

    fn insert(&mut self, name: HeaderName, text: impl fmt::Display) {
        // Writing to memory cannot fail.
        let _ = write!(self.text, "{text}");
        // What is stored came in as a field, so it goes out as one.
        if let Ok(value) = HeaderValue::from_maybe_shared(self.text.split().freeze()) {
            self.headers.insert(name, value);
        }
    }

    /// What keeps a browser from taking a value for a page of this service: it is what its media
    /// type says and nothing else, and as a page it may run and load nothing.
    fn contain(&mut self) {
        self.headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
        self.headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static(SANDBOX));
    }

    /// What describes an entry itself.
    fn describe(&mut self, entry: &Entry) {
        self.insert(CONTENT_TYPE, entry.media_type.as_str());
        self.insert(ETAG, entry.entity_tag());
        self.insert(CACHE_CONTROL, LifetimeText(&entry.lifetime));
        if !entry.tags.is_empty() {
            self.insert(CACHE_GROUPS, write_tags(&entry.tags));
        }
    }
}

/// RFC 9211: where an answer came from, and the time left.
pub(crate) struct CacheStatus<'a>(pub(crate) &'a Answer);

impl fmt::Display for CacheStatus<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let left = |time: Duration| time.as_secs();
        // Rounded up, since a stale copy of less than a second must not read as a fresh one of zero.
        let past = |time: Duration| time.as_secs() + 1;
        match self.0.source {
            Source::Hit(time) => write!(f, "verax; hit; ttl={}", left(time)),
            Source::Stale(since) => {
                write!(f, "verax; hit; ttl=-{}; detail=stale-while-revalidate", past(since))
            }
            Source::StaleOnError(since) => {
                write!(f, "verax; fwd=stale; ttl=-{}; detail=stale-if-error", past(since))
            }
            Source::Origin(refill) | Source::Joined(refill) => {
                f.write_str("verax; fwd=uri-miss; fwd-status=200")?;
                if let Some(time) = self.0.time_left.filter(|_| refill.stored) {
                    write!(f, "; ttl={}", left(time))?;
                }
                if refill.stored {
                    f.write_str("; stored")?;
                }
                if matches!(self.0.source, Source::Joined(_)) {
                    f.write_str("; collapsed")?;
                }
                Ok(())
            }
        }
    }
}

/// A lifetime as Cache-Control has it.
struct LifetimeText<'a>(&'a Lifetime);

impl fmt::Display for LifetimeText<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "max-age={}", self.0.max_age.as_secs())?;
        for (name, time) in [
            ("stale-while-revalidate", self.0.stale_while_revalidate),
            ("stale-if-error", self.0.stale_if_error),
        ] {
            if !time.is_zero() {
                write!(f, ", {name}={}", time.as_secs())?;
            }
        }
        Ok(())
    }
}

/// What describes an entry itself.
pub(crate) fn describe_entry(headers: &mut HeaderMap, entry: &Entry) {
    Fields::new(headers).describe(entry);
}

/// What describes an answer: the entry, its age, where it came from, and how long that took.
pub(crate) fn describe_answer(headers: &mut HeaderMap, answer: &Answer, took: Duration) {
    let mut fields = Fields::new(headers);
    fields.contain();
    fields.describe(&answer.entry);
    fields.insert(CACHE_STATUS, CacheStatus(answer));
    let ms = |time: Duration| time.as_secs_f64() * 1_000.0;
    match answer.source {
        Source::Origin(refill) | Source::Joined(refill) => {
            let origin = ms(refill.origin_took);
            let text = format_args!("service;dur={:.3}, origin;dur={origin:.3}", ms(took));
            fields.insert(SERVER_TIMING, text);
        }
        _ => fields.insert(SERVER_TIMING, format_args!("service;dur={:.3}", ms(took))),
    }
    headers.insert(AGE, HeaderValue::from(answer.age.as_secs()));
}
