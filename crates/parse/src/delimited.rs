//! Tables in text, with commas, semicolons, tabs or bars between the fields.

use csv::{ReaderBuilder, Trim};
use logothete_core::document::{Document, DocumentBuilder, Input, Made, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::plain;

/// The delimiters of fields, the likeliest first.
const DELIMITERS: &[u8] = b",;\t|";
/// The number of rows for detecting the dialect.
const SAMPLE_ROWS: usize = 50;

/// Reads the rows as one table. The delimiter is the one that cuts most rows into the same number of fields; the first row
/// names the columns when it looks like names.
#[derive(Clone, Copy, Debug, Default)]
pub struct DelimitedParser;

impl Parser for DelimitedParser {
    fn media_types(&self) -> &[&str] {
        &["text/csv", "text/tab-separated-values"]
    }

    fn endings(&self) -> &[&str] {
        &["csv", "tsv", "tab", "psv"]
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        crate::detect::not_text(bytes).is_none()
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["delimited 1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let decoded = plain::decode(input.bytes);
        let text = decoded.text().trim_start_matches('\u{feff}');
        let delimiter = delimiter(text);
        let mut rows = Vec::new();
        for row in records(text, delimiter) {
            input.budget.count(Made::Cells, row.len() as u64)?;
            input.budget.count(Made::Text, row.iter().map(String::len).sum::<usize>() as u64)?;
            rows.push(row);
        }
        if rows.iter().flatten().all(String::is_empty) {
            return Err(Error::new(ErrorKind::Unreadable, "the file holds no rows"));
        }
        let media_type = if delimiter == b'\t' { "text/tab-separated-values" } else { "text/csv" };
        let mut builder = DocumentBuilder::within(input.name, media_type, input.budget);
        decoded.note(&mut builder);
        let broadest = rows.iter().map(Vec::len).max().unwrap_or(0);
        let uneven = rows.iter().filter(|row| row.len() != broadest).count();
        if uneven > 0 {
            builder.warn(format!(
                "{uneven} of {} rows have fewer fields than the broadest, which has {broadest}",
                rows.len()
            ));
        }
        builder.metadata("rows", Value::Number(rows.len() as f64));
        builder.table(usize::from(names_columns(&rows)), &rows);
        Ok(builder.finish())
    }
}

/// Returns `true` if the first row of a text names the columns.
pub(crate) fn has_header(text: &str, delimiter: u8) -> bool {
    names_columns(&records(text, delimiter).take(2).collect::<Vec<_>>())
}

/// Returns the records one by one. Those that cannot be read are left out.
fn records(text: &str, delimiter: u8) -> impl Iterator<Item = Vec<String>> {
    let reader = ReaderBuilder::new()
        .delimiter(delimiter)
        .has_headers(false)
        .flexible(true)
        .trim(Trim::All)
        .from_reader(text.as_bytes());
    reader.into_records().flatten().map(|record| record.iter().map(str::to_owned).collect())
}

/// Returns the delimiter under which most rows have the same number of fields, two or more.
pub(crate) fn delimiter(text: &str) -> u8 {
    let agreeing = |delimiter: u8| {
        let mut widths: Vec<usize> = records(text, delimiter).take(SAMPLE_ROWS).map(|row| row.len()).collect();
        widths.sort_unstable();
        let usual = widths.get(widths.len() / 2).copied().unwrap_or(0);
        if usual < 2 { 0 } else { widths.iter().filter(|width| **width == usual).count() }
    };
    // Of two that agree alike, the one that comes first in the list.
    DELIMITERS.iter().rev().copied().max_by_key(|delimiter| agreeing(*delimiter)).unwrap_or(b',')
}

/// Returns `true` if the first row names the columns: every field is filled, no field is a number, and no two are equal.
fn names_columns(rows: &[Vec<String>]) -> bool {
    let Some((first, rest)) = rows.split_first() else { return false };
    let figure = |cell: &String| cell.parse::<f64>().is_ok();
    let mut names: Vec<&String> = first.iter().collect();
    names.sort();
    names.dedup();
    !rest.is_empty() && names.len() == first.len() && !first.iter().any(|cell| cell.is_empty() || figure(cell))
}
