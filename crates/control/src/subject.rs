//! What calls are about, for messages.

use std::fmt;

/// The subject of a call, for messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// A tenant, by name.
    Tenant(String),
    /// A namespace, as tenant/namespace.
    Namespace(String),
    /// An origin, as tenant/origin.
    Origin(String),
    /// A token, by identifier.
    Token(u64),
    /// A load profile, by name.
    Profile(String),
    /// A warm plan, as tenant/plan.
    WarmPlan(String),
    /// A schedule, as tenant/schedule.
    Schedule(String),
    /// A run, by identifier.
    Run(u64),
    /// A recording of traffic, by identifier.
    Recording(u64),
    /// A console session, by number.
    Session(u64),
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Tenant(name) => write!(f, "tenant {name}"),
            Self::Namespace(name) => write!(f, "namespace {name}"),
            Self::Origin(name) => write!(f, "origin {name}"),
            Self::Token(id) => write!(f, "token {id}"),
            Self::Profile(name) => write!(f, "load profile {name}"),
            Self::WarmPlan(name) => write!(f, "warm plan {name}"),
            Self::Schedule(name) => write!(f, "schedule {name}"),
            Self::Run(id) => write!(f, "run {id}"),
            Self::Recording(id) => write!(f, "recording {id}"),
            Self::Session(id) => write!(f, "session {id}"),
        }
    }
}
