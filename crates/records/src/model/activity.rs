//! Who changed what, and when.

use serde_json::Value;
use verax_core::{Name, Timestamp};

/// The actor of a change, for the activity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Actor(String);

impl Actor {
    /// An actor by description, cut to 250 characters.
    pub fn new(description: impl Into<String>) -> Self {
        Self(description.into().chars().take(250).collect())
    }

    /// The description.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// An activity to record.
#[derive(Debug, Clone)]
pub struct Change {
    /// The tenant it belongs to; `None` for the whole service.
    pub tenant: Option<Name>,
    /// The action, as `noun.verb`.
    pub action: &'static str,
    /// The subject of the change.
    pub subject: String,
    /// Details.
    pub detail: Value,
}

/// A recorded activity.
#[derive(Debug, Clone, PartialEq)]
pub struct Activity {
    /// Its number; later ones are larger.
    pub id: u64,
    /// When it happened.
    pub at: Timestamp,
    /// Its actor.
    pub actor: String,
    /// The tenant it belongs to; `None` for the whole service.
    pub tenant: Option<String>,
    /// The action, as `noun.verb`.
    pub action: String,
    /// The subject of the change.
    pub subject: String,
    /// Details.
    pub detail: Value,
}
