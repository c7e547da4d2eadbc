//! The conformance cases of clients/conformance, with the Rust client over both transports.

use std::collections::HashMap;
use std::fmt::Display;
use std::path::Path;
use std::time::Duration;

use futures_util::future::BoxFuture;
use rstest::rstest;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use verax_client::{
    Cache, CacheOptions, Cached, CachedFrom, ClientError, Hit, LifetimeOptions, LockGuard,
    LockOptions, LockOutcome, Lookup, PutCondition, PutMany, PutOptions, Rate, RateLimitOutcome,
    ReadOptions, Refilled, Source,
};
use verax_e2e::Verax;

/// A text of a case, which may be a repetition.
fn text(value: &Value) -> String {
    match value {
        Value::Object(repeated) => {
            let times = repeated["times"].as_u64().unwrap() as usize;
            repeated["repeat"].as_str().unwrap().repeat(times)
        }
        value => value.as_str().unwrap().to_owned(),
    }
}

/// An argument of a step, or its default.
fn given<T: DeserializeOwned + Default>(step: &Value, name: &str) -> T {
    step.get(name).map_or_else(T::default, |value| serde_json::from_value(value.clone()).unwrap())
}

fn seconds(step: &Value, name: &str) -> Option<Duration> {
    given::<Option<f64>>(step, name).map(Duration::from_secs_f64)
}

fn lifetime(step: &Value) -> LifetimeOptions {
    LifetimeOptions {
        max_age: seconds(step, "max_age"),
        stale_while_revalidate: seconds(step, "stale_while_revalidate"),
        stale_if_error: seconds(step, "stale_if_error"),
    }
}

/// What a refusal is, by the service or by the client.
fn refused(error: &ClientError) -> Value {
    let name = match error {
        // HTTP tells what cannot be read from what cannot be; the wire has one name for both.
        ClientError::Refused(problem) if problem.name() == "bad-request" => "invalid",
        ClientError::Refused(problem) => problem.name(),
        ClientError::Invalid(_) => "invalid",
        other => panic!("{other}"),
    };
    json!({ "refused": name })
}

fn said<T>(result: Result<T, ClientError>, words: impl FnOnce(T) -> Value) -> Value {
    result.map_or_else(|error| refused(&error), words)
}

fn hit(hit: &Hit) -> Value {
    let source = match hit.source {
        Source::Hit => "hit",
        Source::Stale => "stale",
        Source::StaleOnError => "stale-on-error",
        Source::Origin => "origin",
        Source::Joined => "joined",
    };
    json!({ "value": str::from_utf8(&hit.value).unwrap(), "source": source })
}

fn found(lookup: Option<Hit>) -> Value {
    lookup.map_or_else(|| json!({ "miss": true }), |found| hit(&found))
}

fn cached(cached: Cached<Option<Value>>) -> Value {
    let from = match cached.from {
        CachedFrom::NearCopy | CachedFrom::Cache => "cache",
        CachedFrom::BeingRefreshed => "being-refreshed",
        CachedFrom::StaleOnError => "stale-on-error",
        CachedFrom::Refill => "refill",
        CachedFrom::SharedRefill => "shared-refill",
        other => panic!("{other:?}"),
    };
    match cached.value {
        Some(value) => json!({ "value": value, "from": from }),
        None => json!({ "no_value": true, "from": from }),
    }
}

fn of_batch<T>(
    results: Result<Vec<Result<T, ClientError>>, ClientError>,
    words: impl Fn(T) -> Value,
) -> Value {
    said(results, |results| {
        let results: Vec<Value> = results.into_iter().map(|one| said(one, &words)).collect();
        json!({ "results": results })
    })
}

/// Runs the steps of one case.
struct Runner<'c> {
    cache: &'c Cache,
    revisions: HashMap<String, u64>,
    tokens: HashMap<String, u64>,
    locks: HashMap<String, LockGuard>,
}

impl<'c> Runner<'c> {
    fn new(cache: &'c Cache) -> Self {
        let (revisions, tokens, locks) = Default::default();
        Self { cache, revisions, tokens, locks }
    }

    fn put_options(&self, step: &Value) -> PutOptions {
        let LifetimeOptions { max_age, stale_while_revalidate, stale_if_error } = lifetime(step);
        let condition = if given(step, "if_absent") {
            PutCondition::IfAbsent
        } else if let Some(tag) = given::<Option<String>>(step, "if_matches") {
            PutCondition::IfMatches(tag)
        } else {
            match step.get("if_revision") {
                Some(Value::String(name)) => PutCondition::IfRevision(self.revisions[name]),
                Some(number) => PutCondition::IfRevision(number.as_u64().unwrap()),
                None => PutCondition::Always,
            }
        };
        PutOptions {
            media_type: given(step, "media_type"),
            max_age,
            stale_while_revalidate,
            stale_if_error,
            tags: given(step, "tags"),
            condition,
        }
    }

