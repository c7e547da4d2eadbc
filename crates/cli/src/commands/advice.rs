//! `verax namespace advice`.

use std::time::Duration;

use verax_api::LifetimeAdvice;
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::NamespacePath;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn advice(
    verax: &Client,
    output: Output,
    place: &NamespacePath,
) -> Result<(), Failure> {
    let advice = namespace(verax, place)?.lifetime_advice().await?;
    output.answer(&advice, report)
}

/// A number of seconds, to a tenth below ten.
fn age(seconds: f64) -> String {
    match seconds {
        seconds if seconds < 10.0 => format!("{seconds:.1}s"),
        seconds => figures::time(Duration::from_secs_f64(seconds)),
    }
}

fn report(advice: &LifetimeAdvice) -> String {
    let rows = advice.points.iter().map(|point| {
        let is = |seconds: Option<f64>| seconds.is_some_and(|s| s == point.max_age_seconds);
        let mark = match (is(advice.suggested_max_age_seconds), is(Some(advice.max_age_seconds))) {
            (true, true) => "now, and suggested",
            (true, false) => "suggested",
            (false, true) => "now",
            (false, false) => "",
        };
        vec![
            figures::time(Duration::from_secs_f64(point.max_age_seconds)),
            figures::rate(point.origin_reads_per_second),
            figures::share(Some(point.hit_ratio)),
            age(point.mean_age_seconds),
            figures::share(point.outdated_share),
            mark.to_owned(),
        ]
    });
    let mut lines = Vec::new();
    if !advice.points.is_empty() {
        let titles =
            [">max-age", ">origin reads", ">hit ratio", ">mean age", ">outdated reads", ""];
        lines.push(table(&titles, rows));
        lines.push(String::new());
    }
    lines.extend(advice.reasons.iter().cloned());
    if let Some(origin) = advice.origin_ms {
        lines.push(format!("An origin read takes {} on average.", figures::milliseconds(origin)));
    }
    lines.push(format!(
        "Observed for {}: {} reads of {} keys, {} of all keys.",
        figures::time(Duration::from_secs_f64(advice.observed_seconds)),
        figures::count(advice.sampled_reads),
        figures::count(advice.sampled_keys),
        figures::share(Some(advice.sampled_fraction)),
    ));
    lines.join("\n")
}
