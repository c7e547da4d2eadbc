//! The interface of a policy under test.

/// A cache under test.
pub(crate) trait Policy {
    /// One request for `key`, whose value takes `size` bytes: whether it was a hit. After a miss
    /// the value is stored, unless it is larger than the whole cache.
    fn request(&mut self, key: u64, size: u32) -> bool;
}
