//! The query of an origin, with a name for each value from the key.

use mysql_common::named_params::ParsedNamedParams;
use url::Url;

/// Why settings make no SQL origin.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidQuery {
    /// The URL is not that of a database.
    #[error("{url:?} is not the URL of a database: use mysql://USER@HOST:PORT/DATABASE; {reason}")]
    Url {
        /// The URL given.
        url: String,
        /// What is wrong with it.
        reason: &'static str,
    },
    /// The statement does not read.
    #[error("the query must be one SELECT (or WITH … SELECT) statement, not {0:?}")]
    NoSelect(String),
    /// A value without a name.
    #[error("the query has a ? without a name: write :name, with a variable of the key pattern")]
    WithoutName,
}

/// A query as it is sent, and the names whose values it takes, in their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Query {
    pub(super) text: String,
    pub(super) names: Vec<String>,
}

impl Query {
    /// Reads a SELECT with `:name` for each value from the key.
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
        let parsed =
            ParsedNamedParams::parse(text.as_bytes()).map_err(|_| InvalidQuery::WithoutName)?;
        let names: Vec<String> =
            parsed.params().iter().map(|n| String::from_utf8_lossy(n).into_owned()).collect();
        let sent = String::from_utf8_lossy(parsed.query()).into_owned();
        // Without any name, a lone ? is passed over by the parser.
        if names.is_empty() && outside_of_quotes(&sent).any(|c| c == '?') {
            return Err(InvalidQuery::WithoutName);
        }
        Ok(Self { text: sent, names })
    }
}

/// The characters that stand in no quotes.
fn outside_of_quotes(text: &str) -> impl Iterator<Item = char> {
    let mut within = None;
    text.chars().filter(move |c| match within {
        Some(quote) => {
            if *c == quote {
                within = None;
            }
            false
        }
        None => {
            if ['\'', '"', '`'].contains(c) {
                within = Some(*c);
            }
            true
        }
    })
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
            // It is not repeated, since it is a secret.
            return Err(InvalidQuery::Url {
                url: "mysql://…".into(),
                reason: "leave the password out and name a credential, which is kept outside the records",
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
        let told = parsed.map_or_else(|e| e.to_string(), |_| String::new());
        assert!(!told.contains("secret"), "{told}");
    }
}
