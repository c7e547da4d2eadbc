//! Tenants, origins, namespaces, tokens and activity.

use std::sync::Arc;

use axum::Json as ReadResult;
use axum::extract::State;
use axum::http::header::{ETAG, LOCATION};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use verax_api::{
    ActivityItem, CreateNamespace, CreateOrigin, CreateTenant, CreateToken, ItemPage, Items,
    Namespace, Origin, OriginChange, PolicyChange, RotateToken, Tenant, TenantQuotaChange, Token,
};
use verax_control::{ActivityFilter, origin_tag, policy_tag, quota_tag};
use verax_core::{EntityTag, Name, Timestamp};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::expected;
use crate::http::extract::{Json, NamespacePath, OriginPath, Query, TenantPath, WithId};

type Verax = State<Arc<Service>>;

fn created(location: String, body: impl Serialize) -> Response {
    (StatusCode::CREATED, [(LOCATION, location)], ReadResult(body)).into_response()
}

/// List the tenants in which the token has any scope.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants", tag = "tenants",
    responses((status = 200, body = Items<Tenant>))))]
pub(crate) async fn tenants(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> ReadResult<Items<Tenant>> {
    ReadResult(Items { items: service.control().tenants(&caller) })
}

/// Create a tenant.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants", tag = "tenants", request_body = CreateTenant,
    responses((status = 201, body = Tenant), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn create_tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<CreateTenant>,
) -> Result<Response> {
    let tenant = service.control().create_tenant(&caller, &request.name).await?;
    Ok(created(format!("/v1/tenants/{}", tenant.name), tenant))
}

/// Show a tenant: its quota and its use.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}", tag = "tenants",
    params(("tenant" = String, Path)),
    responses((status = 200, body = Tenant, description = "its ETag names the quota"), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<Response> {
    Ok(with_quota_tag(service.control().tenant(&caller, &tenant)?))
}

fn with_quota_tag(tenant: Tenant) -> Response {
    let tag = quota_tag(&tenant.quota.unwrap_or_default());
    with_tag(tenant, tag)
}

/// Change parts of a tenant's quota.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/tenants/{tenant}", tag = "tenants",
    params(("tenant" = String, Path),
        ("If-Match" = Option<String>, Header, description = "changes only the quota with this entity tag")),
    request_body = TenantQuotaChange,
    responses((status = 200, body = Tenant),
        (status = 412, description = "the quota has changed since", body = verax_api::Problem),
        (status = 422, description = "out of range, or reserves that do not fit together", body = verax_api::Problem))))]
pub(crate) async fn change_tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    headers: HeaderMap,
    Json(change): Json<TenantQuotaChange>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let changed = service.control().change_tenant(&caller, &tenant, &change, expected);
    Ok(with_quota_tag(changed.await?))
}

/// Delete a tenant that owns nothing.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}", tag = "tenants",
    params(("tenant" = String, Path)),
    responses((status = 204), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn delete_tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<StatusCode> {
    service.control().delete_tenant(&caller, &tenant).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List a tenant's origins.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/origins", tag = "origins",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<Origin>))))]
pub(crate) async fn origins(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<ReadResult<Items<Origin>>> {
    Ok(ReadResult(Items { items: service.control().origins(&caller, &tenant)? }))
}

/// Create an origin of a tenant.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/origins", tag = "origins",
    params(("tenant" = String, Path)), request_body = CreateOrigin,
    responses((status = 201, body = Origin), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn create_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    Json(request): Json<CreateOrigin>,
) -> Result<Response> {
    let origin = service.control().create_origin(&caller, &tenant, &request).await?;
    Ok(created(format!("/v1/tenants/{tenant}/origins/{}", origin.name), origin))
}

/// Show an origin: its settings and the state of its servers.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/origins/{origin}", tag = "origins",
    params(("tenant" = String, Path), ("origin" = String, Path)),
    responses((status = 200, body = Origin, description = "its ETag names the settings"),
        (status = 404, body = verax_api::Problem))))]
pub(crate) async fn origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    OriginPath(origin): OriginPath,
) -> Result<Response> {
    let origin = service.control().origin(&caller, &tenant, &origin)?;
    let tag = origin_tag(&origin);
    Ok(with_tag(origin, tag))
}

