//! Console sessions and sign-in links.

use std::sync::Arc;

use verax_api::{LiveSession, Session, SignInLink, moment};
use verax_core::access::Scope;

use crate::access::{CODE_LIFETIME, Caller, ConsoleSession, TokenIdentity};
use crate::control::Control;
use crate::error::{ControlError, Overload};
use crate::subject::Subject;

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

    /// The live sessions that a caller may end: all of them for an administrator, else those of its
    /// own token. `own` is the session of the call.
    pub fn sessions(&self, caller: &Caller, own: Option<u64>) -> Vec<LiveSession> {
        let visible =
            self.sessions.all(self.engine.now()).into_iter().filter(|session| {
                may_end(caller, session) && self.current(&session.caller).is_ok()
            });
        visible.map(|session| live_session(&session, own)).collect()
    }

    /// Ends another session, with everything that was begun in it.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see the session.
    pub async fn end_session_by_id(&self, caller: &Caller, id: u64) -> Result<(), ControlError> {
        caller.still_open()?;
        let unknown = || ControlError::Unknown(Subject::Session(id));
        let all = self.sessions.all(self.engine.now());
        let found = all.into_iter().find(|session| session.id == id && may_end(caller, session));
        let found = found.ok_or_else(unknown)?;
        if !self.sessions.end_by_id(id) {
            return Err(unknown());
        }
        let detail = serde_json::json!({ "of": found.caller.display_name() });
        self.note_for(caller, None, "session.end", format!("session {id}"), detail).await;
        Ok(())
    }

    /// The caller with a token.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`].
    pub fn token_caller(&self, secret: &str) -> Result<Arc<Caller>, ControlError> {
        self.tokens.caller(secret)
    }
}

/// Whether a caller may see and end a session.
fn may_end(caller: &Caller, session: &ConsoleSession) -> bool {
    let same = |token: TokenIdentity| session.caller.token() == Some(token);
    caller.is_admin() || caller.token().is_some_and(same)
}

fn live_session(session: &ConsoleSession, own: Option<u64>) -> LiveSession {
    LiveSession {
        id: session.id,
        who: session.caller.display_name().to_owned(),
        token: session.caller.token().map(|token| token.id),
        scopes: session.caller.scopes().iter().map(Scope::to_string).collect(),
        started_at: moment(session.started_at),
        last_used_at: moment(session.last_used_at()),
        ends_at: moment(session.ends_at),
        is_own: own == Some(session.id),
    }
}

/// A caller's session, for the API.
pub fn session_of(caller: &Caller) -> Session {
    let scopes = caller.scopes().iter().map(Scope::to_string).collect();
    Session { who: caller.display_name().to_owned(), scopes }
}
