//! Text from others, made safe for a terminal.

use std::borrow::Cow;

/// What our own tables print to make a title bold, and to end that.
const STYLES: [&str; 3] = ["\x1b[1m", "\x1b[0m", "\x1b[22m"];

/// A text with control and direction characters escaped: keys, owners and notes come from others
/// and must not control the reader's terminal.
pub(crate) fn printable(text: &str) -> Cow<'_, str> {
    let steers = |c: char| {
        (c.is_control() && !matches!(c, '\n' | '\t'))
            || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if !text.contains(steers) {
        return text.into();
    }
    let (mut out, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(c) = rest.chars().next() {
        let style = STYLES.iter().find(|style| rest.starts_with(**style));
        let taken = style.map_or(c.len_utf8(), |style| style.len());
        match style {
            Some(style) => out.push_str(style),
            None if steers(c) => out.extend(c.escape_unicode()),
            None => out.push(c),
        }
        rest = &rest[taken..];
    }
    out.into()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::printable;

    #[rstest]
    #[case("board/aldermouth\n\tä", "board/aldermouth\n\tä")]
    #[case("\x1b[2Jgone", "\\u{1b}[2Jgone")]
    #[case("\x1b]0;title\x07", "\\u{1b}]0;title\\u{7}")]
    #[case("\x1b[1mbold\x1b[0m", "\x1b[1mbold\x1b[0m")]
    #[case("\x1b[31mred", "\\u{1b}[31mred")]
    #[case("a\rb\x7f\u{9b}1m", "a\\u{d}b\\u{7f}\\u{9b}1m")]
    #[case("\u{202e}txt.exe", "\\u{202e}txt.exe")]
    fn nothing_steers_the_terminal(#[case] text: &str, #[case] shown: &str) {
        assert_eq!(printable(text), shown);
    }
}
