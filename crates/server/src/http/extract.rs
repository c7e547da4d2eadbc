//! Parses paths, queries and JSON bodies, with problem documents for malformed ones.

use std::borrow::Cow;
use std::time::Duration;

use axum::extract::rejection::JsonRejection;
use axum::extract::{DefaultBodyLimit, FromRequest, FromRequestParts, RawPathParams, Request};
use axum::http::request::Parts;
use serde::de::DeserializeOwned;
use verax_api::{FailureKind, Object};
use verax_core::entry::Tag;
use verax_core::{Key, Name};
use verax_engine::cache::{MAX_PAGE_ENTRIES, checked_tags};

use super::limits::MAX_JSON_BYTES;
use crate::failure::Failure;

/// A JSON body.
#[derive(Debug)]
pub(crate) struct Json<T>(pub(crate) T);

/// How long a JSON body may take to arrive.
const BODY_TIMEOUT: Duration = Duration::from_secs(30);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Json<T> {
    type Rejection = Failure;

    async fn from_request(request: Request, _: &S) -> Result<Self, Failure> {
        json_within(request, MAX_JSON_BYTES).await.map(Json)
    }
}

/// Reads a JSON body of at most `limit` bytes.
///
/// # Errors
/// A problem document that says what is wrong with the body.
pub(crate) async fn json_within<T: DeserializeOwned>(
    mut request: Request,
    limit: usize,
) -> Result<T, Failure> {
    DefaultBodyLimit::max(limit).apply(&mut request);
    let reading =
        tokio::time::timeout(BODY_TIMEOUT, axum::Json::<Object<T>>::from_request(request, &()));
    let Ok(read) = reading.await else {
        let seconds = BODY_TIMEOUT.as_secs();
        let detail = format!("the body did not arrive within {seconds} seconds");
        return Err(Failure::new(FailureKind::BodyTimeout, detail));
    };
    match read {
        Ok(axum::Json(Object(value))) => Ok(value),
        Err(JsonRejection::MissingJsonContentType(_)) => Err(Failure::new(
            FailureKind::NotJson,
            "send the body as JSON, with Content-Type: application/json",
        )),
        Err(JsonRejection::BytesRejection(error)) if error.status() == 413 => Err(Failure::new(
            FailureKind::BodyTooLarge,
            format!("the body has more than {limit} bytes"),
        )),
        Err(error @ JsonRejection::JsonDataError(_)) => Err(Failure::invalid(error.body_text())),
        Err(error) => Err(Failure::new(FailureKind::MalformedJson, error.body_text())),
    }
}

/// The query of a URL.
#[derive(Debug)]
pub(crate) struct Query<T>(pub(crate) T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Failure> {
        // Anything but UTF-8 would be misread.
        let written = parts.uri.query().unwrap_or_default();
        if percent_encoding::percent_decode_str(written).decode_utf8().is_err() {
            return Err(Failure::bad_request("the query is not UTF-8 after decoding"));
        }
        let query = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        query
            .map(|axum::extract::Query(query)| Query(query))
            .map_err(|e| Failure::bad_request(e.body_text()))
    }
}

/// How many items a page has: what is asked for, or as many as usual.
///
/// # Errors
/// 422 for none or too many.
pub(crate) fn page_limit(asked: Option<u32>, usual: u32) -> Result<u32, Failure> {
    let (asked, most) = (asked.unwrap_or(usual), MAX_PAGE_ENTRIES as u32);
    match (1..=most).contains(&asked) {
        true => Ok(asked),
        false => Err(Failure::invalid(format!("limit = {asked} is out of range: use 1 to {most}"))),
    }
}

/// The path's parameters, by name.
async fn parameters<const N: usize>(
    parts: &mut Parts,
    wanted: [&str; N],
) -> Result<[String; N], Failure> {
    let found = RawPathParams::from_request_parts(parts, &())
        .await
        .map_err(|e| Failure::bad_request(e.body_text()))?;
    Ok(wanted.map(|wanted| {
        let parameter = found.iter().find(|(name, _)| *name == wanted);
        parameter.map(|(_, value)| value.to_owned()).unwrap_or_default()
    }))
}

fn name(wanted: &str, text: String) -> Result<Name, Failure> {
    Name::new(text).map_err(|e| Failure::bad_request(format!("the {wanted} in the path: {e}")))
}

/// `{tenant}` of the path.
#[derive(Debug)]
pub(crate) struct TenantPath(pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for TenantPath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [tenant] = parameters(parts, ["tenant"]).await?;
        Ok(TenantPath(name("tenant", tenant)?))
    }
}

