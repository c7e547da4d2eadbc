//! A filter for JSON values: a JSONPath query (RFC 9535) with bounded work.
//!
//! A query that selects anything in a value includes the entry. What a query costs is decided by
//! its text: nested descendants, absolute queries within filters, and long lists of selectors would
//! multiply the work beyond the size of the value, so they are refused before anything is read.

use std::cell::RefCell;
use std::fmt;
use std::str::FromStr;

use regex::{Regex, RegexBuilder};
use serde_json::Value;
use serde_json_path::JsonPath;
use serde_json_path::functions::{LogicalType, ValueType};

/// The longest query, in bytes.
pub const MAX_QUERY_BYTES: usize = 1_000;

/// The largest value that is searched, in bytes.
pub const MAX_SEARCHED_BYTES: usize = 1 << 20;

/// The deepest nesting of brackets and parentheses in a query.
const MAX_NESTING: usize = 6;

/// The most paths that the selectors of a query make together: two selectors in each of two lists
/// make four, and may select the same part four times.
const MAX_SELECTORS: usize = 16;

/// The most memory of a compiled regular expression, in bytes.
const MAX_REGEX_BYTES: usize = 256 << 10;

/// Why a query is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidQuery {
    /// It is too long.
    #[error("a query of {0} bytes is longer than the limit of {MAX_QUERY_BYTES}")]
    TooLong(usize),
    /// It is no JSONPath query.
    #[error("column {column}: {reason}")]
    Syntax {
        /// The column, in bytes from 1.
        column: usize,
        /// Why.
        reason: String,
    },
    /// It could take more time than the size of a value allows.
    #[error("the query has {0}: such a query could take too long")]
    Costly(&'static str),
}

/// A JSONPath query.
///
/// ```
/// use verax_core::value_filter::ValueFilter;
///
/// let late: ValueFilter = "$.departures[?@.delay > 10]".parse()?;
/// let board = br#"{"harbor": "aldermouth", "departures": [{"delay": 25}]}"#;
/// let found = late.matches(board).unwrap();
/// assert_eq!((found.count, &found.first[0][..]), (1, r#"{"delay":25}"#));
/// # Ok::<(), verax_core::value_filter::InvalidQuery>(())
/// ```
#[derive(Debug, Clone)]
pub struct ValueFilter {
    text: String,
    path: JsonPath,
}

/// What a query selected in one value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Selected {
    /// How many parts.
    pub count: usize,
    /// The first of them as JSON, each cut to [`MAX_PART_BYTES`].
    pub first: Vec<String>,
}

/// The most parts that [`Selected`] shows.
pub const MAX_PARTS: usize = 3;

/// The longest text of one of them, in bytes.
pub const MAX_PART_BYTES: usize = 500;

/// Why a value was not searched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotSearched {
    /// It is larger than [`MAX_SEARCHED_BYTES`].
    #[error("it is larger than {MAX_SEARCHED_BYTES} bytes")]
    TooLarge,
    /// It is no JSON.
    #[error("it is no JSON")]
    NotJson,
}

/// Cuts a text at a limit of bytes, between characters.
fn cut(mut text: String) -> String {
    if text.len() > MAX_PART_BYTES {
        text.truncate(text.floor_char_boundary(MAX_PART_BYTES));
        text.push('…');
    }
    text
}

