//! Finds secrets where none may be: in logs and error messages.

/// Prefixes of secrets, and the number of their hexadecimal digits.
const MARKED: [(&str, usize); 4] = [
    // Tokens.
    ("verax-token-", 64),
    // One-time codes.
    ("sign-in#", 32),
    // Cookies.
    ("verax_session=", 32),
    // Passwords of this start's MariaDB, in its URL.
    ("mysql://verax:", 48),
];

/// Finds known secrets, and anything that looks like one, in a text.
pub fn found_secret(text: &str, known: &[String]) -> Option<String> {
    let marked = MARKED.iter().find_map(|(mark, digits)| {
        text.match_indices(mark).find_map(|(at, _)| {
            let rest = &text[at + mark.len()..];
            let secret = rest.chars().take_while(char::is_ascii_hexdigit).count() >= *digits;
            secret.then(|| format!("{mark}…"))
        })
    });
    marked.or_else(|| {
        let known = known.iter().find(|secret| !secret.is_empty() && text.contains(*secret));
        known.map(|secret| format!("a known secret of {} bytes", secret.len()))
    })
}

/// Fails when a text holds a secret. The text is not repeated: that would tell the secret once
/// more.
pub(crate) fn assert_no_secret(what: &str, text: &str, known: &[String]) {
    if let Some(found) = found_secret(text, known) {
        panic!("{what} holds a secret: {found}");
    }
}

#[cfg(test)]
mod tests {
    use super::found_secret;

    #[test]
    fn secrets_are_found_and_nothing_else_is() {
        let (token, code) = ("a1".repeat(32), "b2".repeat(16));
        for leak in [
            format!("who=verax-token-{token} x"),
            format!("GET /sign-in#{code}"),
            format!("cookie: a=b; verax_session={code}"),
            format!("mysql://verax:{}@localhost/verax", "c3".repeat(24)),
        ] {
            assert!(found_secret(&leak, &[]).is_some(), "{leak}");
        }
        let plain = "verax-token-half, token 3 (gauge reader), /sign-in#…, 0053bf5d424ab8ca4818016a9b0adcfe";
        assert_eq!(found_secret(plain, &[String::new()]), None);
        assert!(found_secret("the password is opensesame", &["opensesame".into()]).is_some());
    }
}
