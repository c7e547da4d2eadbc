//! Limits on the records that are also kept in memory.

use verax_core::tenant_quota;

use crate::error::{Conflict, ControlError};

/// The maximum number of tenants.
pub const MAX_TENANTS: usize = 10_000;

/// The maximum number of namespaces of one tenant.
pub const MAX_NAMESPACES: usize = tenant_quota::MAX_NAMESPACES as usize;

/// The maximum number of origins of one tenant.
pub const MAX_ORIGINS: usize = 1_000;

/// The maximum number of valid tokens.
pub const MAX_TOKENS: usize = 100_000;

/// Fails at the limit.
///
/// # Errors
/// [`ControlError::Conflict`].
pub(crate) fn check(what: &'static str, there: usize, most: usize) -> Result<(), ControlError> {
    if there < most {
        return Ok(());
    }
    Err(Conflict::TooMany { what, max: most }.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_allowed_one_is_admitted_and_one_more_is_refused() {
        assert_eq!(check("tenants", MAX_TENANTS - 1, MAX_TENANTS), Ok(()));
        let refused = check("tenants", MAX_TENANTS, MAX_TENANTS).unwrap_err();
        assert!(refused.to_string().contains("10000 tenants"), "{refused}");
    }
}