/// Refuses queries whose work could grow faster than the value.
fn check_cost(text: &str) -> Result<(), InvalidQuery> {
    let (mut quote, mut escaped, mut nesting, mut last) = (None, false, 0_usize, ' ');
    let (mut roots, mut descendants, mut selectors) = (0, 0, 1_usize);
    // The selectors of each list that is open.
    let mut open_lists: Vec<usize> = Vec::new();
    for character in text.chars() {
        if let Some(open) = quote {
            match character {
                _ if escaped => escaped = false,
                '\\' => escaped = true,
                _ if character == open => quote = None,
                _ => {}
            }
            last = ' ';
            continue;
        }
        match character {
            '\'' | '"' => quote = Some(character),
            '[' | '(' => {
                nesting += 1;
                open_lists.push(1);
            }
            ']' | ')' => {
                nesting = nesting.saturating_sub(1);
                selectors = selectors.saturating_mul(open_lists.pop().unwrap_or(1));
            }
            '$' => roots += 1,
            ',' => {
                if let Some(list) = open_lists.last_mut() {
                    *list += 1;
                }
            }
            '.' if last == '.' => descendants += 1,
            _ => {}
        }
        if nesting > MAX_NESTING {
            return Err(InvalidQuery::Costly("more than six brackets within each other"));
        }
        last = character;
    }
    match () {
        () if roots > 1 => Err(InvalidQuery::Costly("a second $, which starts at the root again")),
        () if descendants > 1 => Err(InvalidQuery::Costly("more than one \"..\"")),
        () if selectors > MAX_SELECTORS => {
            Err(InvalidQuery::Costly("selectors for more than 16 paths"))
        }
        () => Ok(()),
    }
}

impl ValueFilter {
    /// Searches one value; `None` when nothing in it is selected.
    ///
    /// # Errors
    /// [`NotSearched`].
    pub fn try_matches(&self, value: &[u8]) -> Result<Option<Selected>, NotSearched> {
        if value.len() > MAX_SEARCHED_BYTES {
            return Err(NotSearched::TooLarge);
        }
        let value: Value = serde_json::from_slice(value).map_err(|_| NotSearched::NotJson)?;
        let nodes = self.path.query(&value);
        let first = nodes.iter().take(MAX_PARTS).map(|node| cut(node.to_string())).collect();
        Ok((!nodes.is_empty()).then(|| Selected { count: nodes.len(), first }))
    }

    /// [`try_matches`](Self::try_matches), where a value that cannot be searched does not match.
    pub fn matches(&self, value: &[u8]) -> Option<Selected> {
        self.try_matches(value).ok().flatten()
    }
}

impl FromStr for ValueFilter {
    type Err = InvalidQuery;

    fn from_str(text: &str) -> Result<Self, InvalidQuery> {
        if text.len() > MAX_QUERY_BYTES {
            return Err(InvalidQuery::TooLong(text.len()));
        }
        check_cost(text)?;
        let path = JsonPath::parse(text).map_err(|error| InvalidQuery::Syntax {
            column: error.position(),
            reason: error.message().to_owned(),
        })?;
        Ok(Self { text: text.to_owned(), path })
    }
}

impl fmt::Display for ValueFilter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

thread_local! {
    /// The expression used last: a query applies the same one to every value.
    static LAST: RefCell<Option<(String, Option<Regex>)>> = const { RefCell::new(None) };
}

/// Whether `text` has `pattern`; a pattern that is none, or that is too large, matches nothing, as
/// RFC 9535 wants it for the first.
fn finds(pattern: String, text: &str) -> bool {
    LAST.with_borrow_mut(|last| {
        if last.as_ref().is_none_or(|(known, _)| *known != pattern) {
            let regex = RegexBuilder::new(&pattern)
                .size_limit(MAX_REGEX_BYTES)
                .dfa_size_limit(MAX_REGEX_BYTES)
                .crlf(true)
                .build();
            *last = Some((pattern, regex.ok()));
        }
        last.as_ref().and_then(|(_, regex)| regex.as_ref()).is_some_and(|r| r.is_match(text))
    })
}

/// Both texts of a call of `match` or `search`.
fn texts<'a>(value: &'a ValueType<'_>, pattern: &'a ValueType<'_>) -> Option<(&'a str, &'a str)> {
    Some((value.as_value()?.as_str()?, pattern.as_value()?.as_str()?))
}

/// The function `match` (RFC 9535, 2.4.6): the whole text.
#[serde_json_path_macros::function(name = "match")]
fn match_whole(value: ValueType, pattern: ValueType) -> LogicalType {
    let found = texts(&value, &pattern);
    found.is_some_and(|(text, pattern)| finds(format!("^(?:{pattern})$"), text)).into()
}

