//! The load profiles that the service offers.

use std::sync::Arc;

use axum::extract::State;
use axum::http::header::ETAG;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use verax_api::{Items, LoadProfileSpec, OfferedProfile, SetBaseline};
use verax_control::runs::load_profile_tag;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::expected;
use crate::http::extract::{Json, ProfilePath, TenantPath};

type Verax = State<Arc<Service>>;

/// A profile with its entity tag.
fn with_tag(profile: OfferedProfile) -> Response {
    let tag = load_profile_tag(&profile.spec).to_string();
    let tag = HeaderValue::from_str(&tag).map(|tag| (ETAG, tag)).ok();
    let mut response = axum::Json(profile).into_response();
    response.headers_mut().extend(tag);
    response
}

/// List the load profiles of all namespaces that the token may load.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-profiles", tag = "load",
    responses((status = 200, body = Items<OfferedProfile>))))]
pub(crate) async fn profiles(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<OfferedProfile>> {
    axum::Json(Items { items: service.control().load_profiles(&caller).await })
}

/// Show a load profile.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/load-profiles/{profile}", tag = "load",
    params(("tenant" = String, Path), ("profile" = String, Path)),
    responses((status = 200, body = OfferedProfile, description = "its ETag names what it says"),
        (status = 404, body = verax_api::Problem))))]
pub(crate) async fn profile(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    ProfilePath(profile): ProfilePath,
) -> Result<Response> {
    Ok(with_tag(service.control().load_profile(&caller, &tenant, &profile).await?))
}

/// Create or replace a load profile. Its name is that of the path.
#[cfg_attr(test, utoipa::path(put, path = "/v1/tenants/{tenant}/load-profiles/{profile}", tag = "load",
    params(("tenant" = String, Path), ("profile" = String, Path),
        ("If-Match" = Option<String>, Header, description = "replaces only the profile with this entity tag"),
        ("If-None-Match" = Option<String>, Header, description = "`*` creates only")),
    request_body = LoadProfileSpec,
    responses((status = 200, body = OfferedProfile), (status = 412, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn put_profile(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    ProfilePath(profile): ProfilePath,
    headers: HeaderMap,
    Json(spec): Json<LoadProfileSpec>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let put = service.control().put_load_profile(&caller, &tenant, &profile, &spec, expected);
    Ok(with_tag(put.await?))
}

/// Delete a stored load profile. One that comes with the service under the same name shows again.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}/load-profiles/{profile}", tag = "load",
    params(("tenant" = String, Path), ("profile" = String, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn delete_profile(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    ProfilePath(profile): ProfilePath,
) -> Result<StatusCode> {
    service.control().delete_load_profile(&caller, &tenant, &profile).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Set the run that later runs of a load profile are compared with.
#[cfg_attr(test, utoipa::path(put, path = "/v1/tenants/{tenant}/load-profiles/{profile}/baseline", tag = "load",
    params(("tenant" = String, Path), ("profile" = String, Path)),
    request_body = SetBaseline,
    responses((status = 200, body = OfferedProfile), (status = 404, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn set_baseline(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    ProfilePath(profile): ProfilePath,
    Json(baseline): Json<SetBaseline>,
) -> Result<axum::Json<OfferedProfile>> {
    let set = service.control().set_load_baseline(&caller, &tenant, &profile, baseline);
    Ok(axum::Json(set.await?))
}
