//! Tenants, their origins and namespaces, and their activity.

use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::object::{given, given_object, object};
use crate::quotas::{TenantQuota, TenantUsage};

/// Creates a tenant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateTenant {
    /// Its name: 1 to 63 lower-case letters, digits and hyphens.
    pub name: String,
}

/// A tenant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Tenant {
    /// Its name.
    pub name: String,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
    /// What it may use; absent for a token that may not observe all of the tenant.
    #[serde(default)]
    pub quota: Option<TenantQuota>,
    /// What it uses; absent for a token that may not observe all of the tenant.
    #[serde(default)]
    pub usage: Option<TenantUsage>,
}

/// Which origin a namespace reads through to, and how.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct OriginChoice {
    /// The origin's name within the tenant.
    pub name: String,
    /// The pattern of the keys, such as `board/{harbor}`; `{key}` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_pattern: Option<String>,
}

/// The policy of a namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Policy {
    /// How long an entry is fresh.
    pub max_age_seconds: f64,
    /// How long after that the previous copy may be served while one caller refreshes it.
    pub stale_while_revalidate_seconds: f64,
    /// How long after max-age the previous copy may be served when the origin fails.
    pub stale_if_error_seconds: f64,
    /// The shortest max-age that a caller may give an entry; a shorter one becomes this.
    #[serde(default)]
    pub shortest_max_age_seconds: f64,
    /// The longest max-age that a caller may give an entry; a longer one becomes this.
    #[serde(default)]
    pub longest_max_age_seconds: f64,
    /// What every value must be: `any`, `text` (UTF-8) or `json`.
    #[serde(default)]
    pub content: String,
    /// The JSON Schema that values must match, as text; absent without one.
    #[serde(default)]
    pub content_schema: Option<String>,
    /// Values of more bytes than this are stored compressed; absent for none.
    #[serde(default)]
    pub compress_above_bytes: Option<u64>,
    /// Jitter: entries expire earlier by a random part of max-age, up to this percentage, so that
    /// they do not expire together.
    pub jitter_percent: u8,
    /// The largest value.
    pub max_value_bytes: u64,
    /// Memory that no other namespace can push this one below.
    pub reserve_bytes: u64,
    /// Memory that this namespace never exceeds; absent without a cap.
    pub cap_bytes: Option<u64>,
    /// The most entries; absent without a limit.
    #[serde(default)]
    pub max_entries: Option<u64>,
    /// The most requests in a second; absent without a limit.
    #[serde(default)]
    pub requests_per_second: Option<u64>,
    /// The most bytes of values in a second; absent without a limit.
    #[serde(default)]
    pub bytes_per_second: Option<u64>,
    /// The max-age of negative entries; 0 stores none.
    #[serde(default)]
    pub negative_max_age_seconds: f64,
    /// The factor of early refresh, in percent; 0 disables it.
    #[serde(default)]
    pub early_refresh_percent: u16,
    /// Whether writes go to the origin first.
    #[serde(default)]
    pub write_through: bool,
    /// Until when reads go to the origin as if there were no cache; it may be over.
    #[serde(default)]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub bypass_until: Option<Timestamp>,
    /// What is removed or refreshed every so often.
    #[serde(default)]
    pub intervals: Vec<Interval>,
    /// The origin of missing values.
    pub origin: Option<OriginChoice>,
}

/// What is removed or refreshed every so often: every entry, or those with a tag or prefix.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Interval {
    /// Only entries with this tag.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// Only entries whose keys start with this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prefix: Option<String>,
    /// How often, 1 to 2678400 (31 days).
    pub every_seconds: f64,
    /// Whether they are read anew from the origin and stay readable meanwhile; otherwise they are
    /// removed.
    #[serde(default)]
    pub refresh: bool,
}

