//! The other work of `logothete build` (forget, compact, re-encode, import), and the export of `logothete show`.

use std::fs::File;
use std::io::{BufReader, BufWriter};
use std::path::Path;

use logothete::{Error, ErrorKind, Result, StopToken};
use serde_json::json;

use super::{configuration, corpus, corpus_folder};
use crate::args::CorpusArguments;
use crate::view::{Style, bytes, count, thousands};
use crate::{DONE, FAILED, Output, STOPPED};

/// Forgets a document for good.
pub async fn forget(at: &CorpusArguments, document: &str) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let forgotten = corpus.forget(document).await?;
    let style = Style::of_stdout();
    let chunks = count(forgotten.chunks, "chunk", "chunks");
    let mut text = format!("{} and its {chunks} are gone from the corpus and all its files.\n", style.place(document));
    if let Some(file) = &forgotten.still_there {
        let file = file.display();
        text.push_str(&format!(
            "{} {file} is still there. Remove it, or name it in exclude in [sources], or the next build reads it again.\n",
            style.warning("To consider")
        ));
    }
    Ok(Output { text, json: json!(forgotten), code: DONE })
}

/// Makes one segment of all.
pub async fn compact(at: &CorpusArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let before = corpus.info().await?;
    corpus.compact().await?;
    let after = corpus.info().await?;
    let size = |info: &logothete::corpus::CorpusInfo| info.catalogue_bytes + info.index_bytes;
    let merged = match (before.segments.len(), before.dead_rows) {
        (0 | 1, 0) => "There was nothing to merge or to drop".to_owned(),
        (segments, dead) => format!(
            "{} became {}, {} dropped",
            count(segments as u64, "segment", "segments"),
            after.segments.len(),
            count(dead, "deleted row was", "deleted rows were"),
        ),
    };
    let mut text = match (bytes(size(&before)), bytes(size(&after))) {
        (before, after) if before == after => format!("{merged}.\n"),
        (before, after) => format!("{merged}; {before} became {after}.\n"),
    };
    if before.variants > 0 {
        let removed = count(before.variants, "corpus of other settings was", "corpora of other settings were");
        text.push_str(&format!("{removed} removed, {}.\n", bytes(before.variant_bytes)));
    }
    let json = json!({
        "segments": [before.segments.len(), after.segments.len()],
        "dead_rows": [before.dead_rows, after.dead_rows],
        "bytes": [size(&before), size(&after)],
        "variants": [before.variants, after.variants],
    });
    Ok(Output { text, json, code: DONE })
}

/// Encodes all chunks with the configuration's encoder.
pub async fn reencode(at: &CorpusArguments) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let stop = StopToken::default();
    let asked = stop.clone();
    tokio::spawn(async move {
        if tokio::signal::ctrl_c().await.is_ok() {
            asked.stop();
        }
    });
    let pipeline = super::pipeline(&config)?;
    let (_, report) = pipeline.reencode(corpus_folder(at, &folder, true)?, &stop).await?;
    let encoder = pipeline.encoder()?.name();
    let made = count(report.encoded as u64, "chunk was encoded", "chunks were encoded");
    let kept = if report.cached > 0 {
        format!(", {} came from the cache", thousands(report.cached as u64))
    } else {
        String::new()
    };
    let (text, code) = match (&report.capped, report.stopped) {
        (Some(capped), _) => (format!("{made}{kept}. {capped}\n"), FAILED),
        (None, true) => {
            (format!("{made}{kept}. Stopped; the old vectors are still in use. Run it again to go on.\n"), STOPPED)
        }
        _ if report.encoded + report.cached == 0 => {
            (format!("The corpus already uses the encoder “{encoder}”.\n"), DONE)
        }
        _ => (format!("{made}{kept}. The corpus is of the encoder “{encoder}” now.\n"), DONE),
    };
    Ok(Output { text, json: json!(report), code })
}

/// Fills an empty corpus from an export.
pub async fn import(at: &CorpusArguments, file: &Path) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let opened =
        File::open(file).map_err(|error| located(file, ErrorKind::NotFound, "it could not be opened", error))?;
    let corpus = corpus(at, &config, &folder, false).await?;
    corpus.import(BufReader::new(opened)).await?;
    let info = corpus.info().await?;
    let documents = count(info.documents.len() as u64, "document", "documents");
    let text = format!("{documents} with {} were imported.\n", count(info.chunks, "chunk", "chunks"));
    Ok(Output { text, json: json!({ "documents": info.documents.len(), "chunks": info.chunks }), code: DONE })
}

/// Writes all of the corpus as JSON Lines.
pub async fn export(at: &CorpusArguments, file: &Path) -> Result<Output> {
    let (config, folder) = configuration(at)?;
    let corpus = corpus(at, &config, &folder, true).await?;
    let created = File::create_new(file).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => {
            located(file, ErrorKind::Refused, "it is there already; name another file", error)
        }
        _ => located(file, ErrorKind::System, "it could not be written", error),
    })?;
    let lines = corpus.export(BufWriter::new(created)).await?;
    let size = std::fs::metadata(file).map_or(0, |data| data.len());
    let text = format!("{} with {} were written.\n", count(lines, "line", "lines"), bytes(size));
    Ok(Output { text, json: json!({ "lines": lines, "bytes": size }), code: DONE })
}

fn located(file: &Path, kind: ErrorKind, what: &str, error: std::io::Error) -> Error {
    let message = if kind == ErrorKind::Refused { what.to_owned() } else { format!("{what}: {error}") };
    Error::new(kind, message).at(file.display()).because(error)
}
