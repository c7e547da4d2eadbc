//! Batches.

use serde::{Deserialize, Serialize};

use crate::Problem;
use crate::object::object;

/// Carries out several operations in one request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct BatchRequest {
    /// The operations, at most 1,000. They are independent; the order of operations on one key is
    /// unspecified.
    pub operations: Vec<BatchOperation>,
}

/// One operation of a batch. An invalid one, such as a get of an empty key, fails in its place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum BatchOperation {
    /// Look an entry up.
    Get {
        /// Its key.
        key: String,
    },
    /// Store a value.
    Put(#[serde(deserialize_with = "object")] BatchPut),
    /// Delete an entry.
    Delete {
        /// Its key.
        key: String,
    },
}

/// A value in JSON: exactly one of the two members.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct BatchValue {
    /// The value, when it is UTF-8.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The value in base64 (RFC 4648, section 4), when it is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base64: Option<String>,
}

/// A value to store in a batch.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct BatchPut {
    /// Its key.
    pub key: String,
    /// The value.
    #[serde(flatten)]
    pub value: BatchValue,
    /// Its media type; `text/plain; charset=utf-8` for a text and `application/octet-stream` for
    /// bytes when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub media_type: Option<String>,
    /// The lifetime, as in the `Cache-Control` field; the namespace's when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_control: Option<String>,
    /// Its tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
}

/// The results of the operations of a batch, in order.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct BatchAnswer {
    /// One result for each operation.
    pub results: Vec<BatchResult>,
}

/// The result of one operation of a batch.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum BatchResult {
    /// A look-up found a value.
    Value(BatchFound),
    /// A read was a miss.
    Miss {},
    /// A value was stored.
    Stored {
        /// Its entity tag.
        entity_tag: String,
        /// Whether it replaced a value.
        replaced: bool,
    },
    /// An entry was deleted.
    Deleted {
        /// Whether it was there.
        was_there: bool,
    },
    /// The operation was refused or failed.
    Failed(Problem),
}

/// A value that a batch found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "openapi", derive(utoipa::ToSchema))]
pub struct BatchFound {
    /// The value.
    #[serde(flatten)]
    pub value: BatchValue,
    /// Its media type.
    pub media_type: String,
    /// Its entity tag.
    pub entity_tag: String,
    /// How long ago it was stored.
    pub age_seconds: f64,
    /// Where it came from, as in the `Cache-Status` field.
    pub cache_status: String,
}
