//! What more memory would buy a namespace, and how memory is best divided among namespaces.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::Arc;

use verax_api::{DividedNamespace, MemoryCurve, MemoryDivision, MemoryPoint};
use verax_core::Name;
use verax_core::access::Right;
use verax_core::memory_curve::{self, CurvePoint, NamespaceMemory, TenantBounds};

use crate::access::Caller;
use crate::control::Control;
use crate::error::{ControlError, Overload};
use crate::registry::Registered;

/// A namespace is known well enough to divide memory after it was read so many times as often as
/// it has entries.
const READS_FOR_EACH_ENTRY: f64 = 10.0;

/// Below this, a gain in the hit ratio is none.
const NO_GAIN: f64 = 0.005;

/// At most about so many points of a curve are shown.
const POINTS: usize = 48;

/// How much is in a namespace, and what more would be.
struct Known {
    entries: f64,
    bytes: u64,
    entry_bytes: f64,
    /// Whether an entry was evicted.
    is_short: bool,
    curve: Option<memory_curve::MemoryCurve>,
}

fn percent(share: f64) -> String {
    format!("{:.1} %", share * 100.0)
}

impl Control {
    fn known(&self, namespace: &Registered) -> Known {
        let usage = namespace.usage();
        let curve = namespace.statistics().memory_curve(namespace.namespace(), self.engine.now());
        let entries = usage.entries as f64;
        let entry_bytes = usage.bytes as f64 / entries.max(1.0);
        let is_short = namespace.namespace().evicted() > 0;
        Known { entries, bytes: usage.bytes, entry_bytes, is_short, curve }
    }

    /// What a namespace's hit ratio would be with other amounts of memory.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn memory_curve(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<MemoryCurve, ControlError> {
        caller.needs_within(Right::Observe, tenant, name)?;
        let namespace = self.registry.namespace(tenant, name)?;
        let known = self.known(&namespace);
        let curve = known.curve.as_ref();
        let point = |point: &CurvePoint| known.point(point);
        // Without an entry there is no telling how large one is.
        let has_size = known.entries > 0.0;
        let points = curve.filter(|_| has_size).map(|curve| some_of(&curve.points));
        let now = curve.filter(|_| has_size).map(|curve| curve.point_at(known.entries));
        Ok(MemoryCurve {
            reads_per_second: curve.map_or(0.0, |curve| curve.reads_per_second),
            measured_hit_ratio: namespace.statistics().measured_hit_ratio(),
            entry_bytes: has_size.then_some(known.entry_bytes),
            now: now.as_ref().map(point),
            points: points.unwrap_or_default().iter().map(point).collect(),
            remarks: known.remarks(),
            observed_seconds: curve.map_or(0.0, |curve| curve.observed.as_secs_f64()),
            sampled_keys: curve.map_or(0, |curve| curve.sampled_keys as u64),
            sampled_reads: curve.map_or(0, |curve| curve.sampled_reads),
            sampled_fraction: curve.map_or(0.0, |curve| curve.fraction),
            known_keys: curve.map_or(0, |curve| curve.known_keys as u64),
            known_share: curve.map_or(0.0, |curve| curve.known_share),
        })
    }

    /// How memory is best divided among the namespaces that a caller sees.
    ///
    /// # Errors
    /// [`ControlError`]: the service stops.
    pub async fn divide_memory(
        self: &Arc<Self>,
        caller: Arc<Caller>,
    ) -> Result<MemoryDivision, ControlError> {
        let turn = Arc::clone(&self.dividing).lock_owned().await;
        let control = Arc::clone(self);
        let divided = tokio::task::spawn_blocking(move || {
            // A caller that is gone gives the turn back only when the work has ended.
            let _turn = turn;
            control.divided(&caller)
        });
        divided.await.map_err(|_| Overload::Division.into())
    }

    fn divided(&self, caller: &Caller) -> MemoryDivision {
        let mut seen: Vec<(Arc<Registered>, u64)> = self.registry.namespaces_with_tenants();
        seen.retain(|(namespace, _)| caller.sees(namespace.namespace()));
        let mut tenants: BTreeMap<u64, usize> = BTreeMap::new();
        let mut bounds = Vec::new();
        let namespaces: Vec<NamespaceMemory> = seen
            .iter()
            .map(|(namespace, id)| {
                let tenant = *tenants.entry(*id).or_insert_with(|| {
                    bounds.push(self.bounds_of(namespace, caller));
                    bounds.len() - 1
                });
                let known = self.known(namespace);
                let quota = namespace.binding().policy.quota;
                // A namespace without evictions gains nothing from more memory.
                let cap = if known.is_short { quota.cap } else { quota.cap.min(known.bytes) };
                NamespaceMemory {
                    tenant,
                    bytes: known.bytes,
                    entry_bytes: known.entry_bytes,
                    reserve: quota.reserve,
                    cap,
                    curve: known.enough(),
                }
            })
            .collect();
        let bytes = match caller.is_admin() {
            true => self.engine.memory().limit,
            false => namespaces.iter().map(|namespace| namespace.bytes).sum(),
        };
        let divided = memory_curve::divide(&namespaces, &bounds, bytes);
        let mut rows: Vec<DividedNamespace> = seen
            .iter()
            .zip(namespaces.iter().zip(&divided))
            .map(|((registered, _), (now, then))| DividedNamespace {
                tenant: registered.tenant().to_string(),
                namespace: registered.name().to_string(),
                bytes_now: now.bytes,
                bytes_then: then.bytes,
                reserve_bytes: now.reserve,
                is_known: now.curve.is_some(),
                reads_per_second: then.reads_per_second,
                hit_ratio_now: then.hit_ratio_now,
                hit_ratio_then: then.hit_ratio_then,
            })
            .collect();
        rows.sort_by_key(|row| {
            let gained = i128::from(row.bytes_then) - i128::from(row.bytes_now);
            (Reverse(gained), row.tenant.clone(), row.namespace.clone())
        });
        division(bytes, rows)
    }

    /// What a tenant is guaranteed and may not exceed. Whoever does not see all of it divides what
    /// there is.
    fn bounds_of(&self, namespace: &Registered, caller: &Caller) -> TenantBounds {
        let tenants = self.registry.read();
        let found = tenants.get(namespace.tenant());
        let quota = found.filter(|_| caller.is_admin()).map(|tenant| tenant.quota.memory);
        let quota = quota.unwrap_or_default();
        TenantBounds { reserve: quota.reserve, cap: quota.cap }
    }
}

