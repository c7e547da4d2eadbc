//! Tags.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use verax_api::Removal;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{NamespacePath, Query, WithTag};

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct InvalidateQuery {
    /// Whether only to count them.
    #[serde(default)]
    dry_run: bool,
}

/// Invalidate every entry with a tag.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/tags/{tag}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("tag" = String, Path), InvalidateQuery),
    responses((status = 204, description = "every entry with this tag is invalidated"),
        (status = 200, description = "how many entries have it, for a dry run", body = Removal))
))]
pub(crate) async fn invalidate(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithTag(tag): WithTag,
    Query(query): Query<InvalidateQuery>,
) -> Result<Response> {
    let deleter = service.control().open_deleter(&caller, &tenant, &namespace)?;
    if query.dry_run {
        let entries = deleter.count_tag(&tag).await.entries;
        return Ok(axum::Json(Removal { entries, dry_run: true }).into_response());
    }
    deleter.invalidate_tag(&tag);
    Ok(StatusCode::NO_CONTENT.into_response())
}
