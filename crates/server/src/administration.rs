//! Tenants, origins, namespaces, tokens and activity.

use std::sync::Arc;

use axum::Json as Answer;
use axum::extract::State;
use axum::http::header::{ETAG, LOCATION};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use verax_api::{
    ActivityItem, CreateNamespace, CreateOrigin, CreateTenant, CreateToken, CreatedToken, Items,
    Namespace, Origin, OriginChange, PolicyChange, Tenant, Token,
};
use verax_control::{ExpectedPolicy, policy_tag};
use verax_core::{Name, Precondition};
use verax_service::Service;

use crate::authenticated::Authenticated;
use crate::entry_fields::condition;
use crate::extract::{Ask, InNamespace, InTenant, Json, OfOrigin, WithId};
use crate::problem::{Failure, Result};

type Verax = State<Arc<Service>>;

fn created(location: String, body: impl Serialize) -> Response {
    (StatusCode::CREATED, [(LOCATION, location)], Answer(body)).into_response()
}

/// List the tenants that the token opens something of.
#[utoipa::path(get, path = "/v1/tenants", tag = "tenants",
    responses((status = 200, body = Items<Tenant>)))]
pub(crate) async fn tenants(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Answer<Items<Tenant>> {
    Answer(Items { items: service.control().tenants(&caller) })
}

/// Create a tenant.
#[utoipa::path(post, path = "/v1/tenants", tag = "tenants", request_body = CreateTenant,
    responses((status = 201, body = Tenant), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn create_tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<CreateTenant>,
) -> Result<Response> {
    let tenant = service.control().create_tenant(&caller, &request.name).await?;
    Ok(created(format!("/v1/tenants/{}", tenant.name), tenant))
}

/// Delete a tenant that owns nothing any more.
#[utoipa::path(delete, path = "/v1/tenants/{tenant}", tag = "tenants",
    params(("tenant" = String, Path)),
    responses((status = 204), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn delete_tenant(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
) -> Result<StatusCode> {
    service.control().delete_tenant(&caller, &tenant).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List a tenant's origins.
#[utoipa::path(get, path = "/v1/tenants/{tenant}/origins", tag = "origins",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<Origin>)))]
pub(crate) async fn origins(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
) -> Result<Answer<Items<Origin>>> {
    Ok(Answer(Items { items: service.control().origins(&caller, &tenant)? }))
}

/// Create an origin of a tenant.
#[utoipa::path(post, path = "/v1/tenants/{tenant}/origins", tag = "origins",
    params(("tenant" = String, Path)), request_body = CreateOrigin,
    responses((status = 201, body = Origin), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn create_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
    Json(request): Json<CreateOrigin>,
) -> Result<Response> {
    let origin = service.control().create_origin(&caller, &tenant, &request).await?;
    Ok(created(format!("/v1/tenants/{tenant}/origins/{}", origin.name), origin))
}

/// Change parts of an origin's settings.
#[utoipa::path(patch, path = "/v1/tenants/{tenant}/origins/{origin}", tag = "origins",
    params(("tenant" = String, Path), ("origin" = String, Path)), request_body = OriginChange,
    responses((status = 200, body = Origin), (status = 422, body = verax_api::Problem)))]
pub(crate) async fn change_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
    OfOrigin(origin): OfOrigin,
    Json(change): Json<OriginChange>,
) -> Result<Answer<Origin>> {
    Ok(Answer(service.control().change_origin(&caller, &tenant, &origin, &change).await?))
}

/// Delete an origin that no namespace is bound to.
#[utoipa::path(delete, path = "/v1/tenants/{tenant}/origins/{origin}", tag = "origins",
    params(("tenant" = String, Path), ("origin" = String, Path)),
    responses((status = 204), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn delete_origin(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
    OfOrigin(origin): OfOrigin,
) -> Result<StatusCode> {
    service.control().delete_origin(&caller, &tenant, &origin).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List a tenant's namespaces.
#[utoipa::path(get, path = "/v1/tenants/{tenant}/namespaces", tag = "namespaces",
    params(("tenant" = String, Path)), responses((status = 200, body = Items<Namespace>)))]
pub(crate) async fn namespaces(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
) -> Result<Answer<Items<Namespace>>> {
    Ok(Answer(Items { items: service.control().namespaces(&caller, &tenant)? }))
}

/// Create a namespace of a tenant.
#[utoipa::path(post, path = "/v1/tenants/{tenant}/namespaces", tag = "namespaces",
    params(("tenant" = String, Path)), request_body = CreateNamespace,
    responses((status = 201, body = Namespace), (status = 409, body = verax_api::Problem)))]
