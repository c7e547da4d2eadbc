//! Reads of the store against a sharded hash map without any policy.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use bytes::Bytes;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use verax_core::{Entry, Key, Lifetime, NamespaceId, Precondition, Quota, Store, Timestamp};

use crate::Options;
use crate::rounds::Row;

const KEYS: usize = 100_000;
const THREADS: usize = 2;
const SHARDS: usize = 64;
const NAMESPACE: NamespaceId = NamespaceId(1);

type Shard = Mutex<HashMap<(NamespaceId, Key), Bytes>>;

/// The lower bound: find the shard, lock it, look up, share the bytes.
struct Bare {
    shards: Vec<Shard>,
    hashing: RandomState,
}

impl Bare {
    fn shard(&self, key: &(NamespaceId, Key)) -> &Shard {
        &self.shards[(self.hashing.hash_one(key) >> 57) as usize % SHARDS]
    }

    fn get(&self, key: &(NamespaceId, Key)) -> Option<Bytes> {
        self.shard(key).lock().ok()?.get(key).cloned()
    }
}

/// Reads per second of `THREADS` threads with uniformly drawn keys.
fn measure(
    time: Duration,
    keys: &[(NamespaceId, Key)],
    get: impl Fn(&(NamespaceId, Key)) -> bool + Sync,
) -> f64 {
    let started = Instant::now();
    let looked_up: u64 = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..THREADS as u64)
            .map(|seed| {
                let get = &get;
                scope.spawn(move || {
                    let mut random = ChaCha8Rng::seed_from_u64(seed);
                    let order: Vec<u32> =
                        (0..1 << 16).map(|_| random.random_range(0..keys.len() as u32)).collect();
                    let (mut found, mut sent) = (0u64, 0u64);
                    while started.elapsed() < time {
                        for at in &order[..4_096.min(order.len())] {
                            found += u64::from(get(&keys[*at as usize]));
                        }
                        sent += 4_096;
                    }
                    assert_eq!(found, sent, "every key is there");
                    found
                })
            })
            .collect();
        threads.into_iter().filter_map(|thread| thread.join().ok()).sum()
    });
    looked_up as f64 / started.elapsed().as_secs_f64()
}

pub(crate) fn run(options: &Options) -> Result<Vec<Row>, Box<dyn std::error::Error + Send + Sync>> {
    let now = Timestamp::from_millis(0);
    let value = Bytes::from(vec![7; 128]);
    let store = Store::new(1 << 30);
    let partition = store.open(NAMESPACE, Quota::default());
    let bare = Bare {
        shards: (0..SHARDS).map(|_| Mutex::default()).collect(),
        hashing: RandomState::new(),
    };
    let mut keys = Vec::with_capacity(KEYS);
    for n in 0..KEYS {
        let key = Key::new(format!("board/harbor-{n:06}"))?;
        let lifetime = Lifetime::of(Duration::from_secs(3_600));
        let entry = Entry::new(value.clone(), "application/json", lifetime, now);
        partition.put(&key, &entry, Precondition::Always, now)?;
        let whole = (NAMESPACE, key);
        if let Ok(mut shard) = bare.shard(&whole).lock() {
            shard.insert(whole.clone(), value.clone());
        }
        keys.push(whole);
    }
    let time = Duration::from_secs_f64(options.seconds);
    Ok(vec![Row::take(
        ("store get in process, 2 threads, 100 k keys, 128 B", "a sharded lock and map", 0.80),
        options.rounds,
        || measure(time, &keys, |(_, key)| partition.get(key.as_str(), now).is_some()),
        || measure(time, &keys, |whole| bare.get(whole).is_some()),
    )])
}
