//! The generated data: names, and rows from a seed.

mod load;
mod names;
mod rows;

pub use load::{LoadedData, load};
pub use names::{Gauge, Harbor, gauges, harbors};
