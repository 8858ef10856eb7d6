//! Sentence boundaries marked by hand, and how many of them are found.
//!
//! A file has a sentence a line; blank lines part paragraphs; a line that begins with `#` says what kind follows. The
//! sentences of a paragraph are joined with blanks, under `# unspaced` without. The end of a paragraph does not count: to
//! find it is no art.

use logothete_core::text::sentences;

/// Counts of boundaries inside paragraphs.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Found {
    /// Sentences in the file.
    pub sentences: usize,
    /// Boundaries that are marked.
    pub marked: usize,
    /// Boundaries that were found.
    pub found: usize,
    /// Boundaries that were found where they are marked.
    pub right: usize,
    /// What went wrong, for a person.
    pub mistakes: Vec<String>,
}

impl Found {
    /// The harmonic mean of precision and recall.
    pub fn f1(&self) -> f64 {
        2.0 * self.right as f64 / (self.marked + self.found).max(1) as f64
    }
}

/// Splits every paragraph of a file and compares.
pub fn compare(file: &str) -> Found {
    let mut total = Found::default();
    let mut gap = " ";
    for paragraph in file.split("\n\n") {
        if let Some(kind) = paragraph.lines().find(|line| line.starts_with('#')) {
            gap = if kind.contains("unspaced") { "" } else { " " };
        }
        let lines: Vec<&str> = paragraph.lines().filter(|line| !line.starts_with('#') && !line.is_empty()).collect();
        let text = lines.join(gap);
        let mut at = 0;
        let mut marked: Vec<usize> = Vec::new();
        for line in &lines {
            at += line.len();
            marked.push(at);
            at += gap.len();
        }
        marked.pop();
        let mut found: Vec<usize> = sentences(&text).iter().map(|span| span.end).collect();
        found.pop();
        total.sentences += lines.len();
        total.marked += marked.len();
        total.found += found.len();
        total.right += found.iter().filter(|end| marked.contains(end)).count();
        let around = |at: usize| {
            let from = (0..=at.saturating_sub(24)).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
            let to = (at + 16..text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
            format!("{}▏{}", &text[from..at], &text[at..to])
        };
        total
            .mistakes
            .extend(marked.iter().filter(|end| !found.contains(end)).map(|&end| format!("not found: {}", around(end))));
        total
            .mistakes
            .extend(found.iter().filter(|end| !marked.contains(end)).map(|&end| format!("not there: {}", around(end))));
    }
    total
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn comparing_by_hand() {
        let found = compare("# plain\nOne ends. Two\nends.\nThree.\n\n# unspaced\n一。\n二。");
        assert_eq!((found.sentences, found.marked, found.found, found.right), (5, 3, 3, 2));
        assert_eq!(found.mistakes.len(), 2);
    }

    #[test]
    fn the_marked_sentences_to_tune_on_are_found() {
        let found = compare(include_str!("../sentences/dev.txt"));
        assert!(found.f1() >= 0.98, "{:.4}: {:#?}", found.f1(), found.mistakes);
    }
}
