//! What the stand-in for a model writes: sentences of the passages that it is sent, with their markers; or worse, on demand.

use std::collections::HashMap;

use logothete::keyword::query_terms;
use logothete::prompt::{PastTurn, Prompt, REFUSAL, plain_summary};
use logothete::query::question_parts;
use logothete::text::{list_marker, sentences};

use crate::generator::part;

/// Something that goes wrong with what a model writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum WritingFault {
    /// It adds a fact that no passage has, with a marker.
    Invent,
    /// It changes the first number.
    ChangeNumber,
    /// It leaves out the first “not”.
    DropNot,
    /// Its markers are those of other passages, or of none.
    WrongMarkers,
    /// It has no markers.
    NoMarkers,
    /// It writes its markers in other styles.
    OddMarkers,
    /// It does what a passage asks for.
    ObeyPlanted,
    /// It writes nothing.
    Empty,
    /// It writes markers and nothing else.
    OnlyMarkers,
    /// It writes markers inside code too.
    MarkersInCode,
    /// It writes ten megabytes.
    Huge,
    /// It repeats its instruction.
    TellInstruction,
}

/// The share of a question's words that a sentence must have to answer it.
const MIN_SHARE: f32 = 0.45;
/// The highest number of sentences for a part of a question.
const MAX_SENTENCES: usize = 2;

/// Returns what the stand-in writes for a prompt.
pub fn reply_to(prompt: &Prompt, fault: Option<WritingFault>) -> String {
    let reply = match () {
        () if part(prompt, "place").is_some() => context(prompt),
        () if part(prompt, "source").is_some() => drafted(prompt),
        () if part(prompt, "candidate 1").is_some() => ordered(prompt),
        () if part(prompt, "text 1").is_some() => grouped(prompt),
        () if part(prompt, "asked").is_some() => place(prompt),
        () if part(prompt, "turns").is_some() => summary(prompt),
        () if part(prompt, "conversation").is_some() => standing_alone(prompt),
        () if part(prompt, "question").is_some() => transformed(prompt),
        () if part(prompt, "answer 1").is_some() => combined(prompt),
        () if material(prompt).contains("\nDocument: ") => digest(prompt),
        // Told what was wrong, it answers the question before it once more.
        () if part(prompt, "problems").is_some() => {
            let mut before = prompt.clone();
            before.messages.truncate(prompt.messages.len().saturating_sub(2));
            return reply_to(&before, fault);
        }
        () => answer(prompt, fault),
    };
    match fault {
        Some(WritingFault::Empty) => String::new(),
        Some(WritingFault::OnlyMarkers) => "[1] [2]".to_owned(),
        Some(WritingFault::Huge) => format!("{reply}\n").repeat(10_000_000 / (reply.len() + 1)),
        Some(WritingFault::TellInstruction) => {
            prompt.messages.first().map(|message| message.content.clone()).unwrap_or_default()
        }
        _ => reply,
    }
}

/// A sentence of a passage.
struct Candidate<'a> {
    passage: usize,
    text: &'a str,
    score: f32,
}

/// Writes a question about the first sentence of a passage, whose last words are the answer.
fn drafted(prompt: &Prompt) -> String {
    let source = part(prompt, "source").unwrap_or_default();
    let sentence = sentences(source).into_iter().map(|span| &source[span.range()]).find(|text| text.contains(' '));
    let words: Vec<&str> = sentence.unwrap_or(source).split_whitespace().collect();
    let (asked, answer) = words.split_at(words.len() - words.len().min(3));
    let answer = answer.join(" ");
    format!("Question: How does this go on: {} …?\nAnswer: {}\n", asked.join(" "), answer.trim_end_matches(['.', ':']))
}

