//! Measures of evaluations, as tables.

use logothete::eval::{Comparison, Difference, Group, Interval, QuestionScore, Run};

use super::{Align, Style, count, duration, indented, table};

/// A measure, and what it means.
pub type Measure = (&'static str, &'static str);

/// The measures of a search, in the order of the table.
const SEARCH: &[Measure] = &[
    ("hit@1", "questions whose first passage is a right one"),
    ("hit@3", "with a right one among the first 3"),
    ("hit@10", "among the first 10"),
    ("recall@1", "relevant places in the first passage"),
    ("recall@5", "in the first 5"),
    ("recall@10", "in the first 10"),
    ("precision@1", "the first passage being a right one"),
    ("precision@5", "right ones of the first 5"),
    ("mrr", "one over the rank of the first right passage"),
    ("map", "average precision"),
    ("ndcg@10", "gain of the ranking, 1 is the best there is"),
];
/// The measures of answers.
const ANSWERS: &[Measure] = &[
    ("first_cited", "answerable questions whose first citation is in a right place"),
    ("cited", "with any citation in a right place"),
    ("said", "answers that say what was expected"),
    ("f1", "words shared with the expected answer"),
    ("supported", "claims that their sources support"),
    ("repeats", "answers that only repeat the question"),
    ("wrongly_refused", "answerable questions that were refused"),
    ("refused", "unanswerable questions that were refused"),
    ("refused_near", "of these, the near misses"),
    ("refused_far", "of these, the far ones"),
    ("refusals_right", "refusals that were right"),
];
/// What a question costs.
const COST: &[Measure] =
    &[("tokens", "read and written by a model, a question"), ("money", "what they cost, a question")];
/// The measures of the tables with a row for each set, group or pipeline.
const SHORT: [&str; 6] = ["hit@3", "ndcg@10", "first_cited", "said", "wrongly_refused", "refused"];
/// The stages in the order in which they run.
const STAGES: [&str; 13] = [
    "ask",
    "condense",
    "transform",
    "split",
    "search",
    "filter",
    "keyword",
    "vector",
    "fusion",
    "extract",
    "prompt",
    "generate",
    "check",
];
/// How many changed questions are listed.
const MAX_CHANGED: usize = 10;

/// Returns the names of all measures.
pub fn measure_names() -> impl Iterator<Item = &'static str> {
    [SEARCH, ANSWERS, COST].into_iter().flatten().map(|(name, _)| *name)
}

/// Returns the measures of a run, with their intervals, and its groups.
pub fn measures(run: &Run, style: Style) -> String {
    let mut out = heading(run, style);
    for (title, list) in [("Search", SEARCH), ("Answers", ANSWERS), ("Cost", COST)] {
        let mut rows = vec![[title, "Value", "95 %", "What it is"].map(String::from).to_vec()];
        for (name, meaning) in list {
            // A search without a model costs no tokens.
            let value = run.metrics.get(*name).filter(|value| title != "Cost" || **value > 0.0);
            if let Some(value) = value {
                let interval = run.intervals.get(*name).map_or_else(String::new, interval);
                rows.push(vec![(*name).to_owned(), number(*value), interval, (*meaning).to_owned()]);
            }
        }
        if rows.len() > 1 {
            out.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Left, Align::Left], 0, style));
            out.push('\n');
        }
    }
    out.push_str(&stages(run, style));
    if !run.absent.is_empty() {
        let names: String = run.absent.iter().map(|name| indented(name, 2)).collect();
        let title = style.warning("The questions name documents that the corpus does not have");
        out.push_str(&format!("{title}\n{names}\n"));
    }
    let notes: Vec<&String> = run.per_question.iter().filter_map(|score| score.note.as_ref()).collect();
    if let Some(first) = notes.first() {
        let answers = count(notes.len() as u64, "answer has", "answers have");
        let line = format!("{answers} a note; the first: {first}");
        out.push_str(&format!("{}\n", style.warning(&indented(&line, 0))));
    }
    for (by, title) in [("kind", "Kind of question"), ("document_type", "Type of document")] {
        let groups: Vec<&Group> = run.groups.iter().filter(|group| group.by == by).collect();
        if !groups.is_empty() {
            let rows = groups.iter().map(|group| (group.value.as_str(), group.questions, &group.metrics));
            out.push_str(&side_by_side_of(title, rows, style));
            out.push('\n');
        }
    }
    out
}

/// Returns several runs, a row each.
pub fn runs(title: &str, runs: &[&Run], style: Style) -> String {
    side_by_side_of(title, runs.iter().map(|run| (run.name.as_str(), run.questions, &run.metrics)), style)
}

fn heading(run: &Run, style: Style) -> String {
    let unanswerable = run.per_question.iter().filter(|score| score.refuse).count();
    let all = count(run.questions as u64, "question", "questions");
    format!("{}  {all}, {unanswerable} of them without an answer in the corpus\n\n", style.strong(&run.name))
}

fn stages(run: &Run, style: Style) -> String {
    let mut rows = vec![["Time", "Median", "95 % below"].map(String::from).to_vec()];
    for stage in STAGES {
        if let Some(time) = run.stages.get(stage) {
            rows.push(vec![stage.to_owned(), duration(time.median_ms), duration(time.p95_ms)]);
        }
    }
    if rows.len() == 1 {
        return String::new();
    }
    table(&rows, &[Align::Left, Align::Right, Align::Right], 0, style) + "\n"
}

