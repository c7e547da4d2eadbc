//! get, put, delete, list, show, clear.

use std::io::{IsTerminal, Read};
use std::time::Instant;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};
use verax_api::EntrySummary;
use verax_client::{Client, Lookup, Namespace, PutCondition, ReadOptions, ReadResult, Source};

use crate::arguments::{
    ClearOptions, DeleteOptions, EntryName, GetOptions, ListOptions, NamespacePath, PutOptions,
};
use crate::failure::Failure;
use crate::figures;
use crate::output::{Output, confirm, on_terminal, table};

pub(super) fn namespace(verax: &Client, place: &NamespacePath) -> Result<Namespace, Failure> {
    Ok(verax.namespace(&place.tenant, &place.name)?)
}

fn source_name(source: Source) -> &'static str {
    match source {
        Source::Hit => "hit",
        Source::Stale => "stale hit",
        Source::StaleOnError => "stale hit, origin failed",
        Source::Origin => "miss, read from the origin",
        Source::Joined => "miss, joined another caller's refill",
    }
}

/// One line: where the value came from, how long that took, the time left.
fn summary(found: &ReadResult, took_ms: f64) -> String {
    let mut parts = vec![source_name(found.source).to_owned(), figures::milliseconds(took_ms)];
    if let Some(origin) = found.origin_ms {
        parts.push(format!("origin {}", figures::milliseconds(origin)));
    } else if let Some(service) = found.service_ms {
        parts.push(format!("service {}", figures::milliseconds(service)));
    }
    parts.push(match found.seconds_left {
        Some(left) => figures::time_left(left as f64),
        None if found.stored => "stored".into(),
        None => "not stored".into(),
    });
    parts.push(format!("{} {}", figures::bytes(found.value.len() as u64), found.media_type));
    parts.join(" · ")
}

/// A value for JSON: text where it is text, else base64.
fn value_members(bytes: &[u8]) -> (&'static str, Value) {
    match std::str::from_utf8(bytes) {
        Ok(text) => ("value", text.into()),
        Err(_) => ("value_base64", STANDARD.encode(bytes).into()),
    }
}

fn is_json(media_type: &str) -> bool {
    let essence = media_type.split(';').next().unwrap_or("").trim();
    essence == "application/json" || essence.ends_with("+json")
}

/// A value for a terminal: JSON is set out, everything else is as it is.
fn for_people(found: &ReadResult) -> Vec<u8> {
    let parsed = is_json(&found.media_type).then(|| serde_json::from_slice::<Value>(&found.value));
    match parsed {
        Some(Ok(value)) => {
            serde_json::to_vec_pretty(&value).unwrap_or_else(|_| found.value.to_vec())
        }
        _ => found.value.to_vec(),
    }
}

pub(super) async fn get(
    verax: &Client,
    output: Output,
    options: GetOptions,
) -> Result<(), Failure> {
    let EntryName { place, key } = options.entry;
    let namespace = namespace(verax, &place)?;
    let reading = ReadOptions {
        refresh: options.refresh,
        only_if_cached: options.only_if_cached,
        stale_if_error: options.stale_if_error,
        ..ReadOptions::default()
    };
    // Connected before it is timed: the time to connect is not the cache's.
    verax.ready().await?;
    let started = Instant::now();
    let lookup = namespace.look_up(&key, reading).await?;
    let took_ms = started.elapsed().as_secs_f64() * 1_000.0;
    let miss = |why: &str| {
        let took = figures::milliseconds(took_ms);
        Failure::not_found(format!("miss · {took} · {}/{} {why} {key:?}", place.tenant, place.name))
    };
    let found = match lookup {
        Lookup::Found(found) => found,
        Lookup::Miss => return Err(miss("has no entry")),
        Lookup::NoValue => return Err(miss("has a negative entry: no value for")),
    };
    if output.json {
        let (name, value) = value_members(&found.value);
        let source = match found.source {
            Source::Hit => "hit",
            Source::Stale => "stale",
            Source::StaleOnError => "stale-on-error",
            Source::Origin => "origin",
            Source::Joined => "joined",
        };
        return output.json(&json!({
            "key": key, "source": source, "stored": found.stored,
            "took_ms": took_ms, "service_ms": found.service_ms, "origin_ms": found.origin_ms,
            "age_seconds": found.age.as_secs(), "time_left_seconds": found.seconds_left,
            "media_type": found.media_type, "entity_tag": found.entity_tag, "revision": found.revision,
            name: value,
        }));
    }
    let pretty = on_terminal() && !options.raw;
    let value = if pretty { for_people(&found) } else { found.value.to_vec() };
    output.bytes(&value)?;
    if on_terminal() && !value.ends_with(b"\n") {
        output.bytes(b"\n")?;
    }
    output.remark(summary(&found, took_ms));
    Ok(())
}