/// Change parts of an origin's settings.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/tenants/{tenant}/origins/{origin}", tag = "origins",
    params(("tenant" = String, Path), ("origin" = String, Path),
        ("If-Match" = Option<String>, Header, description = "changes only the settings with this entity tag")),
    request_body = OriginChange,
    responses((status = 200, body = Origin),
        (status = 412, description = "the settings have changed since", body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn change_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    OriginPath(origin): OriginPath,
    headers: HeaderMap,
    Json(change): Json<OriginChange>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let changed = service.control().change_origin(&caller, &tenant, &origin, &change, expected);
    let changed = changed.await?;
    let tag = origin_tag(&changed);
    Ok(with_tag(changed, tag))
}

/// Delete an origin that no namespace is bound to.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}/origins/{origin}", tag = "origins",
    params(("tenant" = String, Path), ("origin" = String, Path)),
    responses((status = 204), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn delete_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    OriginPath(origin): OriginPath,
) -> Result<StatusCode> {
    service.control().delete_origin(&caller, &tenant, &origin).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List a tenant's namespaces.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/namespaces", tag = "namespaces",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<Namespace>))))]
pub(crate) async fn namespaces(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
) -> Result<ReadResult<Items<Namespace>>> {
    Ok(ReadResult(Items { items: service.control().namespaces(&caller, &tenant)? }))
}

/// List the namespaces of all tenants that the token may see.
#[cfg_attr(test, utoipa::path(get, path = "/v1/namespaces", tag = "namespaces",
    responses((status = 200, body = Items<Namespace>))))]
pub(crate) async fn all_namespaces(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> ReadResult<Items<Namespace>> {
    ReadResult(Items { items: service.control().visible_namespaces(&caller) })
}

/// Create a namespace of a tenant.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tenants/{tenant}/namespaces", tag = "namespaces",
    params(("tenant" = String, Path)), request_body = CreateNamespace,
    responses((status = 201, body = Namespace), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn create_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    TenantPath(tenant): TenantPath,
    Json(request): Json<CreateNamespace>,
) -> Result<Response> {
    let CreateNamespace { name, policy } = &request;
    let namespace = service.control().create_namespace(&caller, &tenant, name, policy).await?;
    Ok(created(format!("/v1/tenants/{tenant}/namespaces/{}", namespace.name), namespace))
}

/// Show a namespace: its policy and contents.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = Namespace, description = "its ETag names the policy"), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
) -> Result<Response> {
    let namespace = service.control().namespace(&caller, &tenant, &name)?;
    let tag = policy_tag(&namespace.policy);
    Ok(with_tag(namespace, tag))
}

/// A changeable resource, with its entity tag.
fn with_tag(what: impl Serialize, tag: EntityTag) -> Response {
    let mut response = ReadResult(what).into_response();
    if let Ok(tag) = HeaderValue::try_from(tag.to_string()) {
        response.headers_mut().insert(ETAG, tag);
    }
    response
}

/// Change parts of a namespace's policy.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path),
        ("If-Match" = Option<String>, Header, description = "changes only the policy with this entity tag")),
    request_body = PolicyChange,
    responses((status = 200, body = Namespace),
        (status = 412, description = "the policy has changed since", body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn change_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
    headers: HeaderMap,
    Json(change): Json<PolicyChange>,
) -> Result<Response> {
    let expected = expected(&headers)?;
    let changed = service.control().change_namespace(&caller, &tenant, &name, &change, expected);
    let changed = changed.await?;
    let tag = policy_tag(&changed.policy);
    Ok(with_tag(changed, tag))
}

/// Delete a namespace and everything in it.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn delete_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, name): NamespacePath,
) -> Result<StatusCode> {
    service.control().delete_namespace(&caller, &tenant, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The maximum and default number of tokens on a page.
pub(crate) const MAX_TOKENS_LISTED: u16 = 1_000;

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct TokenQuery {
    /// The cursor of the previous page.
    cursor: Option<String>,
    /// The maximum number of tokens on the page, 1 to 1000; default 1000.
    limit: Option<u16>,
}

/// List tokens, without their secrets, oldest first, page by page.
#[cfg_attr(test, utoipa::path(get, path = "/v1/tokens", tag = "tokens", params(TokenQuery),
    responses((status = 200, body = ItemPage<Token>))))]
