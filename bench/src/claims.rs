//! Pairs of a claim and its source, as `bench/claims` has them, and how a verifier fares on them.

use std::collections::BTreeMap;

use logothete_core::document::Span;
use logothete_core::learn::{Logistic, logistic};
use logothete_core::text::{sentences, words};
use logothete_core::vector::Encoder;
use logothete_core::verify::{
    Finding, Meaning, SUPPORT_NAMES, SourceSentence, SupportFacts, SupportModel, SupportWeights, support_facts, verify,
};

/// A claim, its source, and whether the source supports it.
#[derive(Clone, Debug, PartialEq)]
pub struct Pair {
    /// What it is about.
    pub subject: String,
    /// Which kind of truth or error it is.
    pub kind: String,
    /// The mark of its line: `=` supported, `~` partly, `x` contradicted, `?` unsupported.
    pub mark: char,
    /// The claim.
    pub claim: String,
    /// The source.
    pub evidence: String,
}

impl Pair {
    /// Returns `true` if the source supports the claim in full.
    pub fn is_supported(&self) -> bool {
        self.mark == '='
    }
}

/// How much a pair counts that was made from others.
pub const GROWN_WEIGHT: f32 = 0.3;

/// Reads pairs: a line `# subject`, a line with the source, and a line `mark kind | claim` for each claim.
///
/// # Errors
/// If a line is none of these.
pub fn read(text: &str) -> Result<Vec<Pair>, String> {
    let (mut subject, mut evidence, mut pairs) = (String::new(), String::new(), Vec::new());
    for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        if let Some(name) = line.strip_prefix("# ") {
            (subject, evidence) = (name.to_owned(), String::new());
        } else if evidence.is_empty() {
            evidence = line.to_owned();
        } else {
            let parts = line.split_once(" | ").and_then(|(head, claim)| Some((head.split_once(' ')?, claim)));
            let Some(((mark, kind), claim)) = parts.filter(|((mark, _), _)| ["=", "~", "x", "?"].contains(mark)) else {
                return Err(format!("line {}: {line}", number + 1));
            };
            pairs.push(Pair {
                subject: subject.clone(),
                kind: kind.to_owned(),
                mark: mark.chars().next().unwrap_or('?'),
                claim: claim.to_owned(),
                evidence: evidence.clone(),
            });
        }
    }
    Ok(pairs)
}

/// Returns more pairs, made from some: sentences of the sources as they are, sentences and true claims with a number changed or a denial added or removed,
/// sentences of other subjects, and claims whose sentence was taken out of the source. They are always the same.
pub fn grown(pairs: &[Pair]) -> Vec<Pair> {
    let mut random = Random(20_261_129);
    let mut made = Vec::new();
    let mut sources: Vec<(&str, &str)> = Vec::new();
    for pair in pairs {
        if sources.last().is_none_or(|(_, evidence)| *evidence != pair.evidence) {
            sources.push((&pair.subject, &pair.evidence));
        }
        if pair.is_supported() {
            if let Some(evidence) = without_nearest(&pair.claim, &pair.evidence) {
                made.push(Pair { kind: "taken out".to_owned(), mark: '?', evidence, ..pair.clone() });
            }
            let worsened = [("number", with_number(&pair.claim, &mut random)), ("negation", denied(&pair.claim))];
            for (kind, claim) in worsened {
                made.extend(claim.map(|claim| Pair { kind: kind.to_owned(), mark: 'x', claim, ..pair.clone() }));
            }
        }
    }
    for (at, (subject, evidence)) in sources.iter().enumerate() {
        let pair = |kind: &str, mark: char, claim: String| Pair {
            subject: (*subject).to_owned(),
            kind: kind.to_owned(),
            mark,
            claim,
            evidence: (*evidence).to_owned(),
        };
        for span in sentences(evidence) {
            let sentence = &evidence[span.range()];
            made.push(pair("verbatim", '=', sentence.to_owned()));
            made.push(pair("verbatim", '=', format!("According to the text, {}", with_small_initial(sentence))));
            made.extend(with_number(sentence, &mut random).map(|claim| pair("number", 'x', claim)));
            made.extend(denied(sentence).map(|claim| pair("negation", 'x', claim)));
            if let Some(evidence) = without_nearest(sentence, evidence) {
                made.push(Pair { evidence, ..pair("taken out", '?', sentence.to_owned()) });
            }
        }
        let (_, other) = sources[(at + 1 + random.below(sources.len() - 1)) % sources.len()];
        made.extend(
            sentences(other).into_iter().take(2).map(|span| pair("foreign", '?', other[span.range()].to_owned())),
        );
    }
    made
}

/// Returns a sentence that goes on after other words.
fn with_small_initial(sentence: &str) -> String {
    let mut letters = sentence.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}", first.to_lowercase(), letters.as_str()))
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

