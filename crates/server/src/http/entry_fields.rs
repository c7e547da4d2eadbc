//! The header fields of entries, in requests and responses.

use std::borrow::Cow;
use std::fmt::{self, Write};
use std::time::Duration;

use axum::http::header::{
    AGE, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_RANGE, CONTENT_SECURITY_POLICY, CONTENT_TYPE,
    ETAG, IF_MATCH, IF_NONE_MATCH, X_CONTENT_TYPE_OPTIONS,
};
use axum::http::{HeaderMap, HeaderName, HeaderValue};
use bytes::BytesMut;
use verax_api::FailureKind;
use verax_control::Expected;
use verax_core::PermitNumber;
use verax_core::entry::MediaType;
use verax_core::lifetime::CacheControl;
use verax_core::{EntityTag, Entry, EntryRevision, Lifetime, Precondition};
use verax_engine::TraceContext;
use verax_engine::cache::{PutRequest, ReadOptions, ReadResult, Source, parse_tags, write_tags};

use crate::failure::{Failure, Result};

pub(crate) const CACHE_STATUS: HeaderName = HeaderName::from_static("cache-status");
const CACHE_GROUPS: HeaderName = HeaderName::from_static("cache-groups");
const REVISION: HeaderName = HeaderName::from_static("verax-revision");
const IF_REVISION: HeaderName = HeaderName::from_static("verax-if-revision");
const SERVER_TIMING: HeaderName = HeaderName::from_static("server-timing");

/// The policy of a value that a browser shows as a page.
const SANDBOX: &str = "sandbox; default-src 'none'; frame-ancestors 'none'";

/// The usual total size of a response's header values, in bytes.
const USUAL_TEXT: usize = 192;

/// The lines of a list-based field, joined (RFC 9110, section 5.3).
fn joined<'h>(headers: &'h HeaderMap, name: &HeaderName) -> Result<Option<Cow<'h, str>>> {
    let mut lines = headers.get_all(name).iter();
    let Some(first) = lines.next() else { return Ok(None) };
    let readable = |field: &'h HeaderValue| {
        let text = field.to_str();
        text.map_err(|_| Failure::bad_request(format!("the field {name} is not plain ASCII")))
    };
    let mut text = Cow::Borrowed(readable(first)?);
    for line in lines {
        let all = text.to_mut();
        all.push_str(", ");
        all.push_str(readable(line)?);
    }
    Ok(Some(text))
}

fn text<'h>(headers: &'h HeaderMap, name: &HeaderName) -> Result<Option<&'h str>> {
    let Some(field) = headers.get(name) else { return Ok(None) };
    let readable = field.to_str().map(Some);
    readable.map_err(|_| Failure::bad_request(format!("the field {name} is not plain ASCII")))
}

pub(crate) fn cache_control(headers: &HeaderMap) -> Result<CacheControl> {
    let field = joined(headers, &CACHE_CONTROL)?;
    let parsed = CacheControl::parse(field.as_deref().unwrap_or(""));
    parsed.map_err(|e| Failure::bad_request(e.to_string()))
}

/// A lifetime from its JSON members.
pub(crate) fn cache_control_of(text: Option<&str>) -> Result<CacheControl> {
    CacheControl::parse(text.unwrap_or("")).map_err(|e| Failure::bad_request(e.to_string()))
}

/// Refuses a request with `no-store`.
pub(crate) fn storable(cache_control: CacheControl) -> Result<CacheControl> {
    match cache_control.no_store {
        false => Ok(cache_control),
        true => Err(Failure::invalid("Cache-Control: no-store contradicts a PUT: leave it out")),
    }
}

/// The read options of a request (RFC 9111, section 5.2.1, as far as it applies to a caller that
/// addresses this cache directly).
pub(crate) fn read_options(headers: &HeaderMap) -> Result<ReadOptions> {
    let directives = joined(headers, &CACHE_CONTROL)?.unwrap_or_default();
    let only_if_cached =
        directives.split(',').any(|d| d.trim().eq_ignore_ascii_case("only-if-cached"));
    let CacheControl { no_cache: refresh, stale_if_error, .. } = cache_control(headers)?;
    Ok(ReadOptions { refresh, only_if_cached, stale_if_error, trace: trace_of(headers) })
}

