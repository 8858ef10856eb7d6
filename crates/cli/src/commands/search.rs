//! `logothete search`

use logothete::Result;
use logothete::search::Passage;
use serde_json::json;

use super::{configuration, corpus};
use crate::args::Place;
use crate::view::{Style, count as counted, duration, indented, shortened, width};
use crate::{DONE, Outcome};

pub async fn run(place: &Place, query: &str, count: Option<usize>) -> Result<Outcome> {
    let (mut config, folder) = configuration(place)?;
    config.search.passages = count.unwrap_or(config.search.passages);
    let found = corpus(place, &config, &folder, true).await?.search(query).await?;
    let style = Style::of_stdout();
    let mut text = String::new();
    for passage in &found.passages {
        text.push_str(&render(passage, style));
    }
    let number = found.passages.len() as u64;
    let summary = if number == 0 {
        "No passage has a word of this query, or anything like it.".to_owned()
    } else {
        format!("{} in {}", counted(number, "passage", "passages"), duration(found.took_ms))
    };
    text.push_str(&format!("{}\n", style.faint(&summary)));
    Ok(Outcome { text, json: json!(found), code: DONE })
}

fn render(passage: &Passage, style: Style) -> String {
    let legs: Vec<String> =
        passage.legs.iter().map(|(name, leg)| format!("{name} #{} ({:.2})", leg.rank, leg.score)).collect();
    let also: String = passage
        .also
        .iter()
        .map(|other| {
            let place = shortened(&other.place(), width().saturating_sub(13));
            format!("     {} {}\n", style.faint("also in"), style.place(&place))
        })
        .collect();
    format!(
        "{:>3}  {}  {}\n     {}\n{}{also}\n",
        passage.rank,
        style.strong(&format!("{:.2}", passage.score)),
        style.place(&shortened(&passage.place(), width().saturating_sub(11))),
        style.faint(&legs.join(", ")),
        indented(&shortened(passage.body(), 3 * width().saturating_sub(5)), 5),
    )
}
