//! The ranges of numbers, lengths and counts in the description, from the constants that the code
//! checks.

use std::ops::RangeInclusive;
use std::time::Duration;

use utoipa::Number;
use utoipa::openapi::path::{Parameter, ParameterIn};
use utoipa::openapi::schema::{Array, ArrayItems, Object, SchemaType, Type};
use utoipa::openapi::{RefOr, Schema};
use verax_control::activity::ROWS_OF_ACTIVITY;
use verax_control::runs::{CALLERS, MAX_MARK_CHARACTERS, RECORDING_LENGTHS};
use verax_control::{NOTE_LENGTHS, QUIET_SECONDS, SCOPE_COUNTS, WITHIN_SECONDS};
use verax_core::early::MAX_FACTOR;
use verax_core::guard::lock::MAX_OWNER_BYTES;
use verax_core::key::MAX_KEY_BYTES;
use verax_core::lifetime::MAX_LIFETIME;
use verax_core::load::{DURATIONS, LANES, MAX_CLIENTS, MAX_REQUESTS, MAX_STAGES, MAX_WORKERS};
use verax_core::origin::{
    FAILURES, MAX_ENDPOINTS, MAX_LISTED, MAX_QUERY_BYTES, PAUSES_MS, QUEUES, READS_AT_ONCE,
    RESPONSE_BYTES, RETRY_PERCENTS, ROWS, TIMEOUTS_MS,
};
use verax_core::policy::{
    CAPS, COMPRESS_ABOVE, MAX_BYPASS, MAX_ENTRIES, MAX_JITTER_PERCENT, MAX_VALUE_BYTES,
};
use verax_core::schedule::{INTERVALS, MAX_JITTER};
use verax_core::store::{MAX_RATE_COUNT, MAX_RATE_PERIOD};
use verax_core::tenant_quota::{MAX_CONNECTIONS, MAX_NAMESPACES};
use verax_core::traffic::MAX_PER_SECOND;
use verax_core::warm::{CONCURRENCIES, MAX_RETRIES};
use verax_engine::cache::{MAX_BATCH_OPERATIONS, MAX_PAGE_ENTRIES};
use verax_engine::{cache, locks};

use crate::http::limits::MAX_FAILURE_NUMBER;