/// A pair with its vectors.
#[derive(Debug)]
pub struct Encoded {
    /// The pair.
    pub pair: Pair,
    sentences: Vec<(String, Meaning)>,
    claim: Meaning,
}

impl Encoded {
    /// Encodes a pair.
    ///
    /// # Errors
    /// If the encoder fails.
    pub fn new(pair: Pair, encoder: &dyn Encoder) -> logothete_core::Result<Self> {
        let texts: Vec<&str> = sentences(&pair.evidence).into_iter().map(|span| &pair.evidence[span.range()]).collect();
        let meanings = Meaning::of(encoder, &texts)?;
        let claim = Meaning::of(encoder, &[&pair.claim])?.remove(0);
        let sentences = texts.into_iter().map(str::to_owned).zip(meanings).collect();
        Ok(Self { pair, sentences, claim })
    }

    fn source(&self) -> Vec<SourceSentence<'_>> {
        self.sentences.iter().map(|(text, meaning)| SourceSentence { text, meaning }).collect()
    }

    /// Measures it.
    pub fn facts(&self) -> SupportFacts {
        support_facts(&self.pair.claim, &self.claim, &self.source())
    }

    /// Measures it without its vectors.
    pub fn facts_by_words(&self) -> SupportFacts {
        let unknown = Meaning::default();
        let source: Vec<SourceSentence<'_>> =
            self.sentences.iter().map(|(text, _)| SourceSentence { text, meaning: &unknown }).collect();
        support_facts(&self.pair.claim, &unknown, &source)
    }

    /// Holds the claim against its source.
    pub fn finding(&self, model: &SupportModel) -> Finding {
        verify(&self.pair.claim, &self.claim, &self.source(), model)
    }
}

/// What is measured of a pair, with and without vectors, whether its source supports it, and how much it counts.
#[derive(Clone, Debug)]
pub struct Example {
    /// With vectors.
    pub facts: SupportFacts,
    /// Without.
    pub by_words: SupportFacts,
    /// The mark of the pair.
    pub mark: char,
    /// How much it counts.
    pub weight: f32,
}

/// Fits a model to examples.
pub fn fit(examples: &[&Example]) -> SupportModel {
    const RIDGE: f64 = 0.002;
    let fitted = |facts: &dyn Fn(&Example) -> SupportFacts| {
        let rows = |is_used: &dyn Fn(&Example) -> bool, holds: &dyn Fn(&Example) -> bool| -> Logistic {
            let used = examples.iter().filter(|one| is_used(one));
            let rows: Vec<_> = used.map(|one| (facts(one).to_vec(), holds(one), one.weight)).collect();
            logistic(&rows, RIDGE)
        };
        SupportWeights {
            speaks: rows(&|_| true, &|one| one.mark != '?'),
            agrees: rows(&|one| one.mark != '?', &|one| one.mark == '='),
        }
    };
    SupportModel {
        facts: SUPPORT_NAMES.map(str::to_owned).to_vec(),
        by_meaning: fitted(&|one| one.facts),
        by_words: fitted(&|one| one.by_words),
    }
}

/// What was found of some pairs.
#[derive(Debug, Default)]
pub struct Counts {
    /// By kind: the pairs, and of how many the verdict was right.
    pub kinds: BTreeMap<String, (usize, usize)>,
    flagged: usize,
    flagged_rightly: usize,
    wrong: usize,
    supported: usize,
    flagged_wrongly: usize,
}

impl Counts {
    /// Counts a pair, and whether it was flagged as not supported.
    pub fn add(&mut self, pair: &Pair, flagged: bool) {
        let right = flagged != pair.is_supported();
        let known = self.kinds.entry(format!("{} {}", pair.mark, pair.kind)).or_default();
        known.0 += 1;
        known.1 += usize::from(right);
        self.flagged += usize::from(flagged);
        self.flagged_rightly += usize::from(flagged && !pair.is_supported());
        self.wrong += usize::from(!pair.is_supported());
        self.supported += usize::from(pair.is_supported());
        self.flagged_wrongly += usize::from(flagged && pair.is_supported());
    }

    /// Returns the F1 of "not supported".
    pub fn f1(&self) -> f64 {
        2.0 * self.flagged_rightly as f64 / (self.flagged + self.wrong).max(1) as f64
    }

    /// Returns the share of the supported claims that were flagged.
    pub fn false_alarms(&self) -> f64 {
        self.flagged_wrongly as f64 / self.supported.max(1) as f64
    }

    /// Returns the share of the claims that are not supported that were flagged.
    pub fn recall(&self) -> f64 {
        self.flagged_rightly as f64 / self.wrong.max(1) as f64
    }
}
