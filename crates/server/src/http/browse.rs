//! A look inside a namespace: listings, samples, searches and checks of its entries.

use std::sync::Arc;

use axum::extract::State;
use serde::Deserialize;
use verax_api::{
    CheckRequest, CheckStep, EntryPage, EntrySummary, FoundEntry, SampleSize, SearchRequest,
    SearchStep,
};
use verax_core::store::{EntryFilter, EntryOrder, ListedEntry, Position};
use verax_core::value_filter::ValueFilter;
use verax_core::{Freshness, Key, Timestamp};
use verax_engine::Reader;
use verax_engine::cache::MAX_PAGE_ENTRIES;
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;
use crate::http::extract::{Json, NamespacePath, Query};

const DEFAULT_PAGE: usize = 100;

#[derive(Debug, Deserialize)]
#[cfg_attr(test, derive(utoipa::IntoParams))]
#[cfg_attr(test, into_params(parameter_in = Query))]
#[serde(deny_unknown_fields)]
pub(crate) struct ListQuery {
    /// Only the entry with exactly this key.
    key: Option<String>,
    /// Only keys that start with this.
    #[serde(default)]
    prefix: String,
    /// Only entries with this tag.
    tag: Option<String>,
    /// Only entries in this state: `fresh`, `ends-soon` (fresh for at most 60 seconds), or `stale`.
    #[cfg_attr(test, param(pattern = "^(fresh|ends-soon|stale)$"))]
    state: Option<String>,
    /// The first entries in this order, of a bounded sample: `largest`, `smallest`, `oldest`,
    /// `newest`, `ends-first`, or `ends-last`. There is no cursor then.
    #[cfg_attr(test, param(pattern = "^(largest|smallest|oldest|newest|ends-first|ends-last)$"))]
    order: Option<String>,
    /// The cursor of the previous page.
    cursor: Option<String>,
    /// The maximum number of entries on the page, 1 to 1000; default 100.
    limit: Option<usize>,
}

/// A number of entries on a page.
fn page_size(limit: Option<usize>) -> Result<usize> {
    let most = limit.unwrap_or(DEFAULT_PAGE);
    match (1..=MAX_PAGE_ENTRIES).contains(&most) {
        true => Ok(most),
        false => Err(Failure::invalid(format!(
            "a page of {most} entries is out of range: use 1 to {MAX_PAGE_ENTRIES}"
        ))),
    }
}

/// Where a page or step begins. An empty cursor means the first, as in the wire protocol.
fn position(cursor: Option<&str>) -> Result<Position> {
    let cursor = cursor.filter(|cursor| !cursor.is_empty());
    cursor.map_or(Ok(Position::default()), str::parse).map_err(Failure::invalid)
}

/// List entries, page by page; each page is in the order of its keys. With `order`, list the first
/// entries of a sample in that order.
#[cfg_attr(test, utoipa::path(
    get, path = "/v1/tenants/{tenant}/namespaces/{namespace}/entries", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path), ListQuery),
    responses((status = 200, body = EntryPage))
))]
pub(crate) async fn list(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Query(query): Query<ListQuery>,
) -> Result<axum::Json<EntryPage>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let (now, most) = (service.engine().now(), page_size(query.limit)?);
    let from = position(query.cursor.as_deref())?;
    let state = query.state.as_deref().map(str::parse).transpose().map_err(Failure::invalid)?;
    let filter = EntryFilter { prefix: &query.prefix, tag: query.tag.as_deref(), state };
    let page = match (query.key, query.order) {
        (Some(text), _) => {
            let key = Key::new(text).map_err(|e| Failure::bad_request(e.to_string()))?;
            let items = reader.show(&key, now).iter().map(|listed| summary(listed, now)).collect();
            EntryPage { items, sample: None, cursor: None }
        }
        (None, Some(order)) if from == Position::default() => {
            let order = order.parse().map_err(Failure::invalid)?;
            sampled(&reader, &filter, order, most, now)?
        }
        (None, Some(_)) => {
            return Err(Failure::invalid("a sample has one page: send order or cursor, not both"));
        }
        (None, None) => {
            let listing = reader.list(&filter, from, most, now)?;
            let items = listing.entries.iter().map(|listed| summary(listed, now)).collect();
            let cursor = listing.next.map(|next| next.to_string());
            EntryPage { items, sample: None, cursor }
        }
    };
    Ok(axum::Json(page))
}

fn sampled(
    reader: &Reader,
    filter: &EntryFilter<'_>,
    order: EntryOrder,
    most: usize,
    now: Timestamp,
) -> Result<EntryPage> {
    let sample = reader.sample(filter, order, most, now)?;
    let items = sample.entries.iter().map(|listed| summary(listed, now)).collect();
    let size = SampleSize {
        looked_at: sample.looked_at,
        of: reader.usage().entries.max(sample.looked_at),
        is_whole: sample.is_whole,
    };
    Ok(EntryPage { items, sample: Some(size), cursor: None })
}

fn summary(listed: &ListedEntry, now: Timestamp) -> EntrySummary {
    let found = &listed.found;
    EntrySummary {
        key: found.key().to_owned(),
        value_bytes: found.value_length() as u64,
        memory_bytes: listed.size,
        media_type: found.media_type().to_string(),
        entity_tag: found.entity_tag().to_string(),
        revision: found.revision().number(),
        tags: found.tags().iter().map(|t| t.to_string()).collect(),
        age_seconds: now.since(found.stored_at()).as_secs_f64(),
        time_left_seconds: match found.freshness() {
            Freshness::Fresh(left) => left.as_secs_f64(),
            Freshness::Stale(since) | Freshness::OnlyOnError(since) => -since.as_secs_f64(),
            Freshness::Ended => 0.0,
        },
    }
}

/// Find entries by what is in their JSON values, some in each step.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/searches", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = SearchRequest,
    responses((status = 200, body = SearchStep), (status = 422, body = verax_api::Problem))
))]
pub(crate) async fn search(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Json(request): Json<SearchRequest>,
) -> Result<axum::Json<SearchStep>> {
    let reader = service.control().open_reader(&caller, &tenant, &namespace)?;
    let query: ValueFilter = request.query.parse().map_err(Failure::invalid)?;
    let most = page_size(request.limit.map(|limit| usize::try_from(limit).unwrap_or(usize::MAX)))?;
    let from = position(request.cursor.as_deref())?;
    let step = reader.find(&request.prefix, &query, from, most).await?;
    let found = |found: verax_engine::cache::FoundValue| FoundEntry {
        key: found.key,
        value_bytes: found.value_bytes,
        count: found.selected.count as u64,
        parts: found.selected.first,
    };
    Ok(axum::Json(SearchStep {
        looked_at: step.looked_at,
        not_json: step.not_json,
        too_large: step.too_large,
        items: step.found.into_iter().map(found).collect(),
        cursor: step.next.map(|next| next.to_string()),
    }))
}

/// Check stored values, some in each step, and remove damaged ones if that is wanted.
#[cfg_attr(test, utoipa::path(
    post, path = "/v1/tenants/{tenant}/namespaces/{namespace}/checks", tag = "entries",
    params(("tenant" = String, Path), ("namespace" = String, Path)), request_body = CheckRequest,
    responses((status = 200, body = CheckStep), (status = 422, body = verax_api::Problem))
))]
pub(crate) async fn check(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
    NamespacePath(tenant, namespace): NamespacePath,
    Json(request): Json<CheckRequest>,
) -> Result<axum::Json<CheckStep>> {
    let place = (&tenant, &namespace);
    Ok(axum::Json(service.control().check_values(&caller, place, &request).await?))
}
