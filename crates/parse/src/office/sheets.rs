//! Spreadsheets: each sheet a table, its cells as they are shown. Parts of a sheet that empty rows part are tables of their
//! own; a line above a table is its caption.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io::Cursor;
use std::ops::{Range, RangeInclusive};
use std::panic::AssertUnwindSafe;

use calamine::{Data, Reader as _};
use logothete_core::document::{
    BlockKind, Budget, Document, DocumentBuilder, Input, Made, Parser, TableCell, TableRow,
};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use super::format::{built_in, general, shown};
use super::{properties, relations};
use crate::archive::Archive;
use crate::xml::{self, Element, XmlEvent};

const BOOK: &str = "xl/workbook.xml";
const OPEN_DOCUMENT: &str = "application/vnd.oasis.opendocument.spreadsheet";
const OFFICE: &str = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet";
const OLD: &str = "application/vnd.ms-excel";
/// A sheet is not read beyond this many columns.
const MAX_COLUMNS: usize = 1_000;
/// No sheet has more rows.
const MAX_ROWS: usize = 1_048_576;
/// An empty cell or row that says it is repeated is repeated this often at most.
const MAX_REPEATED: usize = 64;

/// Reads spreadsheets (`.xlsx`, `.ods`, `.xls`).
#[derive(Clone, Copy, Debug, Default)]
pub struct SheetParser;

impl Parser for SheetParser {
    fn media_types(&self) -> &[&str] {
        &[OFFICE, OPEN_DOCUMENT, OLD]
    }

    fn endings(&self) -> &[&str] {
        &["xlsx", "xlsm", "ods", "xls"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        Archive::says(bytes, OPEN_DOCUMENT) || Archive::has(bytes, BOOK)
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        bytes.starts_with(b"PK") || bytes.starts_with(b"\xD0\xCF\x11\xE0")
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["sheets 1"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let (media_type, sheets, mut builder) = if input.bytes.starts_with(b"PK") {
            let mut archive = Archive::open(input.bytes, input.budget)?;
            let open = Archive::says(input.bytes, OPEN_DOCUMENT);
            let mut builder =
                DocumentBuilder::within(input.name, if open { OPEN_DOCUMENT } else { OFFICE }, input.budget);
            let sheets = if open {
                open_document(&archive.needed("content.xml")?, input.budget)?
            } else {
                properties(&mut archive, input.budget, &mut builder)?;
                office(&mut archive, input.budget)?
            };
            (if open { OPEN_DOCUMENT } else { OFFICE }, sheets, builder)
        } else {
            (OLD, old(input.bytes, input.budget)?, DocumentBuilder::within(input.name, OLD, input.budget))
        };
        let many = sheets.iter().filter(|sheet| !sheet.is_empty()).count() > 1;
        for sheet in sheets {
            input.budget.check()?;
            if many && !sheet.is_empty() {
                builder.heading(1, &sheet.name);
            }
            sheet.write(input.budget, &mut builder)?;
        }
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, format!("no cell of it holds anything ({media_type})")));
        }
        Ok(builder.finish())
    }
}

/// A sheet: its cells by row, and the ranges that are one cell.
#[derive(Debug, Default)]
struct Sheet {
    name: String,
    rows: Vec<Vec<String>>,
    /// First row, first column, last row, last column.
    merged: Vec<[usize; 4]>,
}

impl Sheet {
    fn is_empty(&self) -> bool {
        self.rows.iter().flatten().all(String::is_empty)
    }

    /// Sets the text of a cell, and counts it: many cells may share one text.
    fn set(&mut self, row: usize, column: usize, text: &str, budget: &Budget) -> Result<()> {
        if column >= MAX_COLUMNS || text.is_empty() {
            return Ok(());
        }
        if self.rows.len() <= row {
            self.rows.resize_with(row + 1, Vec::new);
        }
        let cells = &mut self.rows[row];
        budget.count(Made::Text, text.len() as u64)?;
        budget.count(Made::Cells, (column + 1).saturating_sub(cells.len()) as u64)?;
        if cells.len() <= column {
            cells.resize_with(column + 1, String::new);
        }
        text.clone_into(&mut cells[column]);
        Ok(())
    }

