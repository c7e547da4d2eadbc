//! Tags.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::{NamespacePath, WithTag};

/// Invalidate every entry with a tag.
#[cfg_attr(test, utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/tags/{tag}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("tag" = String, Path)),
    responses((status = 204, description = "every entry with this tag is invalidated"))
))]
pub(crate) async fn invalidate(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    WithTag(tag): WithTag,
) -> Result<StatusCode> {
    let deleter = service.control().open_deleter(&caller, &tenant, &namespace)?;
    deleter.invalidate_tag(&tag);
    Ok(StatusCode::NO_CONTENT)
}
