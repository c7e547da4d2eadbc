//! What a namespace is bound to: its identity, its policy, and its origin.

use std::sync::Arc;

use verax_core::{Name, NamespaceId, NamespacePolicy};
use verax_origin::Origin;

/// Which namespace it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamespaceIdentity {
    /// Its identity, which no other namespace ever has.
    pub id: NamespaceId,
    /// The tenant that owns it.
    pub tenant: Name,
    /// Its name within the tenant.
    pub name: Name,
}

/// A policy and the origin it reads through to, which change together.
#[derive(Debug)]
pub struct Binding {
    /// The policy.
    pub policy: NamespacePolicy,
    /// The origin that the policy names.
    pub origin: Option<Arc<Origin>>,
}