/// The caller's trace context, to forward.
pub(crate) fn trace_of(headers: &HeaderMap) -> Option<TraceContext> {
    let plain = |name: &str| headers.get(name).and_then(|f| f.to_str().ok()).map(str::to_owned);
    plain("traceparent")
        .map(|traceparent| TraceContext { traceparent, tracestate: plain("tracestate") })
}

/// Whether the caller already has the current value (RFC 9110, section 13.1.2).
pub(crate) fn has_current(headers: &HeaderMap, tag: EntityTag) -> bool {
    let listed = |field: &HeaderValue| {
        field.to_str().is_ok_and(|text| {
            text.trim() == "*"
                || text.split(',').any(|t| {
                    EntityTag::parse(t.trim().strip_prefix("W/").unwrap_or(t)) == Some(tag)
                })
        })
    };
    headers.get_all(IF_NONE_MATCH).iter().any(listed)
}

/// The revision the entry must have.
fn expected_revision(headers: &HeaderMap) -> Result<Option<EntryRevision>> {
    let Some(field) = joined(headers, &IF_REVISION)? else { return Ok(None) };
    let number = field.trim().parse().map_err(|_| {
        Failure::bad_request(format!(
            "Verax-If-Revision has {field:?}: use the number from Verax-Revision"
        ))
    })?;
    Ok(Some(EntryRevision::from_number(number)))
}

/// The condition of a request, by revision or by entity tags.
pub(crate) fn entry_condition(headers: &HeaderMap) -> Result<Precondition> {
    match (expected_revision(headers)?, condition(headers)?) {
        (None, by_tags) => Ok(by_tags),
        (Some(revision), Precondition::Always) => Ok(Precondition::IfRevision(revision)),
        (Some(_), _) => Err(Failure::invalid(
            "send Verax-If-Revision, or If-Match or If-None-Match, not both: a revision is stricter than an entity tag",
        )),
    }
}

/// The condition by entity tags (RFC 9110, sections 13.1.1 and 13.1.2).
pub(crate) fn condition(headers: &HeaderMap) -> Result<Precondition> {
    let listed = |name: &HeaderName| {
        let text = joined(headers, name)?;
        text.map(|text| listed_tags(&text).map_err(|what| malformed_list(name, &what))).transpose()
    };
    match (listed(&IF_MATCH)?, listed(&IF_NONE_MATCH)?) {
        (None, None) => Ok(Precondition::Always),
        (Some(TagList::Any), None) => Ok(Precondition::IfPresent),
        (Some(TagList::Tags { strong, .. }), None) => Ok(Precondition::IfMatches(strong)),
        (None, Some(TagList::Any)) => Ok(Precondition::IfAbsent),
        (None, Some(TagList::Tags { mut strong, weak })) => {
            // The comparison is weak: a weak tag names the same value here.
            strong.extend(weak);
            Ok(Precondition::UnlessMatches(strong))
        }
        (Some(_), Some(_)) => Err(Failure::invalid("send If-Match or If-None-Match, not both")),
    }
}

fn malformed_list(name: &HeaderName, what: &str) -> Failure {
    let name = if *name == IF_MATCH { "If-Match" } else { "If-None-Match" };
    Failure::bad_request(format!(
        "{name} has {what:?}: use * or quoted entity tags from ETag, separated by commas"
    ))
}

/// The tags of If-Match or If-None-Match. Tags in a form that no entry has are ignored.
#[derive(Debug, PartialEq, Eq)]
enum TagList {
    Any,
    Tags { strong: Vec<EntityTag>, weak: Vec<EntityTag> },
}

