//! Errors: RFC 9457 problem details.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::FailureKind;

/// A problem document. Its type is `urn:verax:problem:NAME`, with the name of a [`FailureKind`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct Problem {
    /// The kind of problem, stable for programs.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, and what to do.
    pub detail: String,
    /// The request this is about, as the `request-id` field of the response has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request_id: Option<String>,
    /// Members of this kind alone, such as `missing_scope`.
    #[serde(flatten)]
    #[cfg_attr(feature = "openapi", schema(value_type = Object))]
    pub more: Map<String, Value>,
}

/// The member that tells after how long the request may be repeated.
pub const RETRY_AFTER_SECONDS: &str = "retry_after_seconds";

/// What precedes a problem's name in its type.
const PREFIX: &str = "urn:verax:problem:";

impl Problem {
    /// A problem of a kind, with its detail.
    pub fn of(kind: FailureKind, detail: impl Into<String>) -> Self {
        Self {
            kind: format!("{PREFIX}{}", kind.name()),
            title: kind.title().to_owned(),
            status: kind.status(),
            detail: detail.into(),
            request_id: None,
            more: Map::new(),
        }
    }

    /// The same problem with a member of its own.
    pub fn with(mut self, member: &str, value: impl Into<Value>) -> Self {
        self.more.insert(member.to_owned(), value.into());
        self
    }

    /// After how long the request may be repeated, if that is known.
    pub fn retry_after_seconds(&self) -> Option<f64> {
        self.more.get(RETRY_AFTER_SECONDS)?.as_f64()
    }

    /// The short name of its kind.
    pub fn name(&self) -> &str {
        self.kind.strip_prefix(PREFIX).unwrap_or(&self.kind)
    }

    /// Its kind; `None` for kinds of later versions.
    pub fn failure(&self) -> Option<FailureKind> {
        FailureKind::of_name(self.name())
    }
}
