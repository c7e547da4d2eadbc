//! How a command fails: message and exit code.
//!
//! 1 failed, 2 wrong usage, 3 not found or a miss, 4 refused, 5 unreachable, 6 a warm run was
//! partial or the lanes of a load run cannot be compared, 7 a run was stopped, 8 a load run missed
//! a goal.

use std::io::Write;
use std::process::ExitCode;

use verax_api::FailureKind;
use verax_client::ClientError;

/// The failure of a command.
#[derive(Debug)]
pub struct Failure {
    message: String,
    code: u8,
}

impl Failure {
    /// Something failed that the user did right.
    pub fn failed(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 1 }
    }

    /// Wrong usage.
    pub fn usage(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 2 }
    }

    pub(crate) fn not_found(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 3 }
    }

    pub(crate) fn refused(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 4 }
    }

    /// A warm run that did not warm every key, or a load run whose lanes cannot be compared.
    pub(crate) fn partial(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 6 }
    }

    /// A load run that missed a goal of its profile.
    pub(crate) fn missed(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 8 }
    }

    /// A run that was stopped.
    pub(crate) fn stopped(message: impl Into<String>) -> Self {
        Self { message: message.into(), code: 7 }
    }

    /// A child command failed and has printed its own message.
    pub(crate) fn of_command(code: u8) -> Self {
        Self { message: String::new(), code }
    }

    /// What it says.
    pub fn text(&self) -> &str {
        &self.message
    }

    /// Prints the message on standard error.
    pub fn tell(&self) {
        if self.message.is_empty() {
            return;
        }
        // The message may quote text of other callers.
        let message = format!("verax: {}\n", crate::text::printable(&self.message));
        let _ = std::io::stderr().write_all(message.as_bytes());
    }

    /// The code that the process ends with.
    pub fn exit_code(&self) -> ExitCode {
        ExitCode::from(self.code)
    }
}

impl From<ClientError> for Failure {
    fn from(error: ClientError) -> Self {
        let code = match &error {
            ClientError::Unreachable { .. } | ClientError::TimedOut { .. } => 5,
            ClientError::NotVerax { .. }
            | ClientError::Unreadable { .. }
            | ClientError::NotStored(_) => 1,
            ClientError::Invalid(_) => 2,
            // Nobody serves at that address.
            ClientError::Refused(problem) if problem.failure() == Some(FailureKind::Standby) => 5,
            ClientError::Refused(problem) => match problem.status {
                404 => 3,
                400..500 => 4,
                _ => 1,
            },
        };
        let mut message = error.to_string();
        match &error {
            ClientError::Unreachable { .. } => {
                message.push_str("\n  start one with `verax demo` or `verax serve`, or set VERAX_URL to where it runs");
            }
            ClientError::Refused(problem) => {
                if let Some(id) = &problem.request_id {
                    message.push_str(&format!("\n  ({}, request {id})", problem.title));
                }
            }
            _ => {}
        }
        Self { message, code }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::failed(error.to_string())
    }
}
