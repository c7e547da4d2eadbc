//! `verax batch`.

use std::io::Read;

use verax_api::{BatchOperation, BatchResult};
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::BatchOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::Output;

/// How many operations go into one call.
const MAX_OPERATIONS: usize = 1_000;

fn operations(text: &str) -> Result<Vec<BatchOperation>, Failure> {
    let lines = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    lines
        .map(|(number, line)| {
            serde_json::from_str(line).map_err(|e| {
                Failure::usage(format!(
                    "line {} is not an operation: {e}\n  write one as {{\"get\":{{\"key\":\"a\"}}}}, {{\"put\":{{\"key\":\"a\",\"text\":\"…\"}}}} or {{\"delete\":{{\"key\":\"a\"}}}}",
                    number + 1
                ))
            })
        })
        .collect()
}

pub(super) async fn batch(
    verax: &Client,
    output: Output,
    options: BatchOptions,
) -> Result<(), Failure> {
    let text = match options.file.as_deref().filter(|path| *path != std::path::Path::new("-")) {
        Some(path) => std::fs::read_to_string(path)
            .map_err(|e| Failure::usage(format!("{} cannot be read: {e}", path.display())))?,
        None => {
            let mut text = String::new();
            std::io::stdin().read_to_string(&mut text)?;
            text
        }
    };
    // The whole file is read before anything is done, so that a mistake in line 900 changes
    // nothing.
    let operations = operations(&text)?;
    let namespace = namespace(verax, &options.place)?;
    let mut counts = [0u64; 5];
    for part in operations.chunks(MAX_OPERATIONS) {
        for result in namespace.batch(part.to_vec()).await? {
            let kind = match &result {
                BatchResult::Value(_) => 0,
                BatchResult::Miss {} => 1,
                BatchResult::Stored { .. } => 2,
                BatchResult::Deleted { .. } => 3,
                BatchResult::Failed(_) => 4,
            };
            counts[kind] += 1;
            let line =
                serde_json::to_string(&result).map_err(|e| Failure::failed(e.to_string()))?;
            output.line(line)?;
        }
    }
    let [values, misses, stored, deleted, failed] = counts.map(figures::count);
    output.remark(format!(
        "{values} found · {misses} missing · {stored} stored · {deleted} deleted · {failed} failed"
    ));
    match counts[4] {
        0 => Ok(()),
        some => Err(Failure::failed(format!("{some} operations failed; their results say why"))),
    }
}
