//! Tokens in memory, known by their hashes.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, PoisonError, RwLock, RwLockWriteGuard};

use sha2::{Digest, Sha256};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use verax_core::access::{Right, Scope};
use verax_core::guard::lock::AccessId;
use verax_core::{Name, Timestamp};
use verax_engine::{AccessSignal, EngineError, LeasedBy, Namespace};
use verax_records::{Actor, TokenRecord};

use crate::error::{ControlError, Overload};

/// The caller of an operation and its scopes.
#[derive(Debug, Clone)]
pub struct Caller {
    who: String,
    scopes: Vec<Scope>,
    token: Option<TokenIdentity>,
    signal: AccessSignal,
    streams: Arc<Semaphore>,
    times: Arc<TokenTimes>,
}

/// When a token ends by itself, and whether it was used.
#[derive(Debug)]
struct TokenTimes {
    /// In milliseconds; [`NEVER`] if it does not.
    expires_at: AtomicU64,
    was_used: AtomicBool,
    /// In milliseconds; 0 if it is not known.
    last_used_at: AtomicU64,
}

const NEVER: u64 = u64::MAX;

impl TokenTimes {
    fn of(expires_at: Option<Timestamp>, last_used_at: Option<Timestamp>) -> Self {
        Self {
            expires_at: AtomicU64::new(expires_at.map_or(NEVER, Timestamp::as_millis)),
            was_used: AtomicBool::new(false),
            last_used_at: AtomicU64::new(last_used_at.map_or(0, Timestamp::as_millis)),
        }
    }
}

/// The maximum number of live streams of one token, including those of its sessions.
const MAX_STREAMS: usize = 32;

/// A live stream of a caller, counted until it is dropped.
#[derive(Debug)]
pub struct OpenStream(
    #[allow(dead_code, reason = "it counts until it is dropped")] OwnedSemaphorePermit,
);

