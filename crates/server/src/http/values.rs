//! Responses to reads.

use std::time::Instant;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use verax_api::FailureKind;
use verax_engine::EngineError;
use verax_engine::cache::ReadResult;
use verax_engine::in_flight::{InFlightBudget, InFlightReservation, SMALL};

use super::entry_fields::{CACHE_STATUS, describe_answer, has_current};
use crate::failure::{Failure, Result};

/// A response with a value, or without it if the caller already has it.
pub(crate) fn with_value(
    in_flight: &InFlightBudget,
    headers: &HeaderMap,
    answer: &ReadResult,
    started: Instant,
) -> Result<Response> {
    let mut response = match has_current(headers, answer.entry.entity_tag()) {
        true => StatusCode::NOT_MODIFIED.into_response(),
        false => outgoing(in_flight, &answer.entry.value)?.into_response(),
    };
    describe_answer(response.headers_mut(), answer, started.elapsed());
    Ok(response)
}

/// A value with its in-flight reservation.
struct Outgoing {
    value: Bytes,
    _place: InFlightReservation,
}

impl AsRef<[u8]> for Outgoing {
    fn as_ref(&self) -> &[u8] {
        &self.value
    }
}

/// A value as a body, which holds its reservation until it is sent.
fn outgoing(in_flight: &InFlightBudget, value: &Bytes) -> Result<Body> {
    if value.len() <= SMALL {
        return Ok(Body::from(value.clone()));
    }
    let place = in_flight.reserve(value.len())?;
    Ok(Body::from(Bytes::from_owner(Outgoing { value: value.clone(), _place: place })))
}

pub(crate) fn miss() -> Response {
    let detail = "the cache has no entry with this key";
    let mut response = Failure::new(FailureKind::Miss, detail).into_response();
    response.headers_mut().insert(CACHE_STATUS, HeaderValue::from_static("verax; fwd=uri-miss"));
    response
}

pub(crate) fn failed_read(error: EngineError) -> Response {
    let status = match &error {
        EngineError::NegativeResult { left } => {
            Some(format!("verax; hit; ttl={}; detail=no-value", left.as_secs()))
        }
        EngineError::Origin(origin) => Some(match origin.status() {
            Some(status) => format!("verax; fwd=uri-miss; fwd-status={status}"),
            None => format!("verax; fwd=uri-miss; detail={}", origin.kind()),
        }),
        _ => None,
    };
    let mut response = Failure::from(error).into_response();
    if let Some(Ok(status)) = status.map(HeaderValue::try_from) {
        response.headers_mut().insert(CACHE_STATUS, status);
    }
    response
}
