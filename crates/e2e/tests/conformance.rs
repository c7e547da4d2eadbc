//! Every operation over both transports, with the same options: what comes of it is the same.

#![allow(clippy::unwrap_used)]

use std::fmt::Debug;
use std::time::Duration;

use rstest::rstest;
use verax_api::{BatchOperation, BatchPut, BatchResult, BatchValue};
use verax_client::{
    Cache, CacheOptions, Client, ClientError, ClientOptions, LifetimeOptions, LockGuard,
    LockOptions, LockOutcome, Namespace, PutCondition, PutMany, PutOptions, Rate, RateLimitOutcome,
};
use verax_e2e::Verax;

/// A namespace, over one of the transports.
enum Door {
    Http(Namespace),
    Wire(Box<Cache>),
}

/// What a call came to, in words that both transports share.
fn transcript_of<T>(result: Result<T, ClientError>, words: impl FnOnce(T) -> String) -> String {
    match result {
        Ok(value) => words(value),
        // HTTP tells what cannot be read from what cannot be; the wire, and the library for what it
        // does not send at all, have one word for both.
        Err(ClientError::Refused(problem)) if problem.name() == "bad-request" => "invalid".into(),
        Err(ClientError::Refused(problem)) => problem.name().to_owned(),
        Err(ClientError::Invalid(_)) => "invalid".to_owned(),
        Err(error) => panic!("{error}"),
    }
}

/// The same for a result within a batch.
fn problem_of(problem: &verax_api::Problem) -> String {
    transcript_of::<()>(Err(ClientError::Refused(Box::new(problem.clone()))), |()| String::new())
}

fn replaced(replaced: bool) -> String {
    if replaced { "replaced" } else { "stored" }.to_owned()
}

fn shown(text: &[u8], source: impl Debug) -> String {
    format!("{} ({source:?})", String::from_utf8_lossy(text))
}

impl Door {
    async fn get(&self, key: &str) -> String {
        match self {
            Self::Http(names) => transcript_of(names.get(key).await, |found| {
                found.map_or("miss".into(), |found| shown(&found.value, found.source))
            }),
            Self::Wire(cache) => transcript_of(cache.get(key).await, |hit| {
                hit.map_or("miss".into(), |hit| shown(&hit.value, hit.source))
            }),
        }
    }

    /// The revision of the entry that is in the cache.
    async fn revision(&self, key: &str) -> Option<u64> {
        match self {
            Self::Http(names) => names.get(key).await.unwrap()?.revision,
            Self::Wire(cache) => cache.get_revised(key).await.unwrap()?.revision,
        }
    }

    async fn put(&self, key: &str, value: &str, options: &PutOptions) -> String {
        let (value, options) = (value.to_owned(), options.clone());
        match self {
            Self::Http(names) => transcript_of(names.put(key, value, options).await, replaced),
            Self::Wire(cache) => transcript_of(cache.put(key, value, options).await, replaced),
        }
    }

    /// Over HTTP it is not told whether there was one, so it is left out.
    async fn delete(&self, key: &str) -> String {
        match self {
            Self::Http(names) => transcript_of(names.delete(key).await, |()| "done".into()),
            Self::Wire(cache) => transcript_of(cache.delete(key).await, |_| "done".into()),
        }
    }

    async fn set_lifetime(&self, key: &str, lifetime: LifetimeOptions) -> String {
        let there = |there: bool| if there { "set" } else { "miss" }.to_owned();
        match self {
            Self::Http(names) => transcript_of(names.set_lifetime(key, lifetime).await, there),
            Self::Wire(cache) => transcript_of(cache.set_lifetime(key, lifetime).await, there),
        }
    }

    async fn invalidate_tag(&self, tag: &str) -> String {
        match self {
            Self::Http(names) => transcript_of(names.invalidate_tag(tag).await, |()| "done".into()),
            Self::Wire(cache) => transcript_of(cache.invalidate_tag(tag).await, |()| "done".into()),
        }
    }

    async fn add(&self, key: &str, amount: i64) -> String {
        let lifetime = LifetimeOptions::default();
        match self {
            Self::Http(names) => transcript_of(names.add(key, amount, lifetime).await, |counter| {
                counter.value.to_string()
            }),
            Self::Wire(cache) => {
                transcript_of(cache.add(key, amount, lifetime).await, |n| n.to_string())
            }
        }
    }

