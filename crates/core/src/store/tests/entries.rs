//! Entries: stored, found, changed, invalidated and cleared.

use super::*;

#[test]
fn a_negative_entry_has_no_value() {
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
    assert_eq!(
        partition.list(&EntryFilter::default(), Position::default(), 10, at(0)).entries.len(),
        1
    );
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
fn an_entry_stores_its_refill_time_without_extra_memory() {
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
fn an_entry_round_trips() {
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
        let stored = stored.with_tags(tags(&["boards", "harbor-7"]));
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
fn a_new_lifetime_counts_from_now_and_keeps_value_tags_and_age() {
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

#[test]
fn a_lifetime_of_zero_is_a_change_that_ends_the_entry() {
    let store = Store::new(1 << 20);
    let a = store.open(A, Quota::default());
    a.put(&key("k"), &entry("v", 1_000, at(0)), Precondition::Always, at(0)).unwrap();
    let changed = a.set_lifetime("k", Lifetime::of(Duration::ZERO), at(500));
    assert_eq!(changed.unwrap().freshness(), Freshness::Ended);
    assert!(a.peek("k", at(500)).is_none());
    let again = a.set_lifetime("k", Lifetime::of(Duration::from_secs(9)), at(500));
    assert!(again.is_none(), "it ended");
}

#[test]
fn invalidating_a_tag_ends_exactly_its_entries() {
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
