//! Refusals and failures as the wire tells them.

use verax_control::ControlError;
use verax_core::guard::RefusedReason;
use verax_engine::{EngineError, OriginError};
use verax_wire::{FailureCode, Reply};

/// A failure on its way out.
#[derive(Debug)]
pub(super) struct Failure {
    pub(super) code: FailureCode,
    /// Whether it is certain that a write to the origin changed nothing there.
    pub(super) unchanged: bool,
    pub(super) detail: String,
}

impl Failure {
    pub(super) fn new(code: FailureCode, detail: impl Into<String>) -> Self {
        Self { code, unchanged: false, detail: detail.into() }
    }

    /// As a reply.
    pub(super) fn reply(&self) -> Reply<'_> {
        let Self { code, unchanged, detail } = self;
        Reply::Failed { code: *code as u16, unchanged: *unchanged, detail }
    }

    pub(super) fn invalid(error: impl std::fmt::Display) -> Self {
        Self::new(FailureCode::Invalid, error.to_string())
    }
}

impl From<ControlError> for Failure {
    fn from(error: ControlError) -> Self {
        let code = match error {
            ControlError::Engine(error) => return error.into(),
            ControlError::NotSignedIn(_) => FailureCode::NotSignedIn,
            ControlError::MissingScope(_) => FailureCode::MissingScope,
            ControlError::Unknown(_) => FailureCode::NotFound,
            ControlError::Invalid(_) | ControlError::Conflict(_) => FailureCode::Invalid,
            ControlError::NotExpected(_) => FailureCode::ConditionFailed,
            ControlError::RecordsUnavailable(_) => FailureCode::RecordsUnavailable,
            ControlError::Busy(_) => FailureCode::Busy,
        };
        Self::new(code, error.to_string())
    }
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Self {
        let code = match &error {
            EngineError::AccessEnded => FailureCode::NotSignedIn,
            EngineError::Invalid(_) => FailureCode::Invalid,
            EngineError::Unconfirmed(_) => FailureCode::RecordsUnavailable,
            EngineError::Standby => FailureCode::Standby,
            EngineError::ValueTooLarge { .. } | EngineError::DoesNotFit(_) => FailureCode::TooLarge,
            EngineError::ConditionFailed => FailureCode::ConditionFailed,
            EngineError::Permit(RefusedReason::Voided) => FailureCode::PermitVoided,
            EngineError::Permit(RefusedReason::Expired) => FailureCode::PermitExpired,
            EngineError::RefillGivenUp => FailureCode::OriginFailed,
            EngineError::NotWritten { error: origin } => {
                let code = match origin.kind() {
                    "timeout" => FailureCode::OriginTimeout,
                    _ => FailureCode::OriginFailed,
                };
                let failure = Self::new(code, error.to_string());
                return Self { unchanged: origin.is_certain(), ..failure };
            }
            EngineError::NamespaceGone => FailureCode::NotFound,
            EngineError::NegativeResult { .. } => FailureCode::NoValue,
            EngineError::NotHeld(_) => FailureCode::NotHeld,
            EngineError::Busy(_) => FailureCode::Busy,
            EngineError::Origin(origin) => {
                let code = match &**origin {
                    OriginError::NoValue { .. } => FailureCode::NoValue,
                    OriginError::Timeout { .. } => FailureCode::OriginTimeout,
                    OriginError::NoUrl(_) => FailureCode::Invalid,
                    _ => FailureCode::OriginFailed,
                };
                // Applications are told what went wrong, but no addresses within the network.
                return Self::new(code, origin.plain());
            }
        };
        Self::new(code, error.to_string())
    }
}