    /// One step. Boxed, since the steps within a refill are steps too.
    fn step<'s>(&'s mut self, step: &'s Value) -> BoxFuture<'s, Value> {
        Box::pin(async move {
            match step["call"].as_str().unwrap() {
                "lock" | "release" | "larger_token" | "peek_lock" => self.lock_step(step).await,
                "put_many" | "get_many" | "delete_many" | "keys" | "clear" => {
                    self.many_step(step).await
                }
                "refill" => self.refill(step).await,
                _ => self.entry_step(step).await,
            }
        })
    }

    async fn entry_step(&mut self, step: &Value) -> Value {
        let key = step.get("key").map(text).unwrap_or_default();
        let cache = self.cache;
        match step["call"].as_str().unwrap() {
            "get" | "look_up" => {
                let options = ReadOptions {
                    only_if_cached: given(step, "only_if_cached"),
                    stale_if_error: given(step, "stale_if_error"),
                    ..ReadOptions::default()
                };
                said(cache.look_up(&key, options).await, |lookup| match lookup {
                    Lookup::NoValue if step["call"] == "look_up" => json!({ "no_value": true }),
                    other => found(other.found()),
                })
            }
            "details" => {
                let options = ReadOptions { details: true, revision: true, ..Default::default() };
                said(cache.look_up(&key, options).await, |lookup| {
                    let Some(hit) = lookup.found() else { return json!({ "miss": true }) };
                    let (details, has_revision) = (hit.details.unwrap(), hit.revision.is_some());
                    assert_eq!(details.entity_tag.len(), 34);
                    let (media_type, tags) = (details.media_type, details.tags);
                    json!({ "media_type": media_type, "tags": tags, "has_revision": has_revision })
                })
            }
            "remember" => {
                let revision = cache.get_revised(&key).await.unwrap().unwrap().revision.unwrap();
                self.revisions.insert(text(&step["name"]), revision);
                json!({ "done": true })
            }
            "put" => {
                let stored = cache.put(&key, text(&step["value"]), self.put_options(step)).await;
                said(stored, |replaced| json!({ "replaced": replaced }))
            }
            "delete" => said(cache.delete(&key).await, |deleted| json!({ "deleted": deleted })),
            "set_lifetime" => {
                let set = cache.set_lifetime(&key, lifetime(step)).await;
                said(set, |exists| json!({ "exists": exists }))
            }
            "invalidate_tag" => {
                let done = cache.invalidate_tag(&text(&step["tag"])).await;
                said(done, |()| json!({ "done": true }))
            }
            "add" => {
                let amount = step["amount"].as_i64().unwrap();
                let added = cache.add(&key, amount, LifetimeOptions::default()).await;
                said(added, |value| json!({ "counter": value }))
            }
            "acquire_rate" => {
                let number = |name: &str| step[name].as_u64().unwrap();
                let period = seconds(step, "period").unwrap();
                let rate = Rate::new(number("rate"), period, number("burst")).unwrap();
                let acquired = cache.acquire_rate(&key, number("amount"), rate).await;
                said(acquired, |outcome| match outcome {
                    RateLimitOutcome::Allowed { .. } => json!({ "acquired": true }),
                    RateLimitOutcome::Later { .. } => json!({ "later": true }),
                })
            }
            other => panic!("an unknown call: {other}"),
        }
    }

    async fn many_step(&mut self, step: &Value) -> Value {
        let cache = self.cache;
        let keys: Vec<String> = given(step, "keys");
        let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
        match step["call"].as_str().unwrap() {
            "put_many" => {
                let values = step["values"].as_array().unwrap().iter().map(|one| PutMany {
                    key: text(&one["key"]),
                    value: text(&one["value"]).into(),
                    options: self.put_options(one),
                });
                let stored = cache.put_many(&values.collect::<Vec<_>>()).await;
                of_batch(stored, |replaced| json!({ "replaced": replaced }))
            }
            "get_many" => of_batch(cache.get_many(&keys).await, found),
            "delete_many" => {
                let deleted = cache.delete_many(&keys).await;
                of_batch(deleted, |deleted| json!({ "deleted": deleted }))
            }
            "keys" => {
                let (mut keys, mut cursor) = (Vec::new(), None);
                loop {
                    // Small pages, so that there are several.
                    let page = cache.list(&text(&step["prefix"]), cursor.as_deref(), 5).await;
                    let page = page.unwrap();
                    keys.extend(page.keys);
                    cursor = page.cursor;
                    if cursor.is_none() {
                        break;
                    }
                }
                keys.sort_unstable();
                json!({ "keys": keys })
            }
            _ => {
                let cleared = match step.get("prefix") {
                    Some(prefix) => cache.clear_prefix(&text(prefix)).await,
                    None => cache.clear().await,
                };
                said(cleared, |entries| json!({ "cleared": entries }))
            }
        }
    }

