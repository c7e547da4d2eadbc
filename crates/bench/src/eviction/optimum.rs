//! The optimum, which knows the whole trace in advance.

use std::collections::{BTreeSet, HashMap};

use super::traces::Trace;

/// For each request, when the same key is requested next.
fn next_requests(trace: &Trace) -> Vec<usize> {
    let mut next = vec![usize::MAX; trace.requests.len()];
    let mut seen = HashMap::new();
    for (at, (key, _)) in trace.requests.iter().enumerate().rev() {
        if let Some(later) = seen.insert(*key, at) {
            next[at] = later;
        }
    }
    next
}

/// The best hit ratio, or for values of several sizes a bound that it cannot exceed.
pub(crate) fn optimum(trace: &Trace) -> f64 {
    let even = trace.requests.iter().all(|(_, size)| *size == 1);
    let hits = if even { furthest_next_use(trace) } else { footprint_bound(trace) };
    hits as f64 / trace.requests.len() as f64
}

/// Bélády, "A study of replacement algorithms for a virtual-storage computer", IBM Systems
/// Journal 5 (1966): evict what is needed again latest. Exact for values of one size.
fn furthest_next_use(trace: &Trace) -> usize {
    let next = next_requests(trace);
    let mut held: HashMap<u64, usize> = HashMap::new();
    let mut by_next: BTreeSet<(usize, u64)> = BTreeSet::new();
    let mut hits = 0;
    for (at, (key, _)) in trace.requests.iter().enumerate() {
        if let Some(expected) = held.remove(key) {
            by_next.remove(&(expected, *key));
            hits += 1;
        }
        held.insert(*key, next[at]);
        by_next.insert((next[at], *key));
        if held.len() as u64 > trace.capacity
            && let Some((_, evicted)) = by_next.pop_last()
        {
            held.remove(&evicted);
        }
    }
    hits
}

/// Berger, Beckmann and Harchol-Balter, "Practical bounds on optimal caching with variable object
/// sizes", SIGMETRICS 2018, the relaxation that asks for room on the average of the trace only:
/// keep a value from one request to the next, cheapest in bytes times requests first, until the
/// whole trace's room is spent.
fn footprint_bound(trace: &Trace) -> usize {
    let next = next_requests(trace);
    let length = trace.requests.len();
    let kept = (0..length).filter(|at| next[*at] != usize::MAX);
    let mut costs: Vec<u64> =
        kept.map(|at| u64::from(trace.requests[at].1) * (next[at] - at) as u64).collect();
    costs.sort_unstable();
    let mut room = trace.capacity * length as u64;
    costs
        .into_iter()
        .take_while(|cost| {
            let fits = *cost <= room;
            room = room.saturating_sub(*cost);
            fits
        })
        .count()
}
