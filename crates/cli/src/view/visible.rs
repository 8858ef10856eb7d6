//! Makes control characters visible, so that names, titles and texts of documents cannot change the terminal.

use std::borrow::Cow;

use super::style::mark;

/// The sign in place of one that is not shown.
const REPLACEMENT: char = '\u{fffd}';

/// Returns text without control characters except line ends and tabs, and without characters that reorder text. In styled text, the
/// sequences of [`Style`](super::Style) become those of terminals.
pub fn visible(text: &str, styled: bool) -> Cow<'_, str> {
    if text.chars().all(is_harmless) {
        return Cow::Borrowed(text);
    }
    let (mut shown, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(c) = rest.chars().next() {
        if let Some((numbers, after)) = style_at(rest).filter(|_| styled) {
            shown.push_str(&format!("\x1b[{numbers}m"));
            rest = after;
            continue;
        }
        shown.push(if is_harmless(c) { c } else { REPLACEMENT });
        rest = &rest[c.len_utf8()..];
    }
    Cow::Owned(shown)
}

/// Returns `true` for a character that a terminal only shows.
pub fn is_harmless(c: char) -> bool {
    let reorders = matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    matches!(c, '\n' | '\t') || (!c.is_control() && !reorders)
}

/// Returns the numbers of a sequence that sets a style, if one begins here, and the text after it.
fn style_at(text: &str) -> Option<(&str, &str)> {
    let numbers = text.strip_prefix(mark())?;
    let end = numbers.find(|c: char| !(c.is_ascii_digit() || c == ';'))?;
    Some((&numbers[..end], numbers[end..].strip_prefix('m')?))
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
    #[case::colours_of_a_document("\x1b[8mnorth\x1b[0m", true, "\u{fffd}[8mnorth\u{fffd}[0m")]
    #[case::guessed_mark("\x1b0123456789abcdef[8mnorth", true, "\u{fffd}0123456789abcdef[8mnorth")]
    #[case::reordered("invoice\u{202e}fdp.exe\u{2066}", true, "invoice\u{fffd}fdp.exe\u{fffd}")]
    #[case::unfinished("north\x1b[1;", true, "north\u{fffd}[1;")]
    #[case::return_and_delete("north\r\u{8}\u{7f}", false, "north\u{fffd}\u{fffd}\u{fffd}")]
    fn what_is_shown(#[case] text: &str, #[case] styled: bool, #[case] expected: &str) {
        assert_eq!(visible(text, styled), expected);
    }

    #[test]
    fn styles_of_the_program_become_those_of_terminals() {
        let styled = format!("{}1;4mnorth{}0m", mark(), mark());
        assert_eq!(visible(&styled, true), "\x1b[1;4mnorth\x1b[0m");
        assert!(!visible(&styled, false).contains('\x1b'));
    }

    proptest! {
        #[test]
        fn nothing_of_a_document_reaches_a_terminal(text in "([a-z]|\\x1b|\\[|[0-9;]|m|[A-Z]|\\PC|[\\x00-\\x{9f}]|\u{202e}){0,40}") {
            for styled in [true, false] {
                let shown = visible(&text, styled);
                prop_assert_eq!(shown.chars().count(), text.chars().count());
                prop_assert!(shown.chars().all(is_harmless));
            }
        }
    }
}
