//! Benchmarks, each beside its limit, in one run.
//!
//! A row compares what Verax does with the least that anything could do for the same result. Both
//! sides take turns in short rounds on the same machine, so that a machine that slows down slows both;
//! what counts is the median of the rounds' ratios. Nothing here passes or fails.

#![allow(clippy::print_stdout, clippy::print_stderr)]

mod driver;
mod eviction;
mod http_hit;
mod rounds;
mod store_get;
mod tables;

use clap::Parser;
use comfy_table::{CellAlignment, Table, presets};

use rounds::Row;

/// Benchmarks, each beside its limit.
#[derive(Debug, Parser)]
#[command(name = "verax-bench")]
struct Options {
    /// Only rows whose names contain this
    row: Option<String>,
    /// Rounds of each side; the first of each is warm-up and not counted
    #[arg(long, default_value_t = 8)]
    rounds: usize,
    /// Seconds of each round
    #[arg(long, default_value_t = 1.5)]
    seconds: f64,
}

type Bench = fn(&Options) -> Result<Row, Box<dyn std::error::Error>>;

const ROWS: [(&str, Bench); 2] = [("http-hit", http_hit::run), ("store-get", store_get::run)];

fn main() -> Result<(), Box<dyn std::error::Error>> {
    if std::env::args().nth(1).as_deref() == Some("evict") { println!("{}", eviction::run()); return Ok(()); }
    let options = Options::parse();
    let wanted = |name: &str| options.row.as_ref().is_none_or(|row| name.contains(row.as_str()));
    let mut rows = Vec::new();
    for (name, bench) in ROWS.iter().filter(|(name, _)| wanted(name)) {
        eprintln!("{name} …");
        rows.push(bench(&options)?);
    }
    println!("{}", table(&rows));
    println!(
        "\nMedians of {} rounds of {} s a side, taken in turns; spread is the lowest and highest ratio.",
        options.rounds - 1,
        options.seconds
    );
    Ok(())
}

fn table(rows: &[Row]) -> Table {
    let mut table = Table::new();
    table.load_style(presets::ASCII_MARKDOWN);
    table.set_header(["what", "Verax", "against", "limit", "ratio", "spread", "goal"]);
    for row in rows {
        table.add_row([
            row.what.clone(),
            row.verax_rate(),
            row.against.clone(),
            row.limit_rate(),
            format!("{:.2}", row.ratio()),
            row.spread(),
            format!("{:.2}", row.goal),
        ]);
    }
    for column in [1, 3, 4, 5, 6] {
        if let Some(column) = table.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}
