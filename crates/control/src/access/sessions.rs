//! Console sessions, and the one-time codes that open them.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use verax_core::Timestamp;
use verax_engine::AccessSignal;

use super::tokens::{Caller, hash_of};

/// How long a session lasts.
pub(crate) const SESSION_LIFETIME: Duration = Duration::from_secs(12 * 3_600);

/// How long a sign-in code works.
pub(crate) const CODE_LIFETIME: Duration = Duration::from_secs(15 * 60);

/// The maximum number of sessions, and of codes, of one token: another one ends the oldest. A token
/// cannot displace the sessions of others.
const MAX_PER_TOKEN: usize = 20;

/// The maximum number of sessions and codes in total.
const MAX_IN_ALL: usize = 10_000;

/// A console session, or a code that opens one.
#[derive(Debug, Clone)]
pub struct ConsoleSession {
    /// Its number, which is no secret.
    pub(crate) id: u64,
    /// The caller that began it, as of then.
    pub(crate) caller: Arc<Caller>,
    /// When it expires.
    pub(crate) ends_at: Timestamp,
    /// When it began.
    pub(crate) started_at: Timestamp,
    /// Raised when it ends earlier.
    pub(crate) signal: AccessSignal,
    /// When it was last used, in milliseconds.
    used: Arc<AtomicU64>,
}

impl ConsoleSession {
    /// Its number, which is no secret.
    pub fn id(&self) -> u64 {
        self.id
    }

    /// When it was last used.
    pub(crate) fn last_used_at(&self) -> Timestamp {
        Timestamp::from_millis(self.used.load(Ordering::Relaxed))
    }

    /// Raised when it ends before it expires.
    pub fn signal(&self) -> &AccessSignal {
        &self.signal
    }

    /// How much longer it lasts.
    pub fn time_left(&self, now: Timestamp) -> Duration {
        self.ends_at.since(now)
    }
}

type Table = HashMap<[u8; 32], ConsoleSession>;

/// Sessions and codes, in memory only: a restart ends them.
#[derive(Debug, Default)]
pub struct Sessions {
    sessions: Mutex<Table>,
    codes: Mutex<Table>,
}

fn open(table: &Mutex<Table>) -> MutexGuard<'_, Table> {
    table.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Adds a session; `None` if there are too many in total.
fn add(
    table: &Mutex<Table>,
    caller: Arc<Caller>,
    ends_at: Timestamp,
    now: Timestamp,
) -> Option<String> {
    // 128 random bits: short enough for one line, and infeasible to guess within its lifetime.
    let secret = format!("{:032x}", rand::random::<u128>());
    let mut table = open(table);
    table.retain(|_, session| session.ends_at > now);
    let owner = caller.token().map(|token| token.hash);
    let own = |session: &ConsoleSession| session.caller.token().map(|t| t.hash) == owner;
    let owned = table.values().filter(|session| own(session)).count();
    if owned >= MAX_PER_TOKEN {
        let oldest = table.iter().filter(|(_, session)| own(session));
        let oldest = oldest.min_by_key(|(_, session)| session.ends_at).map(|(hash, _)| *hash);
        if let Some(ended) = oldest.and_then(|hash| table.remove(&hash)) {
            ended.signal.end();
        }
    }
    if table.len() >= MAX_IN_ALL {
        return None;
    }
    static LAST_ID: AtomicU64 = AtomicU64::new(0);
    let session = ConsoleSession {
        id: LAST_ID.fetch_add(1, Ordering::Relaxed) + 1,
        caller,
        ends_at,
        started_at: now,
        signal: AccessSignal::default(),
        used: Arc::new(AtomicU64::new(now.as_millis())),
    };
    table.insert(hash_of(&secret), session);
    Some(secret)
}

impl Sessions {
    /// Creates a code that opens one session for `caller`; `None` if there are too many.
    pub(crate) fn new_code(&self, caller: Arc<Caller>, now: Timestamp) -> Option<String> {
        add(&self.codes, caller, now + CODE_LIFETIME, now)
    }

    /// Consumes a code.
    pub(crate) fn use_code(&self, code: &str, now: Timestamp) -> Option<Arc<Caller>> {
        let code = open(&self.codes).remove(&hash_of(code))?;
        (now < code.ends_at).then_some(code.caller)
    }

    /// Starts a session; returns its secret, or `None` when there are too many.
    pub(crate) fn start(&self, caller: Arc<Caller>, now: Timestamp) -> Option<String> {
        add(&self.sessions, caller, now + SESSION_LIFETIME, now)
    }

