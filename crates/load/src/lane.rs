//! The two lanes.

use std::sync::Arc;

use verax_client::{Namespace, Source};
use verax_core::load::Outcome;
use verax_core::{Key, KeyPattern};
use verax_origin::Origin;

/// Reads through Verax.
#[derive(Debug, Clone)]
pub struct CachedLane {
    /// The namespace to read, with a token that opens it.
    pub namespace: Namespace,
}

/// Reads the origin itself.
#[derive(Debug, Clone)]
pub struct DirectLane {
    /// The origin.
    pub origin: Arc<Origin>,
    /// The pattern that turns a key into values for the origin.
    pub key_pattern: KeyPattern,
}

/// A lane, as a run needs it.
#[derive(Debug, Clone)]
pub(crate) enum LaneReader {
    Cached(CachedLane),
    Direct(DirectLane),
}

impl LaneReader {
    /// Reads one key; an error has its message without the key, so that equal errors are counted
    /// together.
    pub(crate) async fn read(&self, key: &Key) -> Result<Outcome, String> {
        match self {
            LaneReader::Cached(lane) => match lane.namespace.get(key.as_str()).await {
                Ok(Some(found)) => Ok(match found.source {
                    Source::Hit | Source::Stale | Source::StaleOnError => Outcome::Hit,
                    Source::Origin => Outcome::FromOrigin,
                    Source::Joined => Outcome::Joined,
                }),
                Ok(None) => Err("the origin has no value for this key".into()),
                Err(error) => Err(error.to_string()),
            },
            LaneReader::Direct(lane) => {
                let values = lane.key_pattern.values_of(key.as_str());
                let values = values.ok_or("the key does not match the namespace's pattern")?;
                let read = lane.origin.read(&values, None).await;
                read.map(|_| Outcome::FromOrigin).map_err(|error| error.plain())
            }
        }
    }
}
