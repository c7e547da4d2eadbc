//! Listings, page by page.

use super::*;

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
