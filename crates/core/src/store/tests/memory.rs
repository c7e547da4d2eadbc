//! Limits, reserves and caps, and the reclaiming of memory.

use super::*;

#[test]
fn dropping_a_partition_frees_its_memory() {
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
fn an_expired_entry_is_not_found_and_its_memory_is_freed() {
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
fn mass_expiry_proceeds_in_small_steps() {
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

#[rstest]
#[case(4_096)]
#[case(100_000)]
fn an_entry_beyond_the_limit_is_refused_and_nothing_is_lost(#[case] cap: u64) {
    let store = Store::new(80_000);
    let a = store.open(A, Quota { reserve: 0, cap, ..Quota::default() });
    put(&a, "k", "v");
    let big = entry(&"x".repeat(100_000), 1_000, at(0));
    let error = a.put(&key("k"), &big, Precondition::Always, at(0)).unwrap_err();
    assert!(matches!(error, PutError::TooLarge { limit, .. } if limit == cap.min(80_000)));
    assert_eq!(value(&a, "k", 0).unwrap(), "v");
}

#[test]
fn clearing_is_immediate_and_memory_is_freed_later() {
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
fn cleared_entries_are_freed_before_any_eviction() {
    let store = Store::new(4 << 20);
    let (a, b) = (store.open(A, Quota::default()), store.open(B, Quota::default()));
    (0..10_000).for_each(|n| put(&a, &format!("k{n}"), "v"));
    a.clear();
    (0..10_000).for_each(|n| put(&b, &format!("k{n}"), &"x".repeat(200)));
    assert_eq!(b.usage().entries, 10_000);
    assert_eq!(store.evicted(), 0);
}

#[test]
fn read_entries_survive_a_scan_of_new_ones() {
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
fn a_noisy_namespace_does_not_lower_a_quiet_ones_hit_ratio() {
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
fn a_cap_is_enforced_while_memory_is_free() {
    let store = Store::new(8 << 20);
    let a = store.open(A, Quota { reserve: 0, cap: 1 << 20, ..Quota::default() });
    for n in 0..20_000 {
        put(&a, &format!("k{n}"), &"x".repeat(200));
        assert!(a.usage().bytes <= 1 << 20);
    }
    assert!(a.usage().bytes > 900 << 10);
    a.set_quota(Quota { reserve: 0, cap: 256 << 10, ..Quota::default() });
    tidy(&store, 0);
    assert!(a.usage().bytes <= 256 << 10, "a lower cap holds once the store was tidied");
}

#[test]
fn concurrent_readers_and_writers_see_whole_values_of_their_namespace() {
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

#[test]
fn new_tags_of_an_entry_count_against_the_limit() {
    let store = Store::new(64 << 10);
    let partition = store.open(A, Quota { reserve: 0, cap: 32 << 10, ..Quota::default() });
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

#[test]
fn a_lowered_cap_shrinks_a_namespace_in_small_steps_while_it_serves() {
    let store = Store::new(1 << 30);
    let partition = store.open(NamespaceId(1), Quota::default());
    let mut put = |n: u64| {
        let key = Key::new(format!("gauge/{n}")).unwrap();
        partition.put(&key, &entry("level", 60_000, at(0)), Precondition::Always, at(0)).unwrap();
    };
    (0..300_000).for_each(&mut put);
    let (before, cap) = (partition.usage(), 512 << 10);
    partition.set_quota(Quota { reserve: 0, cap, ..Quota::default() });
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
fn a_lowered_limit_shrinks_the_store_in_steps_and_a_raised_one_applies_immediately() {
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
