//! `logothete demo`

use std::path::Path;

use logothete::config::Ocr;
use logothete::{BuildReport, Config, Corpus, Error, ErrorKind, Result, SearchRequest};
use serde_json::json;

use crate::view::{Style, count, duration, indented, width};
use crate::{DONE, Output};

/// The documents of the Marrowby Harbour Authority, an invented harbour, by name.
const DOCUMENTS: &[(&str, &[u8])] = &[
    ("berth-booking.eml", include_bytes!("../../../../demo/documents/berth-booking.eml")),
    ("berth-register.csv", include_bytes!("../../../../demo/documents/berth-register.csv")),
    ("byelaws.pdf", include_bytes!("../../../../demo/documents/byelaws.pdf")),
    ("crane-records.docx", include_bytes!("../../../../demo/documents/crane-records.docx")),
    ("dues-2026.xlsx", include_bytes!("../../../../demo/documents/dues-2026.xlsx")),
    ("notices/notice-2025-01.md", include_bytes!("../../../../demo/documents/notices/notice-2025-01.md")),
    ("notices/notice-2025-02.md", include_bytes!("../../../../demo/documents/notices/notice-2025-02.md")),
    ("notices/notice-2025-03.md", include_bytes!("../../../../demo/documents/notices/notice-2025-03.md")),
    ("notices/notice-2025-04.md", include_bytes!("../../../../demo/documents/notices/notice-2025-04.md")),
    ("notices/notice-2025-05.md", include_bytes!("../../../../demo/documents/notices/notice-2025-05.md")),
    ("notices/notice-2025-06.md", include_bytes!("../../../../demo/documents/notices/notice-2025-06.md")),
    ("notices/notice-2025-07.md", include_bytes!("../../../../demo/documents/notices/notice-2025-07.md")),
    ("notices/notice-2025-08.md", include_bytes!("../../../../demo/documents/notices/notice-2025-08.md")),
    ("pilotage-handbook.html", include_bytes!("../../../../demo/documents/pilotage-handbook.html")),
    ("scanned-letter.pdf", include_bytes!("../../../../demo/documents/scanned-letter.pdf")),
    ("storm-briefing.pptx", include_bytes!("../../../../demo/documents/storm-briefing.pptx")),
    ("watch-log.txt", include_bytes!("../../../../demo/documents/watch-log.txt")),
];

/// One that a page answers, one where a later notice corrects an earlier one, and one that no document answers.
const QUESTIONS: &[&str] = &[
    "What draught may enter the North Channel at low water?",
    "What is the greatest draught at Berth 7 now?",
    "What is the maximum weight of a vehicle on the swing bridge?",
];

/// Writes the documents, and builds a corpus of them in the same folder.
async fn built(folder: &Path, config: &Config) -> Result<(Corpus, BuildReport)> {
    let documents = folder.join("documents");
    for (name, bytes) in DOCUMENTS {
        let file = documents.join(name);
        std::fs::create_dir_all(file.parent().unwrap_or(Path::new(".")))
            .and_then(|()| std::fs::write(&file, bytes))
            .map_err(failed)?;
    }
    let corpus = super::pipeline(config)?.open(folder.join("harbour.corpus")).await?;
    let report = corpus.build(documents).await?;
    Ok((corpus, report))
}

fn failed(error: std::io::Error) -> Error {
    Error::new(ErrorKind::System, format!("a temporary folder could not be written: {error}")).because(error)
}

/// Returns the settings of the demo. One document is a scan. It is left unread, so that the demo is the same with and without a program for it.
fn settings() -> Config {
    let mut config = Config::default();
    config.parse.ocr = Ocr::Off;
    config
}

/// Serves the corpus with a stand-in for a model, until the program is told to end.
#[cfg(feature = "serve")]
pub async fn serve(port: Option<u16>, as_json: bool) -> Result<Output> {
    use logothete::config::GeneratorKind;
    use logothete_simulator::ModelService;
    use std::time::Duration;
    let folder = tempfile::tempdir().map_err(failed)?;
    let model = ModelService::start()?.slow(Duration::from_millis(200), Duration::from_millis(15));
    let mut config = settings();
    config.generator.kind = GeneratorKind::Remote;
    config.generator.address = model.address();
    "stand-in".clone_into(&mut config.generator.model);
    config.privacy.allow = vec![model.host()];
    config.serve.port = port.unwrap_or(config.serve.port);
    let (corpus, _) = built(folder.path(), &config).await?;
    let about = indented(
        "The documents of the Marrowby Harbour Authority, which is invented, are served from a temporary folder. What answers is a stand-in for a \
         model: it copies sentences of the passages that it gets.",
        0,
    );
    super::serve::serve(corpus, &config, false, as_json, &about).await
}

pub async fn run() -> Result<Output> {
    let folder = tempfile::tempdir().map_err(failed)?;
    let (corpus, report) = built(folder.path(), &settings()).await?;

    let style = Style::of_stdout();
    let mut text = indented(
        "The Marrowby Harbour Authority is invented. Its byelaws and notices, a handbook, registers, records, slides, an e-mail \
         and a watch log are now a corpus.",
        0,
    );
    text.push_str(&format!(
        "{}, {}, read and indexed in {}.\n",
        count(report.added as u64, "document", "documents"),
        count(report.chunks, "chunk", "chunks"),
        duration(report.took_ms)
    ));
    for partly in &report.warnings {
        text.push_str(&style.warning(indented(&format!("{}: {}", partly.document, partly.reason), 0).trim_end()));
        text.push('\n');
    }
    let mut answers = Vec::new();
    for question in QUESTIONS {
        let reply = corpus.ask(SearchRequest::new(*question).traced()).await?;
        let rule = "─".repeat(width());
        text.push_str(&format!("\n{}\n{} {question}\n\n", style.faint(&rule), style.faint("?")));
        text.push_str(&crate::view::answer(&reply.answer, style));
        answers.push(reply);
    }
    text.push_str(&format!("\n{}\n", style.faint(&"─".repeat(width()))));
    text.push_str("Now with your own documents:\n");
    for (command, meaning) in [
        ("logothete build FOLDER", "read PDF, office files, HTML, Markdown, e-mail and more"),
        ("logothete ask \"…\"", "ask them something"),
        ("logothete ask --trace \"…\"", "see what every stage did"),
        ("logothete parse FILE", "see what was understood of a file"),
        #[cfg(feature = "serve")]
        ("logothete serve", "put a page in front of it; demo --serve shows one"),
    ] {
        text.push_str(&format!("  {command:<28} {}\n", style.faint(meaning)));
    }
    Ok(Output { text, json: json!({ "build": report, "answers": answers }), code: DONE })
}