    async fn acquire_rate(&self, key: &str, amount: u64, rate: Rate) -> String {
        let taken = |taken| match taken {
            RateLimitOutcome::Allowed { left } => format!("{left} left"),
            RateLimitOutcome::Later { retry_after } => format!("later, {}", !retry_after.is_zero()),
        };
        match self {
            Self::Http(names) => transcript_of(names.acquire_rate(key, amount, rate).await, taken),
            Self::Wire(cache) => transcript_of(cache.acquire_rate(key, amount, rate).await, taken),
        }
    }

    async fn keys(&self, prefix: &str, most: u16) -> String {
        let mut pages = Vec::new();
        let mut cursor: Option<String> = None;
        loop {
            let page = match self {
                Self::Http(names) => {
                    let page = names.list(prefix, cursor.as_deref(), most.into()).await;
                    page.map(|page| (page.items.into_iter().map(|e| e.key).collect(), page.cursor))
                }
                Self::Wire(cache) => {
                    let page = cache.list(prefix, cursor.as_deref(), most).await;
                    page.map(|page| (page.keys, page.cursor))
                }
            };
            let mut next = None;
            let refused = transcript_of(page, |(keys, cursor): (Vec<String>, _)| {
                pages.push(keys);
                next = cursor;
                String::new()
            });
            if !refused.is_empty() {
                return refused;
            }
            cursor = next;
            if cursor.is_none() {
                break;
            }
        }
        let most = usize::from(most);
        assert!(pages.iter().all(|page| page.len() <= most && page.is_sorted()), "{pages:?}");
        let mut all = pages.concat();
        all.sort_unstable();
        all.join(" ")
    }

    /// Puts, then gets, then deletes several keys in batches.
    async fn batches(&self, values: &[(&str, &str, PutOptions)]) -> Vec<String> {
        let mut said = Vec::new();
        match self {
            Self::Http(names) => {
                let puts = values.iter().map(|(key, value, options)| {
                    BatchOperation::Put(BatchPut {
                        key: (*key).to_owned(),
                        value: BatchValue { text: Some((*value).to_owned()), base64: None },
                        media_type: options.media_type.clone(),
                        cache_control: options.max_age.map(|t| format!("max-age={}", t.as_secs())),
                        tags: options.tags.clone(),
                    })
                });
                let own = || values.iter().map(|(key, ..)| (*key).to_owned());
                let gets = own().map(|key| BatchOperation::Get { key });
                let deletes = own().map(|key| BatchOperation::Delete { key });
                for operations in [puts.collect::<Vec<_>>(), gets.collect(), deletes.collect()] {
                    match names.batch(operations).await {
                        Ok(results) => {
                            said.extend(results.into_iter().map(|result| match result {
                                BatchResult::Value(found) => found.value.text.unwrap(),
                                BatchResult::Miss {} => "miss".into(),
                                BatchResult::Stored { replaced: before, .. } => replaced(before),
                                BatchResult::Deleted { was_there } => {
                                    format!("deleted {was_there}")
                                }
                                BatchResult::Failed(problem) => problem_of(&problem),
                            }))
                        }
                        Err(error) => {
                            said.push(transcript_of::<()>(Err(error), |()| String::new()))
                        }
                    }
                }
            }
            Self::Wire(cache) => said = wire_batches(cache, values).await,
        }
        said
    }

    /// Acquires a lock; keeps the lease in `holds` if granted.
    async fn lock(&self, name: &str, options: &LockOptions) -> (String, Option<LockGuard>) {
        let by_other = |owner: &str| format!("held by {owner}");
        match self {
            Self::Http(names) => match names.hold_lock(name, options).await {
                Ok(LockOutcome::Acquired(guard)) => ("held".into(), Some(guard)),
                Ok(LockOutcome::HeldByOther(holder)) => (by_other(&holder.owner), None),
                Err(error) => (transcript_of::<()>(Err(error), |()| String::new()), None),
            },
            Self::Wire(cache) => match cache.hold_lock(name, options).await {
                Ok(LockOutcome::Acquired(guard)) => ("held".into(), Some(guard)),
                Ok(LockOutcome::HeldByOther(holder)) => (by_other(&holder.owner), None),
                Err(error) => (transcript_of::<()>(Err(error), |()| String::new()), None),
            },
        }
    }

    /// Who holds a lock.
    async fn peek_lock(&self, name: &str) -> String {
        match self {
            Self::Http(names) => transcript_of(names.lock(name).await, |lock| {
                lock.holder.map_or("free".into(), |holder| holder.owner)
            }),
            Self::Wire(cache) => transcript_of(cache.peek_lock(name).await, |holder| {
                holder.map_or("free".into(), |holder| holder.owner)
            }),
        }
    }
}

