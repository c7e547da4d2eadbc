//! Who may do what: scopes, tokens, and console sessions.

mod scope;
mod sessions;
mod signal;
mod tokens;

pub use scope::{InvalidScope, Right, Scope};
pub(crate) use sessions::CODE_LIFETIME;
pub use sessions::{ConsoleSession, Sessions};
pub use signal::AccessSignal;
pub use tokens::{Caller, ENDED, LeasedBy, TokenTable, hash_of, new_secret};