    fn text(&self, row: usize, column: usize) -> &str {
        self.rows.get(row).and_then(|cells| cells.get(column)).map_or("", String::as_str)
    }

    fn write(&self, budget: &Budget, builder: &mut DocumentBuilder) -> Result<()> {
        let spanned = Spanned::of(&self.merged, self.rows.len(), budget)?;
        let blank = |row: usize| self.rows[row].iter().all(String::is_empty);
        let mut row = 0;
        while row < self.rows.len() {
            if blank(row) {
                row += 1;
                continue;
            }
            let end = (row..self.rows.len()).find(|&row| blank(row)).unwrap_or(self.rows.len());
            self.write_part(row..end, &spanned, budget, builder)?;
            row = end;
        }
        Ok(())
    }

    /// Writes a part of a sheet without empty rows.
    fn write_part(
        &self,
        part: Range<usize>,
        spanned: &Spanned,
        budget: &Budget,
        builder: &mut DocumentBuilder,
    ) -> Result<()> {
        let Range { start: mut first, end } = part;
        let filled = |row: usize| self.rows[row].iter().filter(|cell| !cell.is_empty()).count();
        // Lines above with one cell say what follows.
        while first < end && filled(first) == 1 {
            let alone = first + 1 == end || filled(first + 1) == 1;
            let text: String = self.rows[first].concat();
            builder.block(if alone { BlockKind::Paragraph } else { BlockKind::Caption }, &text);
            first += 1;
        }
        let places = |row: usize| {
            let cells = self.rows[row].iter().enumerate();
            cells.filter(|(_, text)| !text.is_empty()).map(|(column, _)| column)
        };
        let (left, right) = (first..end)
            .flat_map(places)
            .fold((usize::MAX, 0), |(left, right), column| (left.min(column), right.max(column)));
        if left > right {
            return Ok(());
        }
        // A cell far to the right makes every row as wide.
        let all = ((end - first) * (right - left + 1)) as u64;
        if !budget.allows(Made::Cells, all) {
            return budget.check();
        }
        let mut rows = Vec::with_capacity(end - first);
        for row in first..end {
            budget.check()?;
            let cells = (left..=right).map(|column| self.cell(row, column, first, left, spanned)).collect();
            rows.push(TableRow { cells, ..TableRow::default() });
        }
        builder.table_rows(self.header_rows(first, end, left..=right, spanned), &rows);
        Ok(())
    }

    fn cell(&self, row: usize, column: usize, first: usize, left: usize, spanned: &Spanned) -> TableCell {
        match spanned.at(row, column) {
            Some([top, _, _, _]) if row > top && row > first => TableCell::Above,
            Some([_, from, _, _]) if column > from && column > left => TableCell::Left,
            _ => TableCell::Text(self.text(row, column).to_owned()),
        }
    }

    /// The first row names the columns when it holds words where the next rows hold figures, or words throughout; a cell
    /// over several columns has the names of those below it.
    fn header_rows(&self, first: usize, end: usize, columns: RangeInclusive<usize>, spanned: &Spanned) -> usize {
        let figure =
            |text: &str| text.starts_with(|c: char| c.is_ascii_digit() || c == '-' || c == '€' || c == '£' || c == '$');
        let words = columns.clone().all(|column| !figure(self.text(first, column)));
        if end - first < 2 || !words {
            return 0;
        }
        let ranges = spanned.by_row.get(first).into_iter().flatten();
        let spanning = ranges.into_iter().any(|[top, from, bottom, to]| *top == first && (to > from || bottom > top));
        if spanning && end - first > 2 { 2 } else { 1 }
    }
}

