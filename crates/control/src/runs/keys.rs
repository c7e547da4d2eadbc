//! The keys of a run: patterns with values, rows, tags, prefixes, and what is hot.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use jiff::tz::TimeZone;
use serde_json::Value;
use verax_api::{KeySource, PatternKeys, WarmDays, WarmRange, WarmRows, WarmValues};
use verax_core::store::{EntryFilter, Position};
use verax_core::warm::{self, DayRange, MAX_KEYS, ValueRange};
use verax_core::{Key, KeyPattern, Name, Timestamp};
use verax_engine::Reader;
use verax_engine::cache::MAX_PAGE_ENTRIES;
use verax_origin::Origin;

use crate::control::Control;
use crate::error::ControlError;
use crate::invalid::InvalidInput;
use crate::registry::Registered;

/// The most sources of keys in a plan.
pub(super) const MAX_SOURCES: usize = 32;

/// The most bytes of all keys of a run together.
const MAX_KEY_TEXT: usize = 64 << 20;

/// The most hot keys of a source.
const MAX_HOTTEST: u32 = verax_core::heat::MAX_KEYS as u32;

/// How a day is written, unless the plan says otherwise.
const DAY_FORMAT: &str = "%Y-%m-%d";

/// The keys of a run, without duplicates, each with the number of the source that named it first.
#[derive(Debug, Default)]
pub(super) struct RunKeys {
    pub(super) keys: Vec<Key>,
    pub(super) sources: Vec<u16>,
    /// What the sources are, for people.
    pub(super) names: Vec<String>,
    seen: HashSet<Key>,
    text: usize,
}

impl RunKeys {
    fn add(&mut self, keys: impl IntoIterator<Item = Key>) -> Result<(), InvalidInput> {
        let source = u16::try_from(self.names.len() - 1).unwrap_or(u16::MAX);
        for key in keys {
            if !self.seen.insert(key.clone()) {
                continue;
            }
            self.text += key.as_str().len();
            if self.keys.len() >= MAX_KEYS || self.text > MAX_KEY_TEXT {
                return Err(InvalidInput::TooManyKeys { keys: MAX_KEYS, bytes: MAX_KEY_TEXT });
            }
            self.keys.push(key);
            self.sources.push(source);
        }
        Ok(())
    }
}

fn key_of(text: &str) -> Result<Key, ControlError> {
    Key::new(text).map_err(|e| InvalidInput::RunKey { key: shortened(text), error: e }.into())
}

fn shortened(text: &str) -> String {
    text.chars().take(80).collect()
}

impl Control {
    /// The keys that some sources name.
    pub(super) async fn keys_of(
        &self,
        namespace: &Registered,
        sources: &[KeySource],
    ) -> Result<RunKeys, ControlError> {
        check_sources(namespace, sources)?;
        let pattern = namespace.binding().policy.origin.as_ref().map(|o| o.key_pattern.clone());
        let fits = |key: &Key| {
            pattern.as_ref().is_none_or(|pattern| pattern.values_of(key.as_str()).is_some())
        };
        let mut found = RunKeys::default();
        for source in sources {
            found.names.push(name_of(source));
            let named = match source {
                KeySource::List(keys) => keys.iter().map(|key| key_of(key)).collect(),
                KeySource::Pattern(pattern) => self.pattern_keys(namespace, pattern).await,
                // What is stored may have been put by hand, and have no value at the origin.
                KeySource::Tag(tag) => {
                    let filter = EntryFilter { tag: Some(tag), ..EntryFilter::default() };
                    found.add(stored_keys(namespace, &filter).await?.into_iter().filter(fits))?;
                    continue;
                }
                KeySource::Prefix(prefix) => {
                    let filter = EntryFilter::prefix(prefix);
                    found.add(stored_keys(namespace, &filter).await?.into_iter().filter(fits))?;
                    continue;
                }
                KeySource::Hottest(most) => {
                    let hot = self.hottest_keys(namespace, *most).await;
                    found.add(hot.into_iter().filter(fits))?;
                    continue;
                }
            };
            let named: Vec<Key> = named?;
            if let Some(key) = named.iter().find(|key| !fits(key))
                && let Some(pattern) = &pattern
            {
                return Err(foreign(namespace, key, pattern));
            }
            found.add(named)?;
        }
        Ok(found)
    }

    /// The hottest keys of a namespace. After a start they are those of before, until others are.
    async fn hottest_keys(&self, namespace: &Registered, most: u32) -> Vec<Key> {
        let most = most as usize;
        let mut hot: Vec<String> =
            namespace.hottest(most).keys.into_iter().map(|hot| hot.key).collect();
        if hot.len() < most {
            let before = self.records.hottest(namespace.id()).await.unwrap_or_default();
            hot.extend(before.into_iter().take(most));
            let mut seen = HashSet::new();
            hot.retain(|key| seen.insert(key.clone()));
            hot.truncate(most);
        }
        hot.into_iter().filter_map(|key| Key::new(key).ok()).collect()
    }

