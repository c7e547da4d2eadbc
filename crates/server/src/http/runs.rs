//! Load runs, and what runs of all kinds have in common.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::LOCATION;
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use verax_api::{Items, LoadProfileSpec, LoadRequest, LoadRun};
use verax_control::access::Caller;
use verax_control::runs::Run;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, WithId};
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
