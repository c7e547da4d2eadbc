//! Memory for values on their way in and out, which no namespace's memory counts.
//!
//! A value that arrives is held until it is whole, one that leaves until its reader has taken it. So
//! many slow clients could hold any amount of memory; here is the bound on all of them together.

use std::sync::Arc;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::error::ServiceError;

/// Values up to this size take no place: with the bound on connections they are bounded too.
pub const SMALL: usize = 64 << 10;

/// The unit of places, in bytes: semaphores count to 2^29 on small machines.
const UNIT: u64 = 1 << 10;

/// The memory for values in transit.
#[derive(Debug, Clone)]
pub struct Transit {
    places: Arc<Semaphore>,
    limit: u64,
}

/// A place in it, given back when dropped.
#[derive(Debug, Default)]
pub struct Place(Option<OwnedSemaphorePermit>);

impl Transit {
    pub(crate) fn new(limit: u64) -> Self {
        let units = usize::try_from(limit / UNIT).unwrap_or(usize::MAX);
        Self { places: Arc::new(Semaphore::new(units.min(Semaphore::MAX_PERMITS))), limit }
    }

    /// A place for so many bytes.
    ///
    /// # Errors
    /// [`ServiceError::Busy`] when others have taken too much.
    pub fn place(&self, bytes: usize) -> Result<Place, ServiceError> {
        if bytes <= SMALL {
            return Ok(Place(None));
        }
        let units = u32::try_from((bytes as u64).div_ceil(UNIT)).unwrap_or(u32::MAX);
        Arc::clone(&self.places)
            .try_acquire_many_owned(units)
            .map(|place| Place(Some(place)))
            .map_err(|_| {
                ServiceError::Busy(
                    "too many large values are on their way in and out; come back in a second",
                )
            })
    }

    /// How many bytes are taken, to a whole KiB for each.
    pub fn taken(&self) -> u64 {
        (self.limit / UNIT).saturating_sub(self.places.available_permits() as u64) * UNIT
    }

    /// How many bytes there are.
    pub fn limit(&self) -> u64 {
        self.limit
    }
}

impl Place {
    /// Makes the place larger by another one.
    pub fn join(&mut self, other: Place) {
        match (&mut self.0, other.0) {
            (Some(own), Some(more)) => own.merge(more),
            (own @ None, more) => *own = more,
            (Some(_), None) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn large_values_share_a_bound_and_small_ones_take_nothing() {
        let transit = Transit::new(1 << 20);
        let small: Vec<Place> = (0..1_000).map(|_| transit.place(SMALL).unwrap()).collect();
        assert_eq!(transit.taken(), 0);
        let mut first = transit.place(600 << 10).unwrap();
        assert!(matches!(transit.place(600 << 10), Err(ServiceError::Busy(_))));
        first.join(transit.place(400 << 10).unwrap());
        assert_eq!(transit.taken(), 1_000 << 10);
        drop((first, small));
        assert_eq!(transit.taken(), 0);
        transit.place(1 << 20).unwrap();
    }
}
