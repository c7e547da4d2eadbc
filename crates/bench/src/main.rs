//! Benchmarks, each beside its limit, in one run.
//!
//! A row compares Verax with a lower bound for the same result. Both sides alternate in short
//! rounds on the same machine, so that a slowdown affects both; the result is the median of the
//! rounds' ratios. Nothing here passes or fails.

#![allow(clippy::print_stdout, clippy::print_stderr)]

mod driver;
mod eviction;
mod expiry;
mod fixture;
mod frames;
mod growth;
mod heat;
mod hostile;
mod http_hit;
mod load_lane;
mod memory;
mod memory_curve;
mod metrics;
mod packing;
mod rounds;
mod soak;
mod steps;
mod store_get;
mod tables;
mod views;
mod waiters;
mod warming;
mod wire_get;

use clap::Parser;
use comfy_table::Table;

use rounds::Row;
use tables::{right_aligned, table};

/// Benchmarks, each beside its limit.
#[derive(Debug, Parser)]
#[command(name = "verax-bench")]
struct Options {
    /// Only benchmarks whose names contain this
    name: Option<String>,
    /// Rounds of each side; the first of each is a warm-up
    #[arg(long, default_value_t = 6)]
    rounds: usize,
    /// Seconds of each round
    #[arg(long, default_value_t = 1.5)]
    seconds: f64,
    /// Only this many in flight, for wire-get
    #[arg(long)]
    in_flight: Option<usize>,
    /// Seconds of the soak and of hostile load, which run only when named
    #[arg(long, default_value_t = 600.0)]
    soak_seconds: f64,
    #[arg(long, hide = true)]
    probe: Option<String>,
}

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// What a benchmark prints.
enum Part {
    /// Rows of the table of ratios.
    Ratios(fn(&Options) -> Result<Vec<Row>, Failure>),
    /// A table of its own.
    Own(fn(&Options) -> Result<Table, Failure>),
}

/// These take ten minutes each, so they do not run by default.
const SOAK: &str = "soak";
const HOSTILE: &str = "hostile";

const PARTS: [(&str, Part); 20] = [
    ("memory", Part::Own(|_| memory::run())),
    ("wire-get", Part::Ratios(wire_get::run)),
    ("http-hit", Part::Ratios(http_hit::run)),
    ("load-lane", Part::Ratios(load_lane::run)),
    ("store-get", Part::Ratios(store_get::run)),
    ("metrics", Part::Ratios(metrics::run)),
    ("heat-cost", Part::Ratios(heat::cost)),
    ("many-entries", Part::Ratios(growth::entries)),
    ("waiters", Part::Own(|_| waiters::run())),
    ("expiry", Part::Own(|_| expiry::run())),
    ("steps", Part::Own(|_| steps::run())),
    ("growth", Part::Own(growth::run)),
    ("views", Part::Own(|_| views::run())),
    ("packing", Part::Own(|_| packing::run())),
    ("heat-accuracy", Part::Own(|_| heat::run())),
    ("curve-accuracy", Part::Own(|_| memory_curve::run())),
    ("warming", Part::Own(|_| warming::run())),
    ("eviction", Part::Own(|_| Ok(eviction::run()))),
    (SOAK, Part::Own(soak::run)),
    (HOSTILE, Part::Own(hostile::run)),
];

fn main() -> Result<(), Failure> {
    // As the service does.
    verax_service::set_up_allocator();
    let options = Options::parse();
    match options.probe.as_deref().map(|what| what.split_once('/').unwrap_or((what, ""))) {
        None => {}
        Some(("hostile", orders)) => return hostile::attackers(orders),
        Some(("quiet", orders)) => return hostile::quiet(orders),
        Some((what, _)) => return memory::probe(what),
    }
    let wanted = |name: &str| match &options.name {
        Some(part) => name.contains(part.as_str()),
        None => name != SOAK && name != HOSTILE,
    };
    let mut rows = Vec::new();
    let mut others = Vec::new();
    let mut failed = Vec::new();
    for (name, part) in PARTS.iter().filter(|(name, _)| wanted(name)) {
        eprintln!("{name} …");
        match part {
            // A failure does not stop the others.
            Part::Ratios(run) => match run(&options) {
                Ok(more) => rows.extend(more),
                Err(error) => failed.push(format!("{name} failed: {error}")),
            },
            Part::Own(run) => match run(&options) {
                Ok(table) => others.push(table),
                Err(error) => failed.push(format!("{name} failed: {error}")),
            },
        }
    }
    if !rows.is_empty() {
        println!("{}", ratios(&rows));
        println!(
            "\nMedians of {} rounds of {} s a side, taken in turns; spread is the lowest and highest ratio.",
            options.rounds - 1,
            options.seconds
        );
    }
    others.iter().for_each(|table| println!("\n{table}"));
    match failed.is_empty() {
        true => Ok(()),
        false => Err(failed.join("; ").into()),
    }
}

fn ratios(rows: &[Row]) -> Table {
    let mut table = table(["what", "Verax", "against", "limit", "ratio", "spread", "goal"]);
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
    let mut table = right_aligned(table, 3..7);
    if let Some(column) = table.column_mut(1) {
        column.set_cell_alignment(comfy_table::CellAlignment::Right);
    }
    table
}
