//! Batches.

use std::sync::Arc;

use axum::extract::State;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use verax_api::{
    BatchAnswer, BatchFound, BatchOperation, BatchPut, BatchRequest, BatchResult, BatchValue,
};
use verax_control::ControlError;
use verax_core::entry::MediaType;
use verax_core::{Key, Precondition};
use verax_engine::cache::{
    MAX_BATCH_OPERATIONS, Operation, Outcome, PutRequest, ReadOptions, ReadResult, Stored,
    checked_tags,
};
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::entry_fields::{CacheStatus, cache_control_of, storable};
use crate::http::extract::{Json, NamespacePath};

/// Execute several operations.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/batch", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)),
    request_body = BatchRequest,
    responses((status = 200, body = BatchAnswer, description = "one result for each operation; failed ones stop no others"),
        (status = 422, description = "too many operations", body = verax_api::Problem))
))]
pub(crate) async fn batch(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Json(request): Json<BatchRequest>,
) -> Result<axum::Json<BatchAnswer>> {
    if request.operations.len() > MAX_BATCH_OPERATIONS {
        return Err(Failure::invalid(format!(
            "a batch of {} operations is out of range: use at most {MAX_BATCH_OPERATIONS}",
            request.operations.len()
        )));
    }
    let access = service.control().open_for_batch(&caller, &tenant, &namespace)?;
    let request_count = request.operations.len() as u64;
    // A malformed operation fails in its place; the others are executed.
    let (mut places, mut operations) = (Vec::new(), Vec::new());
    for operation in request.operations {
        match read_operation(operation) {
            Ok(operation) => {
                operations.push(operation);
                places.push(None);
            }
            Err(failure) => places.push(Some(BatchResult::Failed(failure.into_problem()))),
        }
    }
    access.charge_requests(request_count.saturating_sub(1));
    let mut outcomes = access.carry_out(operations).await.into_iter();
    let results =
        places.into_iter().filter_map(|failed| failed.or_else(|| outcomes.next().map(shown)));
    Ok(axum::Json(BatchAnswer { results: results.collect() }))
}

fn key(text: String) -> Result<Key> {
    Key::new(text).map_err(|e| Failure::bad_request(e.to_string()))
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
            let cache_control = storable(cache_control_of(field.as_deref())?)?;
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
        _ => Err(Failure::bad_request("send the value either as `text` or as `base64`")),
    }
}

fn written_value(value: &[u8]) -> BatchValue {
    match std::str::from_utf8(value) {
        Ok(text) => BatchValue { text: Some(text.to_owned()), base64: None },
        Err(_) => BatchValue { text: None, base64: Some(STANDARD.encode(value)) },
    }
}

fn found(answer: &ReadResult) -> BatchFound {
    BatchFound {
        value: written_value(&answer.entry.value),
        media_type: answer.entry.media_type.to_string(),
        entity_tag: answer.entry.entity_tag().to_string(),
        age_seconds: answer.age.as_secs_f64(),
        cache_status: CacheStatus(answer).to_string(),
    }
}

fn shown(outcome: Outcome<ControlError>) -> BatchResult {
    let failed = |error| BatchResult::Failed(Failure::from(error).into_problem());
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
