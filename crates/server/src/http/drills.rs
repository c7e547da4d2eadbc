//! Drills.

use std::sync::Arc;

use axum::extract::State;
use axum::response::Response;
use verax_api::{DrillRequest, DrillRun, DrillSpec, Items};
use verax_core::access::Scope;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, WithId};
use crate::http::runs::{started, watched};

type Verax = State<Arc<Service>>;

/// List the available drills; there are none without the demo.
#[cfg_attr(test, utoipa::path(get, path = "/v1/drills", tag = "drills",
    responses((status = 200, body = Items<DrillSpec>))))]
pub(crate) async fn specs(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<Items<DrillSpec>>> {
    Ok(axum::Json(Items { items: service.control().drill_specs(&caller)? }))
}

/// List the latest drills of this process, newest first.
#[cfg_attr(test, utoipa::path(get, path = "/v1/drill-runs", tag = "drills",
    responses((status = 200, body = Items<DrillRun>))))]
pub(crate) async fn recent(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<Items<DrillRun>>> {
    caller.needs(Scope::Admin)?;
    Ok(axum::Json(Items { items: service.control().recent_runs(&caller).await }))
}

/// Start a drill.
#[cfg_attr(test, utoipa::path(post, path = "/v1/drill-runs", tag = "drills", request_body = DrillRequest,
    responses((status = 202, body = DrillRun), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn start(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<DrillRequest>,
) -> Result<Response> {
    let run = service.control().start_drill(&caller, &request).await?.now();
    let location = format!("/v1/drill-runs/{}", run.id);
    Ok(started(location, run))
}

/// Show a drill.
#[cfg_attr(test, utoipa::path(get, path = "/v1/drill-runs/{id}", tag = "drills", params(("id" = u64, Path)),
    responses((status = 200, body = DrillRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn show(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<DrillRun>> {
    Ok(axum::Json(service.control().run::<DrillRun>(&caller, id)?.now()))
}

/// Stream a drill: the run as `progress` whenever it changes, then `end`.
#[cfg_attr(test, utoipa::path(get, path = "/v1/drill-runs/{id}/live", tag = "drills", params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = DrillRun))))]
pub(crate) async fn watch(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<DrillRun>(&service, &caller, id)
}
