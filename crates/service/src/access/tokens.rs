//! Tokens in memory, known by their hashes.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};

use sha2::{Digest, Sha256};
use verax_core::Name;
use verax_records::{Actor, TokenRecord};

use super::scope::{Right, Scope};
use crate::error::ServiceError;

/// Whoever makes a call, and what they may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Caller {
    who: String,
    scopes: Vec<Scope>,
    token: Option<u64>,
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
            token: Some(record.id),
        }
    }

    /// The service itself, with some scopes.
    pub fn service(what: &str, scopes: Vec<Scope>) -> Self {
        Self { who: what.to_owned(), scopes, token: None }
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
    pub(crate) fn token(&self) -> Option<u64> {
        self.token
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
    /// [`ServiceError::MissingScope`] names the scope.
    pub fn needs(&self, needed: Scope) -> Result<(), ServiceError> {
        if self.holds(&needed) { Ok(()) } else { Err(ServiceError::MissingScope(needed)) }
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

    /// [`needs`](Self::needs) for a right within one namespace, without making a scope when it holds.
    ///
    /// # Errors
    /// [`ServiceError::MissingScope`] names the scope.
    pub fn needs_within(
        &self,
        right: Right,
        tenant: &Name,
        namespace: &Name,
    ) -> Result<(), ServiceError> {
        match self.holds_within(right, tenant.as_str(), namespace.as_str()) {
            true => Ok(()),
            false => Err(ServiceError::MissingScope(Scope::within(right, tenant, namespace))),
        }
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

/// A new token: 256 random bits, in 64 hexadecimal digits behind a mark to recognise leaked ones by.
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
    /// Takes tokens in; revoked ones are left out.
    pub(crate) fn load(&self, records: &[TokenRecord]) {
        let open = records.iter().filter(|r| r.revoked_at.is_none());
        let mut table = self.by_hash.write().unwrap_or_else(PoisonError::into_inner);
        table.extend(open.map(|r| (r.hash, Arc::new(Caller::of(r)))));
    }

    /// Gives the service itself a token that lives in memory alone; returns its secret.
    pub(crate) fn lend(&self, caller: Caller) -> String {
        let secret = new_secret();
        let mut table = self.by_hash.write().unwrap_or_else(PoisonError::into_inner);
        table.insert(hash_of(&secret), Arc::new(caller));
        secret
    }

    /// Ends a token that was lent.
    pub(crate) fn take_back(&self, secret: &str) {
        let mut table = self.by_hash.write().unwrap_or_else(PoisonError::into_inner);
        table.remove(&hash_of(secret));
    }

    /// Ends a token.
    pub(crate) fn revoke(&self, id: u64) {
        let mut table = self.by_hash.write().unwrap_or_else(PoisonError::into_inner);
        table.retain(|_, caller| caller.token() != Some(id));
    }

    /// Whoever holds this token.
    ///
    /// # Errors
    /// [`ServiceError::NotSignedIn`] when it is unknown or revoked, which are not told apart.
    pub fn caller(&self, secret: &str) -> Result<Arc<Caller>, ServiceError> {
        self.by_hash
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .get(&hash_of(secret))
            .cloned()
            .ok_or(ServiceError::NotSignedIn(
                "this token is unknown or was revoked: check VERAX_TOKEN, or have a new one created",
            ))
    }

    /// Whether a token is still open.
    pub(crate) fn is_open(&self, id: u64) -> bool {
        let table = self.by_hash.read().unwrap_or_else(PoisonError::into_inner);
        table.values().any(|caller| caller.token() == Some(id))
    }
}