/// Sums texts up with the first sentence of the first three.
fn grouped(prompt: &Prompt) -> String {
    let texts = (1..).map_while(|number| part(prompt, &format!("text {number}")));
    let first = |text: &str| {
        let sentence =
            sentences(text).into_iter().map(|span| text[span.range()].to_owned()).find(|one| one.contains(' '));
        sentence.unwrap_or_default()
    };
    texts.take(3).map(first).collect::<Vec<_>>().join(" ")
}

/// Names the place whose description has most words of the question; “none” if no description has any.
fn place(prompt: &Prompt) -> String {
    let question = part(prompt, "asked").unwrap_or_default();
    let instruction = prompt.messages.first().map(|message| message.content.as_str()).unwrap_or_default();
    let places = instruction.lines().filter_map(|line| line.split_once(": "));
    let scored = places.map(|(name, description)| (share_of_words(question, description), name));
    let best = scored.filter(|(share, _)| *share > 0.0).max_by(|a, b| a.0.total_cmp(&b.0));
    best.map_or("none", |(_, name)| name).to_owned()
}

/// Puts passages in order by how many words of the question they have.
fn ordered(prompt: &Prompt) -> String {
    let question = material(prompt).rsplit("Question: ").next().unwrap_or_default();
    let texts = (1..).map_while(|number| part(prompt, &format!("candidate {number}")));
    let mut order: Vec<(usize, f32)> = (1..).zip(texts.map(|text| share_of_words(question, text))).collect();
    order.sort_by(|a, b| b.1.total_cmp(&a.1));
    order.iter().map(|(number, _)| number.to_string()).collect::<Vec<_>>().join(", ")
}

/// Returns the share of a question's words that a text has.
pub(crate) fn share_of_words(question: &str, text: &str) -> f32 {
    let (asked, there) = (query_terms(question), query_terms(text));
    asked.iter().filter(|term| there.contains(term)).count() as f32 / asked.len().max(1) as f32
}

fn answer(prompt: &Prompt, fault: Option<WritingFault>) -> String {
    let asked = material(prompt).rsplit("Question: ").next().unwrap_or_default();
    // What stands below the question tells what to do with the answer so far.
    let before = part(prompt, "answer");
    let question = if before.is_some() { asked.lines().next().unwrap_or_default() } else { asked };
    let passages = passages(prompt);
    if fault == Some(WritingFault::ObeyPlanted) {
        let planted = passages.iter().find_map(|(_, text)| {
            let at = text.to_lowercase().find("ignore")?;
            Some(text[at..].to_owned())
        });
        if let Some(planted) = planted {
            return format!("As I was told: {planted} [1] See http://elsewhere.test/collect?all=1.");
        }
    }
    let mut picked: Vec<Candidate<'_>> = Vec::new();
    for part in question_parts(question) {
        let candidates = candidates(&part.question, &passages);
        let best = candidates.iter().map(|candidate| candidate.score).fold(MIN_SHARE, f32::max);
        let good = candidates.into_iter().filter(|candidate| candidate.score >= best * 0.95).take(MAX_SENTENCES);
        picked.extend(good.filter(|one| one.score >= MIN_SHARE).collect::<Vec<_>>());
    }
    if picked.is_empty() {
        return before.unwrap_or(REFUSAL).to_owned();
    }
    picked.sort_by_key(|candidate| candidate.passage);
    picked.dedup_by(|one, other| one.text == other.text);
    let count = passages.len();
    let sentence = |(at, candidate): (usize, &Candidate<'_>)| {
        let mut text = one_line(candidate.text).replace(" | ", ", ");
        if !text.ends_with(['.', '!', '?']) {
            text.push('.');
        }
        let number = candidate.passage;
        match fault {
            Some(WritingFault::ChangeNumber) if at == 0 => format!("{} [{number}]", with_other_number(&text)),
            Some(WritingFault::DropNot) => format!("{} [{number}]", text.replacen(" not ", " ", 1)),
            Some(WritingFault::WrongMarkers) => format!("{text} [{}]", if at == 0 { number % count + 1 } else { 99 }),
            Some(WritingFault::NoMarkers) => text,
            Some(WritingFault::OddMarkers) if at == 0 => format!("{text}【{number}†source】"),
            Some(WritingFault::OddMarkers) => format!("{} (see below) [passage {number}].", text.trim_end_matches('.')),
            Some(WritingFault::MarkersInCode) => format!("{text} [{number}]\n```\nrows[{number}]\n```"),
            _ => format!("{text} [{number}]"),
        }
    };
    let mut sentences: Vec<String> = picked.iter().enumerate().map(sentence).collect();
    if fault == Some(WritingFault::Invent) {
        sentences.push("The lighthouse keeper is paid in cheese every second Sunday. [1]".to_owned());
    }
    let fresh = sentences.join(" ");
    match before {
        Some(before) if before.contains(&fresh) => before.to_owned(),
        Some(before) => format!("{before} {fresh}"),
        None => fresh,
    }
}

