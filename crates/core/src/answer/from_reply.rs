//! From a model's reply to an answer: markers become sources with quotations, and each sentence is checked.

use std::collections::BTreeMap;

use super::markers::{canonical, restored};
use super::{Answer, CitedSource, Claim, OtherSource, Status};
use crate::chunk::Sentence;
use crate::document::{Location, Span};
use crate::prompt::{OWN_KNOWLEDGE, REFUSAL};
use crate::search::Passage;
use crate::text::{fold, is_stopword, sentences, without_markers, words};
use crate::verify::{Support, Verdict, check, cited_claims};

/// The share of a claim without a marker that a passage must support to be cited for it.
const MIN_JOINED: f32 = 0.75;
/// A claim with fewer significant words could be from anywhere.
const MIN_JOINED_WORDS: usize = 3;
/// A reply with more sentences is no refusal, whatever it says.
const MAX_REFUSAL: usize = 2;

impl Answer {
    /// Makes an answer of a reply to a question. The marker `[1]` of the reply means the first of the passages, as in
    /// [`answer_prompt`](crate::prompt::answer_prompt).
    ///
    /// Each sentence is a claim. Its markers, in any common style, become sources with the sentence of the passage that fits best; a
    /// passage that several claims cite is one source, with a quotation for each. A claim without markers cites the passage that
    /// supports it, if one clearly does. Markers of no passage are dropped. A reply that says that it does not know is a refusal.
    ///
    /// Verdicts are by words alone; [`judge`](Self::judge) holds the claims by meaning too.
    ///
    /// Costs comparing each claim with the sentences of the passages that it cites; with those of all, if it cites none.
    pub fn from_reply(question: impl Into<String>, reply: &str, passages: &[Passage]) -> Self {
        let question = question.into();
        let reply = canonical(reply.trim());
        let mut sources = Sources { passages, cited: BTreeMap::new() };
        let mut claims = Vec::new();
        let mut text = String::with_capacity(reply.len());
        let mut end = 0;
        for span in sentences(&reply) {
            text.push_str(&reply[end..span.start]);
            end = span.end;
            let sentence = &reply[span.range()];
            let Some(cited) = cited_claims(sentence).into_iter().next() else { continue };
            let bare = without_markers(cited.text);
            // A question claims nothing.
            if cited.markers.is_empty() && bare.ends_with(['?', '？']) {
                text.push_str(sentence);
                continue;
            }
            let own = bare.starts_with(OWN_KNOWLEDGE);
            let mut from: Vec<usize> = cited
                .markers
                .iter()
                .filter(|marker| (1..=passages.len()).contains(marker))
                .map(|marker| marker - 1)
                .collect();
            from.dedup();
            if own {
                from.clear();
            } else if from.is_empty() {
                from.extend(sources.supporting(&bare));
            }
            let support = sources.support(&bare, &from);
            from.iter().for_each(|passage| sources.cite(&bare, *passage));
            let markers: Vec<usize> = from.iter().map(|passage| passage + 1).collect();
            text.push_str(&bare);
            if !markers.is_empty() {
                text.push(' ');
                text.extend(markers.iter().map(|marker| format!("[{marker}]")));
            }
            claims.push(Claim::new(restored(&bare), support.verdict, support.share, markers));
        }
        text.push_str(&reply[end..]);
        let text = restored(&text);
        if is_refusal(&reply, &claims) {
            let said = text.trim();
            let mut answer = Self::new(question, Status::Refused, if said.is_empty() { REFUSAL } else { said });
            answer.nearest = passages.iter().take(3).cloned().collect();
            return answer;
        }
        let mut answer = Self::new(question, Status::Answered, text.trim());
        (answer.claims, answer.sources) = (claims, sources.cited.into_values().collect());
        answer
    }
}

/// The sources that are cited so far.
struct Sources<'a> {
    passages: &'a [Passage],
    /// By the passage.
    cited: BTreeMap<usize, CitedSource>,
}

