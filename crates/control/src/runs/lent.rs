//! Tokens that runs read with.

use std::sync::Arc;

use verax_core::access::Scope;

use crate::access::Caller;
use crate::control::Control;

/// A token lent to a run and revoked on drop, however the run ends.
pub(super) struct LentToken {
    control: Arc<Control>,
    pub(super) token: String,
}

impl LentToken {
    /// Lends a token with these scopes.
    pub(super) fn lend(control: &Arc<Control>, who: &str, scopes: Vec<Scope>) -> Self {
        let token = control.tokens.lend(Caller::service(who, scopes));
        Self { control: Arc::clone(control), token }
    }
}

impl Drop for LentToken {
    fn drop(&mut self) {
        self.control.tokens.take_back(&self.token);
        self.control.access_changed();
    }
}
