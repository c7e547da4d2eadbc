//! The value of a read, and its source.

use std::time::Duration;

use bytes::Bytes;
use reqwest::header::{AGE, CONTENT_TYPE, ETAG, HeaderMap};
use sfv::{BareItem, List, ListEntry, Parser};
use verax_core::source::Source;

/// A value.
#[derive(Debug, Clone)]
pub struct ReadResult {
    /// The value's bytes.
    pub value: Bytes,
    /// Its media type.
    pub media_type: String,
    /// Its entity tag, with quotes.
    pub entity_tag: Option<String>,
    /// Its tags.
    pub tags: Vec<String>,
    /// The revision of its entry; `None` if it is not stored.
    pub revision: Option<u64>,
    /// How long ago it was stored.
    pub age: Duration,
    /// Its source.
    pub source: Source,
    /// Whether it is stored now.
    pub stored: bool,
    /// Seconds until it is stale; negative once it is, `None` if it is not stored.
    pub seconds_left: Option<i64>,
    /// How long Verax took, in milliseconds, as reported by it.
    pub service_ms: Option<f64>,
    /// How long the origin took, in milliseconds.
    pub origin_ms: Option<f64>,
}

/// The parameters of Verax's member of a `Cache-Status` field.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct CacheStatus {
    hit: bool,
    stored: bool,
    collapsed: bool,
    ttl: Option<i64>,
    forwarded: Option<String>,
}

impl CacheStatus {
    pub(crate) fn parse(field: &str) -> Option<Self> {
        let list: List = Parser::new(field).parse().ok()?;
        // The last member is nearest to the client; Verax knows of no other.
        let verax = list.iter().rev().find_map(|member| match member {
            ListEntry::Item(item) => match &item.bare_item {
                BareItem::Token(name) if name.as_str() == "verax" => Some(item),
                _ => None,
            },
            ListEntry::InnerList(_) => None,
        })?;
        let mut status = Self::default();
        for (name, value) in &verax.params {
            match (name.as_str(), value) {
                ("hit", BareItem::Boolean(set)) => status.hit = *set,
                ("stored", BareItem::Boolean(set)) => status.stored = *set,
                ("collapsed", BareItem::Boolean(set)) => status.collapsed = *set,
                ("ttl", BareItem::Integer(seconds)) => status.ttl = Some(i64::from(*seconds)),
                ("fwd", BareItem::Token(why)) => status.forwarded = Some(why.as_str().to_owned()),
                _ => {}
            }
        }
        Some(status)
    }

    pub(crate) fn source(&self) -> Source {
        match (self.hit, self.forwarded.as_deref()) {
            (true, _) if self.ttl.is_some_and(|left| left < 0) => Source::Stale,
            (true, _) => Source::Hit,
            (false, Some("stale")) => Source::StaleOnError,
            (false, _) if self.collapsed => Source::Joined,
            (false, _) => Source::Origin,
        }
    }
}

fn text<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    headers.get(name)?.to_str().ok()
}

/// The members of a `Cache-Groups` field.
fn tags(field: &str) -> Vec<String> {
    let list: List = Parser::new(field).parse().unwrap_or_default();
    list.into_iter()
        .filter_map(|member| match member {
            ListEntry::Item(item) => match item.bare_item {
                BareItem::String(tag) => Some(String::from(tag)),
                _ => None,
            },
            ListEntry::InnerList(_) => None,
        })
        .collect()
}

/// One duration of a `Server-Timing` field (W3C), in milliseconds.
fn timing(field: &str, wanted: &str) -> Option<f64> {
    field.split(',').find_map(|metric| {
        let mut parts = metric.split(';').map(str::trim);
        (parts.next()? == wanted)
            .then(|| parts.find_map(|p| p.strip_prefix("dur=")?.parse().ok()))?
    })
}

impl ReadResult {
    /// Parses a response's header fields; `None` if it is not from Verax.
    pub(crate) fn of(headers: &HeaderMap, value: Bytes) -> Option<Self> {
        let status = CacheStatus::parse(text(headers, "cache-status")?)?;
        let timings = text(headers, "server-timing").unwrap_or("");
        let source = status.source();
        let from_cache = source.is_cached();
        Some(Self {
            value,
            media_type: text(headers, CONTENT_TYPE.as_str()).unwrap_or_default().to_owned(),
            entity_tag: text(headers, ETAG.as_str()).map(str::to_owned),
            tags: tags(text(headers, "cache-groups").unwrap_or("")),
            revision: text(headers, "verax-revision").and_then(|number| number.parse().ok()),
            age: Duration::from_secs(
                text(headers, AGE.as_str()).and_then(|age| age.parse().ok()).unwrap_or(0),
            ),
            source,
            stored: status.stored || from_cache,
            seconds_left: status.ttl,
            service_ms: timing(timings, "service"),
            origin_ms: timing(timings, "origin"),
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("verax; hit; ttl=27", Source::Hit, Some(27))]
    #[case("verax; hit; ttl=0", Source::Hit, Some(0))]
    #[case("verax; hit; ttl=-3; detail=stale-while-revalidate", Source::Stale, Some(-3))]
    #[case("verax; fwd=stale; ttl=-9; detail=stale-if-error", Source::StaleOnError, Some(-9))]
    #[case("verax; fwd=uri-miss; fwd-status=200; ttl=30; stored", Source::Origin, Some(30))]
    #[case("verax; fwd=uri-miss; fwd-status=200; stored; collapsed", Source::Joined, None)]
    #[case("other; hit, verax; fwd=uri-miss", Source::Origin, None)]
    fn cache_status_tells_the_source(
        #[case] field: &str,
        #[case] source: Source,
        #[case] ttl: Option<i64>,
    ) {
        let status = CacheStatus::parse(field).unwrap();
        assert_eq!((status.source(), status.ttl), (source, ttl));
    }

    #[test]
    fn other_caches_are_not_verax() {
        assert_eq!(CacheStatus::parse("somebody; hit"), None);
        assert_eq!(CacheStatus::parse(";;"), None);
    }

    #[test]
    fn server_timings_are_found_by_name() {
        let field = "service;dur=53.118, origin;desc=\"x\";dur=52.900";
        assert_eq!(timing(field, "service"), Some(53.118));
        assert_eq!(timing(field, "origin"), Some(52.9));
        assert_eq!(timing(field, "other"), None);
    }
}
