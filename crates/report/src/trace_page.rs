//! The page of an answer: what was asked, found, sent, written, checked and cited, and how long it took.

use logothete::answer::{Answer, CitedSource};
use logothete::document::Location;
use logothete::search::{LegScore, Passage};
use logothete::trace::{StepOutcome, Trace, TraceDetails, TraceRecord};
use logothete::verify::Verdict;
use logothete::{Reply, TokenUsage};

use crate::SourcePage;
use crate::html::{escaped, linked, matched, page, section};

const STYLE: &str = include_str!("trace_page.css");

/// Returns a page about a reply whose request was [traced](logothete::SearchRequest::traced).
///
/// `passages` are those that the search found, `pages` the pages that sources stand on; both may be empty. The page is complete in
/// itself, and nothing of a document can become markup in it. Costs one pass over all texts.
pub fn trace_page(reply: &Reply, passages: &[Passage], pages: &[SourcePage]) -> String {
    let answer = &reply.answer;
    let sections = [
        heading(answer, &reply.trace),
        claims(answer),
        sources(answer, pages),
        timeline(&reply.trace),
        found(answer, passages),
        prompts(&reply.trace),
    ];
    page(&answer.question, STYLE, &sections.concat())
}

/// Returns the question, the answer, and who wrote it.
fn heading(answer: &Answer, trace: &Trace) -> String {
    let markers: Vec<usize> = answer.sources.iter().map(|source| source.marker).collect();
    let mut facts = vec![match &answer.generator {
        Some(generator) => format!("written by {}", escaped(generator)),
        None => "made of sentences of the documents".to_owned(),
    }];
    if !answer.tokens.is_zero() {
        let TokenUsage { sent, received } = answer.tokens;
        facts.push(format!("{sent} tokens read, {received} written"));
    }
    facts.extend(trace.records.iter().find_map(cost).map(|cost| format!("cost {cost:.4}")));
    if let Some(root) = trace.records.iter().find(|record| record.parent.is_none()) {
        facts.push(duration(root.took_ms));
    }
    let note = answer.note.as_ref().map(|note| format!("<div class=\"sheet note\">{}</div>\n", escaped(note)));
    let condensed = trace.records.iter().find_map(|record| match &record.details {
        TraceDetails::Condense { follow_up, .. } => {
            Some(format!("<p class=\"faint\">asked as: {}</p>\n", escaped(follow_up)))
        }
        _ => None,
    });
    format!(
        "<header>\n<h1>{}</h1>\n{}<div class=\"sheet answer\">{}</div>\n{}<p class=\"faint\">{}</p>\n</header>\n",
        escaped(&answer.question),
        condensed.unwrap_or_default(),
        linked(&answer.answer, &markers),
        note.unwrap_or_default(),
        facts.join(" · ")
    )
}

fn cost(record: &TraceRecord) -> Option<f64> {
    match &record.details {
        TraceDetails::Generate { cost, .. } => *cost,
        _ => None,
    }
}

/// Returns the claims with their verdicts, each linked to its quotations.
fn claims(answer: &Answer) -> String {
    let one = |claim: &logothete::answer::Claim| {
        let (class, word) = match claim.verdict {
            Verdict::Supported => ("supported", "supported"),
            Verdict::Partly => ("partly", "partly"),
            _ => ("unsupported", "not supported"),
        };
        let links: String =
            claim.citations.iter().map(|marker| format!(" <a href=\"#source-{marker}\">[{marker}]</a>")).collect();
        format!(
            "<div class=\"claim\"><div class=\"verdict {class}\">{word}<br><span class=\"faint\">{:.0} %</span></div>\
             <div>{}{links}</div></div>\n",
            claim.support * 100.0,
            escaped(&claim.text)
        )
    };
    let all: String = answer.claims.iter().map(one).collect();
    let content = if all.is_empty() { all } else { format!("<div class=\"sheet\">\n{all}</div>\n") };
    section("Claims", &content)
}

fn place(location: &Location) -> String {
    let date = location.date.as_ref().map(|date| format!(" ({date})")).unwrap_or_default();
    escaped(&format!("{location}{date}"))
}

/// Returns the sources with their quotations, and the pages that they stand on.
fn sources(answer: &Answer, pages: &[SourcePage]) -> String {
    let one = |source: &CitedSource| {
        let locations: Vec<&Location> =
            std::iter::once(&source.location).chain(source.more.iter().map(|other| &other.location)).collect();
        let quotations = std::iter::once(&source.quotation).chain(source.more.iter().map(|other| &other.quotation));
        let quotations: String = quotations
            .map(|quotation| format!("<blockquote>{}</blockquote>\n", matched(quotation, &answer.question)))
            .collect();
        let also: String = source
            .also
            .iter()
            .map(|other| format!("<p class=\"faint\">also in {}</p>\n", place(&other.location)))
            .collect();
        let areas: Vec<_> = locations.iter().flat_map(|location| &location.areas).collect();
        let drawn: String = pages
            .iter()
            .filter(|page| page.document == source.location.document)
            .filter_map(|page| {
                let marked: Vec<_> = areas.iter().filter(|area| area.page == page.page).map(|area| area.area).collect();
                (!marked.is_empty()).then(|| page.svg(&marked))
            })
            .collect();
        format!(
            "<div class=\"sheet source\" id=\"source-{}\">\n<div><strong>[{}]</strong> {}\n{quotations}{also}</div>\n<div>{drawn}</div>\n</div>\n",
            source.marker,
            source.marker,
            place(&source.location)
        )
    };
    section("Sources", &answer.sources.iter().map(one).collect::<String>())
}

