//! What the lanes of a run read, with all that a generator needs to read it.

use serde::{Deserialize, Serialize};

use super::profile::{RefillBy, Transport};
use crate::origin::OriginSettings;

/// What a lane reads.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum LaneTarget {
    /// A namespace, with the client library.
    Cache {
        /// Its tenant.
        tenant: String,
        /// Its name.
        namespace: String,
        /// How it is reached.
        through: Transport,
        /// Who refills.
        refill: RefillBy,
        /// What the client refills from, if it refills.
        origin: Option<OriginTarget>,
    },
    /// An origin.
    Origin(OriginTarget),
}

/// An origin that a generator reads. Its secret is not here: settings name it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct OriginTarget {
    /// Its settings.
    pub settings: OriginSettings,
    /// The pattern that turns a key into values for it.
    pub key_pattern: String,
}
