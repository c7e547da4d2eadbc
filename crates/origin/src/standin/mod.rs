//! The stand-in: an HTTP service whose faults can be set while it runs.
//!
//! [`around`] wraps a real service with delays, a limit on concurrency, errors and outages. `GET
//! /standin` shows the settings and counts, `PUT /standin` changes settings.

mod faults;

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::StatusCode;
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde_json::json;

pub use faults::{Counts, FaultSettings, InvalidFault, Standin};

/// The service with faults, and the handle that sets them.
pub fn around(service: Router) -> (Router, Arc<Standin>) {
    let standin = Arc::new(Standin::default());
    let control =
        Router::new().route("/standin", get(show).put(change)).with_state(Arc::clone(&standin));
    let faulty = service.layer(from_fn_with_state(Arc::clone(&standin), answer));
    (faulty.merge(control), standin)
}

async fn show(State(standin): State<Arc<Standin>>) -> Json<serde_json::Value> {
    Json(json!({ "settings": standin.settings(), "counts": standin.counts() }))
}

async fn change(
    State(standin): State<Arc<Standin>>,
    Json(change): Json<serde_json::Value>,
) -> Response {
    match standin.change(&change) {
        Ok(settings) => Json(settings).into_response(),
        Err(error) => (StatusCode::UNPROCESSABLE_ENTITY, error.to_string()).into_response(),
    }
}

async fn answer(State(standin): State<Arc<Standin>>, request: Request, next: Next) -> Response {
    let call = standin.begin();
    let settings = standin.settings();
    tokio::time::sleep(std::time::Duration::from_millis(settings.extra_latency_ms)).await;
    if settings.outage {
        return (StatusCode::SERVICE_UNAVAILABLE, "the stand-in is set to an outage")
            .into_response();
    }
    if settings.concurrency_limit.is_some_and(|limit| call.at_once > limit) {
        return (StatusCode::SERVICE_UNAVAILABLE, "the stand-in is busy").into_response();
    }
    if rand::random::<f64>() < settings.error_rate {
        return (StatusCode::INTERNAL_SERVER_ERROR, "the stand-in is set to fail").into_response();
    }
    next.run(request).await
}