/// Identifies a token. The hash is its identity: identifiers may repeat when a dump of the records
/// is restored.
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
            // Scopes are validated when a token is created, so one that does not parse opens
            // nothing.
            scopes: record.scopes.split_whitespace().filter_map(|s| s.parse().ok()).collect(),
            token: Some(TokenIdentity { id: record.id, hash: record.hash }),
            signal: AccessSignal::default(),
            streams: Arc::new(Semaphore::new(MAX_STREAMS)),
            times: Arc::new(TokenTimes::of(record.expires_at, record.last_used_at)),
        }
    }

    /// Notes that its token is in use. Cheap: it is written down later.
    pub fn note_use(&self) {
        if !self.times.was_used.load(Ordering::Relaxed) {
            self.times.was_used.store(true, Ordering::Relaxed);
        }
    }

    fn set_expiry(&self, moment: Option<Timestamp>) {
        let millis = moment.map_or(NEVER, Timestamp::as_millis);
        self.times.expires_at.store(millis, Ordering::Relaxed);
    }

    /// Whether it equals a record.
    fn is_of(&self, record: &TokenRecord) -> bool {
        let now = Self::of(record);
        (&now.who, &now.scopes, now.token) == (&self.who, &self.scopes, self.token)
    }

    /// The service itself, with the given scopes.
    pub fn service(what: &str, scopes: Vec<Scope>) -> Self {
        let (signal, streams) = (AccessSignal::default(), Arc::new(Semaphore::new(MAX_STREAMS)));
        let times = Arc::new(TokenTimes::of(None, None));
        Self { who: what.to_owned(), scopes, token: None, signal, streams, times }
    }

    /// The display name.
    pub fn display_name(&self) -> &str {
        &self.who
    }

    /// The scopes it holds.
    pub fn scopes(&self) -> &[Scope] {
        &self.scopes
    }

    /// The token it holds.
    pub(crate) fn token(&self) -> Option<TokenIdentity> {
        self.token
    }

    /// The access under which it holds leases.
    pub fn access(&self) -> Option<LeasedBy> {
        self.token.map(|token| LeasedBy { id: AccessId(token.id), signal: self.signal.clone() })
    }

    /// Opens a live stream.
    ///
    /// # Errors
    /// [`ControlError::Overloaded`] when it has as many as it may.
    pub fn open_stream(&self) -> Result<OpenStream, ControlError> {
        let opened = Arc::clone(&self.streams).try_acquire_owned();
        opened.map(OpenStream).map_err(|_| Overload::Streams { max: MAX_STREAMS }.into())
    }

    /// Raised when its access ends.
    pub fn signal(&self) -> &AccessSignal {
        &self.signal
    }

    /// Whether it is an administrator.
    pub fn is_admin(&self) -> bool {
        self.scopes.contains(&Scope::Admin)
    }

    /// Whether it holds a scope.
    pub fn holds(&self, needed: &Scope) -> bool {
        self.scopes.iter().any(|held| held.covers(needed))
    }

    /// Fails unless it holds a scope.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`] names the scope.
    pub fn needs(&self, needed: Scope) -> Result<(), ControlError> {
        self.still_open()?;
        if self.holds(&needed) { Ok(()) } else { Err(ControlError::MissingScope(needed)) }
    }

    /// Fails if its access has ended since it was authenticated.
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
                held.covers(right)
                    && of.as_str() == tenant
                    && within.as_ref().is_none_or(|within| within.as_str() == namespace)
            }
        })
    }

    /// [`needs`](Self::needs) for a right within one namespace; builds no scope on success.
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

    /// [`needs_within`](Self::needs_within) for names that come from the records.
    ///
    /// # Errors
    /// [`ControlError::MissingScope`] names the scope.
    pub(crate) fn needs_named(
        &self,
        right: Right,
        tenant: &str,
        namespace: &str,
    ) -> Result<(), ControlError> {
        let read = |name: &str| Name::new(name).map_err(ControlError::invalid);
        self.needs_within(right, &read(tenant)?, &read(namespace)?)
    }

    /// Whether it may see a namespace and its statistics.
    pub fn sees(&self, namespace: &Namespace) -> bool {
        let (tenant, name) = (namespace.tenant(), namespace.name());
        self.holds_within(Right::Observe, tenant.as_str(), name.as_str())
    }

    /// The actor of its changes, as activity shows it.
    pub(crate) fn actor(&self) -> Actor {
        Actor::new(self.who.clone())
    }
}

/// The SHA-256 of a token.
///
/// Tokens are 256 random bits, so a plain hash cannot be brute-forced, and map look-ups leak
/// nothing through timing because an attacker cannot choose hashes.
pub fn hash_of(secret: &str) -> [u8; 32] {
    Sha256::digest(secret.as_bytes()).into()
}

/// Creates a token: 256 random bits as 64 hexadecimal digits, with a prefix by which leaked tokens
/// can be recognized.
pub fn new_secret() -> String {
    let bytes: [u8; 32] = rand::random();
    let hex: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
    format!("verax-token-{hex}")
}

/// The valid tokens.
#[derive(Debug, Default)]
pub struct TokenTable {
    by_hash: RwLock<HashMap<[u8; 32], Arc<Caller>>>,
    /// No token ends by itself before this, in milliseconds.
    earliest_expiry: AtomicU64,
}

impl TokenTable {
    fn write(&self) -> RwLockWriteGuard<'_, HashMap<[u8; 32], Arc<Caller>>> {
        self.by_hash.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds a token.
    pub(crate) fn add(&self, record: &TokenRecord) {
        self.write().insert(record.hash, Arc::new(Caller::of(record)));
        self.expect_expiry(record.expires_at);
    }

    fn expect_expiry(&self, moment: Option<Timestamp>) {
        let millis = moment.map_or(NEVER, Timestamp::as_millis);
        self.earliest_expiry.fetch_min(millis, Ordering::AcqRel);
    }