fn side_by_side_of<'a>(
    title: &str,
    rows: impl Iterator<Item = (&'a str, usize, &'a logothete::eval::Metrics)>,
    style: Style,
) -> String {
    let head = [title, "Questions"].into_iter().chain(SHORT).map(String::from).collect();
    let mut lines: Vec<Vec<String>> = vec![head];
    for (name, questions, metrics) in rows {
        let values = SHORT.iter().map(|measure| metrics.get(*measure).map_or_else(|| "–".to_owned(), |v| number(*v)));
        lines.push([name.to_owned(), questions.to_string()].into_iter().chain(values).collect());
    }
    let align: Vec<Align> = (0..lines[0].len()).map(|at| if at == 0 { Align::Left } else { Align::Right }).collect();
    table(&lines, &align, 0, style)
}

/// Returns each question with its rank and outcome.
pub fn questions(run: &Run, style: Style) -> String {
    let mut rows = vec![["Id", "Passage", "Outcome", "Question"].map(String::from).to_vec()];
    for score in &run.per_question {
        rows.push(vec![score.id.clone(), rank(score.first_rank), outcome(score).to_owned(), score.question.clone()]);
    }
    table(&rows, &[Align::Left, Align::Right, Align::Left, Align::Left], 0, style)
}

/// Returns what became of a question.
pub fn outcome(score: &QuestionScore) -> &'static str {
    let first = score.metrics.get("first_cited").is_some_and(|value| *value > 0.0);
    match (score.refuse, score.refused, score.cited) {
        (true, true, _) => "refused, right",
        (true, false, _) => "answered, wrong",
        (false, true, _) => "refused, wrong",
        (false, false, Some(true)) if score.said == Some(false) => "cited, not said",
        (false, false, Some(true)) if !first => "cited, not first",
        (false, false, Some(true)) => "cited, right",
        (false, false, _) => "cited, wrong",
    }
}

/// Returns the differences of a pipeline from the one that it is compared with, and the questions that changed most.
pub fn comparison(comparison: &Comparison, several: bool, style: Style) -> String {
    let Comparison { baseline, name, questions, .. } = comparison;
    let on = count(*questions as u64, "question", "questions");
    let mut out = format!("{}  against {baseline}, on {on}\n\n", style.strong(name));
    let mut rows = vec![["Measure", "Before", "After", "Difference", "95 %", "p"].map(String::from).to_vec()];
    for measure in measure_names() {
        let Some(difference) = comparison.differences.get(measure) else { continue };
        let Difference { baseline, value, interval: around, probability, corrected } = difference;
        if value == baseline {
            continue;
        }
        let p = if several { corrected } else { probability };
        let sign = if *p < 0.05 { " *" } else { "" };
        rows.push(vec![
            measure.to_owned(),
            number(*baseline),
            number(*value),
            format!("{:+.3}", value - baseline),
            around.as_ref().map_or_else(String::new, interval),
            format!("{p:.3}{sign}"),
        ]);
    }
    if rows.len() == 1 {
        return out + "No measure differs.\n";
    }
    let right = Align::Right;
    out.push_str(&table(&rows, &[Align::Left, right, right, right, Align::Left, Align::Left], 0, style));
    let corrected = if several { ", corrected for several comparisons" } else { "" };
    let legend = format!("p: how likely so large a difference is by chance{corrected}; * below 0.05");
    out.push_str(&format!("{}\n", style.faint(&legend)));
    if !comparison.changed.is_empty() {
        let mut rows = vec![["Id", "Before", "After", "What changed", "Question"].map(String::from).to_vec()];
        for changed in comparison.changed.iter().take(MAX_CHANGED) {
            let [before, after] = changed.ranks.map(rank);
            let what = ["first_cited", "said", "refused", "wrongly_refused", "hit@3", "mrr", "ndcg@10", "f1"]
                .into_iter()
                .filter_map(|name| changed.measures.get(name).map(|[before, after]| (name, after > before)))
                .map(|(name, gained)| format!("{name} {}", if gained { "up" } else { "down" }))
                .take(2);
            let what = what.collect::<Vec<_>>().join(", ");
            rows.push(vec![changed.id.clone(), before, after, what, changed.question.clone()]);
        }
        let all = count(comparison.changed.len() as u64, "question", "questions");
        let shown = comparison.changed.len().min(MAX_CHANGED);
        out.push_str(&format!(
            "\n{all} changed; with the first right passage before and after, the {shown} most telling:\n"
        ));
        let left = Align::Left;
        out.push_str(&table(&rows, &[left, right, right, left, left], 0, style));
    }
    out
}

/// Returns a rank; a dash if nothing was found.
pub fn rank(rank: Option<usize>) -> String {
    rank.map_or_else(|| "–".to_owned(), |rank| format!("#{rank}"))
}

fn number(value: f64) -> String {
    if value >= 100.0 { format!("{value:.0}") } else { format!("{value:.3}") }
}

fn interval(Interval { low, high }: &Interval) -> String {
    format!("{} to {}", number(*low), number(*high))
}