/// All that is said while one script runs.
#[derive(Default)]
struct Transcript(Vec<String>);

impl Transcript {
    fn say(&mut self, what: &str, said: impl Into<String>) {
        self.0.push(format!("{what}: {}", said.into()));
    }
}

const SECOND: Duration = Duration::from_secs(1);

fn with(change: impl FnOnce(&mut PutOptions)) -> PutOptions {
    let mut options = PutOptions::default();
    change(&mut options);
    options
}

/// Everything about entries.
async fn entries(door: &Door, said: &mut Transcript) {
    let plain = PutOptions::default();
    said.say("a miss", door.get("k").await);
    said.say("a first value", door.put("k", "one", &plain).await);
    said.say("a hit", door.get("k").await);
    said.say("a second value", door.put("k", "two", &plain).await);
    let absent = with(|o| o.condition = PutCondition::IfAbsent);
    said.say("if absent, there", door.put("k", "three", &absent).await);
    said.say("if absent, not there", door.put("new", "three", &absent).await);
    let foreign = with(|o| o.condition = PutCondition::IfMatches("\"0123456789abcdef\"".into()));
    said.say("if it matches another", door.put("k", "three", &foreign).await);
    said.say("if it matches, not there", door.put("none", "three", &foreign).await);
    said.say("it is as it was", door.get("k").await);
    said.say("an empty value", door.put("empty", "", &plain).await);
    said.say("an empty hit", door.get("empty").await);
    let (longest, longer) = ("é".repeat(512), "é".repeat(512) + "x");
    said.say("the longest key", door.put(&longest, "v", &plain).await);
    said.say("a longer key", door.put(&longer, "v", &plain).await);
    said.say("no key", door.put("", "v", &plain).await);
    said.say("a look-up of a longer key", door.get(&longer).await);
    said.say("the largest value", door.put("large", &"x".repeat(1 << 20), &plain).await);
    said.say("a larger value", door.put("larger", &"x".repeat((1 << 20) + 1), &plain).await);
    said.say(
        "a media type",
        door.put("m", "v", &with(|o| o.media_type = Some("text/x".into()))).await,
    );
    said.say(
        "no media type",
        door.put("m2", "v", &with(|o| o.media_type = Some("text".into()))).await,
    );
    let long_type = format!("text/{}", "x".repeat(251));
    said.say(
        "a long media type",
        door.put("m3", "v", &with(|o| o.media_type = Some(long_type))).await,
    );
    said.say("a delete", door.delete("k").await);
    said.say("a delete of what is not there", door.delete("k").await);
    said.say("a miss again", door.get("k").await);
}

/// Lifetimes and tags.
async fn lifetimes(door: &Door, said: &mut Transcript) {
    let short = with(|o| {
        o.max_age = Some(SECOND);
        o.stale_while_revalidate = Some(600 * SECOND);
    });
    said.say("a short life", door.put("k", "v", &short).await);
    let ended = with(|o| o.max_age = Some(Duration::ZERO));
    said.say("no life", door.put("ended", "v", &ended).await);
    said.say("what has no life", door.get("ended").await);
    let only_stale = with(|o| {
        o.max_age = Some(Duration::ZERO);
        o.stale_while_revalidate = Some(600 * SECOND);
    });
    said.say("stale from the start", door.put("stale", "v", &only_stale).await);
    said.say("a stale hit", door.get("stale").await);
    // Too long a life is ten years over HTTP (RFC 9111), and refused over the wire.
    let hour = LifetimeOptions { max_age: Some(3_600 * SECOND), ..Default::default() };
    said.say("another life", door.set_lifetime("stale", hour).await);
    said.say("a hit of that", door.get("stale").await);
    said.say("another life of nothing", door.set_lifetime("nothing", hour).await);
    let now = LifetimeOptions { max_age: Some(Duration::ZERO), ..Default::default() };
    said.say("no life any more", door.set_lifetime("stale", now).await);
    said.say("that is gone", door.get("stale").await);
    let tagged = with(|o| o.tags = vec!["line 4".into(), "harbor".into()]);
    said.say("tags", door.put("t", "v", &tagged).await);
    said.say("another tag ends", door.invalidate_tag("line 5").await);
    said.say("it is there", door.get("t").await);
    said.say("its tag ends", door.invalidate_tag("harbor").await);
    said.say("it is not", door.get("t").await);
    for (what, tags) in [
        ("32 tags", (0..32).map(|n| n.to_string()).collect::<Vec<_>>()),
        ("33 tags", (0..33).map(|n| n.to_string()).collect()),
        ("the longest tag", vec!["x".repeat(128)]),
        ("a longer tag", vec!["x".repeat(129)]),
        ("an empty tag", vec![String::new()]),
        ("a tag with other letters", vec!["é".into()]),
    ] {
        said.say(what, door.put("t", "v", &with(|o| o.tags = tags)).await);
    }
    said.say("a tag that cannot be", door.invalidate_tag("é").await);
}

