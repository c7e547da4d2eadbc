//! Named locks.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::{
    AcquireLock, FailureKind, Lock, LockEvent, LockHolder, LockLease, Locks, QueuedCaller,
    RenewLock, moment,
};
use verax_core::guard::lock::{FencingToken, Grant, Holder, LockView, MAX_WAIT};
use verax_core::{Key, Timestamp};
use verax_engine::events::LockEventKind;
use verax_engine::locks::{Acquired, LockRequest};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath, Query, WithKey};
use crate::http::limits::MAX_LISTED;
use crate::http::preferences::{applied, come_back_in, preferred_wait, seconds_of};

/// The default lease.
const DEFAULT_LEASE: Duration = Duration::from_secs(30);
fn holder_to_api(holder: &Holder, now: Timestamp) -> LockHolder {
    LockHolder {
        owner: holder.owner.clone(),
        fencing_token: holder.token.number(),
        held_seconds: now.since(holder.since).as_secs_f64(),
        ends_in_seconds: holder.ends_at.since(now).as_secs_f64(),
    }
}

fn lease_to_api(grant: &Grant, now: Timestamp) -> LockLease {
    LockLease {
        name: grant.name.1.to_string(),
        fencing_token: grant.token.number(),
        ends_in_seconds: grant.ends_at.since(now).as_secs_f64(),
    }
}

pub(crate) fn shown(view: &LockView, now: Timestamp) -> Lock {
    let queue = view.queue.iter().map(|waiting| QueuedCaller {
        owner: waiting.owner.clone(),
        waiting_seconds: now.since(waiting.since).as_secs_f64(),
        times_out_in_seconds: waiting.waits_until.since(now).as_secs_f64(),
    });
    Lock {
        name: view.name.1.to_string(),
        holder: Some(holder_to_api(&view.holder, now)),
        queue: queue.collect(),
        queued: view.queued as u64,
    }
}

pub(crate) fn event_to_api(event: &verax_engine::events::LockEvent) -> LockEvent {
    let kind = match event.kind {
        LockEventKind::Granted => "granted",
        LockEventKind::Released => "released",
        LockEventKind::Expired => "expired",
        LockEventKind::Forced => "forced",
        LockEventKind::Disconnected => "disconnected",
        LockEventKind::Withdrawn => "withdrawn",
        LockEventKind::TimedOut => "timed-out",
    };
    LockEvent {
        at: moment(event.at),
        name: event.name.to_string(),
        kind: kind.into(),
        owner: event.owner.clone(),
        fencing_token: event.token.map(FencingToken::number),
        lasted_seconds: event.lasted.as_secs_f64(),
    }
}

fn locked(name: &Key, holder: &Holder, now: Timestamp) -> Response {
    let shown = holder_to_api(holder, now);
    let detail = format!(
        "{name} is held by {:?} for at most another {:.1} s; send `Prefer: wait=SECONDS` to wait for it",
        shown.owner, shown.ends_in_seconds
    );
    let mut response = Failure::new(FailureKind::Locked, detail)
        .with("owner", shown.owner)
        .with("fencing_token", shown.fencing_token)
        .with("held_seconds", shown.held_seconds)
        .with("ends_in_seconds", shown.ends_in_seconds)
        .into_response();
    come_back_in(&mut response, holder.ends_at.since(now));
    response
}

