//! Questions that want a whole document rather than a passage.

use crate::text::{fold, is_listed, is_stopword, stem, words};

/// Words that ask for a digest of what follows.
const SUMMARISE: &str = "summarise summarize summarising summarizing outline condense digest recap résume resume resumez résumer resumir zusammenfassen fasse";
/// Nouns that do, before `of`.
const SUMMARY: &str =
    "summary overview outline gist digest synopsis summaries zusammenfassung überblick résumé resumen";

/// Words for documents, and for how long a digest is to be. They name no document.
const ABOUT: &str = "document documents file text paper please me us whole entire full main key points content contents briefly short shortly give";

/// A question that wants to know what a whole document says.
///
/// ```
/// use logothete_core::digest::DigestWish;
///
/// let wish = DigestWish::of("Summarise the byelaws").expect("a wish");
/// assert_eq!(wish.document([("byelaws.pdf", Some("Harbour byelaws")), ("rates.csv", None)]), Some(0));
/// assert_eq!(DigestWish::of("What is the fee for a crane?"), None);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DigestWish {
    /// The stems of the words that name the document.
    named: Vec<String>,
}

impl DigestWish {
    /// Returns what a question wants a digest of; `None` if it asks for something else. Costs one pass over its words.
    pub fn of(question: &str) -> Option<Self> {
        let apart = words(question).flat_map(|word| word.text.split(|c: char| !c.is_alphanumeric()));
        let asked: Vec<String> = apart.filter(|word| !word.is_empty()).map(fold).collect();
        let named = object(&asked)?.iter().filter(|word| !is_stopword(word) && !is_listed(ABOUT, word));
        Some(Self { named: named.map(|word| stem(word)).collect() })
    }

    /// Returns which of some documents, given by their names and titles, is wanted: the one whose name and title have all words of the wish, and the fewest
    /// others. `None` means that there is none, or that two fit as well. A wish without words means the only document.
    pub fn document<'a>(&self, documents: impl IntoIterator<Item = (&'a str, Option<&'a str>)>) -> Option<usize> {
        let fits = |(at, (name, title)): (usize, (&str, Option<&str>))| {
            let text = format!("{} {}", name.replace(['-', '_', '.', '/'], " "), title.unwrap_or_default());
            let own: Vec<String> = words(&text).map(|word| stem(&fold(word.text))).collect();
            self.named.iter().all(|word| own.contains(word)).then_some((at, own.len()))
        };
        let all: Vec<(usize, usize)> = documents.into_iter().enumerate().filter_map(fits).collect();
        if self.named.is_empty() {
            return (all.len() == 1).then_some(0);
        }
        let fewest = all.iter().map(|(_, words)| *words).min()?;
        let mut best = all.iter().filter(|(_, words)| *words == fewest);
        let (first, _) = best.next()?;
        best.next().is_none().then_some(*first)
    }
}

/// Returns the words that name what is to be summarised.
fn object(asked: &[String]) -> Option<&[String]> {
    let at = |index: usize| asked.get(index).map_or("", String::as_str);
    if let Some(verb) = asked.iter().take(4).position(|word| is_listed(SUMMARISE, word)) {
        return Some(&asked[verb + 1..]);
    }
    let sums_up = asked.windows(2).take(4).position(|pair| pair[0] == "sum" && pair[1] == "up");
    if let Some(verb) = sums_up {
        return Some(&asked[verb + 2..]);
    }
    let noun =
        asked.iter().take(8).position(|word| is_listed(SUMMARY, word) || (word == "points" || word == "findings"));
    if let Some(noun) = noun.filter(|noun| is_listed("of from in von du de des del", at(noun + 1))) {
        return Some(&asked[noun + 2..]);
    }
    // “What is the handbook about?”, “What does the letter say?”
    let about = asked.last().is_some_and(|word| word == "about") && at(0) == "what" && is_listed("is are", at(1));
    let says = asked.last().is_some_and(|word| word == "say") && at(0) == "what" && is_listed("does do", at(1));
    (about || says).then(|| &asked[2..asked.len() - 1])
}
