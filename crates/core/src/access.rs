//! Scopes: what a token allows.

use std::fmt;
use std::str::FromStr;

use crate::Name;

/// What may be done within a scope.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Right {
    /// Look entries up, list them, and see who waits for what.
    Read,
    /// Store entries, change and delete them, count, and use rate limits.
    Write,
    /// Delete entries by key, tag and prefix, and clear namespaces.
    Invalidate,
    /// Acquire, renew and release locks.
    Lock,
    /// Start, watch and stop warm runs.
    Warm,
    /// Start, watch and stop load runs.
    Load,
    /// See namespaces, their policies and their figures, but neither keys nor values.
    Observe,
    /// Create, change and delete namespaces and origins, end the locks of others, read activity.
    Manage,
}

impl Right {
    /// Every right, in the order in which documents list them.
    pub const ALL: [Right; 8] = [
        Right::Read,
        Right::Write,
        Right::Invalidate,
        Right::Lock,
        Right::Warm,
        Right::Load,
        Right::Observe,
        Right::Manage,
    ];

    /// Its name in scopes.
    pub const fn name(self) -> &'static str {
        match self {
            Right::Read => "read",
            Right::Write => "write",
            Right::Invalidate => "invalidate",
            Right::Lock => "lock",
            Right::Warm => "warm",
            Right::Load => "load",
            Right::Observe => "observe",
            Right::Manage => "manage",
        }
    }

    /// Whether its holder may also do what `needed` allows.
    pub const fn covers(self, needed: Right) -> bool {
        matches!(
            (self, needed),
            (Right::Read, Right::Read | Right::Observe)
                | (Right::Write, Right::Write | Right::Lock)
                | (Right::Invalidate, Right::Invalidate)
                | (Right::Lock, Right::Lock)
                | (Right::Warm, Right::Warm)
                | (Right::Load, Right::Load)
                | (Right::Observe, Right::Observe)
                | (
                    Right::Manage,
                    Right::Manage | Right::Invalidate | Right::Warm | Right::Load | Right::Observe
                )
        )
    }
}

/// A right that a token holds, or that a call needs.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Scope {
    /// Everything.
    Admin,
    /// A right within a tenant, or within one namespace of it.
    Within {
        /// The right.
        right: Right,
        /// The tenant.
        tenant: Name,
        /// The namespace; `None` for all of the tenant's.
        namespace: Option<Name>,
    },
}

/// Why a text is not a [`Scope`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{0:?} is not a scope: use admin, or RIGHT:TENANT or RIGHT:TENANT/NAMESPACE, where RIGHT is read, write, invalidate, lock, warm, load, observe or manage"
)]
pub struct InvalidScope(String);

impl Scope {
    /// A right within one namespace.
    pub fn within(right: Right, tenant: &Name, namespace: &Name) -> Self {
        Self::Within { right, tenant: tenant.clone(), namespace: Some(namespace.clone()) }
    }

    /// A right within a whole tenant.
    pub fn tenant(right: Right, tenant: &Name) -> Self {
        Self::Within { right, tenant: tenant.clone(), namespace: None }
    }

    /// Whether a holder of this scope may do what `needed` names.
    pub fn covers(&self, needed: &Scope) -> bool {
        match (self, needed) {
            (Scope::Admin, _) => true,
            (_, Scope::Admin) => false,
            (
                Scope::Within { right, tenant, namespace },
                Scope::Within { right: needed_right, tenant: of, namespace: within },
            ) => {
                right.covers(*needed_right)
                    && tenant == of
                    && (namespace.is_none() || namespace == within)
            }
        }
    }
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scope::Admin => f.write_str("admin"),
            Scope::Within { right, tenant, namespace: None } => {
                write!(f, "{}:{tenant}", right.name())
            }
            Scope::Within { right, tenant, namespace: Some(namespace) } => {
                write!(f, "{}:{tenant}/{namespace}", right.name())
            }
        }
    }
}

impl FromStr for Scope {
    type Err = InvalidScope;

    fn from_str(text: &str) -> Result<Self, InvalidScope> {
        if text == "admin" {
            return Ok(Scope::Admin);
        }
        let invalid = || InvalidScope(text.chars().take(160).collect());
        let (right, place) = text.split_once(':').ok_or_else(invalid)?;
        let right = Right::ALL.into_iter().find(|r| r.name() == right).ok_or_else(invalid)?;
        let (tenant, namespace) = match place.split_once('/') {
            Some((tenant, namespace)) => (tenant, Some(namespace)),
            None => (place, None),
        };
        let tenant = Name::new(tenant).map_err(|_| invalid())?;
        let namespace = namespace.map(Name::new).transpose().map_err(|_| invalid())?;
        Ok(Scope::Within { right, tenant, namespace })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("admin", "manage:tideline/tables", true)]
    #[case("read:tideline", "read:tideline", true)]
    #[case("read:tideline", "read:tideline/tables", true)]
    #[case("read:tideline/tables", "read:tideline/tables", true)]
    #[case("read:tideline/tables", "read:tideline/other", false)]
    #[case("read:tideline/tables", "read:tideline", false)]
    #[case("read:tideline", "write:tideline/tables", false)]
    #[case("manage:tideline", "read:tideline/tables", false)]
    #[case("manage:tideline", "write:tideline/tables", false)]
    #[case("manage:tideline", "lock:tideline/tables", false)]
    #[case("manage:tideline", "warm:tideline/tables", true)]
    #[case("write:tideline", "lock:tideline/tables", true)]
    #[case("write:tideline", "invalidate:tideline/tables", false)]
    #[case("read:tideline", "observe:tideline", true)]
    #[case("observe:tideline", "read:tideline", false)]
    #[case("lock:tideline", "write:tideline", false)]
    #[case("load:tideline", "warm:tideline", false)]
    #[case("read:tide", "read:tideline/tables", false)]
    #[case("manage:tideline", "admin", false)]
    fn a_scope_opens_exactly_its_own(
        #[case] held: &str,
        #[case] needed: &str,
        #[case] opens: bool,
    ) {
        let [held, needed] = [held, needed].map(|s| s.parse::<Scope>().unwrap());
        assert_eq!(held.covers(&needed), opens);
    }

    #[rstest]
    #[case("")]
    #[case("Admin")]
    #[case("read")]
    #[case("read:")]
    #[case("own:tideline")]
    #[case("read:tideline/")]
    #[case("read:tideline/a/b")]
    #[case("read:*")]
    fn malformed_scopes_are_refused(#[case] text: &str) {
        assert!(text.parse::<Scope>().is_err());
    }

    #[test]
    fn scopes_survive_text() {
        for text in ["admin", "read:a", "write:a/b", "manage:a-1/b-2"] {
            assert_eq!(text.parse::<Scope>().unwrap().to_string(), text);
        }
        for right in Right::ALL {
            let text = format!("{}:tideline", right.name());
            assert_eq!(text.parse::<Scope>().unwrap().to_string(), text);
            assert!(right.covers(right));
        }
    }
}
