//! A service instance of the ferry network that shows departure boards.
//!
//! Start a Verax, give its address and a token in VERAX_WIRE_URL and VERAX_TOKEN, create the
//! namespace, and run it twice: the second run finds what the first one stored.
//!
//!     verax tenant create ferrydesk
//!     verax namespace create ferrydesk/boards
//!     cargo run --package verax-client --example departure_board -- aldermouth

#![allow(clippy::print_stdout)]

use std::time::Duration;

use verax_client::{CacheOptions, Client, PutOptions, stable_key};

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

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let harbor = std::env::args().nth(1).unwrap_or_else(|| "aldermouth".into());
    let verax = Client::from_environment()?;
    let boards = verax.cache("ferrydesk", "boards", CacheOptions::default())?;

    // Equal criteria make equal keys, in whatever order and language they are written.
    let key = stable_key("board", &serde_json::json!({ "harbor": harbor, "limit": 10 }))?;
    let lifetime = Duration::from_secs(30);
    let board: Board =
        boards.get_or_refill(&key, lifetime, async || read_database(&harbor).await).await?;
    println!("{}: {}", board.harbor, board.sailings.join(", "));

    // What is stored by hand: with tags, to be ended together.
    let options = PutOptions { tags: vec![format!("harbor-{harbor}")], ..PutOptions::default() };
    boards.put_json("notice", &"fog over the sound", options).await?;
    let notice: Option<String> = boards.get_json("notice").await?;
    println!("notice: {}", notice.unwrap_or_default());
    boards.invalidate_tag(&format!("harbor-{harbor}")).await?;
    println!("after the invalidation: {:?}", boards.get_json::<String>("notice").await?);
    Ok(())
}
