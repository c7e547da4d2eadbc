//! A request to warm, from the command line.

use std::path::Path;

use verax_api::{KeySource, PatternKeys, WarmRequest};

use crate::arguments::{WarmOptions, gather};
use crate::failure::Failure;

/// The keys in a file, one a line; `-` is standard input.
pub(super) fn keys_in(file: &Path) -> Result<Vec<String>, Failure> {
    let text = match file == Path::new("-") {
        true => std::io::read_to_string(std::io::stdin()).map_err(|e| e.to_string()),
        false => std::fs::read_to_string(file).map_err(|e| e.to_string()),
    };
    let text = text.map_err(|e| Failure::usage(format!("the keys of {} : {e}", file.display())))?;
    Ok(text.lines().map(str::trim_end).filter(|line| !line.is_empty()).map(str::to_owned).collect())
}

/// What the options ask for.
pub(super) fn request_of(options: WarmOptions) -> Result<WarmRequest, Failure> {
    let (fresh, refresh_within_seconds) = options.fresh();
    let mut keys = Vec::new();
    let mut listed = options.keys;
    if let Some(file) = &options.keys_from {
        listed.extend(keys_in(file)?);
    }
    if !listed.is_empty() {
        keys.push(KeySource::List(listed));
    }
    let has_pattern =
        options.pattern.is_some() || !options.values.is_empty() || options.rows.is_some();
    if has_pattern {
        let (pattern, values) = (options.pattern, gather(options.values));
        keys.push(KeySource::Pattern(PatternKeys { pattern, values, rows: options.rows }));
    }
    keys.extend(options.tags.into_iter().map(KeySource::Tag));
    keys.extend(options.prefixes.into_iter().map(KeySource::Prefix));
    keys.extend(options.hottest.map(KeySource::Hottest));
    if keys.is_empty() {
        return Err(Failure::usage(
            "say which keys: --key, --keys-from, --values, --rows, --tag, --prefix or --hottest",
        ));
    }
    Ok(WarmRequest {
        keys,
        order: options.order.map(Into::into).unwrap_or_default(),
        concurrency: options.concurrency,
        max_per_second: options.max_per_second,
        origin_share_percent: options.origin_share,
        deadline_seconds: options.deadline.map(|time| time.as_secs_f64()),
        fresh,
        refresh_within_seconds,
        tolerated_failures: options.tolerate,
        retries: options.retries,
        max_age_seconds: options.max_age.map(|time| time.as_secs_f64()),
        ..WarmRequest::default()
    })
}