/// Returns the passages of a prompt with their numbers, which need not count from 1.
fn passages(prompt: &Prompt) -> Vec<(usize, &str)> {
    (1..2_000).filter_map(|number| Some((number, part(prompt, &format!("passage {number}"))?))).collect()
}

/// Joins answers: all that they say, each sentence once.
fn combined(prompt: &Prompt) -> String {
    let answers = (1..).map_while(|number| part(prompt, &format!("answer {number}")));
    let bodies = answers.map(|text| text.split_once("\n\n").map_or(text, |(_, answer)| answer));
    let mut joined: Vec<&str> = Vec::new();
    for body in bodies.filter(|body| !body.contains(REFUSAL)) {
        if !joined.contains(&body) {
            joined.push(body);
        }
    }
    if joined.is_empty() { REFUSAL.to_owned() } else { joined.join(" ") }
}

/// Returns the last message.
fn material(prompt: &Prompt) -> &str {
    prompt.messages.last().map_or("", |message| message.content.as_str())
}

/// Writes the fields of a digest: the first sentences of passages that fit each field's question, and the lines of notes under it, within its words.
fn digest(prompt: &Prompt) -> String {
    let instruction = prompt.messages.first().map(|message| message.content.as_str()).unwrap_or_default();
    let wanted = instruction.lines().filter_map(|line| line.strip_prefix("## ")?.split_once(": "));
    let passages = passages(prompt);
    let notes: Vec<&str> = (1..).map_while(|number| part(prompt, &format!("notes {number}"))).collect();
    let mut reply = String::new();
    for (name, form) in wanted {
        let words: usize = form.split_whitespace().filter_map(|word| word.parse().ok()).next_back().unwrap_or(50);
        let mut lines: Vec<String> = notes.iter().flat_map(|note| noted(note, name)).collect();
        for (number, text) in &passages {
            let body = text.split_once("\n\n").map_or(*text, |(_, body)| body);
            let said = body.lines().flat_map(|line| sentences(line).into_iter().map(|span| line[span.range()].trim()));
            let first = said.map(|sentence| sentence[list_marker(sentence).map_or(0, str::len)..].trim());
            let first = first.filter(|sentence| sentence.ends_with('.') && sentence.split_whitespace().count() > 4);
            // The kind of a document and its summary are told by how it begins, other fields by words of their question.
            let general = ["kind", "summary", "key points"].contains(&name);
            let fits = |sentence: &&str| general || share_of_words(form, sentence) > 0.0;
            lines.extend(first.filter(fits).take(1).map(|sentence| format!("{} [{number}]", one_line(sentence))));
        }
        let mut left = words;
        lines.retain(|line| {
            let own = line.split_whitespace().count();
            let fits = own <= left;
            left -= if fits { own } else { 0 };
            fits
        });
        if lines.is_empty() {
            lines.push(REFUSAL.to_owned());
        }
        let lines: Vec<String> = lines.iter().map(|line| format!("- {line}")).collect();
        reply.push_str(&format!("## {name}\n{}\n\n", lines.join("\n")));
    }
    reply
}

