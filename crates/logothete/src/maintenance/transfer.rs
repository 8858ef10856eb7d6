//! A whole corpus as JSON Lines, and back.
//!
//! The first line describes the corpus: `{"corpus": {"format": 5, "encoder": …, "encoder_name": …, "dimensions": 384, "distance": …}}`.
//! Each line behind it is a row of a table of the catalogue, under the table's name, with its columns: `sources`, then
//! `documents`, `blocks` and `chunks`. A chunk that is indexed has its `vector` instead of its segment and row. Behind them stands the tree of summaries, if there
//! is one, under `tree`. The tables are
//! described in `docs/format.md`.

use std::io::{BufRead, Write};

use logothete_core::chunk::ChunkId;
use logothete_core::keyword::KeywordWriter;
use logothete_core::tree::StoredTree;
use logothete_core::vector::Vectors;
use logothete_core::{Error, ErrorKind, Result};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use super::merge;
use crate::opened::{Opened, identity};
use crate::storage::{CatalogueTransaction, FORMAT, FileKind, OLDEST_EXPORT, RowId, View};
use crate::threads::{Driver, StopToken};

/// The tables, in the order in which they refer to one another.
const TABLES: [&str; 4] = ["sources", "documents", "blocks", "chunks"];
/// The number of rows of an imported segment.
const MAX_ROWS: usize = 20_000;

/// The first line.
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

fn check_stop(stop: &StopToken) -> Result<()> {
    match stop.is_stopped() {
        true => Err(Error::new(ErrorKind::Cancelled, "the transfer was stopped")),
        false => Ok(()),
    }
}

/// Writes the corpus as of a view; returns the number of lines.
pub(crate) fn export(opened: &Opened, view: &View, to: &mut dyn Write, stop: &StopToken) -> Result<u64> {
    let catalogue = view.catalogue();
    let manifest = catalogue.manifest()?;
    opened.check_encoder(&manifest)?;
    let encoder = manifest.encoder.unwrap_or_else(|| identity(&*opened.encoder));
    let head = Head {
        format: FORMAT,
        encoder: encoder.fingerprint,
        encoder_name: encoder.name,
        dimensions: opened.encoder.dimensions(),
        distance: opened.config().index.distance.name().to_owned(),
    };
    let mut lines = 1;
    writeln!(to, "{}", json!({ "corpus": head })).map_err(unwritable)?;
    for table in TABLES {
        catalogue.export(table, &mut |mut row| {
            check_stop(stop)?;
            if table == "chunks" {
                let segment = row.shift_remove("segment").and_then(|segment| segment.as_i64());
                let number = row.shift_remove("row").and_then(|row| u32::try_from(row.as_u64()?).ok());
                if let Some((segment, number)) = segment.zip(number) {
                    let vector = view.snapshot.vector(RowId { segment, row: number });
                    row.insert("vector".to_owned(), json!(vector));
                }
            }
            lines += 1;
            writeln!(to, "{}", json!({ table: row })).map_err(unwritable)
        })?;
    }
    if let Some(tree) = view.snapshot.tree()? {
        writeln!(to, "{}", json!({ "tree": tree.to_json()? })).map_err(unwritable)?;
        lines += 1;
    }
    to.flush().map_err(unwritable).map(|()| lines)
}

