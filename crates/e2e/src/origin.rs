//! An origin that responds only when released.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use axum::Router;
use axum::routing::get;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;

/// An HTTP service that holds every call until it is released.
#[derive(Debug)]
pub struct HeldOrigin {
    address: SocketAddr,
    calls: Arc<AtomicU64>,
    gate: Arc<Semaphore>,
}

impl HeldOrigin {
    /// Starts one that answers `value` to every path of one segment.
    pub async fn start(value: &'static str) -> Self {
        let (calls, gate) = (Arc::new(AtomicU64::new(0)), Arc::new(Semaphore::new(0)));
        let (counted, held) = (Arc::clone(&calls), Arc::clone(&gate));
        let answer = get(async move || {
            counted.fetch_add(1, Ordering::SeqCst);
            held.acquire().await.unwrap().forget();
            value
        });
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let router = Router::new().route("/{key}", answer);
        tokio::spawn(async move { axum::serve(listener, router).await });
        Self { address, calls, gate }
    }

    /// Its URL template for Verax.
    pub fn at(&self) -> String {
        format!("http://{}/{{key}}", self.address)
    }

    /// How often it was called.
    pub fn calls(&self) -> u64 {
        self.calls.load(Ordering::SeqCst)
    }

    /// Releases some calls.
    pub fn let_go(&self, calls: usize) {
        self.gate.add_permits(calls);
    }
}
