//! The outcome of a write.

use futures_util::future::BoxFuture;
use verax_core::entry::Entry;

use crate::error::EngineError;

/// An entry that was stored.
#[derive(Debug, Clone)]
pub struct Stored {
    /// The entry.
    pub entry: Entry,
    /// Whether it replaced one.
    pub replaced: bool,
}

/// A write that is done or waits for the origin. It finishes even if nothing awaits it.
pub enum Written<T> {
    /// It is done or refused.
    Now(Result<T, EngineError>),
    /// It is being written to the origin first.
    Later(BoxFuture<'static, Result<T, EngineError>>),
}

impl<T: Send + 'static> IntoFuture for Written<T> {
    type Output = Result<T, EngineError>;
    type IntoFuture = BoxFuture<'static, Self::Output>;

    fn into_future(self) -> Self::IntoFuture {
        match self {
            Self::Now(result) => Box::pin(std::future::ready(result)),
            Self::Later(future) => future,
        }
    }
}

impl<T> std::fmt::Debug for Written<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if matches!(self, Self::Now(_)) { "Now" } else { "Later" })
    }
}
