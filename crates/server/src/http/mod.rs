//! The HTTP interface: one file a resource, and what all of them need. docs/http-api.md specifies
//! it; no protocol but HTTP is spoken here.

mod administration;
mod answering;
mod authenticated;
mod batches;
mod console;
mod counters;
mod drills;
mod entries;
mod entry_fields;
mod extract;
mod fast_path;
mod health;
mod host;
mod listener;
mod live;
mod locks;
mod metrics;
mod nodes;
mod openapi;
mod permits;
mod problem;
mod rate_limits;
mod request_log;
mod router;
mod runs;
mod sessions;
mod tags;
mod waiting;

use std::future::Future;
use std::sync::Arc;

use tokio::net::TcpListener;
use verax_service::Service;

use crate::STOP_TIMEOUT;
use crate::tls::Tls;
use answering::Answering;
use authenticated::OverTls;
use listener::serve_connections;
use router::router;

pub use host::HostNames;
pub use listener::HttpOptions;

/// The largest JSON body of a request, in bytes. Entries have their namespace's limit instead.
const MAX_JSON_BYTES: usize = 8 << 20;

/// Serves the HTTP interface, over TLS where it is given, until `stop` is ready; then finishes what
/// is under way, live streams excepted, and stops the service's background work.
///
/// # Errors
/// What the listener fails with.
pub async fn serve(
    listener: TcpListener,
    service: Arc<Service>,
    tls: Option<Arc<Tls>>,
    options: HttpOptions,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let mut stopping = service.stopping();
    let answering = Answering {
        router: router(Arc::clone(&service)),
        service: Arc::clone(&service),
        host_names: Arc::new(options.host_names.clone()),
        over: OverTls(tls.is_some()),
    };
    let answer = move |request, place| answering.clone().answer(request, place);
    let serving = serve_connections(listener, tls, &options, service.stopping(), answer);
    let told = async move {
        stop.await;
        // This also ends the live streams, which would otherwise never finish.
        service.stop();
        std::future::pending::<()>().await;
    };
    let overdue = async move {
        let _ = stopping.wait_for(|stopping| *stopping).await;
        tokio::time::sleep(STOP_TIMEOUT).await;
    };
    tokio::select! {
        () = serving => {}
        () = told => {}
        () = overdue => tracing::warn!("some requests did not finish in time and were cut off"),
    }
    Ok(())
}
