//! Recordings of traffic, which load runs replay.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use verax_api::{Items, RecordTraffic, TrafficRecording};
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, WithId};
use crate::http::runs::{started, watched};

type Verax = State<Arc<Service>>;

/// List the latest recordings of traffic, newest first.
#[cfg_attr(test, utoipa::path(get, path = "/v1/traffic-recordings", tag = "load",
    responses((status = 200, body = Items<TrafficRecording>))))]
pub(crate) async fn recent(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<TrafficRecording>> {
    axum::Json(Items { items: service.control().recent_runs(&caller).await })
}

/// Record which keys of a namespace are read, and when.
#[cfg_attr(test, utoipa::path(post, path = "/v1/traffic-recordings", tag = "load",
    request_body = RecordTraffic,
    responses((status = 202, body = TrafficRecording), (status = 404, body = verax_api::Problem),
        (status = 409, body = verax_api::Problem), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn start(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<RecordTraffic>,
) -> Result<Response> {
    let recording = service.control().record_traffic(&caller, &request).await?.now();
    let location = format!("/v1/traffic-recordings/{}", recording.id);
    Ok(started(location, recording))
}

/// Show a recording of traffic.
#[cfg_attr(test, utoipa::path(get, path = "/v1/traffic-recordings/{id}", tag = "load",
    params(("id" = u64, Path)),
    responses((status = 200, body = TrafficRecording), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn show(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<TrafficRecording>> {
    Ok(axum::Json(service.control().recording(&caller, id).await?))
}

/// End a recording early; what it has can be replayed.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/traffic-recordings/{id}", tag = "load",
    params(("id" = u64, Path)), responses((status = 202, description = "it ends soon"))))]
pub(crate) async fn stop(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().stop_run::<TrafficRecording>(&caller, id)?;
    Ok(StatusCode::ACCEPTED)
}

/// Stream a recording: as `progress` while it grows, then `end`.
#[cfg_attr(test, utoipa::path(get, path = "/v1/traffic-recordings/{id}/live", tag = "load",
    params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = TrafficRecording))))]
pub(crate) async fn watch(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<TrafficRecording>(&service, &caller, id)
}
