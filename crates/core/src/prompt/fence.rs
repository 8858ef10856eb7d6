//! Fences around what a document says.

use crate::fingerprint::Fingerprint;

/// A text between two lines that name it and carry a mark. The mark is a hash of the text, so that no text holds its own,
/// and nothing inside can close the fence.
pub fn fenced(name: &str, text: &str) -> String {
    let mut mark = Fingerprint::of([text]);
    while text.contains(mark.as_str()) {
        mark = Fingerprint::of([mark.as_str(), text]);
    }
    format!("[{name} {mark}]\n{text}\n[end of {name} {mark}]")
}
