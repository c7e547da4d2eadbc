//! Configures the system's allocator for a process that frees much memory.

/// Makes the system's allocator merge freed memory immediately. The GNU allocator otherwise keeps
/// small chunks aside, and merges all of them at the next large allocation or free: after a million
/// entries have been freed, that one call takes 15 ms, under whatever lock its caller holds. Call
/// it once, at the start of the process, before there are other threads; without the GNU C library
/// it has no effect.
pub fn set_up_allocator() {
    #[cfg(target_env = "gnu")]
    #[allow(unsafe_code)]
    // SAFETY: mallopt(3) reads its two numbers and changes a setting of the allocator, which it
    // allows at any time; it takes the allocator's own lock meanwhile. No memory of ours is
    // touched.
    let _ = unsafe { libc::mallopt(libc::M_MXFAST, 0) };
}
