//! Keeping what is served in step with the records, and the records' snapshot in its file.
//!
//! Every change of the records and its taking effect are one piece of work, done by a task of its
//! own ([`Service::administer`]): a caller that goes away, or that is answered late, leaves neither
//! half undone. Changes come one after the other, and each raises the records' revision by one, so
//! memory knows which revision it holds. The sync loop compares the two all the time; where they
//! differ, everything is read anew.

mod apply;
mod state;
mod sync;

pub(crate) use state::RecordsSync;
pub(crate) use sync::sync_loop;
