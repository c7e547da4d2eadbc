//! Schedules.

use std::sync::Arc;

use axum::extract::State;
use axum::http::header::ETAG;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::{
    Items, Schedule, ScheduleChange, SchedulePreview, ScheduleSlot, ScheduleSpec, ScheduleTiming,
};
use verax_control::schedule_tag;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::expected;
use crate::http::extract::{Json, Query, SchedulePath, TenantPath, page_limit};

type Verax = State<Arc<Service>>;

/// The most slots of a page, unless fewer are wanted.
const SLOTS: u32 = 50;

fn with_tag(schedule: Schedule) -> Response {
    let tag = schedule_tag(&schedule.spec).to_string();
    let tag = HeaderValue::from_str(&tag).map(|tag| (ETAG, tag)).ok();
    let mut response = axum::Json(schedule).into_response();
    response.headers_mut().extend(tag);
    response
}

/// List the schedules of all tenants whose actions the token could carry out.
#[cfg_attr(test, utoipa::path(get, path = "/v1/schedules", tag = "schedules",
    responses((status = 200, body = Items<Schedule>))))]
pub(crate) async fn all(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<Items<Schedule>>> {
    Ok(axum::Json(Items { items: service.control().schedules(&caller, None).await? }))
}

/// List a tenant's schedules.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/schedules", tag = "schedules",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<Schedule>))))]
pub(crate) async fn list(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<axum::Json<Items<Schedule>>> {
    Ok(axum::Json(Items { items: service.control().schedules(&caller, Some(&tenant)).await? }))
}

/// Show a schedule, with its next times.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/schedules/{schedule}", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path)),
    responses((status = 200, body = Schedule, description = "its ETag names what it says"),
        (status = 404, body = verax_api::Problem))))]
pub(crate) async fn show(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
) -> Result<Response> {
    Ok(with_tag(service.control().schedule(&caller, &tenant, &schedule).await?))
}

/// Create or replace a schedule.
#[cfg_attr(test, utoipa::path(put, path = "/v1/tenants/{tenant}/schedules/{schedule}", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path),
        ("If-Match" = Option<String>, Header, description = "replaces only the schedule with this entity tag"),
        ("If-None-Match" = Option<String>, Header, description = "`*` creates only")),
    request_body = ScheduleSpec,
    responses((status = 200, body = Schedule), (status = 412, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn put(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
    headers: HeaderMap,
    Json(spec): Json<ScheduleSpec>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let put = service.control().put_schedule(&caller, &tenant, &schedule, &spec, expected);
    Ok(with_tag(put.await?))
}

/// Pause a schedule, or let it go on. Times while it is paused do not count as missed.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/tenants/{tenant}/schedules/{schedule}", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path)), request_body = ScheduleChange,
    responses((status = 200, body = Schedule), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn change(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
    Json(change): Json<ScheduleChange>,
) -> Result<Response> {
    let control = service.control();
    let changed = control.pause_schedule(&caller, &tenant, &schedule, change.paused);
    Ok(with_tag(changed.await?))
}

/// Delete a schedule. What it started goes on.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}/schedules/{schedule}", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn delete(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
) -> Result<StatusCode> {
    service.control().delete_schedule(&caller, &tenant, &schedule).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Do now what a schedule does, apart from its times.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/schedules/{schedule}/runs", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path)),
    responses((status = 200, body = ScheduleSlot), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn run(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
) -> Result<axum::Json<ScheduleSlot>> {
    Ok(axum::Json(service.control().run_schedule(&caller, &tenant, &schedule).await?))
}

/// How many slots are wanted.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct SlotsQuery {
    limit: Option<u32>,
}

/// List the times of a schedule that have passed, newest first.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/schedules/{schedule}/slots", tag = "schedules",
    params(("tenant" = String, Path), ("schedule" = String, Path),
        ("limit" = Option<u32>, Query, description = "at most this many, and at most 500; 50 when absent")),
    responses((status = 200, body = Items<ScheduleSlot>), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn slots(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    SchedulePath(schedule): SchedulePath,
    Query(query): Query<SlotsQuery>,
) -> Result<axum::Json<Items<ScheduleSlot>>> {
    let most = page_limit(query.limit, SLOTS)?;
    let items = service.control().schedule_slots(&caller, &tenant, &schedule, most).await?;
    Ok(axum::Json(Items { items }))
}

/// Show the next times of a timing, before it is kept.
#[cfg_attr(test, utoipa::path(post, path = "/v1/schedule-previews", tag = "schedules",
    request_body = ScheduleTiming,
    responses((status = 200, body = SchedulePreview), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn preview(
    State(service): Verax,
    Authenticated(_caller): Authenticated,
    Json(timing): Json<ScheduleTiming>,
) -> Result<axum::Json<SchedulePreview>> {
    Ok(axum::Json(service.control().preview_schedule(&timing)?))
}
