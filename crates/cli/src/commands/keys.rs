//! `verax key`.

use serde_json::{Value, json};
use verax_client::stable_key;

use crate::arguments::KeyOptions;
use crate::failure::Failure;
use crate::output::Output;

/// Reads criteria: one JSON value, or pairs whose values are JSON where they can be and text where
/// they cannot.
fn criteria(texts: &[String]) -> Result<Value, Failure> {
    if let [text] = texts
        && let Ok(value) = serde_json::from_str(text)
    {
        return Ok(value);
    }
    let mut criteria = serde_json::Map::new();
    for text in texts {
        let (name, value) = text.split_once('=').ok_or_else(|| {
            Failure::usage(format!("{text:?} is neither a JSON value nor NAME=VALUE"))
        })?;
        let value = serde_json::from_str(value).unwrap_or_else(|_| Value::String(value.to_owned()));
        if criteria.insert(name.to_owned(), value).is_some() {
            return Err(Failure::usage(format!("{name} is given twice")));
        }
    }
    Ok(Value::Object(criteria))
}

pub(super) fn key(output: Output, options: &KeyOptions) -> Result<(), Failure> {
    let criteria = criteria(&options.criteria)?;
    let key = stable_key(&options.prefix, &criteria)?;
    output.answer(&json!({ "key": key, "criteria": criteria }), |_| key.clone())
}
