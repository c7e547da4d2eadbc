//! Usage in memory.

use std::collections::BTreeMap;

use verax_core::Timestamp;
use verax_core::usage::UsageStep;

use super::Memory;
use crate::model::{UsageOf, UsagePoint, UsageQuery, UsageSample};

/// The most samples that are kept; the oldest of the finest step go first.
const MAX_SAMPLES: usize = 200_000;

/// Samples by step, slot and namespace.
pub(super) type UsageTable = BTreeMap<(UsageStep, u64, u64), UsageSample>;

impl Memory {
    pub(crate) fn keep_usage(&self, samples: &[UsageSample]) {
        let mut state = self.state();
        for sample in samples {
            let key = (sample.step, sample.at.as_millis(), sample.namespace_id);
            state.usage.insert(key, *sample);
        }
        while state.usage.len() > MAX_SAMPLES {
            state.usage.pop_first();
        }
    }

    pub(crate) fn usage(&self, query: &UsageQuery) -> Vec<UsagePoint> {
        let state = self.state();
        let from = (query.step, query.step.slot(query.from).as_millis(), 0);
        let to = (query.step, query.to.as_millis(), 0);
        if from >= to {
            return Vec::new();
        }
        let is_of = |sample: &&UsageSample| match query.of {
            UsageOf::All => true,
            UsageOf::Tenant(id) => sample.tenant_id == id,
            UsageOf::Namespace(id) => sample.namespace_id == id,
        };
        let mut points: Vec<UsagePoint> = Vec::new();
        for sample in state.usage.range(from..to).map(|(_, sample)| sample).filter(is_of) {
            match points.last_mut().filter(|point| point.at == sample.at) {
                Some(point) => {
                    point.covered_ms = point.covered_ms.max(sample.covered_ms);
                    point.figures.add(&sample.figures);
                }
                None => points.push(UsagePoint {
                    at: sample.at,
                    covered_ms: sample.covered_ms,
                    figures: sample.figures,
                }),
            }
        }
        points
    }

    pub(crate) fn prune_usage(&self, now: Timestamp) {
        self.state().usage.retain(|_, sample| sample.at >= now - sample.step.kept_for());
    }
}
