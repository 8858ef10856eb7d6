//! Fences around text of documents.

use crate::fingerprint::Fingerprint;

/// Returns a text between two lines that name it and have a mark. The mark is a hash of the text, so no text contains its own
/// mark, and nothing inside can close the fence.
pub fn fenced(name: &str, text: &str) -> String {
    let mut mark = Fingerprint::of([text]);
    while text.contains(mark.as_str()) {
        mark = Fingerprint::of([mark.as_str(), text]);
    }
    format!("[{name} {mark}]\n{text}\n[end of {name} {mark}]")
}
