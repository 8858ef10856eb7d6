//! Follow-up questions: made to stand alone by rule, without a model.
//!
//! The rules are for English. Questions in other languages are taken as they are, unless they are very short.

use crate::prompt::PastTurn;
use crate::text::words;

/// Words that begin a follow-up and say nothing.
const LEAD_INS: [&str; 14] = [
    "and what about",
    "and how about",
    "but what about",
    "what about",
    "how about",
    "and then",
    "and also",
    "and",
    "but",
    "so",
    "or",
    "also",
    "then",
    "ok",
];
/// Words that stand for something that was named before.
const PRONOUNS: [&str; 19] = [
    "it", "its", "they", "them", "their", "theirs", "he", "him", "his", "she", "her", "hers", "this", "that", "these",
    "those", "there", "one", "ones",
];
/// Pronouns that also stand before a noun. There they point back only if nothing else names it.
const BEFORE_NOUNS: [&str; 4] = ["this", "that", "these", "those"];
/// Words that compare with something that was named before.
const COMPARING: [&str; 13] = [
    "other",
    "others",
    "same",
    "another",
    "instead",
    "otherwise",
    "latter",
    "former",
    "else",
    "rest",
    "remainder",
    "meanwhile",
    "afterwards",
];
/// Words that name nothing.
const FUNCTION: [&str; 102] = [
    "a", "an", "the", "of", "for", "in", "on", "at", "to", "from", "by", "with", "without", "under", "over", "into",
    "through", "during", "before", "after", "between", "about", "above", "below", "within", "per", "until", "since",
    "is", "are", "was", "were", "be", "been", "am", "do", "does", "did", "done", "has", "have", "had", "may", "must",
    "can", "could", "should", "shall", "will", "would", "might", "need", "needs", "what", "which", "who", "whom",
    "whose", "when", "where", "why", "how", "much", "many", "long", "often", "far", "and", "or", "but", "not", "no",
    "if", "then", "than", "as", "so", "i", "we", "you", "my", "our", "your", "me", "us", "there", "any", "some", "all",
    "every", "each", "now", "still", "also", "too", "only", "just", "please", "tell", "know", "get", "let",
];
/// Words that a phrase about a place, a time or a purpose begins with.
const PREPOSITIONS: [&str; 22] = [
    "of", "for", "in", "on", "at", "to", "from", "by", "with", "without", "under", "over", "into", "through", "during",
    "before", "after", "between", "above", "below", "within", "until",
];
const ARTICLES: [&str; 3] = ["a", "an", "the"];

/// A word of a question.
#[derive(Clone, Debug, PartialEq)]
struct Word<'a> {
    text: &'a str,
    lower: String,
    start: usize,
    end: usize,
}

impl Word<'_> {
    fn is(&self, list: &[&str]) -> bool {
        list.contains(&self.lower.as_str())
    }

    fn names(&self) -> bool {
        !self.is(&FUNCTION) && !self.is(&PRONOUNS) && !self.is(&COMPARING)
    }

    fn is_proper(&self) -> bool {
        self.text.starts_with(|c: char| c.is_uppercase() || c.is_ascii_digit())
    }
}

fn list_words(text: &str) -> Vec<Word<'_>> {
    let base = text.as_ptr() as usize;
    words(text)
        .map(|word| {
            let start = word.text.as_ptr() as usize - base;
            Word { text: word.text, lower: word.text.to_lowercase(), start, end: start + word.text.len() }
        })
        .collect()
}

/// A phrase that names something, in the words of its question: with the preposition before it, if there is one.
#[derive(Clone, Debug, PartialEq)]
struct Phrase {
    /// The positions of its words.
    words: std::ops::Range<usize>,
    /// The position of its preposition.
    preposition: Option<usize>,
}

