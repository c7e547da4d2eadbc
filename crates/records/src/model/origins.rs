//! Origins.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use verax_core::origin::OriginSource;
use verax_core::{Name, OriginSettings, Timestamp};

use super::activity::Change;

/// What keeps an origin from being deleted, and what to do.
pub(crate) const ORIGIN_USED_BY: &str =
    "a namespace reads through it; unbind or delete the namespace first";

/// An origin of a tenant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OriginRecord {
    /// Its identifier.
    pub id: u64,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
    /// Its settings.
    pub settings: OriginSettings,
    /// When it was created.
    pub created_at: Timestamp,
}

/// The details of a change for the activity; a query may be long, and does not tell where it goes.
pub(crate) fn settings_detail(settings: &OriginSettings) -> Value {
    let endpoints = match &settings.source {
        OriginSource::Http { endpoints, .. } => endpoints.as_slice(),
        OriginSource::Sql { .. } => &[],
    };
    json!({
        "url": settings.url(),
        "endpoints": endpoints,
        "credential": settings.credential.as_ref().map(Name::as_str),
    })
}

/// The activity of a change to an origin.
pub(crate) fn origin_change(
    action: &'static str,
    (tenant, name): (&Name, &Name),
    detail: Value,
) -> Change {
    Change { tenant: Some(tenant.clone()), action, subject: format!("{tenant}/{name}"), detail }
}
