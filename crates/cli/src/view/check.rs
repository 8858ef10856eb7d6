//! Checks for people: which claims their sources bear out, and what the sources say instead.

use logothete::answer::OtherSource;
use logothete::eval::{KindMeasure, VerdictMeasures};
use logothete::verify::Verdict;
use logothete::{CheckReport, CheckedClaim, ClaimPair, PairCheck};

use super::{Align, SetOff, Style, indented, quotation, table, width, wrap};

/// Returns the claims of a text that are not supported, or all, and how many there are of each verdict.
pub fn checked_text(report: &CheckReport, all: bool, style: Style) -> String {
    let mut out = String::new();
    for claim in report.claims.iter().filter(|claim| all || !is_fine(claim)) {
        out.push_str(&shown(claim, style));
        out.push('\n');
    }
    let verdicts = [Verdict::Supported, Verdict::Partly, Verdict::Contradicted, Verdict::Unsupported];
    let counts = verdicts.iter().map(|verdict| (report.count(*verdict), verdict)).filter(|(count, _)| *count > 0);
    let counts: Vec<String> = counts.map(|(count, verdict)| format!("{count} {verdict}")).collect();
    let total = match report.claims.len() {
        1 => "1 claim".to_owned(),
        count => format!("{count} claims"),
    };
    let counts = if counts.is_empty() { String::new() } else { format!(": {}", counts.join(", ")) };
    out.push_str(&format!("{}{counts}.\n", style.strong(&total)));
    if report.claims.is_empty() {
        out.push_str(
            "A claim is a sentence, a list item or a row of a table; headings, code and questions are none.\n",
        );
    }
    out
}

/// Returns `true` for a claim that is supported, with nothing said against it.
fn is_fine(claim: &CheckedClaim) -> bool {
    claim.verdict == Verdict::Supported && claim.against.is_none()
}

fn shown(claim: &CheckedClaim, style: Style) -> String {
    let head = format!("line {}  {}", claim.line, sign(claim.verdict));
    let head = if is_fine(claim) { style.faint(&head) } else { style.warning(&head) };
    let mut out = format!("{head}\n");
    for line in wrap(&claim.claim, width() - 4) {
        out.push_str(&format!("  {}\n", style.strong(&line)));
    }
    if let Some(reason) = &claim.reason {
        out.push_str(&indented(&format!("{}.", capital(reason)), 2));
    }
    for source in claim.evidence.iter().chain(&claim.against) {
        out.push_str(&evidence(source, style));
    }
    out
}

fn evidence(source: &OtherSource, style: Style) -> String {
    let mut place = source.location.to_string();
    if let Some(date) = &source.location.date {
        place.push_str(&format!(" ({date})"));
    }
    let text = quotation(&source.quotation, SetOff::default(), 4, width(), style);
    format!("    {}\n{text}", style.place(&place))
}

/// Returns a verdict with a sign that tells it without colour.
fn sign(verdict: Verdict) -> String {
    let sign = match verdict {
        Verdict::Supported | Verdict::Computed => "✓",
        Verdict::Partly => "~",
        Verdict::Contradicted => "✗",
        _ => "?",
    };
    format!("{sign} {verdict}")
}

/// Returns a reason with a capital, unless it begins with the name of a file.
fn capital(text: &str) -> String {
    if text.split_whitespace().next().is_some_and(|first| first.contains('.')) {
        return text.to_owned();
    }
    let mut chars = text.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

/// Returns the verdicts on claims with their sources; how many were right, if the lines say what is expected.
pub fn checked_pairs(pairs: &[ClaimPair], checks: &[PairCheck], style: Style) -> String {
    let mut out = String::new();
    for (pair, check) in pairs.iter().zip(checks).filter(|(_, check)| check.verdict != Verdict::Supported) {
        let id = match &check.id {
            serde_json::Value::String(id) => id.clone(),
            serde_json::Value::Null => "–".to_owned(),
            other => other.to_string(),
        };
        out.push_str(&format!("{}\n", style.warning(&format!("{id}  {}", sign(check.verdict)))));
        out.push_str(&indented(&pair.claim, 2));
        if let Some(reason) = &check.reason {
            out.push_str(&indented(&format!("{}.", capital(reason)), 2));
        }
        if let Some(text) = &check.quotation {
            out.push_str(&quotation(text, SetOff::default(), 4, width(), style));
        }
        out.push('\n');
    }
    let supported = checks.iter().filter(|check| check.verdict == Verdict::Supported).count();
    out.push_str(&format!("{} of {} claims are supported.\n", supported, checks.len()));
    out
}

/// Returns how well a check finds what is not supported, and how it fares on each kind of claims.
pub fn verdict_measures(measures: &VerdictMeasures, style: Style) -> String {
    let mut rows = vec![["Kind", "Claims", "Right"].map(String::from).to_vec()];
    for KindMeasure { kind, claims, right, .. } in &measures.kinds {
        let share = 100.0 * *right as f64 / (*claims).max(1) as f64;
        rows.push(vec![kind.clone(), claims.to_string(), format!("{share:.0} %")]);
    }
    let kinds = table(&rows, &[Align::Left, Align::Right, Align::Right], 0, style);
    let VerdictMeasures { precision, recall, f1, false_alarms, .. } = measures;
    format!(
        "{kinds}\nNot supported: precision {precision:.3}, recall {recall:.3}, F1 {f1:.3}; supported claims that were flagged: {:.1} %\n",
        100.0 * false_alarms
    )
}
