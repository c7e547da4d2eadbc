//! Tokens in memory, known by their hashes.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock, RwLockWriteGuard};

use sha2::{Digest, Sha256};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use verax_core::Name;
use verax_core::access::{Right, Scope};
use verax_core::guard::lock::AccessId;
use verax_engine::{AccessSignal, EngineError, LeasedBy, Namespace};
use verax_records::{Actor, TokenRecord};

use crate::error::ControlError;

/// Whoever makes a call, and what they may do.
#[derive(Debug, Clone)]
pub struct Caller {
    who: String,
    scopes: Vec<Scope>,
    token: Option<TokenIdentity>,
    signal: AccessSignal,
    streams: Arc<Semaphore>,
}

/// The most live streams of one token, with the sessions that were begun with it.
const MAX_STREAMS: usize = 32;

/// A live stream of a caller, counted for as long as this is kept.
#[derive(Debug)]
pub struct OpenStream(
    #[allow(dead_code, reason = "it counts until it is dropped")] OwnedSemaphorePermit,
);

/// What a token is known by. The hash is the identity: numbers may come again when a dump of the
/// records is restored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct TokenIdentity {
    pub(crate) id: u64,
    pub(crate) hash: [u8; 32],
}

impl Caller {
    /// The caller that holds a token.
    fn of(record: &TokenRecord) -> Self {
        let note =
            if record.note.is_empty() { String::new() } else { format!(" ({})", record.note) };
        Self {
            who: format!("token {}{note}", record.id),
            // Scopes are checked when a token is created, so what does not parse opens nothing.
            scopes: record.scopes.split_whitespace().filter_map(|s| s.parse().ok()).collect(),
            token: Some(TokenIdentity { id: record.id, hash: record.hash }),
            signal: AccessSignal::default(),
            streams: Arc::new(Semaphore::new(MAX_STREAMS)),
        }
    }

    /// Whether it is what a record says.
    fn is_of(&self, record: &TokenRecord) -> bool {
        let now = Self::of(record);
        (&now.who, &now.scopes, now.token) == (&self.who, &self.scopes, self.token)
    }

    /// The service itself, with some scopes.
    pub fn service(what: &str, scopes: Vec<Scope>) -> Self {
        let (signal, streams) = (AccessSignal::default(), Arc::new(Semaphore::new(MAX_STREAMS)));
        Self { who: what.to_owned(), scopes, token: None, signal, streams }
    }

    /// Who it is, in words.
    pub fn who(&self) -> &str {
        &self.who
    }

    /// What it may do.
    pub fn scopes(&self) -> &[Scope] {
        &self.scopes
    }

    /// The token it holds.
    pub(crate) fn token(&self) -> Option<TokenIdentity> {
        self.token
    }

    /// By which what it holds can be withdrawn.
    pub fn access(&self) -> Option<LeasedBy> {
        self.token.map(|token| LeasedBy { id: AccessId(token.id), signal: self.signal.clone() })
    }

    /// Opens a live stream.
    ///
    /// # Errors
    /// [`ControlError::Busy`] when it has as many as it may.
    pub fn open_stream(&self) -> Result<OpenStream, ControlError> {
        let opened = Arc::clone(&self.streams).try_acquire_owned();
        opened.map(OpenStream).map_err(|_| {
            ControlError::Busy("this token has 32 open live streams, the maximum: close one")
        })
    }

    /// Tells when its access ends.
    pub fn signal(&self) -> &AccessSignal {
        &self.signal
    }

    /// Whether it may do everything.
    pub fn is_admin(&self) -> bool {
        self.scopes.contains(&Scope::Admin)
    }

    /// Whether it holds a scope.
    pub fn holds(&self, needed: &Scope) -> bool {
        self.scopes.iter().any(|held| held.covers(needed))
    }

    /// Refuses unless it holds a scope.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`] names the scope.
    pub fn needs(&self, needed: Scope) -> Result<(), ControlError> {
        self.still_open()?;
        if self.holds(&needed) { Ok(()) } else { Err(ControlError::MissingScope(needed)) }
    }

    /// Refuses when its access has ended since it was let in.
    ///
    /// # Errors
    /// [`EngineError::AccessEnded`].
    pub fn still_open(&self) -> Result<(), ControlError> {
        match self.signal.has_ended() {
            false => Ok(()),
            true => Err(EngineError::AccessEnded.into()),
        }
    }

    /// Whether it holds a right within one namespace.
    pub(crate) fn holds_within(&self, right: Right, tenant: &str, namespace: &str) -> bool {
        self.scopes.iter().any(|scope| match scope {
            Scope::Admin => true,
            Scope::Within { right: held, tenant: of, namespace: within } => {
                *held == right
                    && of.as_str() == tenant
                    && within.as_ref().is_none_or(|within| within.as_str() == namespace)
            }
        })
    }

