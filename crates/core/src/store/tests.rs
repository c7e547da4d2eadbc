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

#[test]
fn a_negative_result_is_an_entry_and_no_value() {
    let store = Store::new(1 << 20);
    let partition = store.open(A, Quota::default());
    let (k, second) = (key("k"), Duration::from_secs(1));
    let none = || {
        let negative = Entry::negative(second, at(0));
        partition.put(&k, &negative, Precondition::Always, at(0)).map(|put| put.replaced)
    };
    assert_eq!(none(), Ok(false));
    let found = partition.get("k", at(999)).unwrap();
    assert!(found.is_negative() && found.entry().is_negative() && found.value().is_empty());
    assert!(partition.get("k", at(1_000)).is_none(), "it has its own time");
    assert_eq!(partition.list("", Position::default(), 10, at(0)).entries.len(), 1);
    // What wants nothing to be there finds nothing, and what wants something does not.
    assert_eq!(none(), Ok(false));
    let value = entry("v", 1_000, at(0));
    let matching = Precondition::IfMatches(vec![found.entity_tag()]);
    assert_eq!(partition.put(&k, &value, matching, at(0)), Err(PutError::ConditionFailed));
    let put = partition.put(&k, &value, Precondition::IfAbsent, at(0)).unwrap();
    assert!(!put.replaced);
    assert_eq!(none(), Ok(true), "it replaces a value");
    let counted = partition.add(&k, 3, Lifetime::of(second), at(0)).unwrap();
    assert_eq!((counted.value, counted.created), (3, true));
    // A value that looks like it is one all the same.
    let own = Entry::new("", "application/vnd.verax.other", Lifetime::of(second), at(0));
    partition.put(&k, &own, Precondition::Always, at(0)).unwrap();
    assert!(!partition.get("k", at(0)).unwrap().is_negative());
}

#[test]
fn an_entry_remembers_how_long_its_refill_took_at_no_cost() {
    let store = Store::new(1 << 20);
    let partition = store.open(A, Quota::default());
    put(&partition, "k", "v");
    assert_eq!(partition.get("k", at(0)).unwrap().refill_took(), Duration::ZERO);
    let bytes = partition.usage().bytes;
    let refilled = entry("v", 1_000, at(0)).refilled_in(Duration::from_millis(250));
    partition.put(&key("k"), &refilled, Precondition::Always, at(0)).unwrap();
    let took = |now| partition.get("k", at(now)).unwrap().refill_took().as_millis();
    assert!((243..=257).contains(&took(0)), "{}", took(0));
    assert_eq!(partition.usage().bytes, bytes);
    // Another lifetime leaves it.
    partition.set_lifetime("k", Lifetime::of(Duration::from_secs(9)), at(500)).unwrap();
    assert_eq!(took(5_000), took(500));
}

#[test]
fn the_same_key_in_two_namespaces_is_two_entries() {
    let store = Store::new(1 << 20);
    let (a, b) = (store.open(A, Quota::default()), store.open(B, Quota::default()));
    put(&a, "k", "a");
    put(&b, "k", "b");
    assert_eq!(value(&a, "k", 1).unwrap(), "a");
    assert!(a.delete("k", at(1)));
    assert_eq!(value(&a, "k", 1), None);
    assert_eq!(value(&b, "k", 1).unwrap(), "b");
    assert_eq!(b.clear(), 1);
    tidy(&store, 1);
    assert_eq!((a.usage().entries, b.usage().entries), (0, 0));
}

#[test]
fn dropping_a_partition_gives_its_memory_back() {
    let store = Store::new(8 << 20);
    let a = store.open(A, Quota::default());
    for n in 0..5_000 {
        let tagged = entry("v", 1_000, at(0)).with_tags(tags(&[&format!("t{}", n % 7)]));
        a.put(&key(&format!("k{n}")), &tagged, Precondition::Always, at(0)).unwrap();
    }
    assert_eq!(store.used(), a.usage().bytes);
    drop(a);
    assert!(store.used() > 0, "bit by bit");
    tidy(&store, 0);
    assert_eq!(store.used(), 0);
}

