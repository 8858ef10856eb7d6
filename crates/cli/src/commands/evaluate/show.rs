//! One question whole: what was wanted, what was found, the answer, and why it is right or wrong.

use logothete::eval::{Outcome, QuestionScore, SetQuestion, score_question};
use logothete::suggest::closest;
use logothete::{Corpus, Error, ErrorKind, Reply, Result, SearchRequest};
use serde_json::json;

use super::sets::Set;
use crate::view::{Style, answer, indented, rank, shortened, width};
use crate::{DONE, Output};

/// Prints one question whole.
pub async fn run(corpus: &Corpus, sets: &[Set], id: &str, style: Style) -> Result<Output> {
    let mut all = sets.iter().flat_map(|set| &set.questions);
    let Some(question) = all.clone().find(|question| question.id == id) else {
        let near = closest(id, all.by_ref().map(|question| question.id.clone()));
        let near = near.map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        let message = format!("no question of the set has the id {id:?}{near}");
        return Err(Error::new(ErrorKind::NotFound, message).at("--show"));
    };
    let request = SearchRequest::new(question.searched()).plain().traced();
    let found = corpus.search(request.clone()).await?;
    let reply = corpus.ask(request).await?;
    let score = score_question(question, &found.passages, &reply.answer, &reply.trace);

    let mut text = format!("{}\n", style.strong(&question.question));
    if score.question != question.question {
        text.push_str(&style.faint(&indented(&format!("searched: {}", score.question), 0)));
    }
    text.push_str(&format!("\n{}\n", style.faint("Wanted")));
    for place in &question.relevant {
        text.push_str(&indented(&place.to_string(), 2));
    }
    if question.refuse {
        text.push_str("  a refusal\n");
    }
    if let Some(wanted) = &question.answer {
        text.push_str(&indented(&format!("an answer that says “{wanted}”"), 2));
    }
    text.push_str(&format!("\n{}\n", style.faint("Found")));
    for (at, passage) in found.passages.iter().enumerate() {
        let is_right = score.first_rank == Some(at + 1);
        let mark = if is_right { format!(" {}", style.strong("right")) } else { String::new() };
        text.push_str(&format!("{:>3}  {}{mark}\n", at + 1, style.place(&passage.location.to_string())));
        text.push_str(&indented(&shortened(passage.body(), width().saturating_sub(6)), 5));
    }
    text.push_str(&format!("\n{}\n{}", style.faint("Answer"), answer(&reply.answer, style)));
    text.push_str(&format!("\n{} {}\n", style.faint("Outcome"), why(question, &score, &reply)));
    let json = json!({ "question": question, "score": score, "passages": found.passages, "reply": reply });
    Ok(Output { text, json, code: DONE })
}

/// Says why an answer was right or wrong.
fn why(question: &SetQuestion, score: &QuestionScore, reply: &Reply) -> String {
    let found = match score.first_rank {
        Some(at) => format!("the first right passage is {}", rank(Some(at))),
        None => "no right passage was found".to_owned(),
    };
    let reason = match score.outcome() {
        Outcome::RefusedRight => "the corpus has no answer, and none was given".to_owned(),
        Outcome::AnsweredWrong => "the corpus has no answer, and one was given".to_owned(),
        Outcome::RefusedWrong => format!("{found}, and no answer was given"),
        Outcome::CitedNotSaid => {
            format!("{found} and was cited, but the answer does not say “{}”", question.answer.as_deref().unwrap_or(""))
        }
        Outcome::CitedNotFirst => format!("{found}; a right place is cited, but not first"),
        Outcome::CitedRight => format!("{found}, and the answer cites it"),
        _ if reply.answer.sources.len() == 1 => format!("{found}, and the only source is not in a right place"),
        _ => format!("{found}; none of the {} sources is in a right place", reply.answer.sources.len()),
    };
    format!("{}: {reason}", score.outcome().name())
}
