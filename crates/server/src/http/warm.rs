//! Warm plans, warm runs, and the keys that are read most.

use std::sync::Arc;

use axum::extract::State;
use axum::http::header::ETAG;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::{
    HotKeys, Items, StartWarmRun, WarmEstimate, WarmFailure, WarmPlan, WarmPlanSpec, WarmRequest,
    WarmRun, WarmRunChange,
};
use verax_control::plan_tag;
use verax_core::heat::MAX_KEYS;
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::expected;
use crate::http::extract::{Json, NamespacePath, PlanPath, Query, TenantPath, WithId, page_limit};
use crate::http::limits::MAX_FAILURE_NUMBER;
use crate::http::runs::{started, watched};

type Verax = State<Arc<Service>>;

/// How many hot keys are listed, unless another number is wanted.
const HOT_KEYS: u32 = 50;

/// The most failures of a page, unless fewer are wanted.
const FAILURES: u32 = 100;

fn with_tag(plan: WarmPlan) -> Response {
    let tag = plan_tag(&plan.spec).to_string();
    let tag = HeaderValue::from_str(&tag).map(|tag| (ETAG, tag)).ok();
    let mut response = axum::Json(plan).into_response();
    response.headers_mut().extend(tag);
    response
}

/// List the warm plans of all namespaces that the token may warm.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-plans", tag = "warm",
    responses((status = 200, body = Items<WarmPlan>))))]
pub(crate) async fn all_plans(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<Items<WarmPlan>>> {
    let items = service.control().warm_plans(&caller, None).await?;
    Ok(axum::Json(Items { items }))
}

/// List a tenant's warm plans.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/warm-plans", tag = "warm",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<WarmPlan>))))]
pub(crate) async fn plans(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<axum::Json<Items<WarmPlan>>> {
    let items = service.control().warm_plans(&caller, Some(&tenant)).await?;
    Ok(axum::Json(Items { items }))
}

/// Show a warm plan.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/warm-plans/{plan}", tag = "warm",
    params(("tenant" = String, Path), ("plan" = String, Path)),
    responses((status = 200, body = WarmPlan, description = "its ETag names what it says"),
        (status = 404, body = verax_api::Problem))))]
pub(crate) async fn plan(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    PlanPath(plan): PlanPath,
) -> Result<Response> {
    Ok(with_tag(service.control().warm_plan(&caller, &tenant, &plan).await?))
}

