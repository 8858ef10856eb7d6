//! The claims of a text, and what it cites for each.

use std::collections::BTreeMap;

use logothete_core::chunk;
use logothete_core::document::{BlockKind, Document};
use logothete_core::query::is_question;
use logothete_core::text::{citation_marker, count_words, fold, without_markers, words};

/// A claim of a text.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct FoundClaim {
    /// The claim without what it cites.
    pub text: String,
    /// Its line in the text, counted from 1.
    pub line: usize,
    /// What it cites.
    pub cited: Vec<CitedPlace>,
}

impl FoundClaim {
    /// Returns `true` for a claim such as `It is closed on Sundays.`
    pub fn begins_with_pronoun(&self) -> bool {
        let first = words(&self.text).next().map(|word| fold(word.text)).unwrap_or_default();
        ["it", "they", "he", "she", "this", "these", "those", "its", "their"].contains(&first.as_str())
    }
}

/// A document that a text cites, as the text names it, and the page.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct CitedPlace {
    pub document: String,
    pub page: Option<u32>,
}

/// The endings of file names that count as names of documents.
const ENDINGS: [&str; 20] = [
    "pdf", "md", "txt", "html", "htm", "docx", "pptx", "xlsx", "csv", "json", "jsonl", "eml", "epub", "odt", "odp",
    "ods", "tsv", "doc", "xls", "log",
];

/// Returns the claims of a text: its sentences, list items and rows of tables. Headings, code, questions, and lists of what the text cites are none.
/// `known` are the names of documents, which count even without an ending.
///
/// A citation is the name of a document, and perhaps a page, in the sentence itself, or in the line of the list that its marker names: `[2] rules.pdf, page 4`.
pub(super) fn claims(text: &CheckedText, known: &[String]) -> Vec<FoundClaim> {
    let document = &text.document;
    let entries = entries(document, known);
    let mut lines = Lines::of(&text.source);
    let mut found: Vec<FoundClaim> = Vec::new();
    let mut in_list = false;
    for sentence in chunk::sentences(document) {
        let written = document.slice(sentence.span);
        // What follows an entry of the list belongs to it, such as its quotation, until a heading or the next paragraph.
        let begins_entry = citation_marker(written.trim_start()).is_some() && !cited_places(written, known).is_empty();
        in_list = begins_entry || (in_list && written.trim_start().starts_with(['“', '"', '«', '‾']));
        let is_claim = matches!(
            sentence.kind,
            BlockKind::Paragraph | BlockKind::ListItem | BlockKind::Quotation | BlockKind::Caption | BlockKind::Table
        );
        if in_list || !is_claim || (sentence.kind == BlockKind::Table && sentence.row.is_none()) {
            continue;
        }
        let mut cited = cited_places(written, known);
        for marker in markers(written) {
            cited.extend(entries.get(&marker).into_iter().flatten().cloned());
        }
        cited.sort();
        cited.dedup();
        let text = sentence.row.clone().unwrap_or_else(|| bare(written, &cited));
        if count_words(&text) == 0 || text.trim_end().ends_with(['?', '？']) || is_question(&text) {
            continue;
        }
        let line = lines.of_next(written);
        found.push(FoundClaim { text, line, cited });
    }
    found
}

/// A text to check: as it was written, and as it was read.
#[derive(Debug)]
pub(crate) struct CheckedText {
    pub source: String,
    pub document: Document,
}

/// Tells the lines of a text at which its sentences begin, one after another.
struct Lines {
    /// The words of the text, each with its line.
    words: Vec<(String, usize)>,
    at: usize,
}

impl Lines {
    /// So many words tell a sentence.
    const TELLING: usize = 5;

    fn of(source: &str) -> Self {
        let line =
            |(at, line): (usize, &str)| words(line).map(move |word| (fold(word.text), at + 1)).collect::<Vec<_>>();
        Self { words: source.lines().enumerate().flat_map(line).collect(), at: 0 }
    }

    /// Returns the line of a sentence that comes after those before it; that of the last one if the sentence is not there.
    fn of_next(&mut self, sentence: &str) -> usize {
        let first: Vec<String> = words(sentence).take(Self::TELLING).map(|word| fold(word.text)).collect();
        let stands = |at: &usize| {
            first
                .iter()
                .enumerate()
                .all(|(more, word)| self.words.get(at + more).is_some_and(|(other, _)| other == word))
        };
        let found = (self.at..self.words.len()).find(stands).filter(|_| !first.is_empty());
        let at = found.unwrap_or(self.at);
        self.at = found.map_or(self.at, |found| found + 1);
        self.words.get(at).or(self.words.last()).map_or(1, |(_, line)| *line)
    }
}