#[test]
fn an_ended_entry_is_not_found_and_its_memory_comes_back() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    put(&a, "k", "v");
    assert!(value(&a, "k", 999).is_some());
    assert!(a.peek("k", at(1_000)).is_none());
    assert!(value(&a, "k", 1_000).is_none());
    assert_eq!(tidy(&store, 999), 0);
    assert_eq!(tidy(&store, 1_000), 1);
    assert_eq!(a.usage().entries, 0);
}

#[test]
fn many_entries_that_end_together_go_in_small_steps() {
    let store = Store::new(64 << 20);
    let a = store.open(A, Quota::default());
    for n in 0..50_000 {
        put_for(&a, &format!("k{n}"), "v", if n % 10 == 0 { 9_000 } else { 1_000 }, 0);
    }
    let (freed, more) = store.tidy(4, at(1_000));
    assert!(freed > 0 && freed <= 16 * 4 * 32, "one step frees some, not all: {freed}");
    assert!(more);
    assert_eq!(freed + tidy(&store, 1_000), 45_000);
    assert_eq!(a.usage().entries, 5_000);
    assert_eq!(tidy(&store, 9_000), 5_000);
}

#[test]
fn stale_parts_keep_an_entry_after_its_max_age() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let mut stale = entry("v", 1_000, at(0));
    stale.lifetime.stale_while_revalidate = Duration::from_millis(500);
    stale.lifetime.stale_if_error = Duration::from_millis(2_000);
    a.put(&key("k"), &stale, Precondition::Always, at(0)).unwrap();
    let freshness = |now| a.peek("k", at(now)).map(|found| found.freshness());
    assert_eq!(freshness(1_100), Some(Freshness::Stale(Duration::from_millis(100))));
    assert_eq!(freshness(1_500), Some(Freshness::OnlyOnError(Duration::from_millis(500))));
    assert_eq!(tidy(&store, 2_999), 0);
    assert_eq!(tidy(&store, 3_000), 1);
}

#[test]
fn conditions_hold_for_deletes_and_lifetimes_too() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let other = Precondition::IfMatches(vec![EntityTag::from_number(1)]);
    let nobodys = Precondition::IfMatches(Vec::new());
    let longer = Lifetime::of(Duration::from_secs(60));
    // Nothing is there.
    assert_eq!(a.delete_if("k", &Precondition::IfPresent, at(0)), Err(ConditionFailed));
    assert_eq!(a.delete_if("k", &Precondition::IfAbsent, at(0)), Ok(false));
    assert!(a.set_lifetime_if("k", longer, &Precondition::IfPresent, at(0)).is_err());
    let stored = |now| a.put(&key("k"), &entry("v", 1_000, at(now)), Precondition::Always, at(now));
    stored(0).unwrap();
    let tag = a.get("k", at(0)).unwrap().entity_tag();
    for refused in
        [&other, &nobodys, &Precondition::IfAbsent, &Precondition::UnlessMatches(vec![tag])]
    {
        assert_eq!(a.delete_if("k", refused, at(1)), Err(ConditionFailed), "{refused:?}");
        let changed = a.set_lifetime_if("k", longer, refused, at(1));
        assert_eq!(changed.unwrap_err(), ConditionFailed, "{refused:?}");
        let put = a.put(&key("k"), &entry("w", 9, at(1)), refused.clone(), at(1));
        assert_eq!(put, Err(PutError::ConditionFailed), "{refused:?}");
    }
    // What was refused changed nothing: it still ends as it would have.
    assert!(a.get("k", at(999)).is_some() && a.get("k", at(1_000)).is_none());
    stored(2_000).unwrap();
    let matching = Precondition::IfMatches(vec![EntityTag::from_number(1), tag]);
    let changed = a.set_lifetime_if("k", longer, &matching, at(2_000)).unwrap().unwrap();
    assert_eq!(changed.freshness(), Freshness::Fresh(Duration::from_secs(60)));
    for holds in [matching, Precondition::IfPresent, Precondition::UnlessMatches(vec![])] {
        assert_eq!(a.delete_if("k", &holds, at(2_000)), Ok(true), "{holds:?}");
        stored(2_000).unwrap();
    }
}

