//! Scopes of tokens, which end with the tenant or namespace they open.

/// Scopes without those within a deleted `TENANT` or `TENANT/NAMESPACE`; `None` if there are none.
/// A token with none left is to be revoked.
pub(crate) fn scopes_without(scopes: &str, place: &str) -> Option<String> {
    let kept: Vec<&str> =
        scopes.split_whitespace().filter(|scope| !is_within(scope, place)).collect();
    (kept.len() < scopes.split_whitespace().count()).then(|| kept.join(" "))
}

/// Whether a scope, written `RIGHT:PLACE`, is within a place.
fn is_within(scope: &str, place: &str) -> bool {
    scope.split_once(':').is_some_and(|(_, opens)| {
        opens.strip_prefix(place).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::is_within;

    #[rstest]
    #[case("read:tideline", "tideline", true)]
    #[case("write:tideline/tables", "tideline", true)]
    #[case("write:tideline/tables", "tideline/tables", true)]
    #[case("read:tideline", "tideline/tables", false)]
    #[case("read:tideline-two", "tideline", false)]
    #[case("write:tideline/tables-two", "tideline/tables", false)]
    #[case("admin", "admin", false)]
    fn a_scope_ends_with_what_it_opens(
        #[case] scope: &str,
        #[case] place: &str,
        #[case] ends: bool,
    ) {
        assert_eq!(is_within(scope, place), ends);
    }
}
