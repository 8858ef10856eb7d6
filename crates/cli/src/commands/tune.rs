//! `logothete tune`

use std::path::Path;
use std::time::Instant;

use indicatif::{ProgressBar, ProgressStyle};
use logothete::corpus::{TuneRequest, Tuning};
use logothete::eval::{Tried, Tuned};
use logothete::suggest::closest;
use logothete::{Config, Error, ErrorKind, Result};
use serde_json::json;
use toml_edit::{DocumentMut, Item, Table};

use super::evaluate::Set;
use super::{configuration, configuration_file, corpus, progress, setting_values};
use crate::args::{CorpusArguments, TuneArguments};
use crate::view::{Align, Style, count, duration, indented, measure_names, table};
use crate::{DONE, Output};

pub async fn run(at: &CorpusArguments, arguments: &TuneArguments) -> Result<Output> {
    let set = Set::read(&arguments.set, arguments.split.as_deref())?;
    if !measure_names().any(|name| name == arguments.measure) {
        let near = closest(&arguments.measure, measure_names().map(str::to_owned));
        let hint = near.map_or_else(
            || format!("the measures are {}", measure_names().collect::<Vec<_>>().join(", ")),
            |near| format!("did you mean {near}?"),
        );
        let message = format!("unknown measure {:?}; {hint}", arguments.measure);
        return Err(Error::new(ErrorKind::InvalidRequest, message).at("--measure"));
    }
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let bar = ProgressBar::new_spinner().with_style(
        ProgressStyle::with_template("{pos} tried  {wide_msg}").unwrap_or_else(|_| ProgressStyle::default_bar()),
    );
    let request = asked(&arguments.over)?.measure(&arguments.measure).on_choice({
        let (bar, measure) = (bar.clone(), arguments.measure.clone());
        move |number, name, mean| {
            bar.set_position(number as u64);
            let name = if name.is_empty() { "as configured" } else { name };
            bar.set_message(format!("{measure} {mean:.3}  {name}"));
        }
    });
    progress::stop_on_interrupt(request.stop_token());
    let start = Instant::now();
    let tuning = corpus.tune(&set.questions, &request).await;
    bar.finish_and_clear();
    let tuning = tuning.map_err(|error| if error.place().is_none() { error.at(set.path.display()) } else { error })?;

    let style = Style::of_stdout();
    let took_ms = start.elapsed().as_secs_f64() * 1000.0;
    let mut text = render(&tuning, &config, &set.name, took_ms, style);
    let better: Vec<(&str, &str)> =
        tuning.tuned.best.iter().filter_map(|(key, value)| Some((key.as_str(), value.as_deref()?))).collect();
    let mut written = None;
    if tuning.tuned.is_real && !better.is_empty() {
        let file = configuration_file(at);
        if arguments.write {
            write(&file, &better)?;
            text.push_str(&format!("Written into {}.\n", style.place(&file.display().to_string())));
            if better
                .iter()
                .any(|(key, _)| !["search.", "generator.", "prompt."].iter().any(|table| key.starts_with(table)))
            {
                text.push_str("Some of it changes what a build makes: run logothete build.\n");
            }
            written = Some(file.display().to_string());
        } else {
            text.push_str("To use them, add --write.\n");
        }
    } else if arguments.write {
        text.push_str("Nothing is written.\n");
    }
    let tried: Vec<serde_json::Value> =
        tuning.tried.iter().map(|(settings, mean)| json!({ "settings": settings, "mean": mean })).collect();
    let json = json!({
        "tuned": tuning.tuned, "tried": tried, "stopped": tuning.stopped, "written": written,
        "before": tuning.before.metrics, "after": tuning.after.metrics, "took_ms": took_ms,
    });
    Ok(Output { text, json, code: DONE })
}

