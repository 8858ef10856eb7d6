//! Searches: turns the words of a query into terms of the index, in the languages of the corpus, and scores rows.

use std::collections::{HashMap, HashSet};

use super::block_max::{self, Scored};
use super::bm25::{Scorer, rarity};
use super::dictionary::Entry;
use super::index::{KeywordIndex, LiveKeywords};
use super::postings::{Cursor, END};
use super::query::{Clause, Occurs, Query};
use super::terms::{Languages, term};
use crate::segment::Hit;
use crate::segment::RowSet;
use crate::text::{Language, Token, TokenKind, fold, is_stopword, tokens, words};

/// The highest number of terms for a prefix; the most frequent are taken.
const MAX_BEGINNING: usize = 64;
/// The highest number of terms for a misspelt word.
const MAX_NEAR: usize = 8;
/// Words with fewer letters are not searched with a slip.
const MIN_MISSPELT: usize = 4;
/// The weight of a term that is one slip away.
const NEAR_WEIGHT: f32 = 0.7;
/// Up to this number of candidate rows, each is scored by itself.
const FEW_ROWS: usize = 2_000;

/// A token of a query: its terms and their weights.
#[derive(Clone, Debug, Default)]
pub(super) struct WeightedTerms {
    pub terms: Vec<(String, f32)>,
    /// The inverse document frequency of all terms together.
    pub weight: f32,
}

/// Words that must follow one another. Each has its distance from the first, and its terms.
type Phrase = Vec<(u32, Vec<String>)>;

/// A part of a query that rules rows out.
#[derive(Clone, Debug)]
enum Rule {
    /// One of these terms.
    Any(Vec<String>),
    /// These words in this order.
    Phrase(Phrase),
}

/// A query prepared for a corpus.
#[derive(Clone, Debug, Default)]
pub struct PreparedQuery {
    wanted: Vec<WeightedTerms>,
    must: Vec<Rule>,
    must_not: Vec<Rule>,
    /// The mean length of all live rows.
    mean: f32,
    /// The words that no row has.
    missing: Vec<String>,
    /// The terms one slip away, by the word as written.
    misspelt: Vec<(String, Vec<String>)>,
}

