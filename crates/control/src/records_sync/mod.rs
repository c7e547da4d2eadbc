//! Keeps memory in sync with the records, and their snapshot in its file.
//!
//! A change of the records and its effect in memory are one task ([`Control::administer`]): a
//! caller that disconnects or times out leaves neither half undone. Changes are serialized, and
//! each increments the records' revision, so memory knows which revision it holds. The sync loop
//! compares the two; if they differ, everything is read again.

mod apply;
mod state;
mod sync;

pub(crate) use state::RecordsSync;
pub(crate) use sync::sync_loop;
