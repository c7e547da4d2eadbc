//! Tags as HTTP writes them: `Cache-Groups`, a list of strings (RFC 9875, RFC 9651).

use std::sync::Arc;

use sfv::{BareItem, List, ListEntry, Parser};
use verax_core::entry::{LONGEST_TAG, MOST_TAGS, Tag};

/// Why a `Cache-Groups` field cannot be acted on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidTags {
    /// It is not a list of strings.
    #[error("Cache-Groups must be a list of quoted strings, such as \"boards\", \"fares\"")]
    Syntax,
    /// A tag is empty or too long.
    #[error("Cache-Groups has a tag of {0} bytes: use 1 to {LONGEST_TAG}")]
    Length(usize),
    /// There are too many.
    #[error("Cache-Groups has {0} tags, more than the limit of {MOST_TAGS}")]
    TooMany(usize),
}

/// Reads a `Cache-Groups` field.
///
/// # Errors
/// [`InvalidTags`] says what is wrong with it.
///
/// ```
/// let tags = verax_service::cache::parse_tags(r#""boards", "harbour-7""#)?;
/// assert_eq!(&*tags[1], "harbour-7");
/// # Ok::<(), verax_service::cache::InvalidTags>(())
/// ```
pub fn parse_tags(field: &str) -> Result<Vec<Tag>, InvalidTags> {
    let list: List = Parser::new(field).parse().map_err(|_| InvalidTags::Syntax)?;
    if list.len() > MOST_TAGS {
        return Err(InvalidTags::TooMany(list.len()));
    }
    list.iter()
        .map(|member| match member {
            ListEntry::Item(item) => match &item.bare_item {
                BareItem::String(text) => match text.as_str() {
                    tag if tag.is_empty() || tag.len() > LONGEST_TAG => {
                        Err(InvalidTags::Length(tag.len()))
                    }
                    tag => Ok(Arc::from(tag)),
                },
                _ => Err(InvalidTags::Syntax),
            },
            ListEntry::InnerList(_) => Err(InvalidTags::Syntax),
        })
        .collect()
}

/// Writes tags as a `Cache-Groups` field. Tags come from [`parse_tags`], so they are printable ASCII.
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