/// Fills an empty corpus with what was exported, all of it or nothing; returns the number of lines.
pub(crate) fn import(opened: &Opened, driver: &Driver, from: &mut dyn BufRead, stop: &StopToken) -> Result<u64> {
    let lease = opened.write_lease()?;
    let mut lines = from.lines();
    let mut number = 0_u64;
    let mut next = || -> Option<Result<(u64, Value)>> {
        let line = lines.next()?;
        number += 1;
        let invalid = |message: String| Error::new(ErrorKind::Unreadable, message).at(format!("line {number}"));
        let line = line.map_err(|error| invalid(format!("this line could not be read: {error}")));
        Some(line.and_then(|line| {
            let value = serde_json::from_str(&line).map_err(|error| invalid(format!("this is not JSON: {error}")))?;
            Ok((number, value))
        }))
    };
    let no_export = || Error::new(ErrorKind::Unreadable, "this is not an export of a corpus");
    let (_, first) = next().ok_or_else(no_export)??;
    let head: Head = first.get("corpus").and_then(|head| Head::deserialize(head).ok()).ok_or_else(no_export)?;
    check(opened, &head)?;
    if !opened.storage.read()?.is_empty()? {
        let message = "this corpus holds documents already; import into a new one";
        return Err(Error::new(ErrorKind::Refused, message));
    }
    let mut count = 1;
    opened.storage.commit(&lease, |transaction| {
        let mut rows = Rows::new(opened);
        transaction.defer_references()?;
        while let Some(line) = next() {
            check_stop(stop)?;
            let (number, value) = line?;
            let at = |error: Error| if error.place().is_none() { error.at(format!("line {number}")) } else { error };
            let invalid = || Error::new(ErrorKind::Unreadable, "this line is not a row of a known table");
            let Value::Object(object) = value else { return Err(at(invalid())) };
            let Some((table, Value::Object(row))) = object.into_iter().next() else { return Err(at(invalid())) };
            match TABLES.iter().find(|known| **known == table) {
                None if table == "tree" => {
                    let tree = StoredTree::from_json(Value::Object(row), opened.encoder.dimensions()).map_err(at)?;
                    let name = opened.storage.write(FileKind::Tree, |to| tree.write(to))?;
                    opened.storage.sync()?;
                    transaction.set_tree(Some(&name))?;
                }
                Some(&"chunks") => rows.chunk(transaction, row).map_err(at)?,
                Some(table) => transaction.import(table, &row).map_err(at)?,
                None => return Err(at(invalid())),
            }
            count += 1;
        }
        rows.write(transaction)
    })?;
    merge::settle(opened, driver, &lease, stop)?;
    Ok(count)
}

fn check(opened: &Opened, head: &Head) -> Result<()> {
    let (encoder, distance) = (&opened.encoder, opened.config().index.distance);
    let mismatch = |message: String| Err(Error::new(ErrorKind::Mismatch, message).at("line 1"));
    if !(OLDEST_EXPORT..=FORMAT).contains(&head.format) {
        let theirs = head.format;
        return mismatch(format!(
            "this export has format {theirs}, and this version reads formats {OLDEST_EXPORT} to {FORMAT}; export again with it"
        ));
    }
    if head.encoder != encoder.fingerprint().as_str() {
        let (theirs, ours) = (&head.encoder_name, encoder.name());
        return mismatch(format!(
            "the vectors are those of the encoder “{theirs}”, and this is “{ours}”; import with the first, then encode the corpus again"
        ));
    }
    if head.distance != distance.name() {
        return mismatch(format!("the vectors are compared by “{}”; set distance in [index] to that", head.distance));
    }
    Ok(())
}

/// The chunks whose segment is not written yet.
struct Rows<'a> {
    opened: &'a Opened,
    vectors: Vectors,
    keywords: KeywordWriter,
    segment: i64,
}

impl<'a> Rows<'a> {
    fn new(opened: &'a Opened) -> Self {
        let vectors = Vectors::new(opened.encoder.dimensions());
        Self { opened, vectors, keywords: KeywordWriter::new(opened.config().index.fields), segment: 1 }
    }

    fn chunk(&mut self, transaction: &dyn CatalogueTransaction, mut row: Map<String, Value>) -> Result<()> {
        let vector = row.shift_remove("vector").filter(|vector| !vector.is_null());
        let id = ChunkId::from_stored(row.get("id").and_then(Value::as_str).unwrap_or_default());
        if let Some(vector) = vector {
            let numbers: Vec<f32> = Vec::deserialize(&vector)
                .map_err(|error| Error::new(ErrorKind::Unreadable, format!("the vector cannot be read: {error}")))?;
            row.insert("segment".to_owned(), json!(self.segment));
            row.insert("row".to_owned(), json!(self.vectors.len()));
            self.vectors.push(&numbers)?;
            transaction.import("chunks", &row)?;
            let indexed = transaction.indexed(std::slice::from_ref(&id))?.remove(&id);
            let orphan = || Error::new(ErrorKind::Unreadable, "the chunk comes before its document");
            indexed.ok_or_else(orphan)?.write(&mut self.keywords);
        } else {
            transaction.import("chunks", &row)?;
        }
        if self.vectors.len() >= MAX_ROWS { self.write(transaction) } else { Ok(()) }
    }

    /// Writes the segment so far.
    fn write(&mut self, transaction: &dyn CatalogueTransaction) -> Result<()> {
        if self.vectors.is_empty() {
            return Ok(());
        }
        let vectors = std::mem::replace(&mut self.vectors, Vectors::new(self.opened.encoder.dimensions()));
        let files = self.opened.write_segment(&vectors, &mut self.keywords)?;
        transaction.add_segment_as(self.segment, &files)?;
        self.segment += 1;
        Ok(())
    }
}
