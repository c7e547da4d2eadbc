//! Who may do what: scopes, tokens, and console sessions.

mod scope;
mod sessions;
mod tokens;

pub use scope::{InvalidScope, Right, Scope};
pub(crate) use sessions::CODE;
pub use sessions::Sessions;
pub use tokens::{Caller, TokenTable, hash_of, new_secret};