/// Returns the steps with their times as bars.
fn timeline(trace: &Trace) -> String {
    let end = trace.records.iter().map(|record| record.start_ms + record.took_ms).fold(0.001, f64::max);
    let one = |record: &TraceRecord| {
        let (left, width) = (record.start_ms / end * 100.0, record.took_ms / end * 100.0);
        let failed = matches!(record.outcome, StepOutcome::Failed(_));
        let indent = trace.depth(record) * 16;
        format!(
            "<tr{}><td style=\"padding-left:{indent}px\">{}</td><td class=\"number\">{}</td>\
             <td><div class=\"bar\"><i style=\"left:{left:.2}%;width:{width:.2}%\"></i></div></td><td>{}</td></tr>\n",
            if failed { " class=\"failed\"" } else { "" },
            stage(&record.details),
            duration(record.took_ms),
            summary(record)
        )
    };
    let rows: String = trace.records.iter().map(one).collect();
    let head = "<tr><th>Stage</th><th class=\"number\">Time</th><th></th><th>What it did</th></tr>\n";
    let content = if rows.is_empty() { rows } else { format!("<table>\n{head}{rows}</table>\n") };
    section("Timeline", &content)
}

fn duration(milliseconds: f64) -> String {
    match milliseconds {
        long if long >= 1_000.0 => format!("{:.2} s", long / 1_000.0),
        short => format!("{short:.1} ms"),
    }
}

fn stage(details: &TraceDetails) -> &'static str {
    match details {
        TraceDetails::Ask { .. } => "ask",
        TraceDetails::Split { .. } => "split",
        TraceDetails::Digest { .. } => "digest",
        TraceDetails::Search { .. } => "search",
        TraceDetails::Filter { .. } => "filter",
        TraceDetails::Keyword { .. } => "keyword leg",
        TraceDetails::Vector { .. } => "vector leg",
        TraceDetails::Fusion { .. } => "fusion",
        TraceDetails::Rerank { .. } => "rerank",
        TraceDetails::Choose { .. } => "choose",
        TraceDetails::Leg { .. } => "leg",
        TraceDetails::LeftOut { .. } => "left out",
        TraceDetails::Expand { .. } => "expand",
        TraceDetails::Extract { .. } => "extract",
        TraceDetails::Compute { .. } => "compute",
        TraceDetails::Check { .. } => "check",
        TraceDetails::Condense { .. } => "condense",
        TraceDetails::Transform { .. } => "transform",
        TraceDetails::Prompt { .. } => "prompt",
        TraceDetails::Generate { .. } => "generate",
        _ => "step",
    }
}

