//! A slot that one run at a time can hold.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// The slot of a kind of run.
#[derive(Debug, Default, Clone)]
pub(crate) struct SlotOwner(Arc<AtomicBool>);

/// The slot, held until this is dropped: a run releases it however it ends.
#[derive(Debug)]
pub(crate) struct RunSlot(Arc<AtomicBool>);

impl SlotOwner {
    /// Takes the slot; `None` while another run holds it.
    pub(crate) fn take(&self) -> Option<RunSlot> {
        (!self.0.swap(true, Ordering::AcqRel)).then(|| RunSlot(Arc::clone(&self.0)))
    }
}

impl Drop for RunSlot {
    fn drop(&mut self) {
        self.0.store(false, Ordering::Release);
    }
}

#[cfg(test)]
mod tests {
    use super::SlotOwner;

    #[test]
    fn a_slot_admits_one_run_at_a_time() {
        let owner = SlotOwner::default();
        let first = owner.take();
        assert!(first.is_some() && owner.take().is_none());
        drop(first);
        assert!(owner.take().is_some());
    }
}