impl PreparedQuery {
    /// Prepares a query: finds its terms in the segments of a corpus, and how rare they are in all of it.
    ///
    /// Function words are left out, unless the query has no others. In a query with signs, a word that no row has is searched
    /// with a slip.
    pub fn new<B: AsRef<[u8]>>(query: &Query, segments: &[LiveKeywords<'_, B>]) -> Self {
        let (rows, length) = totals(segments);
        let languages = segments.iter().fold(Languages::default(), |all, part| all.and(part.index.languages()));
        let languages: Vec<Option<Language>> = languages.iter().collect();
        let mut prepared = Self { mean: (length as f32 / rows.max(1) as f32).max(1.0), ..Self::default() };
        let grammar = Grammar::of(query, &languages);
        let dictionary = Lookup { segments, rows };
        for clause in &query.clauses {
            prepared.add(clause, query.tolerant, &languages, &grammar, &dictionary);
        }
        prepared
    }

    fn add<B: AsRef<[u8]>>(
        &mut self,
        clause: &Clause,
        tolerant: bool,
        languages: &[Option<Language>],
        grammar: &Grammar,
        dictionary: &Lookup<'_, '_, B>,
    ) {
        let mut all = Vec::new();
        let last = tokens(&clause.text, |token| all.push(token)).saturating_sub(1);
        let mut words: Vec<(u32, TokenKind, Vec<String>, &str)> = Vec::new();
        for (at, token) in all.iter().enumerate() {
            if clause.occurs == Occurs::Maybe && grammar.skips(token) {
                continue;
            }
            let prefix = clause.prefix && token.position == last && token.kind != TokenKind::Written;
            // The pair before already contains the last sign of a run. A sign that stands alone begins any pair.
            let ends_run = token.kind == TokenKind::Signs && !all.get(at + 1).is_some_and(|next| overlap(token, next));
            if ends_run && at > 0 && overlap(&all[at - 1], token) {
                continue;
            }
            let terms = match token.kind {
                _ if prefix => dictionary.beginning(&fold(token.text)),
                TokenKind::Signs if ends_run => dictionary.beginning(&term(token, None)),
                _ => stems(token, languages),
            };
            words.push((token.position, token.kind, terms, token.text));
        }
        let rule = || {
            let written: Vec<_> = words.iter().filter(|word| word.1 == TokenKind::Written).collect();
            let plain: Vec<_> = words.iter().filter(|word| word.1 != TokenKind::Written).collect();
            match (written.as_slice(), plain.as_slice()) {
                // An identifier is required as written.
                ([first, ..], _) if !clause.phrase => Rule::Any(first.2.clone()),
                (_, [one]) => Rule::Any(one.2.clone()),
                _ => Rule::Phrase(plain.into_iter().map(|word| (word.0, word.2.clone())).collect()),
            }
        };
        match clause.occurs {
            Occurs::MustNot if !words.is_empty() => self.must_not.push(rule()),
            Occurs::Must if !words.is_empty() => self.must.push(rule()),
            _ => {}
        }
        if clause.occurs == Occurs::MustNot {
            return;
        }
        for (_, kind, terms, text) in words {
            let mut wanted = dictionary.wanted(terms.into_iter().map(|term| (term, 1.0)).collect());
            if wanted.terms.is_empty() && kind == TokenKind::Word && clause.occurs == Occurs::Maybe {
                self.missing.push(text.to_owned());
                if tolerant {
                    wanted = self.near(text, languages, dictionary);
                }
            }
            let known = self.wanted.iter().any(|other| other.terms == wanted.terms);
            if !wanted.terms.is_empty() && !known {
                self.wanted.push(wanted);
            }
        }
    }

    /// Returns the terms one slip from a word that no row has. The first letter must agree, since it is seldom wrong.
    fn near<B: AsRef<[u8]>>(
        &mut self,
        text: &str,
        languages: &[Option<Language>],
        dictionary: &Lookup<'_, '_, B>,
    ) -> WeightedTerms {
        let folded = fold(text);
        let letters = folded.chars().all(char::is_alphabetic) && folded.chars().count() >= MIN_MISSPELT;
        let mut written = vec![folded.clone()];
        written.extend(stems(&Token { text, position: 0, kind: TokenKind::Word }, languages));
        let begins = |term: &str| {
            let (mut own, mut other) = (folded.chars(), term.chars());
            let (a, b) = ((own.next(), own.next()), (other.next(), other.next()));
            a.0 == b.0 || (a.0 == b.1 && a.1 == b.0)
        };
        let mut near = if letters { dictionary.near(&written) } else { Vec::new() };
        near.retain(|term| begins(term));
        if !near.is_empty() {
            self.misspelt.push((text.to_owned(), near.clone()));
        }
        let mut wanted = dictionary.wanted(near.into_iter().map(|term| (term, NEAR_WEIGHT)).collect());
        wanted.weight *= NEAR_WEIGHT;
        wanted
    }

    /// Returns the words that are scored.
    pub(super) fn words(&self) -> &[WeightedTerms] {
        &self.wanted
    }

    /// Returns the mean length of all live rows.
    pub fn mean_length(&self) -> f32 {
        self.mean
    }

    /// Returns the scored terms.
    pub fn terms(&self) -> impl Iterator<Item = &str> {
        self.wanted.iter().flat_map(|wanted| wanted.terms.iter().map(|(term, _)| term.as_str()))
    }

    /// Returns the words that no row has, as written.
    pub fn missing(&self) -> &[String] {
        &self.missing
    }

    /// Returns the words that may be misspelt, with the terms that were used for them.
    pub fn misspelt(&self) -> &[(String, Vec<String>)] {
        &self.misspelt
    }

    /// Returns `true` if the query may rule rows out.
    pub fn is_strict(&self) -> bool {
        !self.must.is_empty() || !self.must_not.is_empty()
    }

    /// Returns the live rows of a segment that have all required terms and no excluded ones; `None` if no row is ruled out.
    ///
    /// Reads the postings of the rarest required term, or of all excluded terms.
    pub fn allowed<B: AsRef<[u8]>>(&self, part: LiveKeywords<'_, B>) -> Option<RowSet> {
        if !self.is_strict() {
            return None;
        }
        let mut allowed = match self.required(part.index) {
            Some(rows) => {
                let mut set = RowSet::new(part.index.rows());
                rows.into_iter().filter(|&row| part.live.contains(row)).for_each(|row| set.insert(row));
                set
            }
            None => part.live.clone(),
        };
        for rule in &self.must_not {
            rule.rows(part.index).into_iter().for_each(|row| allowed.remove(row));
        }
        Some(allowed)
    }

    /// Returns the rows that have all required terms, in ascending order; `None` if no term is required.
    fn required<B: AsRef<[u8]>>(&self, index: &KeywordIndex<B>) -> Option<Vec<u32>> {
        let mut lists: Vec<Union<'_>> = Vec::new();
        for rule in &self.must {
            lists.push(match rule {
                Rule::Any(terms) => Union::new(index, terms),
                Rule::Phrase(_) => Union::of_rows(rule.rows(index)),
            });
        }
        (!lists.is_empty()).then(|| common(&mut lists))
    }

    /// Returns the `count` best live rows of a segment, best first; ties by row. `among` limits them to a set.
    pub fn search<B: AsRef<[u8]>>(&self, part: LiveKeywords<'_, B>, among: Option<&RowSet>, count: usize) -> Vec<Hit> {
        let LiveKeywords { index, live, .. } = part;
        let mut lists: Vec<Scored<'_>> = Vec::new();
        for wanted in &self.wanted {
            for (term, factor) in &wanted.terms {
                if let Some(entry) = index.dictionary().find(term) {
                    lists.push(Scored::new(index.cursor(&entry), Scorer::new(wanted.weight * factor, self.mean)));
                }
            }
        }
        let length = |row: u32| index.length(row);
        let given = |row: u32| live.contains(row) && among.is_none_or(|set| set.contains(row));
        if self.must_not.is_empty()
            && let Some(rows) = self.required(index)
            && rows.len() <= FEW_ROWS
        {
            let mut best = crate::segment::TopK::new(count);
            for row in rows.into_iter().filter(|&row| given(row)) {
                best.offer(Hit { score: block_max::score_of(&mut lists, row, length(row)), row });
            }
            return best.into_sorted();
        }
        match self.allowed(part) {
            Some(allowed) => block_max::top_k(&mut lists, length, |row| allowed.contains(row) && given(row), count),
            None if among.is_none() && u64::from(index.rows()) == part.counts.rows => {
                block_max::top_k(&mut lists, length, |_| true, count)
            }
            None => block_max::top_k(&mut lists, length, given, count),
        }
    }
}

/// Returns the number of live rows, and the sum of their lengths.
fn totals<B: AsRef<[u8]>>(segments: &[LiveKeywords<'_, B>]) -> (u64, u64) {
    segments.iter().fold((0, 0), |sum, part| (sum.0 + part.counts.rows, sum.1 + part.counts.total_length))
}

/// Returns the terms of a token in all languages of a corpus.
fn stems(token: &Token<'_>, languages: &[Option<Language>]) -> Vec<String> {
    let mut terms: Vec<String> = languages.iter().map(|&language| term(token, language)).collect();
    terms.sort_unstable();
    terms.dedup();
    terms
}

/// Returns `true` if two tokens are neighbours in one run of signs, and so share a sign.
fn overlap(first: &Token<'_>, second: &Token<'_>) -> bool {
    let begin = second.text.as_ptr() as usize;
    let inside = begin < first.text.as_ptr() as usize + first.text.len();
    first.kind == TokenKind::Signs && second.kind == TokenKind::Signs && inside
}

/// Returns the rows that all lists have.
fn common(lists: &mut [Union<'_>]) -> Vec<u32> {
    lists.sort_by_key(Union::count);
    let Some((first, others)) = lists.split_first_mut() else { return Vec::new() };
    let mut rows = Vec::new();
    let mut row = first.row();
    'rows: while row != END {
        for other in others.iter_mut() {
            other.advance(row);
            if other.row() != row {
                first.advance(other.row());
                row = first.row();
                continue 'rows;
            }
        }
        rows.push(row);
        first.advance(row + 1);
        row = first.row();
    }
    rows
}

/// The union of several lists.
struct Union<'a> {
    cursors: Vec<Cursor<'a>>,
    /// Rows that were read before, and the number of those that were passed.
    known: Option<(Vec<u32>, usize)>,
}

impl<'a> Union<'a> {
    fn new<B: AsRef<[u8]>>(index: &'a KeywordIndex<B>, terms: &[String]) -> Self {
        let entries = terms.iter().filter_map(|term| index.dictionary().find(term));
        Self { cursors: entries.map(|entry| index.cursor(&entry)).collect(), known: None }
    }

