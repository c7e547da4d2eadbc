//! Every recipe, in virtual time, with and without a service.

use std::time::Duration;

use axum::body::Body;
use axum::http::{Request, StatusCode};
use futures_util::future::join_all;
use http_body_util::BodyExt;
use tower::ServiceExt;
use verax_client::{CacheOptions, CachedFrom, Outdated};
use verax_recipes::departure_service::{Desk, router};
use verax_recipes::job::{Job, publish_once};
use verax_recipes::levels::Levels;
use verax_recipes::metrics_page::Metrics;
use verax_recipes::passengers::add_passenger;
use verax_recipes::rate_limited::search;
use verax_recipes::sailings::boards_of;
use verax_recipes::schema::{new_board, old_board, outdated};
use verax_recipes::{Database, DatabaseError, invalidation::add_sailing};
use verax_testing::{Fault, TestService};

const SECOND: Duration = Duration::from_secs(1);

async fn desk() -> (TestService, Desk) {
    let verax = TestService::start().await.unwrap();
    verax.create_namespace("ferrydesk", "boards", Default::default()).await.unwrap();
    let boards = verax.cache("ferrydesk", "boards", CacheOptions::default()).unwrap();
    let database = Database::default();
    database.add_sailing("saltmere", "07:10 Brinewick").await.unwrap();
    (verax, Desk { boards, database })
}

async fn page(desk: &Desk, harbor: &str) -> (StatusCode, String) {
    let request = Request::get(format!("/boards/{harbor}")).body(Body::empty()).unwrap();
    let response = router(desk.clone()).oneshot(request).await.unwrap();
    let status = response.status();
    let body = response.into_body().collect().await.unwrap().to_bytes();
    (status, String::from_utf8(body.to_vec()).unwrap())
}

#[tokio::test(start_paused = true)]
async fn the_service_reads_once_survives_outages_and_remembers_what_is_missing() {
    let (verax, desk) = desk().await;
    let pages = join_all((0..50).map(|_| page(&desk, "saltmere"))).await;
    assert!(pages.iter().all(|(status, body)| *status == 200 && body.contains("07:10")));
    assert_eq!(desk.database.reads(), 1);
    assert_eq!(page(&desk, "nowhere").await.0, StatusCode::NOT_FOUND);
    assert_eq!(page(&desk, "nowhere").await.0, StatusCode::NOT_FOUND);
    assert_eq!(desk.database.reads(), 2, "it is known to be missing");
    // The database is away: the copy serves for an hour.
    desk.database.set_away(true);
    verax.advance(600 * SECOND).await;
    assert_eq!(page(&desk, "saltmere").await.0, StatusCode::OK);
    assert_eq!(desk.board("saltmere").await.unwrap().from, CachedFrom::StaleOnError);
    verax.advance(3_600 * SECOND).await;
    assert_eq!(page(&desk, "saltmere").await.0, StatusCode::SERVICE_UNAVAILABLE);
    // Verax is away: the database serves.
    desk.database.set_away(false);
    for fault in [Fault::Unreachable, Fault::Silent] {
        verax.set_fault(fault);
        assert_eq!(page(&desk, "saltmere").await.0, StatusCode::OK);
    }
}

#[tokio::test(start_paused = true)]
async fn a_write_ends_what_it_outdates() {
    let (verax, desk) = desk().await;
    page(&desk, "saltmere").await;
    let written = add_sailing(&desk, "saltmere", "07:40 Aldermouth").await.unwrap();
    written.invalidated.unwrap();
    assert!(page(&desk, "saltmere").await.1.contains("07:40"));
    // A lost invalidation keeps this process from reading the old copy.
    verax.set_fault(Fault::LostInvalidations);
    let written = add_sailing(&desk, "saltmere", "08:10 Brinewick").await.unwrap();
    assert!(written.invalidated.is_err());
    assert!(page(&desk, "saltmere").await.1.contains("08:10"));
    desk.database.set_away(true);
    assert_eq!(add_sailing(&desk, "saltmere", "x").await.unwrap_err(), DatabaseError);
}

#[tokio::test(start_paused = true)]
async fn a_route_is_limited_only_while_the_service_decides() {
    let (verax, desk) = desk().await;
    let mut passed = 0;
    let refused = loop {
        let response = search(&desk.boards, "desk-1").await.unwrap();
        if response.status() == StatusCode::TOO_MANY_REQUESTS {
            break response;
        }
        passed += 1;
    };
    assert_eq!(passed, 10);
    assert_eq!(refused.headers()["retry-after"], "1");
    assert_eq!(search(&desk.boards, "desk-2").await.unwrap().status(), StatusCode::OK);
    verax.set_fault(Fault::Silent);
    assert_eq!(search(&desk.boards, "desk-1").await.unwrap().status(), StatusCode::OK);
}

