//! Stable keys from structured criteria.

use serde::Serialize;
use sha2::{Digest, Sha256};

use crate::error::ClientError;

/// The maximum length of a stable key's prefix, in bytes.
const MAX_PREFIX_BYTES: usize = 200;

/// Makes a key from criteria: `PREFIX:` and 32 hexadecimal digits. Equal criteria make equal keys,
/// regardless of the order of members and the language of the program: they are serialized as
/// canonical JSON (RFC 8785), and the key has the first half of its SHA-256.
///
/// ```
/// use serde_json::json;
/// use verax_client::stable_key;
///
/// let one = stable_key("board", &json!({ "harbor": "aldermouth", "limit": 10 }))?;
/// let other = stable_key("board", &json!({ "limit": 10, "harbor": "aldermouth" }))?;
/// assert_eq!(one, other);
/// assert!(one.starts_with("board:"));
/// # Ok::<(), verax_client::ClientError>(())
/// ```
///
/// # Errors
/// [`ClientError::Invalid`] if the prefix is empty, too long or has a colon, or the criteria have
/// no canonical JSON, such as numbers outside the range of a double.
pub fn stable_key(prefix: &str, criteria: &impl Serialize) -> Result<String, ClientError> {
    if prefix.is_empty() || prefix.len() > MAX_PREFIX_BYTES || prefix.contains(':') {
        return Err(ClientError::Invalid(format!(
            "{prefix:?} is not a key prefix: use 1 to {MAX_PREFIX_BYTES} bytes without a colon"
        )));
    }
    let canonical = serde_json_canonicalizer::to_vec(criteria)
        .map_err(|e| ClientError::Invalid(format!("the criteria have no canonical JSON: {e}")))?;
    let digest = Sha256::digest(canonical);
    let hex: String = digest[..16].iter().map(|byte| format!("{byte:02x}")).collect();
    Ok(format!("{prefix}:{hex}"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    #[test]
    fn order_and_spelling_do_not_matter() {
        let keys = [
            r#"{"harbor":"Ålderhaven","from":1.0,"open":true,"lines":[2,1]}"#,
            r#"{ "lines": [2.0, 1], "open": true, "harbor": "\u00c5lderhaven", "from": 1 }"#,
        ]
        .map(|text| {
            stable_key("b", &serde_json::from_str::<serde_json::Value>(text).unwrap()).unwrap()
        });
        assert_eq!(keys[0], keys[1]);
    }

    #[test]
    fn different_criteria_make_different_keys() {
        let key = |criteria| stable_key("b", &criteria).unwrap();
        let all =
            [json!({"a": 1}), json!({"a": "1"}), json!({"a": [1]}), json!({"a": null}), json!({})];
        let keys: std::collections::HashSet<String> = all.into_iter().map(key).collect();
        assert_eq!(keys.len(), 5);
    }

    #[test]
    fn the_key_format_is_stable() {
        // Other languages must make the same key: SHA-256 of {"harbor":"aldermouth","limit":10}.
        let key = stable_key("board", &json!({"limit": 10, "harbor": "aldermouth"})).unwrap();
        assert_eq!(key, "board:bc497238b3217a36cf812aad7fe245a8");
    }

    #[rstest]
    #[case("")]
    #[case("a:b")]
    fn prefixes_are_checked(#[case] prefix: &str) {
        assert!(stable_key(prefix, &1).is_err());
    }
}
