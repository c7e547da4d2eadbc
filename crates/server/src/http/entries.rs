//! Entries: get, put, delete and clear.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::header::{CONNECTION, CONTENT_LENGTH};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use serde::Deserialize;
use verax_api::Removal;
use verax_core::Precondition;
use verax_engine::EngineError;
use verax_engine::in_flight::{InFlightBudget, InFlightReservation, SMALL};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::{
    cache_control, describe_entry, entry_condition, permit_of, put_request, read_options, trace_of,
};
use crate::http::extract::{NamespacePath, Query, WithKey};
use crate::http::values::{failed_read, miss, with_value};

/// A body that stalls for this long is abandoned.
const SILENCE_TIMEOUT: Duration = Duration::from_secs(30);

/// How long a body may take to arrive, beyond its time at [`MIN_RATE`].
const ARRIVAL_GRACE: Duration = Duration::from_secs(10);

/// The minimum rate at which a body must arrive, in bytes per second.
const MIN_RATE: u64 = 256 << 10;

/// How much is reserved ahead of the received part of a body, in bytes.
const MAX_AHEAD: usize = 256 << 10;

/// Whether a delete found an entry.
const DELETED: HeaderName = HeaderName::from_static("verax-deleted");

pub(crate) async fn no_key() -> Failure {
    Failure::bad_request("the key is empty: use at least one character after /entries/")
}

/// Get an entry; a miss reads the namespace's origin, if it has one.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path),
        ("key" = String, Path, description = "one percent-encoded segment, 1 to 1024 bytes of UTF-8"),
        ("Cache-Control" = Option<String>, Header, description = "`no-cache` reads the origin anew, `only-if-cached` never does; `stale-if-error=SECONDS` accepts a copy within its stale-if-error time")),
    responses((status = 200, description = "the value, with Cache-Status, Age, ETag and Cache-Control"),
        (status = 304, description = "the value that If-None-Match names is current"),
        (status = 404, description = "a miss (`miss`), a negative entry (`no-value`), or no such namespace", body = verax_api::Problem),
        (status = 502, description = "the origin failed", body = verax_api::Problem),
        (status = 504, description = "the origin did not answer in time", body = verax_api::Problem))
))]
pub(crate) async fn read(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    headers: HeaderMap,
) -> Result<Response> {
    let started = Instant::now();
    let options = read_options(&headers)?;
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let answer = match reader.read(&key, options).await {
        Ok(Some(answer)) => answer,
        Ok(None) => return Ok(miss()),
        Err(error) => return Ok(failed_read(error)),
    };
    with_value(reader.in_flight(), &headers, &answer, started)
}

/// Store a value.
#[cfg_attr(test, utoipa::path(
    put, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path),
        ("Cache-Control" = Option<String>, Header, description = "`max-age`, `stale-while-revalidate`, `stale-if-error`; else the namespace's"),
        ("Cache-Groups" = Option<String>, Header, description = "tags"),
        ("If-None-Match" = Option<String>, Header, description = "`*` stores only where nothing is, a list of entity tags only over other entries"),
        ("If-Match" = Option<String>, Header, description = "stores only over an entry with one of these entity tags, `*` over any"),
        ("Verax-If-Revision" = Option<u64>, Header, description = "stores only over the entry with this revision, as `Verax-Revision` gave it"),
        ("Verax-Permit" = Option<u64>, Header, description = "the refill permit that the value was read with; refused when it is over")),
    request_body(content = Vec<u8>, content_type = "application/octet-stream"),
    responses((status = 201, description = "stored as a new entry"),
        (status = 204, description = "replaced the previous value"),
        (status = 409, description = "the refill permit has ended: `permit-voided` or `permit-expired`", body = verax_api::Problem),
        (status = 412, description = "the condition does not hold", body = verax_api::Problem),
        (status = 413, description = "the value is too large", body = verax_api::Problem),
        (status = 502, description = "the namespace writes through, and the origin did not take it", body = verax_api::Problem))
))]
pub(crate) async fn put(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    request: Request,
) -> Result<Response> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let limit = writer.max_value_bytes();
    let (parts, body) = request.into_parts();
    let too_large = |size| {
        let namespace = writer.path();
        Failure::from(EngineError::ValueTooLarge { size, limit, namespace })
    };
    let (value, _place) = match body_within(writer.in_flight(), &parts.headers, body, limit).await {
        Ok(read) => read,
        Err(BodyError::Busy(error)) => return Err(error.into()),
        Err(BodyError::TooLarge(size)) => {
            let mut response = too_large(size).into_response();
            // The rest of the body is not read, so the connection cannot be reused.
            response.headers_mut().insert(CONNECTION, HeaderValue::from_static("close"));
            return Ok(response);
        }
        Err(BodyError::Broken(reason)) => {
            return Err(Failure::bad_request(format!("the body broke off: {reason}")));
        }
    };
    let request = put_request(&parts.headers, value)?;
    if let Some(number) = permit_of(&parts.headers)? {
        if request.condition != Precondition::Always {
            return Err(Failure::invalid(
                "send Verax-Permit, or If-Match, If-None-Match or Verax-If-Revision, not both: a permit is itself a condition",
            ));
        }
        let entry = writer.store_with_permit(&key, number, request)?;
        let mut response = StatusCode::CREATED.into_response();
        describe_entry(response.headers_mut(), &entry);
        return Ok(response);
    }
    let stored = writer.put(&key, request, trace_of(&parts.headers)).await?;
    let status = if stored.replaced { StatusCode::NO_CONTENT } else { StatusCode::CREATED };
    let mut response = status.into_response();
    describe_entry(response.headers_mut(), &stored.entry);
    Ok(response)
}

