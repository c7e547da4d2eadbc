//! What can be done beyond reading and storing one value: batches, tags, counters, allowances.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::HeaderValue;
use axum::http::header::RETRY_AFTER;
use axum::response::{IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use verax_api::{
    AddRequest, Allowance, BatchAnswer, BatchFound, BatchOperation, BatchPut, BatchRequest,
    BatchResult, BatchValue, Counter, TakeRequest, duration_of,
};
use verax_control::ControlError;
use verax_core::entry::MediaType;
use verax_core::lifetime::CacheControl;
use verax_core::store::{Rate, Taken};
use verax_core::{Key, Precondition};
use verax_engine::EngineError;
use verax_engine::cache::{
    Answer, LARGEST_BATCH, Operation, Outcome, PutRequest, ReadOptions, Stored, checked_tags,
};
use verax_service::Service;

use crate::authenticated::Authenticated;
use crate::entry_fields::{CacheStatus, storable};
use crate::extract::{InNamespace, Json, WithKey, WithTag};
use crate::problem::{Failure, Result};

/// Carry out several operations.
#[utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/batch", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    request_body = BatchRequest,
    responses((status = 200, body = BatchAnswer, description = "one result for each operation; failed ones stop no others"),
        (status = 422, description = "too many operations", body = verax_api::Problem))
)]
pub(crate) async fn batch(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, namespace): InNamespace,
    Json(request): Json<BatchRequest>,
) -> Result<axum::Json<BatchAnswer>> {
    if request.operations.len() > LARGEST_BATCH {
        return Err(Failure::from(EngineError::Invalid(format!(
            "a batch of {} operations is out of range: use at most {LARGEST_BATCH}",
            request.operations.len()
        ))));
    }
    let access = service.control().open_for_batch(&caller, &tenant, &namespace)?;
    // What cannot be understood is answered in its place, beside what can.
    let (mut places, mut operations) = (Vec::new(), Vec::new());
    for operation in request.operations {
        match read_operation(operation) {
            Ok(operation) => {
                operations.push(operation);
                places.push(None);
            }
            Err(failure) => places.push(Some(BatchResult::Failed(*failure.0))),
        }
    }
    let mut outcomes = access.carry_out(operations).await.into_iter();
    let results =
        places.into_iter().filter_map(|failed| failed.or_else(|| outcomes.next().map(shown)));
    Ok(axum::Json(BatchAnswer { results: results.collect() }))
}

fn key(text: String) -> Result<Key> {
    Key::new(text).map_err(|e| Failure::bad_request(e.to_string()))
}

fn cache_control(field: Option<&str>) -> Result<CacheControl> {
    CacheControl::parse(field.unwrap_or("")).map_err(|e| Failure::bad_request(e.to_string()))
}

fn read_operation(operation: BatchOperation) -> Result<Operation> {
    Ok(match operation {
        BatchOperation::Get { key: text } => Operation::Get(key(text)?, ReadOptions::default()),
        BatchOperation::Delete { key: text } => Operation::Delete(key(text)?),
        BatchOperation::Put(put) => {
            let BatchPut { key: text, value, media_type, cache_control: field, tags } = put;
            let usual = match &value.text {
                Some(_) => "text/plain; charset=utf-8",
                None => "application/octet-stream",
            };
            let tags = checked_tags(tags.iter().map(String::as_str));
            let cache_control = storable(cache_control(field.as_deref())?)?;
            let request = PutRequest {
                value: read_value(value)?,
                media_type: MediaType::parse(media_type.as_deref().unwrap_or(usual))
                    .map_err(|e| Failure::bad_request(e.to_string()))?,
                cache_control,
                tags: tags.map_err(|e| Failure::bad_request(e.to_string()))?,
                condition: Precondition::Always,
            };
            Operation::Put(key(text)?, request)
        }
    })
}

fn read_value(value: BatchValue) -> Result<Bytes> {
    match (value.text, value.base64) {
        (Some(text), None) => Ok(text.into()),
        (None, Some(text)) => match STANDARD.decode(text) {
            Ok(bytes) => Ok(bytes.into()),
            Err(error) => Err(Failure::bad_request(format!("the value is not base64: {error}"))),
        },
        _ => Err(Failure::bad_request("give the value as `text` or as `base64`, one of them")),
    }
}

fn written_value(value: &[u8]) -> BatchValue {
    match std::str::from_utf8(value) {
        Ok(text) => BatchValue { text: Some(text.to_owned()), base64: None },
        Err(_) => BatchValue { text: None, base64: Some(STANDARD.encode(value)) },
    }
}

