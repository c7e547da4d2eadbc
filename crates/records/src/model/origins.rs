//! Origins.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use verax_core::origin::OriginSource;
use verax_core::{Name, OriginSettings, Timestamp};

use super::activity::Change;

/// How much of a query stands in the activity, in characters.
const MAX_QUERY_SHOWN: usize = 500;

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

/// The details of a change for the activity; a query may be long, so it is cut.
pub(crate) fn settings_detail(settings: &OriginSettings) -> Value {
    let (endpoints, query) = match &settings.source {
        OriginSource::Http { endpoints, .. } => (endpoints.as_slice(), None),
        OriginSource::Sql { query, .. } => (&[][..], Some(query)),
    };
    let (guard, millis) = (&settings.guard, |time: Duration| time.as_millis() as u64);
    json!({
        "url": settings.url(),
        "endpoints": endpoints,
        "query": query.map(|query| query.chars().take(MAX_QUERY_SHOWN).collect::<String>()),
        "credential": settings.credential.as_ref().map(Name::as_str),
        "connect_timeout_ms": millis(settings.connect_timeout),
        "total_timeout_ms": millis(settings.total_timeout),
        "max_response_bytes": settings.max_response_bytes,
        "guard": guard,
        "listings": settings.listings,
        "open_to": settings.open_to.iter().map(Name::as_str).collect::<Vec<_>>(),
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
