//! The keys of a run: a pattern, with values from lists and from listings of the origin.

use std::collections::BTreeMap;

use verax_api::WarmValues;
use verax_core::{Key, KeyPattern, warm};
use verax_origin::Origin;

use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;

/// What a run needs of its namespace.
pub(super) struct RunTarget {
    pub(super) origin: std::sync::Arc<Origin>,
    pub(super) pattern: KeyPattern,
    pub(super) keys: Vec<Key>,
}

/// The keys of a run over a namespace, which must have an origin.
pub(super) async fn target_of(
    namespace: &Registered,
    pattern: Option<&str>,
    values: &BTreeMap<String, WarmValues>,
) -> Result<RunTarget, ControlError> {
    let binding = namespace.binding();
    let (Some(origin), Some(choice)) = (&binding.origin, &binding.policy.origin) else {
        return Err(InvalidInput::NoOrigin(namespace.path()).into());
    };
    let run_pattern = match pattern {
        Some(text) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
        None => choice.key_pattern.clone(),
    };
    let mut lists = BTreeMap::new();
    for (variable, from) in values {
        let list = match from {
            WarmValues::List(list) => list.clone(),
            WarmValues::Listing(reference) => origin
                .read_listing(reference)
                .await
                .map_err(|error| InvalidInput::Values { variable: variable.clone(), error })?,
        };
        lists.insert(variable.clone(), list);
    }
    let keys = warm::keys_of(&run_pattern, &lists).map_err(ControlError::invalid)?;
    if let Some(key) = keys.iter().find(|k| choice.key_pattern.values_of(k.as_str()).is_none()) {
        let (key, namespace) = (key.as_str().to_owned(), namespace.path());
        let pattern = choice.key_pattern.clone();
        return Err(InvalidInput::ForeignKey { key, pattern, namespace }.into());
    }
    Ok(RunTarget { origin: origin.clone(), pattern: choice.key_pattern.clone(), keys })
}
