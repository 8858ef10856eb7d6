//! Measures of evaluations, as tables.

use logothete::eval::{
    ChangedQuestion, Comparison, Difference, Group, Interval, MEASURES, Measure, MeasureGroup, Run, SHORT_MEASURES,
    STAGES,
};

use unicode_width::UnicodeWidthStr;

use super::{Align, Style, count, duration, indented, shortened, table, width};

/// How many changed questions are listed.
const MAX_CHANGED: usize = 10;
/// The longest name of a pipeline in a row of a table.
const MAX_NAME: usize = 24;
/// How many problems of a set are listed.
const MAX_PROBLEMS: usize = 10;

/// Returns the names of all measures.
pub fn measure_names() -> impl Iterator<Item = &'static str> {
    MEASURES.iter().map(|measure| measure.name)
}

/// Returns the measures of a run, with their intervals, and its groups. `problems` says what is wrong with the documents of its set.
pub fn measures(run: &Run, problems: &[String], style: Style) -> String {
    let mut out = heading(run, style);
    let groups = [("Search", MeasureGroup::Search), ("Answers", MeasureGroup::Answers), ("Cost", MeasureGroup::Cost)];
    for (title, group) in groups {
        let mut rows = vec![[title, "Value", "95 %", "What it is"].map(String::from).to_vec()];
        for Measure { name, meaning, .. } in MEASURES.iter().filter(|measure| measure.group == group) {
            // A search without a model costs no tokens.
            let value = run.metrics.get(*name).filter(|value| group != MeasureGroup::Cost || **value > 0.0);
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
    if !problems.is_empty() {
        let mut lines: String = problems.iter().take(MAX_PROBLEMS).map(|problem| indented(problem, 2)).collect();
        if let Some(more) = problems.len().checked_sub(MAX_PROBLEMS).filter(|more| *more > 0) {
            lines.push_str(&format!("  and {more} more\n"));
        }
        let title = style.warning("The documents are not those that the questions were made for");
        out.push_str(&format!("{title}\n{lines}\n"));
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

/// Returns several runs, a row each. If a name is too long for a row, all names are numbers there, and are written out above.
pub fn runs(title: &str, runs: &[&Run], style: Style) -> String {
    if runs.iter().all(|run| run.name.width() <= MAX_NAME) {
        return side_by_side_of(title, runs.iter().map(|run| (run.name.as_str(), run.questions, &run.metrics)), style);
    }
    let numbers: Vec<String> = (1..=runs.len()).map(|number| number.to_string()).collect();
    let named = numbers.iter().zip(runs).map(|(number, run)| indented(&format!("{number} {}", run.name), 2));
    let rows = numbers.iter().zip(runs).map(|(number, run)| (number.as_str(), run.questions, &run.metrics));
    format!("{}\n{}\n{}", style.faint(title), named.collect::<String>(), side_by_side_of(title, rows, style))
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
    let head = [title, "Questions"].into_iter().chain(SHORT_MEASURES).map(String::from).collect();
    let mut lines: Vec<Vec<String>> = vec![head];
    for (name, questions, metrics) in rows {
        let values =
            SHORT_MEASURES.iter().map(|measure| metrics.get(*measure).map_or_else(|| "–".to_owned(), |v| number(*v)));
        lines.push([name.to_owned(), questions.to_string()].into_iter().chain(values).collect());
    }
    let align: Vec<Align> = (0..lines[0].len()).map(|at| if at == 0 { Align::Left } else { Align::Right }).collect();
    table(&lines, &align, 0, style)
}

/// Returns each question with its rank and outcome.
pub fn questions(run: &Run, style: Style) -> String {
    let mut rows = vec![["Id", "Passage", "Outcome", "Question"].map(String::from).to_vec()];
    for score in &run.per_question {
        rows.push(vec![
            score.id.clone(),
            rank(score.first_rank),
            score.outcome().name().to_owned(),
            score.question.clone(),
        ]);
    }
    table(&rows, &[Align::Left, Align::Right, Align::Left, Align::Left], 0, style)
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
        let all = count(comparison.changed.len() as u64, "question", "questions");
        let shown = comparison.changed.len().min(MAX_CHANGED);
        out.push_str(&format!(
            "\n{all} changed; the {shown} most telling, with the rank of the first right passage and what came first:\n"
        ));
        for one in comparison.changed.iter().take(MAX_CHANGED) {
            out.push_str(&changed(one, style));
        }
    }
    out
}

/// Returns a question whose results differ, with what was found for it before and after.
fn changed(changed: &ChangedQuestion, style: Style) -> String {
    // Those of the short tables tell the most.
    let what = SHORT_MEASURES
        .into_iter()
        .chain(measure_names().filter(|name| !SHORT_MEASURES.contains(name)))
        .filter_map(|name| changed.measures.get(name).map(|[before, after]| (name, after > before)))
        .map(|(name, gained)| format!("{name} {}", if gained { "up" } else { "down" }))
        .take(2);
    let what = what.collect::<Vec<_>>().join(", ");
    let mut out = format!("\n{}  {}  {}\n", changed.id, style.strong(&changed.question), style.faint(&what));
    for (name, (found, first)) in ["before", "after"].iter().zip(changed.ranks.iter().zip(&changed.first_places)) {
        let first = first.as_deref().unwrap_or("nothing was found");
        let place = shortened(first, width().saturating_sub(20));
        out.push_str(&format!("  {name:<6}  {:>4}  {}\n", rank(*found), style.place(&place)));
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
