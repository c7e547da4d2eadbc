//! The control plane's errors.

use verax_core::access::Scope;
use verax_engine::EngineError;
use verax_records::RecordsError;

use crate::invalid::InvalidInput;
use crate::subject::Subject;

/// Why the control plane refused or failed an operation.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum ControlError {
    /// No token, or one that is not valid.
    #[error("{0}")]
    NotSignedIn(&'static str),
    /// The token lacks a scope. Reveals nothing about whether the subject exists.
    #[error("this token lacks the scope {0}: use a token that has it")]
    MissingScope(Scope),
    /// The token has a right nowhere.
    #[error("this token has the right to {0} nowhere: use a token with a scope such as {0}:TENANT")]
    MissingRight(&'static str),
    /// The subject does not exist.
    #[error("there is no {0}")]
    Unknown(Subject),
    /// An input is out of range or malformed.
    #[error(transparent)]
    Invalid(Box<InvalidInput>),
    /// The subject to create already exists, or the one to delete is still in use.
    #[error(transparent)]
    Conflict(#[from] Conflict),
    /// The subject is no longer the version the caller read.
    #[error("the {0} has changed since it was read: read it again, then change it")]
    NotExpected(&'static str),
    /// The records cannot be read or written now.
    #[error(
        "{0}; entries are still served, but nothing can be created or changed until MariaDB is back"
    )]
    RecordsUnavailable(String),
    /// Overloaded; retry later.
    #[error(transparent)]
    Overloaded(#[from] Overload),
    /// The engine refused or failed.
    #[error(transparent)]
    Engine(#[from] EngineError),
}

/// Why something cannot be created, changed or deleted now.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Conflict {
    /// It exists already.
    #[error("{0} exists already")]
    Exists(String),
    /// It is still in use.
    #[error("{subject} is still in use: {by}")]
    InUse {
        /// The subject.
        subject: String,
        /// What uses it, and what to do.
        by: &'static str,
    },
    /// There are as many as there may be.
    #[error("there are already {max} {what}, the maximum: delete unused ones")]
    TooMany {
        /// What there are too many of.
        what: &'static str,
        /// The maximum.
        max: usize,
    },
    /// The file of the administrator token has one that is not valid.
    #[error("it holds no valid administrator token")]
    InvalidAdministratorToken,
    /// The file of the administrator token is missing.
    #[error("it is missing, although an administrator token was created before")]
    MissingAdministratorToken,
    /// One load run at a time.
    #[error("a load run is active already: wait for its end, or stop it")]
    LoadRunActive,
    /// No worker of another machine waits.
    #[error(
        "no worker that waits on another machine has the rights of this run: start one there with \
         `verax load worker`"
    )]
    NoJoinedWorkers,
    /// One recording of a namespace at a time.
    #[error("the traffic of the namespace is being recorded: wait for the end, or stop it")]
    RecordingActive,
    /// A recording that is not complete yet.
    #[error("recording {0} is still active: wait for its end, or stop it")]
    RecordingUnfinished(u64),
    /// A load run that has ended cannot be changed.
    #[error("the load run has ended")]
    LoadRunEnded,
    /// A run of the plan is active.
    #[error(
        "run {run} of this plan is active: wait for its end, stop it, or start with overlap join or queue"
    )]
    WarmRunActive {
        /// The run.
        run: u64,
    },
    /// A run of the plan waits already.
    #[error("run {run} of this plan waits already for the one before it")]
    WarmRunQueued {
        /// The run that waits.
        run: u64,
    },
    /// One drill at a time.
    #[error("a drill is active already: wait for its end")]
    DrillActive,
    /// The stand-in exists only on the demo.
    #[error("the stand-in belongs to the demo: start it with `verax demo`")]
    NoStandIn,
    /// Drills exist only on the demo.
    #[error("drills run on the demo: start it with `verax demo`")]
    NoDrills,
    /// The records belong to a later version, or to another process of this node.
    #[error(transparent)]
    Records(RecordsError),
}

/// Why the control plane is overloaded, or cannot do something yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Overload {
    /// There are too many sign-in links.
    #[error("too many sign-in links; retry later")]
    SignInLinks,
    /// There are too many sessions.
    #[error("too many sessions; retry later")]
    Sessions,
    /// The token has as many live streams as it may.
    #[error("this token has {max} open live streams, the maximum: close one")]
    Streams {
        /// The maximum.
        max: usize,
    },
    /// Memory is not divided while the service stops.
    #[error("the division was not worked out; try again")]
    Division,
    /// Too many load workers have joined.
    #[error("{max} load workers have joined, the maximum: end one")]
    LoadWorkers {
        /// The maximum.
        max: usize,
    },
    /// A run ended before it started.
    #[error("the run did not start; try again")]
    RunNotStarted,
    /// The service is still starting.
    #[error("the service is still starting")]
    Starting,
}

impl From<RecordsError> for ControlError {
    fn from(error: RecordsError) -> Self {
        match error {
            RecordsError::Exists(subject) => Self::Conflict(Conflict::Exists(subject)),
            RecordsError::InUse { subject, by } => Self::Conflict(Conflict::InUse { subject, by }),
            RecordsError::NotOwner => Self::Engine(EngineError::Standby),
            RecordsError::Missing(what) => InvalidInput::MissingRecord(what).into(),
            other => Self::RecordsUnavailable(other.to_string()),
        }
    }
}

impl From<InvalidInput> for ControlError {
    fn from(input: InvalidInput) -> Self {
        Self::Invalid(Box::new(input))
    }
}

impl ControlError {
    /// Converts an input error of a rule.
    pub(crate) fn invalid(error: impl Into<InvalidInput>) -> Self {
        error.into().into()
    }
}