/// The ranges of a sheet that are one cell each, by the rows that they lie in.
struct Spanned {
    by_row: Vec<Vec<[usize; 4]>>,
}

impl Spanned {
    /// Counts the rows that each range lies in. Ranges that do not overlap are at most [`MAX_COLUMNS`] in a row; further ones are left out.
    fn of(merged: &[[usize; 4]], rows: usize, budget: &Budget) -> Result<Self> {
        let mut by_row = vec![Vec::new(); rows];
        for range in merged {
            let own = range[0]..range[2].saturating_add(1).min(rows);
            budget.count(Made::Places, own.len() as u64)?;
            for ranges in by_row.get_mut(own).into_iter().flatten().filter(|ranges| ranges.len() < MAX_COLUMNS) {
                ranges.push(*range);
            }
        }
        by_row.iter_mut().for_each(|ranges: &mut Vec<[usize; 4]>| ranges.sort_by_key(|range| range[1]));
        Ok(Self { by_row })
    }

    /// Returns the range that a cell is a part of.
    fn at(&self, row: usize, column: usize) -> Option<[usize; 4]> {
        let ranges = self.by_row.get(row)?;
        let before = ranges.partition_point(|range| range[1] <= column);
        ranges[..before].last().filter(|range| column <= range[3]).copied()
    }
}

/// Row and column of a cell's name: `C7` is row 6, column 2.
fn place(name: &str) -> Option<(usize, usize)> {
    let letters = name.bytes().take_while(u8::is_ascii_alphabetic).count();
    if !(1..=3).contains(&letters) {
        return None;
    }
    let column =
        name[..letters].bytes().fold(0usize, |sum, b| sum * 26 + usize::from(b.to_ascii_uppercase() - b'A' + 1));
    let row: usize = name[letters..].parse().ok()?;
    (row > 0 && row <= MAX_ROWS).then(|| (row - 1, column - 1))
}

/// The formats of cells by their style, and whether days count from 1904.
struct Formats {
    by_style: Vec<String>,
    from_1904: bool,
}

fn office(archive: &mut Archive<'_>, budget: &Budget) -> Result<Vec<Sheet>> {
    let book = xml::tree(&archive.needed(BOOK)?, budget)?;
    let targets = relations(archive, BOOK, budget)?;
    let strings = match archive.part("xl/sharedStrings.xml")? {
        Some(bytes) => xml::tree(&bytes, budget)?.all("si").map(rich_text).collect(),
        None => Vec::new(),
    };
    let from_1904 = book
        .child("workbookPr")
        .is_some_and(|properties| matches!(properties.attribute("date1904"), Some("1" | "true")));
    let by_style = match archive.part("xl/styles.xml")? {
        Some(bytes) => formats(&xml::tree(&bytes, budget)?),
        None => Vec::new(),
    };
    let formats = Formats { by_style, from_1904 };
    let mut sheets = Vec::new();
    for entry in book.descendants("sheet") {
        if matches!(entry.attribute("state"), Some("hidden" | "veryHidden")) {
            continue;
        }
        let Some(target) = entry.attribute_all("id").find_map(|id| targets.get(id)) else { continue };
        let Some(bytes) = archive.part(&target.target)? else { continue };
        let mut sheet = Sheet { name: entry.attribute("name").unwrap_or("Sheet").to_owned(), ..Sheet::default() };
        office_sheet(&xml::decode(&bytes), &strings, &formats, &mut sheet, budget)?;
        sheets.push(sheet);
    }
    Ok(sheets)
}

/// Returns a shared string without its pronunciation.
fn rich_text(item: &Element) -> String {
    item.elements()
        .filter_map(|part| match part.name.as_str() {
            "t" => Some(part.text()),
            "r" => part.child("t").map(Element::text),
            _ => None,
        })
        .collect()
}

