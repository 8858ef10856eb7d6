//! Makes control characters visible, so that names, titles and texts of documents cannot change the terminal.

use std::borrow::Cow;

/// The sign in place of one that is not shown.
const REPLACEMENT: char = '\u{fffd}';

/// Returns text without control characters except line ends and tabs. In styled text, the sequences that set colours stay.
pub fn visible(text: &str, styled: bool) -> Cow<'_, str> {
    let harmless = |c: char| !c.is_control() || matches!(c, '\n' | '\t');
    if text.chars().all(harmless) {
        return Cow::Borrowed(text);
    }
    let (mut shown, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(c) = rest.chars().next() {
        let end = if styled { style_end(rest).unwrap_or(0) } else { 0 };
        if end > 0 {
            shown.push_str(&rest[..end]);
            rest = &rest[end..];
            continue;
        }
        shown.push(if harmless(c) { c } else { REPLACEMENT });
        rest = &rest[c.len_utf8()..];
    }
    Cow::Owned(shown)
}

/// Returns the end of a sequence that sets a style, if one begins here.
fn style_end(text: &str) -> Option<usize> {
    let numbers = text.strip_prefix("\x1b[")?;
    let end = numbers.find(|c: char| !(c.is_ascii_digit() || c == ';'))?;
    numbers[end..].starts_with('m').then_some(end + 3)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain("Berth 7\n\tCoal — 20 €", false, "Berth 7\n\tCoal — 20 €")]
    #[case::title("\x1b]0;gone\x07north", false, "\u{fffd}]0;gone\u{fffd}north")]
    #[case::erase("\x1b[2Jnorth", true, "\u{fffd}[2Jnorth")]
    #[case::eight_bits("\u{9b}2Jnorth", true, "\u{fffd}2Jnorth")]
    #[case::style("\x1b[1;4mnorth\x1b[0m", true, "\x1b[1;4mnorth\x1b[0m")]
    #[case::style_in_a_pipe("\x1b[1mnorth", false, "\u{fffd}[1mnorth")]
    #[case::unfinished("north\x1b[1;", true, "north\u{fffd}[1;")]
    #[case::return_and_delete("north\r\u{8}\u{7f}", false, "north\u{fffd}\u{fffd}\u{fffd}")]
    fn what_is_shown(#[case] text: &str, #[case] styled: bool, #[case] expected: &str) {
        assert_eq!(visible(text, styled), expected);
    }

    proptest! {
        #[test]
        fn nothing_but_styles_reaches_a_terminal(text in "([a-z]|\\x1b|\\[|[0-9;]|m|[A-Z]|\\PC|[\\x00-\\x{9f}]){0,40}") {
            let shown = visible(&text, true);
            prop_assert_eq!(shown.chars().count(), text.chars().count());
            for part in shown.split('\x1b').skip(1) {
                let end = part.find(|c: char| !(c.is_ascii_digit() || c == ';' || c == '[')).unwrap_or(0);
                prop_assert!(part.starts_with('[') && part[end..].starts_with('m'), "{part:?}");
            }
            prop_assert!(visible(&text, false).chars().all(|c| !c.is_control() || c == '\n' || c == '\t'));
        }
    }
}