    fn of_rows(rows: Vec<u32>) -> Self {
        Self { cursors: Vec::new(), known: Some((rows, 0)) }
    }

    fn count(&self) -> usize {
        let known = self.known.as_ref().map_or(0, |(rows, _)| rows.len());
        known + self.cursors.iter().map(|cursor| cursor.count() as usize).sum::<usize>()
    }

    fn row(&self) -> u32 {
        let known = self.known.as_ref().and_then(|(rows, at)| rows.get(*at)).copied().unwrap_or(END);
        self.cursors.iter().map(Cursor::row).fold(known, u32::min)
    }

    fn advance(&mut self, row: u32) {
        if let Some((rows, at)) = &mut self.known {
            *at += rows[(*at).min(rows.len())..].partition_point(|&other| other < row);
        }
        self.cursors.iter_mut().for_each(|cursor| cursor.advance(row));
    }

    /// Collects the positions of its terms in the current row.
    fn positions(&mut self, to: &mut Vec<u32>) {
        let (row, mut some) = (self.row(), Vec::new());
        to.clear();
        for cursor in self.cursors.iter_mut().filter(|cursor| cursor.row() == row) {
            cursor.positions(&mut some);
            to.extend_from_slice(&some);
        }
        to.sort_unstable();
    }
}

impl Rule {
    /// Returns the matching rows in ascending order.
    fn rows<B: AsRef<[u8]>>(&self, index: &KeywordIndex<B>) -> Vec<u32> {
        let (mut rows, mut row) = (Vec::new(), 0);
        match self {
            Self::Any(terms) => {
                let mut list = Union::new(index, terms);
                while list.row() != END {
                    rows.push(list.row());
                    list.advance(list.row() + 1);
                }
            }
            Self::Phrase(phrase) => {
                let mut lists: Vec<Union<'_>> = phrase.iter().map(|(_, terms)| Union::new(index, terms)).collect();
                let (mut starts, mut places) = (Vec::new(), Vec::new());
                'rows: loop {
                    for list in &mut lists {
                        list.advance(row);
                        match list.row() {
                            END => break 'rows,
                            here if here > row => {
                                row = here;
                                continue 'rows;
                            }
                            _ => {}
                        }
                    }
                    for (at, (list, (distance, _))) in lists.iter_mut().zip(phrase).enumerate() {
                        list.positions(&mut places);
                        let begins = places.iter().filter_map(|place| place.checked_sub(*distance));
                        if at == 0 {
                            starts = begins.collect();
                        } else {
                            let begins: Vec<u32> = begins.collect();
                            starts.retain(|start| begins.binary_search(start).is_ok());
                        }
                    }
                    if !starts.is_empty() {
                        rows.push(row);
                    }
                    row += 1;
                }
            }
        }
        rows
    }
}