fn formats(styles: &Element) -> Vec<String> {
    let own: HashMap<u32, &str> = styles
        .descendants("numFmt")
        .into_iter()
        .filter_map(|format| Some((format.attribute("numFmtId")?.parse().ok()?, format.attribute("formatCode")?)))
        .collect();
    let Some(list) = styles.child("cellXfs") else { return Vec::new() };
    list.all("xf")
        .map(|style| {
            let id: u32 = style.attribute("numFmtId").and_then(|id| id.parse().ok()).unwrap_or(0);
            own.get(&id).map_or_else(|| built_in(id).to_owned(), |format| (*format).to_owned())
        })
        .collect()
}

/// Reads the cells of a sheet as they come, without a tree of it.
fn office_sheet(text: &str, strings: &[String], formats: &Formats, sheet: &mut Sheet, budget: &Budget) -> Result<()> {
    let mut at = (0, 0);
    let (mut kind, mut style, mut value) = (String::new(), 0usize, String::new());
    let mut inside = false;
    let mut hidden = false;
    xml::events(text, budget, |found| {
        match found {
            XmlEvent::Start(start) | XmlEvent::Empty(start) => match xml::name(start).as_str() {
                "row" => hidden = matches!(xml::attribute(start, "hidden").as_deref(), Some("1" | "true")),
                "c" => {
                    at = xml::attribute(start, "r").and_then(|name| place(&name)).unwrap_or((at.0, at.1 + 1));
                    kind = xml::attribute(start, "t").unwrap_or_default();
                    style = xml::attribute(start, "s").and_then(|style| style.parse().ok()).unwrap_or(0);
                    value.clear();
                }
                "v" | "t" => inside = true,
                "mergeCell" => sheet.merged.extend(xml::attribute(start, "ref").and_then(|range| {
                    let (from, to) = range.split_once(':')?;
                    let ((top, left), (bottom, right)) = (place(from)?, place(to)?);
                    Some([top, left, bottom, right])
                })),
                _ => {}
            },
            XmlEvent::Text(text) if inside => value.push_str(text),
            XmlEvent::Text(_) => {}
            XmlEvent::End("v" | "t") => inside = false,
            XmlEvent::End("c") if !hidden => {
                let text = cell_text(&kind, &value, style, strings, formats);
                sheet.set(at.0, at.1, &text, budget)?;
            }
            XmlEvent::End(_) => {}
        }
        Ok(())
    })
}

fn cell_text<'t>(kind: &str, value: &'t str, style: usize, strings: &'t [String], formats: &Formats) -> Cow<'t, str> {
    match kind {
        "s" => {
            let shared = value.trim().parse::<usize>().ok().and_then(|index| strings.get(index));
            shared.map_or("", String::as_str).into()
        }
        "b" => if value.trim() == "1" { "yes" } else { "no" }.into(),
        "str" | "inlineStr" | "e" | "d" => value.into(),
        _ => match value.trim().parse::<f64>() {
            Ok(number) if number.is_finite() => {
                let format = formats.by_style.get(style).map_or("General", String::as_str);
                shown(number, format, formats.from_1904).into()
            }
            _ => value.into(),
        },
    }
}

