//! More pairs, made from those that were written: what a source says nearly word for word, and what it says with a word changed.

use logothete_core::document::Span;
use logothete_core::text::{sentences, words};

use super::Pair;
use super::rewordings::{REWORDED, contrary, reworded, with_words_moved};

/// Returns more pairs, made from some. True ones: sentences of the sources as they are, parts of them, two of them joined, with a phrase moved, and in other
/// notations. Others: sentences and true claims with a number changed, two numbers exchanged, a denial added or removed, or a word turned into its contrary;
/// sentences of other subjects; and claims whose sentence was taken out of the source. They are always the same.
pub fn grown(pairs: &[Pair]) -> Vec<Pair> {
    let mut random = Random(20_261_129);
    let mut made = Vec::new();
    for pair in pairs.iter().filter(|pair| pair.is_supported()) {
        if let Some(evidence) = without_nearest(&pair.claim, &pair.evidence) {
            made.push(Pair { kind: "taken out".to_owned(), mark: '?', evidence, ..pair.clone() });
        }
        made.extend(worsened(&pair.claim, &mut random).map(|(kind, claim)| pair.with(kind, 'x', claim)));
    }
    let sources: Vec<&Pair> =
        pairs.chunk_by(|one, next| one.evidence == next.evidence).map(|group| &group[0]).collect();
    for (at, pair) in sources.iter().enumerate() {
        let spans = sentences(&pair.evidence);
        let all: Vec<&str> = spans.iter().map(|span| &pair.evidence[span.range()]).collect();
        for (at, sentence) in all.iter().enumerate() {
            let near = near(sentence, all.get(at + 1).copied());
            for (kind, claim) in &near {
                // What was reworded is worsened too, so that other words alone tell nothing.
                made.extend(worsened(claim, &mut random).take(1).map(|(kind, claim)| pair.with(kind, 'x', claim)));
                made.push(pair.with(kind, '=', claim.clone()));
            }
            made.extend(worsened(sentence, &mut random).map(|(kind, claim)| pair.with(kind, 'x', claim)));
            if let Some(evidence) = without_nearest(sentence, &pair.evidence) {
                made.push(Pair { evidence, ..pair.with("taken out", '?', (*sentence).to_owned()) });
            }
        }
        let other = &sources[(at + 1 + random.below(sources.len() - 1)) % sources.len()].evidence;
        let foreign = sentences(other).into_iter().take(2).map(|span| other[span.range()].to_owned());
        made.extend(foreign.map(|claim| pair.with("foreign", '?', claim)));
    }
    made
}

/// Returns what says the same as a sentence nearly word for word.
fn near(sentence: &str, next: Option<&str>) -> Vec<(&'static str, String)> {
    let mut found = vec![
        ("verbatim", sentence.to_owned()),
        ("verbatim", format!("According to the text, {}", with_small_initial(sentence))),
    ];
    found.extend(parts(sentence).into_iter().map(|part| ("part", part)));
    found.extend(with_words_moved(sentence).map(|claim| ("moved", claim)));
    found.extend(reworded(sentence, REWORDED).map(|claim| ("reworded", claim)));
    if let Some(next) = next {
        let first = sentence.trim_end_matches('.');
        found.push(("joined", format!("{first}, and {}", with_small_initial(next))));
    }
    found
}

/// Returns what says something else than a true claim, with few words changed.
fn worsened(claim: &str, random: &mut Random) -> impl Iterator<Item = (&'static str, String)> {
    let number = with_number(claim, random).map(|claim| ("number", claim));
    let exchanged = with_numbers_exchanged(claim).map(|claim| ("exchanged", claim));
    let opposite = contrary(claim).map(|claim| ("opposite", claim));
    let denied = denied(claim).map(|claim| ("negation", claim));
    // Which comes first differs, since some callers take one alone.
    let mut all = [number, exchanged, opposite, denied];
    all.rotate_left(random.below(4));
    all.into_iter().flatten()
}

