//! Accepts connections, for both transports.

use std::sync::Arc;
use std::time::Duration;

use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{mpsc, watch};

use crate::connections::{AcceptFailures, ConnectionLimits, ConnectionSlot, Connections, NoSlot};

/// How long a shutdown waits for active requests.
pub(crate) const STOP_TIMEOUT: Duration = Duration::from_secs(4);

/// Accepts connections until the service stops, and serves each in a task of its own. Completes
/// when the last of them has ended.
pub(crate) async fn accept<S, F>(
    listener: TcpListener,
    limits: ConnectionLimits,
    mut stopping: watch::Receiver<bool>,
    serve: S,
) where
    S: Fn(TcpStream, Result<Arc<ConnectionSlot>, NoSlot>) -> F,
    F: Future<Output = ()> + Send + 'static,
{
    let connections = Connections::new(limits);
    let mut failures = AcceptFailures::default();
    // Each connection holds a sender: the channel closes with the last of them.
    let (serving, mut served) = mpsc::channel::<()>(1);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stopping.wait_for(|stopping| *stopping) => break,
        };
        match accepted {
            Ok((stream, from)) => {
                // Responses are written whole, so delaying the last segment gains nothing.
                let _ = stream.set_nodelay(true);
                let (connection, serving) =
                    (serve(stream, connections.admit(from.ip())), serving.clone());
                tokio::spawn(async move {
                    connection.await;
                    drop(serving);
                });
            }
            Err(error) => failures.pause(&error).await,
        }
    }
    drop(listener);
    drop(serving);
    let _ = served.recv().await;
}
