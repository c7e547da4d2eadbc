//! Tokens and console sessions.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Asks for a token.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct CreateToken {
    /// What it opens: `admin`, or `read:`, `write:`, `manage:` and a tenant or tenant/namespace.
    pub scopes: Vec<String>,
    /// What it is for.
    #[serde(default)]
    pub note: String,
}

/// A token, without its secret.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its identity.
    pub id: u64,
    /// What it opens.
    pub scopes: Vec<String>,
    /// What it is for.
    pub note: String,
    /// When it was created.
    #[cfg_attr(feature = "openapi", schema(value_type = String, format = DateTime))]
    pub created_at: Timestamp,
    /// When it was revoked.
    #[cfg_attr(feature = "openapi", schema(value_type = Option<String>, format = DateTime))]
    pub revoked_at: Option<Timestamp>,
}

/// A token that was just created, with its secret, which is shown this once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct CreatedToken {
    /// The token as it is sent in `Authorization: Bearer`.
    pub secret: String,
    /// What is kept of it.
    #[serde(flatten)]
    pub token: Token,
}

/// Asks for a console session, by a sign-in code or by a token.
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
    /// Who is signed in, in words.
    pub who: String,
    /// What the session opens.
    pub scopes: Vec<String>,
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