/// Returns what is tried: the settings of the command line, or the usual ones.
fn asked(over: &[String]) -> Result<TuneRequest> {
    if over.is_empty() {
        return Ok(TuneRequest::default());
    }
    let tried = |written: &String| {
        let (key, values) = setting_values("--over", written)?;
        Ok(Tried { key: key.to_owned(), values: values.into_iter().map(str::to_owned).collect() })
    };
    Ok(TuneRequest::new(over.iter().map(tried).collect::<Result<_>>()?))
}

fn render(tuning: &Tuning, config: &Config, set: &str, took_ms: f64, style: Style) -> String {
    let tuned = &tuning.tuned;
    let (left, right) = (Align::Left, Align::Right);
    let mut text = format!(
        "{}  {} about {}; {} tried in {}{}\n\n",
        style.strong(set),
        count(tuned.questions as u64, "question", "questions"),
        count(tuned.documents as u64, "document", "documents"),
        count(tuned.choices as u64, "choice of settings", "choices of settings"),
        duration(took_ms),
        if tuning.stopped { ", then stopped" } else { "" }
    );
    let mut rows = vec![["Tried", tuned.measure.as_str()].map(String::from).to_vec()];
    for (name, mean) in &tuning.tried {
        rows.push(vec![if name.is_empty() { "as configured".to_owned() } else { name.clone() }, number(*mean)]);
    }
    text.push_str(&format!("{}\n", table(&rows, &[left, right], 0, style)));
    let mut rows = vec![["Setting", "Now", "Best"].map(String::from).to_vec()];
    for (key, value) in &tuned.best {
        let now = config.setting(key).unwrap_or_else(|| "default".to_owned());
        rows.push(vec![key.clone(), now.clone(), value.clone().unwrap_or(now)]);
    }
    text.push_str(&table(&rows, &[left, right, right], 0, style));
    let mut rows = vec![[tuned.measure.as_str(), "Before", "After", ""].map(String::from).to_vec()];
    let on_all = "on the questions that chose them, which flatters";
    rows.push(vec![String::new(), number(tuned.before), number(tuned.after), on_all.to_owned()]);
    if tuned.folds > 0 {
        let less = if (tuned.after < tuned.before) && tuned.gain > 0.0 { -1.0 } else { 1.0 };
        let on_others = format!("on questions about other documents, in {} folds", tuned.folds);
        rows.push(vec![String::new(), number(tuned.before), number(tuned.before + less * tuned.gain), on_others]);
    }
    text.push_str(&format!("\n{}", table(&rows, &[left, right, right, left], 0, style)));
    text.push_str(&cost(tuning, style));
    text.push_str(&format!("\n{}", indented(&conclusion(tuned, style), 0)));
    text
}

/// Returns what a question costs before and after.
fn cost(tuning: &Tuning, style: Style) -> String {
    let mut rows = vec![["Cost", "Before", "After", ""].map(String::from).to_vec()];
    let time =
        |run: &logothete::eval::Run| run.stages.get("ask").map_or_else(String::new, |time| duration(time.median_ms));
    rows.push(vec!["time".to_owned(), time(&tuning.before), time(&tuning.after), "the median of an answer".to_owned()]);
    for (name, what) in [("tokens", "a question"), ("money", "a question")] {
        let of = |run: &logothete::eval::Run| run.metrics.get(name).copied().filter(|value| *value > 0.0);
        if let (Some(before), Some(after)) = (of(&tuning.before), of(&tuning.after)) {
            rows.push(vec![name.to_owned(), number(before), number(after), what.to_owned()]);
        }
    }
    format!("\n{}", table(&rows, &[Align::Left, Align::Right, Align::Right, Align::Left], 0, style))
}