/// `{origin}` of the path.
#[derive(Debug)]
pub(crate) struct OriginPath(pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for OriginPath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [origin] = parameters(parts, ["origin"]).await?;
        Ok(OriginPath(name("origin", origin)?))
    }
}

/// `{plan}` of the path.
#[derive(Debug)]
pub(crate) struct PlanPath(pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for PlanPath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [plan] = parameters(parts, ["plan"]).await?;
        Ok(PlanPath(name("plan", plan)?))
    }
}

/// `{profile}` of the path.
#[derive(Debug)]
pub(crate) struct ProfilePath(pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for ProfilePath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [profile] = parameters(parts, ["profile"]).await?;
        Ok(ProfilePath(name("profile", profile)?))
    }
}

/// `{schedule}` of the path.
#[derive(Debug)]
pub(crate) struct SchedulePath(pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for SchedulePath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [schedule] = parameters(parts, ["schedule"]).await?;
        Ok(SchedulePath(name("schedule", schedule)?))
    }
}

/// `{tenant}` and `{namespace}` of the path.
#[derive(Debug)]
pub(crate) struct NamespacePath(pub(crate) Name, pub(crate) Name);

impl<S: Send + Sync> FromRequestParts<S> for NamespacePath {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [tenant, namespace] = parameters(parts, ["tenant", "namespace"]).await?;
        Ok(NamespacePath(name("tenant", tenant)?, name("namespace", namespace)?))
    }
}

/// `{id}` of the path.
#[derive(Debug)]
pub(crate) struct WithId(pub(crate) u64);

impl<S: Send + Sync> FromRequestParts<S> for WithId {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let [text] = parameters(parts, ["id"]).await?;
        let id = text.parse();
        let error = |_| Failure::bad_request(format!("{text:?} in the path is not a number"));
        id.map(WithId).map_err(error)
    }
}

/// `{key}`, the last segment of the path, decoded strictly: lenient decoding could map two
/// different keys to one entry.
#[derive(Debug)]
pub(crate) struct WithKey(pub(crate) Key);

impl<S: Send + Sync> FromRequestParts<S> for WithKey {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let path = parts.uri.path();
        let segment = path.rsplit('/').next().unwrap_or_default();
        let text = decode_segment(segment).map_err(Failure::bad_request)?;
        Ok(WithKey(Key::new(text).map_err(|e| Failure::bad_request(e.to_string()))?))
    }
}

/// `{tag}`, the last segment of the path, decoded like a key.
#[derive(Debug)]
pub(crate) struct WithTag(pub(crate) Tag);

impl<S: Send + Sync> FromRequestParts<S> for WithTag {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let segment = parts.uri.path().rsplit('/').next().unwrap_or_default();
        let text = decode_segment(segment).map_err(Failure::bad_request)?;
        let tags =
            checked_tags([text.as_ref()]).map_err(|e| Failure::bad_request(e.to_string()))?;
        let tag = tags.into_iter().next();
        tag.map(WithTag).ok_or_else(|| Failure::bad_request("the tag is missing"))
    }
}

/// Decodes one percent-encoded segment (RFC 3986, section 2.1).
pub(crate) fn decode_segment(segment: &str) -> Result<Cow<'_, str>, String> {
    let malformed = segment.match_indices('%').find(|(at, _)| {
        let digits = segment.as_bytes().get(at + 1..at + 3);
        !digits.is_some_and(|pair| pair.iter().all(u8::is_ascii_hexdigit))
    });
    if let Some((at, _)) = malformed {
        let piece: String = segment[at..].chars().take(3).collect();
        return Err(format!(
            "the key has {piece:?} at byte {at}, which is not a percent sign and two hexadecimal digits; write a percent sign itself as %25"
        ));
    }
    percent_encoding::percent_decode_str(segment)
        .decode_utf8()
        .map_err(|e| format!("the key is not UTF-8 after decoding: {e}"))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("a%2Fb", Ok("a/b"))]
    #[case("a+b%20c", Ok("a+b c"))]
    #[case("%C3%A4", Ok("ä"))]
    #[case("100%25", Ok("100%"))]
    #[case("%", Err("\"%\" at byte 0"))]
    #[case("a%2", Err("\"%2\" at byte 1"))]
    #[case("a%zz", Err("\"%zz\" at byte 1"))]
    #[case("%FF", Err("not UTF-8"))]
    fn segments_are_decoded_strictly(#[case] segment: &str, #[case] expected: Result<&str, &str>) {
        match (decode_segment(segment), expected) {
            (Ok(text), Ok(expected)) => assert_eq!(text, expected),
            (Err(error), Err(says)) => assert!(error.contains(says), "{error}"),
            (got, _) => panic!("{segment}: {got:?}"),
        }
    }
}
