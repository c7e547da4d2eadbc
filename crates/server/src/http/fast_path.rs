//! The fast path of a plain hit: a GET, with a token, of an entry in the cache.
//!
//! Any other request (another path or method, a field that needs more, a token without the right, a
//! miss) returns `None` and goes through the router, which alone refuses, explains, and sends large
//! values. The fast path never refuses anything.

use std::borrow::Cow;
use std::sync::Arc;
use std::time::Instant;

use axum::body::Body;
use axum::extract::Request;
use axum::http::header::{AUTHORIZATION, CACHE_CONTROL, IF_NONE_MATCH};
use axum::http::{HeaderMap, HeaderName, Method};
use axum::response::Response;
use verax_control::access::Caller;
use verax_core::Freshness;
use verax_core::store::EntryView;
use verax_engine::cache::{ReadResult, Source};
use verax_engine::in_flight::SMALL;
use verax_engine::turns::TenantTurns;
use verax_engine::{EngineError, Reader};
use verax_service::Service;

use crate::admission::admit;
use crate::connections::ConnectionSlot;
use crate::http::authenticated::bearer;
use crate::http::entry_fields::describe_answer;
use crate::http::extract::decode_segment;

/// Header fields that make a GET more than a plain read.
const ASKING_MORE: [HeaderName; 3] =
    [CACHE_CONTROL, IF_NONE_MATCH, HeaderName::from_static("traceparent")];

/// The number of header fields of a response, including the request's id.
const FIELDS: usize = 15;

/// A plain read by an authorized caller.
pub(crate) struct PlainGet<'r> {
    started: Instant,
    caller: Arc<Caller>,
    reader: Reader,
    key: Cow<'r, str>,
}

impl<'r> PlainGet<'r> {
    /// Recognizes a plain read.
    pub(crate) fn of(service: &Service, request: &'r Request) -> Option<Self> {
        let started = Instant::now();
        let [tenant, namespace, key] = entry_path(request)?;
        let headers = request.headers();
        let token = bearer(headers.get(AUTHORIZATION)?)?;
        if ASKING_MORE.iter().any(|field| headers.contains_key(field)) {
            return None;
        }
        let (caller, reader) = service.control().reader_of(token, tenant, namespace)?;
        Some(Self { started, caller, reader, key: decode_segment(key).ok()? })
    }

    /// Lets it pass within the quotas.
    ///
    /// # Errors
    /// [`EngineError::QuotaExceeded`].
    pub(crate) fn admit(&self, connection: &Arc<ConnectionSlot>) -> Result<(), EngineError> {
        admit(&self.caller, &self.reader, connection)
    }

    /// The turns in which to serve it.
    pub(crate) fn turns(&self) -> &TenantTurns {
        self.reader.turns()
    }
}

/// The response to a plain hit.
pub(crate) fn answer(service: &Service, get: &PlainGet<'_>) -> Option<Response> {
    let PlainGet { started, reader, key, .. } = get;
    let now = service.engine().now();
    if reader.is_bypassed(now) {
        return None;
    }
    // Only the entry is taken under the store's lock; its header fields are written afterwards.
    let mut found = None;
    reader.cached(key, now, |visited: &EntryView<'_>, _| {
        found = (visited.value().len() <= SMALL).then(|| visited.found());
    });
    let found = found?;
    let (source, time_left) = match found.freshness() {
        Freshness::Fresh(left) => (Source::Hit(left), Some(left)),
        Freshness::Stale(since) => (Source::Stale(since), None),
        Freshness::OnlyOnError(_) | Freshness::Ended => return None,
    };
    let age = now.since(found.stored_at());
    let answer = ReadResult { entry: found.entry(), age, time_left, source };
    let mut fields = HeaderMap::with_capacity(FIELDS);
    describe_answer(&mut fields, &answer, started.elapsed());
    let bytes = answer.size() as u64;
    let mut response = Response::new(Body::from(answer.entry.value));
    *response.headers_mut() = fields;
    let fresh = u64::from(time_left.is_some());
    reader.count_hits(fresh, 1 - fresh, bytes, started.elapsed());
    Some(response)
}

/// The tenant, namespace and undecoded key in an entry's path.
fn entry_path(request: &Request) -> Option<[&str; 3]> {
    if request.method() != Method::GET {
        return None;
    }
    let rest = request.uri().path().strip_prefix("/v1/tenants/")?;
    let (tenant, rest) = rest.split_once('/')?;
    let (namespace, key) = rest.strip_prefix("namespaces/")?.split_once('/')?;
    let key = key.strip_prefix("entries/")?;
    (!key.is_empty() && !key.contains('/')).then_some([tenant, namespace, key])
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("GET", "/v1/tenants/a/namespaces/b/entries/c%2Fd", Some(["a", "b", "c%2Fd"]))]
    #[case("GET", "/v1/tenants/a/namespaces/b/entries/c?x=1", Some(["a", "b", "c"]))]
    #[case("HEAD", "/v1/tenants/a/namespaces/b/entries/c", None)]
    #[case("GET", "/v1/tenants/a/namespaces/b/entries/", None)]
    #[case("GET", "/v1/tenants/a/namespaces/b/entries/c/d", None)]
    #[case("GET", "/v1/tenants/a/namespaces/b/entries", None)]
    #[case("GET", "/v1/tenants/a/b/namespaces/b/entries/c", None)]
    #[case("GET", "/v1/tenants/a/namespaces/b/tags/c", None)]
    #[case("GET", "/metrics", None)]
    fn only_the_path_of_an_entry_goes_the_short_way(
        #[case] method: &str,
        #[case] uri: &str,
        #[case] expected: Option<[&str; 3]>,
    ) {
        let request = Request::builder().method(method).uri(uri).body(Body::empty()).unwrap();
        assert_eq!(entry_path(&request), expected);
    }
}
