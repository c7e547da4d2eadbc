//! Drills.

use std::sync::Arc;

use axum::Json as ReadResult;
use axum::extract::State;
use axum::http::StatusCode;
use axum::http::header::LOCATION;
use axum::response::{IntoResponse, Response};
use verax_api::{DrillRequest, DrillRun, DrillSpec, Items};
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, WithId};
use crate::http::live::run_stream;

type Verax = State<Arc<Service>>;

/// List the drills that can be run here; there are none without the demo.
#[utoipa::path(get, path = "/v1/drills", tag = "drills",
    responses((status = 200, body = Items<DrillSpec>)))]
pub(crate) async fn specs(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<ReadResult<Items<DrillSpec>>> {
    Ok(ReadResult(Items { items: service.control().drill_specs(&caller)? }))
}

/// List the latest drills of this process, newest first.
#[utoipa::path(get, path = "/v1/drill-runs", tag = "drills",
    responses((status = 200, body = Items<DrillRun>)))]
pub(crate) async fn recent(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<ReadResult<Items<DrillRun>>> {
    Ok(ReadResult(Items { items: service.control().recent_drills(&caller)? }))
}

/// Start a drill.
#[utoipa::path(post, path = "/v1/drill-runs", tag = "drills", request_body = DrillRequest,
    responses((status = 202, body = DrillRun), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn start(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<DrillRequest>,
) -> Result<Response> {
    let run = service.control().start_drill(&caller, &request)?;
    let location = format!("/v1/drill-runs/{}", run.id);
    Ok((StatusCode::ACCEPTED, [(LOCATION, location)], ReadResult(run)).into_response())
}

/// Show a drill.
#[utoipa::path(get, path = "/v1/drill-runs/{id}", tag = "drills", params(("id" = u64, Path)),
    responses((status = 200, body = DrillRun), (status = 404, body = verax_api::Problem)))]
pub(crate) async fn show(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<ReadResult<DrillRun>> {
    Ok(ReadResult(service.control().drill_run(&caller, id)?.borrow().clone()))
}

/// Stream a drill: the run as `progress` whenever it changes, then `end`.
#[utoipa::path(get, path = "/v1/drill-runs/{id}/live", tag = "drills", params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = DrillRun)))]
pub(crate) async fn watch(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    let receiver = service.control().drill_run(&caller, id)?;
    let running = |run: &DrillRun| run.state == "running";
    Ok(run_stream(service.stopping(), receiver, DrillRun::clone, running).into_response())
}