/// Parts of a policy; absent parts stay unchanged, or take the defaults in a new namespace.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct PolicyChange {
    /// How long an entry is fresh; 60 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_age_seconds: Option<f64>,
    /// How long after that the previous copy may be served while one caller refreshes it; 0 by
    /// default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stale_while_revalidate_seconds: Option<f64>,
    /// How long after max-age the previous copy may be served when the origin fails; 0 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stale_if_error_seconds: Option<f64>,
    /// The shortest max-age that a caller may give an entry; 0 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shortest_max_age_seconds: Option<f64>,
    /// The longest max-age that a caller may give an entry; ten years by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub longest_max_age_seconds: Option<f64>,
    /// What every value must be: `any`, the default, `text` (UTF-8) or `json`. Values that are
    /// stored already are not checked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<String>,
    /// A JSON Schema (draft 2020-12) that values must match, as text of at most 32 KiB; `null`
    /// removes it. It refers only to its own `$defs`, and not in a circle.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>))]
    pub content_schema: Option<Option<String>>,
    /// Values of more bytes than this, 256 to 64 MiB, are stored compressed, if that saves at least
    /// an eighth; `null`, the default, compresses none. Callers see no difference.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub compress_above_bytes: Option<Option<u64>>,
    /// Jitter: entries with the namespace's lifetime expire earlier by a random part of max-age, up
    /// to this percentage, 0 to 50; 0 by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub jitter_percent: Option<u8>,
    /// The largest value; 1 MiB by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_value_bytes: Option<u64>,
    /// Memory that no other namespace can push this one below; 0 by default. For administrators.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserve_bytes: Option<u64>,
    /// Memory that this namespace never exceeds; `null` removes the cap. For administrators.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub cap_bytes: Option<Option<u64>>,
    /// The most entries; `null` removes the limit. For administrators.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub max_entries: Option<Option<u64>>,
    /// The most requests in a second, a batch counting as many as it has operations; `null` removes
    /// the limit. For administrators.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub requests_per_second: Option<Option<u64>>,
    /// The most bytes of values in a second, in both directions together; `null` removes the limit.
    /// For administrators.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<u64>))]
    pub bytes_per_second: Option<Option<u64>>,
    /// The max-age of negative entries, which spare the origin repeated reads; 0, the default,
    /// stores none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub negative_max_age_seconds: Option<f64>,
    /// The factor of early refresh, in percent, 0 to 1000. At 100, the published rule, callers
    /// refresh with a probability that grows towards the end and with the time of the last refill;
    /// 0, the default, disables early refresh.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub early_refresh_percent: Option<u16>,
    /// Whether writes go to the origin first, by PUT and DELETE; false by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub write_through: Option<bool>,
    /// For how long from now reads go to the origin as if there were no cache, at most a day; 0
    /// ends it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bypass_seconds: Option<f64>,
    /// What is removed or refreshed every so often, at most 16 rules, in place of those before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub intervals: Option<Vec<Interval>>,
    /// The origin of missing values; `null` unbinds it.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "given_object")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<OriginChoice>))]
    pub origin: Option<Option<OriginChoice>>,
}

/// Creates a namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateNamespace {
    /// Its name within the tenant.
    pub name: String,
    /// Its policy.
    #[serde(default, deserialize_with = "object")]
    pub policy: PolicyChange,
}

/// What a namespace holds.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Usage {
    /// How many entries.
    pub entries: u64,
    /// Their memory, including bookkeeping.
    pub bytes: u64,
}

/// A namespace.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Namespace {
    /// The tenant that owns it.
    pub tenant: String,
    /// Its name within the tenant.
    pub name: String,
    /// Its policy.
    pub policy: Policy,
    /// What it holds.
    pub usage: Usage,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
}

/// A change of the configuration.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct ActivityItem {
    /// Its number; later ones are larger.
    pub id: u64,
    /// When it happened.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub at: Timestamp,
    /// Its actor.
    pub actor: String,
    /// The tenant it belongs to; absent for the whole service.
    pub tenant: Option<String>,
    /// The action, as `noun.verb`.
    pub action: String,
    /// The subject of the change.
    pub subject: String,
    /// Details.
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub detail: serde_json::Value,
}

/// A number of seconds that is not a duration.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{field} = {seconds} is not a number of seconds of 0 or more")]
pub struct InvalidSeconds {
    /// The invalid field.
    pub field: &'static str,
    /// The number.
    pub seconds: f64,
}

/// Reads a field in seconds, to the millisecond.
///
/// # Errors
/// [`InvalidSeconds`] for negative numbers and for numbers out of range.
pub fn duration_of(field: &'static str, seconds: f64) -> Result<Duration, InvalidSeconds> {
    match Duration::try_from_secs_f64(seconds) {
        Ok(time) => Ok(Duration::from_millis(u64::try_from(time.as_millis()).unwrap_or(u64::MAX))),
        Err(_) => Err(InvalidSeconds { field, seconds }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn null_unbinds_an_origin_and_absence_keeps_it() {
        let read = |json| serde_json::from_str::<PolicyChange>(json).unwrap().origin;
        assert_eq!(read("{}"), None);
        assert_eq!(read(r#"{"origin":null}"#), Some(None));
        assert_eq!(read(r#"{"origin":{"name":"t"}}"#).unwrap().unwrap().name, "t");
        let unbind = PolicyChange { origin: Some(None), ..Default::default() };
        assert_eq!(serde_json::to_string(&unbind).unwrap(), r#"{"origin":null}"#);
        assert_eq!(serde_json::to_string(&PolicyChange::default()).unwrap(), "{}");
    }

    #[test]
    fn seconds_are_checked() {
        assert_eq!(duration_of("x", 1.5), Ok(Duration::from_millis(1_500)));
        for bad in [-1.0, f64::NAN, f64::INFINITY, 1e300] {
            assert!(duration_of("max_age_seconds", bad).is_err(), "{bad}");
        }
    }
}
