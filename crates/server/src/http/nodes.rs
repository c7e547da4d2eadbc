//! The nodes that use the same records, and the routes of a standby.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use verax_api::{Items, Node};
use verax_control::NodeState;
use verax_engine::EngineError;
use verax_service::Service;

use crate::failure::Failure;
use crate::http::authenticated::Authenticated;

/// The routes a standby serves itself: the session, the nodes, and live samples.
const AT_STANDBY: [&str; 4] = ["/v1/session", "/v1/sign-in-links", "/v1/nodes", "/v1/live"];

/// List the nodes that use the same records: the active one and the standbys.
#[cfg_attr(test, utoipa::path(get, path = "/v1/nodes", tag = "health", responses((status = 200, body = Items<Node>))))]
pub(crate) async fn list(
    State(service): State<Arc<Service>>,
    Authenticated(_caller): Authenticated,
) -> Json<Items<Node>> {
    let this = service.control().node().map(|node| node.id);
    let topology = service.control().topology();
    let nodes = topology.nodes.iter().map(|(node, state)| Node {
        id: node.id.to_string(),
        state: state_name(*state).into(),
        this: Some(node.id) == this,
        http: node.http.clone(),
        wire: node.wire.clone(),
        version: node.version.clone(),
    });
    Json(Items { items: nodes.collect() })
}

fn state_name(state: NodeState) -> &'static str {
    match state {
        NodeState::Active => "active",
        NodeState::Standby => "standby",
        NodeState::Away => "away",
    }
}

/// Refuses a request that only the active node serves; `None` for one that a standby serves too.
/// Only authenticated callers learn the active node's address.
pub(crate) fn refuse_at_standby(
    path: &str,
    signed_in: bool,
    service: &Service,
) -> Option<Response> {
    if !path.starts_with("/v1/") || AT_STANDBY.contains(&path) {
        return None;
    }
    let mut failure = Failure::from(EngineError::Standby);
    let topology = service.control().topology();
    if signed_in && let Some(active) = topology.active().filter(|node| !node.http.is_empty()) {
        failure = failure.with("active", active.http.clone());
    }
    Some(failure.into_response())
}