/// Looks terms up in all segments.
struct Lookup<'s, 'a, B> {
    segments: &'s [LiveKeywords<'a, B>],
    rows: u64,
}

impl<B: AsRef<[u8]>> Lookup<'_, '_, B> {
    /// Returns the number of live rows that have a term.
    fn frequency(&self, term: &str) -> u64 {
        let entries = self.segments.iter().filter_map(|part| Some((part, part.index.dictionary().find(term)?)));
        entries.map(|(part, entry)| u64::from(part.frequency(&entry))).sum()
    }

    /// Returns the terms that any row has, weighted together by how rare they are.
    fn wanted(&self, terms: Vec<(String, f32)>) -> WeightedTerms {
        let counted: Vec<_> = terms.into_iter().map(|term| (self.frequency(&term.0), term)).collect();
        let all = counted.iter().map(|(count, _)| count).sum::<u64>().min(self.rows);
        let terms = counted.into_iter().filter(|(count, _)| *count > 0).map(|(_, term)| term).collect();
        WeightedTerms { terms, weight: rarity(self.rows, all) }
    }

    fn beginning(&self, with: &str) -> Vec<String> {
        self.most_frequent(|index| index.dictionary().beginning(with), MAX_BEGINNING)
    }

    fn near(&self, words: &[String]) -> Vec<String> {
        let find = |index: &KeywordIndex<B>| words.iter().flat_map(|word| index.dictionary().near(word)).collect();
        self.most_frequent(find, MAX_NEAR)
    }

