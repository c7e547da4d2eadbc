//! An HTTP read of a hit, with a token, against a bare Axum handler that returns the same bytes.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::routing::get;
use bytes::Bytes;

use crate::Options;
use crate::driver::drive;
use crate::fixture::Fixture;
use crate::rounds::Row;

const CONNECTIONS: usize = 64;

type Failure = Box<dyn std::error::Error + Send + Sync>;

const PATH: &str = "/v1/tenants/ferrydesk/namespaces/boards/entries/board%2Faldermouth";

async fn bare() -> Result<SocketAddr, Failure> {
    let value = Bytes::from(vec![b'7'; 128]);
    let handler = move || {
        let value = value.clone();
        async move { ([("content-type", "application/json")], value) }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let router = Router::new().route(PATH, get(handler));
    tokio::spawn(async move { axum::serve(listener, router).await });
    Ok(address)
}

pub(crate) fn run(options: &Options) -> Result<Vec<Row>, Failure> {
    let fixture = Fixture::start(64 << 20)?;
    fixture.put("board/aldermouth", 128)?;
    let service = Arc::clone(&fixture.service);
    let (ours, limit) = fixture.runtime.block_on(async {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        tokio::spawn(verax_server::serve(
            listener,
            service,
            None,
            verax_server::HttpOptions::default(),
            std::future::pending(),
        ));
        Ok::<_, Failure>((address, bare().await?))
    })?;
    let token = &fixture.token;
    let request: Arc<[u8]> =
        format!("GET {PATH} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {token}\r\n\r\n")
            .into_bytes()
            .into();
    let time = Duration::from_secs_f64(options.seconds);
    let failed = std::cell::RefCell::new(None);
    let measure = |address| {
        drive(address, Arc::clone(&request), CONNECTIONS, time).unwrap_or_else(|error| {
            failed.replace(Some(error));
            f64::NAN
        })
    };
    let row = Row::take(
        ("HTTP get of a hit with a token, 128 B, 64 connections", "a bare Axum handler", 0.85),
        options.rounds,
        || measure(ours),
        || measure(limit),
    );
    match failed.take() {
        Some(error) => Err(error.into()),
        None => Ok(vec![row]),
    }
}