#[tokio::test(start_paused = true)]
async fn one_instance_does_the_job() {
    let (verax, desk) = desk().await;
    let instance = || publish_once(&desk.boards, async |_| tokio::time::sleep(300 * SECOND).await);
    let (first, second) = tokio::join!(instance(), instance());
    assert_eq!(first.unwrap(), Job::Done);
    assert!(matches!(second.unwrap(), Job::DoneByOther(_)));
    // The service falls silent: after the lease the job is abandoned.
    let abandoned = publish_once(&desk.boards, async |_| {
        verax.set_fault(Fault::Silent);
        tokio::time::sleep(300 * SECOND).await;
    });
    assert_eq!(abandoned.await.unwrap(), Job::Abandoned);
}

#[tokio::test(start_paused = true)]
async fn no_passenger_is_lost() {
    let (_verax, desk) = desk().await;
    let names: Vec<String> = (0..20).map(|n| format!("passenger {n}")).collect();
    let added = names.iter().map(|name| add_passenger(&desk.boards, "a-17", name));
    assert!(join_all(added).await.into_iter().all(|added| added.is_ok()));
    let list = desk.boards.get("passengers/a-17").await.unwrap().unwrap();
    assert_eq!(String::from_utf8_lossy(&list.value).lines().count(), 20);
}

#[tokio::test(start_paused = true)]
async fn two_versions_do_not_refill_each_others_entries() {
    let (_verax, Desk { boards, database }) = desk().await;
    for _ in 0..4 {
        assert_eq!(old_board(&boards, &database, "saltmere").await.unwrap(), ["07:10 Brinewick"]);
        let new = new_board(&boards, &database, "saltmere").await.unwrap();
        assert_eq!((&*new[0].time, &*new[0].to), ("07:10", "Brinewick"));
    }
    assert_eq!(database.reads(), 2);
    let write = async || database.add_sailing("saltmere", "07:40 Aldermouth").await;
    boards.write_and_invalidate(outdated("saltmere"), write).await.unwrap().invalidated.unwrap();
    assert_eq!(old_board(&boards, &database, "saltmere").await.unwrap().len(), 2);
    assert_eq!(new_board(&boards, &database, "saltmere").await.unwrap().len(), 2);
}

#[tokio::test(start_paused = true)]
async fn the_application_sees_its_hit_ratio() {
    let (verax, desk) = desk().await;
    let metrics = Metrics::new();
    let boards = verax.cache("ferrydesk", "boards", metrics.cache_options()).unwrap();
    let desk = Desk { boards, ..desk };
    for _ in 0..4 {
        page(&desk, "saltmere").await;
    }
    assert_eq!(metrics.hit_ratio(), 0.75);
    assert!(metrics.page().contains(r#"event="hit"} 3"#), "{}", metrics.page());
}

#[tokio::test(start_paused = true)]
async fn levels_take_two_bytes_each() {
    let (_verax, desk) = desk().await;
    let entry = desk.boards.entry("levels/pier-3").codec(Levels).max_age(60 * SECOND);
    let levels = vec![-7i16, 312, 290];
    let read = entry.get_or_refill(async || Ok::<_, DatabaseError>(levels.clone()));
    assert_eq!(read.await.unwrap().value, levels);
    assert_eq!(desk.boards.get("levels/pier-3").await.unwrap().unwrap().value.len(), 6);
    assert_eq!(entry.get::<Vec<i16>>().await.unwrap().unwrap(), levels);
}

#[tokio::test(start_paused = true)]
async fn a_page_of_boards_is_one_read() {
    let (verax, Desk { boards, database }) = desk().await;
    let names: Vec<String> = (0..200).map(|n| format!("harbor-{n}")).collect();
    let harbors: Vec<&str> = names.iter().map(String::as_str).chain(["saltmere"]).collect();
    let page = boards_of(&boards, &database, &harbors).await.unwrap();
    assert_eq!(page[200].sailings, ["07:10 Brinewick"]);
    assert_eq!(boards_of(&boards, &database, &harbors).await.unwrap(), page);
    assert_eq!(database.reads(), 201);
    verax.set_fault(Fault::Silent);
    assert_eq!(boards_of(&boards, &database, &harbors[198..]).await.unwrap(), page[198..]);
}

#[tokio::test(start_paused = true)]
async fn near_copies_serve_without_a_request_until_they_are_outdated() {
    let (verax, desk) = desk().await;
    let near_copies = Some(verax_client::NearCopies::default());
    let options = CacheOptions { near_copies, ..CacheOptions::default() };
    let near = verax.cache("ferrydesk", "boards", options).unwrap();
    let desk = Desk { boards: near, ..desk };
    page(&desk, "saltmere").await;
    desk.board("saltmere").await.unwrap();
    assert_eq!(desk.board("saltmere").await.unwrap().from, CachedFrom::NearCopy);
    desk.boards
        .write_and_invalidate([Outdated::tag("harbor-saltmere")], async || {
            Ok::<_, DatabaseError>(())
        })
        .await
        .unwrap();
    assert_eq!(desk.board("saltmere").await.unwrap().from, CachedFrom::Refill);
}
