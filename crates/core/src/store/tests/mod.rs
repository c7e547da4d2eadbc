//! Tests of the store, by concept.

mod conditions;
mod entries;
mod listings;
mod memory;
mod properties;
mod revisions;
mod tenants;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::entry::EntryRevision;
use crate::entry::{EntityTag, Entry, Tag};
use crate::key::Key;
use crate::key::NamespaceId;
use crate::lifetime::{Freshness, Lifetime};
use crate::time::Timestamp;

const A: NamespaceId = NamespaceId(1);
const B: NamespaceId = NamespaceId(2);

fn key(text: &str) -> Key {
    Key::new(text).unwrap()
}

fn at(millis: u64) -> Timestamp {
    Timestamp::from_millis(millis)
}

fn entry(value: &str, max_age_ms: u64, now: Timestamp) -> Entry {
    let lifetime = Lifetime::of(Duration::from_millis(max_age_ms));
    Entry::new(value.to_owned(), "text/plain", lifetime, now)
}

fn put(partition: &Partition, name: &str, value: &str) {
    put_for(partition, name, value, 1_000, 0);
}

fn put_for(partition: &Partition, name: &str, value: &str, max_age_ms: u64, now: u64) {
    let entry = entry(value, max_age_ms, at(now));
    partition.put(&key(name), &entry, Precondition::Always, at(now)).unwrap();
}

fn value(partition: &Partition, name: &str, now: u64) -> Option<String> {
    let found = partition.get(name, at(now))?;
    Some(String::from_utf8(found.value().to_vec()).unwrap())
}

/// Tidies until nothing waits; returns how many entries went.
fn tidy(store: &Store, now: u64) -> u64 {
    let mut freed = 0;
    for _ in 0..100_000 {
        let (part, more) = store.tidy(4, at(now));
        freed += part;
        if !more {
            return freed;
        }
    }
    panic!("tidying has no end");
}

fn tags(names: &[&str]) -> Vec<Tag> {
    names.iter().map(|name| Tag::from(*name)).collect()
}