/// Read, compute, store: only if nobody has changed the entry since it was read.
async fn revisions(door: &Door, said: &mut Transcript) {
    let plain = PutOptions::default();
    let expecting = |revision| with(|o| o.condition = PutCondition::IfRevision(revision));
    said.say("nothing is there", door.put("r", "v", &expecting(1)).await);
    door.put("r", "one", &plain).await;
    let first = door.revision("r").await.unwrap();
    said.say("the one that was read", door.put("r", "two", &expecting(first)).await);
    said.say("it is old now", door.put("r", "three", &expecting(first)).await);
    said.say("and changed nothing", door.get("r").await);
    let second = door.revision("r").await.unwrap();
    said.say("it is larger", (second > first).to_string());
    // An entity tag says that nothing has changed; a revision says that something has.
    door.put("r", "one", &plain).await;
    door.put("r", "two", &plain).await;
    said.say("changed and changed back", door.put("r", "three", &expecting(second)).await);
    let third = door.revision("r").await.unwrap();
    door.delete("r").await;
    door.put("r", "two", &plain).await;
    said.say("away and back", door.put("r", "three", &expecting(third)).await);
    let fourth = door.revision("r").await.unwrap();
    let lifetime = LifetimeOptions { max_age: Some(60 * SECOND), ..Default::default() };
    said.say("another lifetime", door.set_lifetime("r", lifetime).await);
    said.say("leaves it", door.put("r", "three", &expecting(fourth)).await);
    said.say("a counter", door.add("n", 1).await);
    let counted = door.revision("n").await.unwrap();
    said.say("is added to", door.add("n", 1).await);
    said.say("so it has another", door.put("n", "0", &expecting(counted)).await);
}

/// Counters and rate limits.
async fn numbers(door: &Door, said: &mut Transcript) {
    said.say("a counter", door.add("n", 5).await);
    said.say("less", door.add("n", -7).await);
    said.say("its value", door.get("n").await);
    said.say("too much", door.add("n", i64::MIN).await);
    said.say("a text", door.put("text", "seven", &PutOptions::default()).await);
    said.say("added to a text", door.add("text", 1).await);
    let rate = Rate::new(1, 3_600 * SECOND, 2).unwrap();
    said.say("one", door.acquire_rate("quay", 1, rate).await);
    said.say("a look", door.acquire_rate("quay", 0, rate).await);
    said.say("more than is left", door.acquire_rate("quay", 2, rate).await);
    said.say("the rest", door.acquire_rate("quay", 1, rate).await);
    said.say("one more", door.acquire_rate("quay", 1, rate).await);
    said.say("more than ever", door.acquire_rate("quay", 3, rate).await);
    said.say("from a counter", door.acquire_rate("n", 1, rate).await);
    said.say("added to a rate limit", door.add("quay", 1).await);
}

/// Listings and batches.
async fn many(door: &Door, said: &mut Transcript) {
    for n in 0..30 {
        door.put(&format!("board/{n}"), "v", &PutOptions::default()).await;
    }
    door.put("fare/1", "v", &PutOptions::default()).await;
    said.say("all boards", door.keys("board/", 7).await);
    said.say("all", door.keys("", 1_000).await);
    said.say("none", door.keys("zone/", 10).await);
    said.say("an empty page", door.keys("", 0).await);
    said.say("too large a page", door.keys("", 1_001).await);
    let values = [
        ("fare/1", "two", PutOptions::default()),
        ("fare/2", "one", with(|o| o.tags = vec!["fares".into()])),
        ("fare/3", "one", with(|o| o.media_type = Some("text".into()))),
        ("fare/4", "one", with(|o| o.tags = vec!["é".into()])),
        ("fare/5", "one", with(|o| o.max_age = Some(Duration::ZERO))),
    ];
    for result in door.batches(&values).await {
        said.say("of a batch", result);
    }
    let many: Vec<(&str, &str, PutOptions)> =
        (0..1_001).map(|_| ("k", "v", PutOptions::default())).collect();
    for result in door.batches(&many).await.into_iter().take(1) {
        said.say("the first of more than a batch", result);
    }
}