    /// A session that has not ended.
    pub(crate) fn get(&self, session: &str, now: Timestamp) -> Option<ConsoleSession> {
        let table = open(&self.sessions);
        let found = table.get(&hash_of(session)).filter(|session| now < session.ends_at)?;
        found.used.store(now.as_millis(), Ordering::Relaxed);
        Some(found.clone())
    }

    /// The sessions that have not ended, oldest first.
    pub(crate) fn all(&self, now: Timestamp) -> Vec<ConsoleSession> {
        let table = open(&self.sessions);
        let mut all: Vec<_> = table.values().filter(|s| now < s.ends_at).cloned().collect();
        all.sort_by_key(|session| session.id);
        all
    }

    /// Ends a session by its number; returns whether there was one.
    pub(crate) fn end_by_id(&self, id: u64) -> bool {
        let mut table = open(&self.sessions);
        let found = table.iter().find(|(_, session)| session.id == id).map(|(hash, _)| *hash);
        let ended = found.and_then(|hash| table.remove(&hash));
        ended.as_ref().inspect(|session| session.signal.end()).is_some()
    }

    /// Ends a session.
    pub(crate) fn end(&self, session: &str) {
        if let Some(ended) = open(&self.sessions).remove(&hash_of(session)) {
            ended.signal.end();
        }
    }
}

#[cfg(test)]
mod tests {
    use verax_records::TokenRecord;

    use super::*;
    use crate::access::TokenTable;

    fn holder(id: u8) -> Arc<Caller> {
        let tokens = TokenTable::default();
        let created_at = Timestamp::from_millis(0);
        tokens.add(&TokenRecord {
            id: u64::from(id),
            hash: [id; 32],
            scopes: "admin".into(),
            note: String::new(),
            created_at,
            revoked_at: None,
            expires_at: None,
            last_used_at: None,
        });
        tokens.by_hash(&[id; 32]).unwrap()
    }

    #[test]
    fn a_sign_in_code_works_once_and_expires() {
        let sessions = Sessions::default();
        let at = Timestamp::from_millis;
        let code = sessions.new_code(holder(1), at(0)).unwrap();
        assert!(sessions.use_code(&code, at(1)).is_some());
        assert!(sessions.use_code(&code, at(2)).is_none());
        let late = sessions.new_code(holder(1), at(0)).unwrap();
        assert!(sessions.use_code(&late, at(0) + CODE_LIFETIME).is_none());
    }

    #[test]
    fn sessions_end_at_sign_out_and_at_expiry() {
        let sessions = Sessions::default();
        let at = Timestamp::from_millis;
        let first = sessions.start(holder(1), at(0)).unwrap();
        let begun = sessions.get(&first, at(1)).unwrap();
        assert!(!begun.signal.has_ended());
        sessions.end(&first);
        assert!(sessions.get(&first, at(1)).is_none() && begun.signal.has_ended());
        let other = sessions.start(holder(1), at(5)).unwrap();
        let listed = sessions.all(at(6));
        assert_eq!((listed.len(), listed[0].started_at), (1, at(5)));
        sessions.get(&other, at(9)).unwrap();
        assert_eq!(sessions.all(at(9))[0].last_used_at(), at(9));
        assert!(sessions.end_by_id(listed[0].id) && !sessions.end_by_id(listed[0].id));
        assert!(sessions.get(&other, at(9)).is_none() && listed[0].signal.has_ended());
        let second = sessions.start(holder(1), at(0)).unwrap();
        assert!(sessions.get(&second, at(0) + SESSION_LIFETIME).is_none());
    }

    #[test]
    fn sessions_of_a_token_evict_only_each_other() {
        let sessions = Sessions::default();
        let at = Timestamp::from_millis;
        let others = sessions.start(holder(1), at(0)).unwrap();
        let own: Vec<String> = (0..=MAX_PER_TOKEN as u64)
            .map(|n| sessions.start(holder(2), at(1 + n)).unwrap())
            .collect();
        assert!(sessions.get(&others, at(100)).is_some());
        assert!(sessions.get(&own[0], at(100)).is_none(), "the oldest of its own ended");
        assert!(own[1..].iter().all(|secret| sessions.get(secret, at(100)).is_some()));
        for id in 3..=255u8 {
            (0..MAX_PER_TOKEN).for_each(|_| drop(sessions.start(holder(id), at(200))));
        }
        assert!(sessions.get(&others, at(300)).is_some());
        assert!(open(&sessions.sessions).len() <= MAX_IN_ALL);
    }
}
