//! Serves HTTP until the service stops.

use std::future::Future;
use std::sync::Arc;

use futures_util::future::BoxFuture;
use tokio::net::TcpListener;
use verax_service::Service;

use super::answering::Answering;
use super::authenticated::OverTls;
use super::listener::HttpOptions;
use super::listener::serve_connections;
use super::router::router;
use crate::accept::STOP_TIMEOUT;
use crate::tls::Tls;

/// Serves the HTTP interface, over TLS if configured, until `stop` completes; then finishes active
/// requests except live streams, and stops the service's background work.
///
/// # Errors
/// The listener's error.
pub fn serve(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    options: HttpOptions,
    stop: impl Future<Output = ()> + Send + 'static,
) -> BoxFuture<'static, std::io::Result<()>> {
    serve_until(listener, service, tls, options, Box::pin(stop))
}

/// Not generic and boxed here, so that all that serves a request is compiled in this crate once,
/// and not in every program that calls [`serve`].
fn serve_until(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    options: HttpOptions,
    stop: BoxFuture<'static, ()>,
) -> BoxFuture<'static, std::io::Result<()>> {
    Box::pin(async move {
        let mut stopping = service.stopping();
        let answering = Answering {
            router: router(Arc::clone(&service)),
            service: Arc::clone(&service),
            host_names: Arc::new(options.host_names.clone()),
            over: OverTls(tls.is_some()),
        };
        let answer = move |request, place| answering.clone().answer(request, place);
        let serving = serve_connections(listener, tls, &options, service.stopping(), answer);
        let stopped = async move {
            stop.await;
            // This also ends live streams, which would otherwise never finish.
            service.stop();
            std::future::pending::<()>().await;
        };
        let overdue = async move {
            let _ = stopping.wait_for(|stopping| *stopping).await;
            tokio::time::sleep(STOP_TIMEOUT).await;
        };
        tokio::select! {
            () = serving => {}
            () = stopped => {}
            () = overdue => tracing::warn!("some requests did not finish in time and were aborted"),
        }
        Ok(())
    })
}