/// Parses `*` or a list of entity tags (RFC 9110, section 8.8.3); a tag may contain a comma.
///
/// # Errors
/// The text that is not an entity tag.
fn listed_tags(text: &str) -> std::result::Result<TagList, String> {
    let mut rest = text.trim();
    if rest == "*" {
        return Ok(TagList::Any);
    }
    let (mut strong, mut weak, mut any) = (Vec::new(), Vec::new(), false);
    while !rest.is_empty() {
        // A list may have empty elements (section 5.6.1).
        if let Some(after) = rest.strip_prefix(',') {
            rest = after.trim_start();
            continue;
        }
        let broken = || rest.chars().take(40).collect::<String>();
        let (is_weak, tag) = match rest.strip_prefix("W/") {
            Some(tag) => (true, tag),
            None => (false, rest),
        };
        let inner = tag.strip_prefix('"').ok_or_else(broken)?;
        let end = inner.find('"').ok_or_else(broken)?;
        let after = inner[end + 1..].trim_start();
        if !(after.is_empty() || after.starts_with(',')) {
            return Err(broken());
        }
        any = true;
        let known = EntityTag::parse(&tag[..end + 2]);
        if is_weak { &mut weak } else { &mut strong }.extend(known);
        rest = after;
    }
    if any { Ok(TagList::Tags { strong, weak }) } else { Err(text.to_owned()) }
}

/// The header field with the permit of a put.
pub(crate) const PERMIT: HeaderName = HeaderName::from_static("verax-permit");

/// The permit of a put, if any.
pub(crate) fn permit_of(headers: &HeaderMap) -> Result<Option<PermitNumber>> {
    let Some(field) = headers.get(PERMIT) else { return Ok(None) };
    let number = field.to_str().ok().and_then(|text| text.trim().parse().ok());
    let number =
        number.ok_or_else(|| Failure::bad_request("Verax-Permit is not the number of a permit"))?;
    Ok(Some(PermitNumber(number)))
}

/// Builds a put request from header fields.
pub(crate) fn put_request(headers: &HeaderMap, value: bytes::Bytes) -> Result<PutRequest> {
    let media_type = text(headers, &CONTENT_TYPE)?.unwrap_or("application/octet-stream");
    let media_type = MediaType::parse(media_type)
        .map_err(|e| Failure::bad_request(format!("Content-Type: {e}")))?;
    // Values are stored as they are, without content codings.
    let coded = text(headers, &CONTENT_ENCODING)?.filter(|c| !c.eq_ignore_ascii_case("identity"));
    if let Some(coding) = coded {
        let detail = format!(
            "Content-Encoding: {coding} would be lost; send the value uncoded, or make the coding part of its media type"
        );
        return Err(Failure::new(FailureKind::UnsupportedCoding, detail));
    }
    if headers.contains_key(CONTENT_RANGE) {
        return Err(Failure::bad_request(
            "Content-Range stores a part of a value, which is not possible here: send all of it",
        ));
    }
    let tags = parse_tags(&joined(headers, &CACHE_GROUPS)?.unwrap_or_default())
        .map_err(|e| Failure::bad_request(e.to_string()))?;
    let cache_control = storable(cache_control(headers)?)?;
    let condition = entry_condition(headers)?;
    Ok(PutRequest { value, media_type, cache_control, tags, condition })
}

/// Header fields of a response, whose values share one allocation.
struct Fields<'h> {
    headers: &'h mut HeaderMap,
    text: BytesMut,
}

impl<'h> Fields<'h> {
    fn new(headers: &'h mut HeaderMap) -> Self {
        Self { headers, text: BytesMut::with_capacity(USUAL_TEXT) }
    }

    fn insert(&mut self, name: HeaderName, text: impl fmt::Display) {
        // Writing to memory cannot fail.
        let _ = write!(self.text, "{text}");
        // It arrived as a header value, so it is one.
        if let Ok(value) = HeaderValue::from_maybe_shared(self.text.split().freeze()) {
            self.headers.insert(name, value);
        }
    }

