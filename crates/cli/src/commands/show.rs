//! `logothete show`

use logothete::Result;
use serde_json::json;

use super::{configuration, corpus};
use crate::args::Place;
use crate::view::{Align, Style, bytes, count, indented, table, thousands};
use crate::{DONE, Outcome};

pub async fn run(place: &Place, verify: bool) -> Result<Outcome> {
    let (config, folder) = configuration(place)?;
    let corpus = corpus(place, &config, &folder, true).await?;
    let info = corpus.info().await?;
    if verify {
        corpus.verify().await?;
    }
    let style = Style::of_stdout();
    let fact = |name: &str, value: &str| format!("{} {value}\n", style.faint(&format!("{name:<10}")));
    let mut text = String::new();
    text.push_str(&fact("Corpus", &info.corpus.display().to_string()));
    text.push_str(&fact("Encoder", &info.encoder));
    let sizes = format!("{} catalogue, {} indexes", bytes(info.catalogue_bytes), bytes(info.index_bytes));
    text.push_str(&fact("Size", &sizes));
    for source in &info.sources {
        text.push_str(&fact("Source", &source.display().to_string()));
    }
    let documents = count(info.documents.len() as u64, "document", "documents");
    let repeated = match info.repeated {
        0 => String::new(),
        repeated => format!(", {} what others say", count(repeated, "repeats", "repeat")),
    };
    text.push_str(&fact("Holds", &format!("{documents}, {}{repeated}", count(info.chunks, "chunk", "chunks"))));
    if verify {
        text.push_str(&fact("Verified", "every checksum agrees"));
    }
    let mut rows = vec![["Document", "Pages", "Chunks", "Text", "Title"].map(String::from).to_vec()];
    for document in &info.documents {
        rows.push(vec![
            document.document.clone(),
            if document.pages == 0 { "–".to_owned() } else { document.pages.to_string() },
            thousands(document.chunks),
            bytes(document.text_bytes),
            document.title.clone().unwrap_or_default(),
        ]);
    }
    if !info.documents.is_empty() {
        text.push('\n');
        text.push_str(&table(&rows, &[Align::Left, Align::Right, Align::Right, Align::Right, Align::Left], 0, style));
    }
    for document in info.documents.iter().filter(|document| !document.warnings.is_empty()) {
        text.push_str(&format!("\n{} {}\n", style.warning("Read in part:"), document.document));
        for warning in &document.warnings {
            text.push_str(&indented(warning, 2));
        }
    }
    let mut json = json!(info);
    if verify {
        json["verified"] = json!(true);
    }
    Ok(Outcome { text, json, code: DONE })
}