#[test]
fn a_revision_tells_every_storing_of_a_key_from_every_other() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let put = |condition| a.put(&key("k"), &entry("v", 60_000, at(0)), condition, at(0));
    let expecting = |revision| put(Precondition::IfRevision(revision));
    assert_eq!(expecting(EntryRevision::at(at(0))), Err(PutError::ConditionFailed), "it is absent");
    let first = put(Precondition::Always).unwrap().revision;
    assert_eq!(a.get("k", at(0)).unwrap().revision(), first);
    let second = expecting(first).unwrap().revision;
    assert!(second > first);
    // The same bytes in the same millisecond, by whichever way they came.
    assert_eq!(expecting(first), Err(PutError::ConditionFailed), "another one has stored");
    assert!(a.delete("k", at(0)));
    put(Precondition::Always).unwrap();
    assert_eq!(expecting(second), Err(PutError::ConditionFailed), "it was away meanwhile");
    let third = a.get("k", at(0)).unwrap().revision();
    a.clear();
    let fourth = put(Precondition::Always).unwrap().revision;
    assert!(fourth > third, "a clear forgets no revision");
    // Another lifetime leaves the value and so its revision, and refuses an old one.
    let longer = Lifetime::of(Duration::from_secs(90));
    let changed = |revision| {
        a.set_lifetime_if("k", longer, &Precondition::IfRevision(revision), at(5))
            .map(|found| found.unwrap().revision())
    };
    assert_eq!((changed(third), changed(fourth)), (Err(ConditionFailed), Ok(fourth)));
    assert_eq!(a.delete_if("k", &Precondition::IfRevision(third), at(5)), Err(ConditionFailed));
    assert_eq!(a.delete_if("k", &Precondition::IfRevision(fourth), at(5)), Ok(true));
}

#[test]
fn a_counter_has_another_revision_after_each_addition_and_ends_when_it_did() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let minute = Lifetime::of(Duration::from_secs(60));
    let mut before = None;
    for now in [0, 0, 0, 20_000, 59_999] {
        a.add(&key("n"), 1, minute, at(now)).unwrap();
        let revision = a.get("n", at(now)).unwrap().revision();
        assert!(before < Some(revision), "at {now}");
        before = Some(revision);
    }
    assert!(a.get("n", at(60_000)).is_none());
}

proptest! {
    /// However many are stored within a millisecond, and by whom: revisions of one key only grow.
    #[test]
    fn revisions_of_a_key_only_grow(steps in prop::collection::vec((0..4u8, 0..3u64), 1..200)) {
        let store = Store::new(1 << 20);
        let a = store.open(A, Quota::default());
        let (mut now, mut latest) = (0, EntryRevision::default());
        for (step, later) in steps {
            now += later;
            match step {
                0 => drop(a.delete("k", at(now))),
                1 => drop(a.clear()),
                _ => {
                    let entry = entry("v", 1_000, at(now));
                    let put = a.put(&key("k"), &entry, Precondition::Always, at(now)).unwrap();
                    prop_assert!(put.revision > latest);
                    prop_assert_eq!(put.revision.stored_at(), at(now));
                    latest = put.revision;
                }
            }
        }
    }
}

#[test]
fn what_look_ups_do_not_find_is_not_there_for_conditions() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let second = Duration::from_secs(1);
    let lifetime = Lifetime { stale_if_error: second * 10, ..Lifetime::of(second) };
    let value = Entry::new("v", "text/plain", lifetime, at(0));
    a.put(&key("k"), &value, Precondition::Always, at(0)).unwrap();
    let tag = a.get("k", at(0)).unwrap().entity_tag();
    let put = |condition, now| a.put(&key("k"), &value, condition, at(now));
    assert_eq!(put(Precondition::IfAbsent, 999), Err(PutError::ConditionFailed));
    // From here on it serves only when the origin fails.
    assert_eq!(put(Precondition::IfMatches(vec![tag]), 1_000), Err(PutError::ConditionFailed));
    assert_eq!(put(Precondition::IfPresent, 1_000), Err(PutError::ConditionFailed));
    put(Precondition::IfAbsent, 1_000).unwrap();
    // A negative entry keeps its own time, and never becomes an empty value.
    a.put(&key("n"), &Entry::negative(second, at(0)), Precondition::Always, at(0)).unwrap();
    assert!(a.set_lifetime("n", lifetime, at(1)).is_none());
    assert!(a.get("n", at(999)).unwrap().is_negative() && a.get("n", at(1_000)).is_none());
}

