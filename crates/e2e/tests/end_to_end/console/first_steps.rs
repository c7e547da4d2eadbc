//! The console in headless Chromium: signing in, a figure that moves, a load run, and its result.

use std::time::Duration;

use thirtyfour::prelude::*;
use verax_client::{LockOptions, LockOutcome};
use verax_e2e::{Browser, Verax, until};

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_memory_and_hit_ratio() {
    let verax = Verax::demo(&[]);
    let browser = Browser::start().await;
    let page = &browser.page;

    // A wrong token is refused in words.
    page.goto(verax.url()).await.unwrap();
    let field = page.query(By::Css("input[name=token]")).first().await.unwrap();
    field.send_keys("not-a-token").await.unwrap();
    browser.click(By::Css("form button")).await;
    browser.text_when("[role=alert]", |text| text.contains("unknown, expired or revoked")).await;
    browser.assert_accessible("sign-in").await;

    // The link of the start signs in, once, and leaves no code in the address bar.
    page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-answer]", |text| text == "Healthy").await;
    assert!(!page.current_url().await.unwrap().as_str().contains('#'));

    // Figures move by themselves.
    let first = browser.text_when("[data-figure=reads]", |text| text.contains("/s")).await;
    browser.text_when("[data-figure=reads]", |text| text.contains("/s") && text != first).await;
    browser.text_when("[data-figure=hit-ratio]", |text| text.contains('%')).await;
    browser.text_when("[data-figure=origin-latency]", |text| text.contains("ms ·")).await;
    browser.assert_accessible("overview, light").await;
    browser.click(By::Css("button[aria-label='Use dark colors']")).await;
    until("the dark theme is on", async || {
        let html = page.find(By::Css("html")).await.unwrap();
        html.attr("data-theme").await.unwrap().as_deref() == Some("chart-night")
    })
    .await;
    browser.assert_accessible("overview, dark").await;

    // One button starts a run; it is drawn while it goes on, and its result stays.
    browser.click(By::LinkText("Load")).await;
    browser.click(By::Css("select")).await;
    browser.click(By::Css("option[value='ferrydesk/quick-look']")).await;
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    browser.text_when("[data-run-state]", |text| text.contains("running")).await;
    browser.text_when("[data-answer]", |text| text.contains("× faster")).await;
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    let table = browser.text_when("main table", |text| text.contains("Throughput")).await;
    assert!(table.contains("p99") && table.contains("ms"), "{table}");
    browser.assert_accessible("load, dark").await;

    // A reload keeps the session and shows the run again; signing out ends it.
    page.refresh().await.unwrap();
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    browser.click(By::Css("button[aria-label='Sign out']")).await;
    browser.text_when("form button", |text| text.contains("Sign in")).await;
    page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[role=alert]", |text| text.contains("was used")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_who_waits_and_runs_drills() {
    let verax = Verax::demo(&["--no-traffic"]);
    let browser = Browser::start().await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.click(By::LinkText("Waiting")).await;
    browser.text_when("[data-answer]", |text| text == "Nobody").await;
    browser.assert_accessible("waiting, empty").await;

    // A lock and who waits for it appear by themselves, and can be forced open.
    let berths = verax.client().namespace("quayside", "berths").unwrap();
    let options = |owner: &str, wait: u64| LockOptions {
        owner: Some(owner.into()),
        wait: Duration::from_secs(wait),
        lease: Duration::from_secs(600),
        ..LockOptions::default()
    };
    berths.acquire_lock("berth-7", &options("desk 1", 0)).await.unwrap();
    let waiting = tokio::spawn({
        let (berths, options) = (berths.clone(), options("desk 2", 60));
        async move { berths.acquire_lock("berth-7", &options).await }
    });
    browser.text_when("[data-answer]", |text| text == "1 waiting").await;
    browser
        .text_when("main table", |text| text.contains("berth-7") && text.contains("desk 1"))
        .await;
    browser.assert_accessible("waiting").await;
    browser.click(By::Css("button[aria-label='Force berth-7 of quayside/berths open']")).await;
    browser.text_when("dialog", |text| text.contains("desk 1 holds it")).await;
    browser.click(By::XPath("//button[contains(., 'Force it open')]")).await;
    assert!(matches!(waiting.await.unwrap().unwrap(), LockOutcome::Acquired(_)));
    browser.text_when("main", |text| text.contains("lock forced")).await;

    browser.click(By::LinkText("Drills")).await;
    browser.click(By::XPath("//button[contains(., 'Stampede')]")).await;
    browser.text_when("[data-drill-state]", |text| text == "stampede: done").await;
    let figures = browser.text_when("main table", |text| text.contains("origin calls")).await;
    assert!(figures.contains("guard off") && figures.contains("errors"), "{figures}");
    browser.text_when("main", |text| text.contains("1 origin call with the guard")).await;
    browser.assert_accessible("drills").await;
}