    async fn pattern_keys(
        &self,
        namespace: &Registered,
        source: &PatternKeys,
    ) -> Result<Vec<Key>, ControlError> {
        let binding = namespace.binding();
        let pattern = match (&source.pattern, &binding.policy.origin) {
            (Some(text), _) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
            (None, Some(choice)) => choice.key_pattern.clone(),
            (None, None) => return Err(InvalidInput::NoPattern(namespace.path()).into()),
        };
        let mut lists = BTreeMap::new();
        for (variable, values) in &source.values {
            let list = values_of(binding.origin.as_ref(), variable, values, self.engine.now());
            lists.insert(variable.clone(), list.await?);
        }
        let Some(rows) = &source.rows else {
            return warm::keys_of(&pattern, &lists).map_err(ControlError::invalid);
        };
        let (name, rows) = self.rows_of(namespace, binding.origin.as_ref(), rows).await?;
        let mut keys = Vec::new();
        for row in rows {
            let mut lists = lists.clone();
            for variable in pattern.variables().filter(|v| !source.values.contains_key(*v)) {
                let value = row.get(variable).and_then(text_of).ok_or_else(|| {
                    InvalidInput::RowWithout { variable: variable.to_owned(), rows: name.clone() }
                })?;
                lists.insert(variable.to_owned(), vec![value]);
            }
            keys.extend(warm::keys_of(&pattern, &lists).map_err(ControlError::invalid)?);
            if keys.len() > MAX_KEYS {
                let (keys, bytes) = (MAX_KEYS, MAX_KEY_TEXT);
                return Err(InvalidInput::TooManyKeys { keys, bytes }.into());
            }
        }
        Ok(keys)
    }

    /// Rows, and what they are from.
    async fn rows_of(
        &self,
        namespace: &Registered,
        origin: Option<&Arc<Origin>>,
        rows: &WarmRows,
    ) -> Result<(String, Vec<Value>), ControlError> {
        match rows {
            WarmRows::Listing(reference) => {
                let origin = origin.ok_or_else(|| InvalidInput::NoOrigin(namespace.path()))?;
                let read = origin.read_listing(reference, MAX_KEYS).await;
                let rows = read.map_err(|error| InvalidInput::Rows { error })?;
                Ok((format!("the listing {reference}"), rows))
            }
            WarmRows::Query(name) => {
                let tenant = namespace.tenant();
                let name = Name::new(&**name).map_err(ControlError::invalid)?;
                let query = self.registry.origin(tenant, &name);
                let query = query.ok_or_else(|| InvalidInput::no_origin(tenant, &name))?;
                let path = format!("{tenant}/{name}");
                if query.database().is_none() || !query.variables().is_empty() {
                    return Err(InvalidInput::NotAQueryOfRows(path).into());
                }
                let read = query.read_guarded(&[], None, None).await.map_err(|error| {
                    InvalidInput::QueryFailed { query: path.clone(), reason: error.plain() }
                })?;
                let rows = serde_json::from_slice(&read.value)
                    .map_err(|_| InvalidInput::NotAQueryOfRows(path.clone()))?;
                Ok((format!("the query {path}"), rows))
            }
        }
    }
}

pub(super) fn foreign(namespace: &Registered, key: &Key, pattern: &KeyPattern) -> ControlError {
    let (key, namespace) = (shortened(key.as_str()), namespace.path());
    InvalidInput::ForeignKey { key, pattern: pattern.clone(), namespace }.into()
}

/// A member of a row as the value of a variable.
fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// Checks what can be checked of the sources of a plan without finding its keys.
///
/// # Errors
/// [`ControlError::Invalid`].
pub(crate) fn check_sources(
    namespace: &Registered,
    sources: &[KeySource],
) -> Result<(), ControlError> {
    if sources.is_empty() || sources.len() > MAX_SOURCES {
        return Err(InvalidInput::KeySources(sources.len()).into());
    }
    for source in sources {
        match source {
            KeySource::List(keys) => keys.iter().try_for_each(|key| key_of(key).map(drop))?,
            KeySource::Hottest(most) if !(1..=MAX_HOTTEST).contains(most) => {
                let (what, range) = ("the number of hottest keys", 1..=MAX_HOTTEST);
                return Err(InvalidInput::OutOfRange { what, value: *most, range }.into());
            }
            KeySource::Pattern(source) => check_pattern(namespace, source)?,
            KeySource::Hottest(_) | KeySource::Tag(_) | KeySource::Prefix(_) => {}
        }
    }
    Ok(())
}

