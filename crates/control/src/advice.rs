//! Advice on the lifetimes of a namespace, in sentences.

use std::time::Duration;

use verax_api::{AdvicePoint, LifetimeAdvice};
use verax_core::Name;
use verax_core::access::Right;
use verax_core::advice::{Advice, AdviceReason, OUTDATED_SHARE};

use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;

/// A length of time, as a reason says it.
fn words(time: Duration) -> String {
    match time.as_secs() {
        0 => format!("{} ms", time.as_millis()),
        seconds if seconds < 120 => format!("{seconds} s"),
        seconds if seconds < 7_200 => format!("{} min", seconds / 60),
        seconds => format!("{} h", seconds / 3_600),
    }
}

fn percent(share: f64) -> String {
    format!("{:.1} %", share * 100.0)
}

fn reasons(advice: &Advice) -> Vec<String> {
    let mut reasons = Vec::new();
    let Some((max_age, reason)) = &advice.suggestion else {
        reasons.push(
            "Too few reads were observed, or for too short a time: a max-age is judged after four \
             times as long."
                .to_owned(),
        );
        return reasons;
    };
    let max_age_words = words(*max_age);
    let is_longest = advice.points.last().is_some_and(|point| point.max_age == *max_age);
    reasons.push(match reason {
        AdviceReason::Outdated { share } => format!(
            "{max_age_words} is the longest max-age with which no more than {} of reads see a value \
             that has changed since: {}.",
            percent(OUTDATED_SHARE),
            percent(*share)
        ),
        AdviceReason::ChangesTooOften { share } => format!(
            "Values change so often that {} of reads see an outdated one even with {max_age_words}: \
             invalidate on change rather than shorten the lifetime.",
            percent(*share)
        ),
        AdviceReason::Knee { .. } if is_longest => format!(
            "{max_age_words} is the longest max-age that can be judged yet: each is judged after four \
             times as long."
        ),
        AdviceReason::Knee { ratio } => format!(
            "A longer max-age saves little: {max_age_words} has {ratio:.2} times the origin reads of \
             the longest that was judged."
        ),
    });
    let next = advice.points.iter().find(|point| point.max_age > *max_age);
    if let (AdviceReason::Outdated { .. }, Some(next)) = (reason, next)
        && let Some(share) = next.outdated_share
    {
        reasons.push(format!("With {} it would be {}.", words(next.max_age), percent(share)));
    }
    reasons.push(match advice.change_interval {
        Some(interval) => format!(
            "A value changes every {} on average: {} of {} refills brought another one.",
            words(interval),
            advice.changed,
            advice.compared
        ),
        None if advice.outdated_known() => {
            format!("None of {} refills brought another value.", advice.compared)
        }
        None => format!(
            "Only {} refills could be compared with the value before, so how often values change is \
             not known.",
            advice.compared
        ),
    });
    reasons
}

impl Control {
    /// What other max-ages would mean for a namespace.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, or the namespace.
    pub fn lifetime_advice(
        &self,
        caller: &Caller,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<LifetimeAdvice, ControlError> {
        caller.needs_within(Right::Observe, tenant, namespace)?;
        let registered = self.registry.namespace(tenant, namespace)?;
        let advice = registered.statistics().advice(self.engine.now());
        let reading = registered.statistics().reading();
        let origin = &reading.origin_latency;
        let origin_ms = (origin.samples() > 0)
            .then(|| origin.total().as_secs_f64() * 1_000.0 / origin.samples() as f64);
        Ok(LifetimeAdvice {
            max_age_seconds: registered.binding().policy.lifetime.max_age.as_secs_f64(),
            suggested_max_age_seconds: advice.suggestion.map(|(time, _)| time.as_secs_f64()),
            reasons: reasons(&advice),
            observed_seconds: advice.observed.as_secs_f64(),
            sampled_reads: advice.sampled_reads,
            sampled_keys: advice.sampled_keys,
            sampled_fraction: advice.fraction,
            compared_refills: advice.compared,
            changed_refills: advice.changed,
            change_interval_seconds: advice.change_interval.map(|time| time.as_secs_f64()),
            origin_ms,
            points: advice
                .points
                .iter()
                .map(|point| AdvicePoint {
                    max_age_seconds: point.max_age.as_secs_f64(),
                    origin_reads_per_second: point.origin_reads_per_second,
                    hit_ratio: point.hit_ratio,
                    mean_age_seconds: point.mean_age.as_secs_f64(),
                    outdated_share: point.outdated_share,
                })
                .collect(),
        })
    }
}
