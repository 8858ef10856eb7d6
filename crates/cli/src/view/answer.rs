//! Answers for people: the text, its sources, and what they do not bear out.

use logothete::TokenUsage;
use logothete::answer::{Answer, Claim, Status};
use logothete::verify::Verdict;

use super::{SetOff, Style, indented, quotation, shortened, width, wrap};

/// Returns the answer with its sources, or the refusal with what came nearest.
pub fn answer(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    for line in answer.answer.lines().flat_map(|line| wrap(line, width() - 4)) {
        out.push_str(&style.strong(&line));
        out.push('\n');
    }
    out + &sources(answer, style)
}

/// Returns the verdict on a claim that its sources do not bear out, with the reason.
pub fn verdict(claim: &Claim) -> String {
    let said = match (claim.verdict, claim.citations.is_empty()) {
        (_, true) => "No source is cited",
        (Verdict::Contradicted, _) => "Contradicted by its source",
        (Verdict::Partly, _) => "Only partly borne out by its source",
        _ => "Not borne out by its source",
    };
    match &claim.reason {
        Some(reason) => format!("{said}: {reason}."),
        None => format!("{said}."),
    }
}

/// Returns what follows an answer: how sure it is, its sources, what they do not bear out, what came nearest, and how it came about.
pub fn sources(answer: &Answer, style: Style) -> String {
    let mut out = String::new();
    if let Some(certainty) = answer.certainty() {
        for line in wrap(&certainty, width() - 4) {
            let line = if answer.status == Status::Answered { style.faint(&line) } else { style.warning(&line) };
            out.push_str(&format!("{line}\n"));
        }
    }
    for source in &answer.sources {
        out.push('\n');
        let marker = format!("[{}]", source.marker);
        let mut place = source.location.to_string();
        if let Some(date) = &source.location.date {
            place.push_str(&format!(" ({date})"));
        }
        out.push_str(&format!("{marker} {}\n", style.place(&place)));
        out.push_str(&quotation(
            &source.quotation,
            SetOff { matches: &source.matches, alike: &[] },
            marker.len() + 1,
            width(),
            style,
        ));
        for other in &source.more {
            out.push_str(&quotation(&other.quotation, SetOff::default(), marker.len() + 1, width(), style));
        }
        for other in &source.also {
            out.push_str(&format!("    {} {}\n", style.faint("also in"), style.place(&other.location.to_string())));
        }
    }
    for claim in answer.claims.iter().filter(|claim| !claim.verdict.is_borne_out()) {
        if !claim.is_judged() {
            continue;
        }
        out.push_str(&format!("\n{}\n", style.warning(indented(&verdict(claim), 0).trim_end())));
        out.push_str(&indented(&claim.text, 2));
    }
    for passage in &answer.nearest {
        out.push_str(&format!("\n  {}\n", style.place(&passage.location.to_string())));
        out.push_str(&indented(&shortened(passage.body(), 2 * width()), 4));
    }
    if let Some(note) = &answer.note {
        out.push_str(&format!("\n{}", style.warning(&indented(note, 0))));
    }
    if let Some(generator) = &answer.generator {
        let TokenUsage { sent, received } = answer.tokens;
        let line = format!("Written by {generator}; {sent} tokens read, {received} written");
        out.push_str(&format!("\n{}\n", style.faint(&line)));
    }
    out
}
