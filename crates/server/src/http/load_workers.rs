//! Workers of other machines, which join to generate the load of runs.
//!
//! The connection of a worker changes to another protocol (RFC 9110, section 7.8): lines that the
//! worker and the run that takes it exchange. Until then the worker sends an empty line now and
//! then, to say that it is there.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Request, State};
use axum::http::header::{CONNECTION, UPGRADE};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use hyper::upgrade::{OnUpgrade, Upgraded};
use hyper_util::rt::TokioIo;
use serde::Deserialize;
use tokio::io::AsyncReadExt;
use verax_api::{FailureKind, Items, JoinedWorker, LOAD_WORKER_PROTOCOL};
use verax_control::Role;
use verax_control::runs::WorkerPlace;
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::{Access, Authenticated};
use crate::http::extract::Query;

type Verax = State<Arc<Service>>;

/// A waiting worker that says nothing for this long is gone.
const SILENCE: Duration = Duration::from_secs(20);

/// List the workers that have joined.
#[cfg_attr(test, utoipa::path(get, path = "/v1/load-workers", tag = "load",
    responses((status = 200, body = Items<JoinedWorker>))))]
pub(crate) async fn joined(
    State(service): Verax,
    Authenticated(caller): Authenticated,
) -> axum::Json<Items<JoinedWorker>> {
    axum::Json(Items { items: service.control().joined_workers(&caller) })
}

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct JoinOptions {
    /// What the worker is named, usually after its machine.
    name: String,
}

/// Join as a worker. The connection changes to the protocol `verax-load-worker`.
#[cfg_attr(test, utoipa::path(post, path = "/v1/load-workers", tag = "load", params(JoinOptions),
    responses((status = 101, description = "the worker has joined"),
        (status = 422, body = verax_api::Problem), (status = 426, body = verax_api::Problem))))]
pub(crate) async fn join(
    State(service): Verax,
    Authenticated(caller): Authenticated,
    Query(options): Query<JoinOptions>,
    mut request: Request,
) -> Result<Response> {
    let access = match request.extensions().get() {
        Some(Ok::<Access, verax_control::ControlError>(access)) => access.clone(),
        _ => return Err(Failure::bad_request("nobody is known to make this request")),
    };
    let place = service.control().join_load_worker(&caller, &options.name)?;
    let upgrade = request.extensions_mut().remove::<OnUpgrade>();
    let Some(upgrade) = upgrade.filter(|_| asks_for_protocol(request.headers())) else {
        let detail =
            format!("this is for `verax load worker`, which asks for {LOAD_WORKER_PROTOCOL}");
        let mut response = Failure::new(FailureKind::UpgradeRequired, detail).into_response();
        let protocol = HeaderValue::from_static(LOAD_WORKER_PROTOCOL);
        response.headers_mut().insert(UPGRADE, protocol);
        return Ok(response);
    };
    let mut stopping = service.stopping();
    tokio::spawn(async move {
        let worked = async {
            // It may be gone already.
            if let Ok(connection) = upgrade.await {
                carry(&service, connection, place).await;
            }
        };
        tokio::select! {
            () = worked => {}
            () = access.ended() => {}
            _ = stopping.wait_for(|stopping| *stopping) => {}
        }
    });
    let headers = [(CONNECTION, "upgrade"), (UPGRADE, LOAD_WORKER_PROTOCOL)];
    Ok((StatusCode::SWITCHING_PROTOCOLS, headers).into_response())
}

fn asks_for_protocol(headers: &HeaderMap) -> bool {
    let mut protocols = headers.get_all(UPGRADE).iter().filter_map(|field| field.to_str().ok());
    protocols.any(|field| field.split(',').any(|one| one.trim() == LOAD_WORKER_PROTOCOL))
}

/// Waits until a run takes the worker, then carries what they say to each other.
async fn carry(service: &Service, connection: Upgraded, mut place: WorkerPlace) {
    let (mut from_worker, mut to_worker) = tokio::io::split(TokioIo::new(connection));
    let mut heard = [0; 64];
    let run = loop {
        tokio::select! {
            run = place.taken() => match run {
                Some(run) => break run,
                None => return,
            },
            read = tokio::time::timeout(SILENCE, from_worker.read(&mut heard)) => match read {
                // Only empty lines: it has been told nothing.
                Ok(Ok(bytes)) if bytes > 0 && heard[..bytes].iter().all(|byte| *byte == b'\n') => {
                    // At a standby no run would ever take it: it joins the active node.
                    if service.control().role() == Role::Standby {
                        return;
                    }
                }
                _ => return,
            },
        }
    };
    let (mut from_run, mut to_run) = tokio::io::split(run);
    tokio::select! {
        _ = tokio::io::copy(&mut from_worker, &mut to_run) => {}
        _ = tokio::io::copy(&mut from_run, &mut to_worker) => {}
    }
}
