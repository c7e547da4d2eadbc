//! Console sessions, and the one-time codes that open them.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use verax_core::Timestamp;

use super::tokens::{Caller, hash_of};

/// How long a session lasts.
const SESSION: Duration = Duration::from_secs(12 * 3_600);

/// How long a sign-in code works.
pub(crate) const CODE: Duration = Duration::from_secs(15 * 60);

/// The most sessions and codes kept; the oldest end first.
const MOST: usize = 1_000;

type Table = HashMap<[u8; 32], (Arc<Caller>, Timestamp)>;

/// Sessions and codes, in memory alone: a restart ends them.
#[derive(Debug, Default)]
pub struct Sessions {
    sessions: Mutex<Table>,
    codes: Mutex<Table>,
}

fn open(table: &Mutex<Table>) -> MutexGuard<'_, Table> {
    table.lock().unwrap_or_else(PoisonError::into_inner)
}

fn add(table: &Mutex<Table>, caller: Arc<Caller>, ends_at: Timestamp, now: Timestamp) -> String {
    // 128 random bits: short enough for a line, long enough for its quarter of an hour or half a day.
    let secret = format!("{:032x}", rand::random::<u128>());
    let mut table = open(table);
    table.retain(|_, (_, ends)| *ends > now);
    if table.len() >= MOST
        && let Some(first) = table.iter().min_by_key(|(_, (_, ends))| *ends).map(|(hash, _)| *hash)
    {
        table.remove(&first);
    }
    table.insert(hash_of(&secret), (caller, ends_at));
    secret
}

impl Sessions {
    /// A code that opens one session for `caller`.
    pub(crate) fn new_code(&self, caller: Arc<Caller>, now: Timestamp) -> String {
        add(&self.codes, caller, now + CODE, now)
    }

    /// Uses a code up.
    pub(crate) fn use_code(&self, code: &str, now: Timestamp) -> Option<Arc<Caller>> {
        let (caller, ends_at) = open(&self.codes).remove(&hash_of(code))?;
        (now < ends_at).then_some(caller)
    }

    /// Starts a session; returns its secret.
    pub(crate) fn start(&self, caller: Arc<Caller>, now: Timestamp) -> String {
        add(&self.sessions, caller, now + SESSION, now)
    }

    /// Whoever a session belongs to.
    pub(crate) fn caller(&self, session: &str, now: Timestamp) -> Option<Arc<Caller>> {
        let table = open(&self.sessions);
        let (caller, ends_at) = table.get(&hash_of(session))?;
        (now < *ends_at).then(|| Arc::clone(caller))
    }

    /// Ends a session.
    pub(crate) fn end(&self, session: &str) {
        open(&self.sessions).remove(&hash_of(session));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::Scope;

    fn caller() -> Arc<Caller> {
        Arc::new(Caller::service("test", vec![Scope::Admin]))
    }

    #[test]
    fn a_code_works_once_and_not_for_ever() {
        let sessions = Sessions::default();
        let at = Timestamp::from_millis;
        let code = sessions.new_code(caller(), at(0));
        assert!(sessions.use_code(&code, at(1)).is_some());
        assert!(sessions.use_code(&code, at(2)).is_none());
        let late = sessions.new_code(caller(), at(0));
        assert!(sessions.use_code(&late, at(0) + CODE).is_none());
    }

    #[test]
    fn sessions_end_by_sign_out_by_time_and_by_number() {
        let sessions = Sessions::default();
        let at = Timestamp::from_millis;
        let first = sessions.start(caller(), at(0));
        assert!(sessions.caller(&first, at(1)).is_some());
        sessions.end(&first);
        assert!(sessions.caller(&first, at(1)).is_none());
        let second = sessions.start(caller(), at(0));
        assert!(sessions.caller(&second, at(0) + SESSION).is_none());
        (0..MOST as u64).for_each(|n| drop(sessions.start(caller(), at(1 + n))));
        assert!(sessions.caller(&second, at(2_000)).is_none());
        assert_eq!(open(&sessions.sessions).len(), MOST);
    }
}
