//! Following what the service does, a line a second.

use futures_util::StreamExt;
use verax_api::LiveSample;
use verax_client::Client;

use crate::arguments::WatchOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

const TITLES: &str =
    "time       reads     hits  hit p50   hit p99   origin    origin p50    entries    memory";

pub(super) async fn watch(
    verax: &Client,
    output: Output,
    options: WatchOptions,
) -> Result<(), Failure> {
    let mut samples = Box::pin(verax.live().await?);
    let mut left = options.seconds.unwrap_or(u64::MAX);
    let mut lines = 0u64;
    while left > 0 {
        let sample = tokio::select! {
            sample = samples.next() => sample,
            _ = tokio::signal::ctrl_c() => return Ok(()),
        };
        let Some(sample) = sample else {
            return Err(Failure::failed("Verax ended the stream: it is stopping"));
        };
        let sample = sample?;
        if output.json {
            let text =
                serde_json::to_string(&sample).map_err(|e| Failure::failed(e.to_string()))?;
            output.line(text)?;
        } else {
            if lines.is_multiple_of(20) {
                output.line(TITLES)?;
            }
            output.line(line(&sample))?;
        }
        lines += 1;
        left -= 1;
    }
    Ok(())
}

fn line(sample: &LiveSample) -> String {
    let sum = |get: fn(&verax_api::NamespaceSample) -> f64| sample.namespaces.iter().map(get).sum();
    let count = |get: fn(&verax_api::NamespaceSample) -> u64| -> u64 {
        sample.namespaces.iter().map(get).sum()
    };
    let (reads, hits) = (count(|n| n.reads), count(|n| n.hits));
    let ratio = (reads > 0).then(|| hits as f64 / reads as f64);
    let (hit, origin) = (sample.hit_latency, sample.origin_latency);
    let records = if sample.records_available { "" } else { "  MariaDB does not answer" };
    format!(
        "{:<9} {:>6} {:>8} {:>9} {:>9} {:>8} {:>13} {:>10} {:>9}{records}",
        sample.at.strftime("%H:%M:%S").to_string(),
        figures::rate(sum(|n| n.reads_per_second)),
        figures::share(ratio),
        figures::milliseconds_or_none(hit.map(|l| l.p50_ms)),
        figures::milliseconds_or_none(hit.map(|l| l.p99_ms)),
        figures::rate(sum(|n| n.origin_calls_per_second)),
        figures::milliseconds_or_none(origin.map(|l| l.p50_ms)),
        figures::count(count(|n| n.entries)),
        figures::bytes(sample.memory_bytes.unwrap_or_else(|| count(|n| n.bytes))),
    )
}
