//! Digests for people: what documents say, field by field, and the places that say it.

use logothete::DigestReport;
use logothete::TokenUsage;
use logothete::digest::{Digest, DigestStatement, FieldDigest};
use logothete::verify::Verdict;

use super::answer::verdict;
use super::{SetOff, Style, indented, quotation, width, wrap};

/// The columns between a marker of the list of sources and its quotation.
const INDENT: usize = 4;

/// Returns the digest of each document, that of all, and where they differ.
pub fn digests(report: &DigestReport, style: Style) -> String {
    let mut out = String::new();
    for digest in &report.digests {
        let title = digest.title.as_deref().unwrap_or(&digest.document);
        out.push_str(&format!("{}\n{}\n\n", style.strong(title), style.place(&digest.document)));
        out.push_str(&one(digest, style));
    }
    if let Some(together) = &report.together {
        out.push_str(&format!("{}\n\n", style.strong("All documents together")));
        out.push_str(&one(together, style));
    }
    if !report.differences.is_empty() {
        out.push_str(&format!("{}\n", style.strong("Where they differ")));
    }
    for difference in &report.differences {
        out.push_str(&style.warning(&indented(&difference.reason, 2)));
        for source in [&difference.one, &difference.other] {
            out.push_str(&format!("    {}\n", style.place(&source.location.to_string())));
            out.push_str(&quotation(&source.quotation, SetOff::default(), INDENT, width(), style));
        }
        out.push('\n');
    }
    out.truncate(out.trim_end().len());
    out.push('\n');
    out
}

fn one(digest: &Digest, style: Style) -> String {
    let mut out = String::new();
    for field in &digest.fields {
        out.push_str(&format!("{}\n{}\n", style.faint(&field.name), of_field(field, style)));
    }
    for source in &digest.sources {
        let marker = format!("[{}]", source.marker);
        out.push_str(&format!("{marker} {}\n", style.place(&source.location.to_string())));
        // Where the statement is the quotation, it stands above already.
        let is_said = digest.statements().any(|statement| same(&statement.claim.text, &source.quotation));
        if !is_said {
            out.push_str(&quotation(&source.quotation, SetOff::default(), marker.len() + 1, width(), style));
        }
    }
    for note in &digest.notes {
        out.push_str(&format!("\n{}", style.warning(&indented(note, 0))));
    }
    if let Some(generator) = &digest.generator {
        let TokenUsage { sent, received } = digest.tokens;
        let line = format!("Written by {generator}; {sent} tokens read, {received} written");
        out.push_str(&format!("\n{}\n", style.faint(&line)));
    }
    out.push('\n');
    out
}

fn of_field(field: &FieldDigest, style: Style) -> String {
    if field.statements.is_empty() {
        return indented("The document does not say.", 2);
    }
    let mut out = String::new();
    if field.kind.is_list() {
        for statement in &field.statements {
            let lines = wrap(&shown(statement), width() - 4);
            for (at, line) in lines.iter().enumerate() {
                out.push_str(&format!("{}{line}\n", if at == 0 { "  - " } else { "    " }));
            }
        }
    } else {
        let text: Vec<String> = field.statements.iter().map(shown).collect();
        out.push_str(&indented(&text.join(" "), 2));
    }
    for DigestStatement { claim, .. } in &field.statements {
        if !claim.verdict.is_borne_out() && claim.verdict != Verdict::Computed {
            out.push_str(&style.warning(&indented(&format!("{} ({})", verdict(claim), claim.text), 2)));
        }
    }
    out
}

/// Returns a statement with its label and markers.
fn shown(statement: &DigestStatement) -> String {
    let markers: String = statement.claim.citations.iter().map(|marker| format!("[{marker}]")).collect();
    let text = format!("{} {markers}", statement.claim.text);
    match statement.shown_label() {
        Some(label) if text.trim().is_empty() => label.to_owned(),
        Some(label) => format!("{label}: {}", text.trim()),
        None => text.trim().to_owned(),
    }
}

fn same(one: &str, other: &str) -> bool {
    let plain = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>().join(" ");
    plain(other).ends_with(&plain(one))
}
