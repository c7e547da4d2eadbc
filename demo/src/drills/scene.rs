//! The scene of the allocation race.

use std::sync::atomic::{AtomicU32, Ordering};

use super::course::Side;

/// The scene of one side.
pub(super) struct Scene<'a, 'c, 's> {
    side: &'a Side<'c, 's>,
    waiting: AtomicU32,
    allocated: AtomicU32,
}

impl<'a, 'c, 's> Scene<'a, 'c, 's> {
    pub(super) fn of(side: &'a Side<'c, 's>) -> Self {
        Self { side, waiting: AtomicU32::new(0), allocated: AtomicU32::new(0) }
    }

    pub(super) fn side(&self) -> &'a Side<'c, 's> {
        self.side
    }

    /// Draws the current state.
    pub(super) fn draw(&self) {
        self.side.tick(&[
            ("boats given berth 7", f64::from(self.allocated.load(Ordering::Relaxed))),
            ("desks waiting for the lock", f64::from(self.waiting.load(Ordering::Relaxed))),
        ]);
    }

    /// A desk begins to wait for the lock.
    pub(super) fn begin_to_wait(&self) {
        self.waiting.fetch_add(1, Ordering::Relaxed);
        self.draw();
    }

    /// A desk's wait timed out.
    pub(super) fn end_waiting(&self) {
        self.waiting.fetch_sub(1, Ordering::Relaxed);
        self.draw();
    }

    /// A desk has assigned the berth to its boat.
    pub(super) fn allocate(&self) {
        self.allocated.fetch_add(1, Ordering::Relaxed);
        self.draw();
    }
}
