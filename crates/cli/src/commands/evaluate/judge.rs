//! A sheet to read and judge: each question with what was found for it, and a key for each judgement.

use std::io::{BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};

use console::Term;
use logothete::document::Value as Field;
use logothete::eval::{Relevant, SetQuestion, read_queries, write_questions};
use logothete::search::Passage;
use logothete::{Corpus, Error, ErrorKind, Reply, Result, SearchRequest};
use serde_json::json;

use super::sets::at_line;
use super::{text_of, write};
use crate::view::{Style, answer, indented, shortened, visible, width};
use crate::{DONE, Output};

/// The number of passages that are judged for a question.
const MAX_PASSAGES: usize = 5;

/// What somebody said of a question or a passage.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Judgement {
    Keep,
    Wrong,
    Unsure,
    /// No document answers the question.
    NoAnswer,
    Quit,
}

/// Where judgements come from.
enum Keys {
    /// Single keys of a terminal.
    Terminal(Term),
    /// Lines of a pipe or a file.
    Lines(std::io::StdinLock<'static>),
}

impl Keys {
    fn new() -> Self {
        if std::io::stdin().is_terminal() {
            Self::Terminal(Term::stderr())
        } else {
            Self::Lines(std::io::stdin().lock())
        }
    }

    /// Returns `true` if there is no input. Then nobody judges, and the sheet is for reading.
    fn is_empty(&mut self) -> bool {
        match self {
            Self::Terminal(_) => false,
            Self::Lines(lines) => lines.fill_buf().map_or(true, <[u8]>::is_empty),
        }
    }

