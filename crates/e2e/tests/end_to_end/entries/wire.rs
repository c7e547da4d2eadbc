//! The wire protocol and the client's cache handle, against the real service.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use nix::sys::signal::Signal;
use rstest::rstest;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use verax_api::FailureKind;
use verax_client::{
    Cache, CacheEvent, CacheEventKind, CacheOptions, Client, ClientError, ClientOptions,
    LifetimeOptions, Namespace, NearCopies, PutCondition, PutMany, PutOptions, Rate,
    RateLimitOutcome, Source,
};
use verax_e2e::{HeldOrigin, Verax, until};
use verax_wire::{Frame, GetFlags, Hello, Reply, Request, VERSION, next_frame};

fn started() -> Verax {
    prepared(Verax::ephemeral(&[]))
}

fn prepared(verax: Verax) -> Verax {
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "10m"]).done();
    verax
}

fn boards(verax: &Verax, options: CacheOptions) -> Cache {
    verax.client().cache("ferrydesk", "boards", options).unwrap()
}

fn near() -> CacheOptions {
    let near_copies = Some(NearCopies { max_bytes: 1 << 20, max_age: Duration::from_secs(60) });
    CacheOptions { near_copies, ..CacheOptions::default() }
}

async fn text(cache: &Cache, key: &str) -> Option<String> {
    let hit = cache.get(key).await.unwrap()?;
    Some(String::from_utf8(hit.value.to_vec()).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_operation_works_on_entries_stored_over_http() {
    let verax = started();
    let cache = boards(&verax, CacheOptions::default());
    let over_http = verax.client().namespace("ferrydesk", "boards").unwrap();

    assert!(cache.get("k").await.unwrap().is_none());
    let options = PutOptions { tags: vec!["t".into()], ..PutOptions::default() };
    assert!(!cache.put("k", "one", options.clone()).await.unwrap());
    let seen = over_http.get("k").await.unwrap().unwrap();
    assert_eq!((&seen.value[..], seen.source), (&b"one"[..], Source::Hit));
    assert!(cache.put("k", "two", options).await.unwrap(), "it replaced one");
    over_http.put("h", "by http", PutOptions::default()).await.unwrap();
    assert_eq!(text(&cache, "h").await.unwrap(), "by http");

    conditions_hold(&cache, &over_http).await;
    lifetimes_tags_and_numbers_work(&cache).await;
    batches_and_listings_work(&cache).await;

    // A large value goes through whole.
    let large: Vec<u8> = (0..1_000_000u32).map(|n| n as u8).collect();
    cache.put("large", &large, PutOptions::default()).await.unwrap();
    assert_eq!(cache.get("large").await.unwrap().unwrap().value, large);
    let refused =
        cache.put("larger", vec![0; (1 << 20) + 1], PutOptions::default()).await.unwrap_err();
    assert_eq!(refused.problem(), Some("value-too-large"));
}

/// A put only where there is no entry, and only over the entry that was read.
async fn conditions_hold(cache: &Cache, over_http: &Namespace) {
    let absent = PutOptions { condition: PutCondition::IfAbsent, ..PutOptions::default() };
    let refused = cache.put("k", "three", absent.clone()).await.unwrap_err();
    assert_eq!(refused.problem(), Some("condition-failed"));
    let tag = over_http.get("k").await.unwrap().unwrap().entity_tag.unwrap();
    let same = PutOptions { condition: PutCondition::IfMatches(tag), ..PutOptions::default() };
    assert!(cache.put("k", "three", same.clone()).await.unwrap());
    let refused = cache.put("k", "four", same).await.unwrap_err();
    assert_eq!(refused.problem(), Some("condition-failed"));
}

async fn lifetimes_tags_and_numbers_work(cache: &Cache) {
    let short =
        LifetimeOptions { max_age: Some(Duration::from_secs(5)), ..LifetimeOptions::default() };
    assert!(cache.set_lifetime("k", short).await.unwrap());
    assert!(!cache.set_lifetime("nothing", short).await.unwrap());
    assert!(cache.get("k").await.unwrap().unwrap().time_left.unwrap() <= Duration::from_secs(5));
    assert!(cache.delete("k").await.unwrap());
    assert!(!cache.delete("k").await.unwrap());
    let tagged = PutOptions { tags: vec!["harbor-7".into()], ..PutOptions::default() };
    cache.put("a", "v", tagged).await.unwrap();
    cache.invalidate_tag("harbor-7").await.unwrap();
    assert!(cache.get("a").await.unwrap().is_none());

    // Counters and rate limits.
    assert_eq!(cache.add("n", 5, short).await.unwrap(), 5);
    assert_eq!(cache.add("n", -7, short).await.unwrap(), -2);
    let rate = Rate::new(1, Duration::from_secs(3_600), 2).unwrap();
    assert_eq!(
        cache.acquire_rate("quay", 2, rate).await.unwrap(),
        RateLimitOutcome::Allowed { left: 0 }
    );
    let later = cache.acquire_rate("quay", 1, rate).await.unwrap();
    assert!(
        matches!(later, RateLimitOutcome::Later { retry_after } if retry_after > Duration::from_secs(3_500))
    );
    assert_eq!(cache.acquire_rate("quay", 3, rate).await.unwrap_err().problem(), Some("invalid"));
    // Neither makes the other's entry its own.
    assert_eq!(cache.add("quay", 1, short).await.unwrap_err().problem(), Some("wrong-kind"));
    assert!(matches!(
        cache.acquire_rate("quay", 1, rate).await.unwrap(),
        RateLimitOutcome::Later { .. }
    ));
    assert_eq!(cache.acquire_rate("n", 1, rate).await.unwrap_err().problem(), Some("wrong-kind"));
}

async fn batches_and_listings_work(cache: &Cache) {
    let values: Vec<PutMany> = (0..250)
        .map(|n| PutMany {
            key: format!("b/{n}"),
            value: "v".into(),
            options: PutOptions::default(),
        })
        .collect();
    assert!(cache.put_many(&values).await.unwrap().into_iter().all(|stored| !stored.unwrap()));
    let found = cache.get_many(&["b/1", "missing", "b/2"]).await.unwrap();
    let there: Vec<bool> = found.into_iter().map(|f| f.unwrap().is_some()).collect();
    assert_eq!(there, [true, false, true]);
    let (mut keys, mut cursor) = (Vec::new(), None);
    loop {
        let page = cache.list("b/", cursor.as_deref(), 100).await.unwrap();
        keys.extend(page.keys);
        cursor = page.cursor;
        if cursor.is_none() {
            break;
        }
    }
    keys.sort_unstable();
    keys.dedup();
    assert_eq!(keys.len(), 250);
    let deleted = cache.delete_many(&["b/1", "b/1x"]).await.unwrap();
    assert_eq!(deleted.into_iter().map(Result::unwrap).collect::<Vec<_>>(), [true, false]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_grants_its_scopes_only_and_is_revoked_immediately() {
    let verax = started();
    verax.run(&["tenant", "create", "tideline"]).done();
    verax.run(&["namespace", "create", "tideline/tables"]).done();
    let secret = verax.run(&["token", "create", "--scope", "read:ferrydesk"]).done();
    let client = verax.client_with(secret.trim());
    let cache = client.cache("ferrydesk", "boards", near()).unwrap();
    assert!(cache.get("k").await.unwrap().is_none());
    let refused = cache.put("k", "v", PutOptions::default()).await.unwrap_err();
    assert_eq!(refused.problem(), Some("missing-scope"));
    // What exists and what does not are refused alike.
    for (tenant, name) in [("tideline", "tables"), ("tideline", "nothing"), ("nobody", "x")] {
        let other = client.cache(tenant, name, CacheOptions::default()).unwrap();
        let refused = other.get("k").await.unwrap_err();
        assert_eq!(refused.problem(), Some("missing-scope"), "{tenant}/{name}");
    }
    let tokens = verax.run(&["token", "list", "--json"]).json();
    let id = tokens.as_array().unwrap().last().unwrap()["id"].to_string();
    verax.run(&["token", "revoke", &id]).done();
    let ended = cache.get("k").await.unwrap_err();
    assert!(
        ended.problem() == Some("not-signed-in")
            || matches!(ended, ClientError::Unreachable { .. }),
        "{ended}"
    );
    until("the token is refused by name", async || {
        cache.get("k").await.is_err_and(|e| e.problem() == Some("not-signed-in"))
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slow_origin_does_not_delay_later_requests() {
    let origin = HeldOrigin::start("slow").await;
    let verax = Verax::ephemeral(&[]);
    verax.run(&["tenant", "create", "ferrydesk"]).done();
    verax.run(&["origin", "create", "ferrydesk/desk", "--at", &origin.at()]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--origin", "desk"]).done();
    let one = CacheOptions {
        connections: 1,
        timeout: Duration::from_secs(30),
        ..CacheOptions::default()
    };
    let cache = boards(&verax, one);
    cache.put("warm", "v", PutOptions::default()).await.unwrap();
    let waiting = tokio::spawn({
        let cache = cache.clone();
        async move { cache.get("cold").await }
    });
    until("the origin is asked", async || origin.calls() == 1).await;
    assert_eq!(text(&cache, "warm").await.unwrap(), "v", "on the same connection");
    origin.let_go(1);
    let cold = waiting.await.unwrap().unwrap().unwrap();
    assert_eq!((&cold.value[..], cold.source), (&b"slow"[..], Source::Origin));
}

#[tokio::test(flavor = "multi_thread")]
async fn many_large_replies_arrive_on_one_connection() {
    let verax = started();
    let cache = boards(&verax, CacheOptions::default());
    cache.put("large", vec![7; 900_000], PutOptions::default()).await.unwrap();
    let mut stream = hello(&verax, &verax.token(), VERSION, VERSION).await;
    let mut bytes = Vec::new();
    Request::Open { tenant: "ferrydesk", namespace: "boards" }.encode(Frame::default(), &mut bytes);
    for id in 1..=12 {
        let get = Request::Get { key: "large", flags: GetFlags::default() };
        get.encode(Frame { namespace: 1, id }, &mut bytes);
    }
    // In one write, so that nothing more arrives that would wake the connection.
    stream.write_all(&bytes).await.unwrap();
    let mut received = Vec::new();
    for _ in 0..2 {
        next(&mut stream, &mut received).await.unwrap();
    }
    for id in 1..=12 {
        let reply = tokio::time::timeout(Duration::from_secs(60), next(&mut stream, &mut received));
        assert_eq!(reply.await.expect("it does not stall").unwrap().0, id);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_recreated_namespace_is_a_different_one() {
    let verax = started();
    let cache = boards(&verax, near());
    cache.put("k", "old", PutOptions::default()).await.unwrap();
    until("it is near", async || cache.get("k").await.unwrap().is_some_and(|hit| hit.near)).await;
    verax.run(&["namespace", "delete", "ferrydesk/boards", "--yes"]).done();
    verax.run(&["namespace", "create", "ferrydesk/boards", "--max-age", "10m"]).done();
    until("the old value is gone", async || matches!(cache.get("k").await, Ok(None))).await;
    let other = boards(&verax, CacheOptions::default());
    other.put("k", "one", PutOptions::default()).await.unwrap();
    until("it is near again", async || {
        cache.get("k").await.is_ok_and(|h| h.is_some_and(|h| h.near))
    })
    .await;
    other.put("k", "two", PutOptions::default()).await.unwrap();
    until("a change is told", async || text(&cache, "k").await.as_deref() == Some("two")).await;
}

/// Says hello by hand.
async fn hello(verax: &Verax, token: &str, lowest: u16, highest: u16) -> TcpStream {
    let mut stream = TcpStream::connect(verax.wire()).await.unwrap();
    let mut bytes = Vec::new();
    let hello = Hello { lowest, highest, token, client: "test" };
    Request::Hello(hello).encode(Frame::default(), &mut bytes);
    stream.write_all(&bytes).await.unwrap();
    stream
}

/// The next reply, in words; `None` when the connection was closed.
async fn next(stream: &mut TcpStream, received: &mut Vec<u8>) -> Option<(u32, String)> {
    loop {
        if let Some((raw, taken)) = next_frame(received, 1 << 20).unwrap() {
            let said = (raw.head.id, format!("{:?}", Reply::decode(raw.head, raw.body).unwrap()));
            received.drain(..taken);
            return Some(said);
        }
        let mut more = [0; 1_024];
        match stream.read(&mut more).await {
            Ok(0) | Err(_) => return None,
            Ok(read) => received.extend_from_slice(&more[..read]),
        }
    }
}

#[rstest]
#[case::nonsense(b"GET / HTTP/1.1\r\nhost: verax\r\n\r\n", "a frame of")]
#[case::no_hello(&[0, 0, 0, 0, 3, 0, 0, 0, 1, 0, 0, 0], "unknown kind of frame")]
#[case::too_long(&[0xff, 0xff, 0xff, 0xff, 1, 0, 0, 0, 0, 0, 0, 0], "more than the limit")]
#[case::wrong_mark(&[8, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, b'N', b'O', b'P', b'E', 1, 0, 1, 0], "not the Verax wire protocol")]
#[tokio::test(flavor = "multi_thread")]
async fn connections_that_speak_another_protocol_are_told_and_closed(
    #[case] bytes: &[u8],
    #[case] says: &str,
) {
    let verax = Verax::ephemeral(&[]);
    let mut stream = TcpStream::connect(verax.wire()).await.unwrap();
    stream.write_all(bytes).await.unwrap();
    let mut received = Vec::new();
    let (_, said) = next(&mut stream, &mut received).await.unwrap();
    assert!(said.contains(says), "{said}");
    assert_eq!(next(&mut stream, &mut received).await, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invalid_hello_is_refused_with_its_reason() {
    let verax = started();
    let token = verax.token();
    for (token, lowest, highest, code) in [
        ("nonsense", VERSION, VERSION, FailureKind::NotSignedIn),
        (&token, VERSION + 1, VERSION + 5, FailureKind::UnsupportedVersion),
    ] {
        let mut stream = hello(&verax, token, lowest, highest).await;
        let mut received = Vec::new();
        let (_, said) = next(&mut stream, &mut received).await.unwrap();
        assert!(said.contains(&format!("code: {}", code.code())), "{said}");
        assert_eq!(next(&mut stream, &mut received).await, None);
    }
    // And a good one speaks on, whatever its requests ask for.
    let mut stream = hello(&verax, &token, 0, 9).await;
    let mut received = Vec::new();
    assert!(next(&mut stream, &mut received).await.unwrap().1.starts_with("Welcome"));
    let mut bytes = Vec::new();
    let get = Request::Get { key: "k", flags: GetFlags::default() };
    get.encode(Frame { namespace: 9, id: 5 }, &mut bytes);
    Request::Ping.encode(Frame { namespace: 0, id: 6 }, &mut bytes);
    // In pieces, as a network may deliver them.
    for byte in bytes {
        stream.write_all(&[byte]).await.unwrap();
    }
    let (id, said) = next(&mut stream, &mut received).await.unwrap();
    assert!(id == 5 && said.contains("number 9"), "{said}");
    assert_eq!(next(&mut stream, &mut received).await.unwrap(), (6, "Pong".into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn near_copies_are_dropped_when_their_entries_change() {
    let verax = started();
    let (cache, other) = (boards(&verax, near()), boards(&verax, CacheOptions::default()));
    let tagged = PutOptions { tags: vec!["t".into()], ..PutOptions::default() };
    other.put("k", "one", tagged.clone()).await.unwrap();
    other.put("l", "one", PutOptions::default()).await.unwrap();
    let ways = ["put", "tag", "clear", "delete", "lifetime"];
    for (what, version) in ways.into_iter().zip(["two", "three", "four", "five", "six"]) {
        until("it is near", async || cache.get("k").await.unwrap().is_some_and(|hit| hit.near))
            .await;
        match what {
            "put" => drop(other.put("k", version, tagged.clone()).await.unwrap()),
            "tag" => other.invalidate_tag("t").await.unwrap(),
            "delete" => drop(other.delete("k").await.unwrap()),
            "lifetime" => {
                let zero = Some(Duration::ZERO);
                let ended = LifetimeOptions {
                    max_age: zero,
                    stale_while_revalidate: zero,
                    stale_if_error: zero,
                };
                assert!(other.set_lifetime("k", ended).await.unwrap());
            }
            _ => drop(verax.run(&["clear", "ferrydesk/boards", "--yes"]).done()),
        }
        if what != "put" {
            until("the near copy is gone", async || {
                cache.get("k").await.unwrap().is_none_or(|hit| !hit.near)
            })
            .await;
            assert_eq!(text(&cache, "k").await, None, "{what}");
            other.put("k", version, tagged.clone()).await.unwrap();
        }
        until("the new value is seen", async || {
            text(&cache, "k").await.as_deref() == Some(version)
        })
        .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn near_copies_do_not_outlive_the_connection() {
    let verax = started();
    let cache = boards(&verax, near());
    cache.put("k", "v", PutOptions::default()).await.unwrap();
    until("it is near", async || cache.get("k").await.unwrap().is_some_and(|hit| hit.near)).await;
    // Stopped, so that the connection stands and nothing is ever told on it.
    verax.send(Signal::SIGSTOP);
    let started = Instant::now();
    until("the near copy is gone", async || !matches!(cache.get("k").await, Ok(Some(_)))).await;
    let took = started.elapsed();
    verax.send(Signal::SIGCONT);
    // Two seconds by the documents; the rest is for a machine that is busy.
    assert!(took < Duration::from_secs(10), "{took:?}");
    until("it is back", async || matches!(cache.get("k").await, Ok(Some(_)))).await;
}

#[derive(Debug, serde::Serialize, serde::Deserialize, PartialEq)]
struct Board {
    sailings: Vec<String>,
}

#[tokio::test(flavor = "multi_thread")]
async fn a_value_is_served_whatever_fails_in_the_cache() {
    let verax = started();
    let (skipped, refills) = (Arc::new(AtomicU64::new(0)), AtomicU64::new(0));
    let noted = Arc::clone(&skipped);
    let hook = move |event: &CacheEvent<'_>| {
        if event.kind == CacheEventKind::Skipped {
            noted.fetch_add(1, Ordering::SeqCst);
        }
    };
    let options = CacheOptions { hook: Some(Arc::new(hook)), ..CacheOptions::default() };
    let cache = boards(&verax, options);
    let read = async || {
        let refill = async || {
            refills.fetch_add(1, Ordering::SeqCst);
            Ok::<_, std::io::Error>(Board { sailings: vec!["07:10".into()] })
        };
        cache.get_or_refill("board", Duration::from_secs(60), refill).await.unwrap()
    };
    assert_eq!(read().await, read().await);
    assert_eq!(refills.load(Ordering::SeqCst), 1, "the second read was a hit");
    // Something else under the key is no value of this type: it is refilled and put right.
    cache.put("board", "not a board", PutOptions::default()).await.unwrap();
    read().await;
    read().await;
    assert_eq!(refills.load(Ordering::SeqCst), 2);
    // A failure of the refill is the caller's, and nothing is stored.
    let failed = cache
        .get_or_refill("other", Duration::from_secs(60), async || Err::<Board, _>("no ferry"))
        .await;
    assert_eq!(failed, Err("no ferry"));
    // Verax does not answer: the bound holds, then the breaker spares even that.
    verax.send(Signal::SIGSTOP);
    for _ in 0..20 {
        read().await;
    }
    assert_eq!(refills.load(Ordering::SeqCst), 22);
    assert!(skipped.load(Ordering::SeqCst) > 0);
    verax.send(Signal::SIGCONT);
    until("hits are back", async || {
        let before = refills.load(Ordering::SeqCst);
        read().await;
        refills.load(Ordering::SeqCst) == before
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn compressed_values_round_trip_and_are_labeled_over_http() {
    let verax = started();
    let options = CacheOptions { compress_from: Some(1_000), ..CacheOptions::default() };
    let (cache, plain) = (boards(&verax, options), boards(&verax, CacheOptions::default()));
    let board = Board { sailings: (0..500).map(|n| format!("sailing {n}")).collect() };
    cache.put_json("long", &board, PutOptions::default()).await.unwrap();
    cache.put_json("short", &Board { sailings: vec![] }, PutOptions::default()).await.unwrap();
    assert_eq!(cache.get_json::<Board>("long").await.unwrap().unwrap(), board);
    let over_http = verax.client().namespace("ferrydesk", "boards").unwrap();
    let [long, short] = ["long", "short"].map(|key| over_http.get(key));
    let (long, short) = (long.await.unwrap().unwrap(), short.await.unwrap().unwrap());
    assert_eq!(long.media_type, "application/json+gzip");
    assert_eq!(short.media_type, "application/json");
    let whole = serde_json::to_vec(&board).unwrap();
    assert!(long.value.len() < whole.len() / 2, "{} of {}", long.value.len(), whole.len());
    // Who is not told to unpack gets the bytes as they are, and says that they are no JSON.
    let unread = plain.get_json::<Board>("long").await.unwrap_err();
    assert!(matches!(unread, ClientError::Unreadable { .. }), "{unread}");
    // Batches pack and unpack too, and what was stored plain stays readable.
    let many =
        PutMany { key: "b".into(), value: whole.clone().into(), options: PutOptions::default() };
    cache.put_many(&[many]).await.unwrap();
    plain.put("plain", &whole, PutOptions::default()).await.unwrap();
    for found in cache.get_many(&["b", "long", "plain"]).await.unwrap() {
        assert_eq!(found.unwrap().unwrap().value, whole);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn canceled_calls_do_not_disturb_others() {
    let verax = started();
    let cache = boards(&verax, CacheOptions { connections: 1, ..CacheOptions::default() });
    for n in 0..50 {
        cache.put(&format!("k{n}"), format!("v{n}"), PutOptions::default()).await.unwrap();
    }
    // Polled once or a few times and then dropped, wherever they have got to by then.
    for round in 0..200usize {
        let [key, large] = [format!("k{}", round % 50), format!("large{}", round % 3)];
        let mut reading = Box::pin(cache.get(&key).fuse());
        let mut storing =
            Box::pin(cache.put(&large, vec![7; 100_000], PutOptions::default()).fuse());
        for _ in 0..round % 4 {
            let both = std::future::poll_fn(|cx| {
                let _ = (reading.as_mut().poll(cx), storing.as_mut().poll(cx));
                std::task::Poll::Ready(())
            });
            both.await;
            tokio::task::yield_now().await;
        }
        drop((reading, storing));
        let n = (round * 7) % 50;
        assert_eq!(text(&cache, &format!("k{n}")).await.unwrap(), format!("v{n}"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn jitter_spreads_expirations() {
    let verax = started();
    verax
        .run(&["namespace", "create", "ferrydesk/spread", "--max-age", "1h", "--jitter", "50"])
        .done();
    let cache = verax.client().cache("ferrydesk", "spread", CacheOptions::default()).unwrap();
    let mut left = Vec::new();
    for n in 0..40 {
        cache.put(&n.to_string(), "v", PutOptions::default()).await.unwrap();
        left.push(cache.get(&n.to_string()).await.unwrap().unwrap().time_left.unwrap());
    }
    let half = Duration::from_secs(1_800);
    assert!(left.iter().all(|left| *left > half - Duration::from_secs(60) && *left <= 2 * half));
    let (first, last) = (left.iter().min().unwrap(), left.iter().max().unwrap());
    // Forty draws from half an hour lie within a tenth of it once in 10^37 runs.
    assert!(*last - *first > half / 10, "{first:?} to {last:?}");
    // A lifetime that is given with the value is kept to the letter.
    let hour = PutOptions { max_age: Some(2 * half), ..PutOptions::default() };
    cache.put("own", "v", hour).await.unwrap();
    assert!(
        cache.get("own").await.unwrap().unwrap().time_left.unwrap()
            > 2 * half - Duration::from_secs(60)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_example_runs() {
    let verax = started();
    verax.run(&["namespace", "create", "ferrydesk/departures"]).done();
    let run = |arguments: &[&str]| {
        let program = verax_e2e::program().with_file_name("examples/departure_board");
        let output = std::process::Command::new(program)
            .args(arguments)
            .env("VERAX_WIRE_URL", verax.wire())
            .env("VERAX_TOKEN", verax.token())
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    assert_eq!(run(&["saltmere"]), "reading the database\nsaltmere: 07:10 Saltmere\n");
    let written = "canceling the 07:10\nafter the invalidation: None\n";
    assert_eq!(run(&["saltmere", "cancel"]), format!("saltmere: 07:10 Saltmere\n{written}"));
    assert_eq!(run(&["saltmere"]), "reading the database\nsaltmere: 07:10 Saltmere\n");
}

/// A wrong port is named as such, by every call.
#[tokio::test(flavor = "multi_thread")]
async fn the_port_for_http_is_told_from_the_port_for_the_wire() {
    let verax = started();
    let wire = verax.url().trim_start_matches("http://").to_owned();
    let token = Some(verax.token().into());
    let client = Client::new(ClientOptions { wire, token, ..ClientOptions::default() }).unwrap();
    let boards = client.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    for _ in 0..5 {
        let error = boards.get("k").await.unwrap_err();
        assert!(error.to_string().contains("it speaks HTTP"), "{error}");
    }
}

/// A handle in a static serves one test after another, each on a runtime of its own.
#[test]
fn a_handle_outlives_the_runtime_it_connected_on() {
    let verax = started();
    let cache = boards(&verax, near());
    for round in 0..4u32 {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(async {
            cache.put("k", round.to_string(), PutOptions::default()).await.unwrap();
            assert_eq!(text(&cache, "k").await.unwrap(), round.to_string());
        });
    }
    // A runtime that ends while it connects.
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let wire = nobody.local_addr().unwrap().to_string();
    let options = ClientOptions { wire, ..ClientOptions::default() };
    let silent = Client::new(options).unwrap();
    let options = CacheOptions { connections: 1, ..CacheOptions::default() };
    let silent = silent.cache("ferrydesk", "boards", options).unwrap();
    for _ in 0..2 {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(until("it waits for a connection", async || {
            tokio::time::timeout(Duration::from_millis(50), silent.get("k")).await.is_err()
        }));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn clearing_needs_the_right_to_manage_and_no_other() {
    let verax = started();
    let cache = boards(&verax, CacheOptions::default());
    cache.put("k", "v", PutOptions::default()).await.unwrap();
    let handle = |scopes: &[&str]| {
        let mut create = vec!["token", "create", "--json"];
        create.extend(scopes.iter().flat_map(|scope| ["--scope", scope]));
        let created = verax.run(&create).json();
        let client = verax.client_with(created["secret"].as_str().unwrap());
        client.cache("ferrydesk", "boards", CacheOptions::default()).unwrap()
    };
    let writer = handle(&["read:ferrydesk", "write:ferrydesk"]);
    assert_eq!(writer.clear().await.unwrap_err().failure(), Some(FailureKind::MissingScope));
    assert_eq!(text(&cache, "k").await.unwrap(), "v");
    let manager = handle(&["manage:ferrydesk/boards"]);
    assert_eq!(manager.get("k").await.unwrap_err().failure(), Some(FailureKind::MissingScope));
    assert_eq!(manager.clear().await.unwrap(), 1);
    assert!(cache.get("k").await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn clients_are_told_of_a_stop_and_reconnect_after_a_restart() {
    let verax = prepared(Verax::serve(&[]));
    let mut stream = hello(&verax, &verax.token(), VERSION, VERSION).await;
    let mut received = Vec::new();
    next(&mut stream, &mut received).await.unwrap();
    let wire = verax.wire().to_owned();
    let cache = boards(&verax, CacheOptions::default());
    cache.put("k", "v", PutOptions::default()).await.unwrap();
    let verax = verax.restart_on(&wire);
    assert_eq!(next(&mut stream, &mut received).await.unwrap(), (0, "Goodbye".into()));
    assert_eq!(next(&mut stream, &mut received).await, None);
    until("the cache answers again", async || cache.get("k").await.is_ok()).await;
    drop(verax);
}

#[tokio::test(flavor = "multi_thread")]
async fn tls_serves_http_and_wire_and_reloads_certificates() {
    let scratch = tempfile::tempdir().unwrap();
    let at = |name: &str| scratch.path().join(name).display().to_string();
    let certify = || {
        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".into()]).unwrap();
        std::fs::write(at("key.pem"), made.signing_key.serialize_pem()).unwrap();
        std::fs::write(at("cert.pem"), made.cert.pem()).unwrap();
    };
    certify();
    let (cert, key) = (at("cert.pem"), at("key.pem"));
    let verax = Verax::serve(&["--tls-certificate", &cert, "--tls-key", &key]);
    assert!(verax.url().starts_with("https://"));
    let trusting = |ca: &str| {
        let options = verax_client::ClientOptions {
            url: verax.url().to_owned(),
            wire: format!("tls://{}", verax.wire()),
            ca: Some(ca.into()),
            token: Some(verax.token().into()),
            ..Default::default()
        };
        verax_client::Client::new(options).unwrap()
    };
    let client = trusting(&cert);
    client.create_tenant("ferrydesk").await.unwrap();
    let request = verax_api::CreateNamespace { name: "boards".into(), policy: Default::default() };
    client.create_namespace("ferrydesk", &request).await.unwrap();
    let cache = client.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    cache.put("k", "v", PutOptions::default()).await.unwrap();
    assert_eq!(text(&cache, "k").await.unwrap(), "v");
    // Browsers are told to come by TLS alone, on the fast path as on every other.
    let pem = std::fs::read(&cert).unwrap();
    let browser = reqwest::Client::builder()
        .tls_certs_only([reqwest::Certificate::from_pem(&pem).unwrap()])
        .build()
        .unwrap();
    for path in ["/readyz", "/v1/tenants", "/v1/tenants/ferrydesk/namespaces/boards/entries/k"] {
        let request = browser.get(format!("{}{path}", verax.url())).bearer_auth(verax.token());
        let answered = request.send().await.unwrap();
        assert_eq!(answered.status(), 200, "{path}");
        let told = answered.headers().get("strict-transport-security").map(|f| f.as_bytes());
        assert!(told.is_some_and(|field| field.starts_with(b"max-age=")), "{path}: {told:?}");
    }
    // The command trusts what VERAX_CA names, and nothing else.
    let token = verax.token();
    let command = |ca: Option<&str>| {
        let mut environment = vec![("VERAX_URL", verax.url()), ("VERAX_TOKEN", token.as_str())];
        environment.extend(ca.map(|ca| ("VERAX_CA", ca)));
        verax_e2e::run(&environment, scratch.path(), &["get", "ferrydesk/boards", "k"], b"")
    };
    assert_eq!(command(Some(&cert)).done(), "v");
    assert_eq!(command(None).code, 5);
    // Plain text is not understood.
    let plain = verax.client_with(&verax.token());
    let plain = plain.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    assert!(plain.get("k").await.is_err());
    // A new certificate is shown once its files are there; those who trust the old one see it.
    std::fs::copy(&cert, at("old.pem")).unwrap();
    certify();
    until("the new certificate is shown", async || trusting(&cert).ready().await.is_ok()).await;
    assert!(trusting(&at("old.pem")).ready().await.is_err());
}

#[rstest]
#[case(&["--http", "0.0.0.0:0"], "HTTP on 0.0.0.0:0 would be plain text")]
#[case(&["--wire", "0.0.0.0:0"], "the wire on 0.0.0.0:0 would be plain text")]
#[case(&["--tls-certificate", "c.pem"], "both a certificate and its key")]
#[case(&["--tls-certificate", "c.pem", "--tls-key", "k.pem"], "c.pem cannot be read as PEM")]
#[case(&["--plaintext", "maybe"], "loopback or anywhere")]
fn what_would_be_served_unprotected_is_refused(#[case] more: &[&str], #[case] says: &str) {
    let scratch = tempfile::tempdir().unwrap();
    let mut arguments = vec!["serve", "--data-dir", "data"];
    if !more.contains(&"--http") {
        arguments.extend(["--http", "127.0.0.1:0"]);
    }
    if !more.contains(&"--wire") {
        arguments.extend(["--wire", "127.0.0.1:0"]);
    }
    arguments.extend(more);
    let answer = verax_e2e::run(&[], scratch.path(), &arguments, b"");
    assert!(answer.code == 2 && answer.err.contains(says), "{answer:?}");
}
