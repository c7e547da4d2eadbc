//! A service instance of the ferry network that shows departure boards.
//!
//! Start a Verax, give its address and a token in VERAX_WIRE_URL and VERAX_TOKEN, create the
//! namespace, and run it twice: the second run finds what the first one stored. With `cancel`
//! behind the harbor it writes as well, which ends the stored board.
//!
//!     verax tenant create ferrydesk
//!     verax namespace create ferrydesk/departures
//!     cargo run --package verax-client --example departure_board -- aldermouth

#![allow(clippy::print_stdout)]

use std::time::Duration;

use verax_client::{CacheOptions, Client, Outdated, stable_key};

#[derive(Debug, serde::Serialize, serde::Deserialize)]
struct Board {
    harbor: String,
    sailings: Vec<String>,
}

/// What takes long without a cache.
async fn read_database(harbor: &str) -> Result<Board, std::io::Error> {
    println!("reading the database");
    Ok(Board { harbor: harbor.to_owned(), sailings: vec!["07:10 Saltmere".into()] })
}

/// A write to the database.
async fn cancel() -> Result<(), std::io::Error> {
    println!("canceling the 07:10");
    Ok(())
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let harbor = std::env::args().nth(1).unwrap_or_else(|| "aldermouth".into());
    let verax = Client::from_environment()?;
    let boards = verax.cache("ferrydesk", "departures", CacheOptions::default())?;

    // Equal criteria make equal keys, in whatever order and language they are written.
    let key = stable_key("board", &serde_json::json!({ "harbor": harbor, "limit": 10 }))?;
    let tag = format!("harbor-{harbor}");
    let entry = boards
        .entry(key)
        .max_age(Duration::from_secs(30))
        .stale_if_error(Duration::from_secs(3_600))
        .tag(&tag);
    let board = entry.get_or_refill(async || read_database(&harbor).await).await?;
    println!("{}: {}", board.value.harbor, board.value.sailings.join(", "));
    if let Some(reason) = &board.not_stored {
        println!("not stored: {reason}");
    }

    // A write, and the end of everything that it outdates.
    if std::env::args().nth(2).is_some_and(|argument| argument == "cancel") {
        boards.write_and_invalidate([Outdated::tag(tag)], cancel).await?.invalidated?;
        println!("after the invalidation: {:?}", entry.get::<Board>().await?.map(|b| b.sailings));
    }
    Ok(())
}
