//! Metrics in the OpenMetrics text format, read from the service's statistics at each scrape.

use std::collections::HashMap;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::header::CONTENT_TYPE;
use axum::response::IntoResponse;
use prometheus_client::collector::Collector;
use prometheus_client::encoding::text::encode;
use prometheus_client::encoding::{DescriptorEncoder, EncodeMetric, MetricEncoder};
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::registry::{Registry, Unit};
use verax_api::{FailureKind, Origin};
use verax_control::{NodeState, Registered, Role};
use verax_core::NamespaceId;
use verax_core::meter::LatencyCounts;
use verax_core::store::Usage;
use verax_engine::MemoryUse;
use verax_engine::cache::RefillCounts;
use verax_engine::events::RefillOutcome;
use verax_engine::locks::LockCounts;
use verax_observe::CounterReading;
use verax_service::Service;

use crate::failure::{Failure, Result};
use crate::http::authenticated::Authenticated;

/// The upper edges of the latency histograms, in seconds.
const EDGES: [f64; 14] = [
    0.000_005, 0.000_01, 0.000_025, 0.000_05, 0.000_1, 0.000_5, 0.001, 0.005, 0.01, 0.05, 0.1, 0.5,
    1.0, 10.0,
];

type Row = (Arc<Registered>, CounterReading, Usage);

#[derive(Debug)]
struct Reading {
    rows: Vec<Row>,
    under_way: HashMap<NamespaceId, RefillCounts>,
    origins: Vec<Origin>,
    whole: Option<MemoryUse>,
    refills: RefillCounts,
    locks: LockCounts,
    records_available: bool,
    active: bool,
    standbys: u32,
}

/// Show the metrics of the namespaces the token may see.
#[cfg_attr(test, utoipa::path(get, path = "/metrics", tag = "health", operation_id = "metrics",
    responses((status = 200, content_type = "application/openmetrics-text", body = String))))]
pub(crate) async fn show(
    State(service): State<Arc<Service>>,
    Authenticated(caller): Authenticated,
) -> Result<impl IntoResponse> {
    let mut registry = Registry::with_prefix("verax");
    registry.register_collector(Box::new(Reading {
        rows: service.control().readings().into_iter().filter(|(n, ..)| caller.sees(n)).collect(),
        under_way: service.engine().refills_by_namespace(),
        origins: service.control().managed_origins(&caller),
        whole: caller.is_admin().then(|| service.engine().memory()),
        refills: service.engine().refills(),
        locks: service.engine().lock_counts(),
        records_available: service.control().records_available(),
        active: service.control().role() == Role::Active,
        standbys: service.control().topology().count(NodeState::Standby),
    }));
    let mut text = String::new();
    let internal = |e: fmt::Error| Failure::new(FailureKind::Internal, e.to_string());
    encode(&mut text, &registry).map_err(internal)?;
    let media_type = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    Ok(([(CONTENT_TYPE, media_type)], text))
}