#[test]
fn conditions_are_checked_against_what_is_there() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let try_put = |value: &str, condition, now| {
        let put = a.put(&key("k"), &entry(value, 1_000, at(now)), condition, at(now));
        put.map(|put| put.replaced)
    };
    assert_eq!(try_put("one", Precondition::IfAbsent, 0), Ok(false));
    let tag = a.get("k", at(0)).unwrap().entity_tag();
    assert_eq!(try_put("two", Precondition::IfAbsent, 1), Err(PutError::ConditionFailed));
    assert_eq!(try_put("two", Precondition::IfMatches(vec![tag]), 1), Ok(true));
    assert_eq!(
        try_put("three", Precondition::IfMatches(vec![tag]), 2),
        Err(PutError::ConditionFailed)
    );
    assert_eq!(value(&a, "k", 3).unwrap(), "two");
    assert_eq!(try_put("four", Precondition::IfAbsent, 5_000), Ok(false), "the old one ended");
}

#[test]
fn an_entry_comes_back_as_it_was_stored() {
    let store = Store::new(8 << 20);
    let a = store.open(A, Quota::default());
    for (name, size, media_type) in [
        ("small", 10, "text/plain"),
        ("large", 100_000, "application/x-own"),
        ("none", 0, "image/png"),
    ] {
        let mut stored = Entry::new(vec![7; size], media_type, Lifetime::default(), at(5));
        stored.lifetime.max_age = Duration::from_secs(3);
        stored.lifetime.stale_if_error = Duration::from_secs(2);
        let stored = stored.with_tags(tags(&["boards", "harbour-7"]));
        a.put(&key(name), &stored, Precondition::Always, at(5)).unwrap();
        let found = a.get(name, at(6)).unwrap().entry();
        assert_eq!(found.value, stored.value);
        assert_eq!(found.media_type, stored.media_type);
        assert_eq!(found.tags, stored.tags);
        assert_eq!((found.lifetime, found.stored_at), (stored.lifetime, stored.stored_at));
        assert_eq!(found.entity_tag(), stored.entity_tag());
    }
}

#[test]
fn another_lifetime_counts_from_now_and_leaves_value_tags_and_age() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    let tagged = entry("v", 1_000, at(0)).with_tags(tags(&["t"]));
    a.put(&key("k"), &tagged, Precondition::Always, at(0)).unwrap();
    let longer =
        Lifetime { stale_if_error: Duration::from_secs(9), ..Lifetime::of(Duration::from_secs(5)) };
    let found = a.set_lifetime("k", longer, at(900)).unwrap();
    assert_eq!(found.freshness(), Freshness::Fresh(Duration::from_secs(5)));
    assert_eq!((found.stored_at(), &*found.tags()[0]), (at(0), "t"));
    assert_eq!(value(&a, "k", 5_899).unwrap(), "v");
    assert!(matches!(a.peek("k", at(5_900)).unwrap().freshness(), Freshness::OnlyOnError(_)));
    // And back again: the stale part goes, the tag stays.
    a.set_lifetime("k", Lifetime::of(Duration::from_millis(1)), at(6_000)).unwrap();
    assert!(a.peek("k", at(6_001)).is_none());
    assert!(a.set_lifetime("k", longer, at(6_001)).is_none(), "it ended");
}

#[rstest]
#[case(4_096)]
#[case(100_000)]
fn an_entry_larger_than_the_limit_is_refused_and_nothing_is_lost(#[case] cap: u64) {
    let store = Store::new(80_000);
    let a = store.open(A, Quota { reserve: 0, cap });
    put(&a, "k", "v");
    let big = entry(&"x".repeat(100_000), 1_000, at(0));
    let error = a.put(&key("k"), &big, Precondition::Always, at(0)).unwrap_err();
    assert!(matches!(error, PutError::TooLarge { limit, .. } if limit == cap.min(80_000)));
    assert_eq!(value(&a, "k", 0).unwrap(), "v");
}

