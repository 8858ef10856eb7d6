//! Reranking: the best candidates of the fused ranking in a new order.

mod judge;
mod learned;
mod own;

pub(crate) use judge::Judgements;
pub use own::Reranker;

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use logothete_core::chunk::ChunkId;
use logothete_core::keyword::PreparedQuery;
use logothete_core::search::{Fused, Passage, RerankKind, RerankPlan};
use logothete_core::trace::{RerankRecord, TraceDetails};
use logothete_core::{Result, TokenUsage};

use super::find::Searcher;
use super::legs::encoded_tokens;
use crate::storage::RowId;
use crate::trace::Recorder;
use judge::Asked;
use learned::{LEARNED, Measuring, Reranked};

/// The name of late interaction in traces.
const TOKENS: &str = "tokens";

/// The question that candidates are judged by, and how many of them a trace has.
pub(super) struct Judged<'a> {
    pub prepared: &'a PreparedQuery,
    pub text: &'a str,
    /// The text for the encoder, with other wordings.
    pub read: &'a str,
    pub recorded: usize,
}

/// The scores of candidates in their fused order, by a reranker that tells no reasons.
struct Scores {
    reranker: String,
    /// `None` for a candidate that was not read.
    scores: Vec<Option<f32>>,
    /// How long the search would have waited.
    waited_ms: Option<f64>,
    usage: TokenUsage,
}

/// The outcome of a reranker.
enum Outcome {
    Scored(Scores),
    /// Why the fused order stays.
    Failed(String),
    /// A rehearsal: it will be asked.
    ToBeAsked,
}

/// Candidates in a new order, and the time that services took for it.
pub(super) struct Reordered {
    pub order: Vec<Fused<RowId>>,
    pub waited_ms: f64,
}