/// Acquire a lock, waiting as long as `Prefer: wait=SECONDS` says.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/locks/{key}", tag = "locks",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path, description = "the lock's name"),
        ("Prefer" = Option<String>, Header, description = "`wait=SECONDS`, at most 3600; without it the answer comes at once")),
    request_body = AcquireLock,
    responses((status = 201, body = LockLease),
        (status = 423, description = "another caller holds it; Retry-After tells for how long at most", body = verax_api::Problem),
        (status = 503, description = "no fencing tokens are available at the moment", body = verax_api::Problem))
))]
pub(crate) async fn acquire(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(name): WithKey,
    headers: HeaderMap,
    Json(request): Json<AcquireLock>,
) -> Result<Response> {
    let locker = service.control().open_locker(&caller, &tenant, &namespace)?;
    let wait = preferred_wait(&headers, MAX_WAIT);
    let lease =
        request.lease_seconds.map_or(Ok(DEFAULT_LEASE), |s| seconds_of("lease_seconds", s))?;
    let owner = request.owner.unwrap_or_else(|| caller.display_name().to_owned());
    // HTTP has no connection a lease could end with.
    let request = LockRequest { owner, lease, wait, session: None, access: caller.access() };
    let acquired = locker.acquire_lock(&name, request).await?;
    let now = service.engine().now();
    let mut response = match acquired {
        Acquired::Granted(grant) => {
            (StatusCode::CREATED, axum::Json(lease_to_api(&grant, now))).into_response()
        }
        Acquired::HeldByOther(holder) => locked(&name, &holder, now),
    };
    applied(&mut response, wait);
    Ok(response)
}

/// Show a lock.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/locks/{key}", tag = "locks",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    responses((status = 200, description = "its holder is null when it is free", body = Lock))
))]
pub(crate) async fn show(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(name): WithKey,
) -> Result<axum::Json<Lock>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let view = reader.peek_lock(&name);
    Ok(axum::Json(match view {
        Some(view) => shown(&view, service.engine().now()),
        None => Lock { name: name.to_string(), holder: None, queue: Vec::new(), queued: 0 },
    }))
}

/// Renew a lease.
#[cfg_attr(test, utoipa::path(
    patch, path = "/v1/tenants/{tenant}/namespaces/{namespace}/locks/{key}", tag = "locks",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    request_body = RenewLock,
    responses((status = 200, body = LockLease),
        (status = 409, description = "the lease is over", body = verax_api::Problem))
))]
pub(crate) async fn renew(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(name): WithKey,
    Json(renewal): Json<RenewLock>,
) -> Result<axum::Json<LockLease>> {
    let locker = service.control().open_locker(&caller, &tenant, &namespace)?;
    let lease = seconds_of("lease_seconds", renewal.lease_seconds)?;
    let token = FencingToken::from_number(renewal.fencing_token);
    let grant = locker.renew_lock(&name, token, lease)?;
    Ok(axum::Json(lease_to_api(&grant, service.engine().now())))
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ReleaseQuery {
    /// The lease's fencing token.
    fencing_token: Option<u64>,
    /// `true` forces the lock open; needs the right to manage, and is recorded as activity.
    #[serde(default)]
    force: bool,
}

/// Release a lease, or force it open.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/locks/{key}", tag = "locks",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path), ReleaseQuery),
    responses((status = 204, description = "it was released"),
        (status = 200, description = "it was forced open; the body says who held it", body = Lock),
        (status = 409, description = "the lease has already ended", body = verax_api::Problem))
))]
pub(crate) async fn release(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithKey(name): WithKey,
    Query(query): Query<ReleaseQuery>,
) -> Result<Response> {
    match query {
        ReleaseQuery { fencing_token: Some(token), force: false } => {
            let locker = service.control().open_locker(&caller, &tenant, &namespace)?;
            locker.release_lock(&name, FencingToken::from_number(token))?;
            Ok(StatusCode::NO_CONTENT.into_response())
        }
        ReleaseQuery { fencing_token: None, force: true } => {
            let place = (&tenant, &namespace);
            let ended = service.control().force_release_lock(&caller, place, &name).await?;
            let holder = ended.map(|holder| holder_to_api(&holder, service.engine().now()));
            let lock = Lock { name: name.to_string(), holder, queue: Vec::new(), queued: 0 };
            Ok(axum::Json(lock).into_response())
        }
        _ => Err(Failure::invalid("send either `fencing_token` or `force=true`")),
    }
}

/// List a namespace's held locks and recent lock events.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/locks", tag = "locks",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = Locks))
))]
pub(crate) async fn list(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
) -> Result<axum::Json<Locks>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let now = service.engine().now();
    Ok(axum::Json(Locks {
        items: reader.locks(MAX_LISTED).iter().map(|view| shown(view, now)).collect(),
        recent: service.control().recent_locks(&reader).iter().map(event_to_api).collect(),
    }))
}