/// Returns what each line of a list of sources cites, by its marker.
fn entries(document: &Document, known: &[String]) -> BTreeMap<usize, Vec<CitedPlace>> {
    let mut entries = BTreeMap::new();
    for line in document.text.lines().map(str::trim_start) {
        let (Some(length), places) = (citation_marker(line), cited_places(line, known)) else { continue };
        if let (Ok(marker), false) = (line[1..length - 1].parse(), places.is_empty()) {
            entries.entry(marker).or_insert(places);
        }
    }
    entries
}

/// Returns the numbers of the markers in a sentence.
fn markers(text: &str) -> Vec<usize> {
    let places = text.match_indices('[').filter_map(|(at, _)| Some((at, citation_marker(&text[at..])?)));
    places.filter_map(|(at, length)| text[at + 1..at + length - 1].parse().ok()).collect()
}

/// Returns the documents that a text names, with the page that follows each name.
fn cited_places(text: &str, known: &[String]) -> Vec<CitedPlace> {
    let mut found: Vec<(usize, usize, String)> = Vec::new();
    let is_part = |c: char| c.is_alphanumeric() || "._-/".contains(c);
    let mut at = 0;
    for word in text.split(|c: char| !is_part(c)) {
        let start = at;
        at += word.len();
        at += text[at..].chars().next().map_or(0, char::len_utf8);
        let name = word.trim_matches(['.', '-', '/']);
        let ending = name.rsplit_once('.').map(|(stem, ending)| (stem, ending.to_lowercase()));
        let is_name = known.iter().any(|document| document == name)
            || ending.is_some_and(|(stem, ending)| !stem.is_empty() && ENDINGS.contains(&ending.as_str()));
        if is_name {
            found.push((start, start + word.len(), name.to_owned()));
        }
    }
    let place = |(_, end, document): &(usize, usize, String)| CitedPlace {
        document: document.clone(),
        page: page_behind(&text[*end..]),
    };
    found.iter().map(place).collect()
}

/// Returns the page that a text begins with: `, page 4`, ` p. 4`, `, S. 4`.
fn page_behind(text: &str) -> Option<u32> {
    let rest = text.trim_start_matches([',', ' ', ':', '(', ')', '`', '*']);
    let names = ["pages", "page", "pp.", "p.", "seite", "s.", "página", "pagina", "pág."];
    let lower = rest.to_lowercase();
    let name = names.iter().find(|name| lower.starts_with(**name))?;
    let digits: String = lower[name.len()..].trim_start().chars().take_while(char::is_ascii_digit).collect();
    digits.parse().ok()
}

/// Returns a sentence without its markers and without what stands in brackets about its source.
fn bare(text: &str, cited: &[CitedPlace]) -> String {
    let mut text = without_markers(text.trim());
    if let Some(marker) = logothete_core::text::list_marker(&text) {
        text = text.trim_start()[marker.len()..].trim_start().to_owned();
    }
    for place in cited {
        let Some(at) = text.find(&place.document) else { continue };
        let open = text[..at].rfind(['(', '[']);
        let close = text[at..].find([')', ']']).map(|end| at + end + 1);
        if let (Some(open), Some(close)) = (open, close) {
            text.replace_range(open..close, "");
        }
    }
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    text.replace(" .", ".").replace(" ,", ",")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn place(document: &str, page: Option<u32>) -> CitedPlace {
        CitedPlace { document: document.to_owned(), page }
    }

    #[rstest]
    #[case("It is so (rules.pdf, page 4).", &[("rules.pdf", Some(4))], "It is so.")]
    #[case("It is so [notices/one.md].", &[("notices/one.md", None)], "It is so.")]
    #[case("It is so. [1]", &[("book.pdf", Some(12))], "It is so.")]
    #[case("According to rules.pdf p. 9 it is so.", &[("rules.pdf", Some(9))], "According to rules.pdf p. 9 it is so.")]
    #[case("Version 2.5 is so.", &[], "Version 2.5 is so.")]
    fn citations(#[case] sentence: &str, #[case] cited: &[(&str, Option<u32>)], #[case] claim: &str) {
        let text = format!("# Head\n\n{sentence}\n\nIs it?\n\n[1] book.pdf, page 12\n\n“What stands there.”\n");
        let document = logothete_parse::parse("a.md", text.as_bytes()).expect("a document");
        let found = claims(&CheckedText { source: text, document }, &[]);
        assert_eq!(found.len(), 1, "{found:?}");
        let expected: Vec<CitedPlace> = cited.iter().map(|(name, page)| place(name, *page)).collect();
        assert_eq!((found[0].text.as_str(), &found[0].cited, found[0].line), (claim, &expected, 3));
    }
}
