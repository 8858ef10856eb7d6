//! The page of an evaluation: measures, pictures, comparisons, and every question with its passages and its answer.

use logothete::eval::{
    Comparison, Group, Interval, MEASURES, MeasureGroup, Outcome, QuestionScore, Run, SHORT_MEASURES,
};

use crate::html::{escaped, page, section};
use crate::plot::Plot;

const STYLE: &str = include_str!("evaluation_page.css");
/// The most passages that are shown for a question.
const MAX_PASSAGES: usize = 5;
/// The most questions that are listed for a comparison.
const MAX_CHANGED: usize = 20;

/// The runs on one question set.
#[derive(Clone, Copy, Debug)]
pub struct Evaluation<'a> {
    /// The pipeline that others are compared with.
    pub first: &'a Run,
    /// The others; may be empty.
    pub others: &'a [Run],
    /// What differs; may be empty.
    pub comparisons: &'a [Comparison],
}

impl<'a> Evaluation<'a> {
    /// Returns the pictures of these runs.
    pub fn plots(&self) -> Vec<Plot<'a>> {
        Plot::of(self.first, self.others)
    }
}

/// Returns a page about the evaluations of one or several question sets.
///
/// The page is complete in itself, has no script, and nothing of a document or a question can become markup in it. Costs one pass over all
/// texts; a question takes about three kilobytes.
pub fn evaluation_page(evaluations: &[Evaluation<'_>]) -> String {
    let names: Vec<&str> = evaluations.iter().map(|one| one.first.name.as_str()).collect();
    let title = format!("Evaluation of {}", names.join(", "));
    let parts: String = evaluations.iter().enumerate().map(|(number, one)| part(number, *one)).collect();
    page(&title, &format!("{STYLE}{}", filters(evaluations)), &parts)
}

/// Returns the rules by which the choice of an outcome hides the questions with other ones.
fn filters(evaluations: &[Evaluation<'_>]) -> String {
    let rule = |number: usize, at: usize| {
        let mut hidden = format!(".s{number} details.question:not(.o{at})");
        if at == Outcome::ALL.len() {
            hidden = format!(".s{number} details.question.well");
        }
        format!(
            "#s{number}o{at}:checked ~ {hidden} {{ display: none; }}\n\
             #s{number}o{at}:checked ~ .filter label[for=s{number}o{at}] {{ background: var(--sea); color: var(--ground); }}\n\
             #s{number}o{at}:focus-visible ~ .filter label[for=s{number}o{at}] {{ outline: 2px solid var(--ink); }}\n"
        )
    };
    let of = |number: usize| -> String {
        let all = format!(
            "#s{number}all:checked ~ .filter label[for=s{number}all] {{ background: var(--sea); color: var(--ground); }}\n"
        );
        (0..=Outcome::ALL.len()).map(|at| rule(number, at)).fold(all, |css, rule| css + &rule)
    };
    (0..evaluations.len()).map(of).collect()
}

fn part(number: usize, Evaluation { first, others, comparisons }: Evaluation<'_>) -> String {
    let unanswerable = first.per_question.iter().filter(|score| score.refuse).count();
    let heading = format!(
        "<header>\n<h1>{}</h1>\n<p class=\"faint\">{} questions, {unanswerable} of them without an answer in the documents</p>\n</header>\n",
        escaped(&first.name),
        first.questions
    );
    let plots: String = Plot::of(first, others).iter().map(figure).collect();
    let pipelines = if others.is_empty() { String::new() } else { pipelines(first, others) };
    [
        heading,
        section("Pictures", &format!("<div class=\"plots\">\n{plots}</div>\n")),
        section("Measures", &measures(first)),
        section("Pipelines", &pipelines),
        comparisons.iter().map(comparison).collect::<String>(),
        section("Kinds of questions", &groups(first, "kind")),
        section("Types of documents", &groups(first, "document_type")),
        questions(number, first),
    ]
    .concat()
}

fn figure(plot: &Plot<'_>) -> String {
    let svg = plot.svg().unwrap_or_else(|error| escaped(error.message()));
    format!("<figure>\n{svg}\n<figcaption>{}</figcaption>\n</figure>\n", plot.says)
}

fn number(value: f64) -> String {
    if value >= 100.0 { format!("{value:.0}") } else { format!("{value:.3}") }
}

fn range(interval: Option<&Interval>) -> String {
    interval.map_or_else(String::new, |Interval { low, high }| format!("{} to {}", number(*low), number(*high)))
}

fn table(head: &[&str], rows: impl Iterator<Item = String>) -> String {
    let head: String = head.iter().map(|name| format!("<th>{name}</th>")).collect();
    format!("<div class=\"wide sheet\"><table>\n<tr>{head}</tr>\n{}</table></div>\n", rows.collect::<String>())
}

fn measures(run: &Run) -> String {
    let rows = MEASURES.iter().filter_map(|measure| {
        let value = run.metrics.get(measure.name)?;
        // A search without a model costs nothing.
        if measure.group == MeasureGroup::Cost && *value == 0.0 {
            return None;
        }
        Some(format!(
            "<tr><td>{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td class=\"faint\">{}</td></tr>\n",
            measure.name,
            number(*value),
            range(run.intervals.get(measure.name)),
            measure.meaning
        ))
    });
    format!("<div class=\"measures\">\n{}</div>\n", table(&["Measure", "Value", "95 %", "What it is"], rows))
}

/// Returns rows with the short measures.
fn short<'a>(head: &str, rows: impl Iterator<Item = (&'a str, usize, &'a logothete::eval::Metrics)>) -> String {
    let titles: Vec<&str> = [head, "Questions"].into_iter().chain(SHORT_MEASURES).collect();
    let row = |(name, questions, metrics): (&str, usize, &logothete::eval::Metrics)| {
        let values: String = SHORT_MEASURES
            .iter()
            .map(|name| metrics.get(*name).map_or_else(|| "–".to_owned(), |value| number(*value)))
            .map(|value| format!("<td class=\"number\">{value}</td>"))
            .collect();
        format!("<tr><td>{}</td><td class=\"number\">{questions}</td>{values}</tr>\n", escaped(name))
    };
    table(&titles, rows.map(row))
}

fn pipelines(first: &Run, others: &[Run]) -> String {
    let rows = std::iter::once(("as configured", first.questions, &first.metrics));
    short("Pipeline", rows.chain(others.iter().map(|run| (run.name.as_str(), run.questions, &run.metrics))))
}

fn groups(run: &Run, by: &str) -> String {
    let groups: Vec<&Group> = run.groups.iter().filter(|group| group.by == by).collect();
    if groups.is_empty() {
        return String::new();
    }
    short("", groups.iter().map(|group| (group.value.as_str(), group.questions, &group.metrics)))
}

fn comparison(one: &Comparison) -> String {
    let rows = MEASURES.iter().filter_map(|measure| {
        let difference = one.differences.get(measure.name)?;
        let change = difference.value - difference.baseline;
        if change == 0.0 {
            return None;
        }
        let is_real = difference.corrected < 0.05;
        Some(format!(
            "<tr><td>{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td class=\"number\">{change:+.3}</td>\
             <td class=\"number\">{}</td><td class=\"number\">{:.3}{}</td></tr>\n",
            measure.name,
            number(difference.baseline),
            number(difference.value),
            range(difference.interval.as_ref()),
            difference.corrected,
            if is_real { " *" } else { "" }
        ))
    });
    let rows: Vec<String> = rows.collect();
    let title = format!("<span class=\"name\">{}</span> against the configured pipeline", escaped(&one.name));
    if rows.is_empty() {
        return section(&title, "<p>No measure differs.</p>\n");
    }
    let differences = table(&["Measure", "Before", "After", "Difference", "95 %", "p"], rows.into_iter());
    let legend = "<p class=\"faint\">p: how likely so large a difference is by chance (paired randomisation test, corrected for the number \
                  of pipelines); * below 0.05</p>\n";
    let rank = |rank: Option<usize>| rank.map_or_else(|| "–".to_owned(), |rank| format!("#{rank}"));
    let first = |place: &Option<String>| place.as_ref().map_or_else(String::new, |place| escaped(place));
    let changed = one.changed.iter().take(MAX_CHANGED).map(|changed| {
        let [before, after] = changed.ranks.map(rank);
        let [old, new] = changed.first_places.each_ref().map(first);
        format!(
            "<tr><td>{}</td><td>{}</td><td>{before}<br><span class=\"place\">{old}</span></td>\
             <td>{after}<br><span class=\"place\">{new}</span></td></tr>\n",
            escaped(&changed.id),
            escaped(&changed.question)
        )
    });
    let changed = table(&["Id", "Question", "Before: right passage, first place", "After"], changed);
    let count = one.changed.len();
    let shown = count.min(MAX_CHANGED);
    section(
        &title,
        &format!(
            "{differences}{legend}<details><summary>{count} questions changed; the {shown} most telling</summary>\n{changed}</details>\n"
        ),
    )
}

/// Returns all questions, those that went wrong first, under a choice of what went wrong.
fn questions(number: usize, run: &Run) -> String {
    let mut choices =
        format!("<input class=\"choice\" type=\"radio\" name=\"s{number}\" id=\"s{number}all\" checked>\n");
    let mut labels = format!("<label for=\"s{number}all\">all {}</label>\n", run.questions);
    let wrong = run.per_question.iter().filter(|score| !score.outcome().is_right()).count();
    let mut choice = |at: usize, name: &str, count: usize| {
        if count > 0 {
            let id = format!("s{number}o{at}");
            choices.push_str(&format!("<input class=\"choice\" type=\"radio\" name=\"s{number}\" id=\"{id}\">\n"));
            labels.push_str(&format!("<label for=\"{id}\">{name} {count}</label>\n"));
        }
    };
    choice(Outcome::ALL.len(), "all that went wrong", wrong);
    for (at, outcome) in Outcome::ALL.into_iter().enumerate() {
        let count = run.per_question.iter().filter(|score| score.outcome() == outcome).count();
        choice(at, outcome.name(), count);
    }
    let mut ordered: Vec<&QuestionScore> = run.per_question.iter().collect();
    ordered.sort_by_key(|score| score.outcome().is_right());
    let list: String = ordered.into_iter().map(question).collect();
    let content = format!("{choices}<div class=\"filter\">\n{labels}</div>\n<div class=\"s{number}\">\n{list}</div>\n");
    section("Questions", &content)
}

fn question(score: &QuestionScore) -> String {
    let outcome = score.outcome();
    let at = Outcome::ALL.iter().position(|known| *known == outcome).unwrap_or_default();
    let class = match outcome {
        outcome if outcome.is_right() => "right",
        Outcome::CitedNotFirst | Outcome::CitedNotSaid => "partly",
        _ => "wrong",
    };
    let well = if outcome.is_right() { " well" } else { "" };
    let details = &score.details;
    let rank = score.first_rank.map_or_else(|| "not found".to_owned(), |rank| format!("found at #{rank}"));
    let rank = if score.refuse { "nothing to find".to_owned() } else { rank };
    let wanted: String = details
        .wanted
        .iter()
        .map(|place| format!("<p class=\"place\">{}</p>\n", escaped(&place.to_string())))
        .collect();
    let wanted = if score.refuse { "<p>a refusal</p>\n".to_owned() } else { wanted };
    let expected = details.expected.as_ref().map(|text| format!("<p>an answer that says “{}”</p>\n", escaped(text)));
    let source = |source: &logothete::eval::FoundSource| {
        format!("<li value=\"{}\">{}</li>\n", source.marker, found(&source.place, &source.quotation, source.right))
    };
    let sources: String = details.sources.iter().map(source).collect();
    let passages: String = details
        .passages
        .iter()
        .take(MAX_PASSAGES)
        .map(|passage| format!("<li>{}</li>\n", found(&passage.place, &passage.text, passage.right)))
        .collect();
    let list = |title: &str, items: &str| match items {
        "" => String::new(),
        items => format!("<h3>{title}</h3>\n<ol>\n{items}</ol>\n"),
    };
    let note = score.note.as_ref().map(|note| format!("<p class=\"faint\">{}</p>\n", escaped(note)));
    format!(
        "<details class=\"question o{at}{well}\">\n<summary><span><span class=\"faint\">{}</span> {}</span>\
         <span class=\"outcome {class}\">{} <span class=\"faint\">· {rank}</span></span></summary>\n\
         <h3>Wanted</h3>\n{wanted}{}<h3>Answer</h3>\n<p class=\"answered\">{}</p>\n{}{}{}</details>\n",
        escaped(&score.id),
        escaped(&score.question),
        outcome.name(),
        expected.unwrap_or_default(),
        escaped(&details.answer),
        note.unwrap_or_default(),
        list("Sources", &sources),
        list("Passages", &passages),
    )
}

fn found(place: &str, text: &str, right: bool) -> String {
    let mark = if right { " <span class=\"ok\">right</span>" } else { "" };
    format!("<span class=\"place\">{}</span>{mark}<br>{}", escaped(place), escaped(text))
}
