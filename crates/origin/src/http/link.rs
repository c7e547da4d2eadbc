//! The `Link` field (RFC 8288, section 3).

/// The target of the first link with the relation `next`.
pub(super) fn next_link(field: &str) -> Option<&str> {
    let mut rest = field;
    loop {
        let (_, after) = rest.split_once('<')?;
        let (target, after) = after.split_once('>')?;
        let end = end_before(after, b',');
        if is_next(&after[..end]) {
            return Some(target.trim());
        }
        rest = &after[end..];
    }
}

/// Where a text ends: at a separator outside of quotes.
fn end_before(text: &str, separator: u8) -> usize {
    let (mut quoted, mut escaped) = (false, false);
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            byte if byte == separator && !quoted => return at,
            _ => {}
        }
    }
    text.len()
}

fn is_next(parameters: &str) -> bool {
    let mut rest = parameters;
    while !rest.is_empty() {
        let end = end_before(rest, b';');
        if let Some((name, value)) = rest[..end].split_once('=')
            && name.trim().eq_ignore_ascii_case("rel")
        {
            // The first counts (section 3.3).
            let mut relations = value.trim().trim_matches('"').split_ascii_whitespace();
            return relations.any(|relation| relation.eq_ignore_ascii_case("next"));
        }
        rest = rest.get(end + 1..).unwrap_or_default();
    }
    false
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(r#"</keys?page=2>; rel="next""#, Some("/keys?page=2"))]
    #[case(r#"</keys?page=1>; rel=prev, </keys?page=3>; rel=next"#, Some("/keys?page=3"))]
    #[case(r#"</keys?a=1,2>; title="a, b"; rel="last next""#, Some("/keys?a=1,2"))]
    #[case(r#"</a>; title="\", <b>; rel=next""#, None)]
    #[case(r#"</keys>; rel="nextish""#, None)]
    #[case(r#"</keys>; rel=prev; rel=next"#, None)]
    #[case("</keys", None)]
    #[case("", None)]
    fn the_next_link_is_found(#[case] field: &str, #[case] expected: Option<&str>) {
        assert_eq!(next_link(field), expected);
    }
}
