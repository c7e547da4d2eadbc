//! An Axum service that shows departure boards.

use std::time::Duration;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::routing::get;
use axum::{Json, Router};
use verax_client::{Cache, Cached};

use crate::database::{Board, Database, DatabaseError};

/// What the handlers share. Cloning shares connections.
#[derive(Debug, Clone)]
pub struct Desk {
    /// The handle on the namespace of boards.
    pub boards: Cache,
    /// The application's database.
    pub database: Database,
}

/// The routes of the service.
pub fn router(desk: Desk) -> Router {
    Router::new().route("/boards/{harbor}", get(board)).with_state(desk)
}

async fn board(
    State(desk): State<Desk>,
    Path(harbor): Path<String>,
) -> Result<Json<Board>, StatusCode> {
    match desk.board(&harbor).await {
        Ok(Cached { value: Some(board), .. }) => Ok(Json(board)),
        Ok(_) => Err(StatusCode::NOT_FOUND),
        Err(DatabaseError) => Err(StatusCode::SERVICE_UNAVAILABLE),
    }
}

impl Desk {
    /// The board of a harbor: fresh for half a minute, kept for an hour in case the database fails,
    /// and known to be missing for five seconds.
    ///
    /// # Errors
    /// [`DatabaseError`] if the database failed, and there is no copy to serve.
    pub async fn board(&self, harbor: &str) -> Result<Cached<Option<Board>>, DatabaseError> {
        self.boards
            .entry(format!("board/{harbor}"))
            .max_age(Duration::from_secs(30))
            .stale_if_error(Duration::from_secs(3_600))
            .negative_max_age(Duration::from_secs(5))
            .tag(format!("harbor-{harbor}"))
            .find_or_refill(async || self.database.board(harbor).await)
            .await
    }
}