fn found(answer: &Answer) -> BatchFound {
    BatchFound {
        value: written_value(&answer.entry.value),
        media_type: answer.entry.media_type.to_string(),
        entity_tag: answer.entry.entity_tag().to_string(),
        age_seconds: answer.age.as_secs_f64(),
        cache_status: CacheStatus(answer).to_string(),
    }
}

fn shown(outcome: Outcome<ControlError>) -> BatchResult {
    let failed = |error| BatchResult::Failed(*Failure::from(error).0);
    match outcome {
        Outcome::Got(Ok(Some(answer))) => BatchResult::Value(found(&answer)),
        Outcome::Got(Ok(None)) => BatchResult::Miss {},
        Outcome::Put(Ok(Stored { entry, replaced })) => {
            BatchResult::Stored { entity_tag: entry.entity_tag().to_string(), replaced }
        }
        Outcome::Deleted(Ok(was_there)) => BatchResult::Deleted { was_there },
        Outcome::Got(Err(error)) | Outcome::Put(Err(error)) | Outcome::Deleted(Err(error)) => {
            failed(error)
        }
    }
}

/// Invalidate everything that carries a tag.
#[utoipa::path(
    delete, path = "/v1/tenants/{tenant}/namespaces/{namespace}/tags/{tag}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("tag" = String, Path)),
    responses((status = 204, description = "nothing that was stored with this tag is served any more"))
)]
pub(crate) async fn invalidate_tag(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, namespace): InNamespace,
    WithTag(tag): WithTag,
) -> Result<axum::http::StatusCode> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    writer.invalidate_tag(&tag);
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// Add to a counter, creating it where there is none.
#[utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/counters/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    request_body = AddRequest,
    responses((status = 200, body = Counter),
        (status = 409, description = "the entry is not a number, or the sum is beyond 64 bits", body = verax_api::Problem))
)]
pub(crate) async fn add(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, namespace): InNamespace,
    WithKey(key): WithKey,
    Json(request): Json<AddRequest>,
) -> Result<axum::Json<Counter>> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let lifetime = cache_control(request.cache_control.as_deref())?;
    let counted = writer.add(&key, request.add, lifetime);
    let counted = counted.map_err(|error| wrong_kind(&error))?;
    Ok(axum::Json(Counter { value: counted.value, created: counted.created }))
}

/// What is there is no such thing, or too large a number.
fn wrong_kind(error: &dyn std::fmt::Display) -> Failure {
    Failure::new("wrong-kind", "The entry is something else", 409, error.to_string())
}

/// Take from an allowance, if there is enough.
#[utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/allowances/{key}", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ("key" = String, Path)),
    request_body = TakeRequest,
    responses((status = 200, body = Allowance, description = "it was taken"),
        (status = 409, description = "the entry is not an allowance", body = verax_api::Problem),
        (status = 422, description = "the rate is out of range, or more than the burst was asked for", body = verax_api::Problem),
        (status = 429, description = "nothing was taken; Retry-After and `retry_after_seconds` say when to come back", body = verax_api::Problem))
)]
pub(crate) async fn take(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    InNamespace(tenant, namespace): InNamespace,
    WithKey(key): WithKey,
    Json(request): Json<TakeRequest>,
) -> Result<Response> {
    let writer = service.control().open_writer(&caller, &tenant, &namespace)?;
    let invalid = |e: &dyn std::fmt::Display| Failure::from(EngineError::Invalid(e.to_string()));
    let period = duration_of("period_seconds", request.period_seconds).map_err(|e| invalid(&e))?;
    let burst = request.burst.unwrap_or(request.rate);
    let rate = Rate::new(request.rate, period, burst).map_err(|e| invalid(&e))?;
    match writer.take(&key, request.take, rate) {
        Ok(Taken::Allowed { left }) => Ok(axum::Json(Allowance { left }).into_response()),
        Ok(Taken::Later { retry_after }) => Ok(spent(retry_after)),
        Err(error @ verax_core::store::TakeError::NotAnAllowance) => Err(wrong_kind(&error)),
        Err(error) => Err(invalid(&error)),
    }
}

fn spent(retry_after: Duration) -> Response {
    let seconds = retry_after.as_secs_f64();
    let detail = format!("nothing was taken; come back in {seconds} s");
    let failure = Failure::new("spent", "The allowance is spent", 429, detail);
    let problem = failure.0.with("retry_after_seconds", seconds);
    let mut response = Failure(Box::new(problem)).into_response();
    // The field counts whole seconds; the member is exact.
    response
        .headers_mut()
        .insert(RETRY_AFTER, HeaderValue::from(retry_after.as_secs_f64().ceil() as u64));
    response
}
