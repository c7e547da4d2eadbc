//! Tags as HTTP writes them: `Cache-Groups`, a list of strings (RFC 9875, RFC 9651).

use std::sync::Arc;

use sfv::{BareItem, List, ListEntry, Parser};
use verax_core::entry::{MAX_TAG_BYTES, MAX_TAGS, Tag};

/// Why a `Cache-Groups` field cannot be acted on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidTags {
    /// It is not a list of strings.
    #[error("Cache-Groups must be a list of quoted strings, such as \"boards\", \"fares\"")]
    Syntax,
    /// A tag has characters beyond printable ASCII.
    #[error("a tag has characters other than printable ASCII")]
    Characters,
    /// A tag is empty or too long.
    #[error("there is a tag of {0} bytes: use 1 to {MAX_TAG_BYTES}")]
    Length(usize),
    /// There are too many.
    #[error("there are {0} tags, more than the limit of {MAX_TAGS}")]
    TooMany(usize),
}

/// Reads a `Cache-Groups` field.
///
/// # Errors
/// [`InvalidTags`] says what is wrong with it.
///
/// ```
/// let tags = verax_engine::cache::parse_tags(r#""boards", "harbor-7""#)?;
/// assert_eq!(&*tags[1], "harbor-7");
/// # Ok::<(), verax_engine::cache::InvalidTags>(())
/// ```
pub fn parse_tags(field: &str) -> Result<Vec<Tag>, InvalidTags> {
    let list: List = Parser::new(field).parse().map_err(|_| InvalidTags::Syntax)?;
    let texts = list.iter().map(|member| match member {
        ListEntry::Item(item) => match &item.bare_item {
            BareItem::String(text) => Ok(text.as_str()),
            _ => Err(InvalidTags::Syntax),
        },
        ListEntry::InnerList(_) => Err(InvalidTags::Syntax),
    });
    checked_tags(texts.collect::<Result<Vec<_>, _>>()?)
}

/// Checks tags that came some other way than in a `Cache-Groups` field, which they must fit into.
///
/// # Errors
/// [`InvalidTags`] says what is wrong with them.
pub fn checked_tags<'t>(texts: impl IntoIterator<Item = &'t str>) -> Result<Vec<Tag>, InvalidTags> {
    let tags: Result<Vec<Tag>, InvalidTags> = texts
        .into_iter()
        .map(|text| match text {
            tag if tag.is_empty() || tag.len() > MAX_TAG_BYTES => {
                Err(InvalidTags::Length(tag.len()))
            }
            tag if tag.bytes().any(|b| !(b' '..=b'~').contains(&b)) => Err(InvalidTags::Characters),
            tag => Ok(Arc::from(tag)),
        })
        .collect();
    match tags? {
        tags if tags.len() > MAX_TAGS => Err(InvalidTags::TooMany(tags.len())),
        tags => Ok(tags),
    }
}

/// Writes tags as a `Cache-Groups` field. Tags come from [`parse_tags`], so they are printable
/// ASCII.
pub fn write_tags(tags: &[Tag]) -> String {
    let quoted =
        tags.iter().map(|t| format!("\"{}\"", t.replace('\\', "\\\\").replace('"', "\\\"")));
    quoted.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("boards", InvalidTags::Syntax)]
    #[case("\"a\" \"b\"", InvalidTags::Syntax)]
    #[case("(\"a\")", InvalidTags::Syntax)]
    #[case("\"\"", InvalidTags::Length(0))]
    #[case(&format!("\"{}\"", "x".repeat(129)), InvalidTags::Length(129))]
    #[case(&["\"a\""; 33].join(","), InvalidTags::TooMany(33))]
    fn malformed_groups_are_refused(#[case] field: &str, #[case] error: InvalidTags) {
        assert_eq!(parse_tags(field), Err(error));
    }

    #[test]
    fn tags_survive_text() {
        let field = r#""boards", "say \"ahoy\"", "a\\b""#;
        assert_eq!(write_tags(&parse_tags(field).unwrap()), field);
        assert_eq!(parse_tags("").unwrap().len(), 0);
    }
}
