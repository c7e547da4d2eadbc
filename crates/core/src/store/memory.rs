//! What an allocation takes in memory.

/// The bytes that an allocator hands out for a request of `bytes`: sizes are rounded up to classes,
/// four to each doubling. The allocator that the `verax` binary is built with rounds this way; its
/// own bookkeeping is within the margin that docs/operations.md names.
pub(crate) fn allocated(bytes: usize) -> u64 {
    if bytes <= 64 {
        return bytes.next_multiple_of(8).max(8) as u64;
    }
    // Beyond what classes cover, memory comes in pages.
    if bytes > 4 << 20 {
        return bytes.next_multiple_of(64 << 10) as u64;
    }
    let step = 1 << ((bytes - 1).ilog2() - 2);
    bytes.next_multiple_of(step) as u64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, 8)]
    #[case(12, 16)]
    #[case(64, 64)]
    #[case(65, 80)]
    #[case(129, 160)]
    #[case(172, 192)]
    #[case(256, 256)]
    #[case(257, 320)]
    #[case((4 << 20) + 1, (4 << 20) + (64 << 10))]
    fn sizes_are_rounded_up_to_classes(#[case] bytes: usize, #[case] taken: u64) {
        assert_eq!(allocated(bytes), taken);
    }
}