/// Returns the phrases of a question that name something: the words between words that name nothing.
fn phrases(words: &[Word<'_>]) -> Vec<Phrase> {
    let mut found = Vec::new();
    let mut at = 0;
    while at < words.len() {
        if !words[at].names() {
            at += 1;
            continue;
        }
        let end = (at..words.len()).find(|&next| !words[next].names()).unwrap_or(words.len());
        let start = if at > 0 && words[at - 1].is(&ARTICLES) { at - 1 } else { at };
        let preposition = start.checked_sub(1).filter(|&before| words[before].is(&PREPOSITIONS));
        found.push(Phrase { words: start..end, preposition });
        at = end;
    }
    found
}

/// Returns a follow-up as a question that stands alone; `None` if it does so already, or nothing was asked before.
///
/// `turns` are those before it, the last one last. A follow-up that is only a phrase (“and in winter?”) takes the place of the phrase
/// like it in the last question. Otherwise, a follow-up with words that point back is followed by
/// the last question in brackets.
///
/// Costs one pass over both questions.
pub fn standing_alone(question: &str, turns: &[PastTurn]) -> Option<String> {
    let last = turns.last()?.question.trim();
    let asked = question.trim();
    let lower = asked.to_lowercase();
    let lead = LEAD_INS.iter().find(|lead| {
        lower.strip_prefix(**lead).is_some_and(|rest| rest.starts_with([' ', ',']) && rest.trim().len() > 1)
    });
    let rest = lead.map_or(asked, |lead| asked[lead.len()..].trim_start_matches([' ', ',']));
    let own = list_words(rest);
    let named: Vec<&Word<'_>> = own.iter().filter(|word| word.names()).collect();
    let is_fragment = !own.iter().any(|word| is_verb_like(word)) && own.len() <= 8;
    if is_fragment && !named.is_empty() && (lead.is_some() || named.len() <= 2) && !points_back(&own) {
        return Some(with_phrase(last, rest, &own));
    }
    let points = points_back(&own);
    let is_short = named.len() < if lead.is_some() { 3 } else { 2 };
    if !points && !is_short {
        return None;
    }
    let rest = rest.trim_end_matches(['?', '.', '!', ' ']);
    let mut first = rest.chars();
    let capital = first.next().map(|c| c.to_uppercase().collect::<String>() + first.as_str()).unwrap_or_default();
    Some(format!("{capital}? ({})", recent(last)))
}

/// Returns `true` for a question that asks only where the answer before comes from.
pub fn asks_for_source(question: &str) -> bool {
    const ASKING: [&str; 14] = [
        "come from",
        "comes from",
        "source",
        "sources",
        "which document",
        "which page",
        "what document",
        "what page",
        "how do you know",
        "who says",
        "says who",
        "where does it say",
        "where is that written",
        "where did you",
    ];
    /// Words that such a question may have besides.
    const BESIDES: [&str; 22] = [
        "come",
        "comes",
        "source",
        "sources",
        "document",
        "documents",
        "page",
        "says",
        "say",
        "said",
        "written",
        "find",
        "found",
        "answer",
        "information",
        "read",
        "stand",
        "stands",
        "show",
        "give",
        "what's",
        "where's",
    ];
    let lower = question.to_lowercase();
    let asks = ASKING.iter().any(|asking| lower.contains(asking));
    asks && list_words(&lower).iter().all(|word| !word.names() || word.is(&BESIDES))
}

/// Returns `true` for words that a sentence has and a mere phrase has not.
fn is_verb_like(word: &Word<'_>) -> bool {
    const VERBS: [&str; 39] = [
        "is", "are", "was", "were", "do", "does", "did", "has", "have", "had", "may", "must", "can", "could", "should",
        "shall", "will", "would", "might", "need", "needs", "who", "what", "which", "when", "where", "why", "how",
        "tell", "show", "give", "list", "explain", "cost", "costs", "take", "takes", "happens", "apply",
    ];
    word.is(&VERBS)
}

/// Returns `true` if a word points to something that was named before.
fn points_back(words: &[Word<'_>]) -> bool {
    words.iter().enumerate().any(|(at, word)| {
        let before_noun = words.get(at + 1).is_some_and(|next| next.names() && !is_verb_like(next));
        // “There” at the beginning of “is there” says nothing, and “that” may join two clauses.
        let expletive =
            word.lower == "there" && at > 0 && ["is", "are", "was", "were"].contains(&words[at - 1].lower.as_str());
        // At the end of a question “then” is a time that was named before.
        let time = word.lower == "then" && at > 1 && at + 1 == words.len();
        match () {
            () if time => true,
            () if expletive => false,
            () if word.is(&BEFORE_NOUNS) && before_noun => word.lower != "that" || at < 2,
            () => word.is(&PRONOUNS) || word.is(&COMPARING),
        }
    })
}

/// Returns a question without its brackets, and at most the one before it.
fn recent(question: &str) -> String {
    let flat = question.replace(['(', ')'], "");
    let ends: Vec<usize> = flat.match_indices('?').map(|(at, _)| at + 1).collect();
    let end = ends.get(1).copied().unwrap_or(flat.len());
    flat[..end].trim().to_owned()
}

/// Returns the last question with a phrase in the place of the one that is most like it; at the end, if none is.
fn with_phrase(last: &str, fragment: &str, own: &[Word<'_>]) -> String {
    let words = list_words(last);
    let own_preposition = own.first().filter(|word| word.is(&PREPOSITIONS)).map(|word| word.lower.clone());
    let fragment = fragment.trim_end_matches(['?', '.', '!', ' ']);
    let body = own_preposition.as_ref().map_or(fragment, |preposition| fragment[preposition.len()..].trim_start());
    let is_proper = own.iter().filter(|word| word.names()).all(Word::is_proper);
    let last_own = own.iter().rev().find(|word| word.names()).map(|word| word.lower.clone()).unwrap_or_default();
    let first_own = own.iter().find(|word| word.names()).map(|word| word.lower.clone()).unwrap_or_default();
    let likeness = |phrase: &Phrase| {
        let inside = &words[phrase.words.clone()];
        let preposition = phrase.preposition.map(|at| words[at].lower.as_str());
        let same_word = inside.iter().any(|word| word.lower == last_own || word.lower == first_own);
        let names: Vec<&Word<'_>> = inside.iter().filter(|word| word.names()).collect();
        let proper = names.iter().any(|word| word.is_proper()) && phrase.words.start > 0;
        match () {
            () if same_word => 3,
            () if own_preposition.is_some() && own_preposition.as_deref() == preposition => 2,
            () if is_proper && proper => 2,
            () if own_preposition.is_none() && !is_proper && !proper && preposition.is_some() => 1,
            () => 0,
        }
    };
    let best = phrases(&words).into_iter().map(|phrase| (likeness(&phrase), phrase)).filter(|(like, _)| *like > 1);
    match best.max_by_key(|(like, phrase)| (*like, phrase.words.start)) {
        Some((_, phrase)) => {
            let whole = phrase.words.start;
            let phrase = if is_proper { proper_part(&words, phrase) } else { up_to(&words, &phrase, &last_own) };
            let (start, end) = (words[phrase.words.start].start, words[phrase.words.end - 1].end);
            // The article of the phrase stays, so that of the fragment goes.
            let article = ARTICLES.iter().find_map(|article| body.strip_prefix(article)?.strip_prefix(' '));
            let body = article.filter(|_| phrase.words.start > whole).unwrap_or(body);
            format!("{}{body}{}", &last[..start], &last[end..])
        }
        None => format!("{}, {fragment}?", last.trim_end_matches(['?', '.', '!', ' '])),
    }
}

/// Returns a phrase up to a word, if it has it: a verb may follow it.
fn up_to(words: &[Word<'_>], phrase: &Phrase, last: &str) -> Phrase {
    let at = phrase.words.clone().find(|at| words[*at].lower == last);
    let end = at.map_or(phrase.words.end, |at| at + 1);
    Phrase { words: phrase.words.start..end, preposition: phrase.preposition }
}

/// Returns the part of a phrase that is a name, if there is one: a verb may follow it.
fn proper_part(words: &[Word<'_>], phrase: Phrase) -> Phrase {
    let name = |at: &usize| words[*at].is_proper();
    let Some(start) = phrase.words.clone().find(name) else { return phrase };
    let end = (start..phrase.words.end).find(|at| !name(at)).unwrap_or(phrase.words.end);
    Phrase { words: start..end, preposition: phrase.preposition }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("What is the fee for a small yacht?", "And for a barge?", Some("What is the fee for a barge?"))]
    #[case("How much does Lamp 1 weigh?", "And Lamp 2?", Some("How much does Lamp 2 weigh?"))]
    #[case("What can the boat Old Gull carry?", "And the Red Hen?", Some("What can the boat Red Hen carry?"))]
    #[case("How deep is Quay 3?", "What about Quay 5?", Some("How deep is Quay 5?"))]
    #[case("Who keeps the toll house?", "When does it open?", Some("When does it open? (Who keeps the toll house?)"))]
    #[case("When does the toll house open?", "And in winter?", Some("When does the toll house open, in winter?"))]
    #[case(
        "What does a small room cost?",
        "What does the larger one cost?",
        Some("What does the larger one cost? (What does a small room cost?)")
    )]
    #[case("When does the toll house open?", "Which ropes must a rower carry on board?", None)]
    #[case(
        "When does it open? (Who keeps the toll house?)",
        "Is it warm?",
        Some("Is it warm? (When does it open? Who keeps the toll house?)")
    )]
    #[case("When does the toll house open?", "Why?", Some("Why? (When does the toll house open?)"))]
    fn follow_ups(#[case] last: &str, #[case] question: &str, #[case] expected: Option<&str>) {
        assert_eq!(standing_alone(question, &[PastTurn::new(last, "")]).as_deref(), expected);
    }

    #[rstest]
    #[case("Where does that come from?", true)]
    #[case("Which document says that?", true)]
    #[case("How do you know?", true)]
    #[case("Where does the drinking water come from?", false)]
    #[case("What is the depth?", false)]
    fn questions_for_the_source(#[case] question: &str, #[case] expected: bool) {
        assert_eq!(asks_for_source(question), expected);
    }

    #[test]
    fn the_first_question_stands_alone() {
        assert_eq!(standing_alone("And it?", &[]), None);
    }
}