/// Returns what a step did, in a line.
fn summary(record: &TraceRecord) -> String {
    let mut text = match &record.details {
        TraceDetails::Split { parts } => parts.join(" · "),
        TraceDetails::Digest { document, statements } => format!("{statements} statements of {document}"),
        TraceDetails::Search { query } => query.clone(),
        TraceDetails::Filter { filter, rows } => format!("{filter}: {rows} chunks left"),
        TraceDetails::Keyword { terms, missing, leg, .. } => {
            let missing = if missing.is_empty() { String::new() } else { format!("; nowhere: {}", missing.join(", ")) };
            format!("{}: {} found, weight {}{missing}", terms.join(", "), leg.found, leg.weight)
        }
        TraceDetails::Vector { encoder, leg } => format!("{encoder}: {} found, weight {}", leg.found, leg.weight),
        TraceDetails::Fusion { considered, passages } => format!("{considered} chunks, {} recorded", passages.len()),
        TraceDetails::Rerank { reranker, waited_ms, candidates } => {
            let moved = candidates.iter().enumerate().filter(|(at, one)| one.from != at + 1).count();
            let waited = waited_ms.map_or(String::new(), |waited| format!(", which took {waited:.0} ms"));
            format!("{reranker}{waited}: {moved} of the first {} moved", candidates.len())
        }
        TraceDetails::LeftOut { note } => note.clone(),
        TraceDetails::Leg { name, leg } => format!("{name}: {} candidates", leg.found),
        TraceDetails::Choose { later, left_out, passages } => {
            let later =
                if *later > 0 { format!("; {later} more of the same documents come last") } else { String::new() };
            let left_out = if *left_out > 0 {
                format!("; {left_out} repeat a better one and are left out")
            } else {
                String::new()
            };
            format!("{} passages{later}{left_out}", passages.len())
        }
        TraceDetails::Expand { merged, passages, .. } => {
            let merged = if *merged > 0 { format!("; {merged} became a part of another") } else { String::new() };
            format!("{passages} passages with what is around them{merged}")
        }
        TraceDetails::Extract { coverage, confidence, missing, picked, candidates, .. } => {
            let missing =
                if missing.is_empty() { String::new() } else { format!("; not covered: {}", missing.join(", ")) };
            format!(
                "{} of {} candidates cover {:.0} % of the question{missing}; {:.0} % sure",
                picked.len(),
                candidates.len(),
                coverage * 100.0,
                confidence * 100.0
            )
        }
        TraceDetails::Compute { operation, tables, result } => match result {
            Some(result) => format!("{operation} over {} tables: {result}", tables.len()),
            None => format!("{operation}: none of {} tables fits", tables.len()),
        },
        TraceDetails::Check { claims } => {
            let supported = claims.iter().filter(|claim| claim.verdict == Verdict::Supported).count();
            format!("{supported} of {} claims supported", claims.len())
        }
        TraceDetails::Condense { follow_up, question } => format!("{follow_up} → {question}"),
        TraceDetails::Transform { kind, queries } => format!("{kind}: {}", queries.join(" · ")),
        TraceDetails::Prompt { passages, shortened, left_out, prompt_tokens, .. } => format!(
            "{} passages, {prompt_tokens} tokens; {} shortened, {} left out",
            passages.len(),
            shortened.len(),
            left_out.len()
        ),
        TraceDetails::Generate { generator, cached, retries, .. } => {
            let cached = if *cached { ", from the cache" } else { "" };
            let retries = if *retries > 0 { format!(", asked again {retries} times") } else { String::new() };
            format!("{generator}{cached}{retries}")
        }
        _ => String::new(),
    };
    if !record.usage.is_zero() {
        text.push_str(&format!("; {} tokens read, {} written", record.usage.sent, record.usage.received));
    }
    if let StepOutcome::Failed(message) = &record.outcome {
        text = format!("failed: {message}");
    }
    escaped(&text)
}

/// Returns the passages with their ranks, and their texts with the words of the question marked.
fn found(answer: &Answer, passages: &[Passage]) -> String {
    let place_in = |ranking: Option<&LegScore>| {
        ranking
            .map_or_else(|| "–".to_owned(), |own| format!("{} <span class=\"faint\">{:.2}</span>", own.rank, own.score))
    };
    let rank = |passage: &Passage, leg: &str| place_in(passage.legs.get(leg));
    let cited = |passage: &Passage| {
        answer.sources.iter().any(|source| {
            source.location.document == passage.location.document
                && passage.location.span.overlaps(source.location.span)
        })
    };
    let one = |passage: &Passage| {
        format!(
            "<tr><td class=\"number\">{}</td><td class=\"number\">{:.2}</td><td class=\"number\">{}</td><td class=\"number\">{}</td>\
             <td class=\"number\">{}</td><td><details><summary>{}{}</summary><pre>{}</pre></details></td></tr>\n",
            passage.rank,
            passage.score,
            place_in(passage.fused.as_ref()),
            rank(passage, "keyword"),
            rank(passage, "vector"),
            place(&passage.location),
            if cited(passage) { " <span class=\"verdict supported\">cited</span>" } else { "" },
            matched(&passage.text, &answer.question)
        )
    };
    let rows: String = passages.iter().map(one).collect();
    let head = "<tr><th class=\"number\">Rank</th><th class=\"number\">Score</th><th class=\"number\">Fused</th>\
                <th class=\"number\">Keyword</th><th class=\"number\">Vector</th><th>Passage</th></tr>\n";
    let content = if rows.is_empty() { rows } else { format!("<table>\n{head}{rows}</table>\n") };
    section("Passages", &content)
}

/// Returns the messages as they were sent, and the replies as they came.
fn prompts(trace: &Trace) -> String {
    let mut sent = String::new();
    let mut replies = String::new();
    for record in &trace.records {
        match &record.details {
            TraceDetails::Prompt { messages, .. } => {
                for message in messages {
                    sent.push_str(&format!(
                        "<details class=\"sheet\"{}><summary>{}</summary><pre>{}</pre></details>\n",
                        if message.content.len() < 1_500 { " open" } else { "" },
                        message.author.name(),
                        escaped(&message.content)
                    ));
                }
            }
            TraceDetails::Generate { reply, broken, .. } => {
                let broken = broken.as_ref().map(|why| format!("<p class=\"unsupported\">{}</p>\n", escaped(why)));
                replies.push_str(&format!(
                    "<div class=\"sheet\"><pre>{}</pre>{}</div>\n",
                    escaped(reply),
                    broken.unwrap_or_default()
                ));
            }
            _ => {}
        }
    }
    section("Prompt as sent", &sent) + &section("Reply as written", &replies)
}
