//! The header fields of entries: what a request asks for, and what an answer tells.

use std::fmt::Write;
use std::time::Duration;

use axum::http::header::{
    AGE, CACHE_CONTROL, CONTENT_TYPE, ETAG, IF_MATCH, IF_NONE_MATCH, LAST_MODIFIED,
};
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use verax_core::lifetime::CacheControl;
use verax_core::{EntityTag, Entry, Lifetime, PutCondition};
use verax_service::TraceContext;
use verax_service::cache::{Answer, PutRequest, ReadOptions, Source, parse_tags, write_tags};

use crate::problem::{Failure, Result};

pub(crate) const CACHE_STATUS: HeaderName = HeaderName::from_static("cache-status");
const CACHE_GROUPS: HeaderName = HeaderName::from_static("cache-groups");
const SERVER_TIMING: HeaderName = HeaderName::from_static("server-timing");

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
    let plain = |name: &str| headers.get(name).and_then(|f| f.to_str().ok()).map(str::to_owned);
    let trace = plain("traceparent")
        .map(|traceparent| TraceContext { traceparent, tracestate: plain("tracestate") });
    Ok(ReadOptions { refresh: cache_control(headers)?.no_cache, only_if_cached, trace })
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

/// RFC 9211: where the answer came from, and the time left.
pub(crate) fn cache_status(answer: &Answer) -> String {
    let left = |time: Duration| time.as_secs();
    // Rounded up, since a stale copy of less than a second must not read as a fresh one of zero.
    let past = |time: Duration| time.as_secs() + 1;
    match answer.source {
        Source::Hit(time) => format!("verax; hit; ttl={}", left(time)),
        Source::Stale(since) => {
            format!("verax; hit; ttl=-{}; detail=stale-while-revalidate", past(since))
        }
        Source::StaleOnError(since) => {
            format!("verax; fwd=stale; ttl=-{}; detail=stale-if-error", past(since))
        }
        Source::Origin(refill) | Source::Joined(refill) => {
            let mut text = "verax; fwd=uri-miss; fwd-status=200".to_owned();
            if let Some(time) = answer.time_left.filter(|_| refill.stored) {
                let _ = write!(text, "; ttl={}", left(time));
            }
            if refill.stored {
                text.push_str("; stored");
            }
            if matches!(answer.source, Source::Joined(_)) {
                text.push_str("; collapsed");
            }
            text
        }
    }
}

fn lifetime_text(lifetime: &Lifetime) -> String {
    let mut text = format!("max-age={}", lifetime.max_age.as_secs());
    for (name, time) in [
        ("stale-while-revalidate", lifetime.stale_while_revalidate),
        ("stale-if-error", lifetime.stale_if_error),
    ] {
        if !time.is_zero() {
            let _ = write!(text, ", {name}={}", time.as_secs());
        }
    }
    text
}

fn insert(headers: &mut HeaderMap, name: HeaderName, text: String) {
    // What is stored came in as a field, so it goes out as one.
    if let Ok(value) = HeaderValue::try_from(text) {
        headers.insert(name, value);
    }
}

/// What describes an entry itself.
pub(crate) fn describe_entry(headers: &mut HeaderMap, entry: &Entry) {
    if let Ok(value) = HeaderValue::from_str(entry.media_type.as_str()) {
        headers.insert(CONTENT_TYPE, value);
    }
    insert(headers, ETAG, entry.entity_tag().to_string());
    insert(headers, CACHE_CONTROL, lifetime_text(&entry.lifetime));
    if !entry.tags.is_empty() {
        insert(headers, CACHE_GROUPS, write_tags(&entry.tags));
    }
    headers.remove(LAST_MODIFIED);
}

/// What describes an answer: the entry, its age, where it came from, and how long that took.
pub(crate) fn describe_answer(headers: &mut HeaderMap, answer: &Answer, took: Duration) {
    describe_entry(headers, &answer.entry);
    headers.insert(AGE, HeaderValue::from(answer.age.as_secs()));
    insert(headers, CACHE_STATUS, cache_status(answer));
    let ms = |time: Duration| time.as_secs_f64() * 1_000.0;
    let timing = match answer.source {
        Source::Origin(refill) | Source::Joined(refill) => {
            format!("service;dur={:.3}, origin;dur={:.3}", ms(took), ms(refill.origin_took))
        }
        _ => format!("service;dur={:.3}", ms(took)),
    };
    insert(headers, SERVER_TIMING, timing);
}
