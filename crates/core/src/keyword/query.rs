//! Parses queries: words, and the signs that say more about them.
//!
//! A row may have `word`; it must have `+word`, and must not have `-word`. It must have the words in `"some words"` in this
//! order, and must not have those in `-"some words"`. `word*` matches every term with this prefix. In a plain question none of
//! these signs has a meaning.

use crate::text::{Token, tokens};

/// Says whether a row must have a part of a query.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Occurs {
    /// A row may have it, and scores higher if it does.
    #[default]
    Maybe,
    /// A row must have it.
    Must,
    /// A row must not have it.
    MustNot,
}

/// A part of a query.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clause {
    /// Whether a row must have this part.
    pub occurs: Occurs,
    /// One or several words, as written.
    pub text: String,
    /// Whether its words must follow one another.
    pub phrase: bool,
    /// Whether it is a prefix.
    pub prefix: bool,
}

/// A parsed query.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Query {
    /// The parts in order.
    pub clauses: Vec<Clause>,
    /// Whether words that no row has are searched with one slip. A plain question does not do so: that the documents lack a
    /// word may be the answer.
    pub tolerant: bool,
}

impl Query {
    /// Parses a plain question: each of its words may match.
    pub fn plain(text: &str) -> Self {
        let clause = Clause { occurs: Occurs::Maybe, text: text.to_owned(), phrase: false, prefix: false };
        Self { clauses: vec![clause], tolerant: false }
    }

    /// Parses a query with signs. Signs that make no sense are taken as text, so that every text is a query.
    pub fn parse(text: &str) -> Self {
        let mut clauses = Vec::new();
        let mut rest = text.trim_start();
        while !rest.is_empty() {
            let (occurs, body) = match rest.strip_prefix('+') {
                Some(body) if begins(body) => (Occurs::Must, body),
                _ => match rest.strip_prefix('-') {
                    // A minus before a digit may be the sign of a number.
                    Some(body) if begins(body) && !body.starts_with(|c: char| c.is_ascii_digit()) => {
                        (Occurs::MustNot, body)
                    }
                    _ => (Occurs::Maybe, rest),
                },
            };
            let quoted = body.strip_prefix('"').and_then(|inner| inner.split_once('"'));
            if let Some((inner, behind)) = quoted {
                // A quotation is required.
                let occurs = if occurs == Occurs::Maybe { Occurs::Must } else { occurs };
                if has_word(inner) {
                    clauses.push(Clause { occurs, text: inner.to_owned(), phrase: true, prefix: false });
                }
                rest = behind.trim_start();
                continue;
            }
            let end = body.find(|c: char| c.is_whitespace() || c == '"').filter(|&end| end > 0);
            let end = end.unwrap_or_else(|| if body.starts_with('"') { 1 } else { body.len() });
            let (word, behind) = body.split_at(end);
            let stem = word.strip_suffix('*').filter(|stem| stem.ends_with(char::is_alphanumeric));
            let text = stem.unwrap_or(word).to_owned();
            clauses.push(Clause { occurs, text, phrase: false, prefix: stem.is_some() });
            rest = behind.trim_start();
        }
        Self { clauses, tolerant: true }
    }

    /// Returns the text without signs and without excluded parts, for an encoder.
    pub fn text(&self) -> String {
        let said = self.clauses.iter().filter(|clause| clause.occurs != Occurs::MustNot);
        said.map(|clause| clause.text.as_str()).collect::<Vec<_>>().join(" ")
    }

    /// Adds words that a row may have.
    pub fn add(&mut self, text: &str) {
        self.clauses.push(Clause { occurs: Occurs::Maybe, text: text.to_owned(), phrase: false, prefix: false });
    }

    /// Returns `true` if there is a word to search for.
    pub fn has_words(&self) -> bool {
        has_word(&self.text())
    }

    /// Returns `true` if the query may rule rows out.
    pub fn is_strict(&self) -> bool {
        self.clauses.iter().any(|clause| clause.occurs != Occurs::Maybe)
    }
}

/// Returns `true` if a text has a word to search for.
fn has_word(text: &str) -> bool {
    let mut any = false;
    tokens(text, |_: Token<'_>| any = true);
    any
}

/// Returns `true` if a word or a quotation begins here.
fn begins(text: &str) -> bool {
    let piece = match text.strip_prefix('"') {
        Some(quoted) => quoted.split_once('"').map_or(quoted, |(inner, _)| inner),
        None => text.split(char::is_whitespace).next().unwrap_or_default(),
    };
    has_word(piece)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn line(query: &Query) -> String {
        let sign = |clause: &Clause| match clause.occurs {
            Occurs::Maybe => "",
            Occurs::Must => "+",
            Occurs::MustNot => "-",
        };
        let each = query.clauses.iter().map(|clause| {
            let quote = if clause.phrase { "\"" } else { "" };
            format!("{}{quote}{}{quote}{}", sign(clause), clause.text, if clause.prefix { "*" } else { "" })
        });
        each.collect::<Vec<_>>().join(" | ")
    }

    #[rstest]
    #[case("north channel", "north | channel")]
    #[case("+north -ice dred*", "+north | -ice | dred*")]
    #[case("\"low water\" draught", "+\"low water\" | draught")]
    #[case("-\"low water\"", "-\"low water\"")]
    #[case("at -5 degrees - or + more", "at | -5 | degrees | - | or | + | more")]
    #[case("an \"open quote", "an | \" | open | quote")]
    #[case("B-17 8.4 m §12(3)", "B-17 | 8.4 | m | §12(3)")]
    #[case("\"\" *", "*")]
    fn queries_are_taken_apart(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(line(&Query::parse(text)), expected);
    }

    #[test]
    fn an_encoder_reads_what_is_wanted() {
        let query = Query::parse("+berth \"low water\" -ice");
        assert_eq!((query.text().as_str(), query.is_strict()), ("berth low water", true));
        assert!(!Query::parse("berth 7").is_strict() && !Query::plain("+berth").is_strict());
    }

    proptest! {
        #[test]
        fn any_text_is_a_query(text in "[a-c +\"*\\-5é.]{0,30}") {
            let query = Query::parse(&text);
            prop_assert!(query.clauses.iter().all(|clause| !clause.text.is_empty()));
        }
    }
}
