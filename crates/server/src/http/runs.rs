//! Load runs, and what runs of all kinds have in common.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::StatusCode;
use axum::http::header::LOCATION;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use verax_api::{ChangeLoad, ExportedRun, Items, LoadRequest, LoadRun, MarkLoad, RunComparison};
use verax_control::access::Caller;
use verax_control::runs::Run;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, Query, WithId, json_within};
use crate::http::limits::MAX_IMPORT_BYTES;
use crate::http::live::run_stream;
use crate::http::load_export::{ExportForm, export};

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

/// List the latest load runs, newest first, without their seconds.
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

/// Show a load run with all its seconds.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}", tag = "load", params(("id" = u64, Path)),
    responses((status = 200, body = LoadRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<LoadRun>> {
    // Their histograms are for exports.
    Ok(axum::Json(service.control().load_run(&caller, id).await?.since_tick(0)))
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ExportOptions {
    /// The form: `json` for another Verax, `csv`, `histogram-log`, or `html`.
    #[serde(default)]
    #[cfg_attr(test, param(inline))]
    form: ExportForm,
}

/// Export a load run as a file.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}/export", tag = "load",
    params(("id" = u64, Path), ExportOptions),
    responses((status = 200, content_type = "application/json", body = ExportedRun),
        (status = 404, body = verax_api::Problem))))]
pub(crate) async fn export_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Query(options): Query<ExportOptions>,
) -> Result<Response> {
    export(service.control().load_run(&caller, id).await?, options.form)
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ComparisonOptions {
    /// The earlier run.
    with: u64,
}

/// Compare a load run with an earlier one.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}/comparison", tag = "load",
    params(("id" = u64, Path), ComparisonOptions),
    responses((status = 200, body = RunComparison), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn compare_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Query(options): Query<ComparisonOptions>,
) -> Result<axum::Json<RunComparison>> {
    Ok(axum::Json(service.control().compare_load_runs(&caller, options.with, id).await?))
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ImportOptions {
    /// The namespace that it is kept for, as tenant/namespace; that of its profile when absent.
    namespace: Option<String>,
}

/// Keep a load run that another Verax exported.
#[cfg_attr(test, utoipa::path(post, path = "/v1/imported-load-runs", tag = "load", params(ImportOptions),
    request_body = ExportedRun,
    responses((status = 201, body = LoadRun), (status = 404, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn import_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Query(options): Query<ImportOptions>,
    request: Request,
) -> Result<Response> {
    let exported: ExportedRun = json_within(request, MAX_IMPORT_BYTES).await?;
    let run = service.control().import_load_run(&caller, exported, options.namespace.as_deref());
    let run = run.await?.without_ticks();
    let location = format!("/v1/load-runs/{}", run.id);
    Ok((StatusCode::CREATED, [(LOCATION, location)], axum::Json(run)).into_response())
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

/// Change the load of an active run, or pause it.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/load-runs/{id}", tag = "load",
    params(("id" = u64, Path)), request_body = ChangeLoad,
    responses((status = 200, body = LoadRun), (status = 404, body = verax_api::Problem),
        (status = 409, body = verax_api::Problem))))]
pub(crate) async fn change_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Json(change): Json<ChangeLoad>,
) -> Result<axum::Json<LoadRun>> {
    Ok(axum::Json(service.control().change_load(&caller, id, change)?))
}

/// Mark a moment on the time line of an active load run.
#[cfg_attr(test, utoipa::path(post, path = "/v1/load-runs/{id}/marks", tag = "load",
    params(("id" = u64, Path)), request_body = MarkLoad,
    responses((status = 200, body = LoadRun), (status = 404, body = verax_api::Problem),
        (status = 409, body = verax_api::Problem))))]
pub(crate) async fn mark_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Json(mark): Json<MarkLoad>,
) -> Result<axum::Json<LoadRun>> {
    Ok(axum::Json(service.control().mark_load(&caller, id, &mark.text)?))
}

/// Stream a load run: as `progress` after each second, with the seconds that are new, then `end`.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-runs/{id}/live", tag = "load", params(("id" = u64, Path)),
    responses((status = 200, content_type = "text/event-stream", body = LoadRun))))]
pub(crate) async fn watch_load(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<LoadRun>(&service, &caller, id)
}
