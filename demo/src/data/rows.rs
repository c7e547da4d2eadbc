//! Rows from a seed: the same seed and days give the same rows.

use jiff::ToSpan;
use jiff::civil::{Date, DateTime, time};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Exp, Normal};

use super::names::{Gauge, Harbor, LINES, VESSELS};

/// Departures of a harbor on one day.
const DEPARTURES: u16 = 72;

/// Minutes between two readings of a gauge.
const READING_EVERY: i64 = 15;

/// All days from `first` to `last`.
pub(super) fn days(first: Date, last: Date) -> impl Iterator<Item = Date> {
    first.series(1.day()).take_while(move |day| *day <= last)
}

/// The sailings of one day as SQL value lists, numbered from `next_id` on.
pub(super) fn sailings(seed: u64, day: Date, harbors: &[Harbor], next_id: &mut u32) -> Vec<String> {
    // A day's rows depend only on the seed and the day.
    let day_number = day.since(Date::constant(2000, 1, 1)).map_or(0, |span| span.get_days());
    let mut random = ChaCha8Rng::seed_from_u64(seed ^ (day_number as u64) << 20);
    // Most boats leave within a few minutes; some wait for weather.
    let (calm, rough) = (Normal::new(1.0, 3.0), Exp::new(0.08));
    let mut rows = Vec::with_capacity(harbors.len() * usize::from(DEPARTURES));
    for harbor in harbors {
        for n in 0..DEPARTURES {
            let minute = 5 * 60 + u32::from(n) * 15 + random.random_range(0..10);
            let departs = day.at(0, 0, 0, 0) + i64::from(minute).minutes();
            let step = random.random_range(1..harbors.len() as u16);
            let to = (harbor.id - 1 + step) % harbors.len() as u16 + 1;
            let line = usize::from(harbor.id + n) % LINES.len();
            let vessel = random.random_range(0..VESSELS.len());
            let late: f64 = match (&calm, &rough) {
                (Ok(calm), Ok(_)) if random.random_bool(0.85) => calm.sample(&mut random),
                (_, Ok(rough)) => rough.sample(&mut random),
                _ => 0.0,
            };
            let passengers = random.random_range(0..=VESSELS[vessel].1);
            rows.push(format!(
                "({next_id},{},{},{},{to},'{}',{},{passengers})",
                line + 1,
                vessel + 1,
                harbor.id,
                departs.strftime("%Y-%m-%d %H:%M:00"),
                late.clamp(-5.0, 240.0) as i16,
            ));
            *next_id += 1;
        }
    }
    rows
}

/// Gauge readings of one day as SQL value lists: two tides of different lengths, and some noise.
pub(super) fn readings(seed: u64, day: Date, gauges: &[Gauge]) -> Vec<String> {
    let start: DateTime = day.to_datetime(time(0, 0, 0, 0));
    let epoch = Date::constant(2000, 1, 1).to_datetime(time(0, 0, 0, 0));
    let hours = start.since((jiff::Unit::Hour, epoch)).map_or(0, |span| span.get_hours());
    let mut random = ChaCha8Rng::seed_from_u64(seed.rotate_left(32) ^ hours as u64);
    let mut rows = Vec::new();
    for gauge in gauges {
        for n in 0..(24 * 60 / READING_EVERY) {
            let at = start + (n * READING_EVERY).minutes();
            let t = hours as f64 + (n * READING_EVERY) as f64 / 60.0 + f64::from(gauge.id);
            let moon = (t * std::f64::consts::TAU / 12.42).sin() * 160.0;
            let sun = (t * std::f64::consts::TAU / 12.0).sin() * 55.0;
            let level = 230.0 + moon + sun + random.random_range(-6.0..6.0);
            let at = at.strftime("%Y-%m-%d %H:%M:00");
            rows.push(format!("({},'{at}',{})", gauge.id, level as i16));
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::super::names::{gauges, harbors};
    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_rows() {
        let day = Date::constant(2031, 5, 2);
        let once = |seed| {
            let mut next = 1;
            (sailings(seed, day, &harbors(), &mut next), readings(seed, day, &gauges()), next)
        };
        assert_eq!(once(7), once(7));
        assert_ne!(once(7).0, once(8).0);
        let (sailings, readings, next) = once(7);
        assert_eq!((sailings.len(), readings.len(), next), (48 * 72, 24 * 96, 1 + 48 * 72));
    }
}
