//! Starts everything a user would start, for tests and screenshots.
//!
//! [`Verax`] is a running `verax serve` or `verax demo` in a directory of its own, on free ports;
//! [`Browser`] is a headless Chromium. Both end with the value that holds them, and their processes
//! with them. Helpers panic where a test should fail.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, clippy::print_stderr)]

mod browser;
mod origin;
mod process;
mod secrets;
mod verax;
mod wait;

pub use browser::Browser;
pub use origin::HeldOrigin;
pub use process::{is_running, send};
pub use secrets::found_secret;
pub use verax::{Answer, Verax, program, run};
pub use wait::{until, until_some};