    async fn lock_step(&mut self, step: &Value) -> Value {
        let held_by = |owner: &dyn Display| json!({ "held_by": owner.to_string() });
        let name = step.get("name").map(text).unwrap_or_default();
        match step["call"].as_str().unwrap() {
            "lock" => {
                let defaults = LockOptions::default();
                let options = LockOptions {
                    owner: given(step, "owner"),
                    lease: seconds(step, "lease").unwrap_or(defaults.lease),
                    wait: seconds(step, "wait").unwrap_or(defaults.wait),
                    ..defaults
                };
                match self.cache.hold_lock(&name, &options).await {
                    Ok(LockOutcome::Acquired(guard)) => {
                        let own: String = given(step, "as");
                        self.tokens.insert(own.clone(), guard.fencing_token());
                        self.locks.insert(own, guard);
                        json!({ "acquired": true })
                    }
                    Ok(LockOutcome::HeldByOther(holder)) => held_by(&holder.owner),
                    Err(error) => refused(&error),
                }
            }
            "release" => match self.locks.remove(&text(&step["lock"])) {
                Some(guard) => said(guard.release().await, |()| json!({ "done": true })),
                // A guard is released once: it cannot be written otherwise.
                None => json!({ "refused": "not-held" }),
            },
            "larger_token" => {
                let token = |name: &str| self.tokens[&text(&step[name])];
                json!({ "larger": token("lock") > token("than") })
            }
            _ => said(self.cache.peek_lock(&name).await, |holder| match holder {
                Some(holder) => held_by(&holder.owner),
                None => json!({ "free": true }),
            }),
        }
    }

    async fn refill(&mut self, step: &Value) -> Value {
        let mut entry =
            self.cache.entry(text(&step["key"])).tags(given::<Vec<String>>(step, "tags"));
        let LifetimeOptions { max_age, stale_while_revalidate, stale_if_error } = lifetime(step);
        if let Some(time) = max_age {
            entry = entry.max_age(time);
        }
        if let Some(time) = stale_while_revalidate {
            entry = entry.stale_while_revalidate(time);
        }
        if let Some(time) = stale_if_error {
            entry = entry.stale_if_error(time);
        }
        if let Some(time) = seconds(step, "negative_max_age") {
            entry = entry.negative_max_age(time);
        }
        if let Some(version) = given::<Option<u32>>(step, "schema") {
            entry = entry.schema(version);
        }
        let read = entry.find_or_refill(async || {
            for during in given::<Vec<Value>>(step, "during") {
                assert_eq!(self.step(&during).await, during["is"], "{during}");
            }
            match (given(step, "fails"), given(step, "no_value")) {
                (true, _) => Err("the refill of a case fails"),
                (_, true) => Ok(Refilled::no_value()),
                _ => Ok(Refilled::value(step["value"].clone())),
            }
        });
        read.await.map_or_else(|_| json!({ "failed": true }), cached)
    }
}

#[rstest]
#[case("wire")]
#[case("http")]
#[tokio::test]
async fn the_client_conforms(#[case] door: &str) {
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/cases", "--max-age", "10m"]).done();
    let patient = Duration::from_secs(30);
    let options = CacheOptions { timeout: patient, bound: patient, ..CacheOptions::default() };
    let cache = match door {
        "wire" => verax.client().cache("ferrydesk", "cases", options).unwrap(),
        _ => verax.client().cache_over_http("ferrydesk", "cases", options).unwrap(),
    };
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../clients/conformance/cases.json");
    let cases: Vec<Value> = serde_json::from_slice(&std::fs::read(path).unwrap()).unwrap();
    let (mut differences, mut steps) = (Vec::new(), 0);
    for case in &cases {
        cache.clear().await.unwrap();
        let mut runner = Runner::new(&cache);
        for step in case["steps"].as_array().unwrap() {
            let result = runner.step(step).await;
            steps += 1;
            if result != step["is"] {
                differences.push(format!("{}: {step}\n   is {result}", case["name"]));
            }
        }
    }
    assert!(differences.is_empty(), "{}", differences.join("\n"));
    assert!(steps > 100, "{steps}");
}