#[test]
fn invalidating_a_tag_ends_all_that_carry_it_and_nothing_else() {
    let store = Store::new(8 << 20);
    let (a, b) = (store.open(A, Quota::default()), store.open(B, Quota::default()));
    for n in 0..300 {
        let names = if n % 2 == 0 { ["even", "all"] } else { ["odd", "all"] };
        for partition in [&a, &b] {
            let tagged = entry("v", 1_000, at(0)).with_tags(tags(&names));
            partition.put(&key(&format!("k{n}")), &tagged, Precondition::Always, at(0)).unwrap();
        }
    }
    let live = |partition: &Partition| {
        (0..300).filter(|n| partition.peek(&format!("k{n}"), at(1)).is_some()).count()
    };
    assert!(!a.invalidate_tag("unknown"));
    assert!(a.invalidate_tag("even"));
    assert_eq!((live(&a), live(&b)), (150, 300));
    let again = entry("new", 1_000, at(1)).with_tags(tags(&["even"]));
    a.put(&key("k0"), &again, Precondition::Always, at(1)).unwrap();
    assert_eq!(value(&a, "k0", 1).unwrap(), "new", "stored after the invalidation");
    assert_eq!(tidy(&store, 1), 149, "memory comes back in the background");
    assert_eq!(live(&a), 151);
    a.invalidate_tag("all");
    assert_eq!(live(&a), 1, "the new one carries only `even`");
}

#[test]
fn clearing_is_at_once_and_memory_comes_back_later() {
    let store = Store::new(16 << 20);
    let a = store.open(A, Quota::default());
    (0..20_000).for_each(|n| put(&a, &format!("k{n}"), "v"));
    let before = store.used();
    assert_eq!(a.clear(), 20_000);
    assert_eq!((a.usage(), store.used()), (Usage::default(), before));
    put(&a, "k1", "new");
    tidy(&store, 0);
    assert!(store.used() < before / 10);
    assert_eq!(value(&a, "k1", 0).unwrap(), "new");
}

#[test]
fn what_was_cleared_goes_before_anything_is_evicted() {
    let store = Store::new(4 << 20);
    let (a, b) = (store.open(A, Quota::default()), store.open(B, Quota::default()));
    (0..10_000).for_each(|n| put(&a, &format!("k{n}"), "v"));
    a.clear();
    (0..10_000).for_each(|n| put(&b, &format!("k{n}"), &"x".repeat(200)));
    assert_eq!(b.usage().entries, 10_000);
    assert_eq!(store.evicted(), 0);
}

#[test]
fn what_is_asked_for_stays_while_newcomers_pass_through() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    (0..500).for_each(|n| put(&a, &format!("hot{n}"), &"x".repeat(100)));
    for n in 0..100_000 {
        put(&a, &format!("scan{n}"), &"x".repeat(100));
        value(&a, &format!("hot{}", n % 500), 0);
    }
    let left = (0..500).filter(|n| a.peek(&format!("hot{n}"), at(0)).is_some()).count();
    assert!(left > 490, "{left} of 500 hot entries are left");
    assert!(store.used() <= store.limit());
}

#[test]
fn a_noisy_namespace_leaves_a_quiet_ones_hit_ratio_where_it_was() {
    let store = Store::new(4 << 20);
    let quiet = store.open(A, Quota { reserve: 1 << 20, ..Quota::default() });
    let noisy = store.open(B, Quota::default());
    let mut asked = 0u64;
    let mut hits = |noise: u64| {
        let mut hits = 0;
        for round in 0..20_000u64 {
            // Reads of 4,000 keys, of which about three quarters fit into the reserve.
            asked += 1;
            let name = format!("k{}", asked.wrapping_mul(0x9e37_79b9_7f4a_7c15) % 4_000);
            match value(&quiet, &name, 0) {
                Some(_) => hits += 1,
                None => put(&quiet, &name, &"x".repeat(150)),
            }
            for n in 0..noise {
                put(&noisy, &format!("n{round}-{n}"), &"x".repeat(300));
            }
        }
        hits
    };
    let (_, alone) = (hits(0), hits(0));
    let beside = hits(20);
    assert!(noisy.evicted() > 100_000, "the noise presses: {}", noisy.evicted());
    assert_eq!((quiet.evicted(), alone), (0, 20_000), "alone there is room for all");
    let kept = f64::from(beside) / f64::from(alone);
    assert!(kept > 0.99, "the quiet one keeps {kept} of its hits");
}

#[test]
fn without_reserves_memory_is_shared_evenly() {
    let store = Store::new(4 << 20);
    let partitions: Vec<_> = (0..4).map(|n| store.open(NamespaceId(n), Quota::default())).collect();
    for n in 0..40_000 {
        for (at, partition) in partitions.iter().enumerate() {
            // One writes ten times as much as the others together.
            for m in 0..if at == 0 { 30 } else { 1 } {
                put(partition, &format!("k{n}-{m}"), &"x".repeat(50));
            }
        }
    }
    let used: Vec<u64> = partitions.iter().map(|p| p.usage().bytes).collect();
    assert!(used.iter().all(|u| *u > 900 << 10 && *u < 1_200 << 10), "{used:?}");
}

