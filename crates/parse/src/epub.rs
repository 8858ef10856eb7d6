//! EPUB: pages of XHTML in an archive, read in the order of the book's spine.

use std::collections::HashMap;

use logothete_core::document::{Document, DocumentBuilder, Input, Parser, Value};
use logothete_core::{Error, ErrorKind, Fingerprint, Result};

use crate::archive::{Archive, resolve};
use crate::{html, xml};

/// Reads EPUB.
#[derive(Clone, Copy, Debug, Default)]
pub struct EpubParser;

impl Parser for EpubParser {
    fn media_types(&self) -> &[&str] {
        &["application/epub+zip"]
    }

    fn endings(&self) -> &[&str] {
        &["epub"]
    }

    fn recognises(&self, bytes: &[u8]) -> bool {
        Archive::says(bytes, "application/epub+zip")
    }

    fn fits(&self, bytes: &[u8]) -> bool {
        Archive::has(bytes, "META-INF/container.xml")
    }

    fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(["epub 3"])
    }

    fn parse(&self, input: &Input<'_>) -> Result<Document> {
        let mut archive = Archive::open(input.bytes, input.budget)?;
        let mut builder = DocumentBuilder::within(input.name, "application/epub+zip", input.budget);
        let container = xml::tree(&archive.needed("META-INF/container.xml")?, input.budget)?;
        let package_path = container
            .descendants("rootfile")
            .first()
            .and_then(|file| file.attribute("full-path"))
            .ok_or_else(|| Error::new(ErrorKind::Unreadable, "the book does not say where its contents are"))?
            .to_owned();
        let package = xml::tree(&archive.needed(&package_path)?, input.budget)?;
        let mut scratch = DocumentBuilder::within(input.name, "text/html", input.budget);
        for (element, key) in [
            ("title", "title"),
            ("creator", "author"),
            ("language", "language"),
            ("date", "date"),
            ("publisher", "publisher"),
        ] {
            let text = package.descendants(element).first().map(|found| found.text()).unwrap_or_default();
            if !text.trim().is_empty() {
                builder.metadata(key, Value::date_or_text(&text));
            }
        }
        let items: HashMap<&str, &str> = package
            .descendants("item")
            .into_iter()
            .filter_map(|item| Some((item.attribute("id")?, item.attribute("href")?)))
            .collect();
        let mut missing = 0;
        for reference in package.descendants("itemref") {
            input.budget.check()?;
            let Some(path) = reference.attribute("idref").and_then(|id| items.get(id)) else {
                missing += 1;
                continue;
            };
            match archive.part(&resolve(&package_path, &percent_decoded(path)))? {
                Some(bytes) => html::write(&xml::decode(&bytes), input.budget, &mut scratch)?,
                None => missing += 1,
            }
        }
        // The pages' own titles are not the book's.
        builder.append(&scratch.finish(), 0);
        if missing > 0 {
            let parts = if missing == 1 { "one part".to_owned() } else { format!("{missing} parts") };
            builder.warn(format!("{parts} that the book names could not be found in it"));
        }
        if builder.is_empty() {
            return Err(Error::new(ErrorKind::Unreadable, "the book holds no text"));
        }
        Ok(builder.finish())
    }
}

/// Percent signs of a path in an address written out.
fn percent_decoded(path: &str) -> String {
    let mut bytes = Vec::with_capacity(path.len());
    let mut rest = path.as_bytes().iter();
    while let Some(&byte) = rest.next() {
        let digits = rest.as_slice().get(..2).and_then(|pair| std::str::from_utf8(pair).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(value) if byte == b'%' => {
                bytes.push(value);
                rest.nth(1);
            }
            _ => bytes.push(byte),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}
