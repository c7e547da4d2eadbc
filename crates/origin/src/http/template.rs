//! The URL template of an origin (RFC 6570).

use iri_string::spec::UriSpec;
use iri_string::template::UriTemplateString;
use iri_string::template::simple_context::SimpleContext;
use url::Url;

/// A URL template whose scheme and host are fixed: a key can choose a path, never another server.
#[derive(Debug, Clone)]
pub struct UrlTemplate {
    template: UriTemplateString,
    base: Url,
}

/// Why a text is not a [`UrlTemplate`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidTemplate {
    /// It is not an RFC 6570 template.
    #[error("{url:?} is not a URL template (RFC 6570): {reason}")]
    Syntax {
        /// The text.
        url: String,
        /// What is wrong with it.
        reason: String,
    },
    /// Scheme and host are not fixed http or https.
    #[error(
        "{0:?} must start with http:// or https:// and a host without variables, without a password"
    )]
    Base(String),
    /// A replica's address is not a plain address.
    #[error(
        "{0:?} is not the address of a server: use http:// or https://, a host and a port, and nothing behind them"
    )]
    Server(String),
    /// A server is named twice.
    #[error("the server {0} is named twice: the URL's own server is already included")]
    Twice(String),
}

impl UrlTemplate {
    /// Parses a template.
    ///
    /// # Errors
    /// [`InvalidTemplate`].
    pub fn parse(text: &str) -> Result<Self, InvalidTemplate> {
        let bad_base = || InvalidTemplate::Base(text.to_owned());
        let (scheme, rest) = text.split_once("://").ok_or_else(bad_base)?;
        let host = &rest[..rest.find(['/', '?', '#']).unwrap_or(rest.len())];
        if !matches!(scheme, "http" | "https") || host.contains(['{', '}', '@']) {
            return Err(bad_base());
        }
        let base = Url::parse(&format!("{scheme}://{host}/")).map_err(|_| bad_base())?;
        let template = UriTemplateString::try_from(text.to_owned())
            .map_err(|e| InvalidTemplate::Syntax { url: text.to_owned(), reason: e.to_string() })?;
        Ok(Self { template, base })
    }

    /// Scheme, host and port, with the path `/`.
    pub fn base(&self) -> &Url {
        &self.base
    }

    /// The names of its variables.
    pub fn variables(&self) -> Vec<String> {
        self.template.variables().map(|name| name.as_str().to_owned()).collect()
    }

    /// Expands it with values; variables without a value expand to nothing, as RFC 6570 says.
    ///
    /// # Errors
    /// What is wrong with the resulting URL.
    pub fn expand(&self, values: &[(&str, &str)]) -> Result<Url, String> {
        let mut context = SimpleContext::new();
        for (name, value) in values {
            context.insert(*name, *value);
        }
        let text =
            self.template.expand::<UriSpec, _>(&context).map_err(|e| e.to_string())?.to_string();
        if let Some(segment) = path_of(&text).split('/').find(|segment| is_dots(segment)) {
            return Err(format!(
                "{text:?} has the path segment {segment:?}, which would change the path"
            ));
        }
        let url = Url::parse(&text).map_err(|e| format!("{text:?}: {e}"))?;
        if url.path() != path_of(&text) && !(url.path() == "/" && path_of(&text).is_empty()) {
            return Err(format!("{text:?} would be parsed as the path {:?}", url.path()));
        }
        // The host is fixed by construction; this check holds even if a URL parser disagrees.
        let same = url.origin() == self.base.origin();
        if same { Ok(url) } else { Err(format!("{text:?} leaves {}", self.base)) }
    }
}

/// The path of a URL with a host, as written.
fn path_of(url: &str) -> &str {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    let path = rest.find(['/', '?', '#']).map_or("", |start| &rest[start..]);
    &path[..path.find(['?', '#']).unwrap_or(path.len())]
}

/// Whether a path segment is `.` or `..` (RFC 3986, section 3.3), encoded or not: these are removed
/// along with the preceding segment, so a key could choose another path.
fn is_dots(segment: &str) -> bool {
    let decoded = segment.to_ascii_lowercase().replace("%2e", ".");
    decoded == "." || decoded == ".."
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("http://h/b/{x}", &[("x", "a b/ü")], "http://h/b/a%20b%2F%C3%BC")]
    #[case("http://h:81/t{?x,y}", &[("x", "1"), ("y", "2&3")], "http://h:81/t?x=1&y=2%263")]
    #[case("https://h/{+x}", &[("x", "a/b")], "https://h/a/b")]
    #[case("http://h/all", &[], "http://h/all")]
    #[case("http://h/b/{x}", &[("x", "a..b/...")], "http://h/b/a..b%2F...")]
    #[case("http://h/{?x}", &[("x", "..")], "http://h/?x=..")]
    fn values_are_encoded(
        #[case] template: &str,
        #[case] values: &[(&str, &str)],
        #[case] url: &str,
    ) {
        assert_eq!(UrlTemplate::parse(template).unwrap().expand(values).unwrap().as_str(), url);
    }

    #[rstest]
    #[case("http://h/b/{x}", "..")]
    #[case("http://h/b/{x}", ".")]
    #[case("http://h/{+x}", "a/../../secret")]
    #[case("http://h/{+x}", "%2e%2E/secret")]
    #[case("http://h/b/.{x}", ".")]
    #[case("http://h/b{/x}", "..")]
    #[case("http://h/../b/{x}", "a")]
    #[case("http://h/b/{+x}/c", "..")]
    fn no_key_leads_to_another_path(#[case] template: &str, #[case] value: &str) {
        let refused = UrlTemplate::parse(template).unwrap().expand(&[("x", value)]).unwrap_err();
        assert!(refused.contains("path segment"), "{refused}");
    }

    #[rstest]
    #[case("boards/{x}")]
    #[case("ftp://h/{x}")]
    #[case("http://{host}/x")]
    #[case("http://user:secret@h/x")]
    #[case("http://")]
    #[case("http://h/{x")]
    fn servers_cannot_be_chosen_by_a_key(#[case] template: &str) {
        assert!(UrlTemplate::parse(template).is_err(), "{template}");
    }
}
