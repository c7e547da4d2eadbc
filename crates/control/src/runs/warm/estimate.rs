//! What a run would do, before it is started.

use std::sync::Arc;
use std::time::Duration;

use verax_api::{StartWarmRun, WarmEstimate, WarmRequest};
use verax_core::access::{Right, Scope};
use verax_core::warm::{Estimate, EstimateInput, FreshEntries, WarmSettings};
use verax_core::{Key, Name};

use super::settings::settings_of;
use super::start::check_sources;
use super::work::WarmWork;
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::registry::Registered;

/// How many keys are shown.
const SHOWN_KEYS: usize = 10;

/// How many keys are looked up before other tasks run.
const KEYS_AT_A_TIME: usize = 1_000;

/// What the cache has of a run's keys.
#[derive(Default)]
struct Present {
    fresh: u64,
    skipped: u64,
    replaced: u64,
}

impl Control {
    /// What a run would do.
    ///
    /// # Errors
    /// As [`start_warm_run`](Self::start_warm_run).
    pub async fn estimate_warm_run(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        request: &WarmRequest,
    ) -> Result<WarmEstimate, ControlError> {
        caller.needs(Scope::within(Right::Warm, tenant, name))?;
        let namespace = self.registry.namespace(tenant, name)?;
        let settings = settings_of(request)?;
        check_sources(&namespace, request, false)?;
        let found = self.keys_of(&namespace, &request.keys).await?;
        let work = WarmWork::new(&namespace, request, settings, found);
        let present = present(&namespace, &work.keys, &work.settings).await;
        Ok(self.estimate_of(&namespace, &work, &present))
    }

    /// What a run of a plan would do.
    ///
    /// # Errors
    /// As [`start_plan_run`](Self::start_plan_run).
    pub async fn estimate_plan_run(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        plan: &Name,
        start: &StartWarmRun,
    ) -> Result<WarmEstimate, ControlError> {
        let mut spec = self.warm_plan(caller, tenant, plan).await?.spec;
        if !start.keys.is_empty() {
            spec.keys.insert(0, verax_api::KeySource::List(start.keys.clone()));
        }
        let namespace = Name::new(&*spec.namespace).map_err(ControlError::invalid)?;
        self.estimate_warm_run(caller, tenant, &namespace, &spec.request()).await
    }

    fn estimate_of(
        &self,
        namespace: &Registered,
        work: &WarmWork,
        present: &Present,
    ) -> WarmEstimate {
        let reading = namespace.statistics().reading();
        let measured = &reading.origin_latency;
        let refill = (measured.samples() > 0)
            .then(|| measured.total() / u32::try_from(measured.samples()).unwrap_or(u32::MAX));
        let usage = namespace.usage();
        let binding = namespace.binding();
        let places = match &binding.origin {
            Some(origin) => work.settings.places_of(origin.max_concurrency()),
            None => {
                u32::try_from(namespace.namespace().present_refillers()).unwrap_or(u32::MAX).max(1)
            }
        };
        let concurrency = work.settings.concurrency.min(places);
        let tenants_cap = {
            let tenants = self.registry.read();
            tenants.get(namespace.tenant()).map_or(u64::MAX, |tenant| tenant.quota.memory.cap)
        };
        let limit_bytes = binding.policy.quota.cap.min(tenants_cap).min(self.engine.memory().limit);
        let input = EstimateInput {
            keys: work.keys.len() as u64,
            skipped: present.skipped,
            replaced: present.replaced,
            concurrency,
            max_per_second: work.settings.max_per_second,
            refill,
            entry_bytes: (usage.entries > 0).then(|| usage.bytes / usage.entries),
            used_bytes: usage.bytes,
            limit_bytes,
        };
        let estimate = input.estimate();
        WarmEstimate {
            keys: input.keys,
            fresh: present.fresh,
            refills: estimate.refills,
            seconds: estimate.duration.map(|time| time.as_secs_f64()),
            refill_ms: refill.map(|time| time.as_secs_f64() * 1_000.0),
            measured_refills: measured.samples(),
            origin_concurrency: concurrency,
            origin_reads_per_second: estimate.origin_reads_per_second,
            added_bytes: estimate.added_bytes,
            used_bytes: usage.bytes,
            limit_bytes,
            evicted_bytes: estimate.evicted_bytes,
            first_keys: work.keys.iter().take(SHOWN_KEYS).map(Key::to_string).collect(),
            warnings: warnings(&input, &estimate, &work.settings, namespace),
        }
    }
}

async fn present(namespace: &Registered, keys: &[Key], settings: &WarmSettings) -> Present {
    let mut present = Present::default();
    for part in keys.chunks(KEYS_AT_A_TIME) {
        for key in part {
            let Some(entry) = namespace.peek(key.as_str()) else { continue };
            let fresh_for = match entry.freshness() {
                verax_core::Freshness::Fresh(left) => Some(left),
                _ => None,
            };
            let least = match settings.fresh {
                FreshEntries::Refresh => None,
                FreshEntries::RefreshWithin(least) => Some(least),
                FreshEntries::Skip => Some(Duration::ZERO),
            };
            let is_left = least.is_some_and(|least| fresh_for.is_some_and(|left| left > least));
            present.fresh += u64::from(fresh_for.is_some());
            present.skipped += u64::from(is_left);
            present.replaced += u64::from(!is_left);
        }
        tokio::task::yield_now().await;
    }
    present
}

fn warnings(
    input: &EstimateInput,
    estimate: &Estimate,
    settings: &WarmSettings,
    namespace: &Registered,
) -> Vec<String> {
    let mut warnings = Vec::new();
    if input.keys == 0 {
        warnings.push("The plan names no key now: there is nothing to refill.".to_owned());
    }
    if estimate.evicts_what_it_fills {
        warnings.push(
            "The run would evict about as much as it fills: warm fewer keys, or raise the \
             namespace's cap or the memory limit."
                .to_owned(),
        );
    } else if estimate.evicted_bytes > 0 {
        warnings.push("What is filled does not fit: other entries would be evicted.".to_owned());
    }
    let max_age = settings.max_age.unwrap_or(namespace.binding().policy.lifetime.max_age);
    if let Some(duration) = estimate.duration {
        if duration > max_age {
            warnings.push(format!(
                "The first entries would be stale before the run ends: it takes longer than their \
                 max-age of {} s.",
                max_age.as_secs_f64()
            ));
        }
        if settings.deadline.is_some_and(|deadline| duration > deadline) {
            warnings.push("The run would not be done by its deadline.".to_owned());
        }
    }
    if input.concurrency < settings.concurrency {
        let why = match namespace.binding().origin {
            Some(_) => "that is its share of the origin's capacity",
            None => "as many requests for keys wait now",
        };
        warnings.push(format!(
            "The run would refill {} keys concurrently rather than {}: {why}.",
            input.concurrency, settings.concurrency
        ));
    }
    if input.refill.is_none() {
        warnings.push("No refill was measured yet, so the duration is not known.".to_owned());
    }
    warnings
}