fn check_pattern(namespace: &Registered, source: &PatternKeys) -> Result<(), ControlError> {
    let binding = namespace.binding();
    let pattern = match (&source.pattern, &binding.policy.origin) {
        (Some(text), _) => KeyPattern::parse(text).map_err(ControlError::invalid)?,
        (None, Some(choice)) => choice.key_pattern.clone(),
        (None, None) => return Err(InvalidInput::NoPattern(namespace.path()).into()),
    };
    // Values that need no origin are made; of the others one stands for all.
    let mut lists = BTreeMap::new();
    for (variable, values) in &source.values {
        let list = match values {
            WarmValues::List(list) => list.clone(),
            WarmValues::Listing(_) => vec!["x".to_owned()],
            WarmValues::Range(range) => range_of(range).values().map_err(ControlError::invalid)?,
            WarmValues::Days(days) => {
                let today = today(Timestamp::from_millis(0), days.time_zone.as_deref())?;
                days_of(days).values(today).map_err(ControlError::invalid)?
            }
        };
        lists.insert(variable.clone(), list);
    }
    if source.rows.is_some() {
        for variable in pattern.variables() {
            lists.entry(variable.to_owned()).or_insert_with(|| vec!["x".to_owned()]);
        }
    }
    warm::keys_of(&pattern, &lists).map_err(ControlError::invalid)?;
    Ok(())
}

fn range_of(range: &WarmRange) -> ValueRange {
    ValueRange { from: range.from, to: range.to, step: range.step.unwrap_or(1) }
}

fn days_of(days: &WarmDays) -> DayRange {
    let format = days.format.clone().unwrap_or_else(|| DAY_FORMAT.to_owned());
    DayRange { from: days.from, to: days.to, format }
}

/// Today in a time zone.
fn today(now: Timestamp, zone: Option<&str>) -> Result<jiff::civil::Date, InvalidInput> {
    let zone = zone_of(zone.unwrap_or("UTC"))?;
    let millis = i64::try_from(now.as_millis()).unwrap_or(i64::MAX);
    let now = jiff::Timestamp::from_millisecond(millis).unwrap_or(jiff::Timestamp::MAX);
    Ok(zone.to_datetime(now).date())
}

/// A time zone by its IANA name.
pub(crate) fn zone_of(name: &str) -> Result<TimeZone, InvalidInput> {
    let unknown = || {
        let name = shortened(name);
        InvalidInput::Schedule(verax_core::schedule::InvalidSchedule::Zone(name))
    };
    TimeZone::get(name).map_err(|_| unknown())
}

async fn values_of(
    origin: Option<&Arc<Origin>>,
    variable: &str,
    values: &WarmValues,
    now: Timestamp,
) -> Result<Vec<String>, ControlError> {
    let variable = || variable.to_owned();
    Ok(match values {
        WarmValues::List(list) => list.clone(),
        WarmValues::Listing(reference) => {
            let origin = origin.ok_or_else(|| InvalidInput::NoListing(variable()))?;
            let items = origin
                .read_listing(reference, MAX_KEYS)
                .await
                .map_err(|error| InvalidInput::Values { variable: variable(), error })?;
            let texts: Option<Vec<String>> = items.iter().map(text_of).collect();
            texts.ok_or_else(|| InvalidInput::NotTexts {
                variable: variable(),
                reference: reference.clone(),
            })?
        }
        WarmValues::Range(range) => range_of(range).values().map_err(ControlError::invalid)?,
        WarmValues::Days(days) => {
            let today = today(now, days.time_zone.as_deref())?;
            days_of(days).values(today).map_err(ControlError::invalid)?
        }
    })
}

/// The keys of stored entries that fit a filter.
async fn stored_keys(
    namespace: &Registered,
    filter: &EntryFilter<'_>,
) -> Result<Vec<Key>, ControlError> {
    let reader = Reader::open(Arc::clone(namespace.namespace()));
    let (mut keys, mut from) = (Vec::new(), Some(Position::default()));
    while let Some(position) = from {
        let listing = reader.list(filter, position, MAX_PAGE_ENTRIES, namespace.now())?;
        keys.extend(listing.entries.iter().filter_map(|e| Key::new(e.found.key()).ok()));
        if keys.len() > MAX_KEYS {
            let (keys, bytes) = (MAX_KEYS, MAX_KEY_TEXT);
            return Err(InvalidInput::TooManyKeys { keys, bytes }.into());
        }
        from = listing.next;
        // Other tasks run between two pages.
        tokio::task::yield_now().await;
    }
    Ok(keys)
}

/// A source, for people.
fn name_of(source: &KeySource) -> String {
    match source {
        KeySource::List(keys) => match keys.as_slice() {
            [key] => format!("the key {}", shortened(key)),
            keys => format!("the list of {} keys", keys.len()),
        },
        KeySource::Pattern(pattern) => match &pattern.pattern {
            Some(pattern) => format!("the pattern {}", shortened(pattern)),
            None => "the namespace's pattern".to_owned(),
        },
        KeySource::Tag(tag) => format!("the tag {}", shortened(tag)),
        KeySource::Prefix(prefix) => format!("the prefix {:?}", shortened(prefix)),
        KeySource::Hottest(most) => format!("the {most} hottest keys"),
    }
}
