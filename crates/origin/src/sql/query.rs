//! The query of an origin, with named parameters.

use mysql_common::named_params::ParsedNamedParams;
use url::Url;

/// Why settings are not valid for an SQL origin.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidQuery {
    /// The URL is not a database's.
    #[error("{url:?} is not the URL of a database: use mysql://USER@HOST:PORT/DATABASE; {reason}")]
    Url {
        /// The URL given.
        url: String,
        /// What is wrong with it.
        reason: &'static str,
    },
    /// The statement is malformed.
    #[error("the query must be one SELECT (or WITH … SELECT) statement, not {0:?}")]
    NoSelect(String),
    /// The statement does more than select.
    #[error("the query has {what}: it must be a single SELECT statement")]
    MoreThanSelect {
        /// What is too much.
        what: &'static str,
    },
    /// A parameter without a name.
    #[error("the query has a ? without a name: write :name, with a variable of the key pattern")]
    WithoutName,
}

/// A query as it is sent, and its parameter names in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Query {
    pub(super) text: String,
    pub(super) names: Vec<String>,
}

impl Query {
    /// Parses a SELECT with `:name` for each value from the key.
    pub(super) fn parse(text: &str) -> Result<Self, InvalidQuery> {
        let text = text.trim().trim_end_matches(';').trim_end();
        let first: String = text
            .trim_start_matches(['(', ' '])
            .chars()
            .take_while(char::is_ascii_alphabetic)
            .collect();
        if !["select", "with"].contains(&first.to_ascii_lowercase().as_str()) {
            return Err(InvalidQuery::NoSelect(text.chars().take(40).collect()));
        }
        if let Some(what) = more_than_select(text) {
            return Err(InvalidQuery::MoreThanSelect { what });
        }
        let parsed =
            ParsedNamedParams::parse(text.as_bytes()).map_err(|_| InvalidQuery::WithoutName)?;
        let names: Vec<String> =
            parsed.params().iter().map(|n| String::from_utf8_lossy(n).into_owned()).collect();
        let sent = String::from_utf8_lossy(parsed.query()).into_owned();
        // Without any name, the parser would ignore a lone ?.
        if names.is_empty() && outside_of_quotes(&sent).is_none_or(|plain| plain.contains('?')) {
            return Err(InvalidQuery::WithoutName);
        }
        Ok(Self { text: sent, names })
    }
}

/// Finds what a statement does beyond selecting, if anything: it writes a file or variables, is
/// followed by another statement, or hides statements in executable comments.
fn more_than_select(text: &str) -> Option<&'static str> {
    if text.contains("/*!") || text.to_ascii_uppercase().contains("/*M!") {
        return Some("a comment that is executed");
    }
    let Some(plain) = outside_of_quotes(text) else { return Some("a quote without its end") };
    if plain.contains(';') {
        return Some("several statements");
    }
    if plain.contains('@') {
        return Some("a variable (@)");
    }
    let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '$';
    let mut words = plain.split(|c| !is_word(c));
    words.any(|word| word.eq_ignore_ascii_case("into")).then_some("INTO")
}

/// A statement without comments and quoted text; `None` if one of those is unterminated.
fn outside_of_quotes(text: &str) -> Option<String> {
    let mut plain = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let after = match first {
            '\'' | '"' | '`' => {
                plain.push_str("\u{20}\u{20}");
                after_quotes(rest, first)?
            }
            '#' => rest.find('\n').map_or("", |end| &rest[end..]),
            // Two dashes begin a comment only before a space, a tab or an end of line.
            '-' if ["-- ", "--\t", "--\n", "--\r"].iter().any(|start| rest.starts_with(start)) => {
                rest.find('\n').map_or("", |end| &rest[end..])
            }
            '/' if rest.starts_with("/*") => {
                plain.push(' ');
                rest[2..].find("*/").map_or("", |end| &rest[2 + end + 2..])
            }
            other => {
                plain.push(other);
                &rest[other.len_utf8()..]
            }
        };
        rest = after;
    }
    Some(plain)
}

/// The rest after a quoted text. A quote in it is doubled, or escaped by a backslash except in
/// names.
fn after_quotes(text: &str, quote: char) -> Option<&str> {
    let mut characters = text.char_indices().skip(1);
    while let Some((at, c)) = characters.next() {
        if c == '\\' && quote != '`' {
            characters.next();
        } else if c == quote {
            let rest = &text[at + quote.len_utf8()..];
            if !rest.starts_with(quote) {
                return Some(rest);
            }
            characters.next();
        }
    }
    None
}

/// The parts of a database's URL.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Database {
    pub(super) user: String,
    pub(super) host: String,
    pub(super) port: u16,
    pub(super) name: String,
}

