//! Revisions of entries.

use super::*;

#[test]
fn revisions_distinguish_all_puts_of_a_key() {
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
fn an_addition_changes_the_revision_and_keeps_the_lifetime() {
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
