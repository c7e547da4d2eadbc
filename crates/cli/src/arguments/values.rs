//! Values on the command line: paths, times, sizes.

use std::collections::BTreeMap;
use std::str::FromStr;
use std::time::Duration;

use verax_api::{Interval, WarmDays, WarmRange, WarmValues};

/// The longest max-age that there is. It is written out, so that nobody means it by mistake.
const UNLIMITED: Duration = Duration::from_secs(315_360_000);

/// `TENANT/NAMESPACE`.
#[derive(Debug, Clone)]
pub(crate) struct NamespacePath {
    pub(crate) tenant: String,
    pub(crate) name: String,
}

impl FromStr for NamespacePath {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || "write it as TENANT/NAME, such as ferrydesk/boards".to_owned();
        let (tenant, name) = text.split_once('/').ok_or_else(wrong)?;
        if tenant.is_empty() || name.is_empty() || name.contains('/') {
            return Err(wrong());
        }
        Ok(Self { tenant: tenant.to_owned(), name: name.to_owned() })
    }
}

/// A length of time: `30s`, `5m`, `1h 30m`, `90d`, or a number of seconds. A day has 24 hours.
pub(crate) fn length_of_time(text: &str) -> Result<Duration, String> {
    let wrong =
        || format!("{text:?} is not a length of time of 0 or more: write 30s, 5m, 1h or 7d");
    if let Ok(seconds) = text.parse::<f64>() {
        return Duration::try_from_secs_f64(seconds).map_err(|_| wrong());
    }
    let span: jiff::Span = text.parse().map_err(|_| wrong())?;
    let days = jiff::SpanRelativeTo::days_are_24_hours();
    Duration::try_from(span.to_duration(days).map_err(|_| wrong())?).map_err(|_| wrong())
}

/// A max-age: a length of time, or `unlimited`, which is ten years.
pub(super) fn max_age(text: &str) -> Result<Duration, String> {
    match text {
        "unlimited" => Ok(UNLIMITED),
        text => length_of_time(text),
    }
}

/// A moment, or a length of time ago: `2026-11-26T07:00:00Z`, `2h`.
pub(crate) fn moment(text: &str) -> Result<jiff::Timestamp, String> {
    if let Ok(at) = text.parse() {
        return Ok(at);
    }
    let ago =
        length_of_time(text).ok().and_then(|ago| jiff::Timestamp::now().checked_sub(ago).ok());
    ago.ok_or_else(|| {
        format!("{text:?} is no moment: write 2026-11-26T07:00:00Z, or 2h for two hours ago")
    })
}

/// A size in bytes: `512KiB`, `1MiB`, or a number of bytes.
///
/// # Errors
/// What is wrong with the text, and how to write it.
pub fn size(text: &str) -> Result<u64, String> {
    let parsed = text.parse::<bytesize::ByteSize>();
    parsed.map(|size| size.0).map_err(|_| format!("{text:?} is not a size: write 512KiB or 1MiB"))
}

/// A limit, or none.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Limit(pub(crate) Option<u64>);

/// A size, or `none`.
pub(crate) fn size_limit(text: &str) -> Result<Limit, String> {
    if text == "none" { Ok(Limit(None)) } else { size(text).map(|bytes| Limit(Some(bytes))) }
}

/// A number, or `none`.
pub(crate) fn number_limit(text: &str) -> Result<Limit, String> {
    if text == "none" {
        return Ok(Limit(None));
    }
    let number = text.replace('_', "").parse();
    let wrong = |_| format!("{text:?} is not a whole number: write 1000, or none");
    number.map(|number| Limit(Some(number))).map_err(wrong)
}

/// The ends of `FROM..TO`.
fn both_ends(text: &str) -> Option<(i64, i64)> {
    let (from, to) = text.split_once("..")?;
    Some((from.parse().ok()?, to.parse().ok()?))
}

fn not_a_range(text: &str) -> String {
    format!("{text:?} is not range:FROM..TO, range:FROM..TO/STEP or days:FROM..TO")
}

/// `VARIABLE=VALUE,VALUE…`, `VARIABLE=@FILE`, `VARIABLE=origin:/REFERENCE`, `VARIABLE=range:1..20`
/// or `VARIABLE=days:-1..7`.
pub(crate) type GivenValues = (String, WarmValues);

pub(crate) fn values(text: &str) -> Result<GivenValues, String> {
    let (variable, given) = text.split_once('=').ok_or(
        "write it as VARIABLE=VALUE,VALUE or VARIABLE=@FILE or VARIABLE=origin:/REFERENCE",
    )?;
    let values = if let Some(file) = given.strip_prefix('@') {
        let text = std::fs::read_to_string(file).map_err(|e| format!("{file}: {e}"))?;
        let lines = text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#'));
        WarmValues::List(lines.map(str::to_owned).collect())
    } else if let Some(reference) = given.strip_prefix("origin:") {
        WarmValues::Listing(reference.to_owned())
    } else if let Some(range) = given.strip_prefix("range:") {
        let (range, step) = match range.split_once('/') {
            Some((range, step)) => (range, Some(step.parse().map_err(|_| not_a_range(given))?)),
            None => (range, None),
        };
        let (from, to) = both_ends(range).ok_or_else(|| not_a_range(given))?;
        WarmValues::Range(WarmRange { from, to, step })
    } else if let Some(days) = given.strip_prefix("days:") {
        let (from, to) = both_ends(days).ok_or_else(|| not_a_range(given))?;
        WarmValues::Days(WarmDays { from, to, format: None, time_zone: None })
    } else {
        WarmValues::List(given.split(',').map(|v| v.trim().to_owned()).collect())
    };
    Ok((variable.to_owned(), values))
}

pub(crate) fn gather(given: Vec<GivenValues>) -> BTreeMap<String, WarmValues> {
    given.into_iter().collect()
}

/// An interval, as `all=5m`, `tag:boards=30s` or `prefix:board/=1h`.
pub(super) fn interval(text: &str) -> Result<Interval, String> {
    let wrong = || format!("{text:?} is not all=TIME, tag:TAG=TIME or prefix:PREFIX=TIME");
    let (what, time) = text.rsplit_once('=').ok_or_else(wrong)?;
    let (tag, prefix) = match what.split_once(':') {
        None if what == "all" => (None, None),
        Some(("tag", tag)) => (Some(tag.to_owned()), None),
        Some(("prefix", prefix)) => (None, Some(prefix.to_owned())),
        _ => return Err(wrong()),
    };
    let every_seconds = length_of_time(time)?.as_secs_f64();
    Ok(Interval { tag, prefix, every_seconds, refresh: false })
}