impl Database {
    pub(super) fn parse(text: &str) -> Result<Self, InvalidQuery> {
        let bad = |reason| InvalidQuery::Url { url: text.chars().take(300).collect(), reason };
        let url = Url::parse(text).map_err(|_| bad("it is no URL"))?;
        if url.scheme() != "mysql" {
            return Err(bad("it must start with mysql://"));
        }
        if url.password().is_some() {
            // Not repeated, since it is a secret.
            return Err(InvalidQuery::Url {
                url: "mysql://…".into(),
                reason: "leave the password out and name a credential, which is stored outside the records",
            });
        }
        let decoded = |text: &str| {
            percent_encoding::percent_decode_str(text).decode_utf8().ok().map(|t| t.into_owned())
        };
        let user = decoded(url.username()).filter(|user| !user.is_empty());
        let name = decoded(url.path().trim_start_matches('/'));
        let name = name.filter(|name| !name.is_empty() && !name.contains('/'));
        if url.query().is_some() || url.fragment().is_some() {
            return Err(bad("nothing may follow the database"));
        }
        Ok(Self {
            user: user.ok_or_else(|| bad("the user is missing"))?,
            host: url
                .host_str()
                .filter(|h| !h.is_empty())
                .ok_or_else(|| bad("the host is missing"))?
                .to_owned(),
            port: url.port().unwrap_or(3306),
            name: name.ok_or_else(|| bad("the database is missing"))?,
        })
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("SELECT a FROM t WHERE b = :b AND c = :c_2", "SELECT a FROM t WHERE b = ? AND c = ?", &["b", "c_2"])]
    #[case("select ':no', `a:b`, :yes -- :not\n ;", "select ':no', `a:b`, ? -- :not", &["yes"])]
    #[case("WITH x AS (SELECT 1) SELECT * FROM x", "WITH x AS (SELECT 1) SELECT * FROM x", &[])]
    #[case("(SELECT '?' AS mark)", "(SELECT '?' AS mark)", &[])]
    #[case("SELECT :a, :a", "SELECT ?, ?", &["a", "a"])]
    #[case("SELECT 'a;b@into' AS `into;@`, \"into\" FROM t WHERE a = :a", "SELECT 'a;b@into' AS `into;@`, \"into\" FROM t WHERE a = ?", &["a"])]
    #[case("SELECT intoxicated FROM t /* into; @ */", "SELECT intoxicated FROM t /* into; @ */", &[])]
    #[case("SELECT a--1 FROM t", "SELECT a--1 FROM t", &[])]
    fn names_become_places(#[case] text: &str, #[case] sent: &str, #[case] names: &[&str]) {
        let query = Query::parse(text).unwrap();
        assert_eq!(
            (query.text.as_str(), query.names.as_slice()),
            (sent, names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>().as_slice())
        );
    }

    #[rstest]
    #[case("")]
    #[case("DELETE FROM t")]
    #[case("SET @a = 1")]
    #[case("SELECT ?")]
    #[case("SELECT ?, :a")]
    #[case("SELECT a INTO OUTFILE '/tmp/x' FROM t")]
    #[case("SELECT a\nInTo @x FROM t")]
    #[case("SELECT a FROM t; DELETE FROM t")]
    #[case("SELECT '\\'; SELECT 2")]
    #[case("SELECT 'it''s'; SELECT 2")]
    #[case("SELECT @@version")]
    #[case("SELECT @a := 1")]
    #[case("SELECT 1 /*! INTO OUTFILE '/tmp/x' */")]
    #[case("SELECT 1 /*m! , 2 */")]
    #[case("SELECT 1 -- '\n INTO @a")]
    #[case("SELECT `a`INTO@b FROM t")]
    fn what_is_no_query_is_refused(#[case] text: &str) {
        assert!(Query::parse(text).is_err(), "{text}");
    }

    #[rstest]
    #[case("mysql://tide@db:3307/tides", Some(("tide", "db", 3307, "tides")))]
    #[case("mysql://tide@[::1]/tides", Some(("tide", "[::1]", 3306, "tides")))]
    #[case("mysql://tide:secret@db/tides", None)]
    #[case("mysql://db/tides", None)]
    #[case("mysql://tide@db/", None)]
    #[case("mysql://tide@db/a/b", None)]
    #[case("http://tide@db/tides", None)]
    fn databases_are_found(#[case] url: &str, #[case] expected: Option<(&str, &str, u16, &str)>) {
        let parsed = Database::parse(url);
        let parts = parsed.as_ref().ok().map(|d| (&*d.user, &*d.host, d.port, &*d.name));
        assert_eq!(parts, expected);
        let message = parsed.map_or_else(|e| e.to_string(), |_| String::new());
        assert!(!message.contains("secret"), "{message}");
    }
}