#[test]
fn a_cap_is_kept_although_there_is_room() {
    let store = Store::new(8 << 20);
    let a = store.open(A, Quota { reserve: 0, cap: 1 << 20 });
    for n in 0..20_000 {
        put(&a, &format!("k{n}"), &"x".repeat(200));
        assert!(a.usage().bytes <= 1 << 20);
    }
    assert!(a.usage().bytes > 900 << 10);
    a.set_quota(Quota { reserve: 0, cap: 256 << 10 });
    tidy(&store, 0);
    assert!(a.usage().bytes <= 256 << 10, "a lower cap holds once the store was tidied");
}

#[rstest]
#[case(1_000, 100)]
// So many that a shard is looked at in several steps.
#[case(60_000, 900)]
fn pages_show_everything_once_whatever_happens_meanwhile(#[case] all: usize, #[case] most: usize) {
    let store = Store::new(64 << 20);
    let (a, b) = (store.open(A, Quota::default()), store.open(B, Quota::default()));
    for n in 0..all {
        put(&a, &format!("board/{n:05}"), "v");
        put(&b, &format!("board/{n:05}"), "other");
    }
    put(&a, "fare/1", "v");
    let (mut seen, mut from) = (Vec::new(), Position::default());
    for round in 0.. {
        let page = a.list("board/", from, most, at(0));
        assert!(page.entries.len() <= most);
        assert!(page.entries.is_sorted_by_key(|listed| listed.found.key().to_owned()));
        seen.extend(page.entries.iter().map(|listed| listed.found.key().to_owned()));
        // Others come and go, and some of those that stay are stored anew.
        (0..50).for_each(|n| put(&a, &format!("board/late-{round}-{n}"), "late"));
        (0..50).for_each(|n| {
            a.delete(&format!("board/late-{round}-{n}"), at(0));
        });
        (0..20).for_each(|n| put(&a, &format!("board/{:05}", n * 50), "again"));
        match page.next {
            Some(next) => from = next.to_string().parse().unwrap(),
            None => break,
        }
    }
    seen.retain(|name| !name.contains("late"));
    let distinct: HashSet<_> = seen.iter().collect();
    assert_eq!((seen.len(), distinct.len()), (all, all));
    assert!("99-0".parse::<Position>().is_err());
    assert!("".parse::<Position>().is_err());
}

#[test]
fn readers_and_writers_at_once_see_whole_values_of_their_own_namespace() {
    let store = Store::new(2 << 20);
    let partitions = [store.open(A, Quota::default()), store.open(B, Quota::default())];
    std::thread::scope(|scope| {
        for thread in 0..4usize {
            let partition = &partitions[thread % 2];
            let mine = if thread % 2 == 0 { "a" } else { "b" };
            let store = &store;
            scope.spawn(move || {
                for n in 0..20_000usize {
                    let name = format!("k{}", n.wrapping_mul(7 + thread) % 3_000);
                    match partition.get(&name, at(0)) {
                        Some(found) => {
                            assert!(found.value().iter().all(|b| *b == mine.as_bytes()[0]))
                        }
                        None => put(partition, &name, &mine.repeat(n % 700)),
                    }
                    if n % 5_000 == 4_999 {
                        partition.clear();
                    }
                    if n % 100 == 0 {
                        store.tidy(4, at(0));
                    }
                }
            });
        }
    });
    tidy(&store, 0);
    let counted: u64 = partitions.iter().map(|p| p.usage().bytes).sum();
    assert_eq!(store.used(), counted);
    assert!(store.used() <= store.limit());
}

#[derive(Debug, Clone)]
enum Step {
    Put(bool, u8, u16, u16, u8),
    Get(bool, u8),
    Delete(bool, u8),
    Lifetime(bool, u8, u16),
    Add(bool, u8),
    Invalidate(bool, u8),
    Clear(bool),
    Wait(u16),
    Tidy,
}