    /// Returns the terms of the most rows, in alphabetical order.
    fn most_frequent(&self, find: impl Fn(&KeywordIndex<B>) -> Vec<Entry>, most: usize) -> Vec<String> {
        let mut counts: HashMap<Vec<u8>, u64> = HashMap::new();
        for part in self.segments {
            let mut entries = find(part.index);
            entries.sort_unstable_by(|a, b| a.term.cmp(&b.term));
            entries.dedup_by(|a, b| a.term == b.term);
            for entry in entries {
                let count = u64::from(part.frequency(&entry));
                *counts.entry(entry.term).or_default() += count;
            }
        }
        let mut found: Vec<(u64, String)> = counts
            .into_iter()
            .filter_map(|(term, count)| Some((count, String::from_utf8(term).ok()?)))
            .filter(|(count, _)| *count > 0)
            .collect();
        found.sort_unstable_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
        found.truncate(most);
        let mut terms: Vec<String> = found.into_iter().map(|(_, term)| term).collect();
        terms.sort_unstable();
        terms
    }
}

/// Recognises function words in a query. Its language is the corpus language that most of its function words belong to.
struct Grammar {
    languages: Vec<Language>,
    /// Whether the query has function words only.
    alone: bool,
}

impl Grammar {
    fn of(query: &Query, languages: &[Option<Language>]) -> Self {
        let texts = || query.clauses.iter().filter(|clause| !clause.phrase).map(|clause| clause.text.as_str());
        let all: Vec<String> = texts().flat_map(words).map(|word| fold(word.text)).collect();
        let known: Vec<Language> = languages.iter().flatten().copied().collect();
        let count = |language: &Language| all.iter().filter(|word| language.is_stopword(word)).count();
        let most = known.iter().map(count).max().unwrap_or(0);
        let languages = known.into_iter().filter(|language| most > 0 && count(language) == most).collect();
        let mut grammar = Self { languages, alone: false };
        grammar.alone = all.iter().all(|word| grammar.is_stopword(word));
        grammar
    }

    fn is_stopword(&self, folded: &str) -> bool {
        !self.languages.is_empty() && self.languages.iter().all(|language| language.is_stopword(folded))
    }

    fn skips(&self, token: &Token<'_>) -> bool {
        token.kind == TokenKind::Word && !self.alone && self.is_stopword(&fold(token.text))
    }
}

/// The inverse document frequencies of terms in a corpus.
#[derive(Clone, Debug, Default)]
pub struct Statistics {
    rows: u64,
    frequency: HashMap<String, u64>,
}

impl Statistics {
    /// Counts terms over the live rows of all segments.
    pub fn gather<B: AsRef<[u8]>>(segments: &[LiveKeywords<'_, B>], terms: &[String]) -> Self {
        let rows = totals(segments).0;
        let lookup = Lookup { segments, rows };
        Self { rows, frequency: terms.iter().map(|term| (term.clone(), lookup.frequency(term))).collect() }
    }

    /// Returns the number of live rows.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Returns the inverse document frequency of a term, as a logarithm. It is highest for a term that no row has.
    pub fn weight(&self, term: &str) -> f32 {
        rarity(self.rows, self.frequency.get(term).copied().unwrap_or(0))
    }
}

/// Returns the terms of an English question without repetition. Function words are left out, unless the question has no others.
pub fn query_terms(query: &str) -> Vec<String> {
    let (mut all, mut telling, mut seen) = (Vec::new(), Vec::new(), HashSet::new());
    for word in words(query) {
        let tells = !is_stopword(&fold(word.text));
        if seen.insert((tells, word.term.clone())) {
            if tells { &mut telling } else { &mut all }.push(word.term);
        }
    }
    if telling.is_empty() { all } else { telling }
}
