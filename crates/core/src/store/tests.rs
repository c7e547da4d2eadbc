use std::collections::HashMap;
use std::time::Duration;

use proptest::prelude::*;

use super::*;
use crate::lifetime::Lifetime;

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

fn put(store: &Store, namespace: NamespaceId, name: &str, value: &str) {
    let entry = entry(value, 1_000, at(0));
    store.put(namespace, &key(name), entry, PutCondition::Always, at(0)).unwrap();
}

fn value(store: &Store, namespace: NamespaceId, name: &str, now: Timestamp) -> Option<String> {
    let found = store.get(namespace, &key(name), now)?;
    Some(String::from_utf8(found.entry.value.to_vec()).unwrap())
}

#[test]
fn the_same_key_in_two_namespaces_is_two_entries() {
    let store = Store::new(1 << 20);
    put(&store, A, "k", "a");
    put(&store, B, "k", "b");
    assert_eq!(value(&store, A, "k", at(1)).unwrap(), "a");
    assert_eq!(value(&store, B, "k", at(1)).unwrap(), "b");
    assert!(store.delete(A, &key("k"), at(1)));
    assert_eq!(value(&store, A, "k", at(1)), None);
    assert_eq!(value(&store, B, "k", at(1)).unwrap(), "b");
    assert_eq!(store.clear(B), 1);
    assert_eq!(store.used(), 0);
}

#[test]
fn an_ended_entry_is_not_found_and_gives_its_memory_back() {
    let store = Store::new(1 << 20);
    put(&store, A, "k", "v");
    assert!(value(&store, A, "k", at(999)).is_some());
    assert!(store.peek(A, &key("k"), at(1_000)).is_none());
    assert!(value(&store, A, "k", at(1_000)).is_none());
    assert_eq!((store.used(), store.usage(A)), (0, Usage::default()));
}

#[test]
fn sweeping_in_small_steps_frees_all_that_ended() {
    let store = Store::new(8 << 20);
    for n in 0..5_000 {
        put(&store, A, &format!("k{n}"), "v");
    }
    let mut freed = 0;
    for _ in 0..200 {
        freed += store.sweep(64, at(1_000));
    }
    assert_eq!((freed, store.used()), (5_000, 0));
}

#[test]
fn conditions_are_checked_against_what_is_there() {
    let store = Store::new(1 << 20);
    let try_put = |value: &str, condition, now| {
        store.put(A, &key("k"), entry(value, 1_000, now), condition, now)
    };
    assert_eq!(try_put("one", PutCondition::IfAbsent, at(0)), Ok(false));
    let tag = store.get(A, &key("k"), at(0)).unwrap().entry.entity_tag;
    assert_eq!(try_put("two", PutCondition::IfAbsent, at(1)), Err(PutError::ConditionFailed));
    assert_eq!(try_put("two", PutCondition::IfMatches(tag), at(1)), Ok(true));
    assert_eq!(
        try_put("three", PutCondition::IfMatches(tag), at(2)),
        Err(PutError::ConditionFailed)
    );
    assert_eq!(value(&store, A, "k", at(3)).unwrap(), "two");
    assert_eq!(try_put("four", PutCondition::IfAbsent, at(5_000)), Ok(false), "the old one ended");
}

#[test]
fn what_was_read_last_stays_longest() {
    // One shard's worth of keys is enough to see the order, so keys of the same shard are chosen.
    let store = Store::new(1 << 20);
    let shard = |name: &str| (store.hash(A, name) >> 57) as usize % SHARDS;
    let names: Vec<String> =
        (0..).map(|n| format!("k{n}")).filter(|n| shard(n) == 0).take(3).collect();
    names.iter().for_each(|n| put(&store, A, n, "v"));
    value(&store, A, &names[0], at(1));
    let mut first = store.shard(0);
    let victim = first.remove_least_recent().unwrap();
    drop(first);
    store.release(victim);
    let left = names.iter().filter(|n| value(&store, A, n, at(1)).is_some());
    assert_eq!(left.collect::<Vec<_>>(), [&names[0], &names[2]]);
}