fn step() -> impl Strategy<Value = Step> {
    let which = || (any::<bool>(), 0..60u8);
    prop_oneof![
        8 => (any::<bool>(), 0..60u8, 0..3_000u16, 1..2_000u16, 0..4u8)
            .prop_map(|(n, k, size, age, tag)| Step::Put(n, k, size, age, tag)),
        5 => which().prop_map(|(n, k)| Step::Get(n, k)),
        1 => which().prop_map(|(n, k)| Step::Delete(n, k)),
        1 => (any::<bool>(), 0..60u8, 0..2_000u16).prop_map(|(n, k, age)| Step::Lifetime(n, k, age)),
        1 => (any::<bool>(), 100..105u8).prop_map(|(n, k)| Step::Add(n, k)),
        1 => (any::<bool>(), 0..4u8).prop_map(|(n, tag)| Step::Invalidate(n, tag)),
        1 => any::<bool>().prop_map(Step::Clear),
        2 => (0..500u16).prop_map(Step::Wait),
        1 => Just(Step::Tidy),
    ]
}

/// What a plain map would hold: value, end, tag.
type Model = HashMap<(bool, u8), (String, u64, u8)>;

#[test]
fn tags_that_an_entry_brings_are_made_room_for_like_its_value() {
    let store = Store::new(64 << 10);
    let partition = store.open(A, Quota { reserve: 0, cap: 32 << 10 });
    for n in 0..500u32 {
        let brought: Vec<_> = (0..8).map(|t| format!("{n}-{t}-{}", "x".repeat(100))).collect();
        let brought: Vec<&str> = brought.iter().map(String::as_str).collect();
        let new = entry("berth", 60_000, at(0)).with_tags(tags(&brought));
        partition.put(&key(&n.to_string()), &new, Precondition::Always, at(0)).unwrap();
        assert!(partition.usage().bytes <= 32 << 10, "{n}: {:?}", partition.usage());
    }
    partition.set_quota(Quota::default());
    for n in 0..500u32 {
        let brought: Vec<_> = (0..8).map(|t| format!("{n}/{t}/{}", "x".repeat(100))).collect();
        let brought: Vec<&str> = brought.iter().map(String::as_str).collect();
        let new = entry("berth", 60_000, at(0)).with_tags(tags(&brought));
        partition.put(&key(&n.to_string()), &new, Precondition::Always, at(0)).unwrap();
        assert!(store.used() <= store.limit(), "{n}: {} bytes", store.used());
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]

    /// Promises 1, 5 and 6: whatever clients do, memory stays within the limit and each cap; a
    /// value is only ever returned for the namespace and key it was stored under, within its
    /// lifetime, and never after an invalidation; and what is counted adds up.
    #[test]
    fn bounded_isolated_and_exact(steps in prop::collection::vec(step(), 1..150)) {
        let store = Store::new(64 << 10);
        let cap = 40 << 10;
        let sides = BTreeMap::from([
            (true, store.open(A, Quota { reserve: 20 << 10, cap })),
            (false, store.open(B, Quota::default())),
        ]);
        let mut model: Model = HashMap::new();
        let (mut now, mut serial) = (0u64, 0u32);
        for step in steps {
            match step {
                Step::Put(n, k, size, age, tag) => {
                    serial += 1;
                    let text = format!("{serial}:{}", "x".repeat(size.into()));
                    let mut new = entry(&text, age.into(), at(now));
                    if tag > 0 {
                        new = new.with_tags(tags(&[&tag.to_string()]));
                    }
                    sides[&n].put(&key(&k.to_string()), &new, Precondition::Always, at(now)).unwrap();
                    model.insert((n, k), (text, now + u64::from(age), tag));
                }
                Step::Get(n, k) => {
                    if let Some(text) = value(&sides[&n], &k.to_string(), now) {
                        let there = model.get(&(n, k));
                        prop_assert!(there.is_some(), "served after it was removed");
                        let (expected, ends, _) = &model[&(n, k)];
                        prop_assert_eq!(&text, expected);
                        prop_assert!(now < *ends, "served after its end");
                    }
                }
                Step::Delete(n, k) => {
                    sides[&n].delete(&k.to_string(), at(now));
                    model.remove(&(n, k));
                    prop_assert!(sides[&n].peek(&k.to_string(), at(now)).is_none());
                }
                Step::Lifetime(n, k, age) => {
                    let lifetime = Lifetime::of(Duration::from_millis(age.into()));
                    if sides[&n].set_lifetime(&k.to_string(), lifetime, at(now)).is_some()
                        && let Some(there) = model.get_mut(&(n, k))
                    {
                        there.1 = now + u64::from(age);
                    }
                }
                Step::Add(n, k) => {
                    let lifetime = Lifetime::of(Duration::from_millis(700));
                    let counted = sides[&n].add(&key(&k.to_string()), 1, lifetime, at(now)).unwrap();
                    let there = model.get(&(n, k)).filter(|_| !counted.created);
                    let (before, ends) = there.map_or((0, now + 700), |(v, e, _)| (v.parse().unwrap(), *e));
                    prop_assert_eq!(counted.value, before + 1i64);
                    prop_assert!(now < ends);
                    model.insert((n, k), (counted.value.to_string(), ends, 0));
                }
                Step::Invalidate(n, tag) => {
                    sides[&n].invalidate_tag(&tag.to_string());
                    model.retain(|(of, _), (_, _, with)| *of != n || tag == 0 || *with != tag);
                }
                Step::Clear(n) => {
                    sides[&n].clear();
                    model.retain(|(of, _), _| *of != n);
                    prop_assert_eq!(sides[&n].usage().entries, 0);
                }
                Step::Wait(ms) => now += u64::from(ms),
                Step::Tidy => { store.tidy(2, at(now)); }
            }
            prop_assert!(store.used() <= store.limit());
            prop_assert!(sides[&true].usage().bytes <= cap);
        }
        tidy(&store, now);
        let counted = sides[&true].usage().bytes + sides[&false].usage().bytes;
        prop_assert_eq!(counted, store.used());
        drop(sides);
        tidy(&store, now);
        prop_assert_eq!(store.used(), 0);
    }
}