enum BodyError {
    TooLarge(u64),
    Broken(String),
    Busy(EngineError),
}

/// Reads a body up to a limit; one that announces more is not read at all. Its in-flight
/// reservation is held until the value is stored.
async fn body_within(
    in_flight: &InFlightBudget,
    headers: &HeaderMap,
    mut body: Body,
    limit: u64,
) -> std::result::Result<(Bytes, InFlightReservation), BodyError> {
    let announced = headers.get(CONTENT_LENGTH).and_then(|l| l.to_str().ok()?.parse::<u64>().ok());
    if let Some(size) = announced.filter(|size| *size > limit) {
        return Err(BodyError::TooLarge(size));
    }
    let announced = announced.unwrap_or(0) as usize;
    let expected = if announced > 0 { announced } else { limit as usize };
    // An announced length costs nothing until it arrives.
    let (mut place, mut reserved) = (InFlightReservation::default(), 0);
    let mut value = BytesMut::with_capacity(announced.min(MAX_AHEAD));
    let arrives_by =
        Instant::now() + ARRIVAL_GRACE + Duration::from_secs(expected as u64 / MIN_RATE);
    loop {
        let next = Instant::now() + SILENCE_TIMEOUT;
        let frame = tokio::time::timeout_at(next.min(arrives_by).into(), body.frame()).await;
        let silent = |_| BodyError::Broken("it did not arrive in time".into());
        let Some(frame) = frame.map_err(silent)? else { break };
        let frame = frame.map_err(|e| BodyError::Broken(e.to_string()))?;
        if let Ok(data) = frame.into_data() {
            if (value.len() + data.len()) as u64 > limit {
                return Err(BodyError::TooLarge((value.len() + data.len()) as u64));
            }
            let arrived = value.len() + data.len();
            if arrived > reserved.max(SMALL) {
                let wanted = expected.min(arrived + MAX_AHEAD).max(arrived);
                place.join(in_flight.reserve_all(wanted - reserved).map_err(BodyError::Busy)?);
                reserved = wanted;
            }
            value.extend_from_slice(&data);
        }
    }
    Ok((value.freeze(), place))
}

/// Set how long an entry may still be served, counted from now, without sending its value again.
#[cfg_attr(test, utoipa::path(
    patch, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path),
        ("Cache-Control" = Option<String>, Header, description = "the lifetime, as for PUT; the namespace's when absent"),
        ("If-None-Match" = Option<String>, Header, description = "as for PUT"),
        ("If-Match" = Option<String>, Header, description = "as for PUT"),
        ("Verax-If-Revision" = Option<u64>, Header, description = "as for PUT")),
    responses((status = 204, description = "its fields describe the entry as it is now"),
        (status = 404, description = "there is no such entry", body = verax_api::Problem),
        (status = 412, description = "the condition does not hold", body = verax_api::Problem))
))]
pub(crate) async fn change_lifetime(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    headers: HeaderMap,
) -> Result<Response> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let (cache_control, condition) = (cache_control(&headers)?, entry_condition(&headers)?);
    let Some(found) = writer.set_lifetime(&key, cache_control, &condition)? else {
        return Ok(miss());
    };
    let mut response = StatusCode::NO_CONTENT.into_response();
    describe_entry(response.headers_mut(), &found.entry());
    Ok(response)
}

/// Delete an entry.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path),
        ("If-None-Match" = Option<String>, Header, description = "as for PUT"),
        ("If-Match" = Option<String>, Header, description = "as for PUT"),
        ("Verax-If-Revision" = Option<u64>, Header, description = "as for PUT")),
    responses((status = 204, description = "it was deleted, or was not there: Verax-Deleted tells which"),
        (status = 412, description = "the condition does not hold", body = verax_api::Problem),
        (status = 502, description = "the namespace writes through, and the origin did not take it", body = verax_api::Problem))
))]
pub(crate) async fn delete(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    headers: HeaderMap,
) -> Result<(StatusCode, [(HeaderName, &'static str); 1])> {
    let deleter = service.control().open_deleter(&caller, &tenant, &namespace)?;
    let was_there = deleter.delete(&key, entry_condition(&headers)?, trace_of(&headers)).await?;
    // A Boolean of RFC 9651.
    let deleted = if was_there { "?1" } else { "?0" };
    Ok((StatusCode::NO_CONTENT, [(DELETED, deleted)]))
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ClearQuery {
    /// Only entries whose keys start with this.
    #[cfg_attr(test, param(min_length = 1))]
    prefix: Option<String>,
    /// Whether only to count them.
    #[serde(default)]
    dry_run: bool,
}

/// Remove every entry of a namespace, or those whose keys start with a prefix.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ClearQuery),
    responses((status = 200, description = "how many there were", body = Removal))
))]
pub(crate) async fn clear(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Query(query): Query<ClearQuery>,
) -> Result<axum::Json<Removal>> {
    let (place, dry_run) = ((&tenant, &namespace), query.dry_run);
    let control = service.control();
    let entries = match query.prefix.as_deref() {
        // An empty prefix may be a mistake, so it does not mean all entries.
        Some("") => {
            return Err(Failure::bad_request("the prefix is empty: omit it to remove every entry"));
        }
        prefix if dry_run => {
            let clearer = control.open_clearer(&caller, &tenant, &namespace)?;
            clearer.count_prefix(prefix.unwrap_or_default()).await.entries
        }
        Some(prefix) => control.clear_prefix(&caller, place, prefix).await?,
        None => control.clear(&caller, &tenant, &namespace).await?,
    };
    Ok(axum::Json(Removal { entries, dry_run }))
}
