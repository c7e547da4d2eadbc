//! A table of routes whose handlers are behind one type.
//!
//! axum puts each handler into a dozen generic types. With as many handlers as here, compiling
//! these took half the time of this crate; behind one type they are compiled once.

use std::sync::Arc;

use axum::Router;
use axum::extract::Request;
use axum::handler::Handler;
use axum::response::Response;
use axum::routing::MethodRouter;
use futures_util::future::BoxFuture;
use verax_service::Service;

/// What every handler may take.
type State = Arc<Service>;

/// A function with extractors as arguments, as axum implements [`Handler`] for.
pub(super) trait Function<M>:
    Handler<M, State, Future = BoxFuture<'static, Response>> + Sync
{
}

impl<M, H> Function<M> for H where H: Handler<M, State, Future = BoxFuture<'static, Response>> + Sync
{}

/// A handler of any type.
#[derive(Clone)]
struct AnyHandler(Arc<dyn Fn(Request, State) -> BoxFuture<'static, Response> + Send + Sync>);

impl AnyHandler {
    fn new<M>(handler: impl Function<M>) -> Self {
        Self(Arc::new(move |request, service| handler.clone().call(request, service)))
    }
}

impl Handler<(), State> for AnyHandler {
    type Future = BoxFuture<'static, Response>;

    fn call(self, request: Request, service: State) -> Self::Future {
        (self.0)(request, service)
    }
}

/// The handlers of a path, by method.
pub(super) struct Methods(MethodRouter<State>);

pub(super) fn get<M>(handler: impl Function<M>) -> Methods {
    Methods(MethodRouter::new()).get(handler)
}

pub(super) fn put<M>(handler: impl Function<M>) -> Methods {
    Methods(MethodRouter::new()).put(handler)
}

pub(super) fn post<M>(handler: impl Function<M>) -> Methods {
    Methods(MethodRouter::new()).post(handler)
}

pub(super) fn delete<M>(handler: impl Function<M>) -> Methods {
    Methods(MethodRouter::new()).delete(handler)
}

impl Methods {
    pub(super) fn get<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.get(AnyHandler::new(handler)))
    }

    pub(super) fn put<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.put(AnyHandler::new(handler)))
    }

    pub(super) fn post<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.post(AnyHandler::new(handler)))
    }

    pub(super) fn patch<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.patch(AnyHandler::new(handler)))
    }

    pub(super) fn delete<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.delete(AnyHandler::new(handler)))
    }
}

/// Paths and their handlers.
pub(super) struct Routes(Router<State>);

impl Routes {
    pub(super) fn new() -> Self {
        Self(Router::new())
    }

    pub(super) fn route(self, path: &str, methods: Methods) -> Self {
        Self(self.0.route(path, methods.0))
    }

    /// Sets the handler of paths that are not in the table.
    pub(super) fn fallback<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.fallback(AnyHandler::new(handler)))
    }

    /// Sets the handler of methods that a path of the table does not have.
    pub(super) fn method_not_allowed_fallback<M>(self, handler: impl Function<M>) -> Self {
        Self(self.0.method_not_allowed_fallback(AnyHandler::new(handler)))
    }

    /// The router, whose handlers work on a service.
    pub(super) fn with_state(self, service: State) -> Router {
        self.0.with_state(service)
    }
}
