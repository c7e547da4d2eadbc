//! The demo's tenants, origins and namespaces, created through Verax's own interface.

use std::net::SocketAddr;

use verax_api::{
    CreateNamespace, CreateOrigin, OriginChange, OriginChoice, PolicyChange, PoolChange, SqlChange,
};
use verax_client::{Client, ClientError};

use crate::error::DemoError;
use crate::queries::LATEST_READING;
use crate::reader::READER;

/// The addresses of this start's origins.
#[derive(Debug, Clone)]
pub struct Places {
    /// The stand-in.
    pub stand_in: SocketAddr,
    /// A second one over the same data, for an origin on two servers.
    pub second: SocketAddr,
    /// The port of MariaDB on loopback.
    pub database: u16,
}

/// Where the values of a namespace come from.
enum From {
    /// A path of the stand-in.
    StandIn(&'static str),
    /// A path of both stand-ins.
    Both(&'static str),
    /// A query over the ferry data that gives one row.
    Row(&'static str),
}

struct Planned {
    tenant: &'static str,
    origin: &'static str,
    from: From,
    namespace: &'static str,
    key_pattern: &'static str,
    policy: PolicyChange,
}

fn plan() -> [Planned; 6] {
    let lifetime = |max_age: f64, stale_if_error: f64| PolicyChange {
        max_age_seconds: Some(max_age),
        stale_if_error_seconds: Some(stale_if_error),
        negative_max_age_seconds: Some(5.0),
        ..Default::default()
    };
    [
        Planned {
            tenant: "ferrydesk",
            origin: "timetable",
            from: From::StandIn("/boards/{harbor}"),
            namespace: "boards",
            key_pattern: "board/{harbor}",
            // Boards are the most popular pages, so no user should wait for one.
            policy: PolicyChange { early_refresh_percent: Some(100), ..lifetime(30.0, 600.0) },
        },
        Planned {
            tenant: "ferrydesk",
            origin: "tariff",
            from: From::StandIn("/fares/{from}/{to}"),
            namespace: "fares",
            key_pattern: "fare/{from}/{to}",
            policy: lifetime(900.0, 3_600.0),
        },
        Planned {
            tenant: "ferrydesk",
            origin: "notice-board",
            from: From::StandIn("/notices/{harbor}"),
            namespace: "notices",
            key_pattern: "notice/{harbor}",
            policy: PolicyChange { write_through: Some(true), ..lifetime(300.0, 600.0) },
        },
        Planned {
            tenant: "tideline",
            origin: "gauges",
            from: From::Both("/tides/{gauge}"),
            namespace: "tables",
            key_pattern: "tide/{gauge}",
            policy: lifetime(120.0, 3_600.0),
        },
        Planned {
            tenant: "tideline",
            origin: "latest-reading",
            from: From::Row(LATEST_READING),
            namespace: "levels",
            key_pattern: "level/{gauge}",
            policy: lifetime(20.0, 60.0),
        },
        Planned {
            tenant: "quayside",
            origin: "berth-desk",
            from: From::StandIn("/berths/{harbor}"),
            namespace: "berths",
            key_pattern: "berths/{harbor}",
            policy: lifetime(15.0, 60.0),
        },
    ]
}

/// An existing resource counts as created.
fn there<T>(result: Result<T, ClientError>) -> Result<(), ClientError> {
    match result {
        Err(error) if error.problem() == Some("conflict") => Ok(()),
        other => other.map(drop),
    }
}

/// Creates what is missing, and points the origins at the stand-ins of this start.
///
/// # Errors
/// [`DemoError::Verax`].
pub async fn create(verax: &Client, places: &Places) -> Result<(), DemoError> {
    for plan in plan() {
        there(verax.create_tenant(plan.tenant).await)?;
        let wanted = change_of(&plan.from, places);
        let known = verax.origins(plan.tenant).await?;
        match known.iter().any(|origin| origin.name == plan.origin) {
            true => {
                verax.change_origin(plan.tenant, plan.origin, &wanted).await?;
            }
            false => {
                let origin = CreateOrigin {
                    name: plan.origin.into(),
                    url: wanted.url.unwrap_or_default(),
                    credential: wanted.credential,
                    pool: wanted.pool,
                    sql: wanted.sql,
                    listings: wanted.listings,
                    ..Default::default()
                };
                verax.create_origin(plan.tenant, &origin).await?;
            }
        }
        let choice =
            OriginChoice { name: plan.origin.into(), key_pattern: Some(plan.key_pattern.into()) };
        let policy = PolicyChange { origin: Some(Some(choice)), ..plan.policy };
        let namespace = CreateNamespace { name: plan.namespace.into(), policy };
        there(verax.create_namespace(plan.tenant, &namespace).await)?;
    }
    // Its values come from the berth desks.
    let policy = PolicyChange { max_age_seconds: Some(120.0), ..Default::default() };
    let occupancy = CreateNamespace { name: "occupancy".into(), policy };
    there(verax.create_namespace("quayside", &occupancy).await)?;
    Ok(())
}

fn change_of(from: &From, places: &Places) -> OriginChange {
    let at = |path: &str| Some(format!("http://{}{path}", places.stand_in));
    // The listings of the stand-in: the names of all harbors and gauges.
    let listings = Some(["/harbors", "/gauges"].map(str::to_owned).to_vec());
    match from {
        From::StandIn(path) => OriginChange { url: at(path), listings, ..Default::default() },
        From::Both(path) => {
            let pool = PoolChange {
                endpoints: Some(vec![format!("http://{}", places.second)]),
                balance: Some("least-outstanding".into()),
                slow_after_ms: Some(2_000),
            };
            OriginChange { url: at(path), pool: Some(pool), listings, ..Default::default() }
        }
        From::Row(query) => {
            let (query, result) = (Some((*query).into()), Some("row".into()));
            OriginChange {
                url: Some(format!("mysql://{READER}@127.0.0.1:{}/ferry", places.database)),
                credential: Some(READER.into()),
                sql: Some(SqlChange { query, result, max_rows: None }),
                ..Default::default()
            }
        }
    }
}
