//! Checks stored values: against the namespace's content rule, or else against what their media
//! types declare.

use verax_core::content::{ContentRule, Damage};
use verax_core::entry::EntityTag;
use verax_core::store::{EntryFilter, Position};
use verax_core::{EntryRef, Key, Precondition};

use super::entries::MAX_PAGE_ENTRIES;
use crate::error::EngineError;
use crate::handle::{Deleter, Reader};

/// How many entries one step checks.
const STEP: usize = 10_000;

/// After how many bytes others get their turn.
const TURN_BYTES: usize = 1 << 20;

/// A stored value that is damaged.
#[derive(Debug, Clone)]
pub struct DamagedEntry {
    /// Its key.
    pub key: Key,
    /// Where and why.
    pub damage: Damage,
    /// The value's entity tag, so that only this value is removed.
    pub entity_tag: EntityTag,
}

/// A step of a check.
#[derive(Debug, Default)]
pub struct CheckStep {
    /// How many entries were checked.
    pub checked: u64,
    /// The damaged ones.
    pub damaged: Vec<DamagedEntry>,
    /// Where the next step begins; `None` after the last.
    pub next: Option<Position>,
}

/// The rule for an entry: the namespace's, or what its media type declares.
fn rule_for(of_namespace: ContentRule, entry: &EntryRef) -> ContentRule {
    let media_type = entry.media_type();
    let name = media_type.as_str().split(';').next().unwrap_or_default().trim();
    match of_namespace {
        ContentRule::Any if name == "application/json" || name.ends_with("+json") => {
            ContentRule::Json
        }
        // Without a charset, text is what its application says.
        ContentRule::Any if name.starts_with("text/") && media_type.as_str().contains("utf-8") => {
            ContentRule::Text
        }
        rule => rule,
    }
}

impl Reader {
    /// Checks the values of some entries whose keys start with `prefix`, from a position on.
    ///
    /// # Errors
    /// [`EngineError`].
    pub async fn check(&self, prefix: &str, from: Position) -> Result<CheckStep, EngineError> {
        let binding = self.binding();
        let policy = &binding.policy;
        let mut step = CheckStep { next: Some(from), ..CheckStep::default() };
        let mut unyielded = 0;
        while let Some(position) = step.next.filter(|_| (step.checked as usize) < STEP) {
            let now = self.engine().now();
            let listing =
                self.list(&EntryFilter::prefix(prefix), position, MAX_PAGE_ENTRIES, now)?;
            for listed in &listing.entries {
                let found = &listed.found;
                step.checked += 1;
                // Neither many values nor large ones may block others.
                unyielded += found.value_length();
                if unyielded > TURN_BYTES {
                    unyielded = 0;
                    tokio::task::yield_now().await;
                }
                if found.is_negative() {
                    continue;
                }
                let broken = match &policy.schema {
                    Some(schema) => schema.check(found.value()),
                    None => rule_for(policy.content, found).check(found.value()),
                };
                // Keys in the store were validated when they were stored.
                if let (Err(damage), Ok(key)) = (broken, Key::new(found.key())) {
                    step.damaged.push(DamagedEntry { key, damage, entity_tag: found.entity_tag() });
                }
            }
            step.next = listing.next;
            tokio::task::yield_now().await;
        }
        Ok(step)
    }
}

impl Deleter {
    /// Removes a damaged value, unless another one is there by now; returns whether it did.
    pub fn remove_damaged(&self, entry: &DamagedEntry) -> bool {
        let condition = Precondition::IfMatches(vec![entry.entity_tag]);
        self.delete_entry(&entry.key, &condition).unwrap_or(false)
    }
}
