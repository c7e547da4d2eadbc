//! Failures, independent of transport: the one place where errors of the engine and the control
//! plane become kinds of failure.

use std::time::Duration;

use serde_json::{Map, Value};
use verax_api::{FailureKind, Problem, RETRY_AFTER_SECONDS};
use verax_control::ControlError;
use verax_core::guard::RefusedReason;
use verax_engine::{EngineError, InvalidInput, OriginError};

/// A failure to report. HTTP writes it as a problem document, the wire protocol as a reply.
#[derive(Debug)]
pub(crate) struct Failure {
    /// The number under which the log has it.
    id: u64,
    kind: FailureKind,
    detail: String,
    /// Whether a write certainly left the origin unchanged; `None` if nothing was written.
    unchanged: Option<bool>,
    members: Map<String, Value>,
}

pub(crate) type Result<T> = std::result::Result<T, Failure>;

impl Failure {
    pub(crate) fn new(kind: FailureKind, detail: impl Into<String>) -> Self {
        let id = rand::random();
        Self { id, kind, detail: detail.into(), unchanged: None, members: Map::new() }
    }

    /// The entry is of another kind, or its number would overflow.
    pub(crate) fn wrong_kind(error: &dyn std::fmt::Display) -> Self {
        Self::new(FailureKind::WrongKind, error.to_string())
    }

    /// The request is malformed.
    pub(crate) fn bad_request(detail: impl Into<String>) -> Self {
        Self::new(FailureKind::BadRequest, detail)
    }

    /// The request is well-formed but out of range or not allowed.
    pub(crate) fn invalid(error: impl std::fmt::Display) -> Self {
        Self::new(FailureKind::Invalid, error.to_string())
    }

    /// Adds a member to the problem document.
    pub(crate) fn with(mut self, member: &str, value: impl Into<Value>) -> Self {
        self.members.insert(member.to_owned(), value.into());
        self
    }

    /// Tells after how long it may be tried again, to the millisecond.
    pub(crate) fn retry_after(self, wait: Duration) -> Self {
        // Never earlier than it can succeed.
        let millis = wait.as_nanos().div_ceil(1_000_000);
        self.with(RETRY_AFTER_SECONDS, millis as f64 / 1_000.0)
    }

    /// After how long it may be tried again, if that is known.
    pub(crate) fn retry_after_seconds(&self) -> Option<f64> {
        self.members.get(RETRY_AFTER_SECONDS)?.as_f64()
    }

    /// The number under which the log has it.
    pub(crate) fn id(&self) -> u64 {
        self.id
    }

    pub(crate) fn kind(&self) -> FailureKind {
        self.kind
    }

    pub(crate) fn detail(&self) -> &str {
        &self.detail
    }

    /// Whether a write certainly left the origin unchanged.
    pub(crate) fn is_unchanged(&self) -> bool {
        self.unchanged == Some(true)
    }

    /// Converts it to a problem document.
    pub(crate) fn into_problem(self) -> Problem {
        let mut problem = Problem::of(self.kind, self.detail);
        problem.more = self.members;
        match self.unchanged {
            Some(unchanged) => problem.with("unchanged", unchanged),
            None => problem,
        }
    }
}

impl From<ControlError> for Failure {
    fn from(error: ControlError) -> Self {
        let kind = match &error {
            ControlError::Engine(error) => return Self::of_engine(error),
            ControlError::NotSignedIn(_) => FailureKind::NotSignedIn,
            ControlError::MissingScope(_) | ControlError::MissingRight(_) => {
                FailureKind::MissingScope
            }
            ControlError::Unknown(_) => FailureKind::NotFound,
            ControlError::Invalid(_) => FailureKind::Invalid,
            ControlError::Conflict(_) => FailureKind::Conflict,
            ControlError::NotExpected(_) => FailureKind::ConditionFailed,
            ControlError::RecordsUnavailable(_) => FailureKind::RecordsUnavailable,
            ControlError::Overloaded(_) => FailureKind::Overloaded,
        };
        let failure = Self::new(kind, error.to_string());
        match error {
            ControlError::MissingScope(scope) => failure.with("missing_scope", scope.to_string()),
            _ => failure,
        }
    }
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Self {
        Self::of_engine(&error)
    }
}

impl Failure {
    fn of_engine(error: &EngineError) -> Self {
        let kind = match error {
            EngineError::AccessEnded => FailureKind::NotSignedIn,
            EngineError::Invalid(InvalidInput::KeyMismatch { .. }) => FailureKind::KeyMismatch,
            EngineError::Invalid(_) => FailureKind::Invalid,
            EngineError::NamespaceGone => FailureKind::NotFound,
            EngineError::Unconfirmed(_) => FailureKind::RecordsUnavailable,
            EngineError::Standby => FailureKind::Standby,
            EngineError::ValueTooLarge { .. } | EngineError::DoesNotFit(_) => {
                FailureKind::ValueTooLarge
            }
            EngineError::ConditionFailed => FailureKind::ConditionFailed,
            EngineError::Origin(origin) => return Self::of_origin(origin, origin.plain()),
            EngineError::NotWritten { error: origin } => {
                let mut failure = Self::of_origin(origin, error.to_string());
                failure.unchanged = Some(origin.is_certain());
                return failure;
            }
            EngineError::NegativeResult { .. } => FailureKind::NoValue,
            EngineError::HasOrigin { .. } => FailureKind::HasOrigin,
            EngineError::Permit(RefusedReason::Voided) => FailureKind::PermitVoided,
            EngineError::Permit(RefusedReason::Expired) => FailureKind::PermitExpired,
            EngineError::RefillAbandoned => FailureKind::RefillAbandoned,
            EngineError::NoRefiller { .. } => FailureKind::Conflict,
            EngineError::NotHeld(_) => FailureKind::NotHeld,
            EngineError::QuotaExceeded { .. } => FailureKind::QuotaExceeded,
            EngineError::BrokenContent { .. } => FailureKind::BrokenContent,
            EngineError::Overloaded(_) => FailureKind::Overloaded,
        };
        let failure = Self::new(kind, error.to_string());
        match error {
            EngineError::BrokenContent { rule, damage, .. } => failure
                .with("content", rule.name())
                .with("line", damage.line)
                .with("column", damage.column),
            EngineError::ValueTooLarge { limit, .. } => failure.with("limit_bytes", *limit),
            EngineError::QuotaExceeded { retry_after: Some(wait), .. } => {
                failure.retry_after(*wait)
            }
            EngineError::NegativeResult { left } => {
                failure.with("valid_for_seconds", left.as_secs_f64())
            }
            _ => failure,
        }
    }

    /// Applications learn what failed at an origin, but no internal address.
    fn of_origin(error: &OriginError, detail: String) -> Self {
        let kind = match error {
            OriginError::NoValue { .. } => FailureKind::NoValue,
            OriginError::Timeout { .. } => FailureKind::OriginTimeout,
            OriginError::CircuitOpen { .. } | OriginError::Busy => FailureKind::OriginUnavailable,
            OriginError::KeyMismatch(_) => FailureKind::KeyMismatch,
            _ => FailureKind::OriginFailed,
        };
        let failure = Self::new(kind, detail).with("origin_error", error.kind());
        match error.status() {
            Some(status) => failure.with("origin_status", status),
            None => failure,
        }
    }
}