pub(crate) async fn tokens(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Query(query): Query<TokenQuery>,
) -> Result<ReadResult<ItemPage<Token>>> {
    let most = query.limit.unwrap_or(MAX_TOKENS_LISTED);
    if !(1..=MAX_TOKENS_LISTED).contains(&most) {
        return Err(Failure::invalid(format!(
            "a page of {most} tokens is out of range: use 1 to {MAX_TOKENS_LISTED}"
        )));
    }
    // An empty cursor means the first page.
    let cursor = query.cursor.as_deref().filter(|cursor| !cursor.is_empty());
    let after = cursor.map_or(Ok(0), str::parse);
    let after = after.map_err(|_| Failure::invalid("the cursor does not come from a page"))?;
    let items = service.control().tokens(&caller, after, most).await?;
    let last = items.last().filter(|_| items.len() == usize::from(most));
    let cursor = last.map(|token| token.id.to_string());
    Ok(ReadResult(ItemPage { items, cursor }))
}

/// Create a token; only this response contains its secret.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tokens", tag = "tokens", request_body = CreateToken,
    responses((status = 201, body = verax_api::CreatedToken), (status = 422, body = verax_api::Problem))))]
pub(crate) async fn create_token(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<CreateToken>,
) -> Result<Response> {
    let token = service.control().create_token(&caller, &request).await?;
    Ok(created(format!("/v1/tokens/{}", token.token.id), token))
}

/// Replace a token by another with the same scopes and note; the previous one stays valid for a
/// while. Only this response contains the new secret.
#[cfg_attr(test, utoipa::path(post, path = "/v1/tokens/{id}/rotate", tag = "tokens", params(("id" = u64, Path)),
    request_body = RotateToken,
    responses((status = 201, body = verax_api::RotatedToken), (status = 404, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn rotate_token(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
    Json(request): Json<RotateToken>,
) -> Result<Response> {
    let rotated = service.control().rotate_token(&caller, id, &request).await?;
    Ok(created(format!("/v1/tokens/{}", rotated.token.id), rotated))
}

/// Revoke a token.
#[cfg_attr(test, utoipa::path(delete, path = "/v1/tokens/{id}", tag = "tokens", params(("id" = u64, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem))))]
pub(crate) async fn revoke_token(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().revoke_token(&caller, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ActivityQuery {
    /// Only this tenant's activity; required without the scope `admin`.
    tenant: Option<String>,
    /// Only by actors whose description contains this.
    actor: Option<String>,
    /// Only actions that contain this, such as `namespace.change` or `delete`.
    action: Option<String>,
    /// Only of subjects that contain this.
    subject: Option<String>,
    /// Only since this moment.
    #[cfg_attr(test, param(value_type = Option<String>, format = DateTime))]
    since: Option<jiff::Timestamp>,
    /// Only before this moment.
    #[cfg_attr(test, param(value_type = Option<String>, format = DateTime))]
    until: Option<jiff::Timestamp>,
    /// The cursor of the previous page.
    cursor: Option<String>,
    /// The maximum number of rows, 1 to 500; default 50.
    limit: Option<u32>,
}

/// List who changed what, newest first, page by page.
#[cfg_attr(test, utoipa::path(get, path = "/v1/activity", tag = "activity", params(ActivityQuery),
    responses((status = 200, body = ItemPage<ActivityItem>))))]
pub(crate) async fn activity(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Query(query): Query<ActivityQuery>,
) -> Result<ReadResult<ItemPage<ActivityItem>>> {
    let tenant = query.tenant.map(Name::new).transpose();
    let tenant = tenant.map_err(|e| Failure::bad_request(e.to_string()))?;
    let before = query.cursor.filter(|cursor| !cursor.is_empty());
    let before = before.map(|cursor| {
        let wrong = |_| Failure::invalid("the cursor is not one of a previous page");
        cursor.parse::<u64>().map_err(wrong)
    });
    let moment = |at: jiff::Timestamp| {
        Timestamp::from_millis(u64::try_from(at.as_millisecond()).unwrap_or(0))
    };
    let filter = ActivityFilter {
        tenant,
        actor: query.actor,
        action: query.action,
        subject: query.subject,
        since: query.since.map(moment),
        until: query.until.map(moment),
        before: before.transpose()?,
        most: query.limit.unwrap_or(50),
    };
    let items = service.control().activity(&caller, &filter).await?;
    let is_full = items.len() >= filter.most as usize;
    let cursor = items.last().filter(|_| is_full).map(|last| last.id.to_string());
    Ok(ReadResult(ItemPage { items, cursor }))
}