    /// [`needs`](Self::needs) for a right within one namespace, without making a scope when it
    /// holds.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`] names the scope.
    pub fn needs_within(
        &self,
        right: Right,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<(), ControlError> {
        match self.holds_within(right, tenant.as_str(), namespace.as_str()) {
            true => Ok(()),
            false => Err(ControlError::MissingScope(Scope::within(right, tenant, namespace))),
        }
    }

    /// Whether it may see a namespace and its statistics.
    pub fn sees(&self, namespace: &Namespace) -> bool {
        let (tenant, name) = (namespace.tenant(), namespace.name());
        [Right::Read, Right::Manage]
            .into_iter()
            .any(|right| self.holds_within(right, tenant.as_str(), name.as_str()))
    }

    /// How its changes are remembered.
    pub(crate) fn actor(&self) -> Actor {
        Actor::new(self.who.clone())
    }
}

/// The SHA-256 of a token.
///
/// Tokens are 256 random bits, so a plain hash cannot be searched, and looking a hash up in a map
/// tells a guesser nothing through timing: the guesser does not choose hashes.
pub fn hash_of(secret: &str) -> [u8; 32] {
    Sha256::digest(secret.as_bytes()).into()
}

/// A new token: 256 random bits, in 64 hexadecimal digits behind a mark to recognise leaked ones
/// by.
pub fn new_secret() -> String {
    let bytes: [u8; 32] = rand::random();
    let hex: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
    format!("verax-token-{hex}")
}

/// All tokens that open something.
#[derive(Debug, Default)]
pub struct TokenTable {
    by_hash: RwLock<HashMap<[u8; 32], Arc<Caller>>>,
}

impl TokenTable {
    fn write(&self) -> RwLockWriteGuard<'_, HashMap<[u8; 32], Arc<Caller>>> {
        self.by_hash.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a token in.
    pub(crate) fn add(&self, record: &TokenRecord) {
        self.write().insert(record.hash, Arc::new(Caller::of(record)));
    }

    /// Makes the tokens in the records be those that are known. Access that is no longer there, or
    /// has become another, ends; what stays the same goes on. Lent tokens are left alone. Returns
    /// the identities of tokens that open nothing any more.
    pub(crate) fn replace_all(&self, records: &[TokenRecord]) -> Vec<u64> {
        let open: HashMap<[u8; 32], &TokenRecord> =
            records.iter().filter(|r| r.revoked_at.is_none()).map(|r| (r.hash, r)).collect();
        let mut table = self.write();
        let mut ended = Vec::new();
        table.retain(|hash, caller| {
            let stays = caller.token().is_none()
                || open.get(hash).is_some_and(|record| caller.is_of(record));
            if !stays {
                caller.signal.end();
                let gone = caller.token().filter(|_| !open.contains_key(hash));
                ended.extend(gone.map(|token| token.id));
            }
            stays
        });
        for (hash, record) in open {
            table.entry(hash).or_insert_with(|| Arc::new(Caller::of(record)));
        }
        ended
    }

    /// Gives the service itself a token that lives in memory alone; returns its secret.
    pub(crate) fn lend(&self, caller: Caller) -> String {
        let secret = new_secret();
        self.write().insert(hash_of(&secret), Arc::new(caller));
        secret
    }

    /// Ends a token that was lent.
    pub(crate) fn take_back(&self, secret: &str) {
        if let Some(caller) = self.write().remove(&hash_of(secret)) {
            caller.signal.end();
        }
    }

    /// Ends a token, and everything that was begun with it.
    pub(crate) fn revoke(&self, id: u64) {
        self.write().retain(|_, caller| {
            let ends = caller.token().is_some_and(|token| token.id == id);
            if ends {
                caller.signal.end();
            }
            !ends
        });
    }

    /// Withdraws the scopes within a tenant or namespace that was deleted. Access that was begun
    /// with them ends; a token that is left with none is no longer known.
    pub(crate) fn withdraw(&self, tenant: &Name, namespace: Option<&Name>) {
        let gone = |scope: &Scope| match scope {
            Scope::Admin => false,
            Scope::Within { tenant: of, namespace: within, .. } => {
                of == tenant && namespace.is_none_or(|gone| within.as_ref() == Some(gone))
            }
        };
        self.write().retain(|_, caller| {
            if !caller.scopes.iter().any(gone) {
                return true;
            }
            caller.signal.end();
            let scopes: Vec<Scope> =
                caller.scopes.iter().filter(|scope| !gone(scope)).cloned().collect();
            let left = Caller { scopes, signal: AccessSignal::default(), ..Caller::clone(caller) };
            *caller = Arc::new(left);
            !caller.scopes.is_empty()
        });
    }

    /// Whether any token opens everything.
    pub(crate) fn any_admin(&self) -> bool {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().any(|caller| caller.token().is_some() && caller.is_admin())
    }

    /// How many tokens there are, without those that are lent.
    pub(crate) fn count(&self) -> usize {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().filter(|caller| caller.token().is_some()).count()
    }

    /// The largest identity of a token.
    pub(crate) fn latest(&self) -> u64 {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().filter_map(|caller| Some(caller.token()?.id)).max().unwrap_or(0)
    }

    /// Whoever holds this token.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`] when it is unknown or revoked, which are not told apart.
    pub fn caller(&self, secret: &str) -> Result<Arc<Caller>, ControlError> {
        self.by_hash
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .get(&hash_of(secret))
            .cloned()
            .ok_or(ControlError::NotSignedIn(
                "this token is unknown or revoked: check VERAX_TOKEN, or get a new token",
            ))
    }

    /// Whoever holds the token with a hash now.
    pub(crate) fn by_hash(&self, hash: &[u8; 32]) -> Option<Arc<Caller>> {
        self.by_hash.read().unwrap_or_else(PoisonError::into_inner).get(hash).cloned()
    }
}
