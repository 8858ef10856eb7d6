//! Finds the ends of sentences.
//!
//! A rule-based splitter for several scripts. A mark ends a sentence if the following text can begin one, and if no
//! abbreviation, initial, item number or ordinal precedes it. A quotation that closes soon is not split. Costs one pass over
//! the text, and a look at the words around each mark.

use super::abbreviations::{Kind, is_ordinal_month, kind_of};
use super::stopwords::is_stopword;
use crate::document::Span;

/// Longer quotations, in bytes, are split into their sentences.
const MAX_QUOTATION: usize = 400;

/// Returns the sentences of a running text in order, without the white space between them.
pub fn sentences(text: &str) -> Vec<Span> {
    let mut found = Vec::new();
    let mut start = 0;
    let mut at = 0;
    let mut quotation = Quotation::default();
    while let Some(mark) = next_mark(text, at, &mut quotation) {
        let end = behind_markers(text, behind_closers(text, mark.at + mark.sign.len_utf8(), &mut quotation));
        at = end;
        let rest = &text[end..];
        let parted = rest.is_empty() || mark.unspaced || rest.starts_with(char::is_whitespace);
        if parted && !quotation.is_open(text, end) && ends(text, start, &mark, end) {
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

/// A mark that may end a sentence.
struct Mark {
    at: usize,
    sign: char,
    /// Whether it needs no white space after it.
    unspaced: bool,
}

/// Returns the next mark from a place on, and tracks opening and closing quotations on the way.
fn next_mark(text: &str, from: usize, quotation: &mut Quotation) -> Option<Mark> {
    let bytes = text.as_bytes();
    let mut at = from;
    while at < bytes.len() {
        let byte = bytes[at];
        if byte.is_ascii_lowercase() || byte == b' ' {
            at += 1;
            continue;
        }
        if byte.is_ascii() {
            let sign = char::from(byte);
            match byte {
                b'.' | b'!' | b'?' => return Some(Mark { at, sign, unspaced: false }),
                // The Greek question mark.
                b';' if text[..at].chars().next_back().is_some_and(is_greek) => {
                    return Some(Mark { at, sign, unspaced: false });
                }
                b'"' => quotation.note(sign, at),
                _ => {}
            }
            at += 1;
            continue;
        }
        let Some(sign) = text[at..].chars().next() else { break };
        match sign {
            '。' | '！' | '？' | '｡' | '။' | '។' | '᠃' | '꓿' => {
                return Some(Mark { at, sign, unspaced: true });
            }
            '…' | '‼' | '⁇' | '⁈' | '⁉' | '؟' | '۔' | '।' | '॥' | '։' | '።' | '፧' | '՜' | '՞' | '།' =>
            {
                return Some(Mark { at, sign, unspaced: false });
            }
            '“' | '”' | '„' | '«' | '»' | '「' | '」' | '『' | '』' => quotation.note(sign, at),
            _ => {}
        }
        at += sign.len_utf8();
    }
    None
}

/// Returns the place after markers such as ` [1][2]`, which cite sources of the sentence before them.
fn behind_markers(text: &str, from: usize) -> usize {
    let mut end = from;
    loop {
        let rest = text[end..].trim_start_matches([' ', '\t', '\u{a0}']);
        let Some(length) = citation_marker(rest) else { return end };
        // Not a figure in brackets that the next sentence begins with, as in `[3] metres`.
        let next = rest[length..].trim_start();
        if next.starts_with(char::is_lowercase) {
            return end;
        }
        end = text.len() - rest.len() + length;
    }
}

/// Returns the length of a marker of a source, such as `[12]`, at the start of a text.
pub fn citation_marker(text: &str) -> Option<usize> {
    let digits = text.strip_prefix('[')?;
    let length = digits.bytes().take_while(u8::is_ascii_digit).count();
    ((1..=3).contains(&length) && digits[length..].starts_with(']')).then_some(length + 2)
}

/// Returns a claim without the markers of its sources, whose numbers are no part of it.
pub fn without_markers(claim: &str) -> String {
    let (mut bare, mut rest) = (String::with_capacity(claim.len()), claim);
    while let Some(at) = rest.find('[') {
        let length = citation_marker(&rest[at..]).unwrap_or(0);
        let kept = if length == 0 { at + 1 } else { at };
        let before = &rest[..kept];
        bare.push_str(if length == 0 { before } else { before.trim_end() });
        rest = &rest[at + length.max(1)..];
    }
    bare.push_str(rest);
    bare.trim().to_owned()
}

fn is_greek(c: char) -> bool {
    matches!(c, '\u{370}'..='\u{3ff}' | '\u{1f00}'..='\u{1fff}')
}

/// Returns the place after further marks and closing quotation marks and brackets, in French after a blank.
fn behind_closers(text: &str, from: usize, quotation: &mut Quotation) -> usize {
    let mut end = from;
    while let Some(sign) = text[end..].chars().next() {
        match sign {
            '.' | '!' | '?' | '…' | '！' | '？' | '。' | ')' | ']' | '）' | '’' | '\'' => {}
            '"' if quotation.opened.is_some() => quotation.note(sign, end),
            // An opening mark would follow a blank.
            '“' if quotation.sign == '„' => quotation.close(),
            '”' | '»' | '」' | '』' => quotation.close(),
            ' ' | '\u{a0}' | '\u{202f}' if quotation.sign == '«' && text[end + sign.len_utf8()..].starts_with('»') => {
            }
            _ => break,
        }
        end += sign.len_utf8();
    }
    end
}

/// The open quotation, if any.
#[derive(Default)]
struct Quotation {
    opened: Option<usize>,
    sign: char,
}

impl Quotation {
    fn note(&mut self, sign: char, at: usize) {
        match (sign, self.opened) {
            ('”' | '»' | '」' | '』' | '"', Some(_)) => self.close(),
            ('“', Some(_)) if self.sign == '„' => self.close(),
            ('“' | '„' | '«' | '「' | '『' | '"', None) => {
                (self.opened, self.sign) = (Some(at), sign);
            }
            _ => {}
        }
    }

    fn close(&mut self) {
        self.opened = None;
    }

    /// Returns `true` if a quotation is open and closes soon.
    fn is_open(&self, text: &str, at: usize) -> bool {
        let Some(opened) = self.opened else { return false };
        let closers: &[char] = match self.sign {
            '„' => &['“', '”'],
            '“' => &['”'],
            '«' => &['»'],
            '「' => &['」'],
            '『' => &['』'],
            _ => &['"'],
        };
        let last = (opened + MAX_QUOTATION).min(text.len());
        let near = (at..=last).rev().find(|&end| text.is_char_boundary(end)).unwrap_or(at);
        at <= near && text[at..near].contains(closers)
    }
}

/// Returns `true` if a sentence from `start` ends with a mark whose closers end at `end`.
fn ends(text: &str, start: usize, mark: &Mark, end: usize) -> bool {
    let rest = text[end..].trim_start();
    if rest.is_empty() {
        return true;
    }
    if mark.unspaced {
        // Quoted speech at the beginning of a sentence is followed by its speaker.
        let speech = text[start..].trim_start().starts_with(['“', '「', '『']);
        let closed = text[..end].ends_with(['”', '」', '』']);
        return !(speech && closed && !rest.starts_with(['“', '「', '『']));
    }
    begins_sentence(rest) && !(mark.sign == '.' && holds_on(&text[start..mark.at], &text[mark.at + 1..end], rest))
}

/// Returns `true` if the text after a mark can begin a sentence: anything but a lower-case word or joining punctuation.
fn begins_sentence(rest: &str) -> bool {
    let Some(first) = rest.chars().next() else { return true };
    if matches!(first, ',' | ';' | ':' | '–' | '—' | '-' | ')') {
        return false;
    }
    if !first.is_lowercase() {
        return true;
    }
    // A name such as deLacey or pH, or the marker of a list item.
    let word = rest.split_whitespace().next().unwrap_or_default();
    let inner = word.split(|c: char| !c.is_alphanumeric()).next().unwrap_or_default();
    let item = super::list_marker(rest) == Some(word) && word.ends_with(['.', ')']);
    let next = rest[word.len()..].trim_start();
    inner.chars().any(char::is_uppercase) || (item && next.starts_with(char::is_uppercase))
}

/// Returns `true` if the full stop after `before` belongs to an abbreviation or a number and not to a sentence.
fn holds_on(before: &str, closers: &str, rest: &str) -> bool {
    let word = before
        .rsplit(|c: char| c.is_whitespace() || matches!(c, '(' | '[' | '’' | '\'' | '“'))
        .next()
        .unwrap_or_default();
    let next = rest.trim_start_matches(['“', '„', '«', '(', '[', '\'', '"']);
    let following = next.split(|c: char| c.is_whitespace() || c == ',').next().unwrap_or_default();
    let number =
        rest.trim_start_matches(['(', '§', ' ']).starts_with(|c: char| c.is_ascii_digit()) || rest.starts_with('§');
    let alone = before.trim_start() == word;
    if word.is_empty() {
        return false;
    }
    if word.bytes().all(|b| b.is_ascii_digit() || b == b'.') {
        // The number of an item, or an ordinal before a month.
        return (alone && word.len() <= 4) || is_ordinal_month(following);
    }
    if alone && is_letter(word) {
        return true;
    }
    if alone && closers.is_empty() && super::list_marker(&format!("{word}. x")).is_some() {
        return true;
    }
    let starts_anew = || {
        let bare = following.trim_end_matches(|c: char| !c.is_alphanumeric());
        bare.chars().count() > 1 && is_opening_word(&bare.to_lowercase())
    };
    let letters = || word.split('.').all(|part| part.chars().count() == 1 && part.chars().all(char::is_alphabetic));
    match kind_of(word) {
        Some(Kind::Title | Kind::Inner) => true,
        Some(Kind::Reference) => number || is_letter(following),
        Some(Kind::Company) => matches!(kind_of(following.trim_end_matches('.')), Some(Kind::Company)),
        Some(Kind::Calendar) => number && word.starts_with(char::is_uppercase),
        Some(Kind::Measure) => {
            number && before[..before.len() - word.len()].trim_end().ends_with(|c: char| c.is_ascii_digit())
        }
        Some(Kind::Closing) => false,
        None if letters() => {
            // Initials, letters of a ship or a state, and German abbreviations of single letters.
            let lower = word.chars().all(|c| c.is_lowercase() || c == '.');
            let chain = following.ends_with('.') && following.chars().count() == 2;
            let single = word.chars().count() == 1;
            if lower { chain || (single && number) } else { number || !starts_anew() }
        }
        None => false,
    }
}

/// Returns `true` for one capital letter, such as that of an annex.
fn is_letter(word: &str) -> bool {
    let bare = word.trim_end_matches(|c: char| !c.is_alphanumeric());
    bare.chars().count() == 1 && bare.chars().all(char::is_uppercase)
}

/// Returns `true` if a word often begins sentences, and is no part of a name.
fn is_opening_word(word: &str) -> bool {
    const OTHERS: &[&str] = &[
        "das", "der", "die", "ein", "eine", "el", "elle", "er", "es", "il", "ils", "la", "las", "le", "les", "lo",
        "los", "nobody", "sie", "un", "una", "une", "wir",
    ];
    is_stopword(word) || OTHERS.binary_search(&word).is_ok()
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
    #[case("The S.S. Marrow sailed. She sank.", &["The S.S. Marrow sailed.", "She sank."])]
    #[case("Er kommt z. B. am 3. Mai. Gut.", &["Er kommt z. B. am 3. Mai.", "Gut."])]
    #[case("i. Moor. ii. Pay.", &["i. Moor.", "ii. Pay."])]
    #[case("« Attendez ! » dit-il. On attend.", &["« Attendez ! » dit-il.", "On attend."])]
    #[case("「待て。」と言った。待った。", &["「待て。」と言った。", "待った。"])]
    #[case("Πότε; Αύριο.", &["Πότε;", "Αύριο."])]
    #[case("She wrote: “Here. Now.” Then she left.", &["She wrote: “Here. Now.”", "Then she left."])]
    #[case("An open “quote. It never ends. Really.", &["An open “quote.", "It never ends.", "Really."])]
    #[case("Ask a pilot. [1] Wait here. [2][13] Go.", &["Ask a pilot. [1]", "Wait here. [2][13]", "Go."])]
    #[case("It is deep.[4]", &["It is deep.[4]"])]
    #[case("It is deep. [3] metres are enough.", &["It is deep.", "[3] metres are enough."])]
    #[case("  \n ", &[])]
    fn splits(#[case] text: &str, #[case] expected: &[&str]) {
        let found: Vec<&str> = super::sentences(text).into_iter().map(|span| &text[span.range()]).collect();
        assert_eq!(found, expected);
    }
}
