//! A namespace's identity, policy, and origin.

use std::sync::Arc;

use verax_core::{Name, NamespaceId, NamespacePolicy};
use verax_origin::Origin;

/// Identifies a namespace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamespaceIdentity {
    /// Its identifier, which is never reused.
    pub id: NamespaceId,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
}

/// A policy and the origin it reads through, which change together.
#[derive(Debug)]
pub struct Binding {
    /// The policy.
    pub policy: NamespacePolicy,
    /// The origin that the policy names.
    pub origin: Option<Arc<Origin>>,
}
