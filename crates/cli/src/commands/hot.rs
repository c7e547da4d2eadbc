//! The keys that are read most.

use std::time::Duration;

use verax_api::{HotKey, HotKeys};
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::HotOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

pub(super) async fn hot(
    verax: &Client,
    output: Output,
    options: HotOptions,
) -> Result<(), Failure> {
    let hot = namespace(verax, &options.place)?.hot_keys(options.limit).await?;
    output.answer(&hot, table_of)
}

fn table_of(hot: &HotKeys) -> String {
    if hot.keys.is_empty() {
        return "no reads yet: hot keys show once the namespace is read".to_owned();
    }
    let row = |key: &HotKey| {
        vec![
            key.key.clone(),
            figures::rate(key.reads_per_second),
            figures::share(Some(key.share)),
            figures::share(Some(key.hit_ratio)),
            key.state.clone(),
            figures::bytes_or_none(key.value_bytes),
            figures::milliseconds_or_none(key.refill_ms),
            key.waiting_if_cold.map_or_else(|| "–".to_owned(), |n| format!("{n:.1}")),
        ]
    };
    let titles = ["key", ">reads", ">of all", ">hits", "state", ">value", ">refill", ">would wait"];
    let observed =
        figures::time(Duration::try_from_secs_f64(hot.observed_seconds).unwrap_or_default());
    format!(
        "{}\n\n{} of all keys, observed for {observed}; a read counts half after {}.\n\
         Would wait: readers that a refill of the key would make wait if it went cold.",
        table(&titles, hot.keys.iter().map(row)),
        figures::rate(hot.reads_per_second),
        figures::time(Duration::try_from_secs_f64(hot.half_life_seconds).unwrap_or_default()),
    )
}
