//! Refusals and failures as the wire tells them.

use verax_core::guard::RefusedReason;
use verax_service::{OriginError, ServiceError};
use verax_wire::FailureCode;

/// A failure on its way out.
#[derive(Debug)]
pub(super) struct Failure {
    pub(super) code: FailureCode,
    pub(super) detail: String,
}

impl Failure {
    pub(super) fn new(code: FailureCode, detail: impl Into<String>) -> Self {
        Self { code, detail: detail.into() }
    }

    pub(super) fn invalid(error: impl std::fmt::Display) -> Self {
        Self::new(FailureCode::Invalid, error.to_string())
    }
}

impl From<ServiceError> for Failure {
    fn from(error: ServiceError) -> Self {
        let code = match &error {
            ServiceError::NotSignedIn(_) => FailureCode::NotSignedIn,
            ServiceError::MissingScope(_) => FailureCode::MissingScope,
            ServiceError::Unknown(_) => FailureCode::NotFound,
            ServiceError::Invalid(_) | ServiceError::Conflict(_) => FailureCode::Invalid,
            ServiceError::RecordsUnavailable(_) => FailureCode::RecordsUnavailable,
            ServiceError::Standby => FailureCode::Standby,
            ServiceError::ValueTooLarge { .. } | ServiceError::DoesNotFit(_) => {
                FailureCode::TooLarge
            }
            ServiceError::ConditionFailed => FailureCode::ConditionFailed,
            ServiceError::Permit(RefusedReason::Voided) => FailureCode::PermitVoided,
            ServiceError::Permit(RefusedReason::Lapsed) => FailureCode::PermitLapsed,
            ServiceError::RefillGivenUp | ServiceError::NotWritten { .. } => {
                FailureCode::OriginFailed
            }
            ServiceError::NegativeResult { .. } => FailureCode::NoValue,
            ServiceError::NotHeld(_) => FailureCode::NotHeld,
            ServiceError::Busy(_) => FailureCode::Busy,
            ServiceError::Origin(origin) => {
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