/// Returns the parts of a sentence that are joined by a semicolon or by “and”, if each can stand alone: none may depend on a condition of the other.
fn parts(sentence: &str) -> Vec<String> {
    const LIMITS: [&str; 12] =
        ["if", "unless", "except", "only", "but", "when", "while", "although", "before", "after", "until", "where"];
    if words(sentence).any(|word| LIMITS.contains(&word.text.to_lowercase().as_str())) {
        return Vec::new();
    }
    let Some((first, second)) = sentence.split_once("; ").or_else(|| sentence.split_once(", and ")) else {
        return Vec::new();
    };
    if [first, second].iter().any(|part| words(part).count() < 4) {
        return Vec::new();
    }
    vec![format!("{}.", first.trim_end_matches('.')), with_large_initial(second)]
}
/// Returns a sentence that goes on after other words.
pub(super) fn with_small_initial(sentence: &str) -> String {
    let mut letters = sentence.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}", first.to_lowercase(), letters.as_str()))
}

pub(super) fn with_large_initial(sentence: &str) -> String {
    let mut letters = sentence.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}", first.to_uppercase(), letters.as_str()))
}

/// Returns a source without the sentence that shares most words with a claim; `None` if it has no other.
fn without_nearest(claim: &str, evidence: &str) -> Option<String> {
    let own: Vec<String> = words(claim).map(|word| word.term).collect();
    let spans = sentences(evidence);
    let shared = |span: &Span| words(&evidence[span.range()]).filter(|word| own.contains(&word.term)).count();
    let nearest = (0..spans.len()).max_by_key(|at| (shared(&spans[*at]), std::cmp::Reverse(*at)))?;
    let rest: Vec<&str> =
        spans.iter().enumerate().filter(|(at, _)| *at != nearest).map(|(_, span)| &evidence[span.range()]).collect();
    (!rest.is_empty()).then(|| rest.join(" "))
}

/// Returns a sentence in which one number in figures is another; `None` without one.
fn with_number(sentence: &str, random: &mut Random) -> Option<String> {
    let start = sentence.find(|c: char| c.is_ascii_digit())?;
    let end = start + sentence[start..].find(|c: char| !c.is_ascii_digit()).unwrap_or(sentence.len() - start);
    let value: u64 = sentence[start..end].parse().ok()?;
    let other = match random.below(3) {
        0 => value + 1 + random.below(4) as u64,
        1 => value * 2 + 1,
        _ => value.saturating_sub(1 + random.below(3) as u64).max(1),
    };
    let other = if other == value { value + 7 } else { other };
    Some(format!("{}{other}{}", &sentence[..start], &sentence[end..]))
}

/// Returns a sentence in which the first two numbers that differ have changed places; `None` without such.
fn with_numbers_exchanged(sentence: &str) -> Option<String> {
    let pieces = sentence.split(|c: char| !c.is_ascii_digit() && !".,".contains(c));
    let numbers: Vec<&str> =
        pieces.map(|piece| piece.trim_matches(['.', ','])).filter(|piece| !piece.is_empty()).collect();
    let start = |part: &str| part.as_ptr() as usize - sentence.as_ptr() as usize;
    let first = numbers.first()?;
    let second = numbers.iter().find(|number| *number != first)?;
    let (a, b) = (start(first), start(second));
    let (before, after) = (&sentence[..a], &sentence[b + second.len()..]);
    Some(format!("{before}{second}{}{first}{after}", &sentence[a + first.len()..b]))
}

/// Returns a sentence that denies what another says: a denial is taken out, or put behind the first verb that takes one.
fn denied(sentence: &str) -> Option<String> {
    for denial in [" not ", " never "] {
        if let Some(at) = sentence.find(denial) {
            return Some(format!("{} {}", &sentence[..at], &sentence[at + denial.len()..]));
        }
    }
    let verbs = [
        " is ",
        " are ",
        " was ",
        " were ",
        " must ",
        " may ",
        " can ",
        " shall ",
        " should ",
        " will ",
        " has been ",
        " have been ",
    ];
    let (at, verb) = verbs.iter().filter_map(|verb| Some((sentence.find(verb)?, verb))).min()?;
    Some(format!("{}{}not {}", &sentence[..at], verb, &sentence[at + verb.len()..]))
}

/// A generator of numbers that are always the same (splitmix64, Steele and others, 2014).
struct Random(u64);

impl Random {
    fn below(&mut self, count: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut value = self.0;
        value = (value ^ (value >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        value = (value ^ (value >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((value ^ (value >> 31)) % count.max(1) as u64) as usize
    }
}
