//! Warns of a question in a language that the documents or the encoder do not know.

use logothete_core::text::Language;
use logothete_core::vector::Encoder;

use crate::storage::Snapshot;

/// Returns a sentence if no document is in the language of a question, or the encoder was not made for it.
pub(super) fn note(question: &str, snapshot: &Snapshot, encoder: &dyn Encoder) -> Option<String> {
    let asked = Language::of_question(question)?;
    let mut written: Vec<Language> = snapshot.languages().collect();
    // Documents too short to tell count as English, and documents in a language without a name here may be in any.
    if written.is_empty() {
        return None;
    }
    if !written.contains(&asked) {
        written.truncate(3);
        let names: Vec<String> = written.iter().map(|language| format!("{language:?}")).collect();
        return Some(format!(
            "The question is in {asked:?}, and the documents are in {}; ask in that language.",
            names.join(" and ")
        ));
    }
    let known = encoder.languages()?;
    (!known.iter().any(|code| code == asked.code())).then(|| {
        let encoder = encoder.name();
        format!("The encoder “{encoder}” was not made for {asked:?}; passages are found by their words, and less by meaning.")
    })
}