fn value_of(options: &PutOptions) -> Result<Vec<u8>, Failure> {
    if let Some(path) = &options.file {
        return std::fs::read(path)
            .map_err(|e| Failure::usage(format!("{} cannot be read: {e}", path.display())));
    }
    match options.value.as_deref() {
        Some(value) if value != "-" => Ok(value.as_bytes().to_vec()),
        given => {
            if given.is_none() && std::io::stdin().is_terminal() {
                return Err(Failure::usage(
                    "no value: give it after the key, by --file, or on standard input",
                ));
            }
            let mut value = Vec::new();
            std::io::stdin().read_to_end(&mut value)?;
            Ok(value)
        }
    }
}

fn guessed_type(value: &[u8]) -> &'static str {
    match std::str::from_utf8(value) {
        Ok(_) if serde_json::from_slice::<serde::de::IgnoredAny>(value).is_ok() => {
            "application/json"
        }
        Ok(_) => "text/plain; charset=utf-8",
        Err(_) => "application/octet-stream",
    }
}

pub(super) async fn put(
    verax: &Client,
    output: Output,
    options: PutOptions,
) -> Result<(), Failure> {
    let value = value_of(&options)?;
    let namespace = namespace(verax, &options.entry.place)?;
    let (key, size) = (options.entry.key, value.len() as u64);
    let condition = match options.if_match {
        Some(tag) if tag.starts_with('"') => PutCondition::IfMatches(tag),
        Some(tag) => PutCondition::IfMatches(format!("\"{tag}\"")),
        None if options.if_absent => PutCondition::IfAbsent,
        None => options.if_revision.map_or(PutCondition::Always, PutCondition::IfRevision),
    };
    let media_type = options.media_type.unwrap_or_else(|| guessed_type(&value).to_owned());
    let put = verax_client::PutOptions {
        media_type: Some(media_type.clone()),
        max_age: options.lifetime.max_age,
        stale_while_revalidate: options.lifetime.stale_while_revalidate,
        stale_if_error: options.lifetime.stale_if_error,
        tags: options.tags,
        condition,
    };
    let replaced = namespace.put(&key, value, put).await?;
    let answer =
        json!({ "key": key, "replaced": replaced, "value_bytes": size, "media_type": media_type });
    output.answer(&answer, |_| {
        let how = if replaced { "replaced the previous value" } else { "stored" };
        format!("{how} · {} {media_type}", figures::bytes(size))
    })
}

pub(super) async fn delete(
    verax: &Client,
    output: Output,
    options: DeleteOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let mut items = Vec::new();
    for key in options.keys {
        let there = match options.dry_run {
            true => namespace.show(&key).await?.is_some(),
            false => namespace.delete(&key).await?,
        };
        items.push((key, there));
    }
    let found = if options.dry_run { "there" } else { "deleted" };
    let answer: Vec<Value> =
        items.iter().map(|(key, there)| json!({ "key": key, found: there })).collect();
    output.answer(&json!({ "items": answer }), |_| match &items[..] {
        [(_, there)] => outcome(*there, options.dry_run).to_owned(),
        items => {
            let row = |(key, there): &(String, bool)| {
                vec![key.clone(), outcome(*there, options.dry_run).to_owned()]
            };
            table(&["key", ""], items.iter().map(row))
        }
    })
}

/// What became of one key.
fn outcome(there: bool, dry_run: bool) -> &'static str {
    match (there, dry_run) {
        (true, true) => "there; not deleted",
        (true, false) => "deleted",
        (false, _) => "there was none",
    }
}

fn row(entry: &EntrySummary) -> Vec<String> {
    vec![
        entry.key.clone(),
        figures::bytes(entry.value_bytes),
        figures::time(std::time::Duration::from_secs_f64(entry.age_seconds)),
        figures::time_left(entry.time_left_seconds),
        entry.media_type.clone(),
        entry.tags.join(", "),
    ]
}

