//! Scopes: what a token allows.

use std::fmt;
use std::str::FromStr;

use crate::Name;

/// What may be done within a scope.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Right {
    /// Look entries up, list them, see statistics.
    Read,
    /// Store and delete entries.
    Write,
    /// Clear, warm, load-test and change namespaces, and read their activity.
    Manage,
}

impl Right {
    /// Its name in scopes.
    pub const fn name(self) -> &'static str {
        match self {
            Right::Read => "read",
            Right::Write => "write",
            Right::Manage => "manage",
        }
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
    "{0:?} is not a scope: use admin, or read:, write: or manage: followed by TENANT or TENANT/NAMESPACE"
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
                right == needed_right
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
        let right = [Right::Read, Right::Write, Right::Manage]
            .into_iter()
            .find(|r| r.name() == right)
            .ok_or_else(invalid)?;
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
    }
}
