//! An HTTP read of a hit, with a token, against a bare Axum handler that returns the same bytes.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::routing::get;
use bytes::Bytes;
use verax_api::PolicyChange;
use verax_core::lifetime::CacheControl;
use verax_core::{Key, Name, PutCondition};
use verax_records::Records;
use verax_records::launcher::PrivateServer;
use verax_service::access::{Caller, Right, Scope};
use verax_service::cache::PutRequest;
use verax_service::{Service, ServiceOptions};

use crate::Options;
use crate::driver::drive;
use crate::rounds::Row;

const CONNECTIONS: usize = 64;

type Failure = Box<dyn std::error::Error>;

/// A service with one entry, and the token to read it with.
async fn verax(server: &PrivateServer) -> Result<(SocketAddr, String), Failure> {
    let records = Records::open(server.url("verax")).await?;
    let service = Service::start(records, ServiceOptions::default()).await?;
    let token = service.administrator_token(None).await?;
    let caller = Caller::service("benchmark", vec![Scope::Admin]);
    let (tenant, name) = (Name::new("ferrydesk")?, Name::new("boards")?);
    service.create_tenant(&caller, tenant.as_str()).await?;
    let policy = PolicyChange { max_age_seconds: Some(3_600.0), ..Default::default() };
    service.create_namespace(&caller, &tenant, name.as_str(), &policy).await?;
    let request = PutRequest {
        value: Bytes::from(vec![b'7'; 128]),
        media_type: "application/json".into(),
        cache_control: CacheControl::default(),
        tags: Vec::new(),
        condition: PutCondition::Always,
    };
    let namespace = service.open(&caller, Right::Write, &tenant, &name)?;
    service.put(&namespace, &Key::new("board/aldermouth")?, request)?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    tokio::spawn(verax_server::serve(listener, service, std::future::pending()));
    Ok((address, token))
}

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

const PATH: &str = "/v1/tenants/ferrydesk/namespaces/boards/entries/board%2Faldermouth";

pub(crate) fn run(options: &Options) -> Result<Row, Failure> {
    let runtime =
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let directory = tempfile::tempdir()?;
    let server = runtime.block_on(PrivateServer::start(directory.path()))?;
    let (ours, token) = runtime.block_on(verax(&server))?;
    let limit = runtime.block_on(bare())?;
    let request: Arc<[u8]> =
        format!("GET {PATH} HTTP/1.1\r\nhost: verax\r\nauthorization: Bearer {token}\r\n\r\n")
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
    runtime.block_on(server.stop())?;
    match failed.take() {
        Some(error) => Err(error.into()),
        None => Ok(row),
    }
}
