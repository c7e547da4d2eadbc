//! The demo's tenants, origins and namespaces, created through Verax's own interface.

use std::net::SocketAddr;

use verax_api::{CreateNamespace, CreateOrigin, OriginChange, OriginChoice, PolicyChange};
use verax_client::{Client, ClientError};

use crate::error::DemoError;

struct Planned {
    tenant: &'static str,
    origin: &'static str,
    path: &'static str,
    namespace: &'static str,
    key_pattern: &'static str,
    max_age_seconds: f64,
    stale_if_error_seconds: f64,
}

/// What there is to see, by tenant.
const PLAN: [Planned; 4] = [
    Planned {
        tenant: "ferrydesk",
        origin: "timetable",
        path: "/boards/{harbour}",
        namespace: "boards",
        key_pattern: "board/{harbour}",
        max_age_seconds: 30.0,
        stale_if_error_seconds: 600.0,
    },
    Planned {
        tenant: "ferrydesk",
        origin: "tariff",
        path: "/fares/{from}/{to}",
        namespace: "fares",
        key_pattern: "fare/{from}/{to}",
        max_age_seconds: 900.0,
        stale_if_error_seconds: 3_600.0,
    },
    Planned {
        tenant: "tideline",
        origin: "gauges",
        path: "/tides/{gauge}",
        namespace: "tables",
        key_pattern: "tide/{gauge}",
        max_age_seconds: 120.0,
        stale_if_error_seconds: 3_600.0,
    },
    Planned {
        tenant: "quayside",
        origin: "berth-desk",
        path: "/berths/{harbour}",
        namespace: "berths",
        key_pattern: "berths/{harbour}",
        max_age_seconds: 15.0,
        stale_if_error_seconds: 60.0,
    },
];

/// Something that is there already is as good as something created.
fn there<T>(result: Result<T, ClientError>) -> Result<(), ClientError> {
    match result {
        Err(error) if error.problem() == Some("conflict") => Ok(()),
        other => other.map(drop),
    }
}

/// Creates what is missing, and points the origins at the stand-in of this start.
///
/// # Errors
/// [`DemoError::Verax`].
pub async fn create(verax: &Client, stand_in: SocketAddr) -> Result<(), DemoError> {
    for plan in &PLAN {
        there(verax.create_tenant(plan.tenant).await)?;
        let url = format!("http://{stand_in}{}", plan.path);
        let known = verax.origins(plan.tenant).await?;
        match known.iter().find(|origin| origin.name == plan.origin) {
            Some(origin) if origin.url == url => {}
            Some(_) => {
                let change = OriginChange { url: Some(url), ..Default::default() };
                verax.change_origin(plan.tenant, plan.origin, &change).await?;
            }
            None => {
                let name = plan.origin.into();
                let origin = CreateOrigin { name, url, ..Default::default() };
                verax.create_origin(plan.tenant, &origin).await?;
            }
        }
        let namespace = CreateNamespace {
            name: plan.namespace.into(),
            policy: PolicyChange {
                max_age_seconds: Some(plan.max_age_seconds),
                stale_if_error_seconds: Some(plan.stale_if_error_seconds),
                origin: Some(Some(OriginChoice {
                    name: plan.origin.into(),
                    key_pattern: Some(plan.key_pattern.into()),
                })),
                ..Default::default()
            },
        };
        there(verax.create_namespace(plan.tenant, &namespace).await)?;
    }
    Ok(())
}