    /// Keeps a browser from treating a value as a page of this service: no type sniffing, and as a
    /// page it may run and load nothing.
    fn contain(&mut self) {
        self.headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
        self.headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static(SANDBOX));
    }

    /// The header fields of an entry itself.
    fn describe(&mut self, entry: &Entry) {
        self.insert(CONTENT_TYPE, entry.media_type.as_str());
        self.insert(ETAG, entry.entity_tag());
        if let Some(revision) = entry.revision {
            self.insert(REVISION, revision);
        }
        self.insert(CACHE_CONTROL, LifetimeText(&entry.lifetime));
        if !entry.tags.is_empty() {
            self.insert(CACHE_GROUPS, write_tags(&entry.tags));
        }
    }
}

/// RFC 9211: the source of a response, and the time left.
pub(crate) struct CacheStatus<'a>(pub(crate) &'a ReadResult);

impl fmt::Display for CacheStatus<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let left = |time: Duration| time.as_secs();
        // Rounded up, since a copy that is stale by less than a second must not look fresh.
        let past = |time: Duration| time.as_secs() + 1;
        match self.0.source {
            Source::Hit(time) => write!(f, "verax; hit; ttl={}", left(time)),
            Source::Stale(since) => {
                write!(f, "verax; hit; ttl=-{}; detail=stale-while-revalidate", past(since))
            }
            Source::StaleOnError(since) => {
                write!(f, "verax; fwd=stale; ttl=-{}; detail=stale-if-error", past(since))
            }
            Source::Origin(refill) | Source::Joined(refill) => {
                let why = if refill.bypassed { "bypass" } else { "uri-miss" };
                write!(f, "verax; fwd={why}; fwd-status=200")?;
                if let Some(time) = self.0.time_left.filter(|_| refill.stored) {
                    write!(f, "; ttl={}", left(time))?;
                }
                if refill.stored {
                    f.write_str("; stored")?;
                }
                if matches!(self.0.source, Source::Joined(_)) {
                    f.write_str("; collapsed")?;
                }
                Ok(())
            }
        }
    }
}

/// A lifetime in the form of Cache-Control.
struct LifetimeText<'a>(&'a Lifetime);

impl fmt::Display for LifetimeText<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "max-age={}", self.0.max_age.as_secs())?;
        for (name, time) in [
            ("stale-while-revalidate", self.0.stale_while_revalidate),
            ("stale-if-error", self.0.stale_if_error),
        ] {
            if !time.is_zero() {
                write!(f, ", {name}={}", time.as_secs())?;
            }
        }
        Ok(())
    }
}

/// The header fields of an entry itself.
pub(crate) fn describe_entry(headers: &mut HeaderMap, entry: &Entry) {
    Fields::new(headers).describe(entry);
}

/// The header fields of a read: the entry's, its age, its source, and timings.
pub(crate) fn describe_answer(headers: &mut HeaderMap, answer: &ReadResult, took: Duration) {
    let mut fields = Fields::new(headers);
    fields.contain();
    fields.describe(&answer.entry);
    fields.insert(CACHE_STATUS, CacheStatus(answer));
    let ms = |time: Duration| time.as_secs_f64() * 1_000.0;
    match answer.source {
        Source::Origin(refill) | Source::Joined(refill) => {
            let origin = ms(refill.origin_took);
            let text = format_args!("service;dur={:.3}, origin;dur={origin:.3}", ms(took));
            fields.insert(SERVER_TIMING, text);
        }
        _ => fields.insert(SERVER_TIMING, format_args!("service;dur={:.3}", ms(took))),
    }
    headers.insert(AGE, HeaderValue::from(answer.age.as_secs()));
}