impl Sources<'_> {
    /// Returns the passage that supports a claim, if one clearly does.
    fn supporting(&self, claim: &str) -> Option<usize> {
        if words(claim).filter(|word| !is_stopword(&fold(word.text))).count() < MIN_JOINED_WORDS {
            return None;
        }
        let shares = self.passages.iter().enumerate().map(|(at, passage)| (at, best(claim, passage).1.share));
        let (at, share) = shares.max_by(|a, b| a.1.total_cmp(&b.1).then(b.0.cmp(&a.0)))?;
        (share >= MIN_JOINED).then_some(at)
    }

    /// Checks a claim against the passages that it cites together.
    fn support(&self, claim: &str, from: &[usize]) -> Support {
        let evidence: Vec<String> =
            from.iter().map(|at| format!("{}\n{}", self.passages[*at].context, self.passages[*at].text)).collect();
        match evidence.is_empty() {
            true => Support { verdict: Verdict::Unsupported, share: 0.0 },
            false => check(claim, &evidence.join("\n")),
        }
    }

    /// Cites the sentence of a passage that fits a claim best.
    fn cite(&mut self, claim: &str, at: usize) {
        let passage = &self.passages[at];
        let (span, _) = best(claim, passage);
        let mut location = passage.location.clone();
        location.span = span;
        if let Some(part) = passage.sentences.iter().find(|part| part.span == span) {
            location.pages = part.pages;
        }
        let quotation = passage.slice(span);
        let Some(source) = self.cited.get_mut(&at) else {
            self.cited.insert(at, CitedSource::new(at + 1, location, quotation));
            return;
        };
        let stands = |location: &Location| location.span == span;
        if !stands(&source.location) && !source.more.iter().any(|other| stands(&other.location)) {
            source.more.push(OtherSource::new(location, quotation));
        }
    }
}

/// Returns the sentence of a passage that supports a claim best; the whole passage if it has no sentences.
fn best(claim: &str, passage: &Passage) -> (Span, Support) {
    let readable = |part: &Sentence| part.row.clone().unwrap_or_else(|| passage.slice(part.span).to_owned());
    let supports = passage.sentences.iter().map(|part| (part.span, check(claim, &readable(part))));
    // The first of several that are as good.
    let best = supports.reduce(|best, next| if next.1.share > best.1.share { next } else { best });
    best.unwrap_or_else(|| (passage.location.span, check(claim, &passage.text)))
}

/// Returns `true` for a reply that says that it does not know: the sentence that the instruction asks for, or a short reply without
/// sources that denies.
fn is_refusal(reply: &str, claims: &[Claim]) -> bool {
    let plain = |text: &str| words(text).map(|word| fold(word.text)).collect::<Vec<_>>();
    let asks = reply.trim_end().ends_with(['?', '？']);
    if (claims.is_empty() && !asks) || plain(reply) == plain(REFUSAL) {
        return true;
    }
    let unsupported = claims.iter().all(|claim| claim.citations.is_empty() && claim.verdict == Verdict::Unsupported);
    claims.len() <= MAX_REFUSAL && unsupported && denies(reply)
}

/// Returns `true` if a text has a word of denial or of not knowing, in the languages that models write most.
fn denies(text: &str) -> bool {
    const WORDS: [&str; 37] = [
        "not",
        "no",
        "cannot",
        "can't",
        "don't",
        "doesn't",
        "didn't",
        "isn't",
        "unable",
        "unknown",
        "nicht",
        "kein",
        "keine",
        "keinen",
        "unbekannt",
        "ne",
        "pas",
        "aucun",
        "aucune",
        "não",
        "nao",
        "non",
        "nessun",
        "nessuna",
        "ningún",
        "ninguna",
        "niet",
        "geen",
        "inte",
        "ikke",
        "ingen",
        "nie",
        "не",
        "нет",
        "değil",
        "yok",
        "δεν",
    ];
    const PARTS: [&str; 10] =
        ["没有", "不知道", "未提", "无法", "ありません", "わかりません", "ません", "없습니다", "لا ", "אין"];
    let lower = text.to_lowercase().replace('’', "'");
    let mut all = lower.split(|c: char| !c.is_alphanumeric() && c != '\'');
    all.any(|word| WORDS.contains(&word)) || PARTS.iter().any(|part| lower.contains(part))
}
