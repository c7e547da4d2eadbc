//! The faults of the demo's stand-in origin.

use std::sync::Arc;

use axum::extract::State;
use verax_api::{StandIn, StandInChange};
use verax_service::Service;

use crate::failure::Result;
use crate::http::authenticated::Authenticated;
use crate::http::extract::Json;

/// Show the faults of the demo's stand-in origin.
#[cfg_attr(test, utoipa::path(get, path = "/v1/stand-in", tag = "load",
    responses((status = 200, body = StandIn), (status = 409, body = verax_api::Problem))))]
pub(crate) async fn stand_in(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<axum::Json<StandIn>> {
    Ok(axum::Json(service.control().stand_in(&caller)?))
}

/// Change faults of the demo's stand-in origin.
#[cfg_attr(test, utoipa::path(patch, path = "/v1/stand-in", tag = "load", request_body = StandInChange,
    responses((status = 200, body = StandIn), (status = 409, body = verax_api::Problem),
        (status = 422, body = verax_api::Problem))))]
pub(crate) async fn change_stand_in(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    Json(change): Json<StandInChange>,
) -> Result<axum::Json<StandIn>> {
    Ok(axum::Json(service.control().change_stand_in(&caller, &change)?))
}