impl Searcher<'_> {
    /// Puts the best candidates in the order of the plan's reranker. If it fails, they keep the fused order, and a note says why.
    pub(super) fn reranked(
        &self,
        plan: &RerankPlan,
        judged: &Judged<'_>,
        fused: Vec<Fused<RowId>>,
        notes: &mut Vec<String>,
        recorder: &mut Recorder,
    ) -> Result<Reordered> {
        if fused.is_empty() || plan.kind == RerankKind::None {
            return Ok(Reordered { order: fused, waited_ms: 0.0 });
        }
        if plan.kind == RerankKind::Learned {
            return Ok(Reordered { order: self.by_learned(plan, judged, fused, recorder)?, waited_ms: 0.0 });
        }
        let start = recorder.start("rerank");
        let rows: Vec<RowId> = fused.iter().take(plan.depth).map(|item| item.key).collect();
        let outcome = match plan.kind {
            RerankKind::Cross => self.by_cross_encoder(plan, judged, &rows)?,
            RerankKind::Tokens => self.by_tokens(judged, &rows),
            _ => self.as_judged(plan, judged, &rows, &fused)?,
        };
        match outcome {
            Outcome::ToBeAsked => Ok(Reordered { order: fused, waited_ms: 0.0 }),
            Outcome::Failed(note) => {
                recorder.step(start, || TraceDetails::LeftOut { note: note.clone() });
                notes.push(note);
                Ok(Reordered { order: fused, waited_ms: 0.0 })
            }
            Outcome::Scored(Scores { reranker, scores, waited_ms, usage }) => {
                let unread = scores.iter().filter(|score| score.is_none()).count();
                if unread > 0 {
                    notes.push(format!(
                        "“{reranker}” read {} of {} candidates in {} s; the others come after them, in the fused order.",
                        scores.len() - unread,
                        scores.len(),
                        plan.seconds
                    ));
                }
                let order = reordered(fused, &scores);
                let recorded = if recorder.is_on() { judged.recorded.min(rows.len()) } else { 0 };
                let chunks = self.chunks_at(order[..recorded].iter().map(|(_, item)| item.key))?;
                recorder.spent_step(start, usage, || {
                    let record =
                        |((from, item), (chunk, document)): (&(usize, Fused<RowId>), (ChunkId, String))| RerankRecord {
                            chunk,
                            document,
                            from: from + 1,
                            score: item.score,
                            shares: BTreeMap::new(),
                            features: Vec::new(),
                        };
                    let candidates = order.iter().zip(chunks).map(record).collect();
                    TraceDetails::Rerank { reranker, waited_ms, candidates }
                });
                let order = order.into_iter().map(|(_, item)| item).collect();
                Ok(Reordered { order, waited_ms: waited_ms.unwrap_or(0.0) })
            }
        }
    }

    /// Scores candidates by the learned model.
    fn by_learned(
        &self,
        plan: &RerankPlan,
        judged: &Judged<'_>,
        mut fused: Vec<Fused<RowId>>,
        recorder: &mut Recorder,
    ) -> Result<Vec<Fused<RowId>>> {
        let start = recorder.start("rerank");
        let rest = fused.split_off(plan.depth.min(fused.len()));
        let vector = self.ahead.vectors.of(judged.read, &*self.opened.encoder)?;
        let catalogue = self.view.catalogue();
        let (query, text) = (judged.prepared, judged.text);
        let measuring =
            Measuring { snapshot: &self.view.snapshot, catalogue: &**catalogue, query, text, vector: &vector };
        let order = measuring.rerank(&fused, recorder.is_on())?;
        drop(catalogue);
        let shown = &order[..if recorder.is_on() { judged.recorded.min(order.len()) } else { 0 }];
        let chunks = self.chunks_at(shown.iter().map(|one| fused[one.from].key))?;
        recorder.step(start, || {
            let record = |(one, (chunk, document)): (&Reranked, _)| RerankRecord {
                chunk,
                document,
                from: one.from + 1,
                score: one.score,
                shares: one.notable_shares().collect(),
                features: one.features.clone(),
            };
            let candidates = shown.iter().zip(chunks).map(record).collect();
            TraceDetails::Rerank { reranker: LEARNED.to_owned(), waited_ms: None, candidates }
        });
        let mut kept: Vec<Option<Fused<RowId>>> = fused.into_iter().map(Some).collect();
        let order = order.into_iter().filter_map(|one| {
            let before = kept[one.from].take()?;
            Some(Fused { score: one.score, ..before })
        });
        Ok(order.chain(rest.into_iter().map(|item| Fused { score: 0.0, ..item })).collect())
    }

    /// Scores candidates by a cross-encoder, as many as it reads in time.
    fn by_cross_encoder(&self, plan: &RerankPlan, judged: &Judged<'_>, rows: &[RowId]) -> Result<Outcome> {
        let cross = self.opened.pipeline.cross_encoder()?;
        let started = Instant::now();
        let limit = Duration::try_from_secs_f32(plan.seconds).unwrap_or(Duration::MAX);
        let texts: Vec<String> = self.view.catalogue().passages_at(rows)?.iter().map(Passage::indexed_text).collect();
        let texts: Vec<&str> = texts.iter().map(String::as_str).collect();
        let is_over = |next: Duration| started.elapsed() + next > limit || self.stop.is_stopped();
        let scores = cross.scores(judged.text, &texts, is_over)?;
        let reranker = cross.name().to_owned();
        Ok(Outcome::Scored(Scores { reranker, scores, waited_ms: None, usage: TokenUsage::default() }))
    }

    /// Scores candidates by their tokens: the mean, over the tokens of the question, of the highest cosine.
    fn by_tokens(&self, judged: &Judged<'_>, rows: &[RowId]) -> Outcome {
        let snapshot = &self.view.snapshot;
        let query = match encoded_tokens(&*self.opened.encoder, snapshot, judged.read) {
            Ok(query) => query,
            Err(error) => {
                return Outcome::Failed(format!("The reranker “{TOKENS}” failed, and the fused order stays: {error}."));
            }
        };
        let count = query.len().max(1) as f32;
        let mean = |score: Option<f32>| score.map(|score| score / count);
        let scores = snapshot.token_scores(&query, rows).into_iter().map(mean).collect();
        let reranker = TOKENS.to_owned();
        Outcome::Scored(Scores { reranker, scores, waited_ms: None, usage: TokenUsage::default() })
    }

    /// Returns what a reranker said of candidates before the search.
    fn as_judged(
        &self,
        plan: &RerankPlan,
        judged: &Judged<'_>,
        rows: &[RowId],
        fused: &[Fused<RowId>],
    ) -> Result<Outcome> {
        let chunks = self.chunks_at(rows.iter().copied())?.into_iter().map(|(chunk, _)| chunk).collect();
        let asked = Asked { kind: plan.kind, question: judged.text.to_owned(), chunks };
        let judgements = &self.ahead.judgements;
        let Some(judgement) = judgements.of(&asked) else {
            if judgements.is_rehearsal() {
                let mut passages = self.view.catalogue().passages_at(rows)?;
                for (at, (passage, item)) in passages.iter_mut().zip(fused).enumerate() {
                    (passage.rank, passage.score) = (at + 1, item.score);
                    passage.legs = item.legs.iter().cloned().collect();
                }
                judgements.want(asked, plan, passages);
                return Ok(Outcome::ToBeAsked);
            }
            let note = "The corpus changed while the reranker was asked, and the fused order stays; search again.";
            return Ok(Outcome::Failed(note.to_owned()));
        };
        Ok(match &judgement.scores {
            Ok(scores) => Outcome::Scored(Scores {
                reranker: judgement.reranker.clone(),
                scores: scores.iter().copied().map(Some).collect(),
                waited_ms: Some(judgement.took_ms),
                usage: judgement.usage,
            }),
            Err(error) => {
                let name = &judgement.reranker;
                Outcome::Failed(format!("The reranker “{name}” failed, and the fused order stays: {error}."))
            }
        })
    }
}

/// Puts candidates in the order of their scores, with their positions before. What has no score comes after what has one, as it was.
fn reordered(fused: Vec<Fused<RowId>>, scores: &[Option<f32>]) -> Vec<(usize, Fused<RowId>)> {
    let score = |at: usize| scores.get(at).copied().flatten();
    let mut order: Vec<(usize, Fused<RowId>)> = fused.into_iter().enumerate().collect();
    order.sort_by(|(a, _), (b, _)| match (score(*a), score(*b)) {
        (Some(a), Some(b)) => b.total_cmp(&a),
        (a, b) => b.is_some().cmp(&a.is_some()),
    });
    let lowest = scores.iter().flatten().copied().min_by(f32::total_cmp).unwrap_or(0.0);
    order.iter_mut().for_each(|(at, item)| item.score = score(*at).unwrap_or(lowest));
    order
}