    /// Replaces the known tokens by those of the records. Access that was removed or changed ends;
    /// unchanged access continues. Lent tokens are kept. Returns the identifiers of tokens that are
    /// no longer valid.
    pub(crate) fn replace_all(&self, records: &[TokenRecord], now: Timestamp) -> Vec<u64> {
        let is_open = |r: &&TokenRecord| r.revoked_at.is_none() && !r.has_expired(now);
        let open: HashMap<[u8; 32], &TokenRecord> =
            records.iter().filter(is_open).map(|r| (r.hash, r)).collect();
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
            let caller = table.entry(hash).or_insert_with(|| Arc::new(Caller::of(record)));
            caller.set_expiry(record.expires_at);
            self.expect_expiry(record.expires_at);
        }
        ended
    }

    /// Sets when a token ends by itself.
    pub(crate) fn set_expiry(&self, id: u64, moment: Option<Timestamp>) {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        let of_token = |caller: &&Arc<Caller>| caller.token().is_some_and(|token| token.id == id);
        table.values().filter(of_token).for_each(|caller| caller.set_expiry(moment));
        self.expect_expiry(moment);
    }

    /// The tokens that have ended by themselves.
    pub(crate) fn expired(&self, now: Timestamp) -> Vec<u64> {
        let now = now.as_millis();
        if now < self.earliest_expiry.load(Ordering::Acquire) {
            return Vec::new();
        }
        // First, so that an expiry that is set meanwhile counts, whether it is seen below or not.
        self.earliest_expiry.store(NEVER, Ordering::Release);
        let (mut expired, mut earliest) = (Vec::new(), NEVER);
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        for caller in table.values() {
            match caller.times.expires_at.load(Ordering::Relaxed) {
                end if end <= now => expired.extend(caller.token().map(|token| token.id)),
                end => earliest = earliest.min(end),
            }
        }
        self.earliest_expiry.fetch_min(earliest, Ordering::AcqRel);
        expired
    }

    /// The tokens that were used since the last call, which is the time they are given.
    pub(crate) fn take_uses(&self, now: Timestamp) -> Vec<u64> {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        let used = table.values().filter_map(|caller| {
            let token = caller.token()?;
            caller.times.was_used.swap(false, Ordering::Relaxed).then(|| {
                caller.times.last_used_at.store(now.as_millis(), Ordering::Relaxed);
                token.id
            })
        });
        used.collect()
    }

    /// When a token was last used, if that is known here.
    pub(crate) fn last_used_at(&self, hash: &[u8; 32]) -> Option<Timestamp> {
        let millis = self.by_hash(hash)?.times.last_used_at.load(Ordering::Relaxed);
        (millis > 0).then(|| Timestamp::from_millis(millis))
    }

    /// Creates a token for the service itself, in memory only; returns its secret.
    pub(crate) fn lend(&self, caller: Caller) -> String {
        let secret = new_secret();
        self.write().insert(hash_of(&secret), Arc::new(caller));
        secret
    }

    /// Ends a lent token.
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

    /// Removes the scopes of a deleted tenant or namespace. Access begun with them ends; a token
    /// without remaining scopes is forgotten.
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

    /// Whether any token has the `admin` scope.
    pub(crate) fn any_admin(&self) -> bool {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().any(|caller| caller.token().is_some() && caller.is_admin())
    }

    /// The number of tokens, without lent ones.
    pub(crate) fn count(&self) -> usize {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().filter(|caller| caller.token().is_some()).count()
    }

    /// The largest token identifier.
    pub(crate) fn latest(&self) -> u64 {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().filter_map(|caller| Some(caller.token()?.id)).max().unwrap_or(0)
    }

    /// The caller with this token.
    ///
    /// # Errors
    /// [`ControlError::NotSignedIn`] if it is unknown, expired or revoked, which are not
    /// distinguished.
    pub fn caller(&self, secret: &str) -> Result<Arc<Caller>, ControlError> {
        let caller = self.by_hash(&hash_of(secret)).ok_or(ControlError::NotSignedIn(
            "this token is unknown, expired or revoked: check VERAX_TOKEN, or get a new token",
        ))?;
        caller.note_use();
        Ok(caller)
    }

    /// The caller that currently holds the token with this hash.
    pub(crate) fn by_hash(&self, hash: &[u8; 32]) -> Option<Arc<Caller>> {
        self.by_hash.read().unwrap_or_else(PoisonError::into_inner).get(hash).cloned()
    }
}
