//! A whole corpus as JSON Lines, and back.
//!
//! The first line says what it is: `{"corpus": {"format": 4, "encoder": …, "encoder_name": …, "dimensions": 384, "distance": …}}`.
//! Each line behind it is a row of a table of the catalogue, under the table's name, with its columns: `sources`, then
//! `documents`, `blocks` and `chunks`. A chunk that is indexed has its `vector` instead of its segment and row. The tables are
//! described in `docs/format.md`.

use std::io::{BufRead, Write};

use logothete_core::keyword::KeywordWriter;
use logothete_core::vector::{Vectors, write_vectors};
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use super::{StopToken, merge};
use crate::corpus::{Catalogue, FORMAT, Inner, Place, SegmentFiles};

/// The tables, in the order in which they refer to one another.
const TABLES: [&str; 4] = ["sources", "documents", "blocks", "chunks"];
/// A segment that is imported has no more rows.
const ROWS: usize = 20_000;

/// What the first line says.
#[derive(Debug, Serialize, Deserialize)]
struct Head {
    format: u32,
    encoder: String,
    encoder_name: String,
    dimensions: usize,
    distance: String,
}

fn unwritable(error: std::io::Error) -> Error {
    Error::new(ErrorKind::System, format!("the export could not be written: {error}")).because(error)
}

/// Writes the corpus as it is now; returns how many lines there are.
pub(crate) fn export(inner: &Inner, to: &mut dyn Write) -> Result<u64> {
    let view = inner.view()?;
    let catalogue = view.catalogue();
    inner.same_encoder(&catalogue)?;
    let about = |key: &str| Ok(catalogue.about(key)?.unwrap_or_default());
    let head = Head {
        format: FORMAT,
        encoder: about("encoder")?,
        encoder_name: about("encoder_name")?,
        dimensions: inner.pipeline.encoder.dimensions(),
        distance: inner.pipeline.settings.distance.name().to_owned(),
    };
    let mut lines = 1;
    writeln!(to, "{}", json!({ "corpus": head })).map_err(unwritable)?;
    for table in TABLES {
        catalogue.each_row(table, |mut row| {
            if table == "chunks" {
                let segment = row.shift_remove("segment").and_then(|segment| segment.as_i64());
                let number = row.shift_remove("row").and_then(|row| u32::try_from(row.as_u64()?).ok());
                if let Some((segment, row_number)) = segment.zip(number) {
                    let vector = view.snapshot.vector(Place { segment, row: row_number });
                    row.insert("vector".to_owned(), json!(vector));
                }
            }
            lines += 1;
            writeln!(to, "{}", json!({ table: row })).map_err(unwritable)
        })?;
    }
    to.flush().map_err(unwritable).map(|()| lines)
}

/// Fills an empty corpus with what was exported, all of it or nothing; returns how many lines there were.
pub(crate) fn import(inner: &Inner, from: &mut dyn BufRead) -> Result<u64> {
    let _lock = inner.write_lock()?;
    let mut lines = from.lines();
    let mut number = 0_u64;
    let mut next = || -> Option<Result<(u64, Value)>> {
        let line = lines.next()?;
        number += 1;
        let wrong = |message: String| Error::new(ErrorKind::Unreadable, message).at(format!("line {number}"));
        let line = line.map_err(|error| wrong(format!("it could not be read: {error}")));
        Some(line.and_then(|line| {
            let value = serde_json::from_str(&line).map_err(|error| wrong(format!("this is not JSON: {error}")))?;
            Ok((number, value))
        }))
    };
    let no_export =
        || Error::new(ErrorKind::Unreadable, "this is no export of a corpus; show --export FILE writes one");
    let (_, first) = next().ok_or_else(no_export)??;
    let head: Head = first.get("corpus").and_then(|head| Head::deserialize(head).ok()).ok_or_else(no_export)?;
    check(inner, &head)?;
    let mut catalogue = inner.catalogue();
    if !catalogue.is_empty()? {
        let message = "this corpus holds documents already; import into a new one with --corpus FOLDER";
        return Err(Error::new(ErrorKind::Refused, message));
    }
    let mut count = 1;
    catalogue.commit(|catalogue| {
        let mut rows = Rows::new(inner);
        catalogue.defer_references()?;
        while let Some(line) = next() {
            let (number, value) = line?;
            let at = |error: Error| if error.place().is_none() { error.at(format!("line {number}")) } else { error };
            let wrong = || Error::new(ErrorKind::Unreadable, "this line is no row of a table that is known");
            let Value::Object(object) = value else { return Err(at(wrong())) };
            let Some((table, Value::Object(row))) = object.into_iter().next() else { return Err(at(wrong())) };
            match TABLES.iter().find(|known| **known == table) {
                Some(&"chunks") => rows.chunk(catalogue, row).map_err(at)?,
                Some(table) => catalogue.insert_row(table, &row).map_err(at)?,
                None => return Err(at(wrong())),
            }
            count += 1;
        }
        rows.write(catalogue)
    })?;
    drop(catalogue);
    merge::settle(inner, &StopToken::default())?;
    Ok(count)
}