/// The function `search` (RFC 9535, 2.4.7): a part of the text.
#[serde_json_path_macros::function]
fn search(value: ValueType, pattern: ValueType) -> LogicalType {
    let found = texts(&value, &pattern);
    found.is_some_and(|(text, pattern)| finds(pattern.to_owned(), text)).into()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const BOARD: &[u8] = br#"{"harbor": "aldermouth", "departures": [
        {"line": 4, "delay": 25, "vessel": "Grey Heron"}, {"line": 7, "delay": 0, "vessel": "Tern"}]}"#;

    #[rstest]
    #[case("$.harbor", 1)]
    #[case("$.departures[*]", 2)]
    #[case("$.departures[?@.delay > 10]", 1)]
    #[case("$.departures[?@.delay > 30]", 0)]
    #[case("$..[?@.vessel == 'Tern']", 1)]
    #[case("$.departures[?match(@.vessel, 'T.*')]", 1)]
    #[case("$.departures[?match(@.vessel, 'e')]", 0)]
    #[case("$.departures[?search(@.vessel, 'e')]", 2)]
    #[case("$.departures[?search(@.vessel, '(')]", 0)]
    #[case("$.departures[?search(@.vessel, '(a{900}){900}')]", 0)]
    #[case("$[?length(@) == 10]", 1)]
    #[case("$['harbor', 'departures'][0]", 1)]
    fn queries_select(#[case] query: &str, #[case] count: usize) {
        let filter: ValueFilter = query.parse().unwrap();
        assert_eq!(filter.matches(BOARD).map_or(0, |selected| selected.count), count);
        assert_eq!(filter.to_string(), query);
    }

    #[rstest]
    #[case("harbor")]
    #[case("$.departures[")]
    #[case("")]
    #[case("$[?nothing(@)]")]
    fn what_is_no_query_is_refused_with_its_column(#[case] query: &str) {
        let error = query.parse::<ValueFilter>().unwrap_err();
        assert!(matches!(error, InvalidQuery::Syntax { .. }), "{error}");
    }

    #[rstest]
    #[case("$..*", true)]
    #[case("$..a..b", false)]
    #[case("$['a..b']..c", true)]
    #[case("$[?@.a == $.b]", false)]
    #[case("$['$']", true)]
    #[case(&format!("$[{}0]", "0,".repeat(15)), true)]
    #[case(&format!("$[{}0]", "0,".repeat(16)), false)]
    #[case("$[0,0][0,0][0,0][0,0]", true)]
    #[case("$[0,0][0,0][0,0][0,0][0,0]", false)]
    #[case("$[?@[0,0][0,0][0,0]][0,0][0,0]", false)]
    #[case("$[?((((@.a == 1))))]", true)]
    #[case("$[?((((((@.a == 1))))))]", false)]
    fn costly_queries_are_refused(#[case] query: &str, #[case] allowed: bool) {
        match query.parse::<ValueFilter>() {
            Ok(_) => assert!(allowed),
            Err(error) => assert!(!allowed && matches!(error, InvalidQuery::Costly(_)), "{error}"),
        }
    }

    #[test]
    fn lengths_are_bounded() {
        let long = format!("$.{}", "a".repeat(MAX_QUERY_BYTES - 2));
        assert!(long.parse::<ValueFilter>().is_ok());
        let error = format!("{long}a").parse::<ValueFilter>().unwrap_err();
        assert_eq!(error, InvalidQuery::TooLong(MAX_QUERY_BYTES + 1));

        let all: ValueFilter = "$".parse().unwrap();
        let large = format!("\"{}\"", "é".repeat(MAX_SEARCHED_BYTES / 2 - 1));
        let selected = all.try_matches(large.as_bytes()).unwrap().unwrap();
        assert!(selected.first[0].len() <= MAX_PART_BYTES + '…'.len_utf8());
        let larger = format!("{large} ");
        assert_eq!(all.try_matches(larger.as_bytes()), Err(NotSearched::TooLarge));
        assert_eq!(all.try_matches(b"calm"), Err(NotSearched::NotJson));
    }

    proptest! {
        #[test]
        fn no_text_is_too_much(text in r"\$[\[\]().@?*'a-c0-9,:&|!<>= ]{0,60}") {
            if let Ok(filter) = text.parse::<ValueFilter>() {
                let _ = filter.matches(BOARD);
            }
        }
    }
}