    /// Returns the next judgement; the end of the input quits.
    fn next(&mut self, may_refuse: bool) -> Judgement {
        loop {
            let key = match self {
                Self::Terminal(terminal) => terminal.read_char().ok(),
                Self::Lines(lines) => {
                    let mut line = String::new();
                    match lines.read_line(&mut line) {
                        Ok(0) | Err(_) => None,
                        Ok(_) => Some(line.trim().chars().next().unwrap_or(' ')),
                    }
                }
            };
            match key.map(|key| key.to_ascii_lowercase()) {
                Some('k') => return Judgement::Keep,
                Some('w') => return Judgement::Wrong,
                Some('u') => return Judgement::Unsure,
                Some('n') if may_refuse => return Judgement::NoAnswer,
                Some('q' | '\u{1b}' | '\u{3}') | None => return Judgement::Quit,
                Some(_) => {}
            }
        }
    }
}

/// How many questions were judged in which way.
#[derive(Default)]
struct Tally {
    kept: usize,
    refused: usize,
    removed: usize,
    left: usize,
}

/// Lets somebody judge the questions of a file. Each judgement is written before the next question is shown.
pub async fn run(corpus: &Corpus, files: &[PathBuf]) -> Result<Output> {
    let [file] = files else {
        let message = "one file is judged at a time; name one";
        return Err(Error::new(ErrorKind::InvalidRequest, message).at("--queries"));
    };
    let mut questions = read_queries(&text_of(file, "the questions")?).map_err(|error| at_line(file, &error))?;
    if questions.is_empty() {
        return Err(Error::new(ErrorKind::Unreadable, "there is no question in this file").at(file.display()));
    }
    let target = target(file)?;
    let mut keys = Keys::new();
    let mut tally = Tally::default();
    let open: Vec<String> =
        questions.iter().filter(|one| !one.is_judged() || one.is_draft()).map(|one| one.id.clone()).collect();
    let (style, mut sheet) = (Style::of_stderr(), String::new());
    let is_for_reading = keys.is_empty();
    for (number, id) in open.iter().enumerate() {
        let Some(at) = questions.iter().position(|question| question.id == *id) else { continue };
        let request = SearchRequest::new(questions[at].searched()).plain();
        let asked = |error: Error| error.at(format!("question {id}"));
        let mut reply = corpus.ask(request.clone()).await.map_err(asked)?;
        reply.passages = corpus.search(request).await.map_err(asked)?.passages;
        let heading = format!(
            "\n{} {}\n",
            style.faint(&format!("{} of {} ", number + 1, open.len())),
            style.strong(&questions[at].question)
        );
        if is_for_reading {
            sheet.push_str(&whole(&heading, &questions[at], &reply, style));
            continue;
        }
        let judged = if questions[at].is_judged() {
            judge_draft(&heading, &questions[at], &reply, &mut keys, style)
        } else {
            judge_passages(corpus, &heading, &questions[at], &reply, &mut keys, style).await?
        };
        match judged {
            Judged::Changed(question) => {
                match question.refuse {
                    true => tally.refused += 1,
                    false => tally.kept += 1,
                }
                questions[at] = *question;
            }
            Judged::Removed => {
                tally.removed += 1;
                questions.remove(at);
            }
            Judged::Left => {
                tally.left += 1;
                continue;
            }
            Judged::Quit => break,
        }
        write(&target, write_questions(&questions).as_bytes())?;
    }
    let left = questions.iter().filter(|question| !question.is_judged() || question.is_draft()).count();
    let json = json!({
        "questions": questions, "kept": tally.kept, "refused": tally.refused, "removed": tally.removed, "left": left,
    });
    if is_for_reading && !sheet.is_empty() {
        return Ok(Output { text: sheet.trim_start().to_owned(), json, code: DONE });
    }
    let mut text = format!(
        "{} kept, {} without an answer in the documents, {} removed, {} still to judge; in {}\n",
        tally.kept,
        tally.refused,
        tally.removed,
        left,
        target.display()
    );
    if left == 0 {
        text.push_str(&format!("Measure with: logothete evaluate {}\n", target.display()));
    }
    Ok(Output { text, json, code: DONE })
}

/// Returns the file that judgements are written to: the file itself if it is a question set, else one beside it.
fn target(file: &Path) -> Result<PathBuf> {
    if file.extension().is_some_and(|end| end == "jsonl") {
        return Ok(file.to_path_buf());
    }
    let target = file.with_extension("jsonl");
    if target.exists() {
        let message = format!("{} exists already; judge that one, or remove it", target.display());
        return Err(Error::new(ErrorKind::InvalidRequest, message).at(file.display()));
    }
    Ok(target)
}

/// What came of a question.
enum Judged {
    Changed(Box<SetQuestion>),
    Removed,
    Left,
    Quit,
}

/// Lets somebody judge a draft: is it a good question with the right place?
fn judge_draft(heading: &str, question: &SetQuestion, reply: &Reply, keys: &mut Keys, style: Style) -> Judged {
    tell(&format!("{heading}{}{}", source(question, style), found(reply, style)));
    tell(&style.faint("  A good question?  k keep · w wrong, remove it · u unsure, later · q quit\n"));
    match keys.next(false) {
        Judgement::Keep => {
            let mut question = question.clone();
            question.other.shift_remove("draft");
            Judged::Changed(Box::new(question))
        }
        Judgement::Wrong => Judged::Removed,
        Judgement::Unsure | Judgement::NoAnswer => Judged::Left,
        Judgement::Quit => Judged::Quit,
    }
}

/// Lets somebody judge the passages of a question, until one is kept.
async fn judge_passages(
    corpus: &Corpus,
    heading: &str,
    question: &SetQuestion,
    reply: &Reply,
    keys: &mut Keys,
    style: Style,
) -> Result<Judged> {
    tell(&format!("{heading}\n{}\n", answered(reply, style)));
    for (at, passage) in reply.passages.iter().take(MAX_PASSAGES).enumerate() {
        tell(&one_passage(at, passage, style));
        tell(&style.faint("     Does it answer?  k keep · w wrong · u unsure · n no document does · q quit\n"));
        let mut judged = question.clone();
        match keys.next(true) {
            Judgement::Keep => {
                judged.relevant = vec![place(corpus, passage).await?];
                return Ok(Judged::Changed(Box::new(judged)));
            }
            Judgement::NoAnswer => {
                judged.refuse = true;
                return Ok(Judged::Changed(Box::new(judged)));
            }
            Judgement::Wrong | Judgement::Unsure => {}
            Judgement::Quit => return Ok(Judged::Quit),
        }
    }
    Ok(Judged::Left)
}

/// Returns the place of a passage, with the hash of its document, by which an evaluation can tell that the document has changed.
async fn place(corpus: &Corpus, passage: &Passage) -> Result<Relevant> {
    let location = passage.location_with_headings();
    let hash = match corpus.metadata(&location.document).await?.get("content_hash") {
        Some(Field::Text(hash)) => Some(hash.chars().take(16).collect()),
        _ => None,
    };
    let words: Vec<&str> = passage.body().split_whitespace().take(6).collect();
    let section = location.section.last().cloned();
    // Without a heading and a page, only its words tell the place.
    let contains = (section.is_none() && location.pages.is_none()).then(|| words.join(" "));
    Ok(Relevant {
        document: location.document,
        section,
        page: location.pages.map(|pages| pages.first),
        contains,
        grade: 1,
        content_hash: hash,
    })
}

/// Returns a question with all that was found for it, for reading.
fn whole(heading: &str, question: &SetQuestion, reply: &Reply, style: Style) -> String {
    format!("{heading}{}{}", source(question, style), found(reply, style))
}

/// Returns where a draft is from.
fn source(question: &SetQuestion, style: Style) -> String {
    let mut text: String =
        question.relevant.iter().map(|place| indented(&style.place(&place.to_string()), 2)).collect();
    if let Some(source) = question.other.get("source").and_then(|source| source.as_str()) {
        text.push_str(&indented(&shortened(source, 3 * width()), 2));
    }
    if let Some(expected) = &question.answer {
        text.push_str(&indented(&format!("an answer that says “{expected}”"), 2));
    }
    if question.refuse {
        text.push_str(&indented("no document should answer this", 2));
    }
    text
}

/// Returns the answer and the first passages.
fn found(reply: &Reply, style: Style) -> String {
    let passages: String =
        reply.passages.iter().take(MAX_PASSAGES).enumerate().map(|(at, one)| one_passage(at, one, style)).collect();
    format!("\n{}\n{}\n{passages}", answered(reply, style), style.faint("Passages"))
}

/// Returns the answer; of a refusal one line, since the passages follow.
fn answered(reply: &Reply, style: Style) -> String {
    match reply.answer.is_refusal() {
        true => format!("{}\n", style.strong("Refused: the corpus holds no clear answer to this.")),
        false => answer(&reply.answer, style),
    }
}

fn one_passage(at: usize, passage: &Passage, style: Style) -> String {
    let place = style.place(&passage.location.to_string());
    format!("{:>3}  {place}\n{}", at + 1, indented(&shortened(passage.body(), 2 * width()), 5))
}

/// Shows a part of the sheet to whoever judges.
fn tell(text: &str) {
    let mut terminal = std::io::stderr().lock();
    // If the terminal is closed, nobody reads it.
    let _ = terminal.write_all(visible(text, Style::of_stderr().is_on()).as_bytes());
}