fn check(inner: &Inner, head: &Head) -> Result<()> {
    let (encoder, distance) = (&inner.pipeline.encoder, inner.pipeline.settings.distance);
    let wrong = |message: String| Err(Error::new(ErrorKind::Mismatch, message).at("line 1"));
    if head.format != FORMAT {
        let theirs = head.format;
        return wrong(format!(
            "this export has format {theirs}, and this program reads format {FORMAT}; export again with it"
        ));
    }
    if head.encoder != encoder.fingerprint().as_str() {
        let (theirs, ours) = (&head.encoder_name, encoder.name());
        return wrong(format!(
            "its vectors are of the encoder “{theirs}”, and this is “{ours}”; import with the first, then build --reencode"
        ));
    }
    if head.distance != distance.name() {
        return wrong(format!("its vectors are compared by “{}”; set distance in [index] to that", head.distance));
    }
    Ok(())
}

/// The chunks whose segment is not written yet.
struct Rows<'a> {
    inner: &'a Inner,
    vectors: Vectors,
    keywords: KeywordWriter,
    segment: i64,
}

impl<'a> Rows<'a> {
    fn new(inner: &'a Inner) -> Self {
        let settings = &inner.pipeline.settings;
        let vectors = Vectors::new(inner.pipeline.encoder.dimensions());
        Self { inner, vectors, keywords: KeywordWriter::new(settings.fields), segment: 1 }
    }

    fn chunk(&mut self, catalogue: &Catalogue, mut row: Map<String, Value>) -> Result<()> {
        let vector = row.shift_remove("vector").filter(|vector| !vector.is_null());
        let id = row.get("id").and_then(Value::as_str).unwrap_or_default().to_owned();
        if let Some(vector) = vector {
            let numbers: Vec<f32> = Vec::deserialize(&vector)
                .map_err(|error| Error::new(ErrorKind::Unreadable, format!("its vector cannot be read: {error}")))?;
            row.insert("segment".to_owned(), json!(self.segment));
            row.insert("row".to_owned(), json!(self.vectors.len()));
            self.vectors.push(&numbers)?;
            catalogue.insert_row("chunks", &row)?;
            catalogue.indexed(&id)?.write(&mut self.keywords);
        } else {
            catalogue.insert_row("chunks", &row)?;
        }
        if self.vectors.len() >= ROWS { self.write(catalogue) } else { Ok(()) }
    }

    /// Writes the segment so far.
    fn write(&mut self, catalogue: &Catalogue) -> Result<()> {
        if self.vectors.is_empty() {
            return Ok(());
        }
        let (store, settings) = (&self.inner.store, &self.inner.pipeline.settings);
        let vectors = std::mem::replace(&mut self.vectors, Vectors::new(self.inner.pipeline.encoder.dimensions()));
        let files = SegmentFiles {
            rows: vectors.len() as u32,
            vectors: store.write("vectors", |to| write_vectors(&vectors, settings.distance, to))?,
            keywords: store.write("keywords", |to| self.keywords.write(to))?,
            near: None,
        };
        store.sync()?;
        catalogue.add_segment_as(self.segment, &files)?;
        self.segment += 1;
        Ok(())
    }
}
