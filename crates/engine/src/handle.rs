//! Handles on a namespace: what a caller may do with it, as a type.
//!
//! The control plane checks access once, when it opens a handle; the handle's methods need no
//! further check.

use std::marker::PhantomData;
use std::ops::Deref;
use std::sync::Arc;
use std::time::Duration;

use verax_core::Timestamp;

use crate::engine::Namespace;
use crate::events::{Event, LookUp};

/// The rights that a handle may have.
pub mod right {
    /// The right to read and list entries, and to see who waits for what.
    #[derive(Debug)]
    pub enum Read {}

    /// The right to store and change entries.
    #[derive(Debug)]
    pub enum Write {}

    /// The right to delete entries by key and by tag.
    #[derive(Debug)]
    pub enum Delete {}

    /// The right to remove all entries, or those of a prefix.
    #[derive(Debug)]
    pub enum Clear {}

    /// The right to hold locks.
    #[derive(Debug)]
    pub enum Lock {}

    /// The rights to read and write together, which refilling by permit needs.
    #[derive(Debug)]
    pub enum Refill {}

    /// The right to refill keys ahead of time.
    #[derive(Debug)]
    pub enum Warm {}

    /// The right to end what others hold.
    #[derive(Debug)]
    pub enum Manage {}
}

/// A namespace opened with the right `R`.
pub struct Handle<R> {
    namespace: Arc<Namespace>,
    right: PhantomData<fn() -> R>,
}

/// A namespace opened for reading.
pub type Reader = Handle<right::Read>;

/// A namespace opened for writing.
pub type Writer = Handle<right::Write>;

/// A namespace opened for deleting entries by key and by tag.
pub type Deleter = Handle<right::Delete>;

/// A namespace opened for clearing.
pub type Clearer = Handle<right::Clear>;

/// A namespace opened for locking.
pub type Locker = Handle<right::Lock>;

/// A namespace opened for refilling by permit.
pub type Refiller = Handle<right::Refill>;

/// A namespace opened for warming.
pub type Warmer = Handle<right::Warm>;

/// A namespace opened for management.
pub type Manager = Handle<right::Manage>;

impl<R> Handle<R> {
    /// Opens a namespace. Only for the control plane, which has checked the caller's right.
    pub fn open(namespace: Arc<Namespace>) -> Self {
        Self { namespace, right: PhantomData }
    }

    pub(crate) fn shared(&self) -> &Arc<Namespace> {
        &self.namespace
    }

    /// Whether both handles are of the same namespace.
    pub fn same<O>(&self, other: &Handle<O>) -> bool {
        Arc::ptr_eq(&self.namespace, &other.namespace)
    }
}

impl Refiller {
    /// Combines handles for reading and writing the same namespace; `None` for different
    /// namespaces.
    pub fn of(reader: &Reader, writer: &Writer) -> Option<Self> {
        reader.same(writer).then(|| Self::open(Arc::clone(&writer.namespace)))
    }
}

impl Reader {
    /// Counts hits of [`cached`](Self::cached), with the bytes of their values; each had about the
    /// same latency.
    pub fn count_hits(&self, fresh: u64, stale: u64, bytes: u64, each: Duration) {
        self.count_sent(bytes);
        self.notify(&Event::Hits { fresh, stale, each });
    }

    /// Counts a read that [`cached`](Self::cached) answered with a negative entry.
    pub fn count_negative(&self) {
        self.notify(&Event::LookUp(LookUp::Negative));
    }

    /// Counts a miss of [`cached`](Self::cached) that is not refilled.
    pub fn count_miss(&self, key: &str, now: Timestamp) {
        self.shared().partition().note_miss(key, now);
        self.notify(&Event::LookUp(LookUp::Missed));
    }
}

impl<R> Clone for Handle<R> {
    fn clone(&self) -> Self {
        Self::open(Arc::clone(&self.namespace))
    }
}

impl<R> Deref for Handle<R> {
    type Target = Namespace;

    fn deref(&self) -> &Namespace {
        &self.namespace
    }
}

impl<R> std::fmt::Debug for Handle<R> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Handle({})", self.path())
    }
}
