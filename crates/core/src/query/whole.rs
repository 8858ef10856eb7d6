//! Questions about the whole: what documents are about, and how something developed in them.

use crate::text::{Word, fold, is_listed, is_stopword, stem, words};

/// Words for a view of all of something, by their stems.
const VIEWS: &str = "overview summari summar summaris summariz theme gist synopsi";
/// Words before which `main` and the like ask for such a view.
const MAIN: &str = "main key central chief principal major most overall general broad";
/// What `main` may stand before.
const OBJECTS: &str =
    "topic subject theme point idea messag find conclus aim purpos area concern issu matter argument content";
/// Verbs of change over the whole.
const CHANGES: &str = "develop evolv chang grow progress";

/// Returns whether a question is about the whole of something, so that no passage alone answers it: what it is about, its main points, how it developed. Costs one
/// pass over its words.
///
/// ```
/// use logothete_core::query::asks_about_the_whole;
///
/// assert!(asks_about_the_whole("What is this report about?"));
/// assert!(asks_about_the_whole("How did the rules on pilotage develop?"));
/// assert!(!asks_about_the_whole("What is the fee for a crane?"));
/// ```
pub fn asks_about_the_whole(question: &str) -> bool {
    let asked: Vec<(String, String)> = words(question).map(|word| (fold(word.text), stem(&fold(word.text)))).collect();
    let is = |at: usize, word: &str| asked.get(at).is_some_and(|(folded, _)| folded == word);
    let begins = |first: &[&str]| asked.first().is_some_and(|(folded, _)| first.contains(&folded.as_str()));
    let has_view = asked.iter().any(|(_, stem)| is_listed(VIEWS, stem));
    let main = asked.windows(2).any(|two| is_listed(MAIN, &two[0].0) && is_listed(OBJECTS, &two[1].1));
    let about = begins(&["what", "whats"]) && asked.last().is_some_and(|(folded, _)| folded == "about");
    let is_treated = |stem: &str| matches!(stem, "cover" | "treat" | "address" | "deal" | "discuss");
    let covers = (begins(&["what", "which"])
        && asked.iter().any(|(_, stem)| matches!(stem.as_str(), "topic" | "subject"))
        && asked.iter().any(|(_, stem)| is_treated(stem)))
        || (is(0, "what") && (is(1, "does") || is(1, "do")) && asked.last().is_some_and(|(_, stem)| is_treated(stem)));
    let developed = is(0, "how")
        && asked.get(1).is_some_and(|(folded, _)| matches!(folded.as_str(), "did" | "has" | "have"))
        && asked.iter().skip(2).any(|(_, stem)| is_listed(CHANGES, stem));
    let general = asked.windows(3).any(|three| {
        let three = [three[0].0.as_str(), three[1].0.as_str(), three[2].0.as_str()];
        matches!(three, ["as", "a", "whole"] | ["in", "broad", "terms"] | ["on", "the", "whole"])
    });
    has_view || main || about || covers || developed || general
}

/// Words that ask for a view of something and do not name it, by their stems, besides those for views.
const ASKING: &str = "give tell show describ write list provid say said main key central chief principal major most overal general broad whole point topic idea \
chapter document report text book handbook manual guid paper corpus file collect about cover treat address deal discuss outlin condens digest";

/// Returns what a question about the whole asks about: the question without the words that ask for a view of it. `None` means that it names nothing, and asks about
/// everything.
///
/// ```
/// use logothete_core::query::subject_of_the_whole;
///
/// assert_eq!(subject_of_the_whole("Give me an overview of the rules for pilots."), Some("rules for pilots"));
/// assert_eq!(subject_of_the_whole("What is this report about?"), None);
/// ```
pub fn subject_of_the_whole(question: &str) -> Option<&str> {
    let names = |word: &Word<'_>| {
        let (folded, stem) = (fold(word.text), stem(&fold(word.text)));
        let asks = is_listed(VIEWS, &stem) || is_listed(ASKING, &stem) || is_listed(CHANGES, &stem);
        !(is_stopword(&folded) || asks)
    };
    let named: Vec<Word<'_>> = words(question).filter(names).collect();
    let (first, last) = (named.first()?, named.last()?);
    question.get(first.span.start..last.span.end)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::{asks_about_the_whole, subject_of_the_whole};

    #[rstest]
    #[case("Summarise what is said about waste and oil.", Some("waste and oil"))]
    #[case("What are the main points about berths?", Some("berths"))]
    #[case("How did the rules on pilotage develop?", Some("rules on pilotage"))]
    #[case("Which topics does the handbook cover as a whole?", None)]
    #[case("", None)]
    fn the_subject_is_what_is_named(#[case] question: &str, #[case] subject: Option<&str>) {
        assert_eq!(subject_of_the_whole(question), subject);
    }

    #[rstest]
    #[case("What is this handbook about?")]
    #[case("Give me an overview of the safety rules")]
    #[case("Summarise what is said of moorings.")]
    #[case("What are the main topics of the manual?")]
    #[case("How has the treatment of waste changed?")]
    #[case("Which subjects does the guide cover?")]
    #[case("What does the harbour do as a whole?")]
    fn wholes_are_told(#[case] question: &str) {
        assert!(asks_about_the_whole(question));
    }

    #[rstest]
    #[case("How long is Berth 9?")]
    #[case("How do I change the oil?")]
    #[case("Which cover is used in rain?")]
    #[case("What is the main berth?")]
    #[case("Who do I call about a lost parcel?")]
    #[case("")]
    fn parts_are_told_from_them(#[case] question: &str) {
        assert!(!asks_about_the_whole(question));
    }
}
