//! Compare-and-set for administration: a change names the version it applies to.

use verax_core::EntityTag;

/// The versions a change may apply to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expected {
    /// Any version.
    Any,
    /// A version with one of these entity tags.
    OneOf(Vec<EntityTag>),
    /// Any version, but it must exist.
    Present,
    /// None: it must not exist.
    Absent,
}

impl Expected {
    pub(crate) fn includes(&self, tag: EntityTag) -> bool {
        match self {
            Self::Any | Self::Present => true,
            Self::OneOf(tags) => tags.contains(&tag),
            Self::Absent => false,
        }
    }

    /// Whether it names what is there, which may be nothing.
    pub(crate) fn includes_present(&self, tag: Option<EntityTag>) -> bool {
        match (self, tag) {
            (Self::Any, _) | (Self::Absent, None) => true,
            (_, Some(tag)) => self.includes(tag),
            (Self::OneOf(_) | Self::Present, None) => false,
        }
    }
}