fn conclusion(tuned: &Tuned, style: Style) -> String {
    if tuned.folds == 0 {
        return style.warning(
            "All questions are about one document, so nothing shows what the choice is worth on others. Add questions.",
        );
    }
    let interval = tuned
        .interval
        .map_or_else(String::new, |interval| format!(", 95 % from {:+.3} to {:+.3}", interval.low, interval.high));
    let gain = format!("Gain {:+.3}{interval}, p {:.3}.", tuned.gain, tuned.probability);
    let enough = match tuned.enough {
        Some(enough) if tuned.gain > 0.0 => {
            format!(" The set is too small to tell: about {enough} questions would be enough for a gain like this one.")
        }
        Some(enough) => format!(" The set is small: about {enough} questions would be enough to tell a gain of 0.02."),
        None => String::new(),
    };
    if tuned.best.iter().all(|(_, value)| value.is_none()) && tuned.gain <= 0.0 {
        return format!("{gain} No other values are better than those that you have.{enough}");
    }
    if tuned.is_real {
        return format!("{gain} {}", style.strong("The gain is real."));
    }
    format!("{gain} {}{enough}", style.warning("It may be chance: keep what you have."))
}

fn number(value: f64) -> String {
    if value.abs() >= 100.0 { format!("{value:.0}") } else { format!("{value:.3}") }
}

/// Sets values in a configuration file, and leaves the rest of it as it is. The file is replaced as a whole.
fn write(file: &Path, values: &[(&str, &str)]) -> Result<()> {
    let failed = |message: String| Error::new(ErrorKind::System, message).at(file.display());
    let text = match std::fs::read_to_string(file) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        read => read.map_err(|error| failed(format!("it could not be read: {error}")))?,
    };
    let mut document: DocumentMut = text
        .parse()
        .map_err(|error: toml_edit::TomlError| failed(format!("it is not valid TOML: {}", error.message())))?;
    for (key, value) in values {
        let mut parts: Vec<&str> = key.split('.').collect();
        let Some(last) = parts.pop() else { continue };
        let mut at: &mut Item = document.as_item_mut();
        for part in parts {
            at = at
                .as_table_like_mut()
                .ok_or_else(|| failed(format!("{part} is no table of settings")))?
                .entry(part)
                .or_insert_with(|| Item::Table(Table::new()));
        }
        let value = value.parse().unwrap_or_else(|_| toml_edit::Value::from(*value));
        let table = at.as_table_like_mut().ok_or_else(|| failed(format!("{key} is no setting")))?;
        // The decoration of a value holds the comment after it.
        match table.get_mut(last).and_then(Item::as_value_mut) {
            Some(old) => {
                let decoration = old.decor().clone();
                *old = value;
                *old.decor_mut() = decoration;
            }
            None => {
                table.insert(last, Item::Value(value));
            }
        }
    }
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let written = tempfile::NamedTempFile::new_in(folder).and_then(|mut new| {
        std::io::Write::write_all(&mut new, document.to_string().as_bytes())?;
        new.as_file().sync_all()?;
        new.persist(file).map_err(|error| error.error)
    });
    written.map(|_| ()).map_err(|error| failed(format!("it could not be written: {error}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_set_and_comments_stay() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("logothete.toml");
        let before = "# Ours\n[search]\nkeyword = 0.5 # half\n# depth = 100\n\n[chunk]\nlimit = 200\n";
        std::fs::write(&file, before).expect("a file");
        write(&file, &[("search.keyword", "0.7"), ("search.depth", "50"), ("prompt.language", "French")])
            .expect("written");
        let after = std::fs::read_to_string(&file).expect("a file");
        assert!(after.starts_with("# Ours\n[search]\nkeyword = 0.7 # half\n"), "{after}");
        assert!(after.contains("depth = 50") && after.contains("[chunk]\nlimit = 200\n"), "{after}");
        let config = Config::parse(&after).expect("settings");
        assert_eq!((config.search.depth, config.prompt.language.as_str()), (50, "French"));
        let new = folder.path().join("new.toml");
        write(&new, &[("search.depth", "70")]).expect("written");
        assert_eq!(Config::read(&new).expect("settings").search.depth, 70);
    }
}
