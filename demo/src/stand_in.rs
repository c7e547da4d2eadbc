//! The stand-in origin: the slow reads as a small HTTP service, with faults that can be set.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use diesel_async::AsyncMysqlConnection;
use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::bb8::Pool;
use serde::Serialize;
use serde_json::json;
use tokio::net::TcpListener;
use verax_origin::standin::around;

pub use verax_origin::standin::{FaultSettings, Standin};

use crate::data::{gauges, harbors};
use crate::error::DemoError;
use crate::queries;

/// The number of connections to MariaDB, as a small service would have.
const CONNECTIONS: u32 = 8;

type Connections = Pool<AsyncMysqlConnection>;

/// A running stand-in. It ends with the runtime.
#[derive(Debug)]
pub struct StandIn {
    /// Its address.
    pub address: SocketAddr,
    /// Sets its faults.
    pub faults: Arc<Standin>,
}

/// Starts the stand-in over the `ferry` database of a MariaDB.
///
/// # Errors
/// [`DemoError`].
pub async fn start(database_url: &str, address: SocketAddr) -> Result<StandIn, DemoError> {
    let manager = AsyncDieselConnectionManager::<AsyncMysqlConnection>::new(database_url);
    let connections: Connections = Pool::builder()
        .max_size(CONNECTIONS)
        .connection_timeout(Duration::from_secs(5))
        .build(manager)
        .await
        .map_err(|e| DemoError::Data(e.to_string()))?;
    let reads = Router::new()
        .route("/harbors", get(list_harbors))
        .route("/gauges", get(list_gauges))
        .route("/boards/{harbor}", get(board))
        .route("/fares/{from}/{to}", get(fare))
        .route("/tides/{gauge}", get(tides))
        .route("/berths/{harbor}", get(berths))
        .route("/notices/{harbor}", get(notice).put(put_notice).delete(remove_notice))
        .with_state(connections);
    let (router, faults) = around(reads);
    let listen = |source| DemoError::Listen { address, source };
    let listener = TcpListener::bind(address).await.map_err(listen)?;
    let address = listener.local_addr().map_err(listen)?;
    tokio::spawn(async move {
        if let Err(error) = axum::serve(listener, router).await {
            tracing::error!(%error, "the stand-in origin ended");
        }
    });
    Ok(StandIn { address, faults })
}

async fn list_harbors() -> Json<Vec<String>> {
    Json(harbors().into_iter().map(|h| h.slug).collect())
}

async fn list_gauges() -> Json<Vec<String>> {
    Json(gauges().into_iter().map(|g| g.slug).collect())
}

/// Responds with JSON and tags, or with an error.
fn answer<T: Serialize>(
    what: serde_json::Value,
    tags: &str,
    result: Result<T, String>,
    is_empty: impl Fn(&T) -> bool,
) -> Response {
    match result {
        Ok(value) if is_empty(&value) => {
            (StatusCode::NOT_FOUND, Json(json!({ "unknown": what }))).into_response()
        }
        Ok(value) => {
            let body = json!({ "of": what, "rows": value });
            ([("cache-groups", tags)], Json(body)).into_response()
        }
        Err(error) => {
            tracing::warn!(%error, "a read of the ferry data failed");
            (StatusCode::SERVICE_UNAVAILABLE, "the ferry data cannot be read").into_response()
        }
    }
}

async fn read<T>(
    connections: &Connections,
    query: impl AsyncFnOnce(&mut AsyncMysqlConnection) -> Result<T, diesel::result::Error>,
) -> Result<T, String> {
    let mut connection = connections.get().await.map_err(|e| e.to_string())?;
    query(&mut connection).await.map_err(|e| e.to_string())
}

async fn board(State(connections): State<Connections>, Path(harbor): Path<String>) -> Response {
    let rows = read(&connections, async |c| queries::departure_board(c, &harbor).await).await;
    let tags = format!("\"boards\", \"harbor-{harbor}\"");
    answer(json!({ "harbor": harbor }), &tags, rows, Vec::is_empty)
}

async fn fare(
    State(connections): State<Connections>,
    Path((from, to)): Path<(String, String)>,
) -> Response {
    let row = read(&connections, async |c| queries::fare(c, &from, &to).await).await;
    answer(json!({ "from": from, "to": to }), "\"fares\"", row, |fare| fare.sailings == 0)
}

async fn tides(State(connections): State<Connections>, Path(gauge): Path<String>) -> Response {
    let rows = read(&connections, async |c| queries::tide_table(c, &gauge).await).await;
    answer(json!({ "gauge": gauge }), "\"tides\"", rows, Vec::is_empty)
}

async fn notice(State(connections): State<Connections>, Path(harbor): Path<String>) -> Response {
    let rows = read(&connections, async |c| queries::notice(c, &harbor).await).await;
    match rows {
        Ok(rows) => match rows.into_iter().next() {
            Some(row) => ([("cache-groups", "\"notices\"")], row.notice).into_response(),
            None => (StatusCode::NOT_FOUND, "there is no notice").into_response(),
        },
        Err(error) => answer(json!({}), "", Err::<(), _>(error), |()| false),
    }
}

async fn put_notice(
    State(connections): State<Connections>,
    Path(harbor): Path<String>,
    text: String,
) -> Response {
    write_notice(&connections, &harbor, Some(&text)).await
}

async fn remove_notice(
    State(connections): State<Connections>,
    Path(harbor): Path<String>,
) -> Response {
    write_notice(&connections, &harbor, None).await
}

async fn write_notice(connections: &Connections, harbor: &str, text: Option<&str>) -> Response {
    match read(connections, async |c| queries::put_notice(c, harbor, text).await).await {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(error) => {
            tracing::warn!(%error, "a notice was not written");
            (StatusCode::UNPROCESSABLE_ENTITY, "the notice was not written").into_response()
        }
    }
}

async fn berths(State(connections): State<Connections>, Path(harbor): Path<String>) -> Response {
    let rows = read(&connections, async |c| queries::berths(c, &harbor).await).await;
    answer(json!({ "harbor": harbor }), "\"berths\"", rows, Vec::is_empty)
}
