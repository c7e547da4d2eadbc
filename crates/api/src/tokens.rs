//! Tokens and console sessions.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Creates a token.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateToken {
    /// Its scopes: `admin`, or `read:`, `write:`, `invalidate:`, `lock:`, `warm:`, `load:`,
    /// `observe:` or `manage:` followed by a tenant or tenant/namespace.
    pub scopes: Vec<String>,
    /// What it is for.
    #[serde(default)]
    pub note: String,
    /// How long it lasts, at most 10 years; it does not end by itself when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires_in_seconds: Option<f64>,
}

impl CreateToken {
    /// A token that does not end by itself.
    pub fn new(scopes: &[String], note: &str) -> Self {
        Self { scopes: scopes.to_vec(), note: note.to_owned(), expires_in_seconds: None }
    }
}

/// Replaces a token by another with the same scopes and note.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RotateToken {
    /// How long the previous token stays valid, at most 10 years; 86400 (a day) when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub overlap_seconds: Option<f64>,
}

/// The token that replaces another. Its secret is shown only once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct RotatedToken {
    /// The token as it is sent in `Authorization: Bearer`.
    pub secret: String,
    /// Its entry.
    pub token: Token,
    /// The previous token, valid until it expires.
    pub previous: Token,
}

/// A token, without its secret.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its identifier.
    pub id: u64,
    /// Its scopes.
    pub scopes: Vec<String>,
    /// What it is for.
    pub note: String,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
    /// When it was revoked.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub revoked_at: Option<Timestamp>,
    /// When it ends by itself.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub expires_at: Option<Timestamp>,
    /// When it was last used, to about ten seconds.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub last_used_at: Option<Timestamp>,
}

/// A new token with its secret, which is shown only once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CreatedToken {
    /// The token as it is sent in `Authorization: Bearer`.
    pub secret: String,
    /// Its entry.
    #[serde(flatten)]
    pub token: Token,
}

/// Starts a console session, with a sign-in code or a token.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub enum CreateSession {
    /// The code of a sign-in link; it works once.
    Code(String),
    /// An access token.
    Token(String),
}

/// A console session.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Session {
    /// Who is signed in.
    pub who: String,
    /// The session's scopes.
    pub scopes: Vec<String>,
}

/// A live console session.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct LiveSession {
    /// Its number, which is no secret.
    pub id: u64,
    /// Who is signed in.
    pub who: String,
    /// The number of the token it was begun with.
    pub token: Option<u64>,
    /// Its scopes.
    pub scopes: Vec<String>,
    /// When it began.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub started_at: Timestamp,
    /// When it was last used.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub last_used_at: Timestamp,
    /// When it ends by itself.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub ends_at: Timestamp,
    /// Whether it is the session of this request.
    pub is_own: bool,
}

/// A one-time sign-in link for the console.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct SignInLink {
    /// The path to open on the service's address.
    pub path: String,
    /// How long it works.
    pub seconds: u64,
}
