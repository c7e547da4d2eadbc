//! Compare-and-set for administration: a change names the version it applies to.

use verax_core::EntityTag;

/// The versions a change may apply to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expected {
    /// Any version.
    Any,
    /// A version with one of these entity tags.
    OneOf(Vec<EntityTag>),
}

impl Expected {
    pub(crate) fn includes(&self, tag: EntityTag) -> bool {
        match self {
            Self::Any => true,
            Self::OneOf(tags) => tags.contains(&tag),
        }
    }
}
