//! Where sentences end.
//!
//! A rule-based splitter: a stop ends a sentence when what follows looks like a beginning and what stands before is
//! not an abbreviation, an initial or an item's number. One pass over the text.

use crate::document::Span;

/// Lower-case abbreviations whose full stop does not end a sentence when more follows.
const ABBREVIATIONS: &[&str] = &[
    "approx", "apr", "art", "aug", "bros", "ca", "capt", "cf", "cmdr", "co", "col", "dec", "dept", "dr", "e.g", "ed",
    "eg", "eq", "est", "etc", "ext", "feb", "fig", "figs", "gen", "hr", "hrs", "i.e", "ie", "inc", "jan", "jr", "jul",
    "jun", "lt", "ltd", "mar", "max", "messrs", "min", "mr", "mrs", "ms", "mt", "no", "nos", "nov", "nr", "oct", "op",
    "p", "para", "pp", "prof", "ref", "resp", "rev", "sect", "sep", "sept", "sgt", "sr", "st", "tel", "vol", "vs",
];

/// Abbreviations that are words as well: only a number behind them makes them an abbreviation.
const BEFORE_NUMBERS: &[&str] = &["art", "eq", "ext", "fig", "figs", "no", "nos", "p", "para", "pp", "sect", "vol"];

/// The sentences of a piece of running text, in order, without the white space between them.
pub fn sentences(text: &str) -> Vec<Span> {
    let mut found = Vec::new();
    let mut start = 0;
    let mut marks = text.char_indices().peekable();
    while let Some((at, mark)) = marks.next() {
        let wide = matches!(mark, '。' | '！' | '？' | '｡');
        if !wide && !matches!(mark, '.' | '!' | '?' | '…' | '؟' | '۔' | '।') {
            continue;
        }
        let mut end = at + mark.len_utf8();
        while let Some(&(next, c)) = marks.peek() {
            if !matches!(c, '.' | '!' | '?' | '…' | '"' | '”' | '’' | '\'' | ')' | ']' | '»' | '」' | '』' | '）')
            {
                break;
            }
            end = next + c.len_utf8();
            marks.next();
        }
        let rest = &text[end..];
        let parted = rest.is_empty() || rest.starts_with(char::is_whitespace) || wide;
        if parted && begins_sentence(rest) && !(mark == '.' && holds_on(&text[start..at], rest)) {
            push(text, start, end, &mut found);
            start = end;
        }
    }
    push(text, start, text.len(), &mut found);
    found
}

fn push(text: &str, start: usize, end: usize, found: &mut Vec<Span>) {
    let piece = &text[start..end];
    let lead = piece.len() - piece.trim_start().len();
    let body = piece.trim();
    if !body.is_empty() {
        found.push(Span::new(start + lead, start + lead + body.len()));
    }
}

/// Whether what follows a stop can begin a sentence: anything but a lower-case letter or joining punctuation.
fn begins_sentence(rest: &str) -> bool {
    match rest.trim_start().chars().next() {
        None => true,
        Some(c) => !c.is_lowercase() && !matches!(c, ',' | ';' | ':' | '–' | '—' | '-' | ')'),
    }
}

/// Whether the full stop after `before` belongs to a shortened word or a number rather than to a sentence.
fn holds_on(before: &str, rest: &str) -> bool {
    let word = before.rsplit(|c: char| c.is_whitespace() || c == '(').next().unwrap_or_default();
    let folded = word.to_lowercase();
    let number_follows = rest.trim_start().starts_with(|c: char| c.is_ascii_digit());
    let alone = before.trim_start() == word;
    let initial = word.chars().count() == 1 && word.chars().all(char::is_uppercase);
    let item_number =
        alone && !word.is_empty() && word.len() <= 4 && word.chars().all(|c| c.is_ascii_digit() || c == '.');
    if rest.trim().is_empty() {
        return false;
    }
    if BEFORE_NUMBERS.contains(&folded.as_str()) {
        return number_follows;
    }
    initial || item_number || ABBREVIATIONS.contains(&folded.as_str())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case("One ends. Two begins! Three? Four", &["One ends.", "Two begins!", "Three?", "Four"])]
    #[case("It draws 8.4 m. at most. No. 7 is free.", &["It draws 8.4 m. at most.", "No. 7 is free."])]
    #[case("Ask Capt. Moyle or Mr. Keddle. They know.", &["Ask Capt. Moyle or Mr. Keddle.", "They know."])]
    #[case("Is it shut? No. Come in.", &["Is it shut?", "No.", "Come in."])]
    #[case("1. Moor. 2. Pay.", &["1. Moor.", "2. Pay."])]
    #[case("He said \"Wait.\" Then he left.", &["He said \"Wait.\"", "Then he left."])]
    #[case("港口关闭。请等待！", &["港口关闭。", "请等待！"])]
    #[case("J. R. Moyle signed it.", &["J. R. Moyle signed it."])]
    #[case("Ropes, lines, etc. are stowed. See p. 12.", &["Ropes, lines, etc. are stowed.", "See p. 12."])]
    #[case("  \n ", &[])]
    fn splits(#[case] text: &str, #[case] expected: &[&str]) {
        let found: Vec<&str> = super::sentences(text).into_iter().map(|span| &text[span.range()]).collect();
        assert_eq!(found, expected);
    }
}