/// Puts, then gets, then deletes several keys in batches over the wire.
async fn wire_batches(cache: &Cache, values: &[(&str, &str, PutOptions)]) -> Vec<String> {
    let mut said = Vec::new();
    let keys: Vec<&str> = values.iter().map(|(key, ..)| *key).collect();
    let puts: Vec<PutMany> = values
        .iter()
        .map(|(key, value, options)| PutMany {
            key: (*key).to_owned(),
            value: (*value).to_owned().into(),
            options: options.clone(),
        })
        .collect();
    match cache.put_many(&puts).await {
        Ok(results) => said.extend(results.into_iter().map(|r| transcript_of(r, replaced))),
        Err(error) => said.push(transcript_of::<()>(Err(error), |()| String::new())),
    }
    match cache.get_many(&keys).await {
        Ok(results) => said.extend(results.into_iter().map(|result| {
            transcript_of(result, |hit| {
                hit.map_or("miss".into(), |hit| String::from_utf8_lossy(&hit.value).into())
            })
        })),
        Err(error) => said.push(transcript_of::<()>(Err(error), |()| String::new())),
    }
    match cache.delete_many(&keys).await {
        Ok(results) => said.extend(
            results.into_iter().map(|r| transcript_of(r, |there| format!("deleted {there}"))),
        ),
        Err(error) => said.push(transcript_of::<()>(Err(error), |()| String::new())),
    }
    said
}

/// Locks.
async fn locks(door: &Door, said: &mut Transcript) {
    let of = |owner: &str| LockOptions { owner: Some(owner.into()), ..Default::default() };
    said.say("a free lock", door.peek_lock("berth").await);
    let (first, held) = door.lock("berth", &of("pilot")).await;
    said.say("a first claim", first);
    said.say("a second claim", door.lock("berth", &of("other")).await.0);
    said.say("who has it", door.peek_lock("berth").await);
    let before = held.unwrap();
    let token = before.fencing_token();
    said.say("a release", transcript_of(before.release().await, |()| "done".into()));
    let (again, held) = door.lock("berth", &of("other")).await;
    said.say("a claim after it", again);
    let held = held.unwrap();
    said.say("a larger token", (held.fencing_token() > token).to_string());
    let waits = LockOptions { wait: SECOND, ..of("late") };
    said.say("a wait in vain", door.lock("berth", &waits).await.0);
    let short = LockOptions { lease: Duration::from_millis(99), ..of("x") };
    said.say("too short a lease", door.lock("quay", &short).await.0);
    let long = LockOptions { lease: 86_401 * SECOND, ..of("x") };
    said.say("too long a lease", door.lock("quay", &long).await.0);
    // Too long a wait is shortened over HTTP, where it is a preference (RFC 7240).
    said.say("too long a note", door.lock("quay", &of(&"x".repeat(201))).await.0);
    said.say("no name", door.lock("", &of("x")).await.0);
    drop(held);
}

async fn script(part: &str, door: &Door) -> Vec<String> {
    let mut said = Transcript::default();
    match part {
        "entries" => entries(door, &mut said).await,
        "revisions" => revisions(door, &mut said).await,
        "lifetimes" => lifetimes(door, &mut said).await,
        "numbers" => numbers(door, &mut said).await,
        "many" => many(door, &mut said).await,
        _ => locks(door, &mut said).await,
    }
    said.0
}

#[rstest]
#[case("entries")]
#[case("revisions")]
#[case("lifetimes")]
#[case("numbers")]
#[case("many")]
#[case("locks")]
#[tokio::test]
async fn both_transports_conform(#[case] part: &str) {
    let verax = Verax::serve(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    for namespace in ["http", "wire"] {
        verax.run(&["namespace", "create", &format!("ferrydesk/{namespace}")]).done();
    }
    let client = Client::new(ClientOptions {
        url: verax.url().to_owned(),
        wire: verax.wire().to_owned(),
        token: Some(verax.token().into()),
        ..Default::default()
    })
    .unwrap();
    let patient = CacheOptions { timeout: Duration::from_secs(30), ..Default::default() };
    let wire = client.cache("ferrydesk", "wire", patient).unwrap();
    let http = client.namespace("ferrydesk", "http").unwrap();
    let over_http = script(part, &Door::Http(http)).await;
    let over_wire = script(part, &Door::Wire(Box::new(wire))).await;
    assert!(over_http.len() > 10, "{over_http:?}");
    let differ: Vec<_> = over_http.iter().zip(&over_wire).filter(|(a, b)| a != b).collect();
    assert!(differ.is_empty(), "over HTTP and over the wire: {differ:#?}");
    assert_eq!(over_http.len(), over_wire.len());
}
