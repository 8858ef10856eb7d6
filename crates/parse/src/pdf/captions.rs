//! Captions: the words that begin with `Figure 3` or `Table 2.` beside a figure or a table.

/// The first words of captions, lower case, in common languages.
const BEGINNINGS: &[&str] = &[
    "figure",
    "fig.",
    "fig",
    "table",
    "tab.",
    "chart",
    "plate",
    "map",
    "diagram",
    "listing",
    "exhibit",
    "photo",
    "abbildung",
    "abb.",
    "tabelle",
    "tableau",
    "carte",
    "figura",
    "tabla",
    "tabela",
    "tabella",
    "afbeelding",
    "tabel",
];

/// Returns `true` if a text begins as a caption does: a word for a figure or table, then its number.
pub(super) fn is_caption(text: &str) -> bool {
    let mut words = text.split_whitespace();
    let (Some(first), Some(number)) = (words.next(), words.next()) else { return false };
    let bare = number.trim_end_matches([':', '.', ')', '–', '—', '-']);
    let counted = |part: &str| {
        (1..=3).contains(&part.len())
            && (part.bytes().all(|b| b.is_ascii_digit()) || part.bytes().all(|b| matches!(b, b'I' | b'V' | b'X')))
            || part.len() == 1 && part.bytes().all(|b| b.is_ascii_uppercase())
    };
    let ended = bare.len() < number.len()
        || words
            .clone()
            .next()
            .is_none_or(|next| next.starts_with(char::is_uppercase) || !next.starts_with(char::is_alphanumeric));
    BEGINNINGS.contains(&first.to_lowercase().as_str()) && bare.split(['.', '-']).all(counted) && ended
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("Figure 3: The lock at low water", true)]
    #[case("Table 2. Dues by berth", true)]
    #[case("Fig. 1.2 The bell", true)]
    #[case("Table 4 shows the dues of last year", false)]
    #[case("Table 4 Dues of last year", true)]
    #[case("Figure of speech", false)]
    #[case("A table", false)]
    fn beginnings(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(super::is_caption(text), expected);
    }
}
