//! Conditions of puts, deletes and changes of lifetimes.

use super::*;

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
fn conditions_see_what_reads_see() {
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
fn conditions_are_checked_against_the_stored_entry() {
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