#[test]
fn a_lowered_cap_shrinks_a_namespace_in_small_steps_and_leaves_it_of_use() {
    let store = Store::new(1 << 30);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut put = |n: u64| {
        let key = Key::new(format!("gauge/{n}")).unwrap();
        partition.put(&key, &entry("level", 60_000, at(0)), Precondition::Always, at(0)).unwrap();
    };
    (0..300_000).for_each(&mut put);
    let (before, cap) = (partition.usage(), 512 << 10);
    partition.set_quota(Quota { reserve: 0, cap });
    assert_eq!(partition.usage(), before, "nobody waits for all of it");
    put(300_000);
    let after = partition.usage();
    assert!(after.bytes <= before.bytes && after.entries + 100 > before.entries, "{after:?}");
    let mut steps = 0;
    while store.tidy(64, at(0)).1 {
        steps += 1;
    }
    assert!(
        steps > 100 && partition.usage().bytes <= cap,
        "{steps} steps, {:?}",
        partition.usage()
    );
    // It stores and finds as much as one that never was larger, or nearly.
    (400_000..402_000).for_each(&mut put);
    let usage = partition.usage();
    assert!(usage.bytes <= cap && usage.entries > 1_500, "{usage:?}");
}

#[test]
fn a_lowered_limit_shrinks_the_store_in_small_steps_and_a_raised_one_holds_at_once() {
    let store = Store::new(32 << 20);
    let partitions = [A, B].map(|id| store.open(id, Quota::default()));
    let fill = |most: u64| {
        for n in 0..most {
            put(&partitions[(n % 2) as usize], &format!("k{n}"), &"x".repeat(500));
        }
    };
    fill(100_000);
    assert!(store.used() > 31 << 20);
    store.set_limit(8 << 20);
    let before = store.used();
    put(&partitions[0], "one", &"x".repeat(500));
    assert!(store.used() <= before && store.used() > before - (1 << 20), "nobody waits for all");
    let mut steps = 0;
    while store.tidy(64, at(0)).1 {
        steps += 1;
    }
    assert!(store.used() <= 8 << 20 && steps > 50, "{} after {steps} steps", store.used());
    let used: Vec<u64> = partitions.iter().map(|p| p.usage().bytes).collect();
    assert!(used[0].abs_diff(used[1]) < 1 << 20, "both gave: {used:?}");
    store.set_limit(16 << 20);
    fill(100_000);
    assert!(store.used() <= 16 << 20 && store.used() > 15 << 20, "{}", store.used());
}
