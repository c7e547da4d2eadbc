//! A worker of the berth service that refills keys when a warm run asks for them.
//!
//! Start a Verax, give its address and a token in VERAX_WIRE_URL and VERAX_TOKEN, create the
//! namespace, and run as many workers as you like: the keys of a run are spread over them.
//!
//!     verax tenant create quayside
//!     verax namespace create quayside/occupancy
//!     cargo run --package verax-client --example refill_worker &
//!     verax warm fill quayside/occupancy --key occupancy/aldermouth --key occupancy/brinewick

#![allow(clippy::print_stdout)]

use std::time::Duration;

use verax_client::{CacheOptions, Client, Refilled};

#[derive(Debug, serde::Serialize, serde::Deserialize)]
struct Occupancy {
    harbor: String,
    occupied: u32,
}

/// What takes long: counting the berths that are taken.
async fn count_berths(harbor: &str) -> Result<Option<Occupancy>, std::io::Error> {
    tokio::time::sleep(Duration::from_millis(50)).await;
    // There is no such harbor, which is worth keeping, too.
    if harbor == "nowhere" {
        return Ok(None);
    }
    Ok(Some(Occupancy { harbor: harbor.to_owned(), occupied: harbor.len() as u32 }))
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let verax = Client::from_environment()?;
    let occupancy = verax.cache("quayside", "occupancy", CacheOptions::default())?;
    let ended = occupancy
        .serve_refills(4, |key| async move {
            println!("refilling {key}");
            let found = count_berths(key.strip_prefix("occupancy/").unwrap_or(&key)).await?;
            Ok::<_, std::io::Error>(Refilled::from(found).max_age(Duration::from_secs(600)))
        })
        .await;
    Err(ended.into())
}
