//! The keys of a run: a pattern, with values from lists and from listings of the origin.

use std::collections::BTreeMap;

use verax_api::WarmValues;
use verax_core::{Key, KeyPattern, warm};
use verax_origin::Origin;

use crate::error::ControlError;
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
        return Err(ControlError::Invalid(format!(
            "namespace {} has no origin to read from: bind one with `verax namespace change`",
            namespace.path()
        )));
    };
    let run_pattern = match pattern {
        Some(text) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
        None => choice.key_pattern.clone(),
    };
    let mut lists = BTreeMap::new();
    for (variable, from) in values {
        let list = match from {
            WarmValues::List(list) => list.clone(),
            WarmValues::Listing(reference) => {
                origin.read_listing(reference).await.map_err(|error| {
                    ControlError::Invalid(format!("the values of {variable}: {error}"))
                })?
            }
        };
        lists.insert(variable.clone(), list);
    }
    let keys = warm::keys_of(&run_pattern, &lists).map_err(ControlError::invalid)?;
    if let Some(key) = keys.iter().find(|k| choice.key_pattern.values_of(k.as_str()).is_none()) {
        return Err(ControlError::Invalid(format!(
            "the key {key:?} does not match the pattern {} of namespace {}",
            choice.key_pattern,
            namespace.path(),
            key = key.as_str(),
        )));
    }
    Ok(RunTarget { origin: origin.clone(), pattern: choice.key_pattern.clone(), keys })
}