impl Known {
    fn point(&self, point: &CurvePoint) -> MemoryPoint {
        let rate = self.curve.as_ref().map_or(0.0, |curve| curve.reads_per_second);
        MemoryPoint {
            bytes: (point.entries * self.entry_bytes) as u64,
            entries: point.entries.round() as u64,
            hit_ratio: point.hit_ratio,
            error: point.error,
            misses_per_second: rate * (1.0 - point.hit_ratio),
        }
    }

    /// The curve, if enough was observed to divide memory by it.
    fn enough(self) -> Option<memory_curve::MemoryCurve> {
        let reads = |curve: &memory_curve::MemoryCurve| {
            curve.reads_per_second * curve.observed.as_secs_f64()
        };
        self.curve.filter(|curve| reads(curve) >= READS_FOR_EACH_ENTRY * self.entries)
    }

    fn remarks(&self) -> Vec<String> {
        let Some(curve) = self.curve.as_ref() else {
            return vec![
                "Too few reads were observed: it takes 200 reads, and 64 keys unless a few of them \
                 have nearly all reads."
                    .to_owned(),
            ];
        };
        if self.entries == 0.0 {
            return vec![
                "There is no entry whose size tells how much memory is needed.".to_owned(),
            ];
        }
        let now = curve.point_at(self.entries);
        let rate = curve.reads_per_second;
        let gain = |ratio: f64| (ratio - now.hit_ratio).abs();
        let most = curve.point_at(curve.most_entries());
        let mut remarks = Vec::new();
        if !self.is_short {
            remarks.push(
                "More memory buys nothing: no entry has been evicted since the start.".to_owned(),
            );
        } else if gain(most.hit_ratio) < NO_GAIN || most.entries <= self.entries {
            remarks.push(
                "More memory buys nothing: everything that is read again in time already fits."
                    .to_owned(),
            );
        } else {
            let twice = curve.hit_ratio_at(self.entries * 2.0);
            remarks.push(format!(
                "Twice the memory would raise the hit ratio from {} to {}: {:.1} fewer misses per \
                 second.",
                percent(now.hit_ratio),
                percent(twice),
                rate * gain(twice),
            ));
        }
        let half = curve.hit_ratio_at(self.entries / 2.0);
        remarks.push(match gain(half) < NO_GAIN {
            true => "Half of the memory would do.".to_owned(),
            false => format!(
                "Half of the memory would lower it to {}: {:.1} more misses per second.",
                percent(half),
                rate * gain(half),
            ),
        });
        if rate * curve.observed.as_secs_f64() < READS_FOR_EACH_ENTRY * self.entries {
            remarks.push(format!(
                "Observed for too short a time to be sure: {:.0} reads for {:.0} entries.",
                rate * curve.observed.as_secs_f64(),
                self.entries,
            ));
        }
        remarks
    }
}

/// Points at about equal distances of their logarithms.
fn some_of(points: &[CurvePoint]) -> Vec<CurvePoint> {
    let every = points.len().div_ceil(POINTS).max(1);
    let last = points.len().saturating_sub(1);
    let shown = points.iter().enumerate().filter(|(at, _)| at % every == 0 || *at == last);
    shown.map(|(_, point)| *point).collect()
}

fn division(bytes: u64, namespaces: Vec<DividedNamespace>) -> MemoryDivision {
    let reads: f64 = namespaces.iter().map(|row| row.reads_per_second).sum();
    let hits = |of: fn(&DividedNamespace) -> Option<f64>| -> f64 {
        namespaces.iter().map(|row| of(row).unwrap_or(0.0) * row.reads_per_second).sum()
    };
    let (now, then) = (hits(|row| row.hit_ratio_now), hits(|row| row.hit_ratio_then));
    let ratio = |hits: f64| if reads > 0.0 { hits / reads } else { 0.0 };
    let unknown = namespaces.iter().filter(|row| !row.is_known).count();
    let mut remarks = Vec::new();
    if unknown == namespaces.len() {
        remarks.push(
            "No namespace was read enough: a namespace is known after ten times as many reads as it \
             has entries."
                .to_owned(),
        );
    } else if ratio(then) - ratio(now) < NO_GAIN {
        remarks.push("No division is noticeably better than the present one.".to_owned());
    } else {
        remarks.push(format!(
            "This division would raise the hit ratio from {} to {}: {:.1} fewer misses per second.",
            percent(ratio(now)),
            percent(ratio(then)),
            then - now,
        ));
        remarks.push(
            "A reserve gives a namespace its part; what is not reserved goes to whoever writes most."
                .to_owned(),
        );
    }
    if unknown > 0 && unknown < namespaces.len() {
        remarks.push(format!(
            "{unknown} of {} namespaces were read too little to be known; each keeps what it has.",
            namespaces.len()
        ));
    }
    MemoryDivision {
        bytes,
        hit_ratio_now: ratio(now),
        hit_ratio_then: ratio(then),
        misses_per_second_now: reads - now,
        misses_per_second_then: reads - then,
        namespaces,
        remarks,
    }
}