/// The versions a change may apply to.
pub(crate) fn expected(headers: &HeaderMap) -> Result<Expected> {
    match condition(headers)? {
        Precondition::Always => Ok(Expected::Any),
        Precondition::IfPresent => Ok(Expected::Present),
        Precondition::IfMatches(tags) => Ok(Expected::OneOf(tags)),
        Precondition::IfAbsent => Ok(Expected::Absent),
        Precondition::UnlessMatches(_) | Precondition::IfRevision(_) => {
            Err(Failure::invalid("send If-Match with the ETag of the current version"))
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const TAG: &str = "\"000000000000000000000000000000ff\"";

    fn tag() -> EntityTag {
        EntityTag::from_number(0xff)
    }

    fn fields(lines: &[(&'static str, String)]) -> HeaderMap {
        let mut headers = HeaderMap::new();
        for (name, line) in lines {
            headers.append(*name, HeaderValue::try_from(line).unwrap());
        }
        headers
    }

    #[rstest]
    #[case("if-match", "*", Ok(Precondition::IfPresent))]
    #[case("if-none-match", "*", Ok(Precondition::IfAbsent))]
    #[case("if-match", "TAG", Ok(Precondition::IfMatches(vec![tag()])))]
    #[case("if-match", "\"a,b\", TAG ,", Ok(Precondition::IfMatches(vec![tag()])))]
    // The comparison is strong, so a weak tag never matches; neither does a foreign one.
    #[case("if-match", "W/TAG", Ok(Precondition::IfMatches(vec![])))]
    #[case("if-match", "\"v1\"", Ok(Precondition::IfMatches(vec![])))]
    #[case("if-none-match", "W/TAG", Ok(Precondition::UnlessMatches(vec![tag()])))]
    #[case("if-match", "v1", Err("v1"))]
    #[case("if-match", "\"v1", Err("v1"))]
    #[case("if-match", "\"a\" \"b\"", Err("b"))]
    #[case("if-match", "", Err("use * or"))]
    #[case("if-match", ", ,", Err("use * or"))]
    #[case("if-match", "*, TAG", Err("*"))]
    fn conditions_are_read_as_rfc_9110_has_them(
        #[case] name: &'static str,
        #[case] line: &str,
        #[case] expected: std::result::Result<Precondition, &str>,
    ) {
        let headers = fields(&[(name, line.replace("TAG", TAG))]);
        match (condition(&headers), expected) {
            (Ok(read), Ok(expected)) => assert_eq!(read, expected),
            (Err(failure), Err(says)) => {
                assert_eq!(failure.kind(), FailureKind::BadRequest);
                assert!(failure.detail().contains(says), "{}", failure.detail());
            }
            (read, expected) => panic!("{read:?} {expected:?}"),
        }
    }

    #[test]
    fn a_revision_condition_is_one_number_and_stands_alone() {
        let of = |lines: &[(&'static str, &str)]| {
            let lines: Vec<_> =
                lines.iter().map(|(name, text)| (*name, (*text).to_owned())).collect();
            entry_condition(&fields(&lines))
        };
        let expected = Precondition::IfRevision(EntryRevision::from_number(17));
        assert_eq!(of(&[("verax-if-revision", " 17 ")]).unwrap(), expected);
        for malformed in ["", "x", "-1", "\"17\"", "17, 18", "18446744073709551616"] {
            let refused = of(&[("verax-if-revision", malformed)]).unwrap_err();
            assert_eq!(refused.kind(), FailureKind::BadRequest, "{malformed:?}");
        }
        for other in ["if-match", "if-none-match"] {
            let refused = of(&[("verax-if-revision", "17"), (other, "*")]).unwrap_err();
            assert_eq!(refused.kind(), FailureKind::Invalid, "{other}");
        }
    }

    #[test]
    fn repeated_header_lines_are_combined() {
        let line = |name, line: &str| (name, line.to_owned());
        let headers =
            fields(&[line("cache-control", "max-age=5"), line("cache-control", "no-store")]);
        assert!(cache_control(&headers).unwrap().no_store);
        let headers =
            fields(&[line("cache-groups", "\"a\""), line("cache-groups", "\"b\", \"c\"")]);
        let request = put_request(&headers, bytes::Bytes::new()).unwrap();
        let tags: Vec<String> = request.tags.iter().map(|tag| tag.to_string()).collect();
        assert_eq!(tags, ["a", "b", "c"]);
        let headers = fields(&[line("if-match", "\"v1\""), line("if-match", TAG)]);
        assert_eq!(condition(&headers).unwrap(), Precondition::IfMatches(vec![tag()]));
    }
}
