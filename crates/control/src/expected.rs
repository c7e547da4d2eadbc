//! Compare-and-set for administration: a change names the version that it is made to.

use verax_core::EntityTag;

/// Which versions of something a change may be made to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expected {
    /// Whatever is there.
    Any,
    /// One of those with these tags.
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