pub(crate) async fn create_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InTenant(tenant): InTenant,
    Json(request): Json<CreateNamespace>,
) -> Result<Response> {
    let CreateNamespace { name, policy } = &request;
    let namespace = service.control().create_namespace(&caller, &tenant, name, policy).await?;
    Ok(created(format!("/v1/tenants/{tenant}/namespaces/{}", namespace.name), namespace))
}

/// Show a namespace: its policy, and what it holds.
#[utoipa::path(get, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 200, body = Namespace, description = "its ETag names the policy"), (status = 404, body = verax_api::Problem)))]
pub(crate) async fn namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, name): InNamespace,
) -> Result<Response> {
    Ok(with_tag(service.control().namespace(&caller, &tenant, &name)?))
}

/// A namespace, with its policy's entity tag.
fn with_tag(namespace: Namespace) -> Response {
    let tag = HeaderValue::try_from(policy_tag(&namespace.policy).to_string());
    let mut response = Answer(namespace).into_response();
    if let Ok(tag) = tag {
        response.headers_mut().insert(ETAG, tag);
    }
    response
}

/// Change parts of a namespace's policy.
#[utoipa::path(patch, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path),
        ("If-Match" = Option<String>, Header, description = "changes only the policy with this entity tag")),
    request_body = PolicyChange,
    responses((status = 200, body = Namespace),
        (status = 412, description = "the policy is another one by now", body = verax_api::Problem),
        (status = 422, body = verax_api::Problem)))]
pub(crate) async fn change_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, name): InNamespace,
    headers: HeaderMap,
    Json(change): Json<PolicyChange>,
) -> Result<Response> {
    let expected = match condition(&headers)? {
        Precondition::Always | Precondition::IfPresent => ExpectedPolicy::Any,
        Precondition::IfMatches(tags) => ExpectedPolicy::OneOf(tags),
        // There is one.
        Precondition::IfAbsent => ExpectedPolicy::OneOf(Vec::new()),
        Precondition::UnlessMatches(_) | Precondition::IfRevision(_) => {
            return Err(Failure::invalid("send If-Match with the ETag of the policy to change"));
        }
    };
    let changed = service.control().change_namespace(&caller, &tenant, &name, &change, expected);
    Ok(with_tag(changed.await?))
}

/// Delete a namespace and everything in it.
#[utoipa::path(delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}", tag = "namespaces",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem)))]
pub(crate) async fn delete_namespace(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, name): InNamespace,
) -> Result<StatusCode> {
    service.control().delete_namespace(&caller, &tenant, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// List tokens, without their secrets.
#[utoipa::path(get, path = "/v1/tokens", tag = "tokens",
    responses((status = 200, body = Items<Token>)))]
pub(crate) async fn tokens(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> Result<Answer<Items<Token>>> {
    Ok(Answer(Items { items: service.control().tokens(&caller).await? }))
}

/// Create a token; its secret is in this answer and nowhere else.
#[utoipa::path(post, path = "/v1/tokens", tag = "tokens", request_body = CreateToken,
    responses((status = 201, body = CreatedToken), (status = 422, body = verax_api::Problem)))]
pub(crate) async fn create_token(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Json(request): Json<CreateToken>,
) -> Result<Response> {
    let token = service.control().create_token(&caller, &request.scopes, &request.note).await?;
    Ok(created(format!("/v1/tokens/{}", token.token.id), token))
}

/// Revoke a token.
#[utoipa::path(delete, path = "/v1/tokens/{id}", tag = "tokens", params(("id" = u64, Path)),
    responses((status = 204), (status = 404, body = verax_api::Problem)))]
pub(crate) async fn revoke_token(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    WithId(id): WithId,
) -> Result<StatusCode> {
    service.control().revoke_token(&caller, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ActivityQuery {
    /// Only this tenant's; needed without the scope `admin`.
    tenant: Option<String>,
    /// The most rows, 1 to 500; 50 when absent.
    limit: Option<u32>,
}

/// List who changed what, newest first.
#[utoipa::path(get, path = "/v1/activity", tag = "activity", params(ActivityQuery),
    responses((status = 200, body = Items<ActivityItem>)))]
pub(crate) async fn activity(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Ask(query): Ask<ActivityQuery>,
) -> Result<Answer<Items<ActivityItem>>> {
    let tenant = query.tenant.map(Name::new).transpose();
    let tenant = tenant.map_err(|e| Failure::bad_request(e.to_string()))?;
    let items = service.control().activity(&caller, tenant, query.limit.unwrap_or(50)).await?;
    Ok(Answer(Items { items }))
}
