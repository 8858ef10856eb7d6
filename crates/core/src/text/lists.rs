//! Markers of list items.

/// Returns the marker at the start of a line, if the line is a list item: a bullet, `(2)`, `b)`, `3.`, `iv.`
pub fn list_marker(line: &str) -> Option<&str> {
    let line = line.trim_start();
    let marker = line.split_whitespace().next()?;
    let rest = &line[marker.len()..];
    if rest.trim().is_empty() {
        return None;
    }
    if matches!(marker, "•" | "◦" | "▪" | "‣" | "·" | "–" | "—" | "-" | "*" | "o" | "") {
        return Some(marker);
    }
    let inner = marker.strip_prefix('(').unwrap_or(marker);
    let number = inner.strip_suffix(')').or_else(|| inner.strip_suffix('.').filter(|_| inner.len() == marker.len()))?;
    let figures = (1..=3).contains(&number.len()) && number.bytes().all(|b| b.is_ascii_digit());
    let letter = number.len() == 1 && number.bytes().all(|b| b.is_ascii_lowercase());
    let roman = !number.is_empty() && number.len() <= 5 && number.bytes().all(|b| b"ivx".contains(&b));
    (figures || letter || roman).then_some(marker)
}

/// Returns `true` if a list of words, with blanks between them, has a word.
pub(crate) fn is_listed(list: &str, word: &str) -> bool {
    let is_whole = |at: usize| {
        let (before, behind) = (list[..at].chars().next_back(), list[at + word.len()..].chars().next());
        before.is_none_or(char::is_whitespace) && behind.is_none_or(char::is_whitespace)
    };
    // Searching for the word takes a tenth of the time of cutting the list, and lists are looked at for each word of a text.
    !word.is_empty() && !word.contains(char::is_whitespace) && list.match_indices(word).any(|(at, _)| is_whole(at))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("(2) A vessel", Some("(2)"))]
    #[case("b) a rope", Some("b)"))]
    #[case("12. Moor", Some("12."))]
    #[case("(iv) a line", Some("(iv)"))]
    #[case("• tide", Some("•"))]
    #[case("2024. was dry", None)]
    #[case("-5 degrees", None)]
    #[case("(2)", None)]
    #[case("Article 4. The", None)]
    fn markers(#[case] line: &str, #[case] expected: Option<&str>) {
        assert_eq!(super::list_marker(line), expected);
    }

    #[rstest]
    #[case("no not never", "not", true)]
    #[case("no not never", "no", true)]
    #[case("no not never", "never", true)]
    #[case("no not never", "eve", false)]
    #[case("another the other", "other", true)]
    #[case("an another", "other", false)]
    #[case("no not never", "no not", false)]
    #[case("no not never", "", false)]
    #[case("", "no", false)]
    #[case("für und", "für", true)]
    fn a_list_has_whole_words(#[case] list: &str, #[case] word: &str, #[case] has: bool) {
        assert_eq!(super::is_listed(list, word), has);
    }
}
