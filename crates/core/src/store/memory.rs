//! What an allocation takes in memory.

/// From this size on, an allocation has its own pages.
const PAGED_FROM: usize = 128 << 10;

/// The bytes that an allocation of `bytes` takes with the system's allocator (glibc's malloc):
/// eight bytes of its own bookkeeping, rounded up to sixteen, at least 32; beyond 128 KiB whole
/// pages.
pub(crate) fn allocated(bytes: usize) -> u64 {
    let taken = if bytes < PAGED_FROM {
        (bytes + 8).next_multiple_of(16).max(32)
    } else {
        (bytes + 16).next_multiple_of(4_096)
    };
    taken as u64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, 32)]
    #[case(24, 32)]
    #[case(25, 48)]
    #[case(40, 48)]
    #[case(172, 192)]
    #[case((128 << 10) - 1, (128 << 10) + 16)]
    #[case(128 << 10, (128 << 10) + 4_096)]
    fn sizes_are_rounded_up_as_the_allocator_does(#[case] bytes: usize, #[case] taken: u64) {
        assert_eq!(allocated(bytes), taken);
    }
}
