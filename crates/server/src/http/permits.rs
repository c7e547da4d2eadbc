//! Refill permits, for services that refill by themselves.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::{
    AcquirePermit, AwaitRefill, FailureKind, PermitGrant, PermitInUse, Permits, RefillEvent, moment,
};
use verax_core::guard::PermitView;
use verax_core::{PermitNumber, Timestamp};
use verax_engine::cache::{MAX_WAIT, PermitOutcome, PermitRequest};
use verax_engine::events::RefillRecord;
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath, Query, WithKey};
use crate::http::limits::MAX_LISTED;
use crate::http::preferences::{applied, preferred_wait, seconds_of};
use crate::http::values::with_value;

/// The default lease.
const DEFAULT_LEASE: Duration = Duration::from_secs(10);

/// Get a value, or the permit to refill it.
///
/// Responds with 200 and the value if it is cached or another caller stores it within `Prefer:
/// wait`, with 201 and a permit if the caller may refill it, and with 423 while another caller
/// holds the permit.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/permits/{key}", tag = "permits",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path),
        ("Prefer" = Option<String>, Header, description = "`wait=SECONDS`, at most 300; without it the answer comes at once")),
    request_body = AcquirePermit,
    responses((status = 200, description = "the value, as GET gives it"),
        (status = 201, description = "refill it, and store it with `Verax-Permit: NUMBER`", body = PermitGrant),
        (status = 404, description = "a negative entry (`no-value`)", body = verax_api::Problem),
        (status = 423, description = "another caller refills it; Retry-After tells for how long at most", body = verax_api::Problem),
        (status = 502, description = "the permit holder abandoned the refill for all waiting callers", body = verax_api::Problem))
))]
pub(crate) async fn acquire(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    headers: HeaderMap,
    Json(request): Json<AcquirePermit>,
) -> Result<Response> {
    let started = Instant::now();
    // A permit allows storing, so it needs the right to write; the response may be a value, so it
    // needs the right to read.
    let refiller = service.control().open_refiller(&caller, &tenant, &namespace)?;
    let wait = preferred_wait(&headers, MAX_WAIT);
    let lease =
        request.lease_seconds.map_or(Ok(DEFAULT_LEASE), |s| seconds_of("lease_seconds", s))?;
    let owner = request.owner.as_deref().unwrap_or(caller.display_name()).into();
    let (stale, refresh, access) = (request.stale, request.refresh, caller.access());
    let request = PermitRequest { owner, wait, lease, stale, refresh, access };
    let mut response = match refiller.acquire_permit(&key, request).await? {
        PermitOutcome::Value(answer) => {
            with_value(refiller.in_flight(), &headers, &answer, started)?
        }
        PermitOutcome::Permit(permit) => {
            let grant = PermitGrant {
                key: key.to_string(),
                permit: permit.number.0,
                ends_in_seconds: permit.ends_at.since(service.engine().now()).as_secs_f64(),
            };
            (StatusCode::CREATED, axum::Json(grant)).into_response()
        }
        PermitOutcome::Later(time) => {
            let seconds = time.as_secs_f64();
            let detail = format!(
                "another caller refills this key for at most {seconds:.1} s; retry then, or send `Prefer: wait=SECONDS`"
            );
            let failure = Failure::new(FailureKind::BeingRefilled, detail);
            failure.retry_after(time).into_response()
        }
    };
    applied(&mut response, wait);
    Ok(response)
}

/// Wait for a key that a warm run wants to be refilled, in a namespace without an origin.
///
/// Responds with 201, the key and its permit, or with 204 when none was wanted within `Prefer:
/// wait`.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/wanted-refills", tag = "permits",
    params(("tenant" = String, Path), ("namespace" = String, Path),
        ("Prefer" = Option<String>, Header, description = "`wait=SECONDS`, at most 300; without it the answer comes at once")),
    request_body = AwaitRefill,
    responses((status = 201, description = "refill it, and store it with `Verax-Permit: NUMBER`", body = PermitGrant),
        (status = 204, description = "no key was wanted"),
        (status = 409, description = "the namespace has an origin", body = verax_api::Problem))
))]
pub(crate) async fn await_refill(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    headers: HeaderMap,
    Json(request): Json<AwaitRefill>,
) -> Result<Response> {
    let refiller = service.control().open_refiller(&caller, &tenant, &namespace)?;
    let wait = preferred_wait(&headers, MAX_WAIT);
    let lease =
        request.lease_seconds.map_or(Ok(DEFAULT_LEASE), |s| seconds_of("lease_seconds", s))?;
    let owner = request.owner.as_deref().unwrap_or(caller.display_name()).into();
    let request = verax_engine::cache::AwaitRefill { owner, wait, lease, access: caller.access() };
    let mut response = match refiller.await_refill(request).await? {
        Some(permit) => {
            let grant = PermitGrant {
                key: permit.key.to_string(),
                permit: permit.number.0,
                ends_in_seconds: permit.ends_at.since(service.engine().now()).as_secs_f64(),
            };
            (StatusCode::CREATED, axum::Json(grant)).into_response()
        }
        None => StatusCode::NO_CONTENT.into_response(),
    };
    applied(&mut response, wait);
    Ok(response)
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ReleasePermitQuery {
    /// The permit's number.
    permit: u64,
    /// Whom to notify: `next` lets the first queued caller refill, `all` fails the refill for every
    /// waiting caller.
    #[serde(default = "next")]
    fail: String,
}

fn next() -> String {
    "next".into()
}

/// Release a permit without a value.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/permits/{key}", tag = "permits",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path), ReleasePermitQuery),
    responses((status = 204, description = "it was given back"),
        (status = 409, description = "it was over already", body = verax_api::Problem))
))]
pub(crate) async fn release(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(key): WithKey,
    Query(query): Query<ReleasePermitQuery>,
) -> Result<StatusCode> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let next = match query.fail.as_str() {
        "next" => true,
        "all" => false,
        other => {
            return Err(Failure::invalid(format!("fail={other:?} is neither next nor all")));
        }
    };
    writer.release_permit(&key, PermitNumber(query.permit), next)?;
    Ok(StatusCode::NO_CONTENT)
}

/// List the live permits of a namespace, and its latest refills.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/permits", tag = "permits",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = Permits))
))]
pub(crate) async fn list(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
) -> Result<axum::Json<Permits>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let now = service.engine().now();
    let items = reader.permits(MAX_LISTED).iter().map(|view| shown(view, now)).collect();
    let recent = service.control().recent_refills(&reader).into_iter().map(refill_to_api).collect();
    let refillers = reader.present_refillers() as u64;
    Ok(axum::Json(Permits { items, recent, refillers }))
}

pub(crate) fn shown(view: &PermitView, now: Timestamp) -> PermitInUse {
    PermitInUse {
        key: view.key.to_string(),
        holder: view.held_by.to_string(),
        held_seconds: now.since(view.permit.since).as_secs_f64(),
        ends_in_seconds: view.permit.ends_at.since(now).as_secs_f64(),
        waiting: view.waiting as u64,
    }
}

pub(crate) fn refill_to_api(record: RefillRecord) -> RefillEvent {
    RefillEvent {
        at: moment(record.at),
        key: record.key.to_string(),
        holder: record.holder,
        outcome: record.outcome.name().into(),
        took_seconds: record.took.as_secs_f64(),
        waiters: record.waiters as u64,
        max_wait_seconds: record.max_wait.as_secs_f64(),
    }
}
