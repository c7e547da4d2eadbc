//! The budget for values in flight, which no namespace's memory counts.
//!
//! An incoming value is held until it is complete, an outgoing one until its reader has received
//! it. Many slow clients could therefore hold any amount of memory; an [`InFlightBudget`] bounds
//! all of them together. A share of it bounds one tenant, so that others have room.

use std::sync::Arc;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::error::{EngineError, Overload};

/// Values up to this size need no reservation where a connection has one at a time: the limit on
/// connections bounds them too.
pub const SMALL: usize = 64 << 10;

/// The memory of a waiting caller, in bytes: its task, its place in a queue, and its request.
const WAIT: usize = 2 << 10;

/// The unit of reservations, in bytes: semaphores count to 2^29 on small machines.
const UNIT: u64 = 1 << 10;

/// A budget for values in flight, or a share of one.
#[derive(Debug, Clone)]
pub struct InFlightBudget {
    units: Arc<Semaphore>,
    limit: u64,
    /// The budget this is a share of.
    whole: Option<Arc<InFlightBudget>>,
}

/// Memory reserved in a budget, released when dropped.
#[derive(Debug, Default)]
pub struct InFlightReservation(Vec<OwnedSemaphorePermit>);

impl InFlightBudget {
    /// A budget of `limit` bytes.
    pub fn new(limit: u64) -> Self {
        let units = usize::try_from(limit / UNIT).unwrap_or(usize::MAX);
        let units = Arc::new(Semaphore::new(units.min(Semaphore::MAX_PERMITS)));
        Self { units, limit, whole: None }
    }

    /// A share of at most `limit` bytes: a reservation in it also counts against the whole budget.
    pub fn share(&self, limit: u64) -> Self {
        Self { whole: Some(Arc::new(self.clone())), ..Self::new(limit.min(self.limit)) }
    }

    /// Reserves `bytes`; small values need no reservation.
    ///
    /// # Errors
    /// [`EngineError::Overloaded`] when others have taken too much.
    pub fn reserve(&self, bytes: usize) -> Result<InFlightReservation, EngineError> {
        match bytes <= SMALL {
            true => Ok(InFlightReservation::default()),
            false => self.reserve_all(bytes),
        }
    }

    /// Reserves `bytes`, however few, rounded up to a whole KiB.
    ///
    /// # Errors
    /// [`EngineError::Overloaded`] when others have taken too much.
    pub fn reserve_all(&self, bytes: usize) -> Result<InFlightReservation, EngineError> {
        let mut reserved = InFlightReservation::default();
        let units = u32::try_from((bytes as u64).div_ceil(UNIT)).unwrap_or(u32::MAX);
        let mut budget = Some(self);
        while let Some(here) = budget.filter(|_| units > 0) {
            // If it does not fit, partial reservations are released.
            let permit = Arc::clone(&here.units)
                .try_acquire_many_owned(units)
                .map_err(|_| Overload::InFlight)?;
            reserved.0.push(permit);
            budget = here.whole.as_deref();
        }
        Ok(reserved)
    }

    /// Reserves the memory of a caller that may wait.
    ///
    /// # Errors
    /// [`EngineError::Overloaded`] when others have taken too much.
    pub fn reserve_wait(&self) -> Result<InFlightReservation, EngineError> {
        self.reserve_all(WAIT)
    }

    /// The reserved bytes, each reservation rounded up to a whole KiB.
    pub fn taken(&self) -> u64 {
        (self.limit / UNIT).saturating_sub(self.units.available_permits() as u64) * UNIT
    }

    /// The budget's size, in bytes.
    pub fn limit(&self) -> u64 {
        self.limit
    }
}

impl InFlightReservation {
    /// Adds another reservation to this one.
    pub fn join(&mut self, other: InFlightReservation) {
        self.0.extend(other.0);
        // Reservations of one budget merge into one.
        let mut at = 0;
        while at < self.0.len() {
            let same = |other: &OwnedSemaphorePermit| {
                Arc::ptr_eq(other.semaphore(), self.0[at].semaphore())
            };
            match self.0.iter().rposition(same).filter(|last| *last > at) {
                Some(last) => {
                    let more = self.0.swap_remove(last);
                    self.0[at].merge(more);
                }
                None => at += 1,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn large_values_share_a_budget_and_small_ones_reserve_nothing() {
        let budget = InFlightBudget::new(1 << 20);
        let small: Vec<_> = (0..1_000).map(|_| budget.reserve(SMALL).unwrap()).collect();
        assert_eq!(budget.taken(), 0);
        let mut first = budget.reserve(600 << 10).unwrap();
        assert!(matches!(
            budget.reserve(600 << 10),
            Err(EngineError::Overloaded(Overload::InFlight))
        ));
        first.join(budget.reserve(400 << 10).unwrap());
        assert_eq!((budget.taken(), first.0.len()), (1_000 << 10, 1));
        drop((first, small));
        assert_eq!(budget.taken(), 0);
        budget.reserve(1 << 20).unwrap();
    }

    #[test]
    fn a_share_leaves_room_for_others_and_refusals_reserve_nothing() {
        let whole = InFlightBudget::new(1 << 20);
        let (one, other) = (whole.share(512 << 10), whole.share(4 << 20));
        assert_eq!(other.limit(), 1 << 20, "a share is at most the whole");
        let held = one.reserve_all(512 << 10).unwrap();
        assert!(one.reserve_all(1).is_err());
        assert_eq!((one.taken(), whole.taken()), (512 << 10, 512 << 10));
        // It fits into the share, but not into the whole: nothing stays reserved.
        assert!(other.reserve_all(513 << 10).is_err());
        assert_eq!((other.taken(), whole.taken()), (0, 512 << 10));
        let mut more = other.reserve_all(500 << 10).unwrap();
        more.join(other.reserve_all(12 << 10).unwrap());
        assert_eq!((more.0.len(), whole.taken()), (2, 1 << 20));
        drop((held, more));
        assert_eq!((one.taken(), other.taken(), whole.taken()), (0, 0, 0));
    }
}