/// Returns the sheets of an OpenDocument file, whose cells hold the text that is shown.
fn open_document(bytes: &[u8], budget: &Budget) -> Result<Vec<Sheet>> {
    let mut sheets: Vec<Sheet> = Vec::new();
    let (mut row, mut column) = (0usize, 0usize);
    let (mut row_repeats, mut repeats, mut spans) = (1usize, 1usize, (1usize, 1usize));
    let mut text = String::new();
    let (mut in_cell, mut in_note) = (false, 0);
    let number = |start: &quick_xml::events::BytesStart<'_>, name: &str| {
        xml::attribute(start, name).and_then(|count| count.parse::<usize>().ok()).unwrap_or(1).max(1)
    };
    let content = xml::decode(bytes);
    xml::events(&content, budget, |found| {
        let Some(sheet) = sheets.last_mut() else {
            if let XmlEvent::Start(start) = found
                && xml::name(start) == "table"
            {
                sheets.push(Sheet { name: xml::attribute(start, "name").unwrap_or_default(), ..Sheet::default() });
            }
            return Ok(());
        };
        let empty = matches!(found, XmlEvent::Empty(_));
        let mut end_cell = false;
        match found {
            XmlEvent::Start(start) | XmlEvent::Empty(start) => match xml::name(start).as_str() {
                "table" => {
                    sheets.push(Sheet { name: xml::attribute(start, "name").unwrap_or_default(), ..Sheet::default() });
                    row = 0;
                    return Ok(());
                }
                "table-row" => {
                    column = 0;
                    row_repeats = number(start, "number-rows-repeated");
                    if empty {
                        row += row_repeats.min(MAX_REPEATED);
                    }
                }
                "table-cell" | "covered-table-cell" => {
                    repeats = number(start, "number-columns-repeated");
                    let spanned = |name: &str| number(start, name).min(MAX_ROWS);
                    spans = (spanned("number-rows-spanned"), spanned("number-columns-spanned"));
                    text.clear();
                    in_cell = true;
                    end_cell = empty;
                }
                "annotation" if !empty => in_note += 1,
                "p" if in_cell && in_note == 0 && !text.is_empty() => text.push(' '),
                "s" if in_cell && in_note == 0 => text.push(' '),
                _ => {}
            },
            XmlEvent::Text(part) if in_cell && in_note == 0 => text.push_str(part),
            XmlEvent::Text(_) => {}
            XmlEvent::End("table-cell" | "covered-table-cell") => end_cell = true,
            XmlEvent::End("annotation") => in_note -= 1,
            XmlEvent::End("table-row") => row += row_repeats.min(MAX_REPEATED),
            XmlEvent::End(_) => {}
        }
        if end_cell {
            in_cell = false;
            let times = if text.trim().is_empty() { 0 } else { repeats.min(MAX_REPEATED) };
            for (down, across) in
                (0..row_repeats.min(MAX_REPEATED)).flat_map(|down| (0..times).map(move |across| (down, across)))
            {
                sheet.set(row + down, column + across, text.trim(), budget)?;
            }
            if spans != (1, 1) {
                sheet.merged.push([row, column, row + spans.0 - 1, column + spans.1 - 1]);
            }
            column = column.saturating_add(repeats);
        }
        Ok(())
    })?;
    Ok(sheets)
}

/// Returns the sheets of an older binary file. The library that reads them panics on some damaged files; such a file is
/// refused.
fn old(bytes: &[u8], budget: &Budget) -> Result<Vec<Sheet>> {
    std::panic::catch_unwind(AssertUnwindSafe(|| read_old(bytes, budget))).unwrap_or_else(|_| {
        let message = "this old spreadsheet is damaged; save it again, in a newer format if you can";
        Err(Error::new(ErrorKind::Unreadable, message))
    })
}

fn read_old(bytes: &[u8], budget: &Budget) -> Result<Vec<Sheet>> {
    let mut book: calamine::Xls<_> = calamine::Xls::new(Cursor::new(bytes)).map_err(|error| {
        let message = "this old office document is no spreadsheet that can be read; save it in a newer format";
        Error::new(ErrorKind::Unreadable, message).because(error)
    })?;
    let mut sheets = Vec::new();
    for name in book.sheet_names() {
        let Ok(range) = book.worksheet_range(&name) else { continue };
        let mut sheet = Sheet { name, ..Sheet::default() };
        for (row, column, cell) in range.used_cells() {
            let text = match cell {
                Data::Empty => String::new(),
                Data::Float(number) => general(*number),
                Data::DateTime(date) => {
                    let format = if date.as_f64().fract() == 0.0 { "yyyy-mm-dd" } else { "yyyy-mm-dd hh:mm" };
                    shown(date.as_f64(), format, false)
                }
                other => other.to_string(),
            };
            sheet.set(row, column, &text, budget)?;
        }
        sheets.push(sheet);
    }
    Ok(sheets)
}