pub(super) async fn list(
    verax: &Client,
    output: Output,
    options: ListOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let is_filtered =
        options.tag.is_some() || options.state.is_some() || !options.prefix.is_empty();
    let mut wanted = verax_client::ListOptions {
        prefix: options.prefix,
        tag: options.tag,
        state: options.state,
        order: options.order,
        cursor: options.cursor,
        limit: Some(options.limit),
    };
    let mut page = namespace.list_with(&wanted).await?;
    // A page may be short although more follow, since the service looks at a bounded part.
    while page.items.len() < options.limit && page.cursor.is_some() {
        wanted.cursor = page.cursor;
        wanted.limit = Some(options.limit - page.items.len());
        let next = namespace.list_with(&wanted).await?;
        page.items.extend(next.items);
        page.cursor = next.cursor;
    }
    if page.sample.is_none() {
        page.items.sort_unstable_by(|a, b| a.key.cmp(&b.key));
    }
    output.answer(&page, |page| {
        if page.items.is_empty() {
            return match is_filtered {
                true => "no entry matches".to_owned(),
                false => "no entries".to_owned(),
            };
        }
        table(
            &["key", ">value", ">age", ">time left", "media type", "tags"],
            page.items.iter().map(row),
        )
    })?;
    if let Some(sample) = page.sample.filter(|sample| !sample.is_whole) {
        output.remark(format!(
            "the first of a sample: {} of about {} entries",
            figures::count(sample.looked_at),
            figures::count(sample.of)
        ));
    }
    if let Some(cursor) = &page.cursor {
        output.remark(format!("more entries follow: add --cursor {cursor}"));
    }
    Ok(())
}

pub(super) async fn show(verax: &Client, output: Output, entry: EntryName) -> Result<(), Failure> {
    let namespace = namespace(verax, &entry.place)?;
    let found = namespace.show(&entry.key).await?;
    let cached = ReadOptions { only_if_cached: true, ..Default::default() };
    let value = namespace.look_up(&entry.key, cached).await?;
    let (Some(found), Lookup::Found(value)) = (found, value) else {
        let NamespacePath { tenant, name } = &entry.place;
        let key = &entry.key;
        return Err(Failure::not_found(format!("{tenant}/{name} has no entry {key:?}")));
    };
    if output.json {
        let mut shown = serde_json::to_value(&found).map_err(|e| Failure::failed(e.to_string()))?;
        let (name, bytes) = value_members(&value.value);
        shown[name] = bytes;
        return output.json(&shown);
    }
    let seconds = std::time::Duration::from_secs_f64(found.age_seconds);
    let rows = [
        ("key", found.key.clone()),
        ("media type", found.media_type.clone()),
        ("value", figures::bytes(found.value_bytes)),
        ("memory", figures::bytes(found.memory_bytes)),
        ("age", figures::time(seconds)),
        ("freshness", figures::time_left(found.time_left_seconds)),
        ("entity tag", found.entity_tag.clone()),
        ("revision", found.revision.to_string()),
        ("tags", if found.tags.is_empty() { "–".into() } else { found.tags.join(", ") }),
    ];
    for (name, text) in rows {
        output.line(format!("{name:<11} {text}"))?;
    }
    let text = for_people(&value);
    match std::str::from_utf8(&text) {
        Ok(text) => output.line(format!("\n{text}")),
        Err(_) => output.line("\nthe value is not text; `verax get` writes its bytes"),
    }
}

pub(super) async fn clear(
    verax: &Client,
    output: Output,
    options: ClearOptions,
) -> Result<(), Failure> {
    let namespace = namespace(verax, &options.place)?;
    let NamespacePath { tenant, name } = &options.place;
    if options.dry_run {
        let entries = namespace.count_clear(options.prefix.as_deref()).await?;
        return output.answer(&json!({ "entries": entries, "dry_run": true }), |_| {
            let entries = figures::number_of(entries, "entry", "entries");
            format!("{entries} of {tenant}/{name} would go; none was removed")
        });
    }
    if !options.yes {
        let held = figures::count(namespace.info().await?.usage.entries);
        let what = match &options.prefix {
            None => format!("this removes all {held} entries of {tenant}/{name}"),
            Some(prefix) => format!(
                "this removes the entries of {tenant}/{name} whose keys start with {prefix:?}; it has {held} entries in all"
            ),
        };
        confirm(false, &what)?;
    }
    let entries = match &options.prefix {
        None => namespace.clear().await?,
        Some(prefix) => namespace.clear_prefix(prefix).await?,
    };
    output.answer(&json!({ "entries": entries }), |_| {
        format!("removed {} entries of {tenant}/{name}", figures::count(entries))
    })
}
