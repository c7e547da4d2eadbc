//! Quotas of tenants: what several namespaces share.

use super::*;

fn filled(partition: &Partition, entries: u32, bytes: usize) {
    for n in 0..entries {
        put(partition, &format!("k{n}"), &"x".repeat(bytes));
    }
}

#[test]
fn tenants_share_memory_evenly_however_many_namespaces_each_has() {
    let store = Store::new(8 << 20);
    let (one, four) = (store.tenant(Quota::default()), store.tenant(Quota::default()));
    let boards = store.open_in(&one, NamespaceId(0), Quota::default());
    let others: Vec<_> =
        (1..5).map(|n| store.open_in(&four, NamespaceId(n), Quota::default())).collect();
    for n in 0..20_000 {
        put(&boards, &format!("k{n}"), &"x".repeat(500));
        others.iter().for_each(|other| put(other, &format!("k{n}"), &"x".repeat(500)));
    }
    for tenant in [&one, &four] {
        assert!((3 << 20..5 << 20).contains(&tenant.used()), "{} and {}", one.used(), four.used());
    }
    let parts: Vec<u64> = others.iter().map(|other| other.usage().bytes).collect();
    assert_eq!(parts.iter().sum::<u64>(), four.used());
    assert!(parts.iter().all(|part| (700 << 10..1_300 << 10).contains(part)), "{parts:?}");
}

#[test]
fn a_tenant_keeps_its_reserve_and_never_exceeds_its_cap() {
    let store = Store::new(8 << 20);
    let quiet = store.tenant(Quota { reserve: 4 << 20, ..Quota::default() });
    let capped = store.tenant(Quota { cap: 1 << 20, ..Quota::default() });
    let flood = store.open(NamespaceId(9), Quota::default());
    let quiet_ones = [1, 2].map(|n| store.open_in(&quiet, NamespaceId(n), Quota::default()));
    let capped_ones = [3, 4].map(|n| store.open_in(&capped, NamespaceId(n), Quota::default()));
    quiet_ones.iter().for_each(|namespace| filled(namespace, 2_000, 900));
    let kept = quiet.used();
    assert!((3 << 20..4 << 20).contains(&kept), "{kept}");
    for n in 0..20_000 {
        put(&flood, &format!("k{n}"), &"x".repeat(900));
        capped_ones.iter().for_each(|namespace| put(namespace, &format!("k{n}"), &"x".repeat(900)));
        assert!(capped.used() <= 1 << 20 && store.used() <= 8 << 20);
    }
    assert_eq!(quiet.used(), kept, "a flood takes nothing from a reserve");
    assert!(capped_ones.iter().all(|namespace| namespace.usage().bytes > 300 << 10));
    // Beyond its reserve, it is like others.
    filled(&quiet_ones[0], 20_000, 900);
    assert!(quiet.used() > kept && quiet_ones[1].usage().entries > 0);
    assert!(store.used() <= 8 << 20);
}

#[test]
fn the_reserve_of_a_namespace_holds_within_its_tenant() {
    let store = Store::new(64 << 20);
    let tenant = store.tenant(Quota { cap: 4 << 20, ..Quota::default() });
    let reserve = Quota { reserve: 2 << 20, ..Quota::default() };
    let quiet = store.open_in(&tenant, A, reserve);
    let flood = store.open_in(&tenant, B, Quota::default());
    filled(&quiet, 1_500, 900);
    let before = quiet.usage();
    assert!(before.bytes < 2 << 20);
    filled(&flood, 20_000, 900);
    assert_eq!(quiet.usage(), before);
    assert!(tenant.used() <= 4 << 20);
}

#[test]
fn entries_are_limited_by_number() {
    let store = Store::new(64 << 20);
    let tenant = store.tenant(Quota { entries: 150, ..Quota::default() });
    let limited = Quota { entries: 100, ..Quota::default() };
    let (a, b) = (store.open_in(&tenant, A, limited), store.open_in(&tenant, B, Quota::default()));
    for n in 0..1_000 {
        put(&a, &format!("k{n}"), "v");
        assert!(a.usage().entries <= 100);
    }
    assert_eq!((a.usage().entries, tenant.entries()), (100, 100));
    // A replacement is no new entry.
    let evicted = a.evicted();
    let listed = a.list(&EntryFilter::default(), Position::default(), 1, at(0)).entries[0]
        .found
        .key()
        .to_owned();
    put(&a, &listed, "other");
    assert_eq!((a.usage().entries, a.evicted()), (100, evicted));
    filled(&b, 1_000, 10);
    assert_eq!(tenant.entries(), 150);
    assert_eq!(a.usage().entries + b.usage().entries, 150);
    a.clear();
    assert_eq!(tenant.entries(), b.usage().entries);
}

#[test]
fn a_lowered_quota_of_a_tenant_shrinks_its_namespaces_in_small_steps() {
    let store = Store::new(256 << 20);
    let tenant = store.tenant(Quota::default());
    let partitions = [A, B].map(|id| store.open_in(&tenant, id, Quota::default()));
    partitions.iter().for_each(|partition| filled(partition, 40_000, 100));
    let (before, cap) = (tenant.used(), 1 << 20);
    tenant.set_quota(Quota { cap, ..Quota::default() });
    assert_eq!(tenant.used(), before, "nobody waits for all of it");
    put(&partitions[0], "new", "v");
    assert!(tenant.used() <= before && tenant.entries() + 200 > 80_000, "{}", tenant.entries());
    let mut steps = 0;
    while store.tidy(64, at(0)).1 {
        steps += 1;
    }
    assert!(steps > 20 && tenant.used() <= cap, "{steps} steps, {} bytes", tenant.used());
    // And by number.
    tenant.set_quota(Quota { entries: 100, ..Quota::default() });
    while store.tidy(64, at(0)).1 {}
    assert_eq!(tenant.entries(), 100);
    tenant.set_quota(Quota::default());
    filled(&partitions[1], 500, 10);
    assert!(tenant.entries() > 500);
}
