//! `logothete search`

use std::ops::Bound;

use logothete::document::Span;
use logothete::query::Wording;
use logothete::search::{Part, Passage};
use logothete::trace::Misspelt;
use logothete::{Config, Corpus, Error, ErrorKind, Result, SearchRequest, SearchResult};
use serde_json::json;

use super::{changed, configuration, corpus, routed};
use crate::args::{CorpusArguments, SearchArguments};
use crate::view::beside::beside;
use crate::view::expected::expected;
use crate::view::why;
use crate::view::{Style, count as counted, duration, indented, shortened, width};
use crate::{DONE, Output};

/// The number of passages that are listed for a part of a question.
const MAX_OF_PART: usize = 3;

pub async fn run(at: &CorpusArguments, arguments: &SearchArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let config = changed(config, &arguments.changes)?;
    if arguments.plan {
        return Ok(Output { text: plan(&config), json: json!({ "plan": config.search.plan() }), code: DONE });
    }
    let requests = requests(arguments)?;
    if routed::applies(at, &config) {
        let needs_one = [
            ("--why", arguments.why),
            ("--against", arguments.against.is_some()),
            ("--expect", arguments.expect.is_some()),
        ];
        return match needs_one.iter().find(|(_, is_given)| *is_given) {
            Some((option, _)) => Err(routed::refuse(option)),
            None => routed::search(at, &config, requests).await,
        };
    }
    let corpus = corpus(at, &config, &folder, true).await?;
    let style = Style::of_stdout();
    if let Some(file) = &arguments.against {
        let other = Config::read(file)?.search.plan();
        let both = |request: SearchRequest| [request.clone(), request.plan(other.clone())];
        let both: Vec<SearchRequest> = requests.into_iter().flat_map(both).collect();
        let found = corpus.search_all(both).await?;
        let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let text = found.chunks_exact(2).map(|pair| beside(&pair[0], &pair[1], &name, style)).collect();
        return Ok(Output { text, json: json!({ "search": found.first(), "against": found.get(1) }), code: DONE });
    }
    let found = corpus.search_all(requests).await?;
    let mut sentences = Vec::new();
    for found in found.iter().filter(|_| arguments.why) {
        sentences.push(best_sentences(&corpus, found, style).await?);
    }
    let shown = |(at, found): (usize, &SearchResult)| {
        let reasons = if arguments.why { why::lines(found, style) } else { Vec::new() };
        let each = found.passages.iter().enumerate().map(|(rank, passage)| {
            let sentence = sentences.get(at).and_then(|all| all.get(rank)).cloned().flatten();
            let reason = reasons.get(rank).map_or("", String::as_str);
            render(passage, reason, sentence, style)
        });
        let mut passages: String = each.collect();
        if let Some(left_out) = why::left_out(found).filter(|_| arguments.why) {
            passages.push_str(&format!("{}\n", style.faint(&left_out)));
        }
        result(found, passages, !arguments.scores.is_empty(), style)
    };
    if arguments.queries.is_none() {
        let text = found.iter().enumerate().next().map(shown).unwrap_or_default();
        return Ok(Output { text, json: json!(found.first()), code: DONE });
    }
    let one = |(at, found): (usize, &SearchResult)| super::one_of_several(&found.query, &shown((at, found)), style);
    let text = found.iter().enumerate().map(one).collect::<Vec<_>>().join("\n");
    Ok(Output { text, json: json!({ "searches": found }), code: DONE })
}

/// Returns the best sentence of each passage as a quotation: that with most of the words that were searched for, or with most words like them; `None`
/// for one that has neither.
async fn best_sentences(corpus: &Corpus, found: &SearchResult, style: Style) -> Result<Vec<Option<String>>> {
    let candidates: Vec<Vec<&str>> = found.passages.iter().map(|passage| why::candidates(passage, found)).collect();
    let texts = candidates.iter().flatten().map(|text| (*text).to_owned()).collect();
    let mut alike = corpus.alike_words(&found.query, texts).await?.into_iter();
    let quoted = |candidates: Vec<&str>| {
        let is_alone = candidates.len() == 1;
        let with_alike: Vec<(&str, Vec<Span>)> =
            candidates.into_iter().map(|text| (text, alike.next().unwrap_or_default())).collect();
        // The first of those with most.
        let best = with_alike.into_iter().rev().max_by_key(|(_, alike)| alike.len());
        let (text, alike) = best.filter(|(_, alike)| is_alone || !alike.is_empty())?;
        Some(why::quoted(text, &alike, found, style))
    };
    Ok(candidates.into_iter().map(quoted).collect())
}

/// Returns the queries: the one of the command line, or each line of the file.
fn requests(arguments: &SearchArguments) -> Result<Vec<SearchRequest>> {
    let queries = super::asked(&arguments.query, arguments.queries.as_deref())?;
    let filter = super::filter(arguments.filter.as_deref())?;
    let expected = super::filter(arguments.expect.as_deref())?;
    let scores: Vec<(Option<&str>, Range)> =
        arguments.scores.iter().map(|written| score_range(written)).collect::<Result<_>>()?;
    let request = |query: String| {
        let mut request = SearchRequest::new(query);
        if arguments.why {
            request = request.explained();
        }
        if let Some(filter) = &filter {
            request = request.filter(filter.clone());
        }
        if let Some(expected) = &expected {
            request = request.expecting(expected.clone());
        }
        if let Some(count) = arguments.count {
            request = request.passages(count as usize);
        }
        if let Some(field) = &arguments.sort {
            request = match field.strip_prefix('-') {
                Some(field) => request.sort_down_by(field),
                None => request.sort_by(field),
            };
        }
        for (leg, range) in &scores {
            request = match leg {
                Some(leg) => request.leg_scores(*leg, *range),
                None => request.scores(*range),
            };
        }
        request
    };
    Ok(queries.into_iter().map(request).collect())
}

