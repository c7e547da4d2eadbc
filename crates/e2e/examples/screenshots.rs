//! Takes the console's pictures for docs/screenshots from a fresh demo.
//!
//! Usage: screenshots DIRECTORY

#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::path::PathBuf;
use std::time::Duration;

use thirtyfour::prelude::*;
use verax_e2e::{Browser, Verax};

#[tokio::main]
async fn main() {
    let folder = PathBuf::from(std::env::args().nth(1).expect("give a directory"));
    let verax = Verax::demo(&[]);
    let browser = Browser::start().await;
    let picture = async |name: &str| browser.picture(&folder.join(format!("{name}.png"))).await;
    browser.page.goto(format!("{}/sign-in", verax.url())).await.unwrap();
    browser.text_when("h1", |text| text.contains("Verax")).await;
    picture("console-sign-in").await;
    browser.page.goto(verax.sign_in_link()).await.unwrap();
    browser.text_when("[data-figure=hit-ratio]", |text| text.contains('%')).await;
    // Two minutes of history make the picture; the demo's traffic fills them.
    let seconds = std::env::var("VERAX_PICTURE_SECONDS").ok().and_then(|s| s.parse().ok());
    tokio::time::sleep(Duration::from_secs(seconds.unwrap_or(75))).await;
    picture("console-overview").await;
    browser.click(By::Css("button[aria-label='Use dark colours']")).await;
    tokio::time::sleep(Duration::from_secs(2)).await;
    picture("console-overview-dark").await;
    browser.click(By::Css("button[aria-label='Use light colours']")).await;
    browser.click(By::LinkText("How much faster is it?")).await;
    browser.click(By::XPath("//button[contains(., 'Start the run')]")).await;
    tokio::time::sleep(Duration::from_secs(8)).await;
    picture("console-load-running").await;
    browser.text_when("[data-run-state]", |text| text.contains("done")).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    picture("console-load").await;
}
