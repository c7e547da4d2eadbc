//! Warm runs and load runs.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::LOCATION;
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use verax_api::{Items, LoadProfileSpec, LoadRequest, LoadRun, WarmRequest, WarmRun};
use verax_control::access::Caller;
use verax_control::runs::Run;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath, WithId};
use crate::http::live::run_stream;

type Verax = State<Arc<Service>>;

/// The response to the start of a run, with its `location`.
pub(crate) fn started<R: Serialize>(location: String, run: R) -> Response {
    (StatusCode::ACCEPTED, [(LOCATION, location)], axum::Json(run)).into_response()
}

/// The live stream of a run.
pub(crate) fn watched<R: Run>(service: &Service, caller: &Caller, id: u64) -> Result<Response> {
    let run = service.control().run::<R>(caller, id)?;
    Ok(run_stream(service.stopping(), run.watch()).into_response())
}

/// Start a warm run.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/warm-runs", tag = "warm",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = WarmRequest,
    responses((status = 202, body = WarmRun), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn start_warm(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
    Json(request): Json<WarmRequest>,
) -> Result<Response> {
    let run = service.control().start_warm_run(&caller, &tenant, &name, &request).await?.now();
    let location = format!("/v1/warm-runs/{}", run.id);
    Ok(started(location, run))
}

/// List the latest warm runs, newest first; active ones are always included.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs", tag = "warm",
    responses((status = 200, body = Items<WarmRun>))))]
pub(crate) async fn recent_warm(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<WarmRun>> {
    axum::Json(Items { items: service.control().recent_runs(&caller).await })
}

/// Show a warm run.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs/{id}", tag = "warm", params(("id" = u64, Path)),
    responses((status = 200, body = WarmRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn warm(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<WarmRun>> {
    Ok(axum::Json(service.control().run::<WarmRun>(&caller, id)?.now()))
}

/// Stop a warm run after its active refills.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/warm-runs/{id}", tag = "warm", params(("id" = u64, Path)),
    responses((status = 202, description = "it ends soon"))))]
pub(crate) async fn stop_warm(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().stop_run::<WarmRun>(&caller, id)?;
    Ok(StatusCode::ACCEPTED)
}

/// Stream a warm run's progress: events `progress`, then `end`.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs/{id}/live", tag = "warm", params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = WarmRun))))]
pub(crate) async fn watch_warm(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<WarmRun>(&service, &caller, id)
}

/// List the configured load profiles.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-profiles", tag = "load",
    responses((status = 200, body = Items<LoadProfileSpec>))))]
pub(crate) async fn profiles(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<LoadProfileSpec>> {
    axum::Json(Items { items: service.control().load_profiles(&caller) })
}

/// List the latest load runs, newest first.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs", tag = "load",
    responses((status = 200, body = Items<LoadRun>))))]
pub(crate) async fn recent_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<LoadRun>> {
    axum::Json(Items { items: service.control().recent_runs(&caller).await })
}

/// Start a load run.
#[cfg_attr(test, utoipa::path(post, path = "/v1/load-runs", tag = "load", request_body = LoadRequest,
    responses((status = 202, body = LoadRun), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn start_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<LoadRequest>,
) -> Result<Response> {
    let run = service.control().start_load_run(&caller, &request).await?.now();
    let location = format!("/v1/load-runs/{}", run.id);
    Ok(started(location, run))
}

/// Show a load run.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}", tag = "load", params(("id" = u64, Path)),
    responses((status = 200, body = LoadRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<LoadRun>> {
    Ok(axum::Json(service.control().run::<LoadRun>(&caller, id)?.now()))
}

/// End a load run early.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/load-runs/{id}", tag = "load", params(("id" = u64, Path)),
    responses((status = 202, description = "it ends soon"))))]
pub(crate) async fn stop_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().stop_run::<LoadRun>(&caller, id)?;
    Ok(StatusCode::ACCEPTED)
}

/// Stream a load run: the run with all its seconds as `progress` after each, then `end`.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}/live", tag = "load", params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = LoadRun))))]
pub(crate) async fn watch_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<LoadRun>(&service, &caller, id)
}