/// Create or replace a warm plan.
#[cfg_attr(test, utoipa::path(put, path = "/v1/tenants/{tenant}/warm-plans/{plan}", tag = "warm",
    params(("tenant" = String, Path), ("plan" = String, Path),
        ("If-Match" = Option<String>, Header, description = "replaces only the plan with this entity tag"),
        ("If-None-Match" = Option<String>, Header, description = "`*` creates only")),
    request_body = WarmPlanSpec,
    responses((status = 200, body = WarmPlan), (status = 412, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn put_plan(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    PlanPath(plan): PlanPath,
    headers: HeaderMap,
    Json(spec): Json<WarmPlanSpec>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let put = service.control().put_warm_plan(&caller, &tenant, &plan, &spec, expected);
    Ok(with_tag(put.await?))
}

/// Delete a warm plan. Its active run goes on.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}/warm-plans/{plan}", tag = "warm",
    params(("tenant" = String, Path), ("plan" = String, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn delete_plan(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    PlanPath(plan): PlanPath,
) -> Result<StatusCode> {
    service.control().delete_warm_plan(&caller, &tenant, &plan).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Start a run of a warm plan.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/warm-plans/{plan}/runs", tag = "warm",
    params(("tenant" = String, Path), ("plan" = String, Path)), request_body = StartWarmRun,
    responses((status = 202, body = WarmRun), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn run_plan(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    PlanPath(plan): PlanPath,
    Json(start): Json<StartWarmRun>,
) -> Result<Response> {
    let run = service.control().start_plan_run(&caller, &tenant, &plan, &start).await?.now();
    let location = format!("/v1/warm-runs/{}", run.id);
    Ok(started(location, run))
}

/// Estimate what a run of a warm plan would do.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/warm-plans/{plan}/estimates", tag = "warm",
    params(("tenant" = String, Path), ("plan" = String, Path)), request_body = StartWarmRun,
    responses((status = 200, body = WarmEstimate), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn estimate_plan(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    PlanPath(plan): PlanPath,
    Json(start): Json<StartWarmRun>,
) -> Result<axum::Json<WarmEstimate>> {
    let estimate = service.control().estimate_plan_run(&caller, &tenant, &plan, &start).await?;
    Ok(axum::Json(estimate))
}

/// Start a warm run without a plan.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/warm-runs", tag = "warm",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = WarmRequest,
    responses((status = 202, body = WarmRun), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn start(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
    Json(request): Json<WarmRequest>,
) -> Result<Response> {
    let run = service.control().start_warm_run(&caller, &tenant, &name, &request).await?.now();
    let location = format!("/v1/warm-runs/{}", run.id);
    Ok(started(location, run))
}

/// Estimate what a warm run without a plan would do.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/warm-estimates", tag = "warm",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = WarmRequest,
    responses((status = 200, body = WarmEstimate), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn estimate(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
    Json(request): Json<WarmRequest>,
) -> Result<axum::Json<WarmEstimate>> {
    let control = service.control();
    Ok(axum::Json(control.estimate_warm_run(&caller, &tenant, &name, &request).await?))
}

/// List the latest warm runs, newest first; active ones are always included.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs", tag = "warm",
    responses((status = 200, body = Items<WarmRun>))))]
pub(crate) async fn recent(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<WarmRun>> {
    axum::Json(Items { items: service.control().recent_runs(&caller).await })
}

/// Show a warm run, of this process or an earlier one.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs/{id}", tag = "warm", params(("id" = u64, Path)),
    responses((status = 200, body = WarmRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn show(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<axum::Json<WarmRun>> {
    Ok(axum::Json(service.control().warm_run(&caller, id).await?))
}

/// Pause a warm run after its active refills, or let it go on.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/warm-runs/{id}", tag = "warm", params(("id" = u64, Path)),
    request_body = WarmRunChange,
    responses((status = 200, body = WarmRun), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn change(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Json(change): Json<WarmRunChange>,
) -> Result<axum::Json<WarmRun>> {
    let run = service.control().pause_warm_run(&caller, id, change.paused)?;
    Ok(axum::Json(run.now()))
}

/// Stop a warm run after its active refills.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/warm-runs/{id}", tag = "warm", params(("id" = u64, Path)),
    responses((status = 202, description = "it ends soon"))))]
pub(crate) async fn stop(
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
pub(crate) async fn watch(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<Response> {
    watched::<WarmRun>(&service, &caller, id)
}

/// Which failures of a run are wanted.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct FailuresQuery {
    from: Option<u32>,
    limit: Option<u32>,
}

/// List the keys that a warm run could not refill, with the reason of each.
#[cfg_attr(test, utoipa::path(get, path = "/v1/warm-runs/{id}/failures", tag = "warm",
    params(("id" = u64, Path),
        ("from" = Option<u32>, Query, description = "the number of the first failure, from 0"),
        ("limit" = Option<u32>, Query, description = "at most this many; 100 when absent")),
    responses((status = 200, body = Items<WarmFailure>), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn failures(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Query(query): Query<FailuresQuery>,
) -> Result<axum::Json<Items<WarmFailure>>> {
    let (from, most) = (query.from.unwrap_or(0), page_limit(query.limit, FAILURES)?);
    if from > MAX_FAILURE_NUMBER {
        let range = format!("use 0 to {MAX_FAILURE_NUMBER}");
        return Err(Failure::invalid(format!("from = {from} is out of range: {range}")));
    }
    let items = service.control().warm_failures(&caller, id, from, most).await?;
    Ok(axum::Json(Items { items }))
}

/// How many hot keys are wanted.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct HotQuery {
    limit: Option<u32>,
}

/// List the keys of a namespace that are read most.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/hot-keys", tag = "warm",
    params(("tenant" = String, Path), ("namespace" = String, Path),
        ("limit" = Option<u32>, Query, description = "at most this many; 50 when absent. No more than 256 are known")),
    responses((status = 200, body = HotKeys), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn hot(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
    Query(query): Query<HotQuery>,
) -> Result<axum::Json<HotKeys>> {
    let most = page_limit(query.limit, HOT_KEYS)?.min(MAX_KEYS as u32);
    Ok(axum::Json(service.control().hot_keys(&caller, &tenant, &name, most)?))
}
