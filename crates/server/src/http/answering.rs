//! From a request to its response. What applies to every request is here, not in layers of the
//! router, which cost an allocation per request.

use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::Request;
use axum::http::HeaderValue;
use axum::http::header::{
    CACHE_CONTROL, CONNECTION, CONTENT_DISPOSITION, CONTENT_TYPE, STRICT_TRANSPORT_SECURITY,
    TRANSFER_ENCODING,
};
use axum::response::{IntoResponse, Response};
use futures_util::StreamExt;
use futures_util::future::Either;
use tower::Service as _;
use verax_api::FailureKind;
use verax_control::Role;
use verax_engine::turns::InTurns;
use verax_engine::{EngineError, Limit};
use verax_service::Service;

use super::authenticated::{Access, OverTls};
use super::entry_fields::CACHE_STATUS;
use super::fast_path::PlainGet;
use super::host::HostNames;
use super::{fast_path, nodes, request_log};
use crate::admission::{PAUSE, admit};
use crate::connections::ConnectionSlot;
use crate::failure::Failure;

/// The state every request needs.
#[derive(Clone)]
pub(super) struct Answering {
    pub(super) router: Router,
    pub(super) service: Arc<Service>,
    pub(super) host_names: Arc<HostNames>,
    pub(super) over: OverTls,
}

impl Answering {
    /// Handles a request: on the fast path if it is a plain hit, otherwise through the router.
    pub(super) async fn answer(self, request: Request, place: Arc<ConnectionSlot>) -> Response {
        let any = async move |request| {
            if let Some(refused) = self.host_names.check(&request) {
                return refused;
            }
            if let Some(refused) = refuse_coding(&request) {
                return secured(refused, self.over);
            }
            let plain = PlainGet::of(&self.service, &request);
            let admitted = plain.is_some();
            let hit = match plain {
                Some(get) => {
                    place.set_authenticated();
                    if let Err(error) = get.admit(&place) {
                        return secured(over_quota(error).await, self.over);
                    }
                    let _turn = get.turns().take().await;
                    fast_path::answer(&self.service, &get)
                }
                None => None,
            };
            match hit {
                Some(response) => secured(response, self.over),
                None => self.route(request, &place, admitted).await,
            }
        };
        request_log::logged(request, any).await
    }

    /// Handles a request through the router, unless its access ends first.
    async fn route(
        mut self,
        mut request: Request,
        place: &Arc<ConnectionSlot>,
        admitted: bool,
    ) -> Response {
        request.extensions_mut().insert(self.over);
        let access = Access::of(&request, &self.service);
        request.extensions_mut().insert(access.clone());
        if self.service.control().role() == Role::Standby {
            let path = request.uri().path();
            let refused = nodes::refuse_at_standby(path, access.is_ok(), &self.service);
            if let Some(refused) = refused {
                return secured(refused, self.over);
            }
        }
        let namespace = access.as_ref().ok().and_then(|access| {
            let (tenant, namespace) = namespace_of(request.uri().path())?;
            self.service.control().namespace_of(access.caller(), tenant, namespace)
        });
        if let (Ok(access), Some(namespace), false) = (&access, &namespace, admitted)
            && let Err(error) = admit(access.caller(), namespace, place)
        {
            place.set_authenticated();
            return secured(over_quota(error).await, self.over);
        }
        let routed = self.router.call(request);
        let access = match access {
            Ok(access) => access,
            Err(_) => {
                return secured(routed.await.unwrap_or_else(|never| match never {}), self.over);
            }
        };
        place.set_authenticated();
        let routed = match namespace {
            Some(namespace) => Either::Left(InTurns::new(Arc::clone(namespace.turns()), routed)),
            None => Either::Right(routed),
        };
        let mut response = tokio::select! {
            biased;
            () = access.clone().ended() => Failure::from(EngineError::AccessEnded).into_response(),
            response = routed => response.unwrap_or_else(|never| match never {}),
        };
        if access.is_session() {
            let headers = response.headers_mut();
            headers.insert(CACHE_CONTROL, HeaderValue::from_static("private, no-store"));
            if headers.contains_key(CACHE_STATUS) {
                // A stored value is data to download, not a page to show beside the console.
                headers.insert(CONTENT_DISPOSITION, HeaderValue::from_static("attachment"));
            }
        }
        if is_stream(&response) {
            let (parts, body) = response.into_parts();
            let events = body.into_data_stream().take_until(access.ended());
            response = Response::from_parts(parts, Body::from_stream(events));
        }
        secured(response, self.over)
    }
}

/// Refuses a request over a quota, after a pause.
async fn over_quota(error: EngineError) -> Response {
    let close = matches!(error, EngineError::QuotaExceeded { limit: Limit::Connections(_), .. });
    tokio::time::sleep(PAUSE).await;
    let mut response = Failure::from(error).into_response();
    if close {
        response.headers_mut().insert(CONNECTION, HeaderValue::from_static("close"));
    }
    response
}

/// The tenant and namespace of a path.
fn namespace_of(path: &str) -> Option<(&str, &str)> {
    let (tenant, rest) = path.strip_prefix("/v1/tenants/")?.split_once('/')?;
    let (namespace, _) = rest.strip_prefix("namespaces/")?.split_once('/')?;
    Some((tenant, namespace))
}

/// Refuses any transfer coding but chunked (RFC 9112, section 6.1), which would otherwise be stored
/// as part of the value.
fn refuse_coding(request: &Request) -> Option<Response> {
    let codings = request.headers().get_all(TRANSFER_ENCODING);
    let chunked = |field: &HeaderValue| field.as_bytes().eq_ignore_ascii_case(b"chunked");
    if codings.iter().all(chunked) {
        return None;
    }
    let detail = "send the body chunked, or without a transfer coding";
    Some(Failure::new(FailureKind::UnsupportedTransferCoding, detail).into_response())
}

fn is_stream(response: &Response) -> bool {
    response.headers().get(CONTENT_TYPE).is_some_and(|field| field == "text/event-stream")
}

/// Over TLS, browsers are told to use TLS only (RFC 6797).
fn secured(mut response: Response, over: OverTls) -> Response {
    if over == OverTls(true) {
        let field = HeaderValue::from_static("max-age=31536000");
        response.headers_mut().insert(STRICT_TRANSPORT_SECURITY, field);
    }
    response
}
