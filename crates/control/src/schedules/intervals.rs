//! Removes and refreshes entries at the intervals of the namespaces' policies.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use futures_util::{StreamExt, stream};
use tokio::task::JoinHandle;
use verax_core::interval::{IntervalRule, IntervalScope};
use verax_core::store::{EntryFilter, Position};
use verax_core::{Key, NamespaceId, Timestamp};
use verax_engine::cache::{MAX_PAGE_ENTRIES, RefillTerms};
use verax_engine::{Clearer, Deleter, Namespace, Reader, Warmer};

use crate::control::Control;
use crate::membership::Role;

/// How exactly rules are carried out.
const TICK: Duration = Duration::from_millis(250);

/// How many keys of a namespace are refreshed at the same time.
const CONCURRENCY: usize = 4;

/// A rule, and when it is due.
struct Planned {
    rule: IntervalRule,
    began: Timestamp,
    due: Timestamp,
    /// What began when it was due the last time.
    active: Option<JoinHandle<()>>,
}

impl Drop for Planned {
    fn drop(&mut self) {
        // A rule that is gone does nothing more.
        if let Some(active) = &self.active {
            active.abort();
        }
    }
}

/// Carries out what is due until the service stops.
pub(crate) async fn follow_intervals(control: Arc<Control>) {
    let mut planned: HashMap<NamespaceId, Vec<Planned>> = HashMap::new();
    let mut ticks = tokio::time::interval(TICK);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        let now = control.engine.now();
        if control.role() != Role::Active {
            planned.clear();
            continue;
        }
        let mut current = HashMap::new();
        for registered in control.registry.namespaces() {
            let binding = registered.binding();
            let rules = &binding.policy.intervals;
            if rules.is_empty() {
                continue;
            }
            let before = planned.remove(&registered.id()).unwrap_or_default();
            let mut plans = plans_of(rules, before, now);
            for plan in plans.iter_mut().filter(|plan| plan.due <= now) {
                plan.due = plan.rule.next(plan.began, now);
                // One that is still active is not joined by a second.
                if plan.active.as_ref().is_none_or(JoinHandle::is_finished) {
                    let namespace = Arc::clone(registered.namespace());
                    plan.active = Some(tokio::spawn(carry_out(namespace, plan.rule.clone())));
                }
            }
            current.insert(registered.id(), plans);
        }
        // Rules of namespaces that are gone are gone with them.
        planned = current;
    }
}

/// The plans of a namespace's rules; a rule that was there keeps its times.
fn plans_of(rules: &[IntervalRule], mut before: Vec<Planned>, now: Timestamp) -> Vec<Planned> {
    rules
        .iter()
        .map(|rule| match before.iter().position(|plan| plan.rule == *rule) {
            Some(at) => before.swap_remove(at),
            None => {
                let due = rule.next(now, now);
                Planned { rule: rule.clone(), began: now, due, active: None }
            }
        })
        .collect()
}

async fn carry_out(namespace: Arc<Namespace>, rule: IntervalRule) {
    match &rule.scope {
        scope if rule.refresh => refresh(namespace, scope).await,
        IntervalScope::All => {
            Clearer::open(namespace).clear();
        }
        IntervalScope::Tag(tag) => {
            Deleter::open(namespace).invalidate_tag(tag);
        }
        IntervalScope::Prefix(prefix) => {
            Clearer::open(namespace).clear_prefix(prefix).await;
        }
    }
}

/// Reads entries anew from the origin, a few at a time, page by page.
async fn refresh(namespace: Arc<Namespace>, scope: &IntervalScope) {
    let filter = match scope {
        IntervalScope::All => EntryFilter::default(),
        IntervalScope::Tag(tag) => EntryFilter { tag: Some(tag), ..EntryFilter::default() },
        IntervalScope::Prefix(prefix) => EntryFilter::prefix(prefix),
    };
    let (reader, warmer) =
        (Reader::open(Arc::clone(&namespace)), Warmer::open(Arc::clone(&namespace)));
    let mut from = Some(Position::default());
    while let Some(position) = from {
        let now = namespace.now();
        let Ok(listing) = reader.list(&filter, position, MAX_PAGE_ENTRIES, now) else { return };
        let keys = listing.entries.iter().filter_map(|e| Key::new(e.found.key()).ok());
        let keys: Vec<Key> = keys.collect();
        // A failed refill leaves the copy as it is; the origin's guards bound what is read.
        stream::iter(keys)
            .for_each_concurrent(CONCURRENCY, async |key| {
                drop(warmer.refill(&key, RefillTerms::default()).await);
            })
            .await;
        from = listing.next;
    }
}
