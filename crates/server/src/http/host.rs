//! The host names the service accepts (RFC 9110, section 7.2).
//!
//! A page of another site can make a browser send requests here by a host name of its own that
//! resolves to this address. Such a request has that name, and is refused.

use axum::extract::Request;
use axum::http::header::HOST;
use axum::http::uri::Authority;
use axum::response::{IntoResponse, Response};

use crate::failure::Failure;
use verax_api::FailureKind;

/// The names accepted besides `localhost` and addresses, which no other site can claim.
#[derive(Debug, Clone, Default)]
pub struct HostNames(Vec<String>);

impl HostNames {
    /// Names as in URLs, without a port; `*` accepts any name.
    pub fn new(names: impl IntoIterator<Item = String>) -> Self {
        Self(names.into_iter().map(|name| name.trim().to_ascii_lowercase()).collect())
    }

    fn serves(&self, host: &str) -> bool {
        let host = host.trim_end_matches('.').to_ascii_lowercase();
        let address = host.trim_start_matches('[').trim_end_matches(']');
        address.parse::<std::net::IpAddr>().is_ok()
            || host == "localhost"
            || self.0.iter().any(|name| name == "*" || *name == host)
    }

    /// Refuses a request without exactly one accepted host.
    pub(crate) fn check(&self, request: &Request) -> Option<Response> {
        let mut fields = request.headers().get_all(HOST).iter();
        let (first, second) = (fields.next(), fields.next());
        let malformed = |detail: &str| Some(Failure::bad_request(detail).into_response());
        if second.is_some() {
            return malformed("send one Host field, not several");
        }
        let Some(field) = first else {
            return malformed("the Host field is missing: name the host that you ask");
        };
        let host = field.to_str().ok().and_then(|text| text.parse::<Authority>().ok());
        let Some(host) = host.filter(|host| !host.as_str().contains('@')) else {
            return malformed("the Host field is not a host with an optional port");
        };
        // A target in absolute form overrides the field, so they must not differ.
        let target = request.uri().authority();
        let other = target.filter(|target| !self.serves(target.host()));
        if self.serves(host.host()) && other.is_none() {
            return None;
        }
        let detail = format!(
            "{} is not a host name of this service: use an address or localhost, or add the name to http.host_names",
            other.map_or(host.host(), |other| other.host()),
        );
        Some(Failure::new(FailureKind::ForeignHost, detail).into_response())
    }
}

#[cfg(test)]
mod tests {
    use axum::body::Body;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&["127.0.0.1:8750"], 200)]
    #[case(&["[::1]:8750"], 200)]
    #[case(&["localhost"], 200)]
    #[case(&["LOCALHOST.:80"], 200)]
    #[case(&["cache.ferry.example:443"], 200)]
    #[case(&["evil.example"], 421)]
    #[case(&["localhost.evil.example"], 421)]
    #[case(&["user@localhost"], 400)]
    #[case(&[""], 400)]
    #[case(&[], 400)]
    #[case(&["localhost", "localhost"], 400)]
    fn a_request_names_one_host_that_is_served(#[case] hosts: &[&str], #[case] status: u16) {
        let names = HostNames::new(["cache.ferry.example".to_owned()]);
        let mut request = Request::builder().uri("/healthz");
        for host in hosts {
            request = request.header(HOST, *host);
        }
        let refused = names.check(&request.body(Body::empty()).unwrap());
        assert_eq!(refused.map_or(200, |response| response.status().as_u16()), status);
    }

    #[test]
    fn absolute_request_targets_are_checked() {
        let request = Request::builder().uri("http://evil.example/v1/tenants");
        let request = request.header(HOST, "localhost").body(Body::empty()).unwrap();
        let refused = HostNames::default().check(&request).unwrap();
        assert_eq!(refused.status(), 421);
        let any = HostNames::new(["*".to_owned()]);
        assert!(any.check(&request).is_none());
    }
}
