//! Drills: the same work with and without one of Verax's guarantees, side by side, over the demo's
//! real data.
//!
//! Each drill has an origin of its own, so that it and the demo's traffic do not disturb each
//! other, and namespaces that exist only while it runs.

mod allocation;
mod course;
mod deployment;
mod noisy_neighbor;
mod old_data;
mod outage;
mod scene;
mod stampede;

use std::net::{Ipv4Addr, SocketAddr};

use diesel_async::AsyncMysqlConnection;
use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::bb8::{Pool, PooledConnection};
use futures_util::future::BoxFuture;
use verax_api::{
    CreateNamespace, CreateOrigin, DrillSpec, OriginChange, OriginChoice, PolicyChange,
};
use verax_client::{Cache, CacheOptions, Client, ClientError};

use crate::error::DemoError;
use crate::stand_in::{self, StandIn};
use course::Course;

pub use course::Sink;

/// The tenant of drills, and the name of their origin.
const TENANT: &str = "ferrydesk";
const ORIGIN: &str = "drill-timetable";

/// Connections to MariaDB: each instance of the berth desk has one.
const CONNECTIONS: u32 = 16;

/// The drills and their environment.
#[derive(Debug)]
pub struct Drills {
    verax: Client,
    stand_in: StandIn,
    database: Pool<AsyncMysqlConnection>,
}

/// A namespace of a drill.
struct Place {
    name: &'static str,
    through: bool,
    max_age_seconds: f64,
    stale_if_error_seconds: f64,
}

fn text(error: impl std::fmt::Display) -> String {
    error.to_string()
}

impl Drills {
    /// Starts the drills' environment over the `ferry` database of a MariaDB.
    ///
    /// # Errors
    /// [`DemoError`].
    pub async fn prepare(verax: Client, database_url: &str) -> Result<Self, DemoError> {
        let anywhere = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let stand_in = stand_in::start(database_url, anywhere).await?;
        let manager = AsyncDieselConnectionManager::<AsyncMysqlConnection>::new(database_url);
        let database = Pool::builder()
            .max_size(CONNECTIONS)
            .build(manager)
            .await
            .map_err(|e| DemoError::Data(e.to_string()))?;
        Ok(Self { verax, stand_in, database })
    }

    /// The available drills.
    pub fn specs() -> Vec<DrillSpec> {
        [
            (
                "stampede",
                "What happens when a hot entry goes away?",
                "Many callers ask for one cold board at once, while the origin answers only eight at a time.",
            ),
            (
                "allocation",
                "Can two instances give away the same berth?",
                "Instances of the berth desk check a berth and then take it, over real rows in MariaDB.",
            ),
            (
                "old-data",
                "Can a read that was slow undo an invalidation?",
                "A reader reads a notice, a writer changes it and invalidates it, and the reader stores what it read.",
            ),
            (
                "outage",
                "What do users see when the origin goes down?",
                "Clients read boards while the origin is out for three seconds and comes back.",
            ),
            (
                "warm-up",
                "What does a cold cache cost the first readers?",
                "Every departure board is read once after a clear, and once after a warm run.",
            ),
            (
                "deployment",
                "What do users notice of a deployment?",
                "Clients read boards while the cache is cleared, cleared and warmed, or refreshed without a gap.",
            ),
            (
                "noisy-neighbor",
                "What does a tenant notice when its neighbor floods?",
                "A noisy tenant stores values as fast as it can for three seconds, while a quiet one reads.",
            ),
        ]
        .map(|(name, title, about)| DrillSpec {
            name: name.into(),
            title: title.into(),
            about: about.into(),
        })
        .into()
    }

    /// Runs a drill; returns its finding in a sentence.
    ///
    /// # Errors
    /// Why it could not run.
    pub fn run<'a>(
        &'a self,
        drill: &'a str,
        callers: Option<u32>,
        sink: Sink<'a>,
    ) -> BoxFuture<'a, Result<String, String>> {
        // In a box, so that the program does not compile all drills again.
        Box::pin(self.run_here(drill, callers, sink))
    }

    async fn run_here(
        &self,
        drill: &str,
        callers: Option<u32>,
        sink: Sink<'_>,
    ) -> Result<String, String> {
        let course = Course::new(sink);
        let outcome = match drill {
            "stampede" => self.stampede(callers.unwrap_or(200), &course).await,
            "allocation" => self.allocation(callers.unwrap_or(4).min(CONNECTIONS), &course).await,
            "old-data" => self.old_data(callers.unwrap_or(20), &course).await,
            "noisy-neighbor" => self.noisy_neighbor(callers.unwrap_or(16), &course).await,
            "warm-up" => self.warm_up(callers.unwrap_or(8), &course).await,
            "deployment" => self.deployment(callers.unwrap_or(16), &course).await,
            "outage" => self.outage(callers.unwrap_or(8), &course).await,
            other => Err(format!("there is no drill {other:?}")),
        };
        self.faults(serde_json::json!({
            "extra_latency_ms": 0, "concurrency_limit": null, "outage": false
        }))?;
        outcome
    }

    fn faults(&self, change: serde_json::Value) -> Result<(), String> {
        self.stand_in.faults.change(&change).map(drop).map_err(text)
    }

    async fn connection(&self) -> Result<PooledConnection<'_, AsyncMysqlConnection>, String> {
        self.database.get().await.map_err(text)
    }

    /// Creates an empty namespace.
    async fn open(&self, place: &Place) -> Result<(), String> {
        let url = format!("http://{}/boards/{{harbor}}", self.stand_in.address);
        let origins = self.verax.origins(TENANT).await.map_err(text)?;
        match origins.iter().find(|origin| origin.name == ORIGIN) {
            Some(origin) if origin.url == url => {}
            // It may be left over from a killed demo.
            Some(_) => {
                let change = OriginChange { url: Some(url), ..Default::default() };
                self.verax.change_origin(TENANT, ORIGIN, &change).await.map_err(text)?;
            }
            None => {
                let name = ORIGIN.to_owned();
                let origin = CreateOrigin { name, url, ..Default::default() };
                self.verax.create_origin(TENANT, &origin).await.map_err(text)?;
            }
        }
        self.remove(place).await?;
        let choice =
            OriginChoice { name: ORIGIN.into(), key_pattern: Some("board/{harbor}".into()) };
        let namespace = CreateNamespace {
            name: place.name.into(),
            policy: PolicyChange {
                max_age_seconds: Some(place.max_age_seconds),
                stale_if_error_seconds: Some(place.stale_if_error_seconds),
                origin: place.through.then_some(Some(choice)),
                ..Default::default()
            },
        };
        self.verax.create_namespace(TENANT, &namespace).await.map(drop).map_err(text)
    }

    /// Deletes a namespace, and the origin with the last one.
    async fn close(&self, place: &Place) -> Result<(), String> {
        self.remove(place).await?;
        match self.verax.delete_origin(TENANT, ORIGIN).await {
            Err(error) if error.problem() == Some("conflict") => Ok(()),
            other => self.gone(other),
        }
    }

    async fn remove(&self, place: &Place) -> Result<(), String> {
        let namespace = self.verax.namespace(TENANT, place.name).map_err(text)?;
        self.gone(namespace.delete_namespace().await)
    }

    fn gone(&self, result: Result<(), ClientError>) -> Result<(), String> {
        match result {
            Err(error) if error.status() == Some(404) => Ok(()),
            other => other.map_err(text),
        }
    }

    fn cache(&self, place: &Place, options: CacheOptions) -> Result<Cache, String> {
        self.verax.cache(TENANT, place.name, options).map_err(text)
    }
}
