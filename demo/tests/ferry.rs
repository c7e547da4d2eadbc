//! The ferry data in a real MariaDB: loaded once, read slowly, served by the stand-in.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use jiff::ToSpan;
use jiff::civil::Date;
use verax_core::{KeyPattern, OriginSettings};
use verax_demo::data::{LoadedData, gauges, harbors, load};
use verax_demo::{queries, stand_in};
use verax_origin::Origin;
use verax_records::launcher::PrivateServer;

fn today() -> Date {
    jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_data_is_loaded_once_and_answers_every_page() {
    let directory = tempfile::tempdir().unwrap();
    let server = PrivateServer::start(directory.path()).await.unwrap();
    let url = server.url("verax");

    // Every day is reported, and a second load finds all of it there.
    let mut progress = Vec::new();
    let loaded = load(&url, today(), |done, of| progress.push((done, of))).await.unwrap();
    let (sailings, readings) = (75 * 48 * 72, 75 * 24 * 96);
    assert_eq!(loaded, LoadedData { sailings, readings, fresh: true });
    assert_eq!(progress, (1..=75).map(|day| (day, 75)).collect::<Vec<_>>());
    let again = load(&url, today(), |_, _| panic!("nothing is loaded again")).await.unwrap();
    assert_eq!(again, LoadedData { fresh: false, ..loaded });

    // Each tenant's page has what it promises.
    let mut connection = AsyncMysqlConnection::establish(&server.url("ferry")).await.unwrap();
    let connection = &mut connection;
    let board = queries::departure_board(connection, "aldermouth").await.unwrap();
    assert_eq!(board.len(), 12);
    assert!(board.windows(2).all(|pair| pair[0].departs <= pair[1].departs), "in order of time");
    assert!(board.iter().all(|d| d.on_time.is_some_and(|share| (0.5..1.0).contains(&share))));
    assert!(board.iter().all(|d| d.to != "Aldermouth" && d.places >= 120));
    assert!(queries::departure_board(connection, "nowhere").await.unwrap().is_empty());
    let fare = queries::fare(connection, "aldermouth", "brinewick").await.unwrap();
    assert!(fare.sailings > 0 && fare.crowns.is_some_and(|c| (4.0..40.0).contains(&c)), "{fare:?}");
    assert_eq!(queries::fare(connection, "aldermouth", "aldermouth").await.unwrap().sailings, 0);
    let tides = queries::tide_table(connection, &gauges()[0].slug).await.unwrap();
    assert_eq!(tides.len(), 7);
    assert!(tides.iter().all(|day| day.high_cm - day.low_cm > 150), "{tides:?}");
    let berths = queries::berths(connection, &harbors()[3].slug).await.unwrap();
    assert_eq!(berths.iter().map(|b| b.berth).collect::<Vec<_>>(), [1, 2, 3, 4]);
    assert!(berths.iter().all(|b| b.calls > 0));

    stand_in_answers(&server).await;

    // Data that ends too soon, and a load that was interrupted, are loaded again.
    connection.batch_execute("DELETE FROM loaded").await.unwrap();
    assert!(load(&url, today(), |_, _| {}).await.unwrap().fresh);
    let later = today() + 12.days();
    assert!(load(&url, later, |_, _| {}).await.unwrap().fresh);
    server.stop().await.unwrap();
}

async fn stand_in_answers(server: &PrivateServer) {
    // The stand-in answers with the same, with tags, and with 404 for what does not exist.
    let stand_in =
        stand_in::start(&server.url("ferry"), "127.0.0.1:0".parse().unwrap()).await.unwrap();
    let base = format!("http://{}", stand_in.address);
    let mut settings = OriginSettings::http(format!("{base}/boards/{{harbor}}"));
    settings.listings = vec!["/harbors".into(), "/gauges".into()];
    let boards = Origin::new(&settings, &Default::default()).unwrap();
    let answer = boards.read(&[("harbor", "brinewick")], None).await.unwrap();
    assert_eq!(answer.media_type, "application/json");
    assert_eq!(answer.cache_groups.as_deref(), Some("\"boards\", \"harbor-brinewick\""));
    let value: serde_json::Value = serde_json::from_slice(&answer.value).unwrap();
    assert_eq!(value["rows"].as_array().unwrap().len(), 12);
    let none = boards.read(&[("harbor", "nowhere")], None).await.unwrap_err();
    assert_eq!(none.kind(), "no-value");
    let listed = boards.read_listing("/harbors", 1_000).await.unwrap();
    assert_eq!(listed, harbors().into_iter().map(|h| h.slug).collect::<Vec<_>>());
    assert_eq!(boards.read_listing("/gauges", 1_000).await.unwrap().len(), 24);
    for (path, pattern, key) in [
        ("/fares/{from}/{to}", "fare/{from}/{to}", "fare/aldermouth/brinewick"),
        ("/tides/{gauge}", "tide/{gauge}", "tide/aldermouth-pier"),
        ("/berths/{harbor}", "berths/{harbor}", "berths/aldermouth"),
    ] {
        let origin =
            Origin::new(&OriginSettings::http(format!("{base}{path}")), &Default::default())
                .unwrap();
        let pattern = KeyPattern::parse(pattern).unwrap();
        let value = origin.read(&pattern.values_of(key).unwrap(), None).await.unwrap();
        assert!(value.took > Duration::ZERO && value.value.starts_with(b"{"), "{key}");
    }
    // Its faults can be set while it runs.
    stand_in.faults.change(&serde_json::json!({ "outage": true })).unwrap();
    let outage = boards.read(&[("harbor", "brinewick")], None).await.unwrap_err();
    assert_eq!(outage.status(), Some(503));
}
