//! Office documents: Office Open XML (ISO/IEC 29500), OpenDocument spreadsheets (ISO/IEC 26300) and the older binary
//! spreadsheets.

mod docx;
mod format;
mod pptx;
mod sheets;

pub use docx::DocxParser;
pub use pptx::PptxParser;
pub use sheets::SheetParser;

use std::collections::HashMap;

use logothete_core::Result;
use logothete_core::document::{Budget, DocumentBuilder, Value};

use crate::archive::{Archive, resolve};
use crate::xml;

/// Title, author and dates from an archive's core properties.
fn properties(archive: &mut Archive<'_>, budget: &Budget, builder: &mut DocumentBuilder) -> Result<()> {
    let Some(bytes) = archive.part("docProps/core.xml")? else { return Ok(()) };
    let Ok(core) = xml::tree(&bytes, budget) else { return Ok(()) };
    let named = [
        ("title", "title"),
        ("creator", "author"),
        ("subject", "subject"),
        ("created", "date"),
        ("modified", "revised"),
        ("language", "language"),
        ("keywords", "keywords"),
    ];
    for (element, key) in named {
        if let Some(text) = core.child(element).map(xml::Element::text).filter(|text| !text.trim().is_empty()) {
            builder.metadata(key, Value::date_or_text(&text));
        }
    }
    Ok(())
}

/// Returns the targets of a part by relation id: the path of another part, or an address.
fn relations(archive: &mut Archive<'_>, part: &str, budget: &Budget) -> Result<HashMap<String, Relation>> {
    let (folder, file) = part.rsplit_once('/').unwrap_or(("", part));
    let path = if folder.is_empty() { format!("_rels/{file}.rels") } else { format!("{folder}/_rels/{file}.rels") };
    let Some(bytes) = archive.part(&path)? else { return Ok(HashMap::new()) };
    let tree = xml::tree(&bytes, budget)?;
    Ok(tree
        .all("Relationship")
        .filter_map(|relation| {
            let target = relation.attribute("Target")?;
            let outside = relation.attribute("TargetMode") == Some("External");
            let target = if outside { target.to_owned() } else { resolve(part, target) };
            let kind = relation.attribute("Type")?.rsplit('/').next()?.to_owned();
            Some((relation.attribute("Id")?.to_owned(), Relation { kind, target }))
        })
        .collect())
}

/// A relation from one part of a document to another, or to an address.
struct Relation {
    kind: String,
    target: String,
}
