//! The kind of a document, from the words of its title and its name.

use crate::text::{fold, words};

/// The kinds of documents, each with the words that name it.
const KINDS: [(&str, &str); 34] = [
    ("minutes", "minutes protokoll"),
    ("agenda", "agenda"),
    ("contract", "contract agreement vertrag contrat contrato lease licence license"),
    ("byelaws", "byelaws byelaw bylaws bylaw"),
    ("regulations", "regulation regulations rules ordinance verordnung règlement reglamento"),
    ("act", "act statute"),
    ("policy", "policy policies"),
    ("terms", "terms conditions"),
    ("procedure", "procedure procedures protocol"),
    ("handbook", "handbook manual handbuch manuel"),
    ("guide", "guide guidance guidelines leitfaden"),
    ("tutorial", "tutorial introduction walkthrough"),
    ("reference", "reference specification spec"),
    ("plan", "plan programme roadmap"),
    ("proposal", "proposal tender bid"),
    ("report", "report review survey study audit bericht rapport"),
    ("briefing", "briefing presentation slides"),
    ("newsletter", "newsletter bulletin"),
    ("notice", "notice notices announcement circular bekanntmachung avis"),
    ("letter", "letter brief lettre carta"),
    ("message", "mail email message"),
    ("application", "application booking request form"),
    ("invoice", "invoice bill rechnung facture"),
    ("receipt", "receipt"),
    ("price list", "tariff tariffs dues fees charges prices rates"),
    ("schedule", "schedule timetable calendar rota"),
    ("register", "register registry inventory directory list"),
    ("log", "log logbook diary journal"),
    ("records", "records record"),
    ("statement", "statement accounts"),
    ("leaflet", "leaflet brochure flyer"),
    ("article", "article essay"),
    ("questions and answers", "faq questions"),
    ("release notes", "changelog changes release"),
];

/// Returns the kind of a document, or `None` if no word of a text names one. The last word of the first kind that is named counts most, since titles end
/// with what a thing is: “Report on the handbook” is a report, “Pilotage handbook” a handbook.
pub(super) fn kind_named(text: &str) -> Option<&'static str> {
    let head: Vec<String> = words(text).map(|word| fold(word.text)).collect();
    // What follows such a word tells of what the thing is about.
    let end = head
        .iter()
        .position(|word| matches!(word.as_str(), "on" | "of" | "for" | "about" | "to" | "over" | "von" | "du" | "de"));
    let named = |words: &[String]| {
        words
            .iter()
            .rev()
            .find_map(|word| KINDS.iter().find(|(_, names)| crate::text::is_listed(names, word)).map(|(kind, _)| *kind))
    };
    named(&head[..end.unwrap_or(head.len())]).or_else(|| named(&head))
}
