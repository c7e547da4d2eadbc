//! How to divide memory among namespaces, so that the origins are read least.
//!
//! Memory is given where a byte saves most origin reads, step by step along the concave hull of
//! each curve; on hulls, that is the best division there is (Fox, 1966: greedy allocation of
//! marginal returns). First every namespace has its reserve and every tenant what it is
//! guaranteed, then nobody exceeds a cap.

use std::collections::BTreeMap;

use super::curve::MemoryCurve;

/// A namespace that takes part in a division.
#[derive(Debug, Clone)]
pub struct NamespaceMemory {
    /// Its tenant's number in the bounds.
    pub tenant: usize,
    /// Its memory now, in bytes.
    pub bytes: u64,
    /// The memory of an entry on average, in bytes.
    pub entry_bytes: f64,
    /// The memory that it is guaranteed.
    pub reserve: u64,
    /// The memory that it may never exceed.
    pub cap: u64,
    /// What memory buys; `None` keeps what it has.
    pub curve: Option<MemoryCurve>,
}

/// What a tenant is guaranteed, and may never exceed.
#[derive(Debug, Clone, Copy)]
pub struct TenantBounds {
    /// The memory that it is guaranteed.
    pub reserve: u64,
    /// The memory that it may never exceed.
    pub cap: u64,
}

/// What a division gives a namespace.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Divided {
    /// Memory, in bytes.
    pub bytes: u64,
    /// The hit ratio with what it has now; `None` without a curve.
    pub hit_ratio_now: Option<f64>,
    /// The hit ratio then.
    pub hit_ratio_then: Option<f64>,
    /// Its reads per second.
    pub reads_per_second: f64,
}

/// A step along a curve's hull.
struct Step {
    namespace: usize,
    bytes: f64,
    /// Origin reads saved per second, by each byte.
    gain: f64,
}

/// The upper concave hull of a curve, as bytes and hits per second.
fn hull(namespace: &NamespaceMemory, curve: &MemoryCurve) -> Vec<(f64, f64)> {
    let mut hull: Vec<(f64, f64)> = Vec::new();
    for point in &curve.points {
        let new = (point.entries * namespace.entry_bytes, point.hit_ratio * curve.reads_per_second);
        while let [.., before, last] = hull[..]
            && (last.1 - before.1) * (new.0 - last.0) <= (new.1 - last.1) * (last.0 - before.0)
        {
            hull.pop();
        }
        if hull.last().is_none_or(|last| new.0 > last.0) {
            hull.push(new);
        }
    }
    hull
}

fn steps(namespaces: &[NamespaceMemory]) -> Vec<Step> {
    let mut steps = Vec::new();
    for (at, namespace) in namespaces.iter().enumerate() {
        let Some(curve) = &namespace.curve else { continue };
        // The reserve is given already.
        let mut given = namespace.reserve as f64;
        for pair in hull(namespace, curve).windows(2) {
            let width = pair[1].0 - pair[0].0;
            let bytes = (width - given).max(0.0);
            given = (given - width).max(0.0);
            if bytes > 0.0 && pair[1].1 > pair[0].1 {
                let gain = (pair[1].1 - pair[0].1) / width;
                steps.push(Step { namespace: at, bytes, gain });
            }
        }
    }
    steps.sort_by(|a, b| b.gain.total_cmp(&a.gain));
    steps
}

/// Memory as it is given out.
struct Giving<'n> {
    namespaces: &'n [NamespaceMemory],
    tenants: &'n [TenantBounds],
    bytes: Vec<f64>,
    of_tenant: BTreeMap<usize, f64>,
    left: f64,
}

