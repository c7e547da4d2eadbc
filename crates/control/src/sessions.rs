//! Console sessions and sign-in links.

use std::sync::Arc;

use verax_api::{Session, SignInLink};
use verax_core::access::Scope;

use crate::access::{CODE_LIFETIME, Caller, ConsoleSession};
use crate::control::Control;
use crate::error::{ControlError, Overload};

const SESSION_ENDED: &str = "the session has ended: sign in again";

impl Control {
    /// Creates a one-time link that signs its opener in as this caller.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`] if the caller's access has ended;
    /// [`ControlError::Overloaded`].
    pub fn sign_in_link(&self, caller: &Arc<Caller>) -> Result<SignInLink, ControlError> {
        caller.still_open()?;
        let code = self.sessions.new_code(Arc::clone(caller), self.engine.now());
        let code = code.ok_or(Overload::SignInLinks)?;
        let seconds = CODE_LIFETIME.as_secs();
        // In the fragment, which browsers never send to a server.
        Ok(SignInLink { path: format!("/sign-in#{code}"), seconds })
    }

    /// Starts a console session with a code or a token; returns its secret.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`], [`ControlError::Overloaded`].
    pub fn start_session(
        &self,
        by: &verax_api::CreateSession,
    ) -> Result<(String, Session), ControlError> {
        let now = self.engine.now();
        let caller = match by {
            verax_api::CreateSession::Token(token) => self.tokens.caller(token)?,
            verax_api::CreateSession::Code(code) => {
                let caller = self.sessions.use_code(code, now).ok_or(ControlError::NotSignedIn(
                    "this sign-in link was used or has expired: create a new one with `verax sign-in`, or paste a token",
                ))?;
                self.current(&caller)?
            }
        };
        let session = session_of(&caller);
        let secret = self.sessions.start(caller, now);
        Ok((secret.ok_or(Overload::Sessions)?, session))
    }

    /// What the caller's token opens now.
    fn current(&self, caller: &Arc<Caller>) -> Result<Arc<Caller>, ControlError> {
        match caller.token() {
            None => Ok(Arc::clone(caller)),
            Some(token) => {
                self.tokens.by_hash(&token.hash).ok_or(ControlError::NotSignedIn(SESSION_ENDED))
            }
        }
    }

    /// The caller of a session, and the session. It ends with the token it was begun with.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`].
    pub fn session_caller(
        &self,
        secret: &str,
    ) -> Result<(Arc<Caller>, ConsoleSession), ControlError> {
        let session = self.sessions.get(secret, self.engine.now());
        let session = session.ok_or(ControlError::NotSignedIn(SESSION_ENDED))?;
        Ok((self.current(&session.caller)?, session))
    }

    /// Ends a session.
    pub fn end_session(&self, secret: &str) {
        self.sessions.end(secret);
    }

    /// The caller with a token.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`].
    pub fn token_caller(&self, secret: &str) -> Result<Arc<Caller>, ControlError> {
        self.tokens.caller(secret)
    }
}

/// A caller's session, for the API.
pub fn session_of(caller: &Caller) -> Session {
    let scopes = caller.scopes().iter().map(Scope::to_string).collect();
    Session { who: caller.display_name().to_owned(), scopes }
}