/// The bounds of a member of a request.
pub(super) enum Bounds {
    /// A whole number.
    Whole(RangeInclusive<u64>),
    /// A number of seconds.
    Seconds(RangeInclusive<Duration>),
    /// A text of a minimum and maximum length in characters. Where the code counts bytes, this is
    /// the closest a schema can express.
    Text(RangeInclusive<usize>),
    /// A text that matches a regular expression.
    Pattern(&'static str),
    /// A list of a minimum and maximum length.
    List(RangeInclusive<usize>),
    /// A list of texts that match a regular expression, of a minimum and maximum length.
    Patterns(RangeInclusive<usize>, &'static str),
}

/// The pattern of [`Name`](verax_core::Name).
const NAME: &str = "^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$";

/// The pattern of a tag: printable ASCII, at most
/// [`MAX_TAG_BYTES`](verax_core::entry::MAX_TAG_BYTES).
const TAG: &str = "^[ -~]{1,128}$";

/// The pattern of [`Scope`](verax_core::access::Scope).
const SCOPE: &str = "^(admin|(read|write|invalidate|lock|warm|load|observe|manage):[a-z]([a-z0-9-]{0,61}[a-z0-9])?(/[a-z]([a-z0-9-]{0,61}[a-z0-9])?)?)$";

/// The pattern of [`ContentRule`](verax_core::ContentRule).
const CONTENT: &str = "^(any|text|json)$";

/// The pattern of conditions: lists of entity tags (RFC 9110, section 8.8.3).
const ENTITY_TAGS: &str = r#"^(\*|(W/)?"[!#-~]*"( *, *(W/)?"[!#-~]*")*)$"#;

/// A list of tags (RFC 9875): strings as RFC 9651 writes them.
const CACHE_GROUPS: &str = "^\"[ !#-\\[\\]-~]{1,128}\"( *, *\"[ !#-\\[\\]-~]{1,128}\"){0,31}$";

/// The bounded members of requests: schema, member, bounds.
pub(super) fn members() -> Vec<(&'static str, &'static str, Bounds)> {
    use Bounds::{List, Pattern, Patterns, Seconds, Text, Whole};
    let lifetime = || Seconds(Duration::ZERO..=MAX_LIFETIME);
    let percent = |most: u64| Whole(0..=most);
    let seconds = |range: RangeInclusive<f64>| {
        Seconds(Duration::from_secs_f64(*range.start())..=Duration::from_secs_f64(*range.end()))
    };
    let count = |range: RangeInclusive<u32>| Whole((*range.start()).into()..=(*range.end()).into());
    let mut members = vec![
        ("CreateTenant", "name", Pattern(NAME)),
        ("CreateNamespace", "name", Pattern(NAME)),
        ("CreateOrigin", "name", Pattern(NAME)),
        ("CreateToken", "scopes", Patterns(SCOPE_COUNTS, SCOPE)),
        ("CreateToken", "note", Text(NOTE_LENGTHS)),
        ("OriginChoice", "name", Pattern(NAME)),
        ("PolicyChange", "max_age_seconds", lifetime()),
        ("PolicyChange", "stale_while_revalidate_seconds", lifetime()),
        ("PolicyChange", "stale_if_error_seconds", lifetime()),
        ("PolicyChange", "negative_max_age_seconds", lifetime()),
        ("PolicyChange", "shortest_max_age_seconds", lifetime()),
        ("PolicyChange", "longest_max_age_seconds", lifetime()),
        ("PolicyChange", "content", Pattern(CONTENT)),
        ("PolicyChange", "bypass_seconds", Seconds(Duration::ZERO..=MAX_BYPASS)),
        ("PolicyChange", "jitter_percent", percent(MAX_JITTER_PERCENT.into())),
        ("PolicyChange", "early_refresh_percent", percent(MAX_FACTOR.into())),
        ("PolicyChange", "max_value_bytes", Whole(1..=MAX_VALUE_BYTES)),
        ("PolicyChange", "compress_above_bytes", Whole(COMPRESS_ABOVE)),
        ("PolicyChange", "cap_bytes", Whole(CAPS)),
        ("PolicyChange", "reserve_bytes", Whole(0..=*CAPS.end())),
        ("PolicyChange", "max_entries", Whole(1..=MAX_ENTRIES)),
        ("PolicyChange", "requests_per_second", Whole(1..=MAX_PER_SECOND)),
        ("PolicyChange", "bytes_per_second", Whole(1..=MAX_PER_SECOND)),
        ("TenantQuotaChange", "reserve_bytes", Whole(0..=*CAPS.end())),
        ("TenantQuotaChange", "cap_bytes", Whole(CAPS)),
        ("TenantQuotaChange", "max_entries", Whole(1..=MAX_ENTRIES)),
        ("TenantQuotaChange", "max_namespaces", Whole(1..=MAX_NAMESPACES)),
        ("TenantQuotaChange", "max_value_bytes", Whole(1..=MAX_VALUE_BYTES)),
        ("TenantQuotaChange", "requests_per_second", Whole(1..=MAX_PER_SECOND)),
        ("TenantQuotaChange", "bytes_per_second", Whole(1..=MAX_PER_SECOND)),
        ("TenantQuotaChange", "max_connections", Whole(1..=MAX_CONNECTIONS)),
        ("PoolChange", "endpoints", List(0..=MAX_ENDPOINTS - 1)),
        ("PoolChange", "slow_after_ms", Whole(0..=*TIMEOUTS_MS.end())),
        ("SqlChange", "query", Text(0..=MAX_QUERY_BYTES)),
        ("SqlChange", "max_rows", Whole(ROWS)),
        ("GuardChange", "max_concurrency", Whole(READS_AT_ONCE)),
        ("GuardChange", "max_queue", Whole(QUEUES)),
        ("GuardChange", "retry_budget_percent", Whole(RETRY_PERCENTS)),
        ("GuardChange", "failure_threshold", Whole(FAILURES)),
        ("GuardChange", "open_for_ms", Whole(PAUSES_MS)),
        ("BatchRequest", "operations", List(0..=MAX_BATCH_OPERATIONS)),
        // Operations of a batch fail one by one, so they have no bounds here.
        ("AcquireRate", "acquire", Whole(0..=MAX_RATE_COUNT)),
        ("AcquireRate", "rate", Whole(1..=MAX_RATE_COUNT)),
        ("AcquireRate", "burst", Whole(1..=MAX_RATE_COUNT)),
        ("AcquireRate", "period_seconds", Seconds(Duration::from_millis(1)..=MAX_RATE_PERIOD)),
        ("AcquireLock", "owner", Text(0..=MAX_OWNER_BYTES)),
        ("AcquireLock", "lease_seconds", Seconds(locks::LEASES)),
        ("RenewLock", "lease_seconds", Seconds(locks::LEASES)),
        ("AcquirePermit", "owner", Text(0..=MAX_OWNER_BYTES)),
        ("AcquirePermit", "lease_seconds", Seconds(cache::LEASES)),
        ("WarmPlanSpec", "namespace", Pattern(NAME)),
        ("WarmPlanSpec", "note", Text(0..=200)),
        ("AfterInvalidation", "quiet_seconds", seconds(QUIET_SECONDS)),
        ("AfterInvalidation", "within_seconds", seconds(WITHIN_SECONDS)),
        ("ScheduleSpec", "note", Text(0..=200)),
        ("ArrivalsSpec", "clients", Whole(1..=MAX_CLIENTS.into())),
        ("ArrivalsSpec", "instances", Whole(1..=MAX_CLIENTS.into())),
        ("ArrivalsSpec", "clients_each", Whole(1..=MAX_CLIENTS.into())),
        ("RecordTraffic", "seconds", Seconds(RECORDING_LENGTHS)),
        ("ArrivalsSpec", "max_in_flight", Whole(1..=MAX_CLIENTS.into())),
        ("LoadRequest", "workers", Whole(0..=MAX_WORKERS.into())),
        ("StandInChange", "extra_latency_ms", Whole(0..=60_000)),
        ("MarkLoad", "text", Text(1..=MAX_MARK_CHARACTERS)),
        ("StopWhenSpec", "for_seconds", Whole(1..=3_600)),
        ("StopWhenSpec", "requests", Whole(1..=MAX_REQUESTS)),
        ("LoadProfileSpec", "lanes", List(LANES)),
        ("LoadProfileSpec", "stages", List(0..=MAX_STAGES)),
        ("LoadProfileSpec", "duration_seconds", Seconds(DURATIONS)),
        ("LoadProfileSpec", "warm_up_seconds", Seconds(Duration::ZERO..=*DURATIONS.end())),
        ("LoadProfileSpec", "name", Pattern(NAME)),
        ("DrillRequest", "callers", count(CALLERS)),
    ];
    for shape in ["WarmRequest", "WarmPlanSpec"] {
        members.extend([
            (shape, "keys", List(1..=32)),
            (shape, "concurrency", count(CONCURRENCIES)),
            (shape, "origin_share_percent", Whole(1..=100)),
            (shape, "retries", Whole(0..=MAX_RETRIES.into())),
            (shape, "deadline_seconds", seconds(1.0..=86_400.0)),
            (shape, "first_pause_seconds", seconds(0.0..=30.0)),
        ]);
    }
    for shape in ["ScheduleTiming", "ScheduleSpec"] {
        members.extend([
            (shape, "every_seconds", Seconds(INTERVALS)),
            (shape, "jitter_seconds", Seconds(Duration::ZERO..=MAX_JITTER)),
        ]);
    }
    for shape in ["CreateOrigin", "OriginChange"] {
        members.extend([
            (shape, "connect_timeout_ms", Whole(TIMEOUTS_MS)),
            (shape, "total_timeout_ms", Whole(TIMEOUTS_MS)),
            (shape, "max_response_bytes", Whole(RESPONSE_BYTES)),
            (shape, "listings", List(0..=MAX_LISTED)),
            (shape, "open_to", Patterns(0..=MAX_LISTED, NAME)),
        ]);
    }
    members
}

/// The bounds of a parameter, by name.
fn parameter(name: &str, place: &ParameterIn, activity: bool) -> Option<Bounds> {
    let bounds = match (place, name) {
        (
            ParameterIn::Path,
            "tenant" | "namespace" | "origin" | "plan" | "profile" | "schedule",
        ) => Bounds::Pattern(NAME),
        (ParameterIn::Query, "tenant") => Bounds::Pattern(NAME),
        (ParameterIn::Path, "tag") => Bounds::Pattern(TAG),
        (ParameterIn::Header, "If-Match" | "If-None-Match") => Bounds::Pattern(ENTITY_TAGS),
        (ParameterIn::Header, "Cache-Groups") => Bounds::Pattern(CACHE_GROUPS),
        (ParameterIn::Path | ParameterIn::Query, "key") => Bounds::Text(1..=MAX_KEY_BYTES),
        (ParameterIn::Query, "limit") if activity => {
            Bounds::Whole((*ROWS_OF_ACTIVITY.start()).into()..=(*ROWS_OF_ACTIVITY.end()).into())
        }
        (ParameterIn::Query, "limit") => Bounds::Whole(1..=MAX_PAGE_ENTRIES as u64),
        (ParameterIn::Query, "from") => Bounds::Whole(0..=MAX_FAILURE_NUMBER.into()),
        _ => return None,
    };
    Some(bounds)
}

/// Bounds a parameter of an operation.
pub(super) fn bound_parameter(given: &mut Parameter, activity: bool) {
    let Some(RefOr::T(schema)) = &mut given.schema else { return };
    // An absent member is omitted, not null.
    if let Schema::Object(object) = schema
        && let SchemaType::Array(types) = &object.schema_type
        && let Some(only) = types.iter().find(|one| **one != Type::Null)
    {
        object.schema_type = SchemaType::Type(only.clone());
    }
    if let Some(bounds) = parameter(&given.name, &given.parameter_in, activity) {
        bound(schema, &bounds);
    }
}

/// Bounds the member of this name anywhere in a schema; returns whether there is one.
pub(super) fn bound_member(schema: &mut RefOr<Schema>, member: &str, bounds: &Bounds) -> bool {
    let RefOr::T(schema) = schema else { return false };
    let mut found = false;
    match schema {
        Schema::Object(object) => {
            for (name, part) in &mut object.properties {
                if name == member
                    && let RefOr::T(part) = part
                {
                    found |= bound(part, bounds);
                } else {
                    found |= bound_member(part, member, bounds);
                }
            }
        }
        Schema::AllOf(all) => {
            all.items.iter_mut().for_each(|part| found |= bound_member(part, member, bounds));
        }
        Schema::OneOf(one) => {
            one.items.iter_mut().for_each(|part| found |= bound_member(part, member, bounds));
        }
        _ => {}
    }
    found
}

/// Returns whether the schema is of the bounds' kind.
fn bound(schema: &mut Schema, bounds: &Bounds) -> bool {
    match (schema, bounds) {
        (Schema::Object(number), Bounds::Whole(range)) => {
            number.minimum = Some(Number::UInt(*range.start() as usize));
            number.maximum = (*range.end() < u64::MAX).then(|| Number::UInt(*range.end() as usize));
        }
        (Schema::Object(number), Bounds::Seconds(range)) => {
            number.minimum = Some(Number::Float(range.start().as_secs_f64()));
            number.maximum = Some(Number::Float(range.end().as_secs_f64()));
        }
        (Schema::Object(text), Bounds::Text(lengths)) => {
            (text.min_length, text.max_length) = (Some(*lengths.start()), Some(*lengths.end()));
        }
        (Schema::Object(text), Bounds::Pattern(pattern)) => fits(text, pattern),
        (Schema::Array(list), Bounds::List(counts)) => of_length(list, counts),
        (Schema::Array(list), Bounds::Patterns(counts, pattern)) => {
            of_length(list, counts);
            if let ArrayItems::RefOrSchema(items) = &mut list.items
                && let RefOr::T(Schema::Object(text)) = &mut **items
            {
                fits(text, pattern);
            }
        }
        _ => return false,
    }
    true
}

fn fits(text: &mut Object, pattern: &str) {
    text.pattern = Some(pattern.to_owned());
}

fn of_length(list: &mut Array, counts: &RangeInclusive<usize>) {
    (list.min_items, list.max_items) = (Some(*counts.start()), Some(*counts.end()));
}

#[cfg(test)]
mod tests {
    use axum::http::{HeaderMap, HeaderName, HeaderValue};

    use super::*;
    use crate::http::entry_fields::condition;

    fn fits(pattern: &str, text: &str) -> bool {
        regex::Regex::new(pattern).unwrap().is_match(text)
    }

    #[rstest::rstest]
    fn the_name_pattern_accepts_every_valid_name(
        #[values("a", "a1", "a-b", "", "1a", "-a", "a-", "A", "a_b", "a--b", "é")] text: &str,
        #[values(1, 31, 63)] times: usize,
    ) {
        let text = text.repeat(times);
        assert_eq!(fits(NAME, &text), verax_core::Name::new(&text).is_ok(), "{text}");
    }

    #[test]
    fn the_name_pattern_refuses_invalid_names() {
        for (letters, valid) in [(62, true), (63, true), (64, false)] {
            let text = "a".repeat(letters);
            assert_eq!(fits(NAME, &text), valid, "{letters}");
            assert_eq!(verax_core::Name::new(&text).is_ok(), valid, "{letters}");
        }
    }

    #[rstest::rstest]
    fn the_tag_pattern_accepts_every_valid_tag(
        #[values("a", "line 4", "~", "\u{7f}", "\t", "é", "")] text: &str,
        #[values(1, 127, 128, 129)] times: usize,
    ) {
        let text = text.repeat(times);
        assert_eq!(fits(TAG, &text), cache::checked_tags([text.as_str()]).is_ok(), "{text}");
    }

    #[rstest::rstest]
    fn the_scope_pattern_accepts_every_valid_scope(
        #[values(
            "admin",
            "read:tideline",
            "write:tideline/tables",
            "manage:a/b",
            "invalidate:a",
            "lock:a/b",
            "observe:a",
            "",
            "admin:a",
            "read:",
            "read:A",
            "read:a/",
            "see:a",
            "read:a/b/c",
            " read:a"
        )]
        text: &str,
    ) {
        let parsed = text.parse::<verax_core::access::Scope>();
        assert_eq!(fits(SCOPE, text), parsed.is_ok(), "{text}");
    }

    #[rstest::rstest]
    fn the_entity_tag_pattern_accepts_every_valid_condition(
        #[values("*", "\"a\"", "W/\"a\"", "\"a\", \"b\" ,W/\"\"", "a", "\"a", "w/\"a\"")]
        text: &str,
    ) {
        let value = HeaderValue::from_str(text).unwrap();
        let headers = HeaderMap::from_iter([(HeaderName::from_static("if-match"), value)]);
        assert_eq!(fits(ENTITY_TAGS, text), condition(&headers).is_ok(), "{text}");
    }

    #[rstest::rstest]
    fn the_cache_groups_pattern_accepts_only_tag_lists(
        #[values("\"a\"", "\"a\", \"line 4\"", "\"a\" , \"b\"", "a", "\"a", "\"\"", "\"a\",", "1")]
        text: &str,
    ) {
        assert_eq!(fits(CACHE_GROUPS, text), cache::parse_tags(text).is_ok(), "{text}");
    }
}