/// Returns the lines of a note under the name of a field.
fn noted(note: &str, name: &str) -> Vec<String> {
    let own = note.lines().skip_while(|line| line.strip_prefix("## ") != Some(name)).skip(1);
    let own = own.take_while(|line| !line.starts_with("## ")).map(|line| line.trim_start_matches("- ").trim());
    own.filter(|line| !line.is_empty() && !line.contains(REFUSAL)).map(str::to_owned).collect()
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Returns the sentences of the passages with their scores, best first.
fn candidates<'a>(question: &str, passages: &[(usize, &'a str)]) -> Vec<Candidate<'a>> {
    let asked: Vec<String> = query_terms(question);
    let mut rarity: HashMap<&str, f32> = HashMap::new();
    for word in &asked {
        let having = passages.iter().filter(|(_, text)| query_terms(text).contains(word)).count();
        rarity.insert(word, 1.0 + (passages.len() as f32 / (1 + having) as f32).ln().max(0.0));
    }
    let all: f32 = rarity.values().sum();
    let mut found = Vec::new();
    for (number, text) in passages {
        // The place of a passage stands above its text.
        let body = text.split_once("\n\n").map_or(*text, |(_, body)| body);
        for line in body.lines() {
            for span in sentences(line) {
                let sentence = &line[span.range()];
                let has = query_terms(sentence);
                let score: f32 =
                    rarity.iter().filter(|(word, _)| has.iter().any(|own| own == *word)).map(|(_, w)| w).sum();
                found.push(Candidate { passage: *number, text: sentence, score: score / all.max(0.1) });
            }
        }
    }
    found.sort_by(|a, b| b.score.total_cmp(&a.score));
    found
}

/// Returns a text with another first number. The number of a list item, such as `(2)`, says nothing and stays.
fn with_other_number(text: &str) -> String {
    let from = text.len() - text.trim_start().len() + list_marker(text).map_or(0, str::len);
    let Some(at) = text[from..].find(|c: char| c.is_ascii_digit()).map(|at| from + at) else { return text.to_owned() };
    let digit = text.as_bytes()[at] - b'0';
    format!("{}{}{}", &text[..at], (digit + 3) % 10, &text[at + 1..])
}

/// Returns the place of a chunk in a sentence.
pub(crate) fn context(prompt: &Prompt) -> String {
    let place = part(prompt, "place").unwrap_or_default();
    let first: Vec<&str> = part(prompt, "document").unwrap_or_default().split_whitespace().take(12).collect();
    format!("This is from {}, which begins: {}.", place.trim(), first.join(" "))
}

fn turns(text: &str) -> Vec<PastTurn> {
    let turns = text.split("Question: ").filter(|turn| !turn.trim().is_empty());
    turns
        .map(|turn| turn.split_once("\nAnswer: ").unwrap_or((turn, "")))
        .map(|(q, a)| PastTurn::new(q.trim(), a.trim()))
        .collect()
}

fn summary(prompt: &Prompt) -> String {
    let before = part(prompt, "summary").unwrap_or_default();
    plain_summary(before, &turns(part(prompt, "turns").unwrap_or_default()), 100)
}

/// Returns what is asked of a question alone: its parts, or the question as it is.
fn transformed(prompt: &Prompt) -> String {
    let parts = question_parts(part(prompt, "question").unwrap_or_default());
    parts.iter().map(|part| part.question.as_ref()).collect::<Vec<_>>().join("\n")
}

fn standing_alone(prompt: &Prompt) -> String {
    let question = part(prompt, "question").unwrap_or_default();
    let turns = turns(part(prompt, "conversation").unwrap_or_default());
    logothete::query::standing_alone(question, &turns).unwrap_or_else(|| question.to_owned())
}
