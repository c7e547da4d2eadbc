//! The keys that are read most.

use verax_api::{HotKey, HotKeys};
use verax_core::access::Right;
use verax_core::heat::{HALF_LIFE, MAX_KEYS};
use verax_core::{Freshness, Name};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;

impl Control {
    /// The keys of a namespace that are read most.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, or the number of keys.
    pub fn hot_keys(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        most: u32,
    ) -> Result<HotKeys, ControlError> {
        caller.needs_within(Right::Read, tenant, name)?;
        let namespace = self.registry.namespace(tenant, name)?;
        let range = 1..=MAX_KEYS as u32;
        if !range.contains(&most) {
            let what = "the number of hot keys";
            return Err(InvalidInput::OutOfRange { what, value: most, range }.into());
        }
        let hot = namespace.hottest(most as usize);
        Ok(HotKeys {
            reads_per_second: hot.reads_per_second,
            observed_seconds: hot.observed.as_secs_f64(),
            half_life_seconds: HALF_LIFE.as_secs_f64(),
            keys: hot.keys.into_iter().map(|hot| hot_key(&namespace, hot)).collect(),
        })
    }
}

fn hot_key(namespace: &Registered, hot: verax_core::heat::HotKey) -> HotKey {
    let entry = namespace.peek(&hot.key);
    let state = match entry.as_ref().map(|entry| (entry.freshness(), entry.is_negative())) {
        None | Some((Freshness::Ended, _)) => "missing",
        Some((Freshness::Fresh(_), true)) => "negative",
        Some((Freshness::Fresh(_), false)) => "fresh",
        Some(_) => "stale",
    };
    let refill = entry.as_ref().map(|entry| entry.refill_took()).filter(|took| !took.is_zero());
    let refill = refill.map(|took| took.as_secs_f64());
    HotKey {
        reads_per_second: hot.reads_per_second,
        may_be_over_by: hot.may_be_over_by,
        share: hot.share,
        hit_ratio: hot.hit_ratio,
        refill_ms: refill.map(|seconds| seconds * 1_000.0),
        waiting_if_cold: refill.map(|seconds| seconds * hot.reads_per_second),
        state: state.to_owned(),
        value_bytes: entry.as_ref().map(|entry| entry.value_length() as u64),
        key: hot.key,
    }
}
