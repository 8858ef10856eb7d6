//! Pairs of a claim and its source, as `bench/claims` has them, and how a verifier fares on them.

mod grown;
mod rewordings;
mod vectors;

use std::collections::BTreeMap;

use logothete_core::learn::{Boosted, Growth, boosted};
use logothete_core::text::sentences;
use logothete_core::vector::Encoder;
use logothete_core::verify::{
    HeldClaim, Meaning, SUPPORT_FACTS, SUPPORT_NAMES, SourceSentence, SupportFacts, SupportModel, SupportTrees,
};

pub use grown::grown;
pub use vectors::{as_lines, write_vectors};

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

    /// Returns another claim about the same source.
    fn with(&self, kind: &str, mark: char, claim: String) -> Self {
        Self { kind: kind.to_owned(), mark, claim, ..self.clone() }
    }
}

/// How much a pair counts that was made from others.
pub const GROWN_WEIGHT: f32 = 0.05;

/// The place of the first of the facts that the network tells.
const FIRST_READ: usize = SUPPORT_FACTS - 3;

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
    pub fn held(&self) -> HeldClaim {
        HeldClaim::new(&self.pair.claim, &self.claim, &self.source())
    }

    /// Measures it, with what a network tells that has not seen its subject.
    pub fn held_with(&self, reading: [f32; 3]) -> HeldClaim {
        let mut held = self.held();
        held.facts[FIRST_READ..]
            .copy_from_slice(&reading.map(|chance| (chance / (1.0 - chance)).ln().clamp(-6.0, 6.0)));
        held
    }

    /// Measures it without its vectors.
    pub fn held_by_words(&self) -> HeldClaim {
        let unknown = Meaning::default();
        let source: Vec<SourceSentence<'_>> =
            self.sentences.iter().map(|(text, _)| SourceSentence { text, meaning: &unknown }).collect();
        HeldClaim::new(&self.pair.claim, &unknown, &source)
    }
}

/// What is measured of a pair, with and without vectors, whether its source supports it, and how much it counts.
#[derive(Clone, Debug)]
pub struct Example {
    /// With vectors.
    pub held: HeldClaim,
    /// Without.
    pub by_words: HeldClaim,
    /// The mark of the pair.
    pub mark: char,
    /// How much it counts.
    pub weight: f32,
}

/// Grows the trees of a model from examples.
pub fn fit(examples: &[&Example]) -> SupportModel {
    const GROWTH: Growth = Growth { trees: 200, max_depth: 3, rate: 0.05, min_weight: 20.0, ridge: 1.0 };
    let without_reading = |facts: &SupportFacts| {
        let mut facts = *facts;
        facts[FIRST_READ..].fill(0.0);
        facts
    };
    let fitted = |facts: &dyn Fn(&Example) -> SupportFacts| {
        let rows = |is_used: &dyn Fn(&Example) -> bool, holds: &dyn Fn(&Example) -> bool| -> Boosted {
            let used = examples.iter().filter(|one| is_used(one));
            let rows: Vec<_> = used.map(|one| (facts(one).to_vec(), holds(one), one.weight)).collect();
            boosted(&rows, GROWTH)
        };
        SupportTrees {
            speaks: rows(&|_| true, &|one| one.mark != '?'),
            agrees: rows(&|one| one.mark != '?', &|one| one.mark == '='),
        }
    };
    SupportModel {
        facts: SUPPORT_NAMES.map(str::to_owned).to_vec(),
        by_reading: fitted(&|one| one.held.facts),
        by_meaning: fitted(&|one| without_reading(&one.held.facts)),
        by_words: fitted(&|one| one.by_words.facts),
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
