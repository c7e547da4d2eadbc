//! Finds entries by what is in their JSON values.

use std::io::IsTerminal;
use std::time::Duration;

use indicatif::ProgressBar;
use verax_api::{FoundEntry, SearchRequest, SearchStep};
use verax_client::Client;

use super::entries::namespace;
use crate::arguments::FindOptions;
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, table};

/// The most entries of one step.
const STEP: u64 = 1_000;

pub(super) async fn find(
    verax: &Client,
    output: Output,
    options: FindOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let FindOptions { query, prefix, cursor, limit, .. } = options;
    if limit == 0 {
        return Err(Failure::usage("--limit 0 finds nothing: use 1 or more"));
    }
    let mut all = SearchStep { cursor, ..SearchStep::default() };
    let progress = match std::io::stderr().is_terminal() && !output.json {
        true => ProgressBar::new_spinner(),
        false => ProgressBar::hidden(),
    };
    progress.enable_steady_tick(Duration::from_millis(200));
    loop {
        let left = (limit - all.items.len() as u64).min(STEP);
        let request = SearchRequest {
            query: query.clone(),
            prefix: prefix.clone(),
            cursor: all.cursor.take(),
            limit: Some(left),
        };
        let step = namespace.search(&request).await?;
        all.looked_at += step.looked_at;
        all.not_json += step.not_json;
        all.too_large += step.too_large;
        all.items.extend(step.items);
        all.cursor = step.cursor;
        let (looked_at, found) = (figures::count(all.looked_at), all.items.len());
        progress.set_message(format!("{looked_at} entries looked at, {found} found"));
        if all.cursor.is_none() || all.items.len() as u64 >= limit {
            break;
        }
    }
    progress.finish_and_clear();
    output.answer(&all, report)?;
    if let Some(cursor) = &all.cursor {
        output.remark(format!("stopped at the limit; to go on: --cursor {cursor}"));
    }
    if all.too_large > 0 {
        let number = figures::count(all.too_large);
        output.remark(format!("not searched: {number} values larger than 1 MiB"));
    }
    Ok(())
}

fn row(found: &FoundEntry) -> Vec<String> {
    let first = found.parts.first().map_or("", String::as_str);
    let shown: String = first.chars().take(80).collect();
    let cut = if shown.len() < first.len() { "…" } else { "" };
    vec![found.key.clone(), figures::count(found.count), format!("{shown}{cut}")]
}

fn report(all: &SearchStep) -> String {
    let looked_at = figures::number_of(all.looked_at, "entry", "entries");
    let [found, not_json] = [all.items.len() as u64, all.not_json].map(figures::count);
    let summary = format!("{found} found · {looked_at} looked at, {not_json} of them no JSON");
    match all.items.is_empty() {
        true => summary,
        false => {
            format!("{}\n{summary}", table(&["key", ">parts", "first"], all.items.iter().map(row)))
        }
    }
}