impl Giving<'_> {
    fn of_tenant(&self, tenant: usize) -> f64 {
        self.of_tenant.get(&tenant).copied().unwrap_or_default()
    }

    fn cap(&self, tenant: usize) -> f64 {
        self.tenants.get(tenant).map_or(f64::MAX, |bounds| bounds.cap as f64)
    }

    /// Gives at most `bytes` and returns how many it gave.
    fn give(&mut self, at: usize, bytes: f64) -> f64 {
        let namespace = &self.namespaces[at];
        let room = (namespace.cap as f64 - self.bytes[at])
            .min(self.cap(namespace.tenant) - self.of_tenant(namespace.tenant))
            .min(self.left)
            .max(0.0);
        let given = bytes.min(room);
        self.bytes[at] += given;
        *self.of_tenant.entry(namespace.tenant).or_default() += given;
        self.left -= given;
        given
    }

    /// Gives along the steps, in their order; of each no more than `most` allows.
    fn give_steps(&mut self, steps: &mut [Step], most: impl Fn(&Self, usize) -> f64) {
        for step in steps {
            let bytes = step.bytes.min(most(self, step.namespace).max(0.0));
            step.bytes -= self.give(step.namespace, bytes);
        }
    }
}

/// Divides `memory` bytes.
pub fn divide(
    namespaces: &[NamespaceMemory],
    tenants: &[TenantBounds],
    memory: u64,
) -> Vec<Divided> {
    let mut giving = Giving {
        namespaces,
        tenants,
        bytes: vec![0.0; namespaces.len()],
        of_tenant: BTreeMap::new(),
        left: memory as f64,
    };
    for (at, namespace) in namespaces.iter().enumerate() {
        // Who has no curve keeps what it has.
        let kept = if namespace.curve.is_none() { namespace.bytes } else { namespace.reserve };
        giving.give(at, kept as f64);
    }
    let mut steps = steps(namespaces);
    giving.give_steps(&mut steps, |giving, at| {
        let tenant = namespaces[at].tenant;
        let guaranteed = tenants.get(tenant).map_or(0.0, |bounds| bounds.reserve as f64);
        guaranteed - giving.of_tenant(tenant)
    });
    giving.give_steps(&mut steps, |_, _| f64::MAX);
    for (at, namespace) in namespaces.iter().enumerate() {
        // Nobody has to give up what no other can use.
        let less = namespace.bytes as f64 - giving.bytes[at];
        giving.give(at, less.max(0.0));
    }
    let divided = namespaces.iter().zip(&giving.bytes).map(|(namespace, bytes)| {
        let curve = namespace.curve.as_ref();
        let ratio = |bytes: f64| {
            curve.map(|curve| curve.hit_ratio_at(bytes / namespace.entry_bytes.max(1.0)))
        };
        Divided {
            bytes: *bytes as u64,
            hit_ratio_now: ratio(namespace.bytes as f64),
            hit_ratio_then: ratio(*bytes),
            reads_per_second: curve.map_or(0.0, |curve| curve.reads_per_second),
        }
    });
    divided.collect()
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use proptest::prelude::*;

    use super::super::curve::CurvePoint;
    use super::*;

    const NO_BOUNDS: TenantBounds = TenantBounds { reserve: 0, cap: u64::MAX };

    fn curve(reads_per_second: f64, points: &[(f64, f64)]) -> MemoryCurve {
        let point = |(entries, hit_ratio): &(f64, f64)| CurvePoint {
            entries: *entries,
            hit_ratio: *hit_ratio,
            error: 0.0,
        };
        MemoryCurve {
            points: points.iter().map(point).collect(),
            reads_per_second,
            observed: Duration::from_secs(600),
            sampled_keys: 100,
            sampled_reads: 1_000,
            fraction: 1.0,
            known_keys: 0,
            known_share: 0.0,
        }
    }

    fn namespace(bytes: u64, curve: Option<MemoryCurve>) -> NamespaceMemory {
        NamespaceMemory { tenant: 0, bytes, entry_bytes: 1.0, reserve: 0, cap: u64::MAX, curve }
    }

    fn bytes_of(divided: &[Divided]) -> Vec<u64> {
        divided.iter().map(|divided| divided.bytes).collect()
    }

    #[test]
    fn memory_goes_where_it_saves_most_origin_reads() {
        // The same curve, read ten times as often: it gets its memory first.
        let shape = [(0.0, 0.0), (100.0, 0.6), (200.0, 0.8), (400.0, 0.9)];
        let namespaces =
            [namespace(150, Some(curve(10.0, &shape))), namespace(150, Some(curve(100.0, &shape)))];
        let divided = divide(&namespaces, &[NO_BOUNDS], 150);
        assert_eq!(bytes_of(&divided), [0, 150]);
        let divided = divide(&namespaces, &[NO_BOUNDS], 500);
        assert_eq!(bytes_of(&divided), [100, 400]);
        assert_eq!(divided[0].hit_ratio_then, Some(0.6));
        // Nobody gets more than it can use, and nobody loses what no other can use.
        let large = [namespace(600, Some(curve(1.0, &shape))), namespace(0, None)];
        assert_eq!(bytes_of(&divide(&large, &[NO_BOUNDS], 5_000)), [600, 0]);
        assert_eq!(bytes_of(&divide(&namespaces, &[NO_BOUNDS], 5_000)), [400, 400]);
    }

    #[test]
    fn reserves_caps_and_what_is_not_known_are_kept() {
        let steep = || Some(curve(100.0, &[(0.0, 0.0), (1_000.0, 1.0)]));
        let flat = || Some(curve(1.0, &[(0.0, 0.0), (1_000.0, 1.0)]));
        let reserved = NamespaceMemory { reserve: 200, ..namespace(100, flat()) };
        let capped = NamespaceMemory { cap: 300, ..namespace(100, steep()) };
        let unknown = namespace(50, None);
        let bounds = [NO_BOUNDS, TenantBounds { reserve: 0, cap: 400 }];
        let other = NamespaceMemory { tenant: 1, ..namespace(0, steep()) };
        let all = [reserved.clone(), capped.clone(), unknown, other];
        assert_eq!(bytes_of(&divide(&all, &bounds, 2_000)), [1_000, 300, 50, 400]);
        assert_eq!(bytes_of(&divide(&all, &bounds, 600)), [200, 300, 50, 50]);
        // What a tenant is guaranteed goes to its namespaces, wherever others would gain more.
        let guaranteed = [TenantBounds { reserve: 500, cap: u64::MAX }, NO_BOUNDS];
        let of_one = NamespaceMemory { tenant: 1, ..namespace(0, steep()) };
        let divided = divide(&[reserved, of_one], &guaranteed, 600);
        assert_eq!(bytes_of(&divided), [500, 100]);
    }

    proptest! {
        /// No division of a few equal shares has more hits than the suggested one.
        #[test]
        fn nothing_else_saves_more(
            gains in prop::collection::vec(
                (prop::collection::vec(0.0_f64..1.0, 4), 1.0_f64..100.0), 2..4),
            memory in 1_usize..12,
        ) {
            // Concave curves of four steps of one byte each.
            let namespaces: Vec<NamespaceMemory> = gains.iter().map(|(steps, rate)| {
                let mut steps = steps.clone();
                steps.sort_by(|a, b| b.total_cmp(a));
                let mut ratio = 0.0;
                let mut points = vec![(0.0, 0.0)];
                for (at, step) in steps.iter().enumerate() {
                    ratio += step / 4.0;
                    points.push((at as f64 + 1.0, ratio));
                }
                namespace(0, Some(curve(*rate, &points)))
            }).collect();
            let hits = |bytes: &[u64]| -> f64 {
                namespaces.iter().zip(bytes).map(|(namespace, bytes)| {
                    let curve = namespace.curve.as_ref().unwrap();
                    curve.hit_ratio_at(*bytes as f64) * curve.reads_per_second
                }).sum()
            };
            let suggested = bytes_of(&divide(&namespaces, &[NO_BOUNDS], memory as u64));
            prop_assert!(suggested.iter().sum::<u64>() <= memory as u64);
            for number in 0..5_u64.pow(namespaces.len() as u32) {
                let other: Vec<u64> = (0..namespaces.len() as u32)
                    .map(|place| number / 5_u64.pow(place) % 5)
                    .collect();
                if other.iter().sum::<u64>() <= memory as u64 {
                    prop_assert!(hits(&other) <= hits(&suggested) + 1e-9, "{other:?} {suggested:?}");
                }
            }
        }
    }
}