#[test]
fn an_entry_larger_than_the_store_is_refused_and_nothing_is_lost() {
    let store = Store::new(4_096);
    put(&store, A, "k", "v");
    let big = entry(&"x".repeat(5_000), 1_000, at(0));
    let error = store.put(A, &key("k"), big, PutCondition::Always, at(0)).unwrap_err();
    assert!(matches!(error, PutError::TooLarge { limit: 4_096, .. }));
    assert_eq!(value(&store, A, "k", at(0)).unwrap(), "v");
}

#[test]
fn pages_follow_each_other_in_the_order_of_keys() {
    let store = Store::new(1 << 20);
    for n in 0..25 {
        put(&store, A, &format!("board/{n:02}"), "v");
        put(&store, B, &format!("board/{n:02}"), "other");
    }
    put(&store, A, "fare/1", "v");
    let (mut seen, mut after) = (Vec::new(), None::<String>);
    loop {
        let page = store.list(A, "board/", after.as_deref(), 10, at(0));
        seen.extend(page.entries.iter().map(|e| e.key.to_string()));
        after = seen.last().cloned();
        // What is stored behind the cursor while the listing goes on does not disturb it.
        put(&store, A, "board/00a", "late");
        if !page.more {
            break;
        }
    }
    assert_eq!(seen, (0..25).map(|n| format!("board/{n:02}")).collect::<Vec<_>>());
}

#[derive(Debug, Clone)]
enum Step {
    Put(bool, u8, u16, u16),
    Get(bool, u8),
    Delete(bool, u8),
    Clear(bool),
    Wait(u16),
    Sweep,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (any::<bool>(), 0..40u8, 0..600u16, 1..2_000u16)
            .prop_map(|(n, k, size, age)| Step::Put(n, k, size, age)),
        4 => (any::<bool>(), 0..40u8).prop_map(|(n, k)| Step::Get(n, k)),
        1 => (any::<bool>(), 0..40u8).prop_map(|(n, k)| Step::Delete(n, k)),
        1 => any::<bool>().prop_map(Step::Clear),
        2 => (0..500u16).prop_map(Step::Wait),
        1 => Just(Step::Sweep),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    /// Promises 1, 5 and 6: whatever clients do, memory stays within the limit, a value is only ever
    /// returned for the namespace and key it was stored under and within its lifetime, and the
    /// counts by namespace add up.
    #[test]
    fn bounded_isolated_and_exact(steps in prop::collection::vec(step(), 1..120)) {
        let store = Store::new(8_192);
        let mut model: HashMap<(NamespaceId, u8), (String, u64)> = HashMap::new();
        let mut now = 0u64;
        let mut serial = 0u32;
        let side = |first: bool| if first { A } else { B };
        for step in steps {
            match step {
                Step::Put(n, k, size, age) => {
                    serial += 1;
                    let text = format!("{serial}:{}", "x".repeat(size.into()));
                    let new = entry(&text, age.into(), at(now));
                    store.put(side(n), &key(&k.to_string()), new, PutCondition::Always, at(now)).unwrap();
                    model.insert((side(n), k), (text, now + u64::from(age)));
                }
                Step::Get(n, k) => {
                    if let Some(text) = value(&store, side(n), &k.to_string(), at(now)) {
                        let (expected, ends) = &model[&(side(n), k)];
                        prop_assert_eq!(&text, expected);
                        prop_assert!(now < *ends, "served after its end");
                    }
                }
                Step::Delete(n, k) => {
                    store.delete(side(n), &key(&k.to_string()), at(now));
                    model.remove(&(side(n), k));
                    prop_assert!(store.peek(side(n), &key(&k.to_string()), at(now)).is_none());
                }
                Step::Clear(n) => {
                    store.clear(side(n));
                    model.retain(|(of, _), _| *of != side(n));
                    prop_assert_eq!(store.usage(side(n)), Usage::default());
                }
                Step::Wait(ms) => now += u64::from(ms),
                Step::Sweep => { store.sweep(16, at(now)); }
            }
            prop_assert!(store.used() <= store.limit());
            prop_assert_eq!(store.usage(A).bytes + store.usage(B).bytes, store.used());
        }
    }
}
