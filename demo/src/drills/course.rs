//! The progress of a drill, reported whenever it changes.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use verax_api::{DrillEvent, DrillFigure, DrillSide, DrillTick};

/// Receives the sides of a drill whenever they change.
pub type Sink<'s> = &'s (dyn Fn(&[DrillSide]) + Send + Sync);

/// The sides of a drill.
pub(super) struct Course<'s> {
    sides: Mutex<Vec<DrillSide>>,
    sink: Sink<'s>,
}

/// One side of it, while it runs.
pub(super) struct Side<'c, 's> {
    course: &'c Course<'s>,
    place: usize,
    started: Instant,
}

impl<'s> Course<'s> {
    pub(super) fn new(sink: Sink<'s>) -> Self {
        Self { sides: Mutex::default(), sink }
    }

    fn sides(&self) -> MutexGuard<'_, Vec<DrillSide>> {
        self.sides.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn begin(&self, name: &str) -> Side<'_, 's> {
        let mut sides = self.sides();
        sides.push(DrillSide { name: name.into(), ..DrillSide::default() });
        Side { course: self, place: sides.len() - 1, started: Instant::now() }
    }

    /// A figure of a side, by its name; 0 when there is none.
    pub(super) fn figure(&self, side: usize, name: &str) -> f64 {
        let sides = self.sides();
        let figures = sides.get(side).map(|side| &side.figures);
        figures.and_then(|f| f.iter().find(|f| f.name == name)).map_or(0.0, |f| f.value)
    }
}

impl Side<'_, '_> {
    fn change(&self, change: impl FnOnce(&mut DrillSide)) {
        let mut sides = self.course.sides();
        change(&mut sides[self.place]);
        (self.course.sink)(&sides);
    }

    fn at_ms(&self) -> f64 {
        (self.started.elapsed().as_secs_f64() * 10_000.0).round() / 10.0
    }

    /// The elapsed time.
    pub(super) fn elapsed(&self) -> Duration {
        self.started.elapsed()
    }

    pub(super) fn tick(&self, values: &[(&str, f64)]) {
        let at_ms = self.at_ms();
        let values = values.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect();
        self.change(|side| side.ticks.push(DrillTick { at_ms, values }));
    }

    pub(super) fn event(&self, who: impl Into<String>, what: impl Into<String>) {
        let (at_ms, who, what) = (self.at_ms(), who.into(), what.into());
        self.change(|side| side.events.push(DrillEvent { at_ms, who, what }));
    }

    pub(super) fn figures(&self, figures: &[(&str, f64, &str)]) {
        self.change(|side| {
            let figure = |(name, value, unit): &(&str, f64, &str)| DrillFigure {
                name: (*name).to_owned(),
                value: (value * 100.0).round() / 100.0,
                unit: (*unit).to_owned(),
            };
            side.figures = figures.iter().map(figure).collect();
        });
    }
}

/// The quantile of the samples; 0 if there are none.
pub(super) fn quantile(times: &mut [Duration], part: f64) -> f64 {
    times.sort_unstable();
    let at = ((times.len() as f64 * part).ceil() as usize).clamp(1, times.len().max(1)) - 1;
    times.get(at).map_or(0.0, |time| time.as_secs_f64() * 1_000.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_are_observed_times() {
        let mut times: Vec<Duration> = (1..=100).rev().map(Duration::from_millis).collect();
        assert_eq!((quantile(&mut times, 0.5), quantile(&mut times, 0.99)), (50.0, 99.0));
        assert_eq!((quantile(&mut times[..1], 0.99), quantile(&mut [], 0.5)), (1.0, 0.0));
    }
}
