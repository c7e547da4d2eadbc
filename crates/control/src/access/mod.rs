//! Access: tokens and console sessions.

mod sessions;
mod tokens;

pub(crate) use sessions::CODE_LIFETIME;
pub use sessions::{ConsoleSession, Sessions};
pub(crate) use tokens::TokenIdentity;
pub use tokens::{Caller, OpenStream, TokenTable, hash_of, new_secret};