/// Returns the table `[search]` as a configuration file has it.
fn plan(config: &Config) -> String {
    let keys = [
        "passages",
        "keyword",
        "vector",
        "legs",
        "when",
        "depth",
        "fusion",
        "rerank",
        "contents",
        "diversity",
        "expand",
        "synonyms",
        "abbreviations",
        "transform",
        "filter",
        "allow",
    ];
    let line = |key: &str| Some(format!("{key} = {}\n", config.written(&format!("search.{key}"))?));
    format!("[search]\n{}", keys.into_iter().filter_map(line).collect::<String>())
}

/// From one score to another, both included, as far as they are said.
type Range = (Bound<f32>, Bound<f32>);

/// Parses a range of scores: `0.4..0.8`, or that of a leg, `vector=0.3..`.
fn score_range(written: &str) -> Result<(Option<&str>, Range)> {
    let (leg, range) = match written.split_once('=') {
        Some((leg, range)) => (Some(leg.trim()), range),
        None => (None, written),
    };
    let bound = |end: &str| match end.trim() {
        "" => Some(Bound::Unbounded),
        end => end.parse().ok().filter(|score: &f32| score.is_finite()).map(Bound::Included),
    };
    let ends = range.split_once("..").filter(|ends| *ends != ("", ""));
    let ends = ends.and_then(|(from, to)| Some((bound(from)?, bound(to)?)));
    if let Some((Bound::Included(from), Bound::Included(to))) = ends
        && from > to
    {
        let message = format!("“{written}” ends before it begins; put the lower score first");
        return Err(Error::new(ErrorKind::InvalidRequest, message).at("--score"));
    }
    ends.map(|ends| (leg, ends)).ok_or_else(|| {
        let message = format!("“{written}” is no range of scores; write one such as 0.4.., 0.4..0.8 or vector=0.3..");
        Error::new(ErrorKind::InvalidRequest, message).at("--score")
    })
}

/// Returns the passages of a search as text, and how many there are; `ranged` when only those with some scores were asked for.
fn result(found: &SearchResult, passages: String, ranged: bool, style: Style) -> String {
    let mut text = passages;
    for part in &found.parts {
        text.push_str(&searched_alone(part, style));
    }
    for Misspelt { word, taken_for } in &found.misspelt {
        let line = format!("No document has “{word}”; looked for words like {} instead.", taken_for.join(", "));
        text.push_str(&format!("{}\n", style.faint(&line)));
    }
    for Wording { from, to, document, .. } in &found.wordings {
        let by = document.as_ref().map_or(String::new(), |document| format!(", as {document} defines it"));
        text.push_str(&format!("{}\n", style.faint(&format!("Searched for “{to}” too, beside “{from}”{by}."))));
    }
    for note in &found.notes {
        text.push_str(&format!("{}\n", style.warning(note)));
    }
    if let Some(one) = &found.expected {
        text.push_str(&expected(one, style));
    }
    let number = found.passages.len() as u64;
    let summary = match (number, &found.filter) {
        (0, _) if ranged => "No passage that was found has such a score.".to_owned(),
        (0, Some(filter)) => format!("No passage fits this query where {filter}."),
        (0, None) => "No passage has a word of this query, or anything like it.".to_owned(),
        (_, Some(filter)) => {
            format!("{} where {filter}, in {}", counted(number, "passage", "passages"), duration(found.took_ms))
        }
        (_, None) => format!("{} in {}", counted(number, "passage", "passages"), duration(found.took_ms)),
    };
    text + &format!("{}\n", style.faint(&summary))
}

/// Returns a part of a question, with the places of what it found when it was searched alone.
fn searched_alone(part: &Part, style: Style) -> String {
    let mut text = format!("Searched alone: {}\n", style.strong(&shortened(&part.query, width().saturating_sub(16))));
    for (at, one) in part.found.iter().take(MAX_OF_PART).enumerate() {
        let place = style.place(&shortened(&one.location.to_string(), width().saturating_sub(15)));
        text.push_str(&format!("{:>5}  {:.2}  {place}\n", at + 1, one.score));
    }
    if part.found.is_empty() {
        text.push_str(&format!("       {}\n", style.faint("nothing found")));
    }
    text + "\n"
}

/// Returns a passage with its place and its ranks: why it stands here, and a sentence of it, or its beginning.
pub(super) fn render(passage: &Passage, why: &str, sentence: Option<String>, style: Style) -> String {
    let mut ranks: Vec<String> =
        passage.legs.iter().map(|(name, leg)| format!("{name} #{} ({:.2})", leg.rank, leg.score)).collect();
    ranks.extend(passage.fused.map(|fused| format!("fused #{} ({:.2})", fused.rank, fused.score)));
    let also: String = passage
        .also
        .iter()
        .map(|other| {
            let place = shortened(&other.location.to_string(), width().saturating_sub(13));
            format!("     {} {}\n", style.faint("also in"), style.place(&place))
        })
        .collect();
    format!(
        "{:>3}  {}  {}\n     {}\n{why}{}{also}\n",
        passage.rank,
        style.strong(&format!("{:.2}", passage.score)),
        style.place(&shortened(&passage.location.to_string(), width().saturating_sub(11))),
        style.faint(&ranks.join(", ")),
        sentence.unwrap_or_else(|| indented(&shortened(passage.body(), 3 * width().saturating_sub(5)), 5)),
    )
}
