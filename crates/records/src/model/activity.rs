//! Who changed what, and when.

use serde_json::{Map, Value, json};
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

/// Which activity is wanted: what fits every part that is given. Texts match anywhere, without
/// regard to case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ActivityFilter {
    /// Of this tenant.
    pub tenant: Option<Name>,
    /// A part of the actor.
    pub actor: Option<String>,
    /// A part of the action.
    pub action: Option<String>,
    /// A part of the subject.
    pub subject: Option<String>,
    /// Not earlier.
    pub since: Option<Timestamp>,
    /// Earlier than this.
    pub until: Option<Timestamp>,
    /// Numbers smaller than this: where the previous page ended.
    pub before: Option<u64>,
    /// The most rows.
    pub most: u32,
}

impl ActivityFilter {
    /// The latest activity, of one tenant or of all.
    pub fn latest(tenant: Option<Name>, most: u32) -> Self {
        let (actor, action, subject) = (None, None, None);
        Self { tenant, actor, action, subject, since: None, until: None, before: None, most }
    }

    /// Whether a row fits everything but the tenant.
    pub(crate) fn fits(&self, row: &Activity) -> bool {
        let has = |text: &str, part: &Option<String>| {
            part.as_ref().is_none_or(|part| text.to_lowercase().contains(&part.to_lowercase()))
        };
        has(&row.actor, &self.actor)
            && has(&row.action, &self.action)
            && has(&row.subject, &self.subject)
            && self.since.is_none_or(|since| row.at >= since)
            && self.until.is_none_or(|until| row.at < until)
            && self.before.is_none_or(|before| row.id < before)
    }
}

/// The details of a change: each member that is another now, before and after.
pub(crate) fn difference(before: &Value, after: &Value) -> Value {
    let (Some(before), Some(after)) = (before.as_object(), after.as_object()) else {
        return after.clone();
    };
    let changed = after.iter().filter(|(name, value)| before.get(*name) != Some(value));
    let member = |(name, value): (&String, &Value)| {
        (name.clone(), json!({ "before": before.get(name), "after": value }))
    };
    Value::Object(changed.map(member).collect::<Map<_, _>>())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_difference_has_what_changed_before_and_after() {
        let (before, after) = (json!({ "a": 1, "b": null }), json!({ "a": 2, "b": null, "c": 3 }));
        let expected = json!({
            "a": { "before": 1, "after": 2 },
            "c": { "before": null, "after": 3 },
        });
        assert_eq!(difference(&before, &after), expected);
        assert_eq!(difference(&before, &before), json!({}));
    }
}