/// Writes one value for each namespace.
fn family(
    encoder: &mut DescriptorEncoder<'_>,
    rows: &[Row],
    (name, help, kind, unit): (&str, &str, MetricType, Option<&Unit>),
    write: impl Fn(MetricEncoder<'_>, &Row) -> fmt::Result,
) -> fmt::Result {
    let mut metric = encoder.encode_descriptor(name, help, unit, kind)?;
    for row in rows {
        let labels = [("tenant", row.0.tenant().as_str()), ("namespace", row.0.name().as_str())];
        write(metric.encode_family(&labels)?, row)?;
    }
    Ok(())
}

fn single(
    encoder: &mut DescriptorEncoder<'_>,
    (name, help, unit): (&str, &str, Option<&Unit>),
    value: u64,
) -> fmt::Result {
    let metric = encoder.encode_descriptor(name, help, unit, MetricType::Gauge)?;
    ConstGauge::new(value as i64).encode(metric)
}

fn histogram(mut metric: MetricEncoder<'_>, counts: &LatencyCounts) -> fmt::Result {
    let mut below = 0;
    let mut buckets: Vec<(f64, u64)> = Vec::with_capacity(EDGES.len() + 1);
    for edge in EDGES {
        let within = counts.at_most(Duration::from_secs_f64(edge)).max(below);
        buckets.push((edge, within - below));
        below = within;
    }
    buckets.push((f64::INFINITY, counts.samples() - below));
    metric.encode_histogram::<[(&str, &str); 0]>(
        counts.total().as_secs_f64(),
        counts.samples(),
        &buckets,
        None,
    )
}

type Count = fn(&CounterReading) -> u64;

impl Reading {
    /// Refills by outcome, and active refills.
    fn encode_refills(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let help = "Refills that have ended, by outcome";
        let mut ended = encoder.encode_descriptor("refills", help, None, MetricType::Counter)?;
        for (namespace, reading, _) in &self.rows {
            for (outcome, number) in RefillOutcome::ALL.iter().zip(reading.refills) {
                let labels = [
                    ("tenant", namespace.tenant().as_str()),
                    ("namespace", namespace.name().as_str()),
                    ("outcome", outcome.name()),
                ];
                ConstCounter::new(number).encode(ended.encode_family(&labels)?)?;
            }
        }
        let under_way = |row: &Row| self.under_way.get(&row.0.id()).copied().unwrap_or_default();
        let live = ("permits_live", "Refills under way", MetricType::Gauge, None);
        family(encoder, &self.rows, live, |m, row| {
            ConstGauge::new(under_way(row).live as i64).encode(m)
        })?;
        let waiting = ("permit_waiters", "Callers waiting for one", MetricType::Gauge, None);
        family(encoder, &self.rows, waiting, |m, row| {
            ConstGauge::new(under_way(row).waiting as i64).encode(m)
        })
    }

    /// The servers of origins by the state of their circuits.
    fn encode_servers(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let help = "Servers of an origin, by the state of their circuit breakers";
        let mut servers =
            encoder.encode_descriptor("origin_servers", help, None, MetricType::Gauge)?;
        for origin in &self.origins {
            for breaker in ["closed", "half-open", "open"] {
                let number = origin.endpoints.iter().filter(|e| e.breaker == breaker).count();
                let labels = [
                    ("tenant", origin.tenant.as_str()),
                    ("origin", origin.name.as_str()),
                    ("breaker", breaker),
                ];
                ConstGauge::new(number as i64).encode(servers.encode_family(&labels)?)?;
            }
        }
        Ok(())
    }
}

impl Reading {
    fn encode_counters(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let counters: [(&str, &str, Count); 17] = [
            ("reads", "Look-ups", |r| r.reads),
            ("hits", "Look-ups answered with a fresh copy", |r| r.hits),
            ("stale_hits", "Look-ups answered with a stale copy", |r| r.stale),
            ("joined_reads", "Look-ups that waited for another caller's refill", |r| r.joined),
            ("negative_hits", "Look-ups answered by a negative entry", |r| r.negative_hits),
            ("misses", "Look-ups that ended without a value", |r| r.misses),
            ("puts", "Values stored by callers", |r| r.puts),
            ("deletes", "Entries deleted by callers", |r| r.deletes),
            ("origin_reads", "Reads of the origin", |r| r.origin_calls),
            ("origin_writes", "Values and deletions sent to the origin", |r| r.origin_writes),
            ("origin_failures", "Reads of the origin that failed", |r| r.origin_errors),
            (
                "origin_refusals",
                "Reads of the origin refused by an open circuit or a full queue",
                |r| r.origin_refusals,
            ),
            ("quota_refusals", "Requests refused because a quota was passed", |r| r.quota_refusals),
            ("permits", "Refill permits granted to callers", |r| r.permits),
            ("refused_refills", "Refills not stored after an invalidation or a write", |r| {
                r.refused_refills
            }),
            ("damage_reports", "Reports of values that a client could not decode", |r| {
                r.damage_reports
            }),
            ("damaged_removals", "Entries removed because of such a report", |r| {
                r.damaged_removals
            }),
        ];
        for (name, help, count) in counters {
            family(encoder, &self.rows, (name, help, MetricType::Counter, None), |m, row| {
                ConstCounter::new(count(&row.1)).encode(m)
            })?;
        }
        Ok(())
    }

    fn encode_entries(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let entries = ("entries", "Entries held", MetricType::Gauge, None);
        family(encoder, &self.rows, entries, |m, row| {
            ConstGauge::new(row.2.entries as i64).encode(m)
        })?;
        let memory = ("entry_memory", "Memory of entries", MetricType::Gauge, Some(&Unit::Bytes));
        family(encoder, &self.rows, memory, |m, row| {
            ConstGauge::new(row.2.bytes as i64).encode(m)
        })?;
        let evicted = ("evicted_entries", "Entries evicted", MetricType::Counter, None);
        family(encoder, &self.rows, evicted, |m, row| {
            ConstCounter::new(row.0.evicted()).encode(m)
        })?;
        Ok(())
    }

    fn encode_latencies(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let seconds = Some(&Unit::Seconds);
        let hits = ("hit_latency", "Service-side latency of hits", MetricType::Histogram, seconds);
        family(encoder, &self.rows, hits, |m, row| histogram(m, &row.1.hit_latency))?;
        let origin = ("origin_latency", "Latency of origin reads", MetricType::Histogram, seconds);
        family(encoder, &self.rows, origin, |m, row| histogram(m, &row.1.origin_latency))?;
        let refills = (
            "refill_latency",
            "Duration of refills, from permit to end",
            MetricType::Histogram,
            seconds,
        );
        family(encoder, &self.rows, refills, |m, row| histogram(m, &row.1.refill_latency))?;
        Ok(())
    }

    /// Figures of the whole service, for administrators.
    fn encode_whole(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let Some(memory) = self.whole else { return Ok(()) };
        let bytes = Some(&Unit::Bytes);
        single(encoder, ("memory_used", "Memory of all entries", bytes), memory.used)?;
        single(encoder, ("memory_limit", "The limit on it", bytes), memory.limit)?;
        single(encoder, ("locks_held", "Locks that are held", None), self.locks.held as u64)?;
        let queued = ("lock_waiters", "Callers queued for a lock", None);
        single(encoder, queued, self.locks.queued as u64)?;
        single(encoder, ("refills_live", "Refills under way", None), self.refills.live as u64)?;
        single(
            encoder,
            ("refill_waiters", "Callers waiting for one", None),
            self.refills.waiting as u64,
        )?;
        Ok(())
    }

    fn encode_node(&self, encoder: &mut DescriptorEncoder<'_>) -> fmt::Result {
        let active = ("active", "1 while this node is active, 0 while it is a standby", None);
        single(encoder, active, u64::from(self.active))?;
        let standbys = ("standbys", "Standby nodes", None);
        single(encoder, standbys, u64::from(self.standbys))?;
        let available = u64::from(self.records_available);
        single(encoder, ("records_available", "1 while MariaDB answers", None), available)
    }
}

impl Collector for Reading {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> fmt::Result {
        self.encode_counters(&mut encoder)?;
        self.encode_entries(&mut encoder)?;
        self.encode_latencies(&mut encoder)?;
        self.encode_refills(&mut encoder)?;
        self.encode_servers(&mut encoder)?;
        self.encode_whole(&mut encoder)?;
        self.encode_node(&mut encoder)
    }
}
