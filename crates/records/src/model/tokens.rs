//! Access tokens.

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use verax_core::Timestamp;

use super::activity::Change;

/// A token, without its secret, which is stored nowhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenRecord {
    /// Its identifier.
    pub id: u64,
    /// The SHA-256 of the token.
    pub hash: [u8; 32],
    /// Its scopes, as the service writes them.
    pub scopes: String,
    /// Its creator's note.
    pub note: String,
    /// When it was created.
    pub created_at: Timestamp,
    /// When it was revoked.
    pub revoked_at: Option<Timestamp>,
    /// When it ends by itself.
    #[serde(default)]
    pub expires_at: Option<Timestamp>,
    /// When it was last used, as far as that was written down.
    #[serde(default)]
    pub last_used_at: Option<Timestamp>,
}

impl TokenRecord {
    /// What follows it under another secret: the same scopes and note, for as long as it was to
    /// last.
    pub(crate) fn follower(&self, hash: [u8; 32], now: Timestamp) -> NewToken<'_> {
        let lasts = self.expires_at.map(|end| end.since(self.created_at));
        NewToken {
            hash,
            scopes: &self.scopes,
            note: &self.note,
            expires_at: lasts.map(|l| now + l),
        }
    }

    /// Makes it end at a moment, unless it ends earlier.
    pub(crate) fn ends_by(&mut self, moment: Timestamp) {
        self.expires_at = Some(self.expires_at.map_or(moment, |end| end.min(moment)));
    }

    /// Whether it has ended by itself.
    pub fn has_expired(&self, now: Timestamp) -> bool {
        self.expires_at.is_some_and(|end| end <= now)
    }
}

/// A token that was replaced, and the one that follows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rotated {
    /// The previous token, which ends at its new expiry.
    pub previous: TokenRecord,
    /// The token that follows it.
    pub record: TokenRecord,
}

/// A token to record.
#[derive(Debug, Clone, Copy)]
pub struct NewToken<'t> {
    /// The SHA-256 of the token.
    pub hash: [u8; 32],
    /// Its scopes, as the service writes them.
    pub scopes: &'t str,
    /// Its creator's note.
    pub note: &'t str,
    /// When it ends by itself.
    pub expires_at: Option<Timestamp>,
}

impl<'t> NewToken<'t> {
    /// A token that does not end by itself.
    pub fn new(hash: [u8; 32], scopes: &'t str, note: &'t str) -> Self {
        Self { hash, scopes, note, expires_at: None }
    }

    pub(crate) fn record(&self, id: u64, now: Timestamp) -> TokenRecord {
        let Self { hash, scopes, note, expires_at } = *self;
        let (scopes, note) = (scopes.to_owned(), note.to_owned());
        let (created_at, revoked_at, last_used_at) = (now, None, None);
        TokenRecord { id, hash, scopes, note, created_at, revoked_at, expires_at, last_used_at }
    }

    /// The details for the activity.
    pub(crate) fn detail(&self) -> Value {
        let expires_at = self.expires_at.map(Timestamp::as_millis);
        json!({ "scopes": self.scopes, "note": self.note, "expires_at_ms": expires_at })
    }
}

/// The activity of a change to a token.
pub(crate) fn token_change(action: &'static str, id: u64, detail: Value) -> Change {
    Change { tenant: None, action, subject: format!("token {id}"), detail }
}
