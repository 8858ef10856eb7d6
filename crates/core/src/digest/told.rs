//! What single sentences tell: dates, amounts, duties, and parties.

use std::collections::BTreeMap;

use super::candidates::Candidates;
use crate::document::Span;
use crate::text::{dates, fold, is_stopword};
use crate::verify::Told;

/// Labels of a statement have so many parts at most.
const MAX_LABELS: usize = 3;
/// A body or person that is named less often is a party only if its words say so.
const MIN_NAMED: usize = 2;

/// A candidate that tells something, with what it is about.
#[derive(Clone, Debug)]
pub(super) struct Finding {
    pub candidate: usize,
    pub label: Option<String>,
    /// By what it is ordered within its field; the same for all if the order of the document holds.
    pub order: String,
    /// How much it is worth to be shown.
    pub worth: f32,
}

/// Returns the sentences and rows that name dates, each with its dates.
pub(super) fn with_dates(candidates: &Candidates<'_>) -> Vec<Finding> {
    let found = candidates.all.iter().enumerate().filter_map(|(at, one)| {
        let mut named: Vec<String> =
            dates(&one.text)
                .iter()
                .map(|date| {
                    if date.from == date.to {
                        date.from.as_str().to_owned()
                    } else {
                        date.from.as_str()[..7].to_owned()
                    }
                })
                .collect();
        named.dedup();
        let order = named.first()?.clone();
        named.truncate(MAX_LABELS);
        Some(Finding { candidate: at, label: Some(named.join(", ")), order, worth: worth(candidates, at) })
    });
    found.collect()
}

/// Returns the sentences and rows that name amounts with units, each with its amounts.
pub(super) fn with_amounts(candidates: &Candidates<'_>) -> Vec<Finding> {
    let found = candidates.all.iter().enumerate().filter_map(|(at, one)| {
        let told = Told::of(&one.text);
        let mut named: Vec<&str> = told.amounts.iter().map(|span| one.text[span.range()].trim()).collect();
        named.dedup();
        if named.is_empty() {
            return None;
        }
        named.truncate(MAX_LABELS);
        let worth = worth(candidates, at) * if told.has_money { 1.5 } else { 1.0 };
        Some(Finding { candidate: at, label: Some(named.join(", ")), order: String::new(), worth })
    });
    found.collect()
}

/// Returns the sentences that tell somebody to do or to leave something.
pub(super) fn with_duties(candidates: &Candidates<'_>) -> Vec<Finding> {
    let is_duty = |at: &usize| candidates.all[*at].words >= 4 && Told::of(&candidates.all[*at].text).has_duty;
    let told = |at| Finding { candidate: at, label: None, order: String::new(), worth: worth(candidates, at) };
    (0..candidates.all.len()).filter(is_duty).map(told).collect()
}

/// Returns the people and bodies that are named, each with the sentence that tells most of it, the most named one first.
pub(super) fn with_parties(candidates: &Candidates<'_>) -> Vec<Finding> {
    let mut named: BTreeMap<String, Named> = BTreeMap::new();
    for (at, one) in candidates.all.iter().enumerate() {
        for span in Told::of(&one.text).names {
            let name = one.text[span.range()].trim();
            let begins = one.text[..span.start].split_whitespace().count() <= 1;
            let entry = named.entry(fold(name)).or_insert_with(|| Named { name: name.to_owned(), ..Named::default() });
            entry.places.push((at, begins));
            entry.acts |= acts(&one.text, span);
        }
    }
    let parties = named.into_values().filter(|Named { name, places, acts }| {
        is_party(name) || (*acts && places.len() >= MIN_NAMED && name.contains(' ') && !is_place_or_time(name))
    });
    let told = parties.map(|Named { name, places, .. }| {
        // A sentence that begins with the name tells what it does.
        let rank = |(at, begins): &(usize, bool)| worth(candidates, *at) + if *begins { 1.0 } else { 0.0 };
        let best = places.iter().max_by(|a, b| rank(a).total_cmp(&rank(b)).then(b.0.cmp(&a.0)));
        let worth = places.len() as f32 + if is_party(&name) { 1.0 } else { 0.0 };
        Finding { candidate: best.map_or(0, |(at, _)| *at), label: Some(name), order: String::new(), worth }
    });
    let mut told: Vec<Finding> = told.collect();
    // A name that another one contains is the same party, said in short.
    let names: Vec<String> = told.iter().map(|one| fold(one.label.as_deref().unwrap_or_default())).collect();
    for (at, own) in names.iter().enumerate() {
        let contains = |other: &String| other != own && format!(" {other} ").contains(&format!(" {own} "));
        if let Some(longer) = names.iter().position(contains) {
            told[longer].worth += std::mem::take(&mut told[at].worth);
        }
    }
    told.retain(|one| one.worth > 0.0);
    told.sort_by(|a, b| b.worth.total_cmp(&a.worth).then(a.candidate.cmp(&b.candidate)));
    told
}

/// A name, and where it stands.
#[derive(Default)]
struct Named {
    name: String,
    /// The candidates, and whether each begins with it.
    places: Vec<(usize, bool)>,
    /// Whether it does something somewhere, or something is done by it.
    acts: bool,
}

/// Returns `true` if the words about a name say that it acts.
fn acts(text: &str, name: Span) -> bool {
    const AFTER: &str = "may shall must will can should agrees agreed pays paid orders ordered asks asked decides decided provides provided employs owns runs     said says wrote writes reported reports signed signs confirmed confirms told tells";
    let bare = |word: &str| fold(word.trim_matches(|c: char| !c.is_alphanumeric()));
    let before = text[..name.start].split_whitespace().next_back().map(bare);
    let after = text[name.end..].split_whitespace().next().map(bare);
    let before_article = text[..name.start].split_whitespace().rev().nth(1).map(bare);
    after.is_some_and(|word| crate::text::is_listed(AFTER, &word))
        || before.as_deref() == Some("by")
        || (before.as_deref() == Some("the") && before_article.as_deref() == Some("by"))
}

/// Returns how much a candidate is worth: how central it is, and a little for being a sentence and not a row.
fn worth(candidates: &Candidates<'_>, at: usize) -> f32 {
    let one = &candidates.all[at];
    0.2 + one.centrality + if one.text.ends_with('.') { 0.2 } else { 0.0 }
}

/// Returns `true` for a name with a word that people and bodies have in theirs.
fn is_party(name: &str) -> bool {
    const WORDS: &str = "authority authorities office officer company ltd limited inc gmbh plc llp council committee commission board master captain \
    department ministry agency association society union bank court police coastguard service services team director manager secretary chair chairman \
    president chief inspector superintendent administrator operator contractor owner mr mrs ms miss dr prof sir university school institute foundation \
    trust group club press library museum";
    let has_initial = name.chars().nth(1) == Some('.');
    has_initial || name.split_whitespace().any(|word| crate::text::is_listed(WORDS, &fold(word)))
}

/// Returns `true` for names that begin like those of places, parts of documents, and times.
fn is_place_or_time(name: &str) -> bool {
    const WORDS: &str = "january february march april may june july august september october november december monday tuesday wednesday thursday friday \
    saturday sunday article section part chapter table figure annex appendix schedule page paragraph clause street road lane north south east west berth \
    quay pier dock basin channel note example";
    let mut all = name.split_whitespace().map(fold);
    all.any(|word| crate::text::is_listed(WORDS, &word) || is_stopword(&word))
}
