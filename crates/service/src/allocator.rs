//! How the system's allocator works for a process that frees much.

/// Has the system's allocator join what is freed at once. The GNU one puts small pieces aside
/// instead, and joins all of them when it next takes or frees a large one: after a million entries
/// have gone, that one call takes 15 ms, under whatever lock its caller holds. To be called once,
/// at the start of the process, before it has further threads; elsewhere than with the GNU C
/// library it does nothing.
pub fn set_up_allocator() {
    #[cfg(target_env = "gnu")]
    #[allow(unsafe_code)]
    // SAFETY: mallopt(3) reads its two numbers and changes a setting of the allocator, which it
    // allows at any time; it takes the allocator's own lock meanwhile. No memory of ours is
    // touched.
    let _ = unsafe { libc::mallopt(libc::M_MXFAST, 0) };
}
