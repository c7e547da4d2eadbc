//! The load profiles that a service offers.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::profile::LoadProfileSpec;

/// A load profile that the service offers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct OfferedProfile {
    /// The tenant whose namespace it is about.
    pub tenant: String,
    /// Whether it comes with the service, from its directory of profiles. One that is stored under
    /// the same name replaces it.
    pub is_shipped: bool,
    /// When it was stored or changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub changed_at: Option<Timestamp>,
    /// The run that later runs of it are compared with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baseline: Option<u64>,
    /// What it says.
    pub spec: LoadProfileSpec,
}

/// Sets the baseline of a load profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SetBaseline {
    /// A run of the profile; `null` for none.
    pub run: Option<u64>,
}
