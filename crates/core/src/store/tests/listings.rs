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
        let page = a.list(&EntryFilter::prefix("board/"), from, most, at(0));
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

/// An entry of the model: its key, size, tag, and when it was stored and ends.
#[derive(Debug, Clone)]
struct Modeled {
    key: String,
    size: usize,
    tag: &'static str,
    ends_at: u64,
}

fn modeled() -> impl Strategy<Value = Vec<Modeled>> {
    let one =
        (0_u32..60, 0_usize..50, prop::sample::select(vec!["north", "south"]), 1_u64..200_000);
    prop::collection::vec(one, 0..80).prop_map(|all| {
        let all = all.into_iter().map(|(n, size, tag, ends_at)| Modeled {
            key: format!("{}/{n}", if n % 2 == 0 { "board" } else { "fare" }),
            size,
            tag,
            ends_at,
        });
        // The last value of a key is the one that stays.
        let by_key: BTreeMap<_, _> = all.map(|one| (one.key.clone(), one)).collect();
        by_key.into_values().collect()
    })
}

fn state() -> impl Strategy<Value = Option<EntryState>> {
    prop::sample::select(vec![
        None,
        Some(EntryState::Fresh),
        Some(EntryState::EndsSoon),
        Some(EntryState::Stale),
    ])
}

proptest! {
    /// Pages, counts and samples agree with a filter over a plain list.
    #[test]
    fn every_view_shows_what_its_filter_includes(
        all in modeled(),
        prefix in prop::sample::select(vec!["", "board/", "fare/", "none"]),
        tag in prop::sample::select(vec![None, Some("north"), Some("west")]),
        state in state(),
        order in prop::sample::select(EntryOrder::ALL.to_vec()),
        now in 0_u64..250_000,
        most in 1_usize..30,
    ) {
        let store = Store::new(64 << 20);
        let partition = store.open(A, Quota::default());
        let stale = Duration::from_secs(30);
        for one in &all {
            let mut lifetime = Lifetime::of(Duration::from_millis(one.ends_at));
            lifetime.stale_while_revalidate = stale;
            let entry = Entry::new("x".repeat(one.size), "text/plain", lifetime, at(0))
                .with_tags(vec![one.tag.into()]);
            partition.put(&key(&one.key), &entry, Precondition::Always, at(0)).unwrap();
        }
        let filter = EntryFilter { prefix, tag, state };
        let wanted: Vec<&Modeled> = all
            .iter()
            .filter(|one| {
                let left = one.ends_at as i64 - now as i64;
                one.key.starts_with(prefix)
                    && tag.is_none_or(|tag| tag == one.tag)
                    && left > -(stale.as_millis() as i64)
                    && match state {
                        None => true,
                        Some(EntryState::Fresh) => left > 0,
                        Some(EntryState::EndsSoon) => (1..=60_000).contains(&left),
                        Some(EntryState::Stale) => left <= 0,
                    }
            })
            .collect();
        let mut keys: Vec<&str> = wanted.iter().map(|one| &one.key[..]).collect();
        keys.sort_unstable();

        let page = partition.list(&filter, Position::default(), 1_000, at(now));
        let listed: Vec<&str> = page.entries.iter().map(|listed| listed.found.key()).collect();
        prop_assert_eq!(&listed, &keys);
        let counted = partition.count(&filter, Position::default(), at(now));
        prop_assert_eq!((counted.entries as usize, counted.next), (keys.len(), None));

        let sample = partition.sample(&filter, order.0, most, at(now));
        let rank = |one: &&Modeled| match order.0 {
            EntryOrder::Largest => -(one.size as i64),
            EntryOrder::Smallest => one.size as i64,
            EntryOrder::Oldest | EntryOrder::Newest => 0,
            EntryOrder::EndsFirst => one.ends_at as i64,
            EntryOrder::EndsLast => -(one.ends_at as i64),
        };
        let mut ranked = wanted;
        ranked.sort_by_key(|one| (rank(one), one.key.clone()));
        let first: Vec<&str> = ranked.iter().take(most).map(|one| &one.key[..]).collect();
        let sampled: Vec<&str> = sample.entries.iter().map(|listed| listed.found.key()).collect();
        prop_assert_eq!(sampled, first);
        prop_assert!(sample.is_whole);
        prop_assert_eq!(order.1.parse::<EntryOrder>().unwrap(), order.0);
    }
}

#[test]
fn a_sample_of_many_entries_is_bounded_and_says_so() {
    let store = Store::new(256 << 20);
    let partition = store.open(A, Quota::default());
    for n in 0..3 * SAMPLE_SLOTS {
        put(&partition, &format!("board/{n}"), "v");
    }
    let sample = partition.sample(&EntryFilter::default(), EntryOrder::Largest, 100, at(0));
    assert!(!sample.is_whole);
    assert_eq!(sample.entries.len(), 100);
    // Shards differ a little in size.
    let looked_at = sample.looked_at as usize;
    assert!((SAMPLE_SLOTS / 3..=SAMPLE_SLOTS).contains(&looked_at), "{looked_at}");
    assert!("tallest".parse::<EntryOrder>().is_err() && "old".parse::<EntryState>().is_err());
}
