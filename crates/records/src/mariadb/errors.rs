//! Errors of Diesel as errors of the records.

use diesel::result::{DatabaseErrorKind, Error};

use crate::error::RecordsError;

impl From<Error> for RecordsError {
    fn from(error: Error) -> Self {
        Self::Unavailable(error.to_string())
    }
}

impl RecordsError {
    /// Whether MariaDB responded, so that the connection can be reused.
    pub(crate) fn is_answer(&self) -> bool {
        match self {
            Self::Exists(_) | Self::Missing(_) | Self::InUse { .. } | Self::Unreadable(_) => true,
            Self::Unavailable(_)
            | Self::SameNode(_)
            | Self::NotOwner
            | Self::NewerSchema { .. } => false,
        }
    }

    /// Interprets a database error of creating or deleting `subject`.
    pub(crate) fn of(subject: impl Into<String>, error: Error, used_by: &'static str) -> Self {
        match error {
            Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => {
                Self::Exists(subject.into())
            }
            Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => {
                Self::InUse { subject: subject.into(), by: used_by }
            }
            Error::NotFound => Self::Missing(subject.into()),
            other => other.into(),
        }
    }
}
